package disk

import "bytes"

var zeros [64 << 10]byte

// IsZero tells whether every byte of p is zero.
func IsZero(p []byte) bool {
	for len(p) > len(zeros) {
		if !bytes.Equal(p[:len(zeros)], zeros[:]) {
			return false
		}
		p = p[len(zeros):]
	}
	return bytes.Equal(p, zeros[:len(p)])
}
