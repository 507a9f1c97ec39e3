// Package keyring keeps secrets sealed: what lies in a database or a backup of it
// is of no use without the key, which lies elsewhere.
package keyring

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
)

// KeyBytes is the length of a key.
const KeyBytes = 32

// Key seals and opens secrets with AES-256-GCM (NIST SP 800-38D).
type Key [KeyBytes]byte

// ErrSealed is returned by Open for what another key has sealed, or what was
// sealed for another purpose, or was altered.
var ErrSealed = errors.New("it can't be opened with this key")

// NewKey takes a key from a source of randomness.
func NewKey(random io.Reader) (Key, error) {
	var k Key
	_, err := io.ReadFull(random, k[:])
	return k, err
}

// ParseKey reads what String wrote; space around it does no harm.
func ParseKey(text string) (Key, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(raw) != KeyBytes {
		return Key{}, fmt.Errorf("this is no key: %d bytes in base64 are expected", KeyBytes)
	}
	return Key(raw), nil
}

func (k Key) String() string { return base64.StdEncoding.EncodeToString(k[:]) }

func (k Key) cipher() cipher.AEAD {
	block, err := aes.NewCipher(k[:])
	if err != nil {
		panic(err) // the length is right
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // the block size is
	}
	return gcm
}

// Seal encrypts a secret so that it can be opened for the same purpose only. The
// result is a nonce of 12 bytes, from random, and the ciphertext with its tag.
func (k Key) Seal(secret []byte, purpose string, random io.Reader) ([]byte, error) {
	gcm := k.cipher()
	nonce := make([]byte, gcm.NonceSize())
	if _, err := io.ReadFull(random, nonce); err != nil {
		return nil, err
	}
	return gcm.Seal(nonce, nonce, secret, []byte(purpose)), nil
}

// Open returns what was sealed for the purpose.
func (k Key) Open(sealed []byte, purpose string) ([]byte, error) {
	gcm := k.cipher()
	n := gcm.NonceSize()
	if len(sealed) < n {
		return nil, ErrSealed
	}
	secret, err := gcm.Open(nil, sealed[:n], sealed[n:], []byte(purpose))
	if err != nil {
		return nil, ErrSealed
	}
	return secret, nil
}
