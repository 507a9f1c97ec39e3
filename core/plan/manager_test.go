package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// atManager is a machine with one disk that runs at a manager which hands out
// the disks of running machines.
func atManager(t *testing.T) (plan.RegisterFacts, plan.BringRequest) {
	f, req := lying(t)
	f.Where, f.Parent = "dunlin@mainland/surge-forecast", "c-1"
	f.From = &plan.HostFacts{ID: "m-h", Name: "dunlin@mainland", State: "up"}
	f.Folder = plan.Folder{Path: "/cimi/machines/surge-forecast", State: "running", Machine: f.Folder.Machine,
		Disks: []plan.FolderDisk{{ID: "disk1", File: "/cimi/volumes/1", Path: "/cimi/volumes/1", Format: "qcow2",
			VirtualBytes: 4 << 30, FileBytes: 4 << 30}}}
	f.Manager = &plan.ManagerFacts{Name: "mainland", Live: true, May: true}
	req.Files = plan.Copy
	return f, req
}

// TestFromManager: images are made while a machine is stopped, or as it runs; it
// is started again before anything is read, and the images are removed last.
func TestFromManager(t *testing.T) {
	f, req := atManager(t)
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable, "%v", p.Findings)
	require.Equal(t, "import", p.Operation)
	require.Equal(t, []string{plan.KindStop, plan.KindTakeImages, plan.KindStart, plan.KindGiveIDs, plan.KindCarry,
		plan.KindPlace, plan.KindRecord, plan.KindDropImages}, kinds(p))
	require.Equal(t, map[string]string{"disk1": "/cimi/volumes/1"},
		do[plan.TakeImages](t, p, plan.KindTakeImages).Volumes)
	require.Equal(t, "m-h", do[plan.Carry](t, p, plan.KindCarry).FromHost)
	require.Equal(t, "c-1", do[plan.Record](t, p, plan.KindRecord).Parent)

	req.Answers = plan.Answers{"manager.running": "moment"}
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotContains(t, kinds(p), plan.KindStop)

	f.Manager.Live = false
	_, err = plan.Register(f, req)
	require.ErrorContains(t, err, "manager.running has no remedy \"moment\"")
	req.Answers = nil
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.NotNil(t, finding(p, "manager.stopped-only"))

	f.Folder.State = "stopped"
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Nil(t, finding(p, "manager.stopped-only"))
	require.Nil(t, finding(p, "manager.running"))

	f.Manager.May = false
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.False(t, p.Runnable)
	require.NotNil(t, finding(p, "manager.rights"))
	f.Manager.May = true

	f.From.State = "unreachable"
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "host.unreachable"))
}

// TestFetchAhead: the first time everything, then the difference, which an import
// uses up.
func TestFetchAhead(t *testing.T) {
	f, req := atManager(t)
	p, err := plan.FetchAhead(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindStop, plan.KindTakeImages, plan.KindStart, plan.KindCarry, plan.KindNoteAhead},
		kinds(p))
	first := do[plan.NoteAhead](t, p, plan.KindNoteAhead).Paths["disk1"]
	require.Contains(t, first, plan.AheadDir("/reef", "c-1")+"/")
	require.Equal(t, int64(4<<30), p.Bytes)

	f.Manager.Ahead = map[string]plan.AheadOne{"disk1": {Path: first, Image: "/cimi/volumeImages/1", When: "3 min ago"}}
	p, err = plan.FetchAhead(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "manager.ahead"))
	require.Equal(t, map[string]string{"disk1": "/cimi/volumeImages/1"},
		do[plan.TakeImages](t, p, plan.KindTakeImages).Since)
	require.Equal(t, first, do[plan.Carry](t, p, plan.KindCarry).Ahead)
	note := do[plan.NoteAhead](t, p, plan.KindNoteAhead)
	require.NotEqual(t, first, note.Paths["disk1"], "they lie beside each other for a while")
	require.Equal(t, []string{first}, do[plan.UseAhead](t, p, plan.KindUseAhead).Files)
	require.Equal(t, []string{"/cimi/volumeImages/1"}, do[plan.DropImages](t, p, plan.KindDropImages).Others)
	require.Zero(t, p.Bytes, "nobody knows how much has changed")

	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, first, do[plan.Carry](t, p, plan.KindCarry).Ahead)
	require.Equal(t, []string{plan.KindRecord, plan.KindDropImages, plan.KindUseAhead, plan.KindNoteAhead},
		kinds(p)[len(p.Steps)-4:])

	// What was fetched ahead to another host is removed there, with its image.
	stale := f
	stale.Manager = &plan.ManagerFacts{Name: "mainland", Live: true, May: true,
		Stale: []plan.StaleOne{{Host: "skua", Path: "/shoal/.unvora/ahead/c-1/x", Image: "/cimi/volumeImages/0"}}}
	p, err = plan.FetchAhead(stale, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindNoteAhead, plan.KindUseAhead, plan.KindDropImages}, kinds(p)[len(p.Steps)-3:])
	require.Equal(t, "skua", p.Steps[len(p.Steps)-2].Host)
	require.Equal(t, []string{"/cimi/volumeImages/0"}, do[plan.DropImages](t, p, plan.KindDropImages).Others)
	p, err = plan.Register(stale, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindRecord, plan.KindDropImages, plan.KindUseAhead, plan.KindNoteAhead},
		kinds(p)[len(p.Steps)-4:])
	require.Empty(t, do[plan.Carry](t, p, plan.KindCarry).Ahead)

	// Another host that reads and converts has nothing of what was fetched ahead.
	f.Via = &plan.HostFacts{ID: "v", Name: "petrel", State: "up"}
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	c := do[plan.Carry](t, p, plan.KindCarry)
	require.Equal(t, "v", c.Via)
	require.Empty(t, c.Ahead)
	require.Empty(t, do[plan.TakeImages](t, p, plan.KindTakeImages).Since)
}

