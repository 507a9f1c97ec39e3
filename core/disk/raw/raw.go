// Package raw reads and writes images that are nothing but the guest's bytes.
// Holes are the file system's: found with SEEK_HOLE, made by not writing.
package raw

import (
	"fmt"
	"io"

	"unvora.example/unvora/core/disk"
)

const Format = "raw"

// holeBytes is the granularity in which zeros become holes.
const holeBytes = 64 << 10

// Image is a raw image.
type Image struct {
	src    disk.Source
	closer io.Closer
}

// Open takes any source; a raw image can't be told by its content.
func Open(src disk.Source) (*Image, error) {
	c, _ := src.(io.Closer)
	return &Image{src, c}, nil
}

func (i *Image) Info() disk.Info {
	return disk.Info{Format: Format, Variant: "sparse", VirtualBytes: i.src.Size(), Clean: true}
}

func (i *Image) ReadAt(p []byte, off int64) (int, error) { return i.src.ReadAt(p, off) }

func (i *Image) Map(off int64) (disk.Range, error) {
	size := i.src.Size()
	if off >= size {
		return disk.Range{}, disk.ErrRange
	}
	x, ok := i.src.(disk.Extents)
	if !ok {
		return disk.Range{Offset: off, Length: size - off, Kind: disk.Data}, nil
	}
	start, end, err := x.NextData(off)
	switch {
	case err == io.EOF || err == nil && start >= size:
		return disk.Range{Offset: off, Length: size - off, Kind: disk.Zero}, nil
	case err != nil:
		return disk.Range{}, err
	case start > off:
		return disk.Range{Offset: off, Length: start - off, Kind: disk.Zero}, nil
	}
	return disk.Range{Offset: off, Length: min(end, size) - off, Kind: disk.Data}, nil
}

func (i *Image) Close() error {
	if i.closer == nil {
		return nil
	}
	return i.closer.Close()
}

// Target is a raw image being written.
type Target struct{ f disk.File }

// Create makes f a sparse image of virtualBytes.
func Create(f disk.File, virtualBytes int64) (*Target, error) {
	if err := f.Truncate(0); err != nil {
		return nil, err
	}
	return &Target{f}, f.Truncate(virtualBytes)
}

// Resume goes on with an image that Create made.
func Resume(f disk.File, virtualBytes int64) (*Target, error) {
	if f.Size() != virtualBytes {
		return nil, fmt.Errorf("%w: it holds %d bytes, the disk has %d", disk.ErrDamaged, f.Size(), virtualBytes)
	}
	return &Target{f}, nil
}

func (t *Target) BlockBytes() int                      { return holeBytes }
func (t *Target) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }
func (t *Target) Sync() ([]byte, error)                { return nil, t.f.Sync() }
func (t *Target) Finish() error                        { return t.f.Sync() }
func (t *Target) Put(off int64, p []byte, _ int) error {
	for len(p) > 0 {
		n := min(len(p), holeBytes)
		if !disk.IsZero(p[:n]) {
			if _, err := t.f.WriteAt(p[:n], off); err != nil {
				return err
			}
		}
		p, off = p[n:], off+int64(n)
	}
	return nil
}
