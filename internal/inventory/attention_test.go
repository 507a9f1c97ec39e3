package inventory_test

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// attention reads all pages of what waits, which no item may be in twice, or be missing from what is counted.
func attention(t *testing.T, inv *inventory.Inventory, p inventory.AttentionPage) (all []inventory.AttentionItem) {
	t.Helper()
	seen := map[string]bool{}
	for {
		items, next, err := inv.Attention(t.Context(), p)
		require.NoError(t, err)
		require.LessOrEqual(t, len(items), max(p.Limit, 500))
		for _, i := range items {
			require.False(t, seen[i.ID], "%s is told twice", i.ID)
			seen[i.ID] = true
		}
		all = append(all, items...)
		if next == "" {
			return all
		}
		p.After = next
	}
}

// waiting lists the items of a cause that are about something of this test.
func waiting(t *testing.T, inv *inventory.Inventory, cause inventory.Cause,
	about string) (found []inventory.AttentionItem) {
	t.Helper()
	items := attention(t, inv, inventory.AttentionPage{Cause: cause, Left: true, Limit: 3})
	for _, i := range items {
		if strings.Contains(i.Subject+i.Evidence, about) {
			require.NotEmpty(t, i.Evidence)
			require.NotEmpty(t, i.Recommended)
			found = append(found, i)
		}
	}
	return found
}

func newPool() poolAt {
	id := inventory.NewID().String()
	return poolAt{id, "/pools/" + id[len(id)-6:]}
}

func samples(seed uint64) (list []disk.Sample) {
	for cell := range int64(20) {
		list = append(list, disk.Sample{Cell: cell, Hash: seed*1000 + uint64(cell)})
	}
	return list
}

