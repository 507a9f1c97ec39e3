package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// shared is tide-gauge in the pool reef, which petrel and gannet both see: petrel lists it, and it is to come to
// gannet.
func shared(t *testing.T) plan.MoveFacts {
	f, _ := lying(t)
	f.Where, f.Copy, f.Lineage, f.Parent = "petrel/tide-gauge", "c1", "l1", "c0"
	f.Elsewhere = &plan.Elsewhere{Host: plan.HostFacts{ID: "h2", Name: "petrel", State: plan.HostUp,
		Family: f.Host.Family}, Ours: true, Sees: true, Folder: "/mnt/reef/tide-gauge", State: machine.Stopped,
		Mark: "agent-2", QuietSeconds: 3}
	return plan.MoveFacts{RegisterFacts: f}
}

// silent has petrel away for long.
func silent(f *plan.MoveFacts) {
	f.Elsewhere.Host.State, f.Elsewhere.Sees, f.Elsewhere.QuietSeconds = plan.HostUnreachable, false, 400
}

// TestMoveInPlace: in a pool that both hosts see nothing is copied. The machine is taken off the one list before it
// comes onto the other; from a host that can't be asked it is taken by a mark, when somebody says that it is off.
func TestMoveInPlace(t *testing.T) {
	const stays = "give-ids alter record"
	off := plan.Answers{"host.silent": "off"}
	for name, c := range map[string]struct {
		answers plan.Answers
		spoil   func(f *plan.MoveFacts)
		finds   string
		steps   string
	}{
		"stopped": {nil, nil, "", "delist " + stays},
		"running": {nil, func(f *plan.MoveFacts) {
			f.Elsewhere.State = machine.Running
			f.Folder.Disks[0].Unclean = true
			f.Folder.Disks[0].Faults = []plan.DiskFault{{Code: "disk.in-use", Message: "petrel has it open"}}
		}, "state.running", "stop delist " + stays + " start"},
		"suspended": {plan.Answers{"state.suspended": "drop"}, func(f *plan.MoveFacts) {
			f.Elsewhere.State, f.Folder.Machine.Suspended = machine.Suspended, true
		}, "state.suspended", "stop delist " + stays},
		"its pool is not at the other host now": {nil, func(f *plan.MoveFacts) { f.Elsewhere.Sees = false },
			"copy.left-behind", "delist fence " + stays},
		"the other is silent": {off, silent, "host.silent", "fence " + stays},
		"it ran there when it fell silent": {off, func(f *plan.MoveFacts) {
			silent(f)
			f.Elsewhere.State = machine.Running
		}, "host.silent", "fence " + stays + " start"},
		"a log has to be replayed": {off, func(f *plan.MoveFacts) {
			silent(f)
			f.Folder.Disks[0].Unclean = true
		}, "disk.unclean", "fence mend " + stays},
		"the other is none of ours": {off, func(f *plan.MoveFacts) {
			silent(f)
			f.Elsewhere = &plan.Elsewhere{Host: plan.HostFacts{Name: "brig"}, Mark: "agent-9", QuietSeconds: -1}
		}, "host.silent", "fence " + stays},
		"nobody says that it is off": {nil, silent, "host.silent", ""},
		"it is alive, and not heard": {off, func(f *plan.MoveFacts) {
			silent(f)
			f.Elsewhere.QuietSeconds = 20
		}, "host.unheard", ""},
	} {
		facts := shared(t)
		if c.spoil != nil {
			c.spoil(&facts)
		}
		p, err := plan.MoveMachine(facts, plan.BringRequest{Answers: c.answers, TakeRecommended: true})
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, "move", p.Operation)
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
		require.Zero(t, p.Bytes, "%s: nothing is copied", name)
		for _, s := range p.Steps {
			switch do := s.Do.(type) {
			case *plan.Unlist:
				require.Equal(t, "petrel", s.Host)
				require.Equal(t, "/mnt/reef/tide-gauge", do.Folder)
			case *plan.Fence:
				require.Equal(t, "gannet", s.Host)
				require.Equal(t, plan.Fence{Folder: "/reef/tide-gauge", From: facts.Elsewhere.Mark}, *do)
			case *plan.Record:
				require.Equal(t, "c1", do.Copy, "it stays the copy that it is")
			}
		}
	}
}

// TestRegisterListedElsewhere: what another host lists is not registered by the way, nor copied from under it.
func TestRegisterListedElsewhere(t *testing.T) {
	for _, files := range []string{plan.Stay, plan.Copy} {
		facts := shared(t)
		p, err := plan.Register(facts.RegisterFacts, plan.BringRequest{Files: files, TakeRecommended: true})
		require.NoError(t, err)
		require.Equal(t, plan.Blocked, p.Verdict, files)
		require.Contains(t, finding(p, "copy.listed-elsewhere").Message, "unvora move petrel/tide-gauge --host gannet")
	}
	facts := shared(t)
	silent(&facts)
	p, err := plan.Register(facts.RegisterFacts, plan.BringRequest{Answers: plan.Answers{"host.silent": "off"},
		TakeRecommended: true})
	require.NoError(t, err)
	require.Equal(t, plan.Runnable, p.Verdict)
	require.Len(t, stepsOf[plan.Fence](p), 1)
}
