package formats_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
)

// breaking is files that take so many writes, and no more.
type breaking struct {
	disk.Files
	left int
}

var errBroken = errors.New("broken off")

// guestWrites writes to the top layer of a chain as a guest would.
func guestWrites(t require.TestingT, path string, parent disk.Image, writes map[int64][]byte) {
	f, err := disk.OpenSource(disk.OS, path, os.O_RDWR)
	require.NoError(t, err)
	img, err := qcow2.OpenWrite(f, parent)
	require.NoError(t, err)
	for off, p := range writes {
		_, err := img.WriteAt(p, off)
		require.NoError(t, err)
	}
	require.NoError(t, img.Finish())
	require.NoError(t, img.Close())
}

// guestBytes is all that a guest sees through an image.
func guestBytes(t require.TestingT, path, format string) []byte {
	c, err := formats.OpenChain(path, formats.Options{Format: format})
	require.NoError(t, err)
	defer c.Close()
	all := make([]byte, c.Info().VirtualBytes)
	_, err = c.ReadAt(all, 0)
	require.NoError(t, err)
	return all
}

// TestCommit: what a layer holds is in its parent afterwards, and through the layer the guest's bytes are the same
// before and after, also when it is done twice; a plain array of bytes tells what they are. The parent may be a layer.
func TestCommit(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "commit")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		const size = 3 << 20
		q, err := formats.ByName("qcow2")
		require.NoError(rt, err)
		base := filepath.Join(dir, "base.raw")
		want := make([]byte, size)
		copy(want[1<<20:], bytes.Repeat([]byte("base"), 1000))
		require.NoError(rt, os.WriteFile(base, want, 0o600))
		path, format := base, "raw"
		parents := []string{}
		for n := range rapid.IntRange(1, 3).Draw(rt, "layers") {
			next := filepath.Join(dir, string(rune('a'+n))+".qcow2")
			require.NoError(rt, formats.NewLayer(next, path, q, "", formats.Options{Format: format, Loose: true}))
			for range rapid.IntRange(0, 4).Draw(rt, "writes") {
				off := rapid.Int64Range(0, size-1).Draw(rt, "at")
				p := rapid.SliceOfN(rapid.Byte(), 1, int(min(200_000, size-off))).Draw(rt, "bytes")
				below, err := formats.OpenChain(path, formats.Options{Format: format})
				require.NoError(rt, err)
				guestWrites(rt, next, below, map[int64][]byte{off: p})
				require.NoError(rt, below.Close())
				copy(want[off:], p)
			}
			parents = append(parents, path)
			path, format = next, "qcow2"
		}
		require.Equal(rt, want, guestBytes(rt, path, format))
		for range 2 {
			require.NoError(rt, formats.Commit(path, formats.Options{Format: format}))
		}
		require.Equal(rt, want, guestBytes(rt, path, format), "through the layer")
		parent := parents[len(parents)-1]
		as := "qcow2"
		if parent == base {
			as = "raw"
		}
		require.Equal(rt, want, guestBytes(rt, parent, as), "without it")
	})
}

// OpenFile counts what is opened to be written to, and then breaks off.
func (b *breaking) OpenFile(path string, flag int, mode os.FileMode) (*os.File, error) {
	if flag&os.O_RDWR != 0 {
		if b.left--; b.left < 0 {
			return nil, errBroken
		}
	}
	return b.Files.OpenFile(path, flag, mode)
}

// TestCommitRefused: a layer is committed into what can be written in place, and says why not.
func TestCommitRefused(t *testing.T) {
	dir := t.TempDir()
	base := filepath.Join(dir, "base.vmdk")
	v, err := formats.ByName("vmdk")
	require.NoError(t, err)
	f, err := os.Create(base)
	require.NoError(t, err)
	file, err := disk.OpenFile(f)
	require.NoError(t, err)
	target, err := v.Create(file, disk.Spec{VirtualBytes: 1 << 20, ID: "8b1f3b0a-3d65-4d8e-9a0e-6a1f0c5d7e01",
		Name: "base.vmdk"})
	require.NoError(t, err)
	require.NoError(t, target.Finish())
	require.NoError(t, f.Close())
	require.ErrorContains(t, formats.Commit(base, formats.Options{Format: "vmdk"}), "stands on its own")
	top := filepath.Join(dir, "top.vmdk")
	require.NoError(t, formats.NewLayer(top, base, v, "", formats.Options{Format: "vmdk"}))
	require.ErrorContains(t, formats.Commit(top, formats.Options{Format: "vmdk"}), "nothing can be committed")

	raw := filepath.Join(dir, "base.raw")
	require.NoError(t, os.WriteFile(raw, make([]byte, 1<<20), 0o600))
	q, err := formats.ByName("qcow2")
	require.NoError(t, err)
	layer := filepath.Join(dir, "layer.qcow2")
	require.NoError(t, formats.NewLayer(layer, raw, q, "", formats.Options{Format: "raw"}))
	require.ErrorIs(t, formats.Commit(layer, formats.Options{Format: "qcow2",
		Files: &breaking{Files: disk.OS}}), errBroken)
}
