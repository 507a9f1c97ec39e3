package plan_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// snapshotFacts is tide-gauge standing on the snapshot "second", which stands on "first".
func snapshotFacts(t *testing.T) plan.SnapshotFacts {
	s := sound(t)
	f := plan.SnapshotFacts{Copy: s.Copy, Host: s.Host, Folder: s.Folder}
	f.Folder.Machine = s.Machine.Clone()
	m := f.Folder.Machine
	on := func(file string) []machine.SnapshotDisk {
		return []machine.SnapshotDisk{{Disk: "disk1", File: file, Format: "qcow2"}}
	}
	m.Tree = []machine.Snapshot{{Name: "first", Disks: on("d.qcow2")},
		{Name: "second", Parent: "first", Disks: on("tide-gauge-disk1-2.qcow2")}}
	m.Stands, m.Disks[0].File = "second", "tide-gauge-disk1-3.qcow2"
	f.Folder.Files = []string{"d.qcow2", "tide-gauge-disk1-2.qcow2", "tide-gauge-disk1-3.qcow2"}
	f.Folder.Disks = append([]plan.FolderDisk(nil), f.Folder.Disks...)
	f.Folder.Disks[0].Path, f.Folder.Disks[0].Layers = "/reef/tide-gauge/tide-gauge-disk1-3.qcow2", 3
	return f
}

// TestSnapshotPlans: what each operation on snapshots finds and does.
func TestSnapshotPlans(t *testing.T) {
	running := func(f *plan.SnapshotFacts) { f.Copy.State = machine.Running }
	freezes := func(f *plan.SnapshotFacts) {
		running(f)
		f.Host.Can = []fit.Ability{fit.Freezes}
	}
	for name, c := range map[string]struct {
		operation, snapshot string
		spoil               func(f *plan.SnapshotFacts)
		want                string
	}{
		"make":                      {plan.OpSnapshot, "third", nil, " / freeze"},
		"make while it runs":        {plan.OpSnapshot, "third", freezes, "snapshot.moment / freeze"},
		"make where it has to stop": {plan.OpSnapshot, "third", running, "state.running / stop freeze start"},
		"back":                      {plan.OpGoBack, "first", nil, "snapshot.present / freeze go-back take-away"},
		"back while it runs": {plan.OpGoBack, "first", freezes,
			"snapshot.present state.running / stop freeze go-back take-away start"},
		"back with nothing written": {plan.OpGoBack, "FIRST",
			func(f *plan.SnapshotFacts) { f.Folder.Disks[0].TopEmpty = true }, " / go-back take-away"},
		"drop the one it stands on":  {plan.OpDropSnapshot, "second", nil, " / commit"},
		"drop it while it runs":      {plan.OpDropSnapshot, "second", freezes, " / commit"},
		"drop it where it must stop": {plan.OpDropSnapshot, "second", running, "state.running / stop commit start"},
		"drop one below":             {plan.OpDropSnapshot, "first", nil, " / merge-snapshot"},
		"drop one below while it runs": {plan.OpDropSnapshot, "first", freezes,
			"state.running / stop merge-snapshot start"},
		"drop one below with a disk that it has no more": {plan.OpDropSnapshot, "first", func(f *plan.SnapshotFacts) {
			f.Folder.Machine.Tree[0].Disks = append(f.Folder.Machine.Tree[0].Disks,
				machine.SnapshotDisk{Disk: "disk2", File: "e.qcow2", Format: "qcow2"})
		}, " / merge-snapshot take-away"},
		"drop one that two stand on": {plan.OpDropSnapshot, "first",
			func(f *plan.SnapshotFacts) { f.Folder.Machine.Stands = "first" }, "snapshot.stood-on / "},
		"drop one below that a clone stands on": {plan.OpDropSnapshot, "first", func(f *plan.SnapshotFacts) {
			f.Folder.Stood = map[string][]string{"/reef/tide-gauge/tide-gauge-disk1-2.qcow2": {"class-01"}}
		}, "copy.stood-on / "},
		"drop a leaf": {plan.OpDropSnapshot, "second",
			func(f *plan.SnapshotFacts) { f.Folder.Machine.Stands = "first" }, " / drop-snapshot take-away"},
		"of a suspended machine": {plan.OpSnapshot, "third",
			func(f *plan.SnapshotFacts) { f.Copy.State = machine.Suspended }, "state.held / freeze"},
	} {
		facts := snapshotFacts(t)
		if c.spoil != nil {
			c.spoil(&facts)
		}
		p, err := plan.Snapshots(facts, plan.SnapshotRequest{Operation: c.operation, Name: c.snapshot,
			At: time.Unix(0, 0), TakeRecommended: true})
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, c.want, outline(p), name)
	}
	for says, req := range map[string]plan.SnapshotRequest{
		"has a snapshot":      {Operation: plan.OpSnapshot, Name: "Second"},
		"has no snapshot":     {Operation: plan.OpGoBack, Name: "third"},
		`it has "first", "se`: {Operation: plan.OpDropSnapshot, Name: "third"},
		"name of the snapsho": {Operation: plan.OpSnapshot, Name: "a/b"},
	} {
		_, err := plan.Snapshots(snapshotFacts(t), req)
		require.ErrorContains(t, err, says)
	}
}

