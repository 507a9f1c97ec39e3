package inventory_test

import (
	"context"
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// brood is a job over several machines, as a service steers it.
type brood struct {
	*testing.T
	inv     *inventory.Inventory
	parent  *inventory.Job
	service uuid.UUID
}

// hatch writes a job whose children have one step each.
func hatch(t *testing.T, inv *inventory.Inventory, hosts map[string]uuid.UUID, steps ...plan.Step) *brood {
	t.Helper()
	b := &brood{t, inv, &inventory.Job{ID: inventory.NewID(), UserName: "robin"}, inventory.NewID()}
	n := inventory.NewJob{Job: b.parent, Request: map[string]string{"operation": "move"}}
	var plans []*plan.Plan
	for i, s := range steps {
		one := &plan.Plan{Operation: "move", Subjects: []string{string(rune('a' + i))}, Steps: []plan.Step{s}}
		one = plan.Together([]*plan.Plan{one})
		one.Steps[0].ID, one.Steps[0].Kind = "s1", s.Do.Kind()
		plans = append(plans, one)
		n.Children = append(n.Children, inventory.NewJob{Job: &inventory.Job{ID: inventory.NewID(), UserName: "robin"},
			Plan: one, Hosts: hosts, Holds: []string{b.parent.ID.String() + one.Subjects[0]},
			Request: map[string]string{"operation": "move", "only": one.Subjects[0]}})
	}
	n.Plan = plan.SideBySide(plans)
	require.NoError(t, inv.InTx(t.Context(), func(tx pgx.Tx) error { return inventory.In(tx).AddJob(t.Context(), n) }))
	beats := inv.NewBeater(b.service)
	require.NoError(t, beats.Beat(t.Context()))
	t.Cleanup(func() {
		require.NoError(t, beats.End(context.WithoutCancel(t.Context())))
		drop(t, inv, b.parent.ID)
	})
	return b
}

// drop leaves nothing for other tests to take up.
func drop(t *testing.T, inv *inventory.Inventory, job uuid.UUID) {
	_, err := inv.Pool.Exec(context.WithoutCancel(t.Context()), `delete from jobs where id = $1`, job)
	require.NoError(t, err)
}

func (b *brood) now() *inventory.Job {
	b.Helper()
	j, err := b.inv.Job(b.Context(), b.parent.ID.String())
	require.NoError(b, err)
	return j
}

// take makes the service the owner of a child; the parent itself is given to nobody.
func (b *brood) take(nth int) *inventory.Job {
	b.Helper()
	require.NoError(b, b.inv.Admit(b.Context(), b.service, 10_000, func(_ pgx.Tx, g inventory.Given) error {
		require.NotEqual(b, b.parent.ID, g.ID)
		return nil
	}))
	j, err := b.inv.Job(b.Context(), b.now().Children.IDs[nth].String())
	require.NoError(b, err)
	j, err = b.inv.TakeJob(b.Context(), j.ID, j.Epoch, b.service)
	require.NoError(b, err)
	require.NotNil(b, j)
	return j
}

// begin tells what the step of a child waits for; "" when it has begun.
func (b *brood) begin(j *inventory.Job) string {
	b.Helper()
	begun, waits, err := b.inv.BeginStep(b.Context(), j.Epoch, &j.Steps[0])
	require.NoError(b, err)
	require.Equal(b, waits == "", begun)
	return waits
}

func (b *brood) finish(j *inventory.Job) {
	b.Helper()
	j.Steps[0].State = inventory.StepDone
	require.NoError(b, b.inv.UpdateStep(b.Context(), j.Epoch, &j.Steps[0]))
	require.NoError(b, b.inv.EndJob(b.Context(), j, inventory.JobDone, "", ""))
}

func (b *brood) fail(j *inventory.Job) {
	b.Helper()
	require.NoError(b, b.inv.FailStep(b.Context(), j, &j.Steps[0], "space.short", "the pool is full", false))
	j.Steps[0].State = inventory.StepUndone
	require.NoError(b, b.inv.UpdateStep(b.Context(), j.Epoch, &j.Steps[0]))
	require.NoError(b, b.inv.EndJob(b.Context(), j, inventory.JobFailed, "space.short", "the pool is full"))
}

// TestChildren: a job over several machines is as its children are; what came to nothing is done anew by others.
func TestChildren(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	step := plan.Step{Do: &plan.GiveIDs{}, Bytes: 100}
	b := hatch(t, inv, nil, step, step, step)
	j := b.now()
	require.Equal(t, inventory.JobWaiting, j.State)
	require.Empty(t, j.Steps, "they are its children's")
	require.Equal(t, 3, j.Parts)
	require.EqualValues(t, 300, j.Children.Total)
	list, err := inv.Jobs(ctx, inventory.JobsPage{Limit: 1000})
	require.NoError(t, err)
	for _, one := range list {
		require.Nil(t, one.Parent, "children are listed with their parent alone")
	}
	list, err = inv.Jobs(ctx, inventory.JobsPage{Parent: &j.ID, Limit: 1000})
	require.NoError(t, err)
	require.Len(t, list, 3)
	require.Equal(t, []string{"c", "b", "a"}, []string{list[0].Subject, list[1].Subject, list[2].Subject})

	_, from, err := inv.EventsAfter(ctx, "", 1)
	require.NoError(t, err)
	b.take(0)
	_, err = inv.Queue(ctx, time.Hour)
	require.NoError(t, err)
	require.Equal(t, inventory.JobWorking, b.now().State, "nobody steers it, and nobody is missing")
	first := b.take(0)
	require.Empty(t, b.begin(first))
	b.finish(first)
	events, _, err := inv.EventsAfter(ctx, from, 1000)
	require.NoError(t, err)
	told := false
	for _, e := range events {
		told = told || e.Subject == first.ID.String() && string(e.Data) != "" &&
			jsonHas(t, e.Data, "parent", j.ID.String())
	}
	require.True(t, told, "who watches the parent is told")
	require.Equal(t, inventory.JobWorking, b.now().State)

	second := b.take(1)
	require.Empty(t, b.begin(second))
	b.fail(second)
	third := b.take(2)
	require.NoError(t, inv.AskHold(ctx, third, "robin"))
	require.NoError(t, inv.HoldNow(ctx, third))
	require.Equal(t, inventory.JobHeld, b.now().State, "nothing goes on but what is held")
	require.NoError(t, inv.AskCancel(ctx, third, "robin"))
	require.Equal(t, inventory.JobWorking, b.now().State)
	third = b.take(2)
	require.NoError(t, inv.EndJob(ctx, third, inventory.JobCancelled, "", ""))
	j = b.now()
	require.Equal(t, inventory.JobPartly, j.State)
	require.True(t, j.Over())
	require.NotNil(t, j.FinishedAt)
	require.Equal(t, map[inventory.JobState]int{"done": 1, "failed": 1, "cancelled": 1}, j.Children.States)

	undone, err := inv.Undone(ctx, j.ID)
	require.NoError(t, err)
	require.Len(t, undone, 2)
	require.JSONEq(t, `{"operation":"move","only":"b"}`, string(undone[0].Request))
	again := func(old inventory.Undone) (taken bool) {
		require.NoError(t, inv.InTx(ctx, func(tx pgx.Tx) (err error) {
			if taken, err = inventory.In(tx).GiveUp(ctx, old.ID); !taken || err != nil {
				return err
			}
			return inventory.In(tx).AddJob(ctx, inventory.NewJob{Plan: &plan.Plan{Operation: "move",
				Steps: []plan.Step{{ID: "s1", Kind: plan.KindGiveIDs, Do: &plan.GiveIDs{}, Bytes: 100}}},
				Job: &inventory.Job{ID: inventory.NewID(), UserName: "robin", Parent: &j.ID, Nth: old.Nth}})
		}))
		return taken
	}
	require.True(t, again(undone[0]))
	require.False(t, again(undone[0]), "another does it already")
	j = b.now()
	require.Equal(t, inventory.JobWorking, j.State, "it goes on")
	require.Nil(t, j.FinishedAt)
	require.Len(t, j.Children.IDs, 4)
	require.EqualValues(t, 300, j.Children.Total, "what was given up counts no more")
	fourth := b.take(2) // in the place of the one that failed
	require.Equal(t, 1, fourth.Nth)
	require.Empty(t, b.begin(fourth))
	b.finish(fourth)
	require.Equal(t, inventory.JobPartly, b.now().State)
	require.True(t, again(undone[1]))
	fifth := b.take(4)
	require.Empty(t, b.begin(fifth))
	b.finish(fifth)
	require.Equal(t, inventory.JobDone, b.now().State)
}

// TestAllFailed: a job none of whose machines came through has failed.
func TestAllFailed(t *testing.T) {
	inv := open(t)
	step := plan.Step{Do: &plan.GiveIDs{}}
	b := hatch(t, inv, nil, step, step)
	for nth := range 2 {
		j := b.take(nth)
		require.Empty(t, b.begin(j))
		b.fail(j)
	}
	require.Equal(t, inventory.JobFailed, b.now().State)
	items := attention(t, inv, inventory.AttentionPage{Cause: inventory.CauseFailedJob})
	found := 0
	for _, i := range items {
		for _, id := range append(b.now().Children.IDs, b.parent.ID) {
			if i.ID == "failed-job:"+id.String() {
				found++
				require.Contains(t, i.Evidence, "2 of 2")
			}
		}
	}
	require.Equal(t, 1, found, "it is told once, for all")
}

// TestRoom: only so many transfers run at a host, and between two hosts; who came first goes first.
func TestRoom(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	a, far, third := addHost(t, inv), addHost(t, inv), addHost(t, inv)
	hosts := map[string]uuid.UUID{a.Name: a.ID, far.Name: far.ID, third.Name: third.ID}
	carry := func(to, from *inventory.Host) plan.Step {
		return plan.Step{Host: to.Name, Do: &plan.Carry{FromHost: from.ID.String()}}
	}
	limits := func(host, link int) {
		_, err := inv.SetLimits(ctx, inventory.Limits{PerHost: host, PerLink: link}, "robin")
		require.NoError(t, err)
	}
	before, err := inv.Limits(ctx)
	require.NoError(t, err)
	require.Equal(t, inventory.Limits{PerHost: 2, PerLink: 2, PerPool: 4, Hours: []string{}}, *before)
	t.Cleanup(func() {
		_, _ = inv.SetLimits(context.WithoutCancel(t.Context()), *before, "robin")
	})
	limits(2, 1)
	b := hatch(t, inv, hosts, carry(a, far), carry(far, a), carry(a, third), carry(a, a), carry(a, far),
		plan.Step{Host: a.Name, Do: &plan.Place{}})
	jobs := make([]*inventory.Job, 6)
	for nth := range jobs {
		jobs[nth] = b.take(nth)
	}
	link := "between " + min(a.Name, far.Name) + " and " + max(a.Name, far.Name)
	require.Empty(t, b.begin(jobs[0]))
	require.Equal(t, "1 of 1 transfers "+link+" are running", b.begin(jobs[1]), "the other way is the same link")
	require.Empty(t, b.begin(jobs[5]), "what is no transfer waits for none")
	require.Contains(t, b.begin(jobs[2]), "1 of 2 transfers at "+a.Name, "one is ahead, and one runs")
	require.Contains(t, b.begin(jobs[3]), "and 2 more come first")
	now := b.now()
	require.Equal(t, 3, now.Children.States[inventory.JobWaiting])
	require.Equal(t, 3, now.Children.States[inventory.JobWorking])
	limits(4, 1)
	require.Empty(t, b.begin(jobs[2]), "there is more room")
	b.finish(jobs[0])
	require.Contains(t, b.begin(jobs[4]), "and one more comes first", "who came first goes first")
	require.Empty(t, b.begin(jobs[1]))
	b.finish(jobs[1])
	require.Empty(t, b.begin(jobs[4]))
	require.Empty(t, b.begin(jobs[3]))
	left, err := inv.Job(ctx, jobs[4].ID.String())
	require.NoError(t, err)
	require.Empty(t, left.WaitsFor)
}

// TestRoomInPools: a pool is read and written by so many at once, from whatever hosts, and by whatever of their disks.
func TestRoomInPools(t *testing.T) {
	inv := open(t)
	a, far := addHost(t, inv), addHost(t, inv)
	share, own := newPool(), newPool()
	own.path = share.path + "-of-its-own"
	for _, h := range []*inventory.Host{a, far} {
		apply(t, inv, h, share, true, nil)
	}
	apply(t, inv, far, own, true, nil)
	hosts := map[string]uuid.UUID{a.Name: a.ID, far.Name: far.ID}
	before, err := inv.Limits(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = inv.SetLimits(context.WithoutCancel(t.Context()), *before, "robin") })
	now, err := inv.SetLimits(t.Context(), inventory.Limits{PerHost: 9, PerPool: 1}, "robin")
	require.NoError(t, err)
	require.Equal(t, inventory.Limits{PerHost: 9, PerLink: before.PerLink, PerPool: 1, Hours: []string{}}, *now)
	b := hatch(t, inv, hosts,
		plan.Step{Host: a.Name, Do: &plan.Carry{Source: "/elsewhere/d", Pool: share.path, File: "d"}},
		plan.Step{Host: far.Name, Do: &plan.Carry{Source: share.path + "/tide-gauge/d", Pool: own.path, File: "d"}},
		plan.Step{Host: far.Name, Do: &plan.Carry{Source: own.path + "/tide-gauge/d", Pool: own.path, File: "d"}},
		plan.Step{Host: far.Name, Do: &plan.Pack{Packing: plan.Packing{File: "/loft/x.ova",
			PackedMachine: plan.PackedMachine{Disks: []plan.PackDisk{{Source: own.path + "/tide-gauge/d"}}}}}})
	jobs := make([]*inventory.Job, 4)
	for nth := range jobs {
		jobs[nth] = b.take(nth)
	}
	require.Empty(t, b.begin(jobs[0]))
	require.Equal(t, "1 of 1 transfers of the pool reef are running", b.begin(jobs[1]), "at any host")
	require.Contains(t, b.begin(jobs[2]), "0 of 1 transfers of the pool reef are running, and one more comes first")
	b.finish(jobs[0])
	require.Empty(t, b.begin(jobs[1]))
	require.Contains(t, b.begin(jobs[3]), "of the pool reef")
	b.finish(jobs[1])
	require.Empty(t, b.begin(jobs[2]))
}

