package sight

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/agenttest"
)

// TestVouch: a package is read once as it is; one in which a byte was altered is
// told of, also after a restart, and one that is written anew is read again.
func TestVouch(t *testing.T) {
	a, pool := newSight(t, 0)
	path := filepath.Join(filepath.Dir(pool), "loft", "tide-gauge.ova")
	agenttest.Shelve(t, path)
	later := time.Now().Add(time.Hour)
	seen := func() (problem string) {
		for _, p := range a.Survey(t.Context(), "", 0).Packages {
			require.NotNil(t, p.Machine)
			problem = p.Problem
		}
		return problem
	}
	require.Empty(t, seen())
	require.False(t, a.vouchOne(t.Context(), time.Now().Add(-time.Hour), 1<<30), "it may still be written")
	require.True(t, a.vouchOne(t.Context(), later, 1<<30))
	require.False(t, a.vouchOne(t.Context(), later, 1<<30), "it was read")
	require.Empty(t, seen())

	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	st, err := f.Stat()
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("?"), st.Size()/2)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	since := a.Survey(t.Context(), "", 0).Revision
	require.True(t, a.vouchOne(t.Context(), later, 1<<30))
	require.Contains(t, seen(), "tide-gauge.vmdk")
	require.Len(t, a.Survey(t.Context(), since, 0).Packages, 1, "it is news")

	a.sweep = newSweep(a) // as after a restart
	require.Contains(t, seen(), "tide-gauge.vmdk")
	require.False(t, a.vouchOne(t.Context(), later, 1<<30))
	require.NoError(t, os.Remove(path))
	agenttest.Shelve(t, path)
	require.Empty(t, seen())
	require.True(t, a.vouchOne(t.Context(), later, 1<<30))
	require.Empty(t, seen())
}