// TestSnapshotFiles: a snapshot names what the disks were, going back stands on its files, and nothing is written over.
func TestSnapshotFiles(t *testing.T) {
	make := func(req plan.SnapshotRequest) *plan.Plan {
		t.Helper()
		req.TakeRecommended = true
		p, err := plan.Snapshots(snapshotFacts(t), req)
		require.NoError(t, err)
		keep(t, p)
		return p
	}
	at := time.Unix(1_800_000_000, 0)
	taken := stepsOf[plan.Freeze](make(plan.SnapshotRequest{Operation: plan.OpSnapshot, Name: "third", At: at,
		Note: "why"}))[0]
	require.Equal(t, &machine.Snapshot{Name: "third", Note: "why", MadeAt: at, Parent: "second",
		Disks: []machine.SnapshotDisk{{Disk: "disk1", File: "tide-gauge-disk1-3.qcow2", Format: "qcow2"}}},
		taken.Snapshot)
	require.Equal(t, "tide-gauge-disk1-4.qcow2", taken.Disks[0].File)

	p := make(plan.SnapshotRequest{Operation: plan.OpGoBack, Name: "first"})
	kept, back, away := stepsOf[plan.Freeze](p)[0], stepsOf[plan.GoBack](p)[0], stepsOf[plan.TakeAway](p)
	require.Equal(t, "before first", kept.Snapshot.Name)
	require.Equal(t, "/reef/tide-gauge/d.qcow2", back.Disks[0].Path)
	require.Equal(t, "tide-gauge-disk1-5.qcow2", back.Disks[0].File, "the layer of what is kept has the name before")
	require.Equal(t, "/reef/tide-gauge/tide-gauge-disk1-4.qcow2", away[0].Folder, "and is empty")

	p = make(plan.SnapshotRequest{Operation: plan.OpGoBack, Name: "first", Answers: plan.Answers{
		"snapshot.present": "let-go"}})
	require.Empty(t, stepsOf[plan.Freeze](p))
	require.Equal(t, "/reef/tide-gauge/tide-gauge-disk1-3.qcow2", stepsOf[plan.TakeAway](p)[0].Folder)

	drop := stepsOf[plan.Commit](make(plan.SnapshotRequest{Operation: plan.OpDropSnapshot, Name: "second"}))[0]
	require.Equal(t, "second", drop.Snapshot)
	require.Equal(t, []plan.FrozenDisk{{Disk: "disk1", Path: "/reef/tide-gauge/tide-gauge-disk1-2.qcow2",
		Below: "tide-gauge-disk1-2.qcow2", BelowFormat: "qcow2", File: "tide-gauge-disk1-3.qcow2", Format: "qcow2"}},
		drop.Disks)
}

// TestFrozenTogether: of several, those of one host that go on are frozen by one step, each with its own snapshot; one
// that has to be stopped for it is frozen by itself.
func TestFrozenTogether(t *testing.T) {
	var plans []*plan.Plan
	for n, c := range []struct {
		name, host string
		can        []fit.Ability
		state      machine.State
	}{{"a", "gannet", []fit.Ability{fit.Freezes}, machine.Running}, {"b", "petrel", nil, machine.Running},
		{"c", "gannet", []fit.Ability{fit.Freezes}, machine.Stopped}, {"d", "petrel", nil, machine.Stopped}} {
		f := snapshotFacts(t)
		f.Copy.Name, f.Copy.Host, f.Copy.Path, f.Copy.State = c.name, c.host, "/reef/"+c.name, c.state
		f.Host.Name, f.Host.Can = c.host, c.can
		if n == 2 {
			f.Folder.Machine.Stands = "first"
		}
		p, err := plan.Snapshots(f, plan.SnapshotRequest{Operation: plan.OpSnapshot, Name: "third",
			At: time.Unix(1, 0), TakeRecommended: true})
		require.NoError(t, err)
		plans = append(plans, p)
	}
	require.Equal(t, plans[0], plan.FrozenTogether(plans[:1]))
	p := plan.FrozenTogether(plans)
	keep(t, p)
	require.Equal(t, []string{plan.KindFreeze, plan.KindStop, plan.KindFreeze, plan.KindStart, plan.KindFreeze},
		kinds(p))
	both := p.Steps[0].Do.(*plan.Freeze).Machines()
	require.Len(t, both, 2)
	require.Equal(t, []string{"/reef/a", "/reef/c"}, []string{both[0].Folder, both[1].Folder})
	require.Equal(t, []string{"second", "first"}, []string{both[0].Snapshot.Parent, both[1].Snapshot.Parent})
	require.Contains(t, p.Steps[0].What, "2 machines")
	require.Empty(t, plans[0].Steps[0].Do.(*plan.Freeze).With, "their own plans stay as they are")
	require.Equal(t, "/reef/d", p.Steps[4].Do.(*plan.Freeze).Folder)
}