// TestAttentionCauses raises each cause from what hosts tell, and sees it go.
func TestAttentionCauses(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := newPool()
	id := func() string { return uuid.NewString() }
	mac := 0
	machineAt := func(name, uuid string, registered bool, seed uint64) hostlink.Folder {
		f := p.folder(name, uuid, registered)
		mac++
		f.Machine.NICs[0].MAC = "06:5c:77:00:00:" + string("0123456789abcdef"[mac/16]) +
			string("0123456789abcdef"[mac%16])
		f.Disks = []hostlink.SeenDisk{{ID: "disk1", Path: f.Path + "/d.qcow2", ImageID: id(), VirtualBytes: 20 << 20,
			Samples: samples(seed)}}
		return f
	}
	// Hollow: delist it; once its folder is found, register that.
	lost := machineAt("lost-"+h.Name, id(), true, 1)
	lost.FilesThere = false
	apply(t, inv, h, p, true, nil, lost)
	items := waiting(t, inv, "hollow", lost.Machine.Name)
	require.Len(t, items, 1)
	require.Equal(t, inventory.ActDelist, items[0].Act.Do)
	found := machineAt("found-"+h.Name, lost.Machine.UUID, false, 1)
	apply(t, inv, h, p, false, nil, found)
	items = waiting(t, inv, "hollow", lost.Machine.Name)
	require.Equal(t, inventory.ActRegister, items[0].Act.Do)
	require.Contains(t, items[0].Evidence, found.Path)

	// Twins by UUID and MAC are one item; renewed, they are none.
	a, b := machineAt("twin-a-"+h.Name, id(), true, 2), machineAt("twin-b-"+h.Name, "", true, 3)
	b.Machine.UUID, b.Machine.NICs[0].MAC = a.Machine.UUID, a.Machine.NICs[0].MAC
	apply(t, inv, h, p, false, nil, a, b)
	items = waiting(t, inv, "twin", "twin-a-"+h.Name)
	require.Len(t, items, 1)
	require.Contains(t, items[0].Evidence, "and the")
	require.Contains(t, items[0].Act.Facets, "uuid")
	b.Machine.UUID, b.Machine.NICs[0].MAC = id(), "06:5c:77:00:01:00"
	apply(t, inv, h, p, false, nil, b)
	require.Empty(t, waiting(t, inv, "twin", "twin-a-"+h.Name))

	// One disk of two machines; a layer without its parent; a file that is gone.
	b.Disks[0].Path = a.Disks[0].Path
	apply(t, inv, h, p, false, nil, b)
	require.Len(t, waiting(t, inv, "shared-disk", a.Disks[0].Path), 1)
	b.Disks[0].Path = b.Path + "/d.qcow2"
	b.Disks[0].Faults = []plan.DiskFault{{Code: "disk.parent-missing", Path: b.Disks[0].Path,
		Message: "its parent is not there: unvora disk reparent", Candidate: "/pools/base.qcow2"}}
	apply(t, inv, h, p, false, nil, b)
	require.Empty(t, waiting(t, inv, "shared-disk", a.Disks[0].Path))
	items = waiting(t, inv, "parentless-layer", b.Machine.Name)
	require.Len(t, items, 1)
	require.Equal(t, inventory.ActReparent, items[0].Act.Do)
	require.NotContains(t, items[0].Evidence, "unvora disk")
	b.Disks[0].Faults = []plan.DiskFault{{Code: "disk.missing", Message: "the file is not there"}}
	apply(t, inv, h, p, false, nil, b)
	require.Equal(t, inventory.ActDetach, waiting(t, inv, "damaged-disk", b.Machine.Name)[0].Act.Do)

	// What a machine was told at its first start, once it is heard on its network.
	b.Disks[0].Faults = nil
	b.Machine.Devices = []machine.Device{{Kind: machine.DeviceCD, Name: "first start", File: "first-start.iso"}}
	b.State, b.Addresses = machine.Running, nil
	apply(t, inv, h, p, false, nil, b)
	require.Empty(t, waiting(t, inv, "first-start", b.Machine.Name), "it may be starting yet")
	b.Addresses = []string{"192.0.2.107"}
	apply(t, inv, h, p, false, nil, b)
	items = waiting(t, inv, "first-start", b.Machine.Name)
	require.Len(t, items, 1)
	require.Equal(t, inventory.ActTold, items[0].Act.Do)
	require.Contains(t, items[0].Evidence, "192.0.2.107")
	b.Machine.Devices, b.State, b.Addresses = nil, machine.Stopped, nil
	apply(t, inv, h, p, false, nil, b)
	require.Empty(t, waiting(t, inv, "first-start", b.Machine.Name))

	// A snapshot of long ago; a pool that fills up under what runs.
	b.Machine.Tree = []machine.Snapshot{{Name: "monday", MadeAt: time.Now().Add(-24 * time.Hour)}}
	apply(t, inv, h, p, false, nil, b)
	require.Empty(t, waiting(t, inv, "old-snapshot", b.Machine.Name))
	b.Machine.Tree[0].MadeAt = time.Now().Add(-60 * 24 * time.Hour)
	apply(t, inv, h, p, false, nil, b)
	items = waiting(t, inv, "old-snapshot", b.Machine.Name)
	require.Len(t, items, 1)
	require.Equal(t, inventory.Act{Do: inventory.ActDropOld, Copies: []string{items[0].Copies[0].String()},
		Folder: "monday"}, *items[0].Act)
	fills := func(free int64) []inventory.AttentionItem {
		_, err := inv.Pool.Exec(t.Context(), `update pools set total_bytes = $2, free_bytes = $3 where id = $1`, p.id,
			int64(100<<30), free)
		require.NoError(t, err)
		return waiting(t, inv, "pool-filling", h.Name)
	}
	require.Empty(t, fills(4<<30), "nothing runs from it")
	b.State = machine.Running
	apply(t, inv, h, p, false, nil, b)
	require.Empty(t, fills(6<<30))
	full := fills(4 << 30)
	require.Len(t, full, 1)
	require.Contains(t, full[0].Evidence, "4 GiB of 100 GiB are free, and 1 of its machines run")
	require.Contains(t, full[0].Evidence, "1 stand on snapshots")
	b.State, b.Machine.Tree = machine.Stopped, nil
	apply(t, inv, h, p, false, nil, b)

	// The last of several copies.
	one, two := machineAt("last-"+h.Name, id(), true, 4), machineAt("last-copy-"+h.Name, "", false, 4)
	two.Machine.UUID = one.Machine.UUID
	apply(t, inv, h, p, false, nil, one, two)
	require.Empty(t, waiting(t, inv, "last-copy", one.Machine.Name))
	apply(t, inv, h, p, false, []string{two.Path})
	require.Len(t, waiting(t, inv, "last-copy", one.Machine.Name), 1)

	// Disks that nothing describes, unless a machine of any host rests on them.
	bare := hostlink.BareFolder{Path: p.path + "/spare", Pool: p.id, Disks: []string{"spare.qcow2"}}
	tell := func() {
		_, err := inv.Apply(t.Context(), h, &hostlink.Survey{Revision: "b", Changed: true,
			Bare:  []hostlink.BareFolder{bare},
			Pools: []hostlink.Pool{{ID: p.id, Name: "reef", Path: p.path, State: "ready"}}})
		require.NoError(t, err)
	}
	tell()
	require.Len(t, waiting(t, inv, "lost-descriptor", bare.Path), 1)
	b.Disks[0].Faults, b.Disks[0].Layers = nil, []string{"/elsewhere/spare/spare.qcow2"}
	apply(t, inv, h, p, false, nil, b)
	tell()
	require.Empty(t, waiting(t, inv, "lost-descriptor", bare.Path))

	// What is left alone is shown again when it is asked for, or its term is over.
	item := waiting(t, inv, "hollow", lost.Machine.Name)[0]
	wantCode(t, inv.Leave(t.Context(), []string{item.ID}, " ", time.Now().Add(time.Hour), "ines"), "wrong")
	wantCode(t, inv.Leave(t.Context(), []string{item.ID}, "why", time.Now().Add(-time.Hour), "ines"), "wrong")
	wantCode(t, inv.Leave(t.Context(), []string{"weather:1"}, "why", time.Now().Add(time.Hour), "ines"), "unknown")
	require.NoError(t, inv.Leave(t.Context(), []string{item.ID}, "its disk is being read elsewhere",
		time.Now().Add(time.Hour), "ines"))
	require.Equal(t, "ines", waiting(t, inv, "hollow", lost.Machine.Name)[0].Left.Who)
	for _, i := range attention(t, inv, inventory.AttentionPage{Cause: "hollow"}) {
		require.NotEqual(t, item.ID, i.ID)
	}
	at := func(place string) inventory.AttentionPage {
		return inventory.AttentionPage{After: base64.RawURLEncoding.EncodeToString([]byte(place))}
	}
	for _, wrong := range []inventory.AttentionPage{{Cause: "weather"}, {After: "monday"}, {Limit: 5000},
		at(`{"f":99}`), at(`{"f":-1}`), at(`{"f":0,"at":["lost","no id"]}`),
		at(`{"f":0,"at":["\u0000","` + uuid.NewString() + `"]}`)} {
		_, _, err := inv.Attention(t.Context(), wrong)
		wantCode(t, err, "wrong")
	}

	// What is counted is what is listed, and a page of one item leads to the next.
	all := attention(t, inv, inventory.AttentionPage{Limit: 1})
	listed := map[inventory.Cause]int{}
	for _, i := range all {
		listed[i.Cause]++
	}
	counts, err := inv.AttentionCount(t.Context())
	require.NoError(t, err)
	for _, c := range counts {
		require.Equal(t, listed[c.Cause], c.Count, c.Cause)
		delete(listed, c.Cause)
	}
	require.Empty(t, listed)
}

