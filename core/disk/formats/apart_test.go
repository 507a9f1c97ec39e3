package formats_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
)

// slowTree is the tree sum as it is defined, over all bytes.
func slowTree(p []byte) [32]byte {
	var row [][32]byte
	for at := 0; at < len(p); at += 64 << 10 {
		block := p[at:min(len(p), at+64<<10)]
		d := blake3.Sum256(append([]byte{0}, block...))
		if disk.IsZero(block) {
			d = [32]byte{}
		}
		row = append(row, d)
	}
	for len(row) > 1 {
		var above [][32]byte
		for len(row) > 0 {
			children := row[:min(len(row), 256)]
			row = row[len(children):]
			node, nothing := []byte{1}, true
			for _, c := range children {
				node = append(node, c[:]...)
				nothing = nothing && c == [32]byte{}
			}
			d := blake3.Sum256(node)
			if nothing {
				d = [32]byte{}
			}
			above = append(above, d)
		}
		row = above
	}
	top := [32]byte{}
	if len(row) == 1 {
		top = row[0]
	}
	return blake3.Sum256(append(binary.BigEndian.AppendUint64([]byte{2}, uint64(len(p))), top[:]...))
}

// TestTreeSum: the same for the same bytes in every format, sparse or not, as it is defined; another where they differ.
func TestTreeSum(t *testing.T) {
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		rapid.Check(t, func(t *rapid.T) {
			size := rapid.Int64Range(1, 2000).Draw(t, "sectors") * 512
			truth := disktest.Pattern(int(size), rapid.Uint32().Draw(t, "seed"))
			i := newImage(format, variant, size)
			i.fill(t, truth)
			img, err := i.open()
			require.NoError(t, err)
			sum, err := disk.TreeSum(ctx, img, nil)
			require.NoError(t, err)
			require.Equal(t, slowTree(truth), sum)
			truth[rapid.IntRange(0, len(truth)-1).Draw(t, "at")]++
			other, err := disk.TreeSum(ctx, disktest.Plain(truth), nil)
			require.NoError(t, err)
			require.NotEqual(t, sum, other)
		})
	})
	// More than one height of nodes: 300 blocks of 64 KiB, then with the first 256 of them zeros.
	truth := bytes.Repeat([]byte("tide level 42\n"), 300<<16/14+1)[:300<<16]
	for range 2 {
		sum, err := disk.TreeSum(ctx, disktest.Plain(truth), nil)
		require.NoError(t, err)
		require.Equal(t, slowTree(truth), sum)
		clear(truth[:256<<16])
	}
	for _, p := range [][]byte{{}, {1}, make([]byte, 1<<20)} {
		sum, err := disk.TreeSum(ctx, disktest.Plain(p), nil)
		require.NoError(t, err)
		require.Equal(t, slowTree(p), sum)
	}
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_, err := disk.TreeSum(cancelled, disktest.Plain(truth), nil)
	require.ErrorIs(t, err, context.Canceled)
}

// slowApart are the runs of blocks of 4 KiB that are not the same.
func slowApart(a, b []byte) (runs []disk.Range, different int64) {
	size := max(len(a), len(b))
	a, b = append(bytes.Clone(a), make([]byte, size-len(a))...), append(bytes.Clone(b), make([]byte, size-len(b))...)
	for at := 0; at < size; at += 4096 {
		end := min(size, at+4096)
		if bytes.Equal(a[at:end], b[at:end]) {
			continue
		}
		different += int64(end - at)
		if n := len(runs) - 1; n >= 0 && runs[n].End() == int64(at) {
			runs[n].Length += int64(end - at)
			continue
		}
		runs = append(runs, disk.Range{Offset: int64(at), Length: int64(end - at)})
	}
	return runs, different
}

// TestCompare: where two disks differ is told to the block, in whichever formats they are and whichever is longer.
func TestCompare(t *testing.T) {
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		rapid.Check(t, func(t *rapid.T) {
			sectors := rapid.Int64Range(1, 2000)
			size := sectors.Draw(t, "sectors") * 512
			truth := disktest.Pattern(int(size), rapid.Uint32().Draw(t, "seed"))
			i := newImage(format, variant, size)
			i.fill(t, truth)
			img, err := i.open()
			require.NoError(t, err)
			other := append(bytes.Clone(truth), make([]byte, 512*sectors.Draw(t, "longer"))...)
			if rapid.Bool().Draw(t, "shorter") {
				other = other[:rapid.IntRange(1, len(other)).Draw(t, "length")]
			}
			for range rapid.IntRange(0, 5).Draw(t, "changes") {
				other[rapid.IntRange(0, len(other)-1).Draw(t, "at")] ^= byte(rapid.IntRange(0, 255).Draw(t, "by"))
			}
			want, different := slowApart(truth, other)
			for _, pair := range [][2]disk.Image{{img, disktest.Plain(other)}, {disktest.Plain(other), img}} {
				var runs []disk.Range
				got, err := disk.Compare(ctx, pair[0], pair[1], func(r disk.Range) {
					runs = append(runs, disk.Range{Offset: r.Offset, Length: r.Length})
				}, nil)
				require.NoError(t, err)
				require.Equal(t, want, runs)
				require.Equal(t, different, got.DifferentBytes)
				require.EqualValues(t, len(want), got.Places)
			}
		})
	})
}
