package door

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestStamp: the quick way and the slow one say the same, and neither leads out.
func TestStamp(t *testing.T) {
	pool, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(pool, "in"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(pool, "in", "file"), []byte("tide"), 0o600))
	for name, to := range map[string]string{"inside": "in/file", "up": "../" + filepath.Base(outside) + "/secret",
		"absolute": filepath.Join(outside, "secret"), "nothing": "none", "loop": "loop"} {
		require.NoError(t, os.Symlink(to, filepath.Join(pool, name)))
	}
	require.NoError(t, os.Symlink(outside, filepath.Join(pool, "folder")))
	d := New(pool)
	for _, name := range []string{".", "in", "in/file", "inside", "up", "absolute", "nothing", "loop", "none", "folder",
		"folder/secret", "in/../in/file"} {
		for _, follow := range []bool{false, true} {
			path := filepath.Join(pool, name)
			quick, err := d.Stamp(path, follow)
			slow, slowErr := d.slowStamp(path, follow)
			require.Equal(t, slowErr == nil, err == nil, "%s %v: %v, %v", name, follow, err, slowErr)
			require.Equal(t, slow, quick, "%s %v", name, follow)
		}
	}
	for _, name := range []string{"up", "absolute", "folder", "folder/secret"} {
		_, err := d.Stamp(filepath.Join(pool, name), true)
		require.Error(t, err, name)
	}
	folder, file, err := d.FolderStamp(filepath.Join(pool, "in"), "file")
	require.NoError(t, err)
	for path, got := range map[string]Stamp{"in": folder, "in/file": file} {
		want, err := d.slowStamp(filepath.Join(pool, path), false)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, name := range []string{"none", "../inside", ".."} {
		_, file, err = d.FolderStamp(filepath.Join(pool, "in"), name)
		require.NoError(t, err)
		require.Zero(t, file, name)
	}
	_, err = d.Stamp(filepath.Join(outside, "secret"), false)
	require.Error(t, err)
}
