package ovf

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
)

var signatureLine = regexp.MustCompile(`(?m)^\s*(SHA1|SHA256|SHA512)\s*\(([^)]+)\)\s*=\s*([0-9a-fA-F]+)\s*$`)

var hashes = map[string]crypto.Hash{"SHA1": crypto.SHA1, "SHA256": crypto.SHA256, "SHA512": crypto.SHA512}

// Signer verifies a package's certificate file (DSP0243, section 6.5): a line
// with the signature of the manifest, and an X.509 certificate in PEM. It
// returns whose it is.
func Signer(certificate, manifest []byte) (*x509.Certificate, error) {
	line := signatureLine.FindSubmatch(certificate)
	if line == nil {
		return nil, errors.New("it has no line with a signature")
	}
	signature, err := hex.DecodeString(string(line[3]))
	if err != nil {
		return nil, errors.New("its signature is no hexadecimal number")
	}
	block, _ := pem.Decode(certificate)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("it has no certificate in PEM")
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("its certificate can't be read: %w", err)
	}
	algorithm := hashes[string(line[1])]
	h := NewHash(strings.ToLower(string(line[1])))
	h.Write(manifest)
	switch key := cert.PublicKey.(type) {
	case *rsa.PublicKey:
		err = rsa.VerifyPKCS1v15(key, algorithm, h.Sum(nil), signature)
	case *ecdsa.PublicKey:
		if !ecdsa.VerifyASN1(key, h.Sum(nil), signature) {
			err = errors.New("it does not fit")
		}
	default:
		err = fmt.Errorf("keys of the kind %v are not verified", cert.PublicKeyAlgorithm)
	}
	if err != nil {
		return cert, fmt.Errorf("the signature of %s does not verify: %w", cert.Subject.CommonName, err)
	}
	return cert, nil
}

// SigningKey signs manifests.
type SigningKey struct {
	random      io.Reader
	certificate []byte // in PEM, the signer's first
	key         crypto.Signer
}

// NewSigningKey takes a certificate and its private key, both in PEM; the certificates of issuers may follow. Keys are
// RSA or ECDSA, and not encrypted. random is what signatures are made with.
func NewSigningKey(random io.Reader, certificate, key []byte) (*SigningKey, error) {
	if block, _ := pem.Decode(key); block != nil && (block.Headers["DEK-Info"] != "" ||
		block.Type == "ENCRYPTED PRIVATE KEY") {
		return nil, errors.New("the key is encrypted: give one that is not, which only this account can read")
	}
	pair, err := tls.X509KeyPair(certificate, key) // sees that they belong together
	if err != nil {
		return nil, err
	}
	s := &SigningKey{random: random}
	switch k := pair.PrivateKey.(type) {
	case *rsa.PrivateKey:
		s.key = k
	case *ecdsa.PrivateKey:
		s.key = k
	default:
		return nil, fmt.Errorf("keys of the kind %v don't sign packages: take RSA or ECDSA",
			pair.Leaf.PublicKeyAlgorithm)
	}
	for _, der := range pair.Certificate {
		s.certificate = append(s.certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	return s, nil
}

// Sign makes the certificate file of a package (DSP0243, section 6.5) whose manifest has that name; algorithm is that
// of its digests.
func (s *SigningKey) Sign(name, algorithm string, manifest []byte) ([]byte, error) {
	h := NewHash(algorithm)
	h.Write(manifest)
	algorithm = strings.ToUpper(algorithm)
	signature, err := s.key.Sign(s.random, h.Sum(nil), hashes[algorithm])
	if err != nil {
		return nil, fmt.Errorf("sign %s: %w", name, err)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s(%s)= %x\n", algorithm, name, signature)
	b.Write(s.certificate)
	if _, err := Signer(b.Bytes(), manifest); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
