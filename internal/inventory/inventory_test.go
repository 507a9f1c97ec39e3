package inventory_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

var database string

// TestMain starts PostgreSQL on loopback, with a cluster of its own.
func TestMain(m *testing.M) {
	code, err := withPostgres(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func withPostgres(m *testing.M) (int, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return 1, errors.New("PostgreSQL is missing: apt-get install postgresql (make test does that)")
	}
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "inventory-")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	attr := &syscall.SysProcAttr{}
	if os.Geteuid() == 0 { // PostgreSQL refuses to run as root
		u, err := user.Lookup("postgres")
		if err != nil {
			return 1, err
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		if err := os.Chown(dir, uid, gid); err != nil {
			return 1, err
		}
	}
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.SysProcAttr, cmd.Dir = attr, "/"
		return cmd
	}
	data := filepath.Join(dir, "data")
	if out, err := run("initdb", "-D", data, "-U", "unvora", "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync").CombinedOutput(); err != nil {
		return 1, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 1, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	server := run("postgres", "-D", data, "-h", "127.0.0.1", "-p", strconv.Itoa(port), "-k", "", "-F")
	if err := server.Start(); err != nil {
		return 1, err
	}
	defer func() {
		server.Process.Signal(syscall.SIGINT)
		server.Wait()
	}()
	database = fmt.Sprintf("postgres://unvora@127.0.0.1:%d/postgres?sslmode=disable", port)
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		conn, err := pgx.Connect(context.Background(), database)
		if err == nil {
			conn.Close(context.Background())
			break
		}
		if time.Since(began) > 30*time.Second {
			return 1, err
		}
	}
	return m.Run(), nil
}

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
	require.NoError(t, inv.AddHost(t.Context(), id, "127.0.0.1:1", &hostlink.Hello{Name: name, Family: "slate", Driver: "standin", Site: "Northhead", CPUs: 4, MemoryBytes: 1 << 30}, "test"))
	h, err := inv.Host(t.Context(), name)
	require.NoError(t, err)
	return h
}

type poolAt struct{ id, path string }

func (p poolAt) folder(name, uuid string, registered bool) hostlink.Folder {
	return hostlink.Folder{Path: p.path + "/" + name, Pool: p.id, Registered: registered, FilesThere: true, PoolThere: true, State: "stopped",
		Machine: &machine.Machine{Name: name, UUID: uuid, NICs: []machine.NIC{{Name: "NIC 1", MAC: "06:5c:00:00:00:01"}}}}
}

func apply(t *testing.T, inv *inventory.Inventory, h *inventory.Host, p poolAt, full bool, gone []string, folders ...hostlink.Folder) []inventory.Change {
	t.Helper()
	changes, err := inv.Apply(t.Context(), h, &hostlink.Survey{Revision: "r", Full: full, Changed: true, Gone: gone, Machines: folders,
		Hello: &hostlink.Hello{Family: "slate", Driver: "standin", CPUs: 4}, Switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}},
		Pools: []hostlink.Pool{{ID: p.id, Name: "reef", Path: p.path, State: "ready", TotalBytes: 10, FreeBytes: 5}}})
	require.NoError(t, err)
	return changes
}

