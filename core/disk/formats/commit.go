package formats

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
)

// Commits are the formats into which layers are committed in place.
var Commits = []string{"raw", qcow2.Format}

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
	if err := into.pour(context.Background(), top.Image, func(int64) {}); err != nil {
		return errors.Join(fmt.Errorf("commit %s into %s: %w", filepath.Base(path), parent.Path, err), into.Close())
	}
	return into.Close()
}

// openParent opens a chain's second link to be written to.
func openParent(c *Chain, parent Link, o Options) (*poured, error) {
	var below disk.Image
	if len(c.Links) > 2 {
		below = c.below(2)
	}
	return openPoured(parent.Path, parent.Format.Name, below, o)
}
