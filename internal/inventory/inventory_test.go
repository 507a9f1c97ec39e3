package inventory_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/inventory/pgtest"
	"unvora.example/unvora/internal/wait"
)

var database string

func TestMain(m *testing.M) { pgtest.Main(m, &database) }

func open(t *testing.T) *inventory.Inventory {
	t.Helper()
	inv, err := inventory.Open(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(inv.Close)
	return inv
}

var hosts int

func addHost(t *testing.T, inv *inventory.Inventory) *inventory.Host {
	t.Helper()
	hosts++
	name := fmt.Sprintf("host-%s-%d", t.Name()[4:], hosts)
	id := inventory.NewID()
	require.NoError(t, inv.AddHost(t.Context(), id, "127.0.0.1:1",
		&hostlink.Hello{Name: name, Family: "slate", Driver: "standin", Site: "Northhead", CPUs: 4,
			MemoryBytes: 1 << 30},
		"test"))
	h, err := inv.Host(t.Context(), name)
	require.NoError(t, err)
	return h
}

type poolAt struct{ id, path string }

func (p poolAt) folder(name, uuid string, registered bool) hostlink.Folder {
	return hostlink.Folder{Path: p.path + "/" + name, Pool: p.id, Registered: registered, FilesThere: true,
		PoolThere: true, State: "stopped",
		Machine: &machine.Machine{Name: name, UUID: uuid, NICs: []machine.NIC{{Name: "NIC 1",
			MAC: "06:5c:00:00:00:01"}}}}
}

func apply(t *testing.T, inv *inventory.Inventory, h *inventory.Host, p poolAt, full bool, gone []string,
	folders ...hostlink.Folder) []inventory.Change {
	t.Helper()
	changes, err := inv.Apply(t.Context(), h, &hostlink.Survey{Revision: "r", Full: full, Changed: true, Gone: gone,
		Machines: folders,
		Hello:    &hostlink.Hello{Family: "slate", Driver: "standin", CPUs: 4},
		Switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}},
		Pools: []hostlink.Pool{{ID: p.id, Name: "reef", Path: p.path, State: "ready", TotalBytes: 10,
			FreeBytes: 5}}})
	require.NoError(t, err)
	return changes
}

func wantCode(t *testing.T, err error, code inventory.Code) {
	t.Helper()
	var e *inventory.Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, code, e.Code, e.Message)
}

// TestShare: one pool at two hosts, under two paths, is one pool; the host that
// lists a folder speaks for it.
func TestShare(t *testing.T) {
	inv := open(t)
	a, b := addHost(t, inv), addHost(t, inv)
	id := uuid.NewString()
	here, there := poolAt{id, "/mnt/a"}, poolAt{id, "/mnt/b"}
	apply(t, inv, a, here, true, nil, here.folder("shared", uuid.NewString(), true))
	c, err := inv.Copy(t.Context(), a.Name+"/shared")
	require.NoError(t, err)
	seen := there.folder("shared", c.UUID, false)
	require.Empty(t, apply(t, inv, b, there, true, nil, seen))
	c2, err := inv.CopyByID(t.Context(), c.ID.String())
	require.NoError(t, err)
	require.Equal(t, a.Name, c2.Host)
	require.Equal(t, lineage.Registered, c2.Form)
	pools, err := inv.Pools(t.Context(), inventory.Page{Filter: "host=" + b.Name})
	require.NoError(t, err)
	require.Equal(t, []string{a.Name, b.Name}, pools.Items[0].Hosts)
	_, err = inv.Copy(t.Context(), b.Name+"/shared")
	wantCode(t, err, "unknown")

	// The other says that it lists it too; what else it can't read is its own affair.
	seen.Contested, seen.Problem = true, a.Name+" lists it too"
	apply(t, inv, b, there, true, nil, seen)
	items := waiting(t, inv, inventory.CauseListedTwice, "shared")
	require.Len(t, items, 1)
	require.Contains(t, items[0].Recommended, "unvora move "+a.Name+"/shared --host "+b.Name)
	seen.Contested, seen.Problem = false, "no right to read it"
	apply(t, inv, b, there, true, nil, seen)
	require.Empty(t, waiting(t, inv, inventory.CauseListedTwice, "shared"))
}

