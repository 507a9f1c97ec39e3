package disk_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
)

func osFile(t *testing.T, path string) *disk.OSFile {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o644)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	o, err := disk.OpenFile(f)
	require.NoError(t, err)
	return o
}

// TestKernelCopies: ranges that the kernel copies, and blocks that it shares
// where the file system can.
func TestKernelCopies(t *testing.T) {
	dir := t.TempDir()
	truth := disktest.Pattern(3<<20, 4)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), truth, 0o644))
	a, b, c := osFile(t, filepath.Join(dir, "a")), osFile(t, filepath.Join(dir, "b")),
		osFile(t, filepath.Join(dir, "c"))
	require.NoError(t, b.Truncate(3<<20))
	require.NoError(t, b.CopyRange(a, 4096, 1<<20))
	got := make([]byte, 1<<20)
	_, err := b.ReadAt(got, 4096)
	require.NoError(t, err)
	require.Equal(t, truth[4096:4096+1<<20], got)
	require.ErrorContains(t, b.CopyRange(a, 2<<20, 5<<20), "copy ")
	require.False(t, b.ServerCopies(a), "a local file system")
	if c.Clone(a) {
		got := make([]byte, len(truth))
		_, err := c.ReadAt(got, 0)
		require.NoError(t, err)
		require.Equal(t, truth, got)
	} else {
		require.Zero(t, c.Size())
	}
}

func TestAllocate(t *testing.T) {
	f := osFile(t, filepath.Join(t.TempDir(), "x"))
	require.NoError(t, f.Allocate(5<<20))
	require.Equal(t, int64(5<<20), f.Size())
	st, err := os.Stat(f.Name())
	require.NoError(t, err)
	require.Equal(t, int64(5<<20), st.Size())
}
