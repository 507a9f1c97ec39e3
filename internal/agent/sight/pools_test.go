package sight

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/ground"
)

func TestPoolMarks(t *testing.T) {
	a, pool := newSight(t, 0)
	first := a.Pools()[0]
	require.EqualValues(t, "ready", first.State)
	require.NotEmpty(t, first.ID)
	require.Positive(t, first.FreeBytes)
	require.NoError(t, os.WriteFile(filepath.Join(pool, ground.MarkFile), []byte("not JSON"), 0o644))
	require.EqualValues(t, "away", a.Pools()[0].State, "a mark that can't be read is not written over")
	require.NoError(t, os.Remove(filepath.Join(pool, ground.MarkFile)))
	require.EqualValues(t, "away", a.Pools()[0].State, "another drive is in its place")
	require.Equal(t, first.ID, a.Pools()[0].ID)
}

// TestPoolLabels are kept in the pool's mark, and a pool's speed is measured.
func TestPoolLabels(t *testing.T) {
	a, _ := newSight(t, 0)
	p := a.Pools()[0]
	require.NoError(t, a.Label(p.ID, []string{"fast", "new"}))
	require.Equal(t, []string{"fast", "new"}, a.Pools()[0].Labels)
	require.NoError(t, a.Label(p.ID, nil))
	require.Empty(t, a.Pools()[0].Labels)
	require.Error(t, a.Label("0199", nil))
	require.NoError(t, a.Settle(p.ID))
	require.Zero(t, p.Rate)
	a.measure(t.Context())
	require.Positive(t, a.Pools()[0].Rate)
}