// TestFromPeer: another Unvora stops, starts and takes away by itself.
func TestFromPeer(t *testing.T) {
	f, req := atManager(t)
	f.Manager = &plan.ManagerFacts{Name: "island", Peer: true, May: true}
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotContains(t, kinds(p), plan.KindStop)
	require.NotContains(t, kinds(p), plan.KindStart)
	require.True(t, do[plan.TakeImages](t, p, plan.KindTakeImages).Stop)

	req.Files = plan.Move
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, do[plan.TakeImages](t, p, plan.KindTakeImages).Move)
	require.NotContains(t, kinds(p), plan.KindTakeAway)

	f.Manager.May = false
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Contains(t, finding(p, "manager.rights").Message, "see it, and not take it")
}

func TestLend(t *testing.T) {
	f, _ := lying(t)
	k := lineage.Known{ID: "c-1", Name: "tide-gauge", Host: "gannet", Path: "/reef/tide-gauge", Form: "registered",
		State: "running"}
	facts := plan.LendFacts{Delist: plan.DelistFacts{Copy: k, Machine: f.Folder.Machine, Host: f.Host}, Peer: "island",
		Bytes: 1 << 20}
	for _, c := range []struct {
		stop, move bool
		want       []string
	}{
		{false, false, []string{plan.KindLend}},
		{true, false, []string{plan.KindStop, plan.KindLend, plan.KindStart}},
		{true, true, []string{plan.KindStop, plan.KindLend, plan.KindDelist, plan.KindTakeAway, plan.KindForget}},
	} {
		facts.Stop, facts.Move = c.stop, c.move
		p, err := plan.LendOut(facts)
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, c.want, kinds(p))
	}
	facts.Delist.Busy = "j-1"
	p, err := plan.LendOut(facts)
	require.NoError(t, err)
	keep(t, p)
	require.False(t, p.Runnable)
}

// TestPutBack: beside the machine that is still there, or in its place.
func TestPutBack(t *testing.T) {
	f, req := lying(t)
	m := f.Folder.Machine
	m.Disks[0].FileBytes = 1 << 20
	facts := plan.PutBackFacts{Copy: lineage.Known{ID: "c-2", Name: "tide-gauge", Host: "gannet",
		Path:  "/reef/tide-gauge",
		State: "stopped"}, Machine: m, Host: f.Host, Manager: "mainland", May: true,
		There: plan.HostFacts{ID: "m-h", Name: "dunlin@mainland", State: "up",
			Switches: []wiring.Switch{{Name: "laboratory", VLAN: 20}}}, Names: []string{"tide-gauge"}}
	p, err := plan.PutBack(facts, req)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable, "%v", p.Findings)
	require.Equal(t, []string{plan.KindMakeRoom, plan.KindSend, plan.KindMakeThere}, kinds(p))
	made := do[plan.MakeThere](t, p, plan.KindMakeThere)
	require.Equal(t, "dunlin", made.Host)
	require.Equal(t, "laboratory", made.Machine.NICs[0].Network)
	require.Equal(t, m.NICs[0].MAC, made.Machine.NICs[0].MAC)

	facts.Origin = &lineage.Known{ID: "c-1", Name: "tide-gauge", Host: "dunlin@mainland", Path: "/cimi/machines/1",
		State: "running"}
	p, err = plan.PutBack(facts, plan.BringRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.Len(t, p.OpenChoices(), 1)
	p, err = plan.PutBack(facts, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindGiveIDs, plan.KindMakeRoom, plan.KindSend, plan.KindMakeThere}, kinds(p))
	require.Equal(t, "tide-gauge-2", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.Name)

	req.Answers = plan.Answers{"manager.still-there": "replace"}
	p, err = plan.PutBack(facts, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindMakeRoom, plan.KindSend, plan.KindStop, plan.KindMakeThere,
		plan.KindRemoveThere},
		kinds(p), "the one that runs there is stopped no sooner than it has to be")
	require.Equal(t, p.Steps[3].ID, *p.PointOfNoReturn, "what is made there can be removed again, what is removed "+
		"can't "+
		"be made again")
	require.Equal(t, "/cimi/machines/1", do[plan.RemoveThere](t, p, plan.KindRemoveThere).Machine)

	facts.May, facts.Pool = false, "away"
	p, err = plan.PutBack(facts, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "manager.rights"))
	require.NotNil(t, finding(p, "pool.away"))
	facts.Machine.NICs = []machine.NIC{{Name: "NIC 1", MAC: "06:5c:00:00:00:01", Network: "visitors", VLAN: 40}}
	p, err = plan.PutBack(facts, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "network.unmapped"))
}
