// Package disktest helps tests of disk formats: files in memory, patterns of
// data and holes, and comparing an image with a plain byte array.
package disktest

import (
	"bytes"
	"io"
	"sync"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
)

// Memory is a disk.File in memory.
type Memory struct {
	mu    sync.RWMutex
	Bytes []byte
}

func (m *Memory) Size() int64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return int64(len(m.Bytes))
}

func (m *Memory) ReadAt(p []byte, off int64) (int, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return bytes.NewReader(m.Bytes).ReadAt(p, off)
}

func (m *Memory) WriteAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if end := int(off) + len(p); end > len(m.Bytes) {
		m.Bytes = append(m.Bytes, make([]byte, end-len(m.Bytes))...)
	}
	return copy(m.Bytes[off:], p), nil
}

func (m *Memory) Truncate(size int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if int(size) <= len(m.Bytes) {
		m.Bytes = m.Bytes[:size]
	} else {
		m.Bytes = append(m.Bytes, make([]byte, int(size)-len(m.Bytes))...)
	}
	return nil
}

func (m *Memory) Sync() error { return nil }

func (m *Memory) Allocate(size int64) error { return m.Truncate(max(size, m.Size())) }

// Plain is an image that is nothing but its bytes, all of them data.
func Plain(p []byte) disk.Image { return plain{p} }

type plain struct{ p []byte }

func (m plain) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: int64(len(m.p)), SectorBytes: 512, Clean: true}
}
func (m plain) Close() error { return nil }
func (m plain) ReadAt(p []byte, off int64) (int, error) {
	return bytes.NewReader(m.p).ReadAt(p, off)
}
func (m plain) Map(off int64) (disk.Range, error) {
	return disk.Range{Offset: off, Length: int64(len(m.p)) - off, Kind: disk.Data}, nil
}

// Pattern is n bytes with runs of text, zeros and noise.
func Pattern(n int, seed uint32) []byte {
	p := make([]byte, n)
	x := seed*2654435761 + 1
	for at := 0; at < n; {
		x = x*1664525 + 1013904223
		run := min(n-at, int(x>>12)%200_000+1)
		switch x >> 28 % 3 {
		case 0:
			for i := range p[at : at+run] {
				x = x*1664525 + 1013904223
				p[at+i] = byte(x >> 24)
			}
		case 1:
			for i := range p[at : at+run] {
				p[at+i] = "tide level 42\n"[i%14]
			}
		}
		at += run
	}
	return p
}

// Same compares an image with what it should hold, and its map with itself:
// ranges follow each other, and what is not data reads as zeros.
func Same(t require.TestingT, truth []byte, img disk.Image) {
	size := img.Info().VirtualBytes
	require.Equal(t, int64(len(truth)), size, "size")
	got := make([]byte, size)
	if n, err := img.ReadAt(got, 0); n < len(got) {
		require.NoError(t, err, "read")
	}
	if !bytes.Equal(truth, got) {
		for i := range truth {
			if truth[i] != got[i] {
				require.Failf(t, "contents differ", "first at byte %d: %d, should be %d", i, got[i], truth[i])
			}
		}
	}
	for off := int64(0); off < size; {
		r, err := img.Map(off)
		require.NoError(t, err)
		require.Equal(t, off, r.Offset)
		require.Positive(t, r.Length)
		require.LessOrEqual(t, r.End(), size)
		if r.Kind != disk.Data {
			require.True(t, disk.IsZero(truth[off:r.End()]), "range at %d is %s and not zeros", off, r.Kind)
		}
		off = r.End()
	}
	n, err := img.ReadAt(make([]byte, 10), size)
	require.Zero(t, n)
	require.Equal(t, io.EOF, err)
}

// Exercise reads here and there in an image that may be hostile; nothing but
// errors may come of it.
func Exercise(img disk.Image) {
	size := img.Info().VirtualBytes
	buf := make([]byte, 4096)
	for n, off := 0, int64(0); n < 64 && off < size; n++ {
		_, _ = img.ReadAt(buf, off)
		r, err := img.Map(off)
		if err != nil || r.Length <= 0 {
			off += size/64 + 1
			continue
		}
		off = r.End()
	}
	_, _ = img.ReadAt(buf, max(0, size-100))
}
