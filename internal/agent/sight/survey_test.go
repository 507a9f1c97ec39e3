package sight

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/agenttest"
)

// newSight sees a host with one pool, a shelf and so many machines.
func newSight(t testing.TB, machines int) (*Sight, string) {
	t.Helper()
	g, pool := agenttest.New(t, machines, nil)
	a := New(g)
	a.room = func(string) (total, free int64) { return 200 << 30, 100 << 30 } // others write to the file system too
	return a, pool
}

func TestSurveyTellsWhatChanged(t *testing.T) {
	a, pool := newSight(t, 3)
	first := a.Survey(t.Context(), "", 0)
	require.True(t, first.Full)
	require.Len(t, first.Machines, 3)
	same := a.Survey(t.Context(), first.Revision, 0)
	require.Equal(t, first.Revision, same.Revision)
	require.False(t, same.Changed)
	require.Empty(t, same.Machines)

	agenttest.AddFolder(t, pool, "tide-gauge")
	more := a.Survey(t.Context(), first.Revision, 0)
	require.Len(t, more.Machines, 1)
	require.False(t, more.Full)
	require.Equal(t, "tide-gauge", more.Machines[0].Machine.Name)
	require.False(t, more.Machines[0].Registered)

	runs := filepath.Join(pool, "training-0001")
	m, err := a.ReadMachine(runs)
	require.NoError(t, err)
	require.NoError(t, a.Driver.Start(t.Context(), runs, m))
	running := a.Survey(t.Context(), more.Revision, 0)
	require.Len(t, running.Machines, 1)
	require.EqualValues(t, "running", running.Machines[0].State)

	require.NoError(t, os.RemoveAll(filepath.Join(pool, "tide-gauge")))
	require.NoError(t, os.RemoveAll(filepath.Join(pool, "training-0002")))
	less := a.Survey(t.Context(), running.Revision, 0)
	require.Equal(t, []string{filepath.Join(pool, "tide-gauge")}, less.Gone)
	require.Len(t, less.Machines, 1, "a machine that is listed and has no files is hollow, not gone")
	require.False(t, less.Machines[0].FilesThere)
	require.True(t, a.Survey(t.Context(), "another.7", 0).Full, "a revision of another run is not compared")

	// A drive that is pulled out: nothing is gone, everything is away.
	require.NoError(t, os.Rename(pool, pool+"-out"))
	away := a.Survey(t.Context(), less.Revision, 0)
	require.EqualValues(t, "away", away.Pools[0].State)
	require.Empty(t, away.Gone)
	for _, m := range away.Machines {
		require.EqualValues(t, "away", m.State)
	}
}

func BenchmarkSurveyUnchanged1000(b *testing.B) {
	a, _ := newSight(b, 1000)
	revision := a.Survey(b.Context(), "", 0).Revision
	for b.Loop() {
		if a.Survey(b.Context(), revision, 0).Changed {
			b.Fatal("nothing has changed")
		}
	}
}
