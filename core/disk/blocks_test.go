package disk_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
)

func spans(t *rapid.T, label string) (list []disk.Span, held map[int64]bool) {
	held = map[int64]bool{}
	at := int64(0)
	for range rapid.IntRange(0, 6).Draw(t, label+" runs") {
		at += rapid.Int64Range(1, 5).Draw(t, label+" gap")
		n := rapid.Int64Range(1, 5).Draw(t, label+" run")
		list = append(list, disk.Span{Block: at, Count: n})
		for b := at; b < at+n; b++ {
			held[b] = true
		}
		at += n
	}
	return list, held
}

// TestUnion holds what either holds, each once, in order.
func TestUnion(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, inA := spans(t, "a")
		b, inB := spans(t, "b")
		end, n := int64(-1), int64(0)
		all := disk.Union(a, b)
		for _, s := range all {
			if s.Block <= end {
				t.Fatalf("%v: not in order, or two that touch", all)
			}
			for block := s.Block; block < s.Block+s.Count; block++ {
				if !inA[block] && !inB[block] {
					t.Fatalf("%d is in neither", block)
				}
				n++
			}
			end = s.Block + s.Count
		}
		for b := range inB {
			inA[b] = true
		}
		if n != int64(len(inA)) || n != disk.Blocks(all) {
			t.Fatalf("%d blocks of %d", n, len(inA))
		}
	})
}

// TestHeldAndSums: a layer holds what was written to it, and the sums differ
// where that is something else.
func TestHeldAndSums(t *testing.T) {
	dir := t.TempDir()
	base := filepath.Join(dir, "base.img")
	data := disktest.Pattern(8<<20, 3)
	require.NoError(t, os.WriteFile(base, data, 0o644))
	format, err := formats.ByName("qcow2")
	require.NoError(t, err)
	top := filepath.Join(dir, "top.qcow2")
	require.NoError(t, formats.NewLayer(top, base, format, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", formats.Options{}))
	c, err := formats.OpenChain(top, formats.Options{})
	require.NoError(t, err)
	defer c.Close()
	own, err := disk.Held([]disk.Image{c.Links[0].Image}, 8<<20)
	require.NoError(t, err)
	require.Empty(t, own, "nothing was written to the layer")
	all, err := disk.Held([]disk.Image{c.Links[0].Image, c.Links[1].Image}, 8<<20)
	require.NoError(t, err)
	require.Positive(t, disk.Blocks(all))
	sums, err := disk.BlockSums(c, all)
	require.NoError(t, err)
	changed := append([]byte{}, data...)
	for i := range 100 {
		changed[3*disk.CompareBytes+i] ^= 0xff
	}
	other := filepath.Join(dir, "other.img")
	require.NoError(t, os.WriteFile(other, changed, 0o644))
	o, err := formats.OpenChain(other, formats.Options{})
	require.NoError(t, err)
	defer o.Close()
	with := disk.Union(all, []disk.Span{{Block: 3, Count: 1}})
	a, err := disk.BlockSums(c, with)
	require.NoError(t, err)
	b, err := disk.BlockSums(o, with)
	require.NoError(t, err)
	differ := 0
	for i := range a {
		if a[i] != b[i] {
			differ++
		}
	}
	require.Equal(t, 1, differ)
	require.Equal(t, sums, disk.UnpackSums(disk.PackSums(sums)))
	past, err := disk.BlockSums(o, []disk.Span{{Block: 1000, Count: 2}})
	require.NoError(t, err)
	require.Equal(t, []uint64{0, 0}, past, "beyond the end there are zeros")
}
