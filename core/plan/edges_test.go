package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
)

// remedies are the ids of what a finding offers.
func remedies(f *fit.Finding) (ids []string) {
	for _, r := range f.Remedies {
		ids = append(ids, r.ID)
	}
	return ids
}

// TestClockEdges: a minute this way or that is no matter, a second more is told.
func TestClockEdges(t *testing.T) {
	for off, told := range map[int64]bool{0: false, 60: false, -60: false, 61: true, -61: true} {
		f, req := lying(t)
		f.Host.ClockOff = off
		p, err := plan.Register(f, req)
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, told, finding(p, "host.clock") != nil, "%d s", off)
	}
}

// TestGatherLands: disks that stay have their machine beside the first of them, if that pool takes new files; copied
// ones go where all machines go.
func TestGatherLands(t *testing.T) {
	for name, c := range map[string]struct {
		pool  string
		state plan.PoolState

		files, wish, lands string
	}{
		"beside the first disk":  {"p2", "ready", plan.Stay, "", "p2"},
		"copied":                 {"p2", "ready", plan.Copy, "", "p1"},
		"where it is wished":     {"p2", "ready", plan.Stay, "reef", "p1"},
		"in the first pool":      {"p1", "ready", plan.Stay, "", "p1"},
		"its pool takes nothing": {"p2", "resting", plan.Copy, "", "p1"},
	} {
		f, req := lying(t)
		f.Folder.Machine, f.Folder.Pool = nil, c.pool
		f.Host.Pools[1].State = c.state
		req.Name, req.Files, req.Pool = "tides", c.files, c.wish
		p, err := plan.Gather(f, req)
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, c.lands, do[plan.Place](t, p, plan.KindPlace).PoolID, name)
	}
}

// TestDeviations: what a package says otherwise than usual is told with what fits it, and no more.
func TestDeviations(t *testing.T) {
	s := plainCase(t)
	s.req.TakeRecommended = true
	_, err := s.plan(t)
	require.NoError(t, err)
	s.facts.Package.Deviations = []ovf.Deviation{
		{Code: "descriptor.deployment-options", Subject: "large", Message: "Small or large."},
		{Code: "manifest.incomplete", Subject: "d.vmdk", Message: "It has no digest."}}
	_, err = plan.Import(s.facts, s.req)
	require.ErrorContains(t, err, "descriptor.deployment-options", "the package has no such option")

	s.req.TakeRecommended = false
	p, err := plan.Import(s.facts, s.req)
	require.NoError(t, err)
	keep(t, p)
	options := finding(p, "descriptor.deployment-options")
	require.Contains(t, remedies(options), "pick")
	for _, r := range options.Remedies {
		if r.ID == "pick" {
			require.Equal(t, "Take large", r.Label)
			require.Equal(t, "large", r.Value)
		}
	}
	require.NotContains(t, remedies(finding(p, "manifest.incomplete")), "pick")
}

// TestPoolThatIsLeft: what keeps a pool from being written to is no matter for one that files are only copied out of.
func TestPoolThatIsLeft(t *testing.T) {
	for name, c := range map[string]struct {
		files string
		from  *plan.HostFacts
		told  bool
	}{
		"stay":               {plan.Stay, nil, true},
		"move away":          {plan.Move, nil, true},
		"copy":               {plan.Copy, nil, false},
		"move from far away": {plan.Move, &plan.HostFacts{ID: "o", Name: "petrel", State: "up"}, false},
	} {
		f, req := lying(t)
		f.Host.Pools[0].State, f.From = "resting", c.from
		if req.Files = c.files; c.files != plan.Stay {
			req.Pool = "harbour"
		}
		p, err := plan.Register(f, req)
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, c.told, finding(p, "pool.resting") != nil, name)
	}
}

// TestOpenChoices: a plan with nothing but open choices has its steps, and waits.
func TestOpenChoices(t *testing.T) {
	f, req := lying(t)
	f.Folder.Machine.NICs[0].Network, f.Folder.Machine.NICs[0].Segment, f.Folder.Machine.NICs[0].VLAN = "far", "far", 99
	req.TakeRecommended = false
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Open, p.Verdict)
	require.False(t, p.Runnable)
	require.NotEmpty(t, p.OpenChoices())
	require.NotEmpty(t, p.Steps)
	req.TakeRecommended = true
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Runnable, p.Verdict)
	require.Empty(t, p.OpenChoices())
}

