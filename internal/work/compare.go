package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Comparison is how far two copies have grown apart.
type Comparison struct {
	A    inventory.Copy `json:"a"`
	B    inventory.Copy `json:"b"`
	Same bool           `json:"sameLineage"`
	// id of the last copy that both descend from; "" when none is known
	Ancestor    string               `json:"ancestor"`
	Differences []lineage.Difference `json:"differences"`
	Disks       []DiskComparison     `json:"disks"`
}

// DiskComparison is how far two disks have.
type DiskComparison struct {
	Disk           string  `json:"disk"`
	A              string  `json:"a"` // paths
	B              string  `json:"b"`
	Exact          bool    `json:"exact"`
	Likeness       float64 `json:"likeness"`       // from 0 to 1; of samples when it is not exact
	Samples        int     `json:"samples"`        // that were compared, when it is not exact
	DifferentBytes int64   `json:"differentBytes"` // in blocks of 64 KiB; an estimate when it is not exact
	ReadBytes      int64   `json:"readBytes"`      // of each, to find out
	Shared         string  `json:"shared"`         // layer that both rest on, and that was not read
	Why            string  `json:"why"`            // they can't be compared
}

// cheap is how much is read of each disk without having been asked to.
const cheap = 256 << 20

// Compare compares two copies. Disks are compared by samples where that is known,
// and block by block with exact set, or where little has to be read.
func (w *Work) Compare(ctx context.Context, refA, refB string, exact bool) (*Comparison, error) {
	a, err := w.inv.Copy(ctx, refA)
	if err != nil {
		return nil, err
	}
	b, err := w.inv.Copy(ctx, refB)
	if err != nil {
		return nil, err
	}
	if a.ID == b.ID {
		return nil, inventory.Wrong("%s and %s are the same copy.", refA, refB)
	}
	if a.Machine == nil || b.Machine == nil {
		return nil, inventory.Wrong("One of the two has no descriptor that could be read.")
	}
	c := &Comparison{A: *a, B: *b, Same: a.LineageID == b.LineageID,
		Differences: lineage.Compare(a.Machine, b.Machine, fit.Size), Disks: []DiskComparison{}}
	if c.Ancestor, err = w.inv.Ancestor(ctx, a.ID, b.ID); err != nil {
		return nil, err
	}
	for _, k := range []*inventory.Copy{a, b} {
		m, _, err := w.places.Has(ctx, k)
		if err != nil {
			return nil, err
		}
		if m == nil {
			continue
		}
		for _, d := range a.Machine.Disks {
			c.Disks = append(c.Disks, DiskComparison{Disk: d.ID, Why: fmt.Sprintf("%s is at %s, where its disks "+
				"can't be "+
				"looked into: import it, and compare that", k.Name, m.Name)})
		}
		return c, nil
	}
	seen, err := w.inv.DisksOf(ctx, a.ID, b.ID)
	if err != nil {
		return nil, err
	}
	for n, x := range seen[a.ID] {
		at := slices.IndexFunc(seen[b.ID], func(y inventory.CopyDisk) bool { return y.Disk == x.Disk })
		if at < 0 && n < len(seen[b.ID]) && len(seen[a.ID]) == len(seen[b.ID]) {
			at = n // called differently, at the same place
		}
		if at < 0 {
			c.Disks = append(c.Disks, DiskComparison{Disk: x.Disk, A: x.Path, Why: "only " + a.Ref() + " has it"})
			continue
		}
		d, err := w.compareDisks(ctx, a, b, x, seen[b.ID][at], exact)
		if err != nil {
			return nil, err
		}
		c.Disks = append(c.Disks, *d)
	}
	for _, y := range seen[b.ID] {
		if !slices.ContainsFunc(c.Disks, func(d DiskComparison) bool { return d.B == y.Path }) {
			c.Disks = append(c.Disks, DiskComparison{Disk: y.Disk, B: y.Path, Why: "only " + b.Ref() + " has it"})
		}
	}
	return c, nil
}

