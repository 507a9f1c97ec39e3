package hostlink

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// PeerHolds is what another Unvora tells of what it granted.
type PeerHolds struct {
	Version string             `json:"version"`
	Take    bool               `json:"take"` // it may be taken, too
	Hosts   map[string]*Survey `json:"hosts"`
}

// PeerKnock presents the secret of a one-time code.
type PeerKnock struct {
	Secret []byte `json:"secret"`
}

// PeerRead asks to be let read a copy; to ask again tells how far it is.
type PeerRead struct {
	Copy  string `json:"copy"`
	Job   string `json:"job"` // there, where it is read
	Who   string `json:"who"` // has asked for it there
	Stop  bool   `json:"stop"`
	Move  bool   `json:"move"`
	Bytes int64  `json:"bytes"` // that will be read
	Done  int64  `json:"done"`
}

// PeerTicket is the answer. While Wait is set, the copy is not ready to be read.
type PeerTicket struct {
	Wait bool    `json:"wait"`
	From *Remote `json:"from"`
}

// PeerEnd ends a reading.
type PeerEnd struct {
	Done  bool   `json:"done"`  // everything was read, and read back
	Error string `json:"error"` // why not
}

// PeerTLS is a configuration for both ends of a connection between two Unvoras.
// Each shows its authority along with its certificate; whose it is, is for
// PeerAuthority to tell.
func (a *Authority) PeerTLS() (*tls.Config, error) {
	cert, key, err := a.service()
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(append(cert, a.CertPEM()...), key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{
		Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS13, ClientAuth: tls.RequireAnyClientCert,
		InsecureSkipVerify: true, // PeerAuthority verifies, and the caller compares
	}, nil
}

// PeerAuthority is the authority of whoever is at the other end.
func PeerAuthority(s *tls.ConnectionState) (*x509.Certificate, error) {
	if s == nil || len(s.PeerCertificates) != 2 {
		return nil, errors.New("it shows no certificate of an Unvora")
	}
	leaf, authority := s.PeerCertificates[0], s.PeerCertificates[1]
	roots := x509.NewCertPool()
	roots.AddCert(authority)
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: ServiceName,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		return nil, err
	}
	return authority, nil
}

// EncodeAuthority writes an authority's certificate as PEM.
func EncodeAuthority(c *x509.Certificate) string { return string(encodeCert(c.Raw)) }

// Peer is another Unvora that can be asked.
type Peer struct{ Host }

// DialPeer reaches the Unvora at address, if accept takes its authority.
func DialPeer(config *tls.Config, address string, accept func(authority *x509.Certificate) error) *Peer {
	config = config.Clone()
	config.VerifyConnection = func(s tls.ConnectionState) error {
		authority, err := PeerAuthority(&s)
		if err != nil {
			return err
		}
		return accept(authority)
	}
	return &Peer{Host{http: &http.Client{Timeout: time.Minute, Transport: &http.Transport{TLSClientConfig: config,
		ForceAttemptHTTP2: true, IdleConnTimeout: 10 * time.Second,
		DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext}}, address: address}}
}

// Knock presents a code's secret.
func (p *Peer) Knock(ctx context.Context, k PeerKnock) error {
	return p.call(ctx, http.MethodPost, "/peer/pair", nil, k, nil)
}

// Holds asks what is granted.
func (p *Peer) Holds(ctx context.Context) (*PeerHolds, error) {
	var h PeerHolds
	return &h, p.call(ctx, http.MethodGet, "/peer/holds", nil, nil, &h)
}

// Read asks to be let read a copy.
func (p *Peer) Read(ctx context.Context, r PeerRead) (*PeerTicket, error) {
	var t PeerTicket
	return &t, p.call(ctx, http.MethodPost, "/peer/reads", nil, r, &t)
}

// End ends a reading.
func (p *Peer) End(ctx context.Context, job string, e PeerEnd) error {
	return p.call(ctx, http.MethodPost, "/peer/reads/"+job+"/end", nil, e, nil)
}

// ForeignDialer reaches agents of another Unvora, whose authority is given in
// PEM, as nobody that they know.
func ForeignDialer(authority string) (*Dialer, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(authority)) {
		return nil, errors.New("the authority of the other Unvora can't be read")
	}
	return NewDialer(&tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS13}), nil
}

// Answer is how a service answers a peer, as agents answer it.
func Answer(w http.ResponseWriter, value any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		fault := &Fault{Code: FaultWrong, Message: err.Error()}
		errors.As(err, &fault)
		w.WriteHeader(http.StatusConflict)
		_ = json.NewEncoder(w).Encode(fault)
		return
	}
	_ = json.NewEncoder(w).Encode(value)
}

// ReadBody decodes a request of a peer.
func ReadBody(r *http.Request, into any) error {
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(into); err != nil {
		return &Fault{Code: FaultWrong, Message: fmt.Sprintf("the request can't be read: %v", err)}
	}
	return nil
}