func wantCode(t *testing.T, err error, code string) {
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
	require.Equal(t, "registered", c2.Form)
	pools, err := inv.Pools(t.Context(), inventory.Page{Filter: "host=" + b.Name})
	require.NoError(t, err)
	require.Equal(t, []string{a.Name, b.Name}, pools.Items[0].Hosts)
	_, err = inv.Copy(t.Context(), b.Name+"/shared")
	wantCode(t, err, "unknown")
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
	taken, err := inv.NameTaken(t.Context(), h.ID, uuid.MustParse(p.id), "STAYS")
	require.NoError(t, err)
	require.True(t, taken, "names that differ by case only collide")
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
		f.Machine.NICs = append(f.Machine.NICs, machine.NIC{Name: fmt.Sprint(n), MAC: fmt.Sprintf("%s:00:00:%02x", prefix, n+3)})
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
		return inventory.AddJob(t.Context(), tx, j, &plan.Plan{Operation: "export", Subjects: []string{"x"}, Steps: []plan.Step{{ID: "s1", Kind: plan.KindGiveIDs}, {ID: "s2", Kind: plan.KindRecord}}}, nil, "", holds, nil)
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
	holder, err := inventory.Holder(ctx, inv.Pool, "copy:b")
	require.NoError(t, err)
	require.Empty(t, holder, "the refused job holds nothing")

	old, err := inv.TakeJob(ctx, j.ID, 1)
	require.NoError(t, err)
	require.Equal(t, "working", old.State)
	require.NoError(t, inv.TakeUp(ctx, time.Hour, func(pgx.Tx, inventory.Abandoned) error { return errors.New("nobody was silent for that long") }))
	var taken []inventory.Abandoned
	require.NoError(t, inv.TakeUp(ctx, 0, func(_ pgx.Tx, a inventory.Abandoned) error { taken = append(taken, a); return nil }))
	require.Equal(t, []inventory.Abandoned{{ID: j.ID, Epoch: 2}}, taken)
	stale, err := inv.TakeJob(ctx, j.ID, 1)
	require.NoError(t, err)
	require.Nil(t, stale)
	old.Steps[0].State = "done"
	require.Error(t, inv.UpdateStep(ctx, old.Epoch, &old.Steps[0]))
	require.Error(t, inv.EndJob(ctx, old, "done", "", ""))
	now, err := inv.TakeJob(ctx, j.ID, 2)
	require.NoError(t, err)
	require.Equal(t, "waiting", now.Steps[0].State)
	require.NoError(t, inv.AskCancel(ctx, now, "robin"))
	require.NoError(t, inv.EndJob(ctx, now, "cancelled", "", ""))
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
	require.NoError(t, inventory.Emit(ctx, slow, "copy", "slow", nil))
	require.NoError(t, inv.InTx(ctx, func(tx pgx.Tx) error { return inventory.Emit(ctx, tx, "copy", "quick", nil) }))
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

// TestScale: with two hundred thousand copies every list and filter is read
// through an index, never by going through the table.
func TestScale(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	h := addHost(t, inv)
	_, err := inv.Pool.Exec(ctx, `with l as (insert into lineages (id, name) select gen_random_uuid(), 'class-' || n from generate_series(1, 50000) n returning id, name)
		insert into copies (id, lineage_id, name, form, host_id, path, rel, uuid, state, made_by, made_at, last_seen, machine)
		select gen_random_uuid(), l.id, l.name, (array['registered','stray','package','registered'])[k], $1, '/x/' || l.name || k, l.name || k, gen_random_uuid(), (array['running','stopped'])[1 + k % 2], 'survey', now(), now(), '{}' from l, generate_series(1, 4) k`, h.ID)
	require.NoError(t, err)
	_, err = inv.Pool.Exec(ctx, "analyze")
	require.NoError(t, err)
	for _, filter := range []string{"", "host=" + h.Name, "form=stray", "state=running", "name=class-777", "name~class-4242*", "name~*-4242", "uuid=" + uuid.NewString(), "mac=06:5c:00:00:00:77"} {
		began := time.Now()
		l, err := inv.Copies(ctx, inventory.Page{Limit: 50, Filter: filter})
		require.NoError(t, err, filter)
		if l.Next != "" {
			_, err = inv.Copies(ctx, inventory.Page{Limit: 50, Filter: filter, After: l.Next})
			require.NoError(t, err)
		}
		require.LessOrEqual(t, l.Count, inventory.CountCap+1)
		t.Logf("%-40q %4d of %d in %s", filter, len(l.Items), l.Count, time.Since(began))
	}
	for _, filter := range []string{"", "name=class-777", "name~class-42*", "host=" + h.Name} {
		began := time.Now()
		l, err := inv.Lineages(ctx, inventory.Page{Limit: 50, Filter: filter})
		require.NoError(t, err)
		require.NotEmpty(t, l.Items)
		t.Logf("lineages %-31q %4d of %d in %s", filter, len(l.Items), l.Count, time.Since(began))
	}
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
	another.Machine.Passport = &machine.Passport{Copy: inventory.NewID().String(), Lineage: inventory.NewID().String(), MadeBy: "register"}
	apply(t, inv, h, p, true, nil, another)
	c, err := inv.Copy(t.Context(), h.Name+"/tide-gauge")
	require.NoError(t, err)
	require.Equal(t, another.Machine.Passport.Copy, c.ID.String())
	l, err := inv.LineageOf(t.Context(), c.LineageID.String())
	require.NoError(t, err)
	require.Len(t, l.Copies, 1)

	third := p.folder("tide-gauge", inventory.NewID().String(), true)
	third.Machine.Passport = &machine.Passport{Copy: inventory.NewID().String(), Lineage: inventory.NewID().String(), MadeBy: "register"}
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
	said := fit.Abilities{Features: []string{"nested"}, NoAcceleration: "switched off", Keys: []string{"quay"}, Classes: []fit.Class{{Name: "small", CPUs: 1, MemoryBytes: 1 << 30}}}
	_, err := inv.Apply(t.Context(), h, &hostlink.Survey{Revision: "r", Changed: true, Hello: &hostlink.Hello{Family: "slate", Driver: "standin", CPUs: 4, Protocol: 7, Time: time.Now().Add(-2 * time.Hour), Abilities: said}})
	require.NoError(t, err)
	h, err = inv.Host(t.Context(), h.Name)
	require.NoError(t, err)
	require.Equal(t, said, h.Abilities)
	require.Equal(t, 7, h.Protocol)
	require.InDelta(t, -7200, h.ClockOff, 5)
}