// TestSharedIsKept: what machines share is kept as they come, change, are renamed, left alone and go, as it would be
// found by looking at all of them.
func TestSharedIsKept(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := newPool()
	kept := func() (list []string) {
		r, err := inv.Pool.Query(t.Context(), `select kind || ' ' || value from shared
			union all select 'last ' || lineage_id || ' ' || copy_id from last_copies order by 1`)
		require.NoError(t, err)
		list, err = pgx.CollectRows(r, pgx.RowTo[string])
		require.NoError(t, err)
		return list
	}
	draw := rand.New(rand.NewPCG(5, 7))
	uuids := []string{uuid.NewString(), uuid.NewString(), uuid.NewString()}
	var folders []hostlink.Folder
	for n := range 6 {
		folders = append(folders, p.folder(fmt.Sprintf("%d-%s", n, h.Name), uuids[n%3], n%2 == 0))
	}
	most := 0
	for round := range 60 {
		now := []hostlink.Folder{}
		for i := range folders {
			f := &folders[i]
			m := *f.Machine
			f.Machine = &m
			m.NICs = []machine.NIC{{Name: "NIC 1", MAC: fmt.Sprintf("06:5c:88:00:00:%02x", draw.IntN(4))}}
			m.UUID = uuids[draw.IntN(3)]
			f.Registered = draw.IntN(3) > 0
			f.Disks = []hostlink.SeenDisk{{ID: "disk1", Path: fmt.Sprintf("/pools/x/%s-%d", h.Name, draw.IntN(3)),
				ImageID: uuid.NewString(), VirtualBytes: 1 << 20}}
			if draw.IntN(4) > 0 {
				now = append(now, *f)
			}
		}
		apply(t, inv, h, p, true, nil, now...)
		if round%5 == 0 {
			_, err := inv.Pool.Exec(t.Context(), `update copies set tracked = not tracked where host_id = $1
				and form = 'registered' and name like '1%'`, h.ID)
			require.NoError(t, err)
		}
		before := kept()
		require.NoError(t, inv.KeepShared(t.Context()))
		require.Equal(t, before, kept(), "round %d", round)
		most = max(most, len(before))
	}
	require.Greater(t, most, 3, "nothing was shared")
}

