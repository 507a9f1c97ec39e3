package steer_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/internal/work/draw"
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

// cancelled is a job that somebody has cancelled while its one task ran.
func (b *bench) cancelled() *inventory.Job {
	b.Helper()
	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j := b.job(mend)
	_, err := b.tick(j)
	require.NoError(b, err)
	_, err = b.s.Cancel(b.ctx, j.ID.String(), "robin")
	require.NoError(b, err)
	_, err = b.tick(j)
	require.NoError(b, err)
	return j
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

	j = b.cancelled()
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

	j = b.cancelled()
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

// TestManagersLookedAtFirst: what was made at a manager is known only once the manager is looked at, so that is done
// before a job's end is told; once for all of its hosts.
func TestManagersLookedAtFirst(t *testing.T) {
	b := newBench(t)
	m := &inventory.Manager{ID: inventory.NewID(), Name: "mainland", Kind: inventory.ManagerCIMI, Address: "https://m"}
	require.NoError(t, b.inv.AddManager(b.ctx, m, "robin"))
	hosts := map[string]uuid.UUID{}
	p := &plan.Plan{Operation: "change"}
	for i, name := range []string{"alcid", "auk"} {
		h, err := b.inv.ManagedHost(b.ctx, m, name, &hostlink.Hello{Family: "slate", Driver: "cimi"})
		require.NoError(t, err)
		hosts[h.Name] = h.ID
		p.Steps = append(p.Steps, plan.Step{ID: fmt.Sprint("s", i+1), Kind: plan.KindNoteAhead, Host: h.Name,
			Do: &plan.NoteAhead{Copy: inventory.NewID().String()}})
	}
	j := &inventory.Job{ID: inventory.NewID(), UserName: "robin"}
	require.NoError(t, b.inv.InTx(b.ctx, func(tx pgx.Tx) error {
		return inventory.In(tx).AddJob(b.ctx, inventory.NewJob{Job: j, Plan: p, Hosts: hosts})
	}))
	require.NoError(t, b.s.LookForJobs(b.ctx))
	_, err := b.tick(b.now(j))
	require.NoError(t, err)
	require.Equal(t, "done: done done", states(b.now(j)))
	require.Equal(t, []int{1}, b.before)
	b.s.Settled()
	require.Len(t, b.looked, 1, "and not once more")
}

// TestLooksTogether: while a host is looked at, any number of jobs may end there: it is looked at once more for all.
func TestLooksTogether(t *testing.T) {
	b := newBench(t)
	b.gate = make(chan struct{})
	for range 5 {
		j := b.job(mend)
		_, err := b.tick(j)
		require.NoError(t, err)
		require.Equal(t, "done: done", states(b.now(j)))
	}
	close(b.gate)
	b.s.Settled()
	require.Len(t, b.looked, 2)
	j := b.job(mend)
	_, err := b.tick(j)
	require.NoError(t, err)
	b.s.Settled()
	require.Len(t, b.looked, 3)
}

// TestSlowAtOnce: times of the day at which transfers are slower hold for the next look at one that runs already, and
// so does their end.
func TestSlowAtOnce(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j := b.job(plan.Carry{Disk: "disk1", Source: "/reef/a/d.qcow2", Pool: "/reef", File: "b.qcow2", Format: "qcow2"})
	for _, c := range []struct {
		hours []string
		rate  int64
	}{{[]string{}, 0}, {[]string{"00:00-23:59=7B", "23:59-00:00=7B"}, 7}, {[]string{}, 0}} {
		_, err := b.inv.SetLimits(b.ctx, inventory.Limits{Hours: c.hours}, "robin")
		require.NoError(t, err)
		_, err = b.tick(j)
		require.NoError(t, err)
		require.EqualValues(t, c.rate, b.agent.specs["s1"].Rate, c.hours)
	}
}

// TestTransfersWait: a transfer for which there is no room is not asked for at its agent; it says what it waits for,
// and begins when one has ended.
func TestTransfersWait(t *testing.T) {
	b := newBench(t)
	_, err := b.inv.SetLimits(b.ctx, inventory.Limits{PerHost: 1, PerLink: 1}, "robin")
	require.NoError(t, err)
	running := hostlink.Task{State: hostlink.TaskRunning}
	b.agent.tasks["s2"] = []hostlink.Task{running, running, {State: hostlink.TaskDone}}
	carry := plan.Carry{Disk: "disk1", Source: "/reef/a/d.qcow2", Pool: "/reef", File: "b.qcow2", Format: "qcow2"}
	first, second := b.job(mend, carry), b.job(carry)
	waits, err := b.tick(first)
	require.NoError(t, err)
	require.True(t, waits)
	require.Equal(t, "working: done working", states(b.now(first)))

	_, until, err := b.s.Tick(b.ctx, second.ID, second.Epoch)
	require.NoError(t, err)
	require.NotNil(t, until)
	require.Equal(t, "1 of 1 transfers at gannet are running", b.now(second).WaitsFor)
	require.Equal(t, "working: waiting", states(b.now(second)))
	require.Equal(t, []string{"start s1", "start s2"}, b.agent.says(), "nothing of it is asked for")
	over := make(chan struct{})
	go func() {
		until(b.ctx)
		close(over)
	}()

	_, err = b.tick(first)
	require.NoError(t, err)
	require.Equal(t, "done: done done", states(b.now(first)))
	select {
	case <-over:
	case <-time.After(wait.Bound):
		t.Fatal("it was not told")
	}
	_, err = b.tick(second)
	require.NoError(t, err)
	require.Equal(t, "done: done", states(b.now(second)))
	require.Empty(t, b.now(second).WaitsFor)
}

// TestAsksChildren: what is asked of a job over several machines is asked of each that is not over; the rate too.
func TestAsksChildren(t *testing.T) {
	b := newBench(t)
	parent := &inventory.Job{ID: inventory.NewID(), UserName: "robin"}
	one := &plan.Plan{Operation: "change", Steps: []plan.Step{{ID: "s1", Kind: plan.KindMend, Host: "gannet",
		Do: mend}}}
	n := inventory.NewJob{Job: parent, Plan: plan.SideBySide([]*plan.Plan{one, one, one})}
	for range 3 {
		n.Children = append(n.Children, inventory.NewJob{Plan: one, Hosts: map[string]uuid.UUID{"gannet": b.host},
			Job: &inventory.Job{ID: inventory.NewID(), UserName: "robin", Rate: 1 << 20}})
	}
	require.NoError(t, b.inv.InTx(b.ctx, func(tx pgx.Tx) error { return inventory.In(tx).AddJob(b.ctx, n) }))
	require.NoError(t, b.s.LookForJobs(b.ctx))
	child := func(n int) *inventory.Job {
		j, err := b.inv.Job(b.ctx, b.now(parent).Children.IDs[n].String())
		require.NoError(t, err)
		return j
	}
	_, err := b.tick(child(0))
	require.NoError(t, err)
	require.EqualValues(t, 1<<20, b.agent.specs["s1"].Rate)
	_, err = b.s.Hold(b.ctx, parent.ID.String(), "robin")
	require.NoError(t, err)
	for n := range 2 {
		_, err = b.tick(child(n + 1))
		require.NoError(t, err)
	}
	require.Equal(t, inventory.JobHeld, b.now(parent).State)
	require.Equal(t, map[inventory.JobState]int{"done": 1, "held": 2}, b.now(parent).Children.States)
	_, err = b.s.Rate(b.ctx, parent.ID.String(), "robin", 5)
	require.NoError(t, err)
	_, err = b.s.Resume(b.ctx, parent.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.s.Cancel(b.ctx, child(2).ID.String(), "robin")
	require.NoError(t, err)
	require.NoError(t, b.s.LookForJobs(b.ctx))
	for n := range 2 {
		_, err = b.tick(child(n + 1))
		require.NoError(t, err)
	}
	require.EqualValues(t, 5, b.agent.specs["s1"].Rate)
	require.Equal(t, inventory.JobPartly, b.now(parent).State)
	type asked = func(context.Context, string, string) (*inventory.Job, error)
	for _, ask := range []asked{b.s.Hold, b.s.Resume, b.s.Cancel} {
		_, err = ask(b.ctx, parent.ID.String(), "robin")
		require.ErrorContains(t, err, "is partly already")
	}
}

// TestTooMany: where a filter tells more machines than one request may be about, nothing is done to some of them alone,
// also when many of those that come first are as they are to be.
func TestTooMany(t *testing.T) {
	e := newSmallEstate(t)
	_, err := e.inv.Pool.Exec(e.ctx, `do $$ begin execute (select format('insert into copies (%1$s) select %1$s from (
		select (jsonb_populate_record(c, jsonb_build_object(''id'', gen_random_uuid(), ''name'', ''many-'' || n,
		''path'', c.path || n, ''rel'', c.rel || n, ''state'', ''running''))).*
		from copies c, generate_series(1, 501) n where c.name = ''tide-gauge'' and c.form = ''registered'') x',
		string_agg(column_name, ', ')) from information_schema.columns where table_name = 'copies'
		and is_generated = 'NEVER'); end $$`)
	require.NoError(t, err)
	start := draw.Named(&draw.Start{Many: draw.Many{Where: "name~many-*"}})
	_, err = e.w.Plan(e.ctx, start)
	require.ErrorContains(t, err, "More than 500 copies fit")
	_, err = e.inv.Pool.Exec(e.ctx, `delete from copies where name = 'many-1'`)
	require.NoError(t, err)
	_, err = e.w.Plan(e.ctx, start)
	require.ErrorContains(t, err, "all that do are as they are to be")
}
