package sight

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

// TestSurveyWhen answers as soon as a folder appears, and not before.
func TestSurveyWhen(t *testing.T) {
	a, pool := newSight(t, 0)
	require.NotNil(t, a.watch.watcher, "inotify is there")
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	a.watch.follow()
	go a.watch.run(ctx)
	first := a.Survey(t.Context(), "", 0)
	require.False(t, a.Survey(ctx, first.Revision, 300*time.Millisecond).Changed)
	require.True(t, a.Survey(ctx, "", wait.Bound).Full, "who knows nothing does not wait")

	told := make(chan *hostlink.Survey)
	go func() { told <- a.Survey(ctx, first.Revision, wait.Bound) }()
	time.Sleep(100 * time.Millisecond)
	agenttest.Lying(t, pool, "tide-gauge")
	var s *hostlink.Survey
	select {
	case s = <-told:
	case <-time.After(wait.Bound / 2):
		t.Fatal("nobody noticed")
	}
	require.True(t, s.Changed)

	// In a folder that came later, too.
	s = a.Survey(t.Context(), "", 0)
	go func() { told <- a.Survey(ctx, s.Revision, wait.Bound) }()
	wait.Until(t, func() bool {
		a.watch.mu.Lock()
		defer a.watch.mu.Unlock()
		return a.watch.seen[filepath.Join(pool, "tide-gauge")]
	})
	require.NoError(t, os.Remove(filepath.Join(pool, "tide-gauge", "d.qcow2")))
	select {
	case s = <-told:
		require.True(t, s.Changed)
	case <-time.After(wait.Bound / 2):
		t.Fatal("nobody noticed")
	}
	require.NoError(t, os.RemoveAll(filepath.Join(pool, "tide-gauge")))
	wait.Until(t, func() bool {
		a.watch.mu.Lock()
		defer a.watch.mu.Unlock()
		return !a.watch.seen[filepath.Join(pool, "tide-gauge")]
	})
}

// TestMatters: what running machines and jobs write all the time wakes nobody.
func TestMatters(t *testing.T) {
	for _, c := range []struct {
		name string
		op   fsnotify.Op
		want bool
	}{
		{"disk.qcow2", fsnotify.Write, false}, {"disk.qcow2", fsnotify.Create, true},
		{"disk.qcow2", fsnotify.Remove, true},
		{"tide-gauge.ovf", fsnotify.Write, true}, {"tide-gauge.ova", fsnotify.Write, true},
		{"tide-gauge", fsnotify.Rename, true}, {ground.WorkDir, fsnotify.Create, false},
		{ground.MarkFile + ".rate", fsnotify.Create, false}, {"notes.txt", fsnotify.Chmod, false},
	} {
		require.Equal(t, c.want, matters(fsnotify.Event{Name: "/pool/" + c.name, Op: c.op}), "%v", c)
	}
}