// TestShares: services share the watching of hosts evenly, and one that dies loses its part when its lease is over.
func TestShares(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	_, err := inv.Pool.Exec(ctx, `delete from services; update watch_shares set service = null, until = '-infinity'`)
	require.NoError(t, err)
	lease := func(service uuid.UUID) []int16 {
		mine, err := inv.LeaseShares(ctx, service, time.Minute)
		require.NoError(t, err)
		return mine
	}
	a, b := inventory.NewID(), inventory.NewID()
	require.Len(t, lease(a), inventory.Shares, "it is alone")
	beat := inv.NewBeater(b)
	require.NoError(t, beat.Beat(ctx))
	require.Empty(t, lease(b), "nothing is free yet")
	mine := lease(a)
	require.Len(t, mine, inventory.Shares/2, "there are two")
	others := lease(b)
	require.Len(t, others, inventory.Shares/2)
	require.NotSubset(t, mine, others)
	require.NoError(t, beat.End(ctx))
	require.Len(t, lease(a), inventory.Shares/2, "the lease is not over")
	_, err = inv.Pool.Exec(ctx, `update watch_shares set until = now() where service = $1`, b)
	require.NoError(t, err)
	require.Len(t, lease(a), inventory.Shares)
	require.NoError(t, inv.ReturnShares(ctx, a))
	require.Len(t, lease(b), inventory.Shares, "they were given back")

	h := addHost(t, inv)
	seen := map[uuid.UUID]inventory.Watched{}
	for _, half := range [][]int16{mine, others} {
		require.NoError(t, inv.EachWatched(ctx, half, time.Time{}, func(w inventory.Watched) {
			require.NotContains(t, seen, w.ID)
			seen[w.ID] = w
		}))
	}
	require.Equal(t, h.Name, seen[h.ID].Name)
	require.NoError(t, inv.EachWatched(ctx, lease(b), seen[h.ID].AddedAt, func(w inventory.Watched) {
		require.NotEqual(t, h.ID, w.ID, "it was added no later")
	}))
}

