package ovf

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
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
