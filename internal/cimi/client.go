package cimi

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Account is who asks: a name and password, or a token alone.
type Account struct{ Name, Password, Token string }

// Client asks one provider.
type Client struct {
	entry   *url.URL
	account Account
	http    *http.Client
}

// MinVersion is the lowest version of the interface that is spoken.
const MinVersion = 2

const (
	dialPatience   = 5 * time.Second
	answerPatience = 30 * time.Second
	mostBytes      = 64 << 20 // of an answer
	pageSize       = 200
)

// Refused is returned when the provider answers with an error.
type Refused struct {
	Status  int
	Message string
}

func (r *Refused) Error() string {
	if r.Message == "" {
		return fmt.Sprintf("it answers %d %s", r.Status, http.StatusText(r.Status))
	}
	return r.Message
}

// ErrAway wraps all failures to get an answer.
var ErrAway = errors.New("the manager does not answer")

// New makes a client of the provider whose cloud entry point is at address, an
// https URL. trusted is a certificate in PEM that is taken for the provider's
// own, "" for those that the system knows.
func New(address string, account Account, trusted string) (*Client, error) {
	u, err := ParseAddress(address)
	if err != nil {
		return nil, err
	}
	config, err := TLS(trusted)
	if err != nil {
		return nil, err
	}
	return &Client{u, account, &http.Client{Transport: &http.Transport{
		TLSClientConfig: config, ForceAttemptHTTP2: true, ResponseHeaderTimeout: answerPatience,
		IdleConnTimeout: time.Minute,
		DialContext:     (&net.Dialer{Timeout: dialPatience}).DialContext,
	}}}, nil
}

// ParseAddress checks the address of a cloud entry point.
func ParseAddress(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a manager: it is an https URL, such as "+
			"https://mainland.example/cimi",
			address)
	}
	return u, nil
}

// TLS trusts one certificate, given in PEM, whatever name it bears; or for ""
// those that the system trusts.
func TLS(trusted string) (*tls.Config, error) {
	if trusted == "" {
		return &tls.Config{MinVersion: tls.VersionTLS12}, nil
	}
	block, _ := pem.Decode([]byte(trusted))
	if block == nil {
		return nil, errors.New("the manager's certificate can't be read")
	}
	return &tls.Config{
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, // it is compared with the one that was accepted
		VerifyConnection: func(s tls.ConnectionState) error {
			if !bytes.Equal(s.PeerCertificates[0].Raw, block.Bytes) {
				return fmt.Errorf("its certificate is not the one that was accepted: %s answers",
					Fingerprint(s.PeerCertificates[0]))
			}
			return nil
		},
	}, nil
}

// Fingerprint of a certificate, for people to compare.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Shown is the certificate that a server at address (HOST:PORT) shows, and
// whether the system trusts it for that name.
func Shown(ctx context.Context, address string) (cert *x509.Certificate, why error, err error) {
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: dialPatience},
		Config: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}}
	conn, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, nil, err
	}
	defer conn.Close()
	chain := conn.(*tls.Conn).ConnectionState().PeerCertificates
	name, _, _ := net.SplitHostPort(address)
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, why = chain[0].Verify(x509.VerifyOptions{DNSName: name, Intermediates: between})
	return chain[0], why, nil
}

// EncodeCertificate writes a certificate as PEM.
func EncodeCertificate(c *x509.Certificate) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
}

// do asks for a path, relative to the entry point, and decodes the answer.
func (c *Client) do(ctx context.Context, method, href string, in, out any) (http.Header, error) {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	u, err := c.entry.Parse(href)
	if err != nil {
		return nil, fmt.Errorf("reference %q: %w", href, err)
	}
	if u.Scheme != c.entry.Scheme || u.Host != c.entry.Host {
		return nil, fmt.Errorf("it refers to %s, which is another server: the account is not told to it", u.Host)
	}
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/json")
	req.Header.Set(VersionHead, "2.0.0")
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.account.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.account.Token)
	} else {
		req.SetBasicAuth(c.account.Name, c.account.Password)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w: %w", ErrAway, err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, mostBytes))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAway, err)
	}
	if res.StatusCode >= 400 {
		refused := &Refused{Status: res.StatusCode}
		var said struct{ Message string }
		if json.Unmarshal(raw, &said) == nil {
			refused.Message = said.Message
		}
		return nil, refused
	}
	if out != nil {
		if err := json.Unmarshal(raw, out); err != nil {
			return nil, fmt.Errorf("%s %s: its answer can't be read: %w", method, href, err)
		}
	}
	return res.Header, nil
}