// TestRecognisedByContents: no UUID, no MAC, another format: the samples find it
// among others, and a person's word is kept.
func TestRecognisedByContents(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := newPool()
	seen := func(name, uuid, image string, seed uint64) hostlink.Folder {
		f := p.folder(name+"-"+h.Name, uuid, uuid != "")
		f.Machine.NICs = nil
		f.Disks = []hostlink.SeenDisk{{ID: "disk1", Path: f.Path + "/d", ImageID: image, VirtualBytes: 20 << 20,
			Samples: samples(seed), WrittenAt: time.Date(2026, 11, 3, 0, 0, 0, 0, time.UTC)}}
		return f
	}
	all := []hostlink.Folder{}
	for n := range uint64(30) {
		all = append(all, seen("other-"+string(rune('a'+n)), uuid.NewString(), uuid.NewString(), 9000+n))
	}
	original := seen("chart", uuid.NewString(), uuid.NewString(), 8500)
	apply(t, inv, h, p, true, nil, append(all, original)...)
	first, err := inv.Copy(t.Context(), h.Name+"/"+original.Machine.Name)
	require.NoError(t, err)
	changes := apply(t, inv, h, p, false, nil, seen("mystery", "", uuid.NewString(), 8500))
	require.Contains(t, changes[0].Text, "it may be a copy of "+original.Machine.Name+", made after 3 November 2026: "+
		"100 % of its blocks the same (20 sampled)")
	c, err := inv.AtPlace(t.Context(), h.ID, nil, p.path+"/mystery-"+h.Name)
	require.NoError(t, err)
	require.Equal(t, first.ID, *c.Candidate)
	require.NotEqual(t, first.LineageID, c.LineageID)
	require.Equal(t, inventory.ActRecognise, waiting(t, inv, "unsure", c.Path)[0].Act.Do)

	require.NoError(t, inv.Settle(t.Context(), c, first, nil, "ines", "I made it"))
	c, err = inv.CopyByID(t.Context(), c.ID.String())
	require.NoError(t, err)
	require.Equal(t, first.LineageID, c.LineageID)
	require.Equal(t, first.ID, *c.Parent)
	require.Nil(t, c.Candidate)
	wantCode(t, inv.Settle(t.Context(), first, c, nil, "ines", ""), "wrong")
	wantCode(t, inv.Settle(t.Context(), first, first, nil, "ines", ""), "wrong")
	// What descends from a copy goes along with it.
	require.NoError(t, inv.Settle(t.Context(), first, nil, nil, "ines", ""))
	first, err = inv.CopyByID(t.Context(), first.ID.String())
	require.NoError(t, err)
	c, err = inv.CopyByID(t.Context(), c.ID.String())
	require.NoError(t, err)
	require.Equal(t, first.LineageID, c.LineageID)
	ancestor, err := inv.Ancestor(t.Context(), c.ID, first.ID)
	require.NoError(t, err)
	require.Equal(t, first.ID.String(), ancestor)

	// A disk's id decides, and a survey that can't read the descriptor forgets nothing.
	apply(t, inv, h, p, false, nil, seen("by-id", "", original.Disks[0].ImageID, 8500))
	byID, err := inv.AtPlace(t.Context(), h.ID, nil, p.path+"/by-id-"+h.Name)
	require.NoError(t, err)
	require.NotNil(t, byID.Parent)
	torn := original
	torn.Machine, torn.Problem = nil, "line 3: not well-formed"
	apply(t, inv, h, p, false, nil, torn)
	kept, err := inv.CopyByID(t.Context(), first.ID.String())
	require.NoError(t, err)
	require.Equal(t, original.Machine.UUID, kept.Machine.UUID)
	require.Equal(t, "line 3: not well-formed", kept.Problem)
}

