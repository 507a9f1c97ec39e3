package sight

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
)

// TestLookFolder: what a host tells of a folder, and who else needs its disks.
func TestLookFolder(t *testing.T) {
	a, pool := newSight(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	other, _ := agenttest.Lying(t, pool, "tide-probe")
	require.NoError(t, a.List(other, ground.Registered{}, ""))
	f, err := a.Folder(folder)
	require.NoError(t, err)
	require.Empty(t, f.Problem)
	require.False(t, f.Registered)
	require.Len(t, f.Disks, 1)
	d := f.Disks[0]
	require.Equal(t, 2, d.Layers)
	require.Equal(t, "tide-probe", d.IDOf, "both were given the same id")
	require.NotEmpty(t, d.Pool)
	f, err = a.Folder(filepath.Join(pool, "tide-probe.img"))
	require.NoError(t, err)
	require.Equal(t, []string{"tide-probe"}, f.Disks[0].LayersOf)
	require.Equal(t, "raw", f.Disks[0].Format)
	require.NoError(t, os.Remove(filepath.Join(folder, "tide-gauge.ovf")))
	f, err = a.Folder(folder)
	require.NoError(t, err)
	require.Contains(t, f.Problem, "there is no descriptor")
	require.Equal(t, "d.qcow2", f.Disks[0].File)
	_, err = a.Folder("/etc")
	require.ErrorContains(t, err, "lies in no pool")
	_, err = a.Folder(filepath.Join(pool, "none"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
