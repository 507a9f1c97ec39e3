package do

import (
	"context"
	"fmt"
	"path/filepath"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// doFollow writes what a layer holds into the disk that was carried before it was put on, and reads that back. It is
// undone with what was carried.
func doFollow(ctx context.Context, t *run) (any, error) {
	var p hostlink.FollowTask
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if filepath.Base(p.File) != p.File {
		return nil, ground.Refuse("package.path-escape", "%q is no file name", p.File)
	}
	target := filepath.Join(t.Staging(p.Pool), p.File)
	if err := t.Within(target); err != nil {
		return nil, err
	}
	layer, done, err := t.layer(ctx, p)
	if err != nil {
		return nil, fmt.Errorf("open the layer of disk %s: %w", p.Disk, err)
	}
	defer done()
	as, err := door.OnRecord(p.Format)
	if err != nil {
		return nil, err
	}
	if err := t.Door.Pour(ctx, layer, target, as, t.Progress); err != nil {
		return nil, err
	}
	bytes, err := t.Allocated(target)
	return hostlink.FetchResult{FileBytes: bytes}, err
}

// layer opens the layer that a task follows, by itself; done closes it.
func (t *run) layer(ctx context.Context, p hostlink.FollowTask) (layer disk.Image, done func(), err error) {
	if p.From != nil {
		img, err := t.Dialer().OpenDisk(ctx, p.From.Host, p.From.Address, p.From.Ticket,
			hostlink.DiskRequest{Path: p.Source, Layer: true})
		if err != nil {
			return nil, nil, err
		}
		return img, func() { img.Close() }, nil
	}
	if err := t.Within(p.Source); err != nil {
		return nil, nil, err
	}
	c, err := t.Chain(p.Source)
	if err != nil {
		return nil, nil, err
	}
	return c.Links[0].Image, func() { c.Close() }, nil
}
