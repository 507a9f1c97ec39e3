package plan_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// freezing is what a host can whose machines are followed.
var freezing = []fit.Ability{fit.Freezes}

// moving is tide-gauge, registered on petrel, about to be moved to gannet.
func moving(t *testing.T) plan.MoveFacts {
	f, _ := lying(t)
	f.Where, f.Copy, f.Lineage, f.Parent = "petrel/tide-gauge", "c1", "l1", "c0"
	f.Folder.Registered, f.Folder.Path, f.Folder.Pool = true, "/shoal/tide-gauge", "p9"
	f.Folder.Disks[0].Path, f.Folder.Disks[0].Pool = "/shoal/tide-gauge/d.qcow2", "p9"
	f.From = &plan.HostFacts{ID: "h2", Name: "petrel", State: plan.HostUp, Family: f.Host.Family}
	return plan.MoveFacts{RegisterFacts: f}
}

// TestMove: a machine is taken off the list where it is before it is listed where it goes, its files go to the trash,
// and it runs again if it ran. It keeps what it is.
func TestMove(t *testing.T) {
	const stopped = "give-ids carry delist place take-away record"
	here := func(f *plan.MoveFacts) {
		f.From, f.Pool = nil, "reef"
		f.Folder.Path, f.Folder.Pool = "/reef/tide-gauge", "p1"
		f.Folder.Disks[0].Path, f.Folder.Disks[0].Pool = "/reef/tide-gauge/d.qcow2", "p1"
	}
	tonight := time.Date(2026, 12, 2, 22, 0, 0, 0, time.UTC)
	late := tonight.Add(90 * time.Minute)
	elsewhere := moving(t) // a disk of it lies in another pool
	elsewhere.Folder.State, elsewhere.From.Can = machine.Running, freezing
	elsewhere.Folder.Disks[0].Path, elsewhere.Folder.Disks[0].Pool = "/harbour/tide-gauge-disks/d.qcow2", "p7"
	p, err := plan.MoveMachine(elsewhere, plan.BringRequest{TakeRecommended: true})
	require.NoError(t, err)
	freezes := stepsOf[plan.Freeze](p)
	require.Len(t, freezes, 2)
	require.Equal(t, "/harbour/tide-gauge-disks/d.qcow2", freezes[0].Disks[0].Path)
	require.Equal(t, elsewhere.Folder.Path+"/"+freezes[0].Disks[0].File, freezes[1].Disks[0].Path)
	for name, c := range map[string]struct {
		req   plan.BringRequest
		spoil func(f *plan.MoveFacts)
		finds string
		steps string
	}{
		"stopped": {plan.BringRequest{}, nil, "", stopped},
		"one that runs": {plan.BringRequest{Answers: plan.Answers{"state.running": "stop"}},
			func(f *plan.MoveFacts) { f.Folder.State = machine.Running }, "state.running",
			"stop " + stopped + " start"},
		"one that is followed": {plan.BringRequest{},
			func(f *plan.MoveFacts) {
				f.Folder.State, f.From.Can = machine.Running, freezing
				f.Folder.Disks[0].Unclean = true // as it is while it runs
			}, "state.running", "freeze give-ids carry freeze follow stop follow delist place take-away " +
				"record start"},
		"one that is followed with its firmware's settings": {plan.BringRequest{},
			func(f *plan.MoveFacts) {
				f.Folder.State, f.From.Can = machine.Running, freezing
				f.Folder.Machine.Variables = "v.fd"
				f.Folder.Files = append(f.Folder.Files, "v.fd")
			}, "state.running", "freeze give-ids carry freeze follow stop follow carry delist place " +
				"take-away record start"},
		"one that is followed as far as its layers go": {plan.BringRequest{},
			func(f *plan.MoveFacts) {
				f.Folder.State, f.From.Can = machine.Running, freezing
				f.From.Family.MaxLayers = f.Folder.Disks[0].Layers + 1
			}, "state.running", "freeze give-ids carry stop follow delist place take-away record start"},
		"one that is copied ahead": {plan.BringRequest{CutOver: &plan.Await{}},
			func(f *plan.MoveFacts) {
				f.Folder.State, f.From.Can = machine.Running, freezing
			}, "state.running", "freeze give-ids carry await freeze follow stop follow delist place take-away " +
				"record start"},
		"one that waits since it can't be copied ahead": {plan.BringRequest{CutOver: &plan.Await{At: &tonight,
			Until: &late}}, nil, "", "await " + stopped},
		"one that is not followed into a format that nothing is written into": {
			plan.BringRequest{Disks: map[string]string{"disk1": ":vhdx"}},
			func(f *plan.MoveFacts) {
				f.Folder.State, f.From.Can = machine.Running, freezing
				f.Host.Family.Formats = append(f.Host.Family.Formats, "vhdx")
			}, "state.running", "stop " + stopped + " start"},
		"another pool": {plan.BringRequest{Pool: "harbour"}, here, "", stopped},
		"its firmware's settings": {plan.BringRequest{}, func(f *plan.MoveFacts) {
			f.Folder.Machine.Variables = "v.fd"
			f.Folder.Files = append(f.Folder.Files, "v.fd")
		}, "", "give-ids carry carry delist place take-away record"},
		"its MAC was another's too": {plan.BringRequest{}, func(f *plan.MoveFacts) {
			f.SameMAC = map[string][]lineage.Known{f.Folder.Machine.NICs[0].MAC: {origin}}
			f.Guest = &fit.Guest{Name: "tide-gauge"}
		}, "", stopped},
		"suspended": {plan.BringRequest{Answers: plan.Answers{"state.suspended": "drop"}}, func(f *plan.MoveFacts) {
			f.Folder.State, f.Folder.Machine.Suspended = machine.Suspended, true
		}, "state.suspended", "give-ids carry stop delist place take-away record"},
		"with snapshots": {plan.BringRequest{}, func(f *plan.MoveFacts) {
			f.Folder.Machine.Tree = []machine.Snapshot{{Name: "monday"}, {Name: "tuesday"}}
		}, "snapshot.unportable", stopped},
		"others stand on it": {plan.BringRequest{}, func(f *plan.MoveFacts) { f.Folder.StoodOn = []string{"class-01"} },
			"copy.stood-on", ""},
		"the host that it leaves is away": {plan.BringRequest{}, func(f *plan.MoveFacts) {
			f.From.State = plan.HostUnreachable
		}, "host.unreachable", ""},
	} {
		facts := moving(t)
		facts.Origin = lineage.Origin{Status: "alive", Copy: &origin} // it is never asked whether it keeps its ids
		if c.spoil != nil {
			c.spoil(&facts)
		}
		c.req.TakeRecommended = true
		p, err := plan.MoveMachine(facts, c.req)
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, "move", p.Operation)
		require.Nil(t, finding(p, "identity.origin-alive"), name)
		require.Nil(t, finding(p, "mac.in-use"), name)
		require.Nil(t, finding(p, "identity.guest-inside"), name)
		if c.finds != "" {
			require.NotNil(t, finding(p, c.finds), name)
		}
		if c.steps == "" {
			require.Equal(t, plan.Blocked, p.Verdict, name)
			continue
		}
		require.Equal(t, plan.Runnable, p.Verdict, name)
		require.Contains(t, outline(p)+" ", "/ "+c.steps+" ", name)
		require.Nil(t, p.PointOfNoReturn, "%s: all of it can be taken back", name)
		for _, g := range stepsOf[plan.GiveIDs](p) {
			for facet, choice := range g.Choice {
				require.Equal(t, "keep", choice, "%s: %s", name, facet)
			}
		}
		rec := stepsOf[plan.Record](p)[0]
		require.Equal(t, "c1", rec.Copy, "it stays the copy that it is")
		require.Equal(t, "tide-gauge", rec.Name)
		off, away := stepsOf[plan.Unlist](p)[0], stepsOf[plan.TakeAway](p)[0]
		require.Equal(t, facts.Folder.Path, off.Folder)
		require.Equal(t, facts.Folder.Path, away.Folder)
		for _, s := range stepsOf[plan.Start](p) {
			require.Equal(t, plan.Power{Copy: "c1", Folder: rec.Path}, s.Power)
		}
		ids := map[string]bool{}
		for _, s := range p.Steps {
			require.False(t, ids[s.ID], "%s: %s is there twice", name, s.ID)
			ids[s.ID] = true
			if _, ok := s.Do.(*plan.Unlist); ok && facts.From != nil {
				require.Equal(t, "petrel", s.Host)
			}
		}
	}
	for _, pool := range []string{"", "reef", "REEF", "fast"} {
		facts := moving(t)
		here(&facts)
		at := slices.IndexFunc(facts.Host.Pools, func(p plan.PoolFacts) bool { return p.Name == "reef" })
		facts.Host.Pools[at].Labels = []string{"fast"}
		_, err := plan.MoveMachine(facts, plan.BringRequest{Pool: pool, TakeRecommended: true})
		require.ErrorContains(t, err, "is at gannet already")
	}
}
