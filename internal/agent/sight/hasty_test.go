package sight

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/wait"
)

// still is a driver that stands still where one machine is concerned.
type still struct {
	driver.Driver
	folder string
	asked  atomic.Int32
	let    chan struct{}
}

func (s *still) State(ctx context.Context, folder string) (driver.Standing, error) {
	if folder == s.folder {
		s.asked.Add(1)
		<-s.let
	}
	return s.Driver.State(ctx, folder)
}

// TestStill: a folder that stands still holds up nothing but itself: the survey names
// it, tells the others, and keeps what was known of it.
func TestStill(t *testing.T) {
	a, pool := newSight(t, 3)
	first := a.Survey(t.Context(), "", 0)
	require.Len(t, first.Machines, 3)
	require.Empty(t, first.Unread)

	stuck := filepath.Join(pool, "training-0001")
	s := &still{Driver: a.Driver, folder: stuck, let: make(chan struct{})}
	a.Driver, a.sweep.hasty.most = s, time.Second
	agenttest.AddFolder(t, pool, "training-0009")
	second := a.Survey(t.Context(), first.Revision, 0)
	require.Equal(t, []string{stuck}, second.Unread)
	require.Len(t, second.Machines, 1)
	require.Equal(t, filepath.Join(pool, "training-0009"), second.Machines[0].Path)
	require.Empty(t, second.Gone, "what can't be read is not gone")
	require.NotNil(t, a.sweep.folders[stuck].Machine)

	began := time.Now()
	third := a.Survey(t.Context(), second.Revision, 0)
	require.Empty(t, third.Machines)
	require.Equal(t, int32(1), s.asked.Load(), "it is not asked again while it stands still")
	require.Less(t, time.Since(began), time.Minute)

	anew := New(a.Ground) // started again, it has never read that folder: whoever asks for all is told so
	anew.sweep.hasty.most = time.Second
	all := anew.Survey(t.Context(), "", 0)
	require.True(t, all.Full)
	require.Len(t, all.Machines, 3)
	require.Equal(t, []string{stuck}, all.Unread)

	close(s.let)
	wait.Until(t, func() bool {
		now := a.Survey(t.Context(), third.Revision, 0)
		return now.Changed && !slices.Contains(now.Unread, stuck)
	})
}

// TestUnreadable: of a directory that can't be read nobody says that nothing is in it.
func TestUnreadable(t *testing.T) {
	a, _ := newSight(t, 1)
	shelf := a.Config.Shelves[0].Path
	require.NoError(t, os.WriteFile(filepath.Join(shelf, "tide-gauge.ova"), []byte("not one"), 0o644))
	first := a.Survey(t.Context(), "", 0)
	require.Len(t, first.Packages, 1)

	require.NoError(t, os.Rename(shelf, shelf+"-aside"))
	require.NoError(t, os.WriteFile(shelf, nil, 0o644)) // reading it as a directory fails
	second := a.Survey(t.Context(), first.Revision, 0)
	require.Equal(t, []string{shelf}, second.Unread)
	require.Empty(t, second.Gone)

	require.NoError(t, os.Remove(shelf)) // and of none, that nothing is there
	third := a.Survey(t.Context(), second.Revision, 0)
	require.Empty(t, third.Unread)
	require.Equal(t, []string{filepath.Join(shelf, "tide-gauge.ova")}, third.Gone)
}

// TestStillEverywhere: where everything stands still, a survey ends all the same.
func TestStillEverywhere(t *testing.T) {
	h := &hasty{most: 20 * time.Millisecond}
	h.begin()
	defer h.finish()
	h.left = 100 * time.Millisecond
	let := make(chan struct{})
	defer close(let)
	began := time.Now()
	for n := range 1000 {
		_, ok := hastily(h, filepath.Join("/reef", string(rune('a'+n))), func() int { <-let; return 1 })
		require.False(t, ok)
	}
	require.Less(t, time.Since(began), time.Minute)
	require.Len(t, h.givenUp(), 1000)
	require.LessOrEqual(t, len(h.busy), 5, "nothing more is begun when the time is over")
}

// TestHastyAgain: one reading follows the other at once.
func TestHastyAgain(t *testing.T) {
	h := &hasty{most: time.Minute}
	h.begin()
	defer h.finish()
	for range 20_000 {
		_, ok := hastily(h, "/reef", func() int { return 1 })
		require.True(t, ok)
	}
	require.Empty(t, h.givenUp())
}
