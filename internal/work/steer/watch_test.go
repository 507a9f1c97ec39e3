package steer_test

import (
	"context"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/wait"
)

// TestDatabaseAway: a tick that could not be queued is known to be lost at once, so that the job goes on as soon as the
// database is back.
func TestDatabaseAway(t *testing.T) {
	b := newBench(t)
	j := b.job(mend)
	b.s.Later(j.ID, j.Epoch)
	b.s.Settled()
	require.False(t, b.s.Lost(j.ID))
	b.inv.Close()
	b.s.Later(j.ID, j.Epoch)
	b.s.Settled()
	require.True(t, b.s.Lost(j.ID))
	require.Contains(t, b.log.String(), "queue job")
}

// TestLostTicks: every job of which nobody knows a tick gets one.
func TestLostTicks(t *testing.T) {
	b := newBench(t)
	jobs := []*inventory.Job{b.job(mend), b.job(delist), b.job(useAhead)}
	b.s.Afresh()
	for _, j := range jobs {
		require.True(t, b.s.Lost(j.ID))
	}
	require.NoError(t, b.s.LookForJobs(b.ctx))
	for _, j := range jobs {
		require.False(t, b.s.Lost(j.ID))
	}
}

// TestSaysThatTheDatabaseIsAway: the service says so, unless it is about to end anyway.
func TestSaysThatTheDatabaseIsAway(t *testing.T) {
	b := newBench(t)
	over, stop := context.WithCancel(b.ctx)
	stop()
	for _, watch := range b.s.Watches() {
		watch(over)
	}
	require.Empty(t, b.log.String())
	b.inv.Close()
	alive, stop := context.WithCancel(b.ctx)
	var all sync.WaitGroup
	for _, watch := range b.s.Watches() {
		all.Go(func() { watch(alive) })
	}
	wait.Until(t, func() bool { return strings.Contains(b.log.String(), "look for jobs without an owner") })
	stop()
	all.Wait()
}