// TestComingAndGoing: what goes is marked, what comes back is the same copy.
func TestComingAndGoing(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := poolAt{uuid.NewString(), "/srv/reef"}
	one, two := p.folder("goes", uuid.NewString(), true), p.folder("stays", uuid.NewString(), true)
	require.Len(t, apply(t, inv, h, p, true, nil, one, two), 2)
	require.Empty(t, apply(t, inv, h, p, true, nil, one, two), "the second look finds nothing new")
	before, err := inv.Copy(t.Context(), h.Name+"/goes")
	require.NoError(t, err)
	require.Equal(t, "gone", apply(t, inv, h, p, false, []string{one.Path})[0].What)
	_, err = inv.Copy(t.Context(), h.Name+"/goes")
	wantCode(t, err, "unknown")
	require.Equal(t, "back", apply(t, inv, h, p, true, nil, one, two)[0].What)
	after, err := inv.Copy(t.Context(), h.Name+"/goes")
	require.NoError(t, err)
	require.Equal(t, before.ID, after.ID)
	hollow := one
	hollow.FilesThere = false
	require.Contains(t, apply(t, inv, h, p, false, nil, hollow)[0].Text, "is hollow")
	holders, err := inv.HoldersOfMAC(t.Context(), "06:5c:00:00:00:01")
	require.NoError(t, err)
	require.NotEmpty(t, holders)
	taken, err := inv.NamesTaken(t.Context(), h.ID, uuid.MustParse(p.id), uuid.Nil, []string{"STAYS", "go", ""})
	require.NoError(t, err)
	require.Equal(t, []string{"stays"}, taken, "names that differ by case only collide; one that only begins alike "+
		"does "+
		"not")
}