// TestAddressesOnce: an address of a range is given to one machine only, and
// comes back with a job that is undone.
func TestAddressesOnce(t *testing.T) {
	inv := open(t)
	require.NoError(t, inv.SetSegment(t.Context(), "fjord", "203.0.113.0/24", "203.0.113.8-203.0.113.10", "ines"))
	h := addHost(t, inv)
	p := newPool()
	used := p.folder("uses-"+h.Name, uuid.NewString(), true)
	used.State, used.Addresses = "running", []string{"203.0.113.9"}
	apply(t, inv, h, p, true, nil, used)
	give := func(job uuid.UUID, wish string) (address string, err error) {
		err = inv.InTx(t.Context(), func(tx pgx.Tx) error {
			address, err = inventory.In(tx).GiveAddress(t.Context(), wish, "fjord", job, nil)
			return err
		})
		return address, err
	}
	job := inventory.NewID()
	first, err := give(job, "fjord")
	require.NoError(t, err)
	require.Equal(t, "203.0.113.8", first)
	second, err := give(inventory.NewID(), "fjord")
	require.NoError(t, err)
	require.Equal(t, "203.0.113.10", second, ".9 is seen in use")
	_, err = give(inventory.NewID(), "fjord")
	wantCode(t, err, "address.none-free")
	require.NoError(t, inv.InTx(t.Context(), func(tx pgx.Tx) error {
		return inventory.In(tx).TakeAddressesBack(t.Context(),
			job)
	}))
	ranges, err := inv.Ranges(t.Context())
	require.NoError(t, err)
	require.Equal(t, "203.0.113.8", ranges["fjord"].Free.String())
	_, err = give(inventory.NewID(), "nowhere")
	wantCode(t, err, "address.none-free")
	holders, err := inv.AddressHolders(t.Context(), []string{"203.0.113.9"}, "")
	require.NoError(t, err)
	require.Equal(t, h.Name+"/uses-"+h.Name, holders["203.0.113.9"])
	for _, bad := range [][2]string{{"203.0.113.1/24", ""}, {"203.0.113.0/24", "203.0.113.9"},
		{"", "203.0.113.8-203.0.113.9"}} {
		wantCode(t, inv.SetSegment(t.Context(), "fjord", bad[0], bad[1], "ines"), "wrong")
	}
}

// TestPlacesAtRest: hosts and pools at rest say so, and pools are found by name.
func TestPlacesAtRest(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := newPool()
	apply(t, inv, h, p, true, nil)
	require.NoError(t, inv.RestHost(t.Context(), h, true, "ines"))
	at, err := inv.Host(t.Context(), h.Name)
	require.NoError(t, err)
	require.EqualValues(t, "resting", at.State)
	require.NoError(t, inv.HostState(t.Context(), at, "unreachable"))
	at, err = inv.Host(t.Context(), h.Name)
	require.NoError(t, err)
	require.EqualValues(t, "unreachable", at.State, "a host that is away is not resting")
	pool, err := inv.PoolOf(t.Context(), h.Name+"/reef")
	require.NoError(t, err)
	require.NoError(t, inv.RestPool(t.Context(), pool, true, "ines"))
	pool, err = inv.PoolOf(t.Context(), pool.ID.String())
	require.NoError(t, err)
	require.EqualValues(t, "resting", pool.State)
	_, err = inv.PoolOf(t.Context(), h.Name+"/lagoon")
	wantCode(t, err, "unknown")
	label := "label-of-" + h.Name
	for _, nothing := range []landing.Rule{{Kind: landing.Disk, Label: label}, {Kind: landing.Disk, Pool: "lagoon"},
		{Kind: landing.Disk, Pool: "reef", Host: "nowhere"}} {
		_, err = inv.AddLandingRule(t.Context(), nothing, true, "ines")
		wantCode(t, err, "wrong")
		require.ErrorContains(t, err, "There is no ")
	}
	require.NoError(t, inv.Labelled(t.Context(), pool, []string{label}, "ines"))
	r, err := inv.AddLandingRule(t.Context(), landing.Rule{Kind: landing.Disk, Label: label}, true, "ines")
	require.NoError(t, err)
	_, err = inv.AddRule(t.Context(), wiring.Rule{Network: "lab", Segment: "no-segment-" + h.Name}, true, "ines")
	wantCode(t, err, "wrong")
	for _, filter := range []string{"host=nowhere", "pool=lagoon", "manager=nobody"} {
		_, err = inv.Copies(t.Context(), inventory.Page{Filter: filter})
		wantCode(t, err, "wrong")
		require.ErrorContains(t, err, "There is no ", filter)
	}
	none, err := inv.Copies(t.Context(), inventory.Page{Filter: "host=" + h.Name + " state=paused"})
	require.NoError(t, err, "nothing matches, but it could")
	require.Empty(t, none.Items)
	rules, err := inv.LandingRules(t.Context())
	require.NoError(t, err)
	require.Equal(t, r, rules[0])
	require.NoError(t, inv.DropLandingRule(t.Context(), r.ID[len(r.ID)-8:], "ines"))
	wantCode(t, inv.DropLandingRule(t.Context(), r.ID, "ines"), "unknown")
	_, err = inv.AddLandingRule(t.Context(), landing.Rule{}, false, "ines")
	wantCode(t, err, "wrong")
	f := p.folder("stays-"+h.Name, uuid.NewString(), true)
	f.Machine.NICs = []machine.NIC{{Name: "NIC 1", Network: "lab"}}
	apply(t, inv, h, p, false, nil, f)
	on, err := inv.OnSwitch(t.Context(), h.ID, "lab")
	require.NoError(t, err)
	require.Len(t, on, 1)
	wantCode(t, inv.DropHost(t.Context(), h, "ines"), "taken")
	apply(t, inv, h, p, false, []string{f.Path})
	require.NoError(t, inv.DropHost(t.Context(), h, "ines"))
	_, err = inv.Host(t.Context(), h.Name)
	wantCode(t, err, "unknown")
}

