package hostlink

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base32"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"strings"
	"time"
)

// Authority signs the certificates of service and agents.
type Authority struct {
	Cert *x509.Certificate
	Key  *ecdsa.PrivateKey
	// Also are the certificates of authorities that are trusted besides, while this
	// one takes the place of another, or another of this one. PEM.
	Also []byte
}

const (
	authorityYears = 20
	memberYears    = 10
	// ServiceName is the service's name in its certificate; an agent's is its host's id.
	ServiceName = "service"
)

// NewAuthority makes a certificate authority for one inventory.
func NewAuthority() (certPEM, keyPEM []byte, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := template("unvora authority", authorityYears)
	t.IsCA, t.BasicConstraintsValid, t.KeyUsage = true, true, x509.KeyUsageCertSign
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, nil, err
	}
	keyPEM, err = encodeKey(key)
	return encodeCert(der), keyPEM, err
}

// LoadAuthority reads what NewAuthority made.
func LoadAuthority(certPEM, keyPEM []byte) (*Authority, error) {
	pair, err := tls.X509KeyPair(certPEM, keyPEM)
	if err != nil {
		return nil, fmt.Errorf("certificate authority: %w", err)
	}
	key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("certificate authority: its key is not ECDSA")
	}
	return &Authority{Cert: pair.Leaf, Key: key}, nil
}

func template(name string, years int) *x509.Certificate {
	serial, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	return &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(years, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth,
			x509.ExtKeyUsageClientAuth},
	}
}

// Issue signs a certificate for whoever holds the key to public.
func (a *Authority) Issue(name string, public any) ([]byte, error) {
	der, err := x509.CreateCertificate(rand.Reader, template(name, memberYears), a.Cert, public, a.Key)
	if err != nil {
		return nil, err
	}
	return encodeCert(der), nil
}

// trusted are the certificates of all authorities whose members are let in. PEM.
func (a *Authority) trusted() []byte { return append(a.CertPEM(), a.Also...) }

// CertPEM is the authority's certificate, for agents to trust.
func (a *Authority) CertPEM() []byte { return encodeCert(a.Cert.Raw) }

// ServiceTLS makes the service's side of a connection, with a key of this process.
func (a *Authority) ServiceTLS() (*tls.Config, error) {
	cert, key, err := a.service()
	if err != nil {
		return nil, err
	}
	return MemberTLS(cert, key, a.trusted())
}

// service is a new key, with a certificate that says that it is the service's.
func (a *Authority) service() (certPEM, keyPEM []byte, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	if certPEM, err = a.Issue(ServiceName, key.Public()); err != nil {
		return nil, nil, err
	}
	keyPEM, err = encodeKey(key)
	return certPEM, keyPEM, err
}

// MemberTLS is a configuration for both ends: it shows the certificate and
// trusts the authority alone.
func MemberTLS(cert, key, authority []byte) (*tls.Config, error) {
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(authority) {
		return nil, errors.New("the authority's certificate can't be read")
	}
	return &tls.Config{
		Certificates: []tls.Certificate{pair}, RootCAs: pool, ClientCAs: pool,
		ClientAuth: tls.RequireAndVerifyClientCert, MinVersion: tls.VersionTLS13,
		NextProtos: []string{"h2", "http/1.1", ProtocolNBD, ProtocolDisplay},
	}, nil
}

// NewKey makes an agent's key with a certificate signed by itself, which it
// shows until it is added.
func NewKey() (certPEM, keyPEM []byte, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := template("unvora agent, not added yet", memberYears)
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, nil, err
	}
	keyPEM, err = encodeKey(key)
	return encodeCert(der), keyPEM, err
}

func encodeCert(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

func encodeKey(key *ecdsa.PrivateKey) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

const (
	secretBytes      = 10
	fingerprintBytes = 10
)

var letters = base32.NewEncoding("ABCDEFGHJKLMNPQRSTUVWXYZ23456789").WithPadding(base32.NoPadding)

// Code is what an agent prints so that it can be added once.
type Code struct {
	Secret      []byte
	Fingerprint []byte // of the agent's public key
}

// NewCode makes a code for the agent with that certificate.
func NewCode(cert *x509.Certificate) Code {
	c := Code{Secret: make([]byte, secretBytes), Fingerprint: fingerprint(cert)}
	rand.Read(c.Secret)
	return c
}

func fingerprint(cert *x509.Certificate) []byte {
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	return sum[:fingerprintBytes]
}

// String groups the code in fours, for reading aloud.
func (c Code) String() string {
	text := letters.EncodeToString(append(append([]byte{}, c.Secret...), c.Fingerprint...))
	var groups []string
	for ; len(text) > 4; text = text[4:] {
		groups = append(groups, text[:4])
	}
	return strings.Join(append(groups, text), "-")
}

// ParseCode reads what String wrote; case and separators don't matter.
func ParseCode(text string) (Code, error) {
	clean := strings.NewReplacer("-", "", " ", "").Replace(strings.ToUpper(text))
	raw, err := letters.DecodeString(clean)
	if err != nil || len(raw) != secretBytes+fingerprintBytes {
		return Code{}, errors.New("this is not a code that an agent prints: it has 8 groups of 4 letters and digits")
	}
	return Code{raw[:secretBytes], raw[secretBytes:]}, nil
}

// Matches tells whether the certificate's key is the one that the code names.
func (c Code) Matches(cert *x509.Certificate) bool {
	return subtle.ConstantTimeCompare(c.Fingerprint, fingerprint(cert)) == 1
}
