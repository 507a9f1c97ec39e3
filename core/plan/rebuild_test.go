package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// TestRebuild: what is lost comes first, then switches, machines, and those
// that ran are started when all of it is there.
func TestRebuild(t *testing.T) {
	f, _ := lying(t)
	f.Host.Ports = []wiring.Port{{Name: "port1"}}
	lab := f.Host.Switches[0]
	f.Host.Switches = nil
	facts := plan.RebuildFacts{Host: f.Host, Lost: map[string]string{"c2": "loft/archive-db.ova"}, Had: plan.Had{
		Switches: []wiring.Switch{lab, {Name: "far", Uplink: "port9"}},
		Machines: []plan.HadMachine{{Copy: "c1", Name: "tide-gauge", Folder: "/reef/tide-gauge", Running: true},
			{Copy: "c2", Name: "archive-db", Folder: "/reef/archive-db"}, {Copy: "c3", Name: "listed"}}}}
	here, listed := f, f
	here.Copy, listed.Copy, listed.Folder.Registered = "c1", "c3", true
	facts.Folders = map[string]plan.RegisterFacts{"c1": here, "c3": listed}
	p, err := plan.Rebuild(facts, nil, false)
	require.NoError(t, err)
	keep(t, p)
	require.False(t, p.Runnable)
	require.Contains(t, finding(p, "rebuild.lost").Message, "loft/archive-db.ova")
	require.Contains(t, finding(p, "rebuild.switch").Message, "no port")
	require.Nil(t, finding(p, "identity.origin-gone"), "it is the copy that it was: nothing is asked")
	p, err = plan.Rebuild(facts, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	kinds := []string{}
	for _, s := range p.Steps {
		kinds = append(kinds, s.Kind)
	}
	require.Equal(t, []string{"make-switch", "give-ids", "alter", "record", "start"}, kinds)
	require.True(t, do[plan.Record](t, p, plan.KindRecord).Change)
	require.Equal(t, "lab", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.NICs[0].Network,
		"on the switch that is made before")
	facts.Host.State = "unreachable"
	p, err = plan.Rebuild(facts, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Blocked, p.Verdict)
	require.NotNil(t, finding(p, "host.unreachable"))
}

func TestPutRight(t *testing.T) {
	f, _ := lying(t)
	facts := plan.ChangeFacts{Copy: lineage.Known{ID: "c1", Name: "tide-gauge", Host: "gannet",
		Path:  "/reef/tide-gauge",
		State: "stopped", Form: "registered"}, Machine: f.Folder.Machine, Folder: f.Folder}
	facts.Host = f.Host
	p, err := plan.PutRight(facts, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.Empty(t, p.Steps, "nothing is wrong with it")
	facts.Folder.Disks = []plan.FolderDisk{facts.Folder.Disks[0]}
	facts.Folder.Disks[0].Faults = []plan.DiskFault{{Code: "disk.parent-missing", Path: "/reef/tide-gauge/d.qcow2",
		Message: "the parent is not there", Candidate: "/reef/base.qcow2"}}
	p, err = plan.PutRight(facts, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Blocked, p.Verdict, "a person says which parent")
	for _, r := range finding(p, "disk.parent-missing").Remedies {
		require.NotEqual(t, "leave-out", r.ID)
	}
	p, err = plan.PutRight(facts, plan.Answers{"disk.parent-missing": "found"}, false)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.Equal(t, "/reef/base.qcow2", do[plan.Relink](t, p, plan.KindRelink).Parent)
	facts.Copy.State, facts.Copy.Untracked = "running", true
	p, err = plan.PutRight(facts, plan.Answers{"disk.parent-missing": "found"}, true)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "state.running"))
	require.Equal(t, plan.Blocked, p.Verdict, "it is to be left alone")
	require.NotNil(t, finding(p, "copy.untracked"))
}

// TestDetachDepended: whoever else needs a disk is named when it is taken from a machine; others' disks don't matter.
func TestDetachDepended(t *testing.T) {
	f, _ := lying(t)
	facts := plan.ChangeFacts{Copy: lineage.Known{ID: "c1", Name: "tide-gauge", Host: "gannet",
		Path:  "/reef/tide-gauge",
		State: "stopped", Form: "registered"}, Machine: f.Folder.Machine, Folder: f.Folder}
	facts.Host = f.Host
	disk := facts.Machine.Disks[0].ID
	detach := func() *plan.Plan {
		p, err := plan.Change(facts, plan.ChangeRequest{Detach: disk, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		return p
	}
	require.Nil(t, finding(detach(), "disk.depended-on"))
	require.True(t, do[plan.Alter](t, detach(), plan.KindAlter).List, "it stays on its host's list")
	facts.Folder.Disks = append(facts.Folder.Disks, plan.FolderDisk{ID: "other", SharedBy: []string{"gannet/far"}})
	require.Nil(t, finding(detach(), "disk.depended-on"))
	facts.Folder.Disks[0].LayersOf = []string{"gannet/training-01"}
	require.Contains(t, finding(detach(), "disk.depended-on").Message, "gannet/training-01 depends on")
	facts.Folder.Disks[0].SharedBy = []string{"gannet/training-02"}
	require.Contains(t, finding(detach(), "disk.depended-on").Message,
		"gannet/training-02 and gannet/training-01 depend")
}
