package steer_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/wait"
)

// TestCancel: a job that is cancelled is undone, and has not failed.
func TestCancel(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s2"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j := b.job(mend, delist)
	_, err := b.tick(j)
	require.NoError(t, err)
	_, err = b.s.Cancel(b.ctx, j.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "cancelled: undone undone", states(b.now(j)))
	require.Equal(t, []string{"start s1", "start s2", "undo s2", "undo s1", "forget all"}, b.agent.says())
}

// TestReadAnew: a host that is as it was before a job that was undone has nothing new to tell, but the records may be
// as the job had left them. So all is read anew; and what was asked for before that does not count.
func TestReadAnew(t *testing.T) {
	b := newBench(t)
	now := func() *inventory.Host {
		h, err := b.inv.Host(b.ctx, b.host.String())
		require.NoError(t, err)
		return h
	}
	h, same := now(), &hostlink.Survey{Revision: "boot.7", Changed: true}
	_, err := b.inv.Apply(b.ctx, h, same)
	require.NoError(t, err)
	require.Equal(t, "boot.7", now().Revision)

	j := b.job(mend)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "boot.7", now().Revision, "what a job has done is told")

	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j = b.job(mend)
	_, err = b.tick(j)
	require.NoError(t, err)
	_, err = b.s.Cancel(b.ctx, j.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, inventory.JobCancelled, b.now(j).State)
	require.NotEqual(t, "boot.7", now().Revision)
	_, err = b.inv.Apply(b.ctx, h, same)
	require.ErrorIs(t, err, inventory.ErrOvertaken)
	_, err = b.inv.Apply(b.ctx, now(), same)
	require.NoError(t, err)
}

// TestLookedAtAgain: a host is asked what it holds behind the end of a job that it took part in, however that ended.
func TestLookedAtAgain(t *testing.T) {
	b := newBench(t)
	looked := func() {
		t.Helper()
		select {
		case name := <-b.looked:
			require.Equal(t, "gannet", name)
		case <-time.After(wait.Bound):
			t.Fatal("nobody has looked")
		}
	}
	j := b.job(mend)
	_, err := b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "done: done", states(b.now(j)))
	looked()

	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j = b.job(mend)
	_, err = b.tick(j)
	require.NoError(t, err)
	_, err = b.s.Cancel(b.ctx, j.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "cancelled: undone", states(b.now(j)))
	looked()
}

// TestCancelAtTheEnd: once the agents are told to forget a job, it can't be cancelled any more: nothing would be taken
// back. One that is cancelled before is undone by agents that know it.
func TestCancelAtTheEnd(t *testing.T) {
	b := newBench(t)
	j := b.job(mend, delist)
	var refused error
	b.agent.upon = map[string]func(){"forget all": func() { _, refused = b.s.Cancel(b.ctx, j.ID.String(), "robin") }}
	_, err := b.tick(j)
	require.NoError(t, err)
	require.ErrorContains(t, refused, "past its point of no return")
	require.Equal(t, "done: done done", states(b.now(j)))
	require.NotContains(t, b.agent.says(), "undo s2")

	b = newBench(t)
	j = b.job(mend, delist)
	b.agent.upon = map[string]func(){"start s2": func() {
		_, err := b.s.Cancel(b.ctx, j.ID.String(), "robin")
		require.NoError(t, err)
	}}
	for range 3 { // the first hears of it at the end
		_, _ = b.tick(j)
	}
	require.Equal(t, "cancelled: undone undone", states(b.now(j)))
	require.Equal(t, []string{"start s1", "start s2", "undo s2", "undo s1", "forget all"}, b.agent.says())
}
