package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
)

// whole opens an image with its chain of parents.
func (a *app) whole(f *following, path string) (disk.Image, error) {
	o, err := a.following(f, path)
	if err != nil {
		return nil, failed(err)
	}
	c, err := formats.OpenChain(path, o)
	return c, failed(err)
}

// summed is what disk sum prints of an image.
type summed struct {
	SHA256 string `json:"sha256,omitempty"`
	Tree   string `json:"tree,omitempty"`
	Bytes  int64  `json:"bytes"`
	Path   string `json:"path"`
}

func (a *app) diskSumCmd() *cobra.Command {
	var f following
	tree := false
	cmd := &cobra.Command{
		Use: "sum FILE…", Short: "SHA-256 of the bytes that the guest would see, whole chain applied",
		Long: `SHA-256 of the bytes that the guest would see, whole chain applied: what sha256sum
says of the same as a raw file.

With --tree another sum, over the sums of blocks (BLAKE3): the same for the same bytes
in any format too. It takes as long as its data take, however large the disk is.`,
		Args: cobra.MinimumNArgs(1), Example: "  unvora disk sum tide-gauge.qcow2\n" +
			"  unvora disk sum tide-gauge.qcow2 tide-gauge.vmdk --tree",
		RunE: func(cmd *cobra.Command, args []string) error {
			sums := []summed{}
			for _, path := range args {
				s, err := a.sum(cmd.Context(), &f, path, tree)
				if err != nil {
					return err
				}
				if sums = append(sums, *s); a.output == "table" {
					fmt.Fprintf(a.out, "%s  %d  %s\n", firstOf(s.SHA256, s.Tree), s.Bytes, path)
				}
			}
			return a.print(sums, func() {})
		},
	}
	cmd.Flags().BoolVar(&tree, "tree", false, "the sum over the sums of blocks: holes and zeros cost nothing")
	f.bind(cmd)
	return cmd
}

// sum digests an image.
func (a *app) sum(ctx context.Context, f *following, path string, tree bool) (*summed, error) {
	c, err := a.whole(f, path)
	if err != nil {
		return nil, err
	}
	s := &summed{Bytes: c.Info().VirtualBytes, Path: path}
	if tree {
		var data int64
		if data, err = disk.DataBytes(c); err == nil {
			m := a.newMeter("read "+filepath.Base(path), data)
			var sum [32]byte
			sum, err = disk.TreeSum(ctx, c, m.add)
			m.end()
			s.Tree = hex.EncodeToString(sum[:])
		}
	} else {
		m := a.newMeter("read "+filepath.Base(path), s.Bytes)
		h := sha256.New()
		err = disk.Sum(ctx, c, h, m.add)
		m.end()
		s.SHA256 = hex.EncodeToString(h.Sum(nil))
	}
	if err = errors.Join(err, c.Close()); err != nil {
		return nil, failed(fmt.Errorf("%s: %w", path, err))
	}
	return s, nil
}

// Places where two images differ, that are told: to a program, and to people.
const (
	mostPlaces  = 10_000
	placesShown = 20
)

// compared is what disk compare prints.
type compared struct {
	A              string `json:"a"`
	B              string `json:"b"`
	Same           bool   `json:"same"`
	BytesA         int64  `json:"bytesA"` // that each has for its guest
	BytesB         int64  `json:"bytesB"`
	ReadBytes      int64  `json:"readBytes"` // of each, to find out
	DifferentBytes int64  `json:"differentBytes"`
	Places         int64  `json:"places"`
	Where          []span `json:"where"` // the first 10,000 of the places
}

// span is a run of bytes that are not the same.
type span struct {
	Offset int64 `json:"offset"`
	Bytes  int64 `json:"bytes"`
}

func (a *app) diskCompareCmd() *cobra.Command {
	var f following
	cmd := &cobra.Command{
		Use: "compare A B", Short: "Where two images differ, and by how much, whatever their formats",
		Long: `Say where two images differ, and by how much, in blocks of 4 KiB of what their guests
would see, whole chains applied. Their maps are looked at first: what neither holds
data in is not read. The status is 0 where they hold the same, 1 where they do not.`,
		Args: cobra.ExactArgs(2), Example: "  unvora disk compare tide-gauge.qcow2 tide-gauge.vmdk\n" +
			"  unvora disk compare monday.qcow2 today.qcow2 -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.compare(cmd.Context(), &f, args[0], args[1])
			if err != nil {
				return err
			}
			if err := a.print(c, func() { a.showCompared(c) }); err != nil {
				return err
			}
			if !c.Same {
				return &exit{statusFailed, errors.New("")}
			}
			return nil
		},
	}
	f.bind(cmd)
	return cmd
}

// compare finds where two images differ.
func (a *app) compare(ctx context.Context, f *following, pathA, pathB string) (c *compared, err error) {
	images := [2]disk.Image{}
	for n, path := range []string{pathA, pathB} {
		if images[n], err = a.whole(f, path); err != nil {
			return nil, err
		}
		defer images[n].Close()
	}
	c = &compared{A: pathA, B: pathB, BytesA: images[0].Info().VirtualBytes, BytesB: images[1].Info().VirtualBytes,
		Where: []span{}}
	held, err := disk.Held(images[:], max(c.BytesA, c.BytesB)) // by either
	if err != nil {
		return nil, failed(err)
	}
	m := a.newMeter("compare "+filepath.Base(pathA)+" and "+filepath.Base(pathB), disk.Blocks(held)*disk.CompareBytes)
	apart, err := disk.Compare(ctx, images[0], images[1], func(r disk.Range) {
		if len(c.Where) < mostPlaces {
			c.Where = append(c.Where, span{r.Offset, r.Length})
		}
	}, m.add)
	m.end()
	if err != nil {
		return nil, failed(fmt.Errorf("%s and %s: %w", pathA, pathB, err))
	}
	c.ReadBytes, c.DifferentBytes, c.Places = apart.ReadBytes, apart.DifferentBytes, apart.Places
	c.Same = apart.Places == 0 && c.BytesA == c.BytesB
	return c, nil
}

func (a *app) showCompared(c *compared) {
	read := fmt.Sprintf("%s read of each", size(c.ReadBytes))
	switch {
	case c.Same:
		fmt.Fprintf(a.out, "They hold the same: %s, %s.\n", size(c.BytesA), read)
		return
	case c.Places == 0:
		fmt.Fprintf(a.out, "One has %d bytes and the other %d; what both have is the same, the rest is zeros (%s).\n",
			c.BytesA, c.BytesB, read)
		return
	}
	t := a.table("at byte", "to", "differ")
	for _, w := range c.Where[:min(len(c.Where), placesShown)] {
		t.AppendRow([]any{w.Offset, w.Offset + w.Bytes, size(w.Bytes)})
	}
	t.Render()
	if more := c.Places - placesShown; more > 0 {
		fmt.Fprintf(a.out, "and %d more: -o json tells them\n", more)
	}
	fmt.Fprintf(a.out, "%s differ in %s, %s.\n", size(c.DifferentBytes), count(int(c.Places), "place"), read)
	if c.BytesA != c.BytesB {
		fmt.Fprintf(a.out, "One has %d bytes and the other %d.\n", c.BytesA, c.BytesB)
	}
}
