package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

const gib = 1 << 30

func seat(name string, memory, used int64) *plan.Seat {
	return &plan.Seat{Used: used, HostFacts: plan.HostFacts{Name: name, State: plan.HostUp, CPUs: 4,
		MemoryBytes: memory}}
}

// TestFitting: the host with the most memory left comes first; those that are too small, full or not up are none.
func TestFitting(t *testing.T) {
	resting := seat("fulmar", 64*gib, 0)
	resting.State = plan.HostResting
	few := seat("knot", 64*gib, 0)
	few.CPUs = 1
	seats := []*plan.Seat{seat("gannet", 16*gib, 12*gib), seat("petrel", 8*gib, gib), seat("skua", 8*gib, gib), resting,
		few, seat("tern", 2*gib, gib)}
	m := &machine.Machine{Name: "tide-gauge", CPUs: 2, MemoryBytes: 2 * gib}
	names := func() (list []string) {
		for _, s := range plan.Fitting(seats, m, "slate") {
			list = append(list, s.Name)
		}
		return list
	}
	require.Equal(t, []string{"petrel", "skua", "gannet"}, names())
	seats[1].Take(&plan.Plan{Steps: []plan.Step{{Do: &plan.Record{Machine: m}}}})
	require.Equal(t, []string{"skua", "petrel", "gannet"}, names(), "what is promised is not there")
	seats[0].Family.Name = "slate"
	require.Equal(t, []string{"gannet", "skua", "petrel"}, names(), "of its family")
	m.MemoryBytes = 7 * gib
	require.Equal(t, []string{"skua"}, names())
	m.MemoryBytes = 8 * gib
	require.Empty(t, names())
}

// TestTake: what one plan brings is spoken for when the next is made.
func TestTake(t *testing.T) {
	facts := moving(t)
	p, err := plan.MoveMachine(facts, plan.BringRequest{TakeRecommended: true})
	require.NoError(t, err)
	s := seat("gannet", 64*gib, 0)
	s.Pools = facts.Host.Pools
	before := facts.Host.Pools[0].FreeBytes
	s.Take(p)
	require.Equal(t, []string{"tide-gauge"}, s.Names)
	require.Less(t, s.Pools[0].FreeBytes, before)
	require.Equal(t, before, facts.Host.Pools[0].FreeBytes, "facts stay as they are")
	require.Equal(t, facts.Folder.Machine.MemoryBytes, s.Used)
}

// TestMovedTogether: all are copied before the first comes to its new place, where they may run meanwhile.
func TestMovedTogether(t *testing.T) {
	var plans []*plan.Plan
	for n, name := range []string{"a", "b", "c"} {
		facts := moving(t)
		facts.Where, facts.Of, facts.Folder.Machine.Name = "petrel/"+name, name, name
		if n < 2 {
			facts.Folder.State = machine.Running
		}
		if n == 0 {
			facts.From.Can = freezing
		}
		p, err := plan.MoveMachine(facts, plan.BringRequest{TakeRecommended: true})
		require.NoError(t, err)
		plans = append(plans, p)
	}
	single := plan.MovedTogether(plans[:1])
	require.Equal(t, plans[0], single)
	p := plan.MovedTogether(plans)
	keep(t, p)
	require.Equal(t, plan.Runnable, p.Verdict)
	require.Equal(t, []string{"petrel/a", "petrel/b", "petrel/c"}, p.Subjects)
	require.Contains(t, outline(p), "/ freeze give-ids carry give-ids carry "+
		"freeze follow stop follow delist place take-away record start "+
		"stop give-ids carry delist place take-away record start "+
		"delist place take-away record")
	ids := map[string]bool{}
	for _, s := range p.Steps {
		require.False(t, ids[s.ID])
		ids[s.ID] = true
	}
}

// TestOneSwitch: a switch that several machines need is made once.
func TestOneSwitch(t *testing.T) {
	lab := func(host string) *plan.Plan {
		return &plan.Plan{Operation: "move", Subjects: []string{host}, Steps: []plan.Step{
			{Host: host, Do: &plan.MakeSwitch{SwitchWork: plan.SwitchWork{Switch: wiring.Switch{Name: "lab"}}}},
			{Host: host, Do: &plan.Start{}}}}
	}
	p := plan.Together([]*plan.Plan{lab("gannet"), lab("gannet"), lab("petrel")})
	require.Equal(t, " / make-switch start start make-switch start", outline(p))
}

// TestNowhere: a machine that no host can take blocks, and says what keeps it from each.
func TestNowhere(t *testing.T) {
	p := plan.Nowhere("move", "gannet/tide-gauge", []string{"petrel: it is full (space.short)"})
	require.Equal(t, plan.Blocked, p.Verdict)
	require.Contains(t, finding(p, "place.nowhere").Message, "petrel: it is full")
	require.Contains(t, finding(plan.Nowhere("move", "x", nil), "place.nowhere").Message, "No other host is up")
}
