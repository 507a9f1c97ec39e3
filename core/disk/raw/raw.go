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
	return disk.Info{Format: Format, Variant: "sparse", VirtualBytes: i.src.Size(), SectorBytes: 512, Clean: true}
}

func (i *Image) ReadAt(p []byte, off int64) (int, error) { return i.src.ReadAt(p, off) }

func (i *Image) Map(off int64) (disk.Range, error) { return disk.MapPlain(i.src, 0, off, i.src.Size()) }

func (i *Image) Close() error {
	if i.closer == nil {
		return nil
	}
	return i.closer.Close()
}

// Source is where the guest's bytes lie, one for one.
func (i *Image) Source() disk.Source { return i.src }

// Target is a raw image being written.
type Target struct{ f disk.File }

// Create makes f an image of s.VirtualBytes, sparse or with all its room taken.
func Create(f disk.File, s disk.Spec) (*Target, error) {
	if s.Parent != nil {
		return nil, fmt.Errorf("%w: a raw image can't be a layer", disk.ErrVariant)
	}
	if err := f.Truncate(0); err != nil {
		return nil, err
	}
	if s.Variant == "full" {
		if err := f.Allocate(s.VirtualBytes); err != nil {
			return nil, err
		}
	}
	return &Target{f}, f.Truncate(s.VirtualBytes)
}

// Resume goes on with an image that Create made.
func Resume(f disk.File, s disk.Spec) (*Target, error) {
	if f.Size() != s.VirtualBytes {
		return nil, disk.Damaged(f.Size(), "it ends here, the disk has %d bytes", s.VirtualBytes)
	}
	return &Target{f}, nil
}

func (t *Target) BlockBytes() int                      { return holeBytes }
func (t *Target) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }
func (t *Target) Sync() ([]byte, error)                { return nil, t.f.Sync() }
func (t *Target) Finish() error                        { return t.f.Sync() }
func (t *Target) Put(off int64, p []byte, _ int) error {
	return disk.WriteSparse(t.f, off, p)
}