// TestRoomAhead: a machine is not stopped to wait then for the transfers of others; once it is stopped, its job waits
// for none of them between its disks.
func TestRoomAhead(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	h := addHost(t, inv)
	hosts := map[string]uuid.UUID{h.Name: h.ID}
	_, err := inv.SetLimits(ctx, inventory.Limits{PerHost: 1, PerLink: 1}, "robin")
	require.NoError(t, err)
	t.Cleanup(func() {
		_, _ = inv.SetLimits(context.WithoutCancel(t.Context()), inventory.Limits{PerHost: 2, PerLink: 2}, "robin")
	})
	at := func(do plan.Params) plan.Step { return plan.Step{Host: h.Name, Do: do} }
	moving := []plan.Step{at(&plan.Stop{}), at(&plan.Carry{Disk: "disk1"}), at(&plan.Carry{Disk: "disk2"}),
		at(&plan.Place{})}
	service := inventory.NewID()
	begun := func() *inventory.Job {
		p := plan.Together([]*plan.Plan{{Operation: "move", Steps: moving}, {Operation: "move"}})
		j := &inventory.Job{ID: inventory.NewID(), UserName: "robin"}
		require.NoError(t, inv.InTx(ctx, func(tx pgx.Tx) error {
			return inventory.In(tx).AddJob(ctx, inventory.NewJob{Job: j, Plan: p, Hosts: hosts})
		}))
		t.Cleanup(func() { drop(t, inv, j.ID) })
		require.NoError(t, inv.Admit(ctx, service, 10_000, func(pgx.Tx, inventory.Given) error { return nil }))
		now, err := inv.Job(ctx, j.ID.String())
		require.NoError(t, err)
		now, err = inv.TakeJob(ctx, j.ID, now.Epoch, service)
		require.NoError(t, err)
		require.Equal(t, plan.KindStop, now.Steps[0].Kind)
		return now
	}
	begin := func(j *inventory.Job, step int) (waits string) {
		_, waits, err := inv.BeginStep(ctx, j.Epoch, &j.Steps[step])
		require.NoError(t, err)
		return waits
	}
	done := func(j *inventory.Job, step int) {
		j.Steps[step].State = inventory.StepDone
		require.NoError(t, inv.UpdateStep(ctx, j.Epoch, &j.Steps[step]))
	}
	one, two := begun(), begun()
	require.Empty(t, begin(one, 0))
	require.Contains(t, begin(two, 0), "1 of 1 transfers at "+h.Name, "it is not stopped")
	now, err := inv.Job(ctx, two.ID.String())
	require.NoError(t, err)
	require.Equal(t, inventory.StepWaiting, now.Steps[0].State)
	require.Equal(t, inventory.JobWaiting, now.Shown())
	for state, there := range map[inventory.JobState]bool{inventory.JobWaiting: true, inventory.JobWorking: false} {
		list, err := inv.Jobs(ctx, inventory.JobsPage{State: state, Limit: 1000})
		require.NoError(t, err)
		require.Equal(t, there, slices.ContainsFunc(list, func(j inventory.Job) bool { return j.ID == two.ID }), state)
	}
	for step := range 3 {
		done(one, step)
		if step < 2 {
			require.NotEmpty(t, begin(two, 0), "between its disks nobody comes first")
		}
		require.Empty(t, begin(one, step+1))
	}
	require.Empty(t, begin(two, 0), "what comes after the last disk keeps nobody")
}

