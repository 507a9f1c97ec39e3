package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
)

// TestBackFromChange: a plan says which command takes it back; where none does, it says nothing.
func TestBackFromChange(t *testing.T) {
	for want, req := range map[string]plan.ChangeRequest{
		"unvora change gannet/tide-gauge --cpus 2": {CPUs: 4, Media: map[string]string{},
			Add: []string{}},
		"unvora change gannet/tide-gauge --memory 2048MiB":              {MemoryBytes: 8 << 30},
		"unvora change 'gannet/two words' --name tide-gauge --cpus 2":   {Name: "two words", CPUs: 4},
		"unvora nic wire gannet/tide-gauge 'NIC 1' lab":                 {Unplug: []string{"NIC 1"}},
		"unvora disk attach gannet/tide-gauge /reef/tide-gauge/d.qcow2": {Operation: "detach", Detach: "disk1"},
	} {
		req.TakeRecommended = true
		p, err := plan.Change(sound(t), req)
		require.NoError(t, err)
		require.Equal(t, want, p.Back)
	}
	facts := sound(t)
	facts.Machine.NICs[0].Network = ""
	p, err := plan.Change(facts, plan.ChangeRequest{Wire: map[string]string{"NIC 1": "field"}, TakeRecommended: true})
	require.NoError(t, err)
	require.Equal(t, "unvora nic unplug gannet/tide-gauge 'NIC 1'", p.Back)

	for name, req := range map[string]plan.ChangeRequest{
		"a NIC that is gone": {DropNICs: []string{"NIC 1"}},
		"ids":                {Operation: "renew", Renew: []identity.Facet{identity.MAC}},
		"more than one":      {CPUs: 4, Wire: map[string]string{"NIC 1": "field"}},
		"a new serial port":  {Add: []string{"serial"}, CPUs: 4},
	} {
		req.TakeRecommended = true
		p, err := plan.Change(sound(t), req)
		require.NoError(t, err)
		require.Empty(t, p.Back, name)
	}
}

// TestBackFromAttach: a disk that came as one more is detached again; one that came in another's place is not.
func TestBackFromAttach(t *testing.T) {
	for replace, want := range map[string]string{"": "unvora disk detach gannet/tide-gauge disk2", "disk1": ""} {
		facts := sound(t)
		facts.Attach = &plan.FolderDisk{File: "tides.qcow2", Path: "/harbour/tides.qcow2", Pool: "p2", Format: "qcow2",
			VirtualBytes: 1 << 30, SectorBytes: 512, Layers: 1}
		p, err := plan.Change(facts, plan.ChangeRequest{Operation: "attach", Replace: replace, TakeRecommended: true})
		require.NoError(t, err)
		require.Equal(t, want, p.Back)
	}
}

// TestBackFromDelist: a copy comes onto its list as the one that it was; from the trash it is fetched first.
func TestBackFromDelist(t *testing.T) {
	f := sound(t)
	f.Copy.Pool = "p1"
	for _, c := range []struct {
		form  lineage.Form
		trash bool
		want  string
	}{
		{lineage.Registered, false, "unvora register reef/tide-gauge --host gannet --identity keep"},
		{lineage.Registered, true, "unvora trash restore gannet/tide-gauge && unvora register reef/tide-gauge " +
			"--host gannet --identity keep"},
		{lineage.Stray, true, "unvora trash restore gannet/tide-gauge"},
		{lineage.Hollow, false, ""},
		{lineage.Stray, false, ""},
	} {
		f.Copy.Form = c.form
		p, err := plan.Delist(plan.DelistFacts{Copy: f.Copy, Machine: f.Machine, Host: f.Host}, c.trash, nil, true)
		require.NoError(t, err)
		require.Equal(t, c.want, p.Back)
	}
}