// EntryPoint reads the cloud entry point, and the version that is spoken there.
func (c *Client) EntryPoint(ctx context.Context) (*EntryPoint, string, error) {
	var e EntryPoint
	head, err := c.do(ctx, http.MethodGet, c.entry.String(), nil, &e)
	if err != nil {
		return nil, "", err
	}
	version := head.Get(VersionHead)
	if version == "" {
		version = fmt.Sprint(major(e.ResourceURI))
	}
	if !strings.HasPrefix(e.ResourceURI, "http://schemas.dmtf.org/cimi/") {
		return nil, version, fmt.Errorf("what is there is no cloud entry point of CIMI: %q", e.ResourceURI)
	}
	return &e, version, nil
}

// NewEnough tells whether a version is spoken here.
func NewEnough(version string) bool { return major(version) >= MinVersion }

// List reads a collection to its end, page by page (DSP0263, 4.1.6.1), with the
// attributes in expand expanded (4.1.6.5). The Common part is the collection's own.
func List[T Member](ctx context.Context, c *Client, at *Ref, expand string) ([]T, *Common, error) {
	if at == nil {
		return nil, &Common{}, nil
	}
	q := url.Values{}
	if expand != "" {
		q.Set("$expand", expand)
	}
	var head Common
	all, err := pages[T](ctx, c, at, q, &head)
	if err != nil {
		return nil, nil, err
	}
	return all, &head, nil
}

func pages[T Member](ctx context.Context, c *Client, at *Ref, q url.Values, head *Common) (all []T, err error) {
	for {
		q.Set("$first", fmt.Sprint(len(all)+1))
		q.Set("$last", fmt.Sprint(len(all)+pageSize))
		var page Collection[T]
		if _, err := c.do(ctx, http.MethodGet, at.Href+"?"+q.Encode(), nil, &page); err != nil {
			return nil, err
		}
		all = append(all, page.Members...)
		if len(page.Members) == 0 || len(all) >= page.Count {
			*head = page.Common
			return all, nil
		}
	}
}

// Having reads the members of a collection whose property key has a value
// ($filter, DSP0263, 4.1.6.2). A server that does not filter tells all; those that
// don't fit are left out here.
func Having[T Member](ctx context.Context, c *Client, at *Ref, key, value string) ([]T, error) {
	if at == nil {
		return nil, nil
	}
	all, err := pages[T](ctx, c, at, url.Values{"$filter": {fmt.Sprintf("property['%s']='%s'", key, value)}}, &Common{})
	return slices.DeleteFunc(all, func(m T) bool { return m.Base().Properties[key] != value }), err
}

var filterForm = regexp.MustCompile(`^property\['([^']*)'\]\s*=\s*'([^']*)'$`)

// ParseFilter reads a filter as Having writes it.
func ParseFilter(text string) (key, value string, err error) {
	m := filterForm.FindStringSubmatch(text)
	if m == nil {
		return "", "", fmt.Errorf("$filter=%s: want property['KEY']='VALUE'", text)
	}
	return m[1], m[2], nil
}

// Get reads one resource.
func Get[T any](ctx context.Context, c *Client, href string) (*T, error) {
	var v T
	_, err := c.do(ctx, http.MethodGet, href, nil, &v)
	return &v, err
}

// Add asks for a new resource in a collection and returns it.
func Add[T any](ctx context.Context, c *Client, collection string, what any) (*T, error) {
	var v T
	_, err := c.do(ctx, http.MethodPost, collection, what, &v)
	return &v, err
}

// Act asks for an action of a resource (DSP0263, 4.2.1.4).
func (c *Client) Act(ctx context.Context, href, action string) error {
	_, err := c.do(ctx, http.MethodPost, href, map[string]string{"resourceURI": Namespace + "Action", "action": action},
		nil)
	return err
}

// Delete removes a resource; one that is gone already is no error.
func (c *Client) Delete(ctx context.Context, href string) error {
	_, err := c.do(ctx, http.MethodDelete, href, nil, nil)
	var refused *Refused
	if errors.As(err, &refused) && refused.Status == http.StatusNotFound {
		return nil
	}
	return err
}

// Absolute is the address that a reference means, for others to read.
func (c *Client) Absolute(href string) (string, error) {
	u, err := c.entry.Parse(href)
	if err != nil {
		return "", err
	}
	return u.String(), nil
}
