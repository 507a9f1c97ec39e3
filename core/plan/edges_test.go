package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
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
	require.Equal(t, plan.Open, p.Verdict)
	require.False(t, p.Runnable)
	require.NotEmpty(t, p.OpenChoices())
	require.NotEmpty(t, p.Steps)
	req.TakeRecommended = true
	p, err = plan.Register(f, req)
	require.NoError(t, err)
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
	require.Nil(t, finding(p, "nic.model"))
	facts.Machine.CPUs = 999
	p, err = plan.Change(facts, plan.ChangeRequest{MemoryBytes: 3 << 30, TakeRecommended: true})
	require.NoError(t, err)
	require.Nil(t, finding(p, "nic.model"))
	require.NotNil(t, finding(p, "cpu.too-many"))
	facts = sound(t)
	p, err = plan.Change(facts, plan.ChangeRequest{MemoryBytes: 1 << 50, TakeRecommended: true})
	require.NoError(t, err)
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
	require.Equal(t, "state.running / stop give-ids alter start record", outline(p))
	require.Equal(t, "/reef/tide-gauge", do[plan.Stop](t, p, plan.KindStop).Folder)
	require.Equal(t, "/reef/tide-probe", do[plan.Start](t, p, plan.KindStart).Folder)
	p, err = plan.Change(facts, plan.ChangeRequest{CPUs: 3})
	require.NoError(t, err)
	require.Equal(t, plan.Open, p.Verdict, "nothing is stopped that nobody has agreed to")
}

// TestPowerOfSoundCopies: what stands is started, what runs is stopped; what is so already takes no step.
func TestPowerOfSoundCopies(t *testing.T) {
	copy := sound(t).Copy
	for _, c := range []struct {
		operation string
		state     machine.State
		host      plan.HostState
		want      string
	}{
		{"start", "stopped", "up", " / start"}, {"start", "running", "up", " / "},
		{"stop", "running", "up", " / stop"}, {"stop", "stopped", "up", " / "},
		{"start", "stopped", "resting", " / start"}, {"stop", "running", "unreachable", "host.unreachable / stop"},
		{"start", "away", "up", "pool.away / start"},
		{"start", "paused", "up", " / start"}, {"stop", "paused", "up", " / stop"},
		{"stop", "unknown", "up", " / stop"}, {"start", "unknown", "up", " / start"},
	} {
		copy.State = c.state
		p, err := plan.PowerOnOff(c.operation, []plan.PowerFacts{{Copy: copy, HostState: c.host}}, nil, true)
		require.NoError(t, err)
		require.Equal(t, c.want, outline(p), "%+v", c)
	}
}

// TestTwinsDontBothRun: a copy is not started while one with its ids runs, or is started along with it; in quarantine
// nobody else sees it.
func TestTwinsDontBothRun(t *testing.T) {
	one := sound(t).Copy
	twin := one
	twin.ID, twin.Name, twin.State = "c2", "tide-probe", "stopped"
	start := func(facts ...plan.PowerFacts) string {
		p, err := plan.PowerOnOff("start", facts, nil, true)
		require.NoError(t, err)
		return outline(p)
	}
	facts := plan.PowerFacts{Copy: one, HostState: "up", SameMAC: []lineage.Known{twin}}
	require.Equal(t, " / start", start(facts), "the twin stands")
	facts.SameMAC[0].State = "running"
	require.Equal(t, "identity.collides / start", start(facts))
	alone := facts
	alone.Isolated = true
	require.Equal(t, " / start", start(alone))
	facts.SameMAC, facts.SameUUID = nil, []lineage.Known{twin}
	other := plan.PowerFacts{Copy: twin, HostState: "up"}
	require.Equal(t, "identity.collides / start start", start(facts, other), "both at once")
	other.Isolated = true
	require.Equal(t, " / start start", start(facts, other))
}
