package formats

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
)

// Commits are the formats into which layers are committed in place.
var Commits = []string{"raw", qcow2.Format}

const commitBytes = 1 << 20 // that are carried at once

// Commit writes what the layer at path holds of its own into its parent. The layer is only read, and goes on covering
// what it holds: through it the guest's bytes are the same before, during and after, and a commit that was broken off
// is begun again. o tells the layer's format. The parent has to be raw, or QCOW2 of version 3.
func Commit(path string, o Options) (err error) {
	c, err := OpenChain(path, o)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	if len(c.Links) < 2 {
		return fmt.Errorf("%s stands on its own: there is nothing to commit it into", path)
	}
	top, parent := c.Links[0], c.Links[1]
	into, err := openParent(c, parent, o)
	if err != nil {
		return fmt.Errorf("commit %s into %s: %w", filepath.Base(path), parent.Path, err)
	}
	if err := pour(top.Image, into); err != nil {
		return errors.Join(fmt.Errorf("commit %s into %s: %w", filepath.Base(path), parent.Path, err), into.Close())
	}
	return into.Close()
}

// poured is what is committed into.
type poured struct {
	write  func(p []byte, off int64) (int, error)
	finish func() error
	source *disk.OSFile
}

func (p *poured) Close() error {
	return errors.Join(p.finish(), p.source.Sync(), p.source.Close())
}

// openParent opens a chain's second link to be written to.
func openParent(c *Chain, parent Link, o Options) (*poured, error) {
	name := parent.Format.Name
	if name != "raw" && name != qcow2.Format {
		return nil, fmt.Errorf("it is %s, into which nothing can be committed: copy the disk to one that stands alone",
			name)
	}
	source, err := disk.OpenSource(o.files(), parent.Path, os.O_RDWR)
	if err != nil {
		return nil, err
	}
	if name == "raw" {
		return &poured{source.WriteAt, func() error { return nil }, source}, nil
	}
	var below disk.Image
	if len(c.Links) > 2 {
		below = c.below(2)
	}
	img, err := qcow2.OpenWrite(source, below)
	if err != nil {
		return nil, errors.Join(err, source.Close())
	}
	return &poured{img.WriteAt, img.Finish, source}, nil
}

// pour carries all that an image holds of its own.
func pour(from disk.Image, into *poured) error {
	size := from.Info().VirtualBytes
	buf := make([]byte, commitBytes)
	for off := int64(0); off < size; {
		r, err := from.Map(off)
		if err != nil {
			return err
		}
		end := min(r.End(), size)
		if r.Kind == disk.Data || r.Kind == disk.Zero {
			for at := off; at < end; {
				p := buf[:min(int64(len(buf)), end-at)]
				if r.Kind == disk.Zero {
					clear(p)
				} else if _, err := from.ReadAt(p, at); err != nil {
					return err
				}
				if _, err := into.write(p, at); err != nil {
					return err
				}
				at += int64(len(p))
			}
		}
		off = end
	}
	return nil
}