func (w *Work) compareDisks(ctx context.Context, a, b *inventory.Copy, x, y inventory.CopyDisk,
	exact bool) (*DiskComparison, error) {
	d := &DiskComparison{Disk: x.Disk, A: x.Path, B: y.Path}
	for _, one := range []struct {
		c *inventory.Copy
		d inventory.CopyDisk
	}{{a, x}, {b, y}} {
		switch {
		case len(one.d.Faults) > 0:
			d.Why = strings.TrimSuffix(one.d.Faults[0].Message, ".")
		case one.c.GoneAt != nil || one.c.Form == lineage.Hollow || one.c.State == machine.Away:
			d.Why = one.c.Name + " is not there now"
		case one.c.Form == lineage.Package:
			d.Why = "disks of packages are not compared"
		}
	}
	if d.Why != "" {
		return d, nil
	}
	d.Shared = sharedLayer(a, b, x, y)
	ha, err := w.inv.Host(ctx, a.HostID.String())
	if err != nil {
		return nil, err
	}
	hb, err := w.inv.Host(ctx, b.HostID.String())
	if err != nil {
		return nil, err
	}
	var heldA, heldB []disk.Span
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		heldA, err = w.hosts.Agent(ha).Held(gctx, hostlink.HeldRequest{Path: x.Path, Above: d.Shared})
		return err
	})
	g.Go(func() (err error) {
		heldB, err = w.hosts.Agent(hb).Held(gctx, hostlink.HeldRequest{Path: y.Path, Above: d.Shared})
		return err
	})
	if err := g.Wait(); err != nil {
		var fault *hostlink.Fault
		if errors.As(err, &fault) || errors.Is(err, hostlink.ErrUnreachable) {
			d.Why = strings.TrimSuffix(err.Error(), ".")
			return d, nil
		}
		return nil, err
	}
	todo := disk.Union(heldA, heldB)
	bytes := disk.Blocks(todo) * disk.CompareBytes
	if exact || bytes <= cheap {
		d.Exact, d.ReadBytes = true, bytes
		different, err := w.differ(ctx, ha, hb, x.Path, y.Path, todo)
		if err != nil {
			return nil, err
		}
		d.DifferentBytes = different * disk.CompareBytes
		if d.Likeness = 1; bytes > 0 {
			d.Likeness = 1 - float64(d.DifferentBytes)/float64(bytes)
		}
		return d, nil
	}
	d.Likeness, d.Samples = lineage.Likeness(x.Samples, y.Samples)
	d.DifferentBytes = int64((1 - d.Likeness) * float64(bytes))
	return d, nil
}

// sharedLayer is the top-most layer of their host that both disks rest on: it
// need not be read.
func sharedLayer(a, b *inventory.Copy, x, y inventory.CopyDisk) string {
	if a.HostID == nil || b.HostID == nil || *a.HostID != *b.HostID {
		return ""
	}
	for _, l := range x.Layers {
		if slices.Contains(y.Layers, l) {
			return l
		}
	}
	return ""
}

// sumsAtOnce is how many blocks are asked for in one call.
const sumsAtOnce = 1 << 12 // of 64 KiB: 256 MiB, which slow drives too read in time

// differ counts the blocks in which two disks differ.
func (w *Work) differ(ctx context.Context, ha, hb *inventory.Host, a, b string, todo []disk.Span) (different int64,
	err error) {
	for len(todo) > 0 {
		var part []disk.Span
		for room := int64(sumsAtOnce); len(todo) > 0 && room > 0; {
			s := todo[0]
			if s.Count > room {
				todo[0] = disk.Span{Block: s.Block + room, Count: s.Count - room}
				s.Count = room
			} else {
				todo = todo[1:]
			}
			room -= s.Count
			part = append(part, s)
		}
		var x, y []uint64
		g, gctx := errgroup.WithContext(ctx)
		g.Go(func() (err error) {
			x, err = w.hosts.Agent(ha).Sums(gctx, hostlink.SumsRequest{Path: a, Spans: part})
			return err
		})
		g.Go(func() (err error) {
			y, err = w.hosts.Agent(hb).Sums(gctx, hostlink.SumsRequest{Path: b, Spans: part})
			return err
		})
		if err := g.Wait(); err != nil {
			return 0, err
		}
		for i := range x {
			if x[i] != y[i] {
				different++
			}
		}
	}
	return different, nil
}
