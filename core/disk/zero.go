package disk

import (
	"bytes"
	"io"
)

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

// WriteSparse writes p at off, leaving out runs of zeros, where f must read as
// zeros already.
func WriteSparse(f io.WriterAt, off int64, p []byte) error {
	const block = len(zeros)
	for len(p) > 0 {
		n := min(len(p), block)
		if IsZero(p[:n]) {
			p, off = p[n:], off+int64(n)
			continue
		}
		for n < len(p) && !IsZero(p[n:min(len(p), n+block)]) {
			n = min(len(p), n+block)
		}
		if _, err := f.WriteAt(p[:n], off); err != nil {
			return err
		}
		p, off = p[n:], off+int64(n)
	}
	return nil
}
