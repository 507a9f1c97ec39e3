package formats_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/disk/raw"
)

var ctx = context.Background()

func file(t *testing.T, path string) *disk.OSFile {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o644)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	src, err := disk.OpenFile(f)
	require.NoError(t, err)
	return src
}

// layer writes a QCOW2 with p at off, on a parent.
func layer(t *testing.T, path string, size int64, parent *disk.ParentRef, off int64, p []byte) {
	t.Helper()
	img, err := qcow2.Create(file(t, path), disk.Spec{VirtualBytes: size, Parent: parent})
	require.NoError(t, err)
	if len(p) > 0 {
		require.NoError(t, img.Put(off, p, len(p)))
	}
	require.NoError(t, img.Finish())
}

func TestChain(t *testing.T) {
	dir := t.TempDir()
	truth := disktest.Pattern(1<<20, 4)
	base, err := raw.Create(file(t, filepath.Join(dir, "base.img")), disk.Spec{VirtualBytes: int64(len(truth))})
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), base, disk.ImageFeed(disktest.Plain(truth), 0, base.BlockBytes()),
		disk.Options{}))
	require.NoError(t, base.Finish())
	more := disktest.Pattern(128<<10, 6)
	layer(t, filepath.Join(dir, "mid.qcow2"), 2<<20, &disk.ParentRef{Path: "base.img", Format: "raw"}, 256<<10, more)
	layer(t, filepath.Join(dir, "top.qcow2"), 2<<20, &disk.ParentRef{Path: filepath.Join(dir, "mid.qcow2"),
		Format: "qcow2"}, 0, make([]byte, 64<<10))
	want := make([]byte, 2<<20) // longer than its base: zeros beyond
	copy(want, truth)
	copy(want[256<<10:], more)
	clear(want[:64<<10])
	img, err := formats.OpenChain(filepath.Join(dir, "top.qcow2"), formats.Options{})
	require.NoError(t, err)
	defer img.Close()
	require.Len(t, img.Paths(), 3)
	disktest.Same(t, want, img)
	require.Nil(t, img.Info().Parent)
	data, err := disk.DataBytes(img)
	require.NoError(t, err)
	require.Less(t, data, int64(2<<20))
}

func TestChainErrors(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	layer(t, at("orphan.qcow2"), 1<<20, &disk.ParentRef{Path: "gone.qcow2", Format: "qcow2"}, 0, nil)
	layer(t, at("a.qcow2"), 1<<20, &disk.ParentRef{Path: "b.qcow2", Format: "qcow2"}, 0, nil)
	layer(t, at("b.qcow2"), 1<<20, &disk.ParentRef{Path: "a.qcow2", Format: "qcow2"}, 0, nil)
	var fault *formats.Fault
	_, err := formats.OpenChain(at("orphan.qcow2"), formats.Options{})
	require.ErrorAs(t, err, &fault)
	require.Equal(t, formats.ParentMissing, fault.Code)
	require.ErrorContains(t, err, "gone.qcow2")
	_, err = formats.OpenChain(at("a.qcow2"), formats.Options{})
	require.ErrorAs(t, err, &fault)
	require.Equal(t, formats.ChainLoop, fault.Code)
	require.ErrorContains(t, err, "comes back to")
	_, err = formats.OpenChain(at("none"), formats.Options{})
	require.ErrorIs(t, err, os.ErrNotExist)
}

// TestHolesCostNothing: a raw image's holes are found, and none are written.
func TestHolesCostNothing(t *testing.T) {
	src := file(t, filepath.Join(t.TempDir(), "sparse.img"))
	target, err := raw.Create(src, disk.Spec{VirtualBytes: 1 << 40})
	require.NoError(t, err)
	require.NoError(t, target.Put(1<<39, disktest.Pattern(1<<20, 2), 1<<20))
	require.NoError(t, target.Finish())
	img, err := formats.Open(src, nil)
	require.NoError(t, err)
	data, err := disk.DataBytes(img)
	require.NoError(t, err)
	require.LessOrEqual(t, data, int64(1<<20))
	again, err := raw.Resume(src, disk.Spec{VirtualBytes: 1 << 40})
	require.NoError(t, err)
	require.NoError(t, again.Finish())
	_, err = raw.Resume(src, disk.Spec{VirtualBytes: 1 << 30})
	require.ErrorIs(t, err, disk.ErrDamaged)
}