// TestHeldChildren: a job that only waits for children that could not go on says why, with the first of them.
func TestHeldChildren(t *testing.T) {
	inv := open(t)
	step := plan.Step{Do: &plan.GiveIDs{}}
	b := hatch(t, inv, nil, step, step)
	j := b.take(0)
	require.Empty(t, b.begin(j))
	b.finish(j)
	j = b.take(1)
	require.NoError(t, inv.HoldStuck(t.Context(), j, "manager.rights", "mainland refuses"))
	now := b.now()
	require.Equal(t, inventory.JobHeld, now.State)
	require.Equal(t, "manager.rights", now.Children.HeldCode)
	require.Equal(t, "mainland refuses", now.Children.HeldFor)
}

// TestStartAt: a job begins no sooner than it is to.
func TestStartAt(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	begins := func(at time.Time, cancel bool) bool {
		j := &inventory.Job{ID: inventory.NewID(), UserName: "robin", StartAt: &at}
		require.NoError(t, inv.InTx(ctx, func(tx pgx.Tx) error {
			return inventory.In(tx).AddJob(ctx, inventory.NewJob{Job: j, Plan: &plan.Plan{Operation: "start"}})
		}))
		t.Cleanup(func() { drop(t, inv, j.ID) })
		if cancel {
			require.NoError(t, inv.AskCancel(ctx, j, "robin"))
		}
		begun := false
		require.NoError(t, inv.Admit(ctx, inventory.NewID(), 10_000, func(_ pgx.Tx, g inventory.Given) error {
			begun = begun || g.ID == j.ID
			return nil
		}))
		return begun
	}
	require.False(t, begins(time.Now().Add(time.Hour), false))
	require.True(t, begins(time.Now().Add(time.Hour), true), "to be undone it need not wait")
	require.True(t, begins(time.Now().Add(-time.Second), false))
}

func jsonHas(t *testing.T, raw json.RawMessage, key, value string) bool {
	t.Helper()
	fields := map[string]any{}
	require.NoError(t, json.Unmarshal(raw, &fields))
	return fields[key] == value
}

// TestLocksOfTriggers: what the database does by itself locks rows so that others may still refer to them.
func TestLocksOfTriggers(t *testing.T) {
	inv := open(t)
	var strong []string
	require.NoError(t, inv.Pool.QueryRow(t.Context(), `select coalesce(array_agg(proname), '{}') from pg_proc
		where pronamespace = 'public'::regnamespace and prosrc ~* '\mfor update\M'`).Scan(&strong))
	require.Empty(t, strong)
	var weak int
	require.NoError(t, inv.Pool.QueryRow(t.Context(), `select count(*) from pg_proc
		where pronamespace = 'public'::regnamespace and prosrc ~* '\mfor no key update\M'`).Scan(&weak))
	require.Positive(t, weak)
}