// TestKeptAsSaid: what collides where somebody has said that the identity is kept is asked, and not renewed unasked; a
// copy that comes back to its list is as it was.
func TestKeptAsSaid(t *testing.T) {
	said := func(req plan.BringRequest) plan.BringRequest { req.Identity = identity.Keep; return req }
	for name, c := range map[string]struct {
		spoil   func(f *plan.RegisterFacts)
		req     func(req plan.BringRequest) plan.BringRequest
		verdict plan.Verdict
		mac     string
	}{
		"by an option": {func(*plan.RegisterFacts) {}, said, plan.Open, "keep"},
		"by an answer": {func(*plan.RegisterFacts) {}, func(req plan.BringRequest) plan.BringRequest {
			req.Answers = plan.Answers{"identity.origin-alive": identity.Keep}
			return req
		}, plan.Open, "keep"},
		"by nobody": {func(f *plan.RegisterFacts) { f.Origin.Status = "gone" },
			func(req plan.BringRequest) plan.BringRequest { return req }, plan.Runnable, "renew"},
		"as it was": {func(f *plan.RegisterFacts) { f.Was = &plan.Was{Host: "gannet", By: "robin"} },
			func(req plan.BringRequest) plan.BringRequest { return req }, plan.Runnable, "keep"},
		"as it is bound": {func(f *plan.RegisterFacts) {
			f.Bound = map[identity.Facet]string{identity.MAC: "licence"}
		}, said, plan.Runnable, "keep"},
	} {
		f, req := lying(t)
		f.Origin = lineage.Origin{Status: "alive", Copy: &origin}
		f.SameMAC = map[string][]lineage.Known{f.Folder.Machine.NICs[0].MAC: {origin}}
		c.spoil(&f)
		req = c.req(req)
		req.TakeRecommended = true
		p, err := plan.Register(f, req)
		require.NoError(t, err, name)
		require.Equal(t, c.verdict, p.Verdict, name)
		require.NotNil(t, finding(p, "mac.in-use"), name)
		require.Equal(t, c.mac, stepsOf[plan.GiveIDs](p)[0].Choice["mac"], name)
	}
}

// TestBoundStaysWithTheOther: what is bound to a MAC that another copy has too goes on with that one: this one's can be
// renewed.
func TestBoundStaysWithTheOther(t *testing.T) {
	facts := sound(t)
	facts.Bound = map[identity.Facet]string{identity.MAC: "licence"}
	req := plan.ChangeRequest{Operation: "renew", Renew: []identity.Facet{identity.MAC}, TakeRecommended: true}
	p, err := plan.Change(facts, req)
	require.NoError(t, err)
	require.Equal(t, "keep", finding(p, "mac.licence-bound").Answer)
	twin := origin
	twin.Lineage, facts.Lineage = "another", "l1"
	facts.SameMAC = map[string][]lineage.Known{facts.Machine.NICs[0].MAC: {twin}}
	p, err = plan.Change(facts, req)
	require.NoError(t, err)
	require.NotNil(t, finding(p, "mac.licence-bound"), "the licence is not that one's")
	twin.Lineage = "l1"
	facts.SameMAC[facts.Machine.NICs[0].MAC] = []lineage.Known{twin}
	p, err = plan.Change(facts, req)
	require.NoError(t, err)
	require.Nil(t, finding(p, "mac.licence-bound"))
	require.Equal(t, "renew", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Choice["mac"])
}

// TestTwinMoves: a machine that moves keeps its ids, though another has the same: nothing is asked, nothing renewed.
func TestTwinMoves(t *testing.T) {
	f := moving(t)
	f.SameUUID = []lineage.Known{origin}
	f.SameMAC = map[string][]lineage.Known{f.Folder.Machine.NICs[0].MAC: {origin}}
	p, err := plan.MoveMachine(f, plan.BringRequest{TakeRecommended: true})
	require.NoError(t, err)
	require.Equal(t, plan.Runnable, p.Verdict)
	for facet, choice := range stepsOf[plan.GiveIDs](p)[0].Choice {
		require.Equal(t, "keep", choice, facet)
	}
}

// TestBackFromMove: back to the host that it came from, and into the pool there; within a host into the pool alone.
func TestBackFromMove(t *testing.T) {
	f := moving(t)
	f.From.Pools = []plan.PoolFacts{{ID: "p9", Name: "shoal", Path: "/shoal"}}
	p, err := plan.MoveMachine(f, plan.BringRequest{TakeRecommended: true})
	require.NoError(t, err)
	require.Equal(t, "unvora move gannet/tide-gauge --host petrel --pool shoal", p.Back)

	f = moving(t)
	f.From, f.Pool = nil, "reef"
	f.Folder.Path, f.Folder.Pool = "/reef/tide-gauge", "p1"
	f.Folder.Disks[0].Path, f.Folder.Disks[0].Pool = "/reef/tide-gauge/d.qcow2", "p1"
	p, err = plan.MoveMachine(f, plan.BringRequest{Pool: "harbour", TakeRecommended: true})
	require.NoError(t, err)
	require.Equal(t, "unvora move gannet/tide-gauge --pool reef", p.Back)
}