// TestChangedPackage: a package that is not as it was written is told of, one
// that is still being copied is not.
func TestChangedPackage(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	shelf := "loft-" + h.Name
	lies := func(name string, bytes int64, m *machine.Machine, problem string) {
		_, err := inv.Apply(t.Context(), h, &hostlink.Survey{Revision: "s", Changed: true,
			Shelves: []hostlink.Shelf{{Name: shelf, Path: "/" + shelf}},
			Packages: []hostlink.ShelvedPackage{{Path: "/" + shelf + "/" + name, Shelf: shelf, Bytes: bytes, Machine: m,
				Problem: problem}}})
		require.NoError(t, err)
	}
	written := &machine.Machine{Name: "tides", UUID: uuid.NewString(),
		Passport: &machine.Passport{Copy: uuid.NewString(), Lineage: uuid.NewString(), MadeBy: "export",
			MadeAt: time.Now()}}
	lies("tides.ova", 1000, written, "")
	lies("tides.ova", 1000, written, "")
	require.Empty(t, waiting(t, inv, "changed-package", shelf))
	lies("tides.ova", 900, written, "")
	items := waiting(t, inv, "changed-package", shelf)
	require.Len(t, items, 1)
	require.Contains(t, items[0].Evidence, "It has 900 bytes now; it had 1000")
	lies("tides.ova", 900, written, "")
	require.Len(t, waiting(t, inv, "changed-package", shelf), 1, "it stays so")
	growing := &machine.Machine{Name: "growing", UUID: uuid.NewString()}
	lies("growing.ova", 10, growing, "")
	lies("growing.ova", 20, growing, "")
	require.Len(t, waiting(t, inv, "changed-package", shelf), 1)
	lies("growing.ova", 30, nil, "it ends after 30 bytes")
	require.Len(t, waiting(t, inv, "changed-package", shelf), 2)
	rotten := &machine.Machine{Name: "rotten", UUID: uuid.NewString()}
	lies("rotten.ova", 50, rotten, "disk1.vmdk: its digest is another")
	items = waiting(t, inv, "changed-package", shelf)
	require.Len(t, items, 3)
	require.True(t, slices.ContainsFunc(items, func(i inventory.AttentionItem) bool {
		return strings.Contains(i.Evidence, "not as it was written: disk1.vmdk")
	}), "%v", items)
	lies("rotten.ova", 50, rotten, "")
	require.Len(t, waiting(t, inv, "changed-package", shelf), 2)
}
