package sight

import (
	"context"
	"fmt"
	"slices"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
	"unvora.example/unvora/internal/hostlink"
)

// mostBlocks of a disk are hashed in one call: 64 GiB of it.
const mostBlocks = 1 << 20

// Held tells which blocks of a disk its layers above one of them hold. Only
// maps are read.
func (a *Sight) Held(q hostlink.HeldRequest) ([]disk.Span, error) {
	c, err := a.Chain(q.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	end := len(c.Links)
	if q.Above != "" {
		if end = slices.Index(c.Paths(), q.Above); end < 0 {
			return nil, fmt.Errorf("%s is no layer of %s", q.Above, q.Path)
		}
	}
	layers := make([]disk.Image, end)
	for i := range layers {
		layers[i] = c.Links[i].Image
	}
	return disk.Held(layers, c.Info().VirtualBytes)
}

// Free tells what the file systems on a disk mark as free. Their maps are read, and the disk's.
func (a *Sight) Free(ctx context.Context, q hostlink.FreeRequest) (*fit.FreeSpace, error) {
	c, err := a.Chain(q.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	blanks, found, err := guest.Free(ctx, c, c.Info().VirtualBytes)
	if err != nil {
		return nil, err
	}
	bytes, err := blanks.In(c)
	return &fit.FreeSpace{Systems: found, DataBytes: bytes}, err
}

// Sums hashes blocks of a disk.
func (a *Sight) Sums(q hostlink.SumsRequest) ([]byte, error) {
	if n := disk.Blocks(q.Spans); n > mostBlocks || n < 0 {
		return nil, fmt.Errorf("%d blocks at once: %d at most", n, mostBlocks)
	}
	c, err := a.Chain(q.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	sums, err := disk.BlockSums(c, q.Spans)
	return disk.PackSums(sums), err
}
