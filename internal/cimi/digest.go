package cimi

import (
	"crypto/sha256"
	"encoding/base64"
	"hash"
	"hash/crc32"
)

// ContentDigest is the value of a Content-Digest field for a piece that is sent (RFC 9530, section 2): SHA-256, for the
// receiver to hold what came against.
func ContentDigest(piece []byte) string {
	sum := sha256.Sum256(piece)
	return digestField("sha-256", sum[:])
}

// Whole adds up the bytes of a whole image, for a Repr-Digest field (RFC 9530, section 3): CRC-32C. It tells whether
// every piece lies where it belongs; that each came as it was sent is what ContentDigest tells. An image is mostly
// zeros, which this sum takes at the speed of memory; SHA-256 took minutes for them.
type Whole struct{ hash.Hash32 }

// NewWhole is the sum of nothing.
func NewWhole() Whole { return Whole{crc32.New(crc32.MakeTable(crc32.Castagnoli))} }

// Digest is the field's value for what was written so far.
func (w Whole) Digest() string { return digestField("crc32c", w.Sum(nil)) }

func digestField(algorithm string, sum []byte) string {
	return algorithm + "=:" + base64.StdEncoding.EncodeToString(sum) + ":"
}