// TestGivenOnce: whoever asks at the same time gets something else, and never
// what was seen in the field.
func TestGivenOnce(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	prefix, err := inv.MACPrefix(t.Context(), "Northhead")
	require.NoError(t, err)
	p := poolAt{uuid.NewString(), "/srv/given"}
	f := p.folder("squatter", uuid.NewString(), true)
	for n := range 5 { // somebody uses addresses of the range
		f.Machine.NICs = append(f.Machine.NICs, machine.NIC{Name: fmt.Sprint(n),
			MAC: fmt.Sprintf("%s:00:00:%02x", prefix, n+3)})
	}
	apply(t, inv, h, p, true, nil, f)
	var mu sync.Mutex
	given := map[string]bool{}
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 5 {
				err := inv.InTx(context.Background(), func(tx pgx.Tx) error {
					g := &inventory.Giver{Ctx: context.Background(), Tx: tx, Job: uuid.New(), Prefix: prefix}
					mac, err := g.MAC()
					if err != nil {
						return err
					}
					id, err := g.UUID()
					mu.Lock()
					defer mu.Unlock()
					if given[mac] || given[id] {
						t.Errorf("%s or %s given twice", mac, id)
					}
					given[mac], given[id] = true, true
					return err
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	for _, n := range f.Machine.NICs {
		require.False(t, given[n.MAC], "%s is in use", n.MAC)
	}
	require.Len(t, given, 80)
}

func addJob(t *testing.T, inv *inventory.Inventory, holds ...string) (*inventory.Job, error) {
	t.Helper()
	j := &inventory.Job{ID: inventory.NewID(), UserName: "robin"}
	return j, inv.InTx(t.Context(), func(tx pgx.Tx) error {
		return inventory.In(tx).AddJob(t.Context(), inventory.NewJob{Job: j, Holds: holds,
			Plan: &plan.Plan{Operation: "export", Subjects: []string{"x"},
				Steps: []plan.Step{{ID: "s1", Kind: plan.KindGiveIDs, Do: &plan.GiveIDs{}},
					{ID: "s2", Kind: plan.KindRecord, Do: &plan.Record{}}}}})
	})
}

// TestOwners: a job has one owner at a time; one that is silent is replaced,
// and what it still writes is refused.
func TestOwners(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	j, err := addJob(t, inv, "copy:a")
	require.NoError(t, err)
	_, err = addJob(t, inv, "copy:b", "copy:a")
	wantCode(t, err, "busy")
	require.ErrorContains(t, err, j.ID.String())
	holder, err := inv.Holder(ctx, "copy:b")
	require.NoError(t, err)
	require.Empty(t, holder, "the refused job holds nothing")

	first, second := inventory.NewID(), inventory.NewID() // services
	admit := func(service uuid.UUID, most int) (got []inventory.Given) {
		require.NoError(t, inv.Admit(ctx, service, most, func(_ pgx.Tx,
			g inventory.Given) error {
			got = append(got, g)
			return nil
		}))
		return got
	}
	beats := inv.NewBeater(first)
	require.NoError(t, beats.Beat(ctx))
	require.Empty(t, admit(first, 0), "it steers as many as it may")
	require.Equal(t, []inventory.Given{{ID: j.ID, Epoch: 2}}, admit(first, 1))
	require.Empty(t, admit(second, 1), "it has an owner")
	old, err := inv.TakeJob(ctx, j.ID, 2, first)
	require.NoError(t, err)
	require.EqualValues(t, "working", old.State)
	begun, _, err := inv.BeginStep(ctx, old.Epoch, &old.Steps[0])
	require.NoError(t, err)
	require.True(t, begun)
	orphans, err := inv.Queue(ctx, time.Hour)
	require.NoError(t, err)
	require.Zero(t, orphans, "its owner lives")
	require.NoError(t, beats.End(ctx))
	orphans, err = inv.Queue(ctx, time.Hour)
	require.NoError(t, err)
	require.Equal(t, 1, orphans)
	require.Equal(t, []inventory.Given{{ID: j.ID, Epoch: 4}}, admit(second, 5))

	stale, err := inv.TakeJob(ctx, j.ID, 2, first)
	require.NoError(t, err)
	require.Nil(t, stale)
	old.Steps[0].State = "done"
	require.ErrorIs(t, inv.UpdateStep(ctx, old.Epoch, &old.Steps[0]), inventory.ErrStale)
	require.ErrorIs(t, inv.EndJob(ctx, old, "done", "", ""), inventory.ErrStale)
	require.ErrorIs(t, inv.FailStep(ctx, old, &old.Steps[0], "", "x", false), inventory.ErrStale)

	now, err := inv.TakeJob(ctx, j.ID, 4, second)
	require.NoError(t, err)
	require.EqualValues(t, "working", now.Steps[0].State)
	begun, _, err = inv.BeginStep(ctx, now.Epoch, &now.Steps[1])
	require.Error(t, err, "the step before it is not done")
	require.False(t, begun && err == nil)
	require.Error(t, inv.EndJob(ctx, now, "done", "", ""), "its steps are not")
	require.NoError(t, inv.FailStep(ctx, now, &now.Steps[0], "space.short", "the pool is full", false))
	now, err = inv.TakeJob(ctx, j.ID, 4, second)
	require.NoError(t, err)
	require.True(t, now.Back, "step and job are written in one")
	require.EqualValues(t, "failed", now.Steps[0].State)
	require.Error(t, inv.EndJob(ctx, now, "done", "", ""))
	require.Error(t, inv.EndJob(ctx, now, "failed", "", "x"), "the step was not taken back")
	now.Steps[0].State = "undone"
	require.NoError(t, inv.UpdateStep(ctx, now.Epoch, &now.Steps[0]))
	require.NoError(t, inv.EndJob(ctx, now, "failed", now.ErrorCode, now.Error))
	over, err := inv.Job(ctx, j.ID.String())
	require.NoError(t, err)
	wantCode(t, inv.AskCancel(ctx, over, "robin"), "wrong")
	_, err = addJob(t, inv, "copy:a")
	require.NoError(t, err, "it is free again")
	_, err = inv.Job(ctx, "0")
	wantCode(t, err, "unknown")
}

// TestEventOrder: an event of a transaction that began earlier and ended later
// is not passed over.
func TestEventOrder(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	_, from, err := inv.EventsAfter(ctx, "", 10)
	require.NoError(t, err)
	slow, err := inv.Pool.Begin(ctx)
	require.NoError(t, err)
	require.NoError(t, inventory.In(slow).Emit(ctx, "copy", "slow", nil))
	require.NoError(t, inv.InTx(ctx, func(tx pgx.Tx) error { return inventory.In(tx).Emit(ctx, "copy", "quick", nil) }))
	list, next, err := inv.EventsAfter(ctx, from, 10)
	require.NoError(t, err)
	require.Empty(t, list, "the quick one waits for the slow one")
	require.NoError(t, slow.Commit(ctx))
	list, _, err = inv.EventsAfter(ctx, next, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, "slow", list[0].Subject)
	rest, _, err := inv.EventsAfter(ctx, list[0].ID, 10)
	require.NoError(t, err)
	require.Len(t, rest, 1)
	_, _, err = inv.EventsAfter(ctx, "nonsense", 10)
	wantCode(t, err, "wrong")
	require.NoError(t, inv.PruneEvents(ctx, 0))
	list, _, err = inv.EventsAfter(ctx, "0.0", 10)
	require.NoError(t, err)
	require.Empty(t, list)
}

// TestPlaceTaken: another machine lies where one was known; that one is gone,
// and one that had only just been found was never there.
func TestPlaceTaken(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := poolAt{inventory.NewID().String(), "/reef-taken"}
	found := p.folder("tide-gauge", inventory.NewID().String(), false)
	apply(t, inv, h, p, true, nil, found)
	another := p.folder("tide-gauge", inventory.NewID().String(), true)
	another.Machine.Passport = &machine.Passport{Copy: inventory.NewID().String(), Lineage: inventory.NewID().String(),
		MadeBy: "register"}
	apply(t, inv, h, p, true, nil, another)
	c, err := inv.Copy(t.Context(), h.Name+"/tide-gauge")
	require.NoError(t, err)
	require.Equal(t, another.Machine.Passport.Copy, c.ID.String())
	l, err := inv.LineageOf(t.Context(), c.LineageID.String())
	require.NoError(t, err)
	require.Len(t, l.Copies, 1)

	third := p.folder("tide-gauge", inventory.NewID().String(), true)
	third.Machine.Passport = &machine.Passport{Copy: inventory.NewID().String(), Lineage: inventory.NewID().String(),
		MadeBy: "register"}
	_, err = inv.Pool.Exec(t.Context(), `update copies set made_at = now() - interval '1 hour' where id = $1`, c.ID)
	require.NoError(t, err)
	apply(t, inv, h, p, true, nil, third)
	c, err = inv.CopyByID(t.Context(), c.ID.String())
	require.NoError(t, err)
	require.NotNil(t, c.GoneAt, "what was known longer is remembered as gone")
}

// TestAbilities: what a host states of itself is kept, and how far its clock is off.
func TestAbilities(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	said := fit.Abilities{Features: []string{"nested"}, NoAcceleration: "switched off", Keys: []string{"quay"},
		Classes: []fit.Class{{Name: "small", CPUs: 1, MemoryBytes: 1 << 30}}}
	_, err := inv.Apply(t.Context(), h, &hostlink.Survey{Revision: "r", Changed: true,
		Hello: &hostlink.Hello{Family: "slate", Driver: "standin", CPUs: 4, Protocol: 7,
			Time:      time.Now().Add(-2 * time.Hour),
			Abilities: said}})
	require.NoError(t, err)
	h, err = inv.Host(t.Context(), h.Name)
	require.NoError(t, err)
	require.Equal(t, said, h.Abilities)
	require.Equal(t, 7, h.Protocol)
	require.InDelta(t, -7200, h.ClockOff, 5)
}

// TestNoReturn: before the point of no return a job can be cancelled, and a step
// that fails sends it back; behind it neither, and a step that fails holds it.
func TestNoReturn(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	service := inventory.NewID()
	made := func() *inventory.Job {
		j := &inventory.Job{ID: inventory.NewID(), UserName: "robin"}
		p := plan.Together([]*plan.Plan{
			{Operation: "put-back", Subjects: []string{"x"}, Runnable: true,
				Steps: []plan.Step{{Do: &plan.MakeThere{}}, {Do: &plan.RemoveThere{}}}},
			{Operation: "put-back", Subjects: []string{"y"}, Runnable: true,
				Steps: []plan.Step{{Do: &plan.MakeThere{}}, {Do: &plan.RemoveThere{}}}},
		})
		require.Equal(t, "s2", *p.PointOfNoReturn, "nothing is removed before both are made")
		require.NoError(t, inv.InTx(ctx, func(tx pgx.Tx) error {
			return inventory.In(tx).AddJob(ctx, inventory.NewJob{Job: j, Plan: p})
		}))
		return j
	}
	take := func(j *inventory.Job) *inventory.Job {
		require.NoError(t, inv.Admit(ctx, service, 1000, func(pgx.Tx, inventory.Given) error { return nil }))
		now, err := inv.Job(ctx, j.ID.String())
		require.NoError(t, err)
		now, err = inv.TakeJob(ctx, j.ID, now.Epoch, service)
		require.NoError(t, err)
		require.NotNil(t, now)
		return now
	}
	carryOut := func(j *inventory.Job, steps ...int) {
		for _, n := range steps {
			begun, _, err := inv.BeginStep(ctx, j.Epoch, &j.Steps[n])
			require.NoError(t, err)
			require.True(t, begun)
			j.Steps[n].State = "done"
			require.NoError(t, inv.UpdateStep(ctx, j.Epoch, &j.Steps[n]))
		}
	}
	j := take(made())
	carryOut(j, 0)
	require.NoError(t, inv.AskCancel(ctx, j, "robin"))
	require.NoError(t, inv.AskCancel(ctx, j, "robin"), "said before")
	wantCode(t, inv.AskHold(ctx, j, "robin"), "wrong")
	begun, _, err := inv.BeginStep(ctx, j.Epoch, &j.Steps[1])
	require.NoError(t, err)
	require.False(t, begun, "it goes back")

	j = take(made())
	carryOut(j, 0, 1)
	wantCode(t, inv.AskCancel(ctx, j, "robin"), "past-return")
	begun, _, err = inv.BeginStep(ctx, j.Epoch, &j.Steps[2])
	require.NoError(t, err)
	require.True(t, begun)
	require.NoError(t, inv.FailStep(ctx, j, &j.Steps[2], "manager.rights", "mainland refuses", false))
	held, err := inv.Job(ctx, j.ID.String())
	require.NoError(t, err)
	require.EqualValues(t, "held", held.State)
	require.False(t, held.Back)
	require.EqualValues(t, "working", held.Steps[2].State)
	require.NotNil(t, held.RetryAt)
	wantCode(t, inv.AskCancel(ctx, held, "robin"), "past-return")
	items := attention(t, inv, inventory.AttentionPage{Cause: "held-job"})
	require.Len(t, items, 1)
	require.Contains(t, items[0].Evidence, "mainland refuses")
	require.NoError(t, inv.AskResume(ctx, held, "robin"))
	j = take(held)
	j.Steps[2].State = "done"
	require.NoError(t, inv.UpdateStep(ctx, j.Epoch, &j.Steps[2]))
	carryOut(j, 3)
	require.NoError(t, inv.EndJob(ctx, j, "done", "", ""))

	j = take(made())
	require.NoError(t, inv.AskHold(ctx, j, "robin"))
	begun, _, err = inv.BeginStep(ctx, j.Epoch, &j.Steps[0])
	require.NoError(t, err)
	require.False(t, begun, "it is to be held")
	require.NoError(t, inv.HoldNow(ctx, j))
	_, err = inv.Queue(ctx, time.Hour)
	require.NoError(t, err)
	held, err = inv.Job(ctx, j.ID.String())
	require.NoError(t, err)
	require.EqualValues(t, "held", held.State, "nobody tries by himself what a person holds")
	require.NoError(t, inv.AskCancel(ctx, held, "robin"))
	require.True(t, take(held).Back)
}

func TestSentence(t *testing.T) {
	for text, want := range map[string]string{"": "", "a": "A.", "the tide": "The tide.", "it ends.": "It ends.",
		"ölpegel is away": "Ölpegel is away.", "潮 is away": "潮 is away.", "\xff": "\ufffd."} {
		require.Equal(t, want, inventory.Sentence(text))
	}
}

// TestBackIsTold: that a host is back is an event, also where nothing has changed there, and told once.
func TestBackIsTold(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	require.NoError(t, inv.HostState(t.Context(), h, plan.HostUnreachable))
	for range 2 {
		require.NoError(t, inv.StillThere(t.Context(), []uuid.UUID{h.ID}))
	}
	now, err := inv.Host(t.Context(), h.Name)
	require.NoError(t, err)
	require.Equal(t, plan.HostUp, now.State)
	var states []string
	require.NoError(t, inv.Pool.QueryRow(t.Context(), `select array_agg(data ->> 'state' order by id) from events
		where kind = 'host' and subject = $1`, h.ID.String()).Scan(&states))
	require.Equal(t, []string{"up", "unreachable", "up"}, states)
}

// TestJobsAreAhead: what a host told before a job changed something there is over, and not taken for news.
func TestJobsAreAhead(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := newPool()
	apply(t, inv, h, p, true, nil, p.folder("ahead-"+h.Name, uuid.NewString(), true))
	asked, err := inv.Host(t.Context(), h.ID.String())
	require.NoError(t, err)
	c, err := inv.Copy(t.Context(), h.Name+"/ahead-"+h.Name)
	require.NoError(t, err)
	require.NoError(t, inv.InTx(t.Context(), func(tx pgx.Tx) error {
		return inventory.In(tx).SetState(t.Context(), c.ID.String(), machine.Running)
	}))
	told := &hostlink.Survey{Revision: asked.Revision + "'", Changed: true, Full: true}
	_, err = inv.Apply(t.Context(), asked, told)
	require.ErrorIs(t, err, inventory.ErrOvertaken)
	c, err = inv.Copy(t.Context(), h.Name+"/ahead-"+h.Name)
	require.NoError(t, err)
	require.Equal(t, machine.Running, c.State, "it is there, and runs")
	asked, err = inv.Host(t.Context(), h.ID.String())
	require.NoError(t, err)
	_, err = inv.Apply(t.Context(), asked, told)
	require.NoError(t, err, "asked again, it counts")
}

// TestMovedMeanwhile: a job moves a copy while the survey of the host that it leaves is under way. Whichever of the two
// has read first, the copy is where the job has put it.
func TestMovedMeanwhile(t *testing.T) {
	inv := open(t)
	from, to := addHost(t, inv), addHost(t, inv)
	here, there := newPool(), newPool()
	name := "moved-" + from.Name
	folder := here.folder(name, uuid.NewString(), true)
	apply(t, inv, from, here, true, nil, folder)
	apply(t, inv, to, there, true, nil)
	c, err := inv.Copy(t.Context(), from.Name+"/"+name)
	require.NoError(t, err)
	folder.Machine.Passport = &machine.Passport{Copy: c.ID.String(), Lineage: c.LineageID.String()}
	folder.Registered = false // it was taken off the list
	asked, err := inv.Host(t.Context(), from.ID.String())
	require.NoError(t, err)
	told := &hostlink.Survey{Revision: asked.Revision + "'", Changed: true, Machines: []hostlink.Folder{folder},
		Pools: []hostlink.Pool{{ID: here.id, Name: "reef", Path: here.path, State: "ready"}}}
	pool := uuid.MustParse(there.id)
	moved := *c
	moved.HostID, moved.PoolID, moved.Path, moved.MadeBy = &to.ID, &pool, there.path+"/"+name, "move"
	isThere := func() {
		t.Helper()
		now, err := inv.Copy(t.Context(), to.Name+"/"+name)
		require.NoError(t, err)
		require.Equal(t, []any{c.ID, "move", lineage.Registered}, []any{now.ID, now.MadeBy, now.Form})
	}
	record := func(tx pgx.Tx) error {
		return inventory.In(tx).RecordCopy(t.Context(), &moved, name, "move", "test", "", uuid.NewString())
	}

	// The survey has read the record, and is about to write it, when the job's transaction ends.
	tx, err := inv.Pool.Begin(t.Context())
	require.NoError(t, err)
	require.NoError(t, record(tx))
	applied := make(chan error, 1)
	go func() {
		_, err := inv.Apply(t.Context(), asked, told)
		applied <- err
	}()
	wait.Until(t, func() bool {
		var waits bool
		require.NoError(t, inv.Pool.QueryRow(t.Context(), `select exists (select 1 from pg_locks l
			join pg_stat_activity a using (pid) where not l.granted and a.query like 'insert into copies%'
			and a.datname = current_database())`).Scan(&waits))
		return waits
	})
	require.NoError(t, tx.Commit(t.Context()))
	require.ErrorIs(t, <-applied, inventory.ErrOvertaken)
	isThere()

	// The host was asked before the job's transaction, and what it told is applied after it.
	require.NoError(t, inv.InTx(t.Context(), func(tx pgx.Tx) error { // back, as it was
		return inventory.In(tx).RecordCopy(t.Context(), c, name, "move", "test", "", uuid.NewString())
	}))
	require.NoError(t, inv.InTx(t.Context(), func(tx pgx.Tx) error {
		if err := inventory.In(tx).BehindSurvey(t.Context(), c.ID, &to.ID); err != nil {
			return err
		}
		return record(tx)
	}))
	for _, h := range []*inventory.Host{asked, to} {
		_, err = inv.Apply(t.Context(), h, told)
		require.ErrorIs(t, err, inventory.ErrOvertaken, h.Name)
	}
	isThere()
}

// TestUnreadIsNotGone: a host that tells all that it has, but for what it could not read, does not say that this is
// gone.
func TestUnreadIsNotGone(t *testing.T) {
	inv := open(t)
	h, p := addHost(t, inv), newPool()
	var folders []hostlink.Folder
	for _, name := range []string{"read", "stuck", "away"} {
		folders = append(folders, p.folder(name+"-"+h.Name, uuid.NewString(), true))
	}
	apply(t, inv, h, p, true, nil, folders...)
	for unread, left := range map[string]int{folders[1].Path: 2, p.path: 3, p.path + "/stuc": 1} {
		now, err := inv.Host(t.Context(), h.ID.String())
		require.NoError(t, err)
		_, err = inv.Apply(t.Context(), now, &hostlink.Survey{Revision: now.Revision + "'", Full: true, Changed: true,
			Machines: folders[:1], Unread: []string{unread},
			Pools: []hostlink.Pool{{ID: p.id, Name: "reef", Path: p.path, State: "ready"}}})
		require.NoError(t, err)
		there, err := inv.Copies(t.Context(), inventory.Page{Filter: "host=" + h.Name})
		require.NoError(t, err)
		require.Len(t, there.Items, left, unread)
		apply(t, inv, now, p, true, nil, folders...)
	}
}