// TestWhatWasSo: what a machine did not fit before is not told when something else of it is changed; too much of what
// its host has to share is.
func TestWhatWasSo(t *testing.T) {
	facts := sound(t)
	facts.Machine.NICs[0].Model = "RTL8139"
	p, err := plan.Change(facts, plan.ChangeRequest{CPUs: 3, TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.Nil(t, finding(p, "nic.model"))
	facts.Machine.CPUs = 999
	p, err = plan.Change(facts, plan.ChangeRequest{MemoryBytes: 3 << 30, TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.Nil(t, finding(p, "nic.model"))
	require.NotNil(t, finding(p, "cpu.too-many"))
	facts = sound(t)
	p, err = plan.Change(facts, plan.ChangeRequest{MemoryBytes: 1 << 50, TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "memory.too-much"))
}

// TestFolderTakesName: a folder is renamed only when that is asked for and there is another name.
func TestFolderTakesName(t *testing.T) {
	for _, c := range []struct {
		name   string
		folder bool
		rename string
		path   string
	}{{"", true, "", "/reef/tide-gauge"}, {"tide-gauge", true, "", "/reef/tide-gauge"},
		{"tide-probe", false, "", "/reef/tide-gauge"}, {"tide-probe", true, "tide-probe", "/reef/tide-probe"}} {
		p, err := plan.Change(sound(t), plan.ChangeRequest{Name: c.name, Folder: c.folder, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, c.rename, do[plan.Alter](t, p, plan.KindAlter).Rename, "%+v", c)
		require.Equal(t, c.path, do[plan.Record](t, p, plan.KindRecord).Path, "%+v", c)
	}
}

// TestRunningCopyIsStopped: a change of a copy that runs stops it first and starts it again last, in its new folder.
func TestRunningCopyIsStopped(t *testing.T) {
	facts := sound(t)
	facts.Copy.State = "running"
	p, err := plan.Change(facts, plan.ChangeRequest{Name: "tide-probe", Folder: true, TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, "state.running / stop give-ids alter start record", outline(p))
	require.Equal(t, "/reef/tide-gauge", do[plan.Stop](t, p, plan.KindStop).Folder)
	require.Equal(t, "/reef/tide-probe", do[plan.Start](t, p, plan.KindStart).Folder)
	p, err = plan.Change(facts, plan.ChangeRequest{CPUs: 3})
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Open, p.Verdict, "nothing is stopped that nobody has agreed to")
}

// TestPowerOfSoundCopies: what stands is started, what runs is stopped, paused and suspended, where the hypervisor can;
// what is so already takes no step.
func TestPowerOfSoundCopies(t *testing.T) {
	copy := sound(t).Copy
	can := []fit.Ability{fit.Pauses, fit.Suspends, fit.BootsOnce}
	for _, c := range []struct {
		operation string
		state     machine.State
		host      plan.HostState
		can       []fit.Ability
		want      string
	}{
		{"start", "stopped", "up", nil, " / start"}, {"start", "running", "up", nil, " / "},
		{"stop", "running", "up", nil, " / stop"}, {"stop", "stopped", "up", nil, " / "},
		{"start", "stopped", "resting", nil, " / start"},
		{"stop", "running", "unreachable", nil, "host.unreachable / stop"},
		{"start", "away", "up", nil, "pool.away / start"},
		{"start", "paused", "up", nil, " / start"}, {"stop", "paused", "up", nil, " / stop"},
		{"stop", "unknown", "up", nil, " / stop"}, {"start", "unknown", "up", nil, " / start"},
		{"start", "suspended", "up", nil, " / start"}, {"stop", "suspended", "up", nil, "state.suspended / stop"},
		{"pause", "running", "up", can, " / pause"}, {"pause", "running", "up", nil, "host.unable / pause"},
		{"pause", "paused", "up", can, " / "}, {"pause", "stopped", "up", can, "state.not-running / pause"},
		{"suspend", "running", "up", can, " / suspend"}, {"suspend", "paused", "up", can, " / suspend"},
		{"suspend", "running", "up", can[:1], "host.unable / suspend"}, {"suspend", "suspended", "up", can, " / "},
		{"suspend", "stopped", "up", can, "state.not-running / suspend"},
	} {
		copy.State = c.state
		host := plan.HostFacts{State: c.host, Abilities: fit.Abilities{Can: c.can}}
		p, err := power([]plan.PowerFacts{{Copy: copy, Host: host, Machine: sound(t).Machine}},
			plan.PowerRequest{Operation: c.operation, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, c.want, outline(p), "%+v", c)
	}
}

// TestStoppingIsSaid: who turns a machine off is told what that means, and who drops a suspended state has to say so.
func TestStoppingIsSaid(t *testing.T) {
	copy := sound(t).Copy
	host := plan.HostFacts{State: plan.HostUp}
	stop := func(state machine.State, how machine.Manner, answers plan.Answers) *plan.Plan {
		t.Helper()
		copy.State = state
		p, err := power([]plan.PowerFacts{{Copy: copy, Host: host}}, plan.PowerRequest{Operation: plan.OpStop,
			Manner: how, Answers: answers, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		return p
	}
	p := stop("running", machine.Off, nil)
	require.True(t, p.Runnable)
	require.Equal(t, "state.cut-off / stop", outline(p))
	require.Equal(t, machine.Off, p.Steps[0].Do.(*plan.Stop).Manner)
	require.Equal(t, machine.CleanOnly, stop("running", machine.CleanOnly, nil).Steps[0].Do.(*plan.Stop).Manner)
	require.Equal(t, plan.Open, stop("suspended", "", nil).Verdict, "nobody loses what is in memory by --yes")
	p = stop("suspended", "", plan.Answers{"state.suspended": "drop"})
	require.True(t, p.Runnable)
	require.Equal(t, machine.Off, p.Steps[0].Do.(*plan.Stop).Manner)
}

// TestSuspending: a state that can't be saved, or has no room, is told before anything is done.
func TestSuspending(t *testing.T) {
	family, err := fit.FamilyByName("qemu")
	require.NoError(t, err)
	facts := plan.PowerFacts{Copy: sound(t).Copy, Machine: &machine.Machine{MemoryBytes: 1 << 30,
		Disks: []machine.Disk{{ID: "disk1", Format: "qcow2", Controller: "virtio-blk"}}},
		Host: plan.HostFacts{Name: "tern", State: plan.HostUp, Family: family, Abilities: fit.Abilities{
			Can: []fit.Ability{fit.Suspends}}, Pools: []plan.PoolFacts{{ID: "p", Name: "mooring", FreeBytes: 1 << 30}}}}
	facts.Copy.State, facts.Copy.Pool = machine.Running, "p"
	suspend := func(facts ...plan.PowerFacts) *plan.Plan {
		t.Helper()
		p, err := power(facts, plan.PowerRequest{Operation: plan.OpSuspend})
		require.NoError(t, err)
		keep(t, p)
		return p
	}
	p := suspend(facts)
	require.Equal(t, " / suspend", outline(p))
	require.NotNil(t, finding(suspend(facts, facts), "space.short"), "there is room for one")
	for _, unfit := range []machine.Disk{{ID: "disk2", Format: "vmdk", Controller: "virtio-blk"},
		{ID: "disk2", Format: "raw", Controller: "NVMe"}} {
		other := facts
		other.Machine = facts.Machine.Clone()
		other.Machine.Disks = append(other.Machine.Disks, unfit)
		require.Contains(t, finding(suspend(other), "state.not-savable").Message, "disk2")
	}
}

// TestBootOnce: a start from another device than usual is for a machine that stands, and a device that it has.
func TestBootOnce(t *testing.T) {
	facts := plan.PowerFacts{Copy: sound(t).Copy, Machine: &machine.Machine{
		Devices: []machine.Device{{Name: "cd1", Kind: machine.DeviceCD}, {Name: "sound1", Kind: "sound"}}},
		Host: plan.HostFacts{State: plan.HostUp, Abilities: fit.Abilities{Can: []fit.Ability{fit.BootsOnce}}}}
	start := func(state machine.State, from string) (*plan.Plan, error) {
		facts.Copy.State = state
		return power([]plan.PowerFacts{facts}, plan.PowerRequest{Operation: plan.OpStart, Boot: from})
	}
	p, err := start("stopped", "cd1")
	require.NoError(t, err)
	require.Equal(t, " / start", outline(p))
	require.Equal(t, "cd1", p.Steps[0].Do.(*plan.Start).Boot)
	_, err = start("stopped", "sound1")
	require.ErrorContains(t, err, `nothing called "sound1"`)
	for _, state := range []machine.State{"running", "paused", "suspended"} {
		p, err = start(state, "cd1")
		require.NoError(t, err)
		require.NotNil(t, finding(p, "state.underway"), state)
	}
	facts.Host.Can = nil
	p, err = start("stopped", "cd1")
	require.NoError(t, err)
	require.NotNil(t, finding(p, "host.unable"))
}

// TestTwinsDontBothRun: a copy is not started while one with its ids runs, or is started along with it; in quarantine
// nobody else sees it.
func TestTwinsDontBothRun(t *testing.T) {
	one := sound(t).Copy
	twin := one
	twin.ID, twin.Name, twin.State = "c2", "tide-probe", "stopped"
	start := func(facts ...plan.PowerFacts) string {
		p, err := power(facts, plan.PowerRequest{Operation: plan.OpStart, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		return outline(p)
	}
	facts := plan.PowerFacts{Copy: one, Host: plan.HostFacts{State: "up"}, SameMAC: []lineage.Known{twin}}
	require.Equal(t, " / start", start(facts), "the twin stands")
	facts.SameMAC[0].State = "running"
	require.Equal(t, "identity.collides / start", start(facts))
	alone := facts
	alone.Isolated = true
	require.Equal(t, " / start", start(alone))
	facts.SameMAC, facts.SameUUID = nil, []lineage.Known{twin}
	other := plan.PowerFacts{Copy: twin, Host: plan.HostFacts{State: "up"}}
	require.Equal(t, "identity.collides / start start", start(facts, other), "both at once")
	other.Isolated = true
	require.Equal(t, " / start start", start(facts, other))
}

// TestChangedWhileItRuns: what only touches disks, NICs and media is done at once where the hypervisor can; anything
// else waits for the machine to be stopped.
func TestChangedWhileItRuns(t *testing.T) {
	const atOnce = "state.live / give-ids adapt alter record"
	const stopped = "state.running / stop give-ids alter start record"
	for name, c := range map[string]struct {
		req   plan.ChangeRequest
		spoil func(f *plan.ChangeFacts)
		want  string
	}{
		"another switch": {plan.ChangeRequest{Wire: map[string]string{"NIC 1": "field"}}, nil, atOnce},
		"unplugged":      {plan.ChangeRequest{Unplug: []string{"NIC 1"}}, nil, atOnce},
		"a NIC more":     {plan.ChangeRequest{AddNICs: []string{"field"}}, nil, atOnce},
		"a NIC less":     {plan.ChangeRequest{DropNICs: []string{"NIC 1"}}, nil, atOnce},
		"a medium":       {plan.ChangeRequest{Media: map[string]string{"cd 1": "../x.iso"}}, nil, atOnce},
		"memory":         {plan.ChangeRequest{MemoryBytes: 8 << 30}, nil, stopped},
		"a drive":        {plan.ChangeRequest{Add: []string{"cd"}}, nil, stopped},
		"a new identity": {plan.ChangeRequest{Renew: []identity.Facet{identity.MAC}}, nil, stopped},
		"with memory": {plan.ChangeRequest{Unplug: []string{"NIC 1"}, MemoryBytes: 8 << 30}, nil,
			stopped},
		"paused": {plan.ChangeRequest{Unplug: []string{"NIC 1"}},
			func(f *plan.ChangeFacts) { f.Copy.State = machine.Paused }, stopped},
		"a hypervisor that can't": {plan.ChangeRequest{Unplug: []string{"NIC 1"}},
			func(f *plan.ChangeFacts) { f.Host.Can = nil }, stopped},
		"a disk on a fixed controller": {plan.ChangeRequest{Operation: "detach", Detach: "disk1"},
			func(f *plan.ChangeFacts) { f.Machine.Disks[0].Controller = "ahci" }, "disk.nothing-bootable " + stopped},
		"a disk": {plan.ChangeRequest{Operation: "detach", Detach: "disk1"},
			func(f *plan.ChangeFacts) { f.Machine.Disks[0].Controller = "virtio-scsi" },
			"disk.nothing-bootable " + atOnce},
		"suspended": {plan.ChangeRequest{Unplug: []string{"NIC 1"}},
			func(f *plan.ChangeFacts) { f.Copy.State = machine.Suspended }, "state.held / give-ids alter record"},
	} {
		facts := sound(t)
		facts.Copy.State = machine.Running
		facts.Host.Can = []fit.Ability{fit.ChangesLive}
		facts.Machine.Devices = []machine.Device{{Kind: machine.DeviceCD, Name: "cd 1"}}
		if c.spoil != nil {
			c.spoil(&facts)
		}
		c.req.TakeRecommended = true
		p, err := plan.Change(facts, c.req)
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, c.want, outline(p), name)
	}
	_, err := plan.Change(sound(t), plan.ChangeRequest{Media: map[string]string{"cd 7": ""}})
	require.ErrorContains(t, err, `no drive "cd 7"`)
}

// TestEstimate: a plan's time is told by what was measured for its steps, and by how many of its jobs run at once.
func TestEstimate(t *testing.T) {
	p := &plan.Plan{Jobs: 1, Steps: []plan.Step{{Bytes: 1500 << 20}, {}, {Bytes: 1500 << 20}}}
	for what, c := range map[string]struct {
		paces  []float64
		most   int64
		jobs   int
		atOnce int
		want   int64
	}{
		"nothing is known":      {nil, 0, 1, 2, 20},
		"one was measured":      {[]float64{30 << 20, 0, 0}, 0, 1, 2, 60},
		"no faster than it may": {[]float64{30 << 20, 0, 300 << 20}, 10 << 20, 1, 1, 300},
		"two jobs at once":      {[]float64{30 << 20, 0, 30 << 20}, 0, 2, 4, 50},
		"two jobs, one by one":  {[]float64{30 << 20, 0, 30 << 20}, 0, 2, 1, 100},
	} {
		p.Jobs = c.jobs
		p.Estimate(c.paces, c.most, c.atOnce)
		require.Equal(t, c.want, p.Seconds, what)
	}
	p.Steps = nil
	p.Estimate(nil, 0, 1)
	require.EqualValues(t, 1, p.Seconds, "at least")
}
