package do

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// TestMergeSnapshot: a snapshot that one other stands on goes into that, wherever it was broken off; what reads through
// it reads as it did. What does not stand as the plan says is left alone.
func TestMergeSnapshot(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	freeze := func(id, name, parent, below, layer string) {
		p := plan.Freeze{Power: plan.Power{Folder: folder}, ForGood: true,
			Disks: []plan.FrozenDisk{{Disk: "disk1", Path: filepath.Join(folder, below), Below: below,
				BelowFormat: "qcow2", File: layer, Format: "qcow2"}},
			Snapshot: &machine.Snapshot{Name: name, Parent: parent, Disks: []machine.SnapshotDisk{{Disk: "disk1",
				File: below, Format: "qcow2"}}}}
		s := ended(t, start(t, a, id, plan.KindFreeze, 1, p))
		require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	}
	write := func(file, text string, at int64) {
		c, err := a.Sight.Chain(filepath.Join(folder, file))
		require.NoError(t, err)
		f, err := disk.OpenSource(disk.OS, filepath.Join(folder, file), os.O_RDWR)
		require.NoError(t, err)
		below, err := a.Sight.Chain(c.Paths()[1])
		require.NoError(t, err)
		guest, err := qcow2.OpenWrite(f, below)
		require.NoError(t, err)
		_, err = guest.WriteAt([]byte(text), at)
		require.NoError(t, err)
		require.NoError(t, errors.Join(guest.Finish(), guest.Close(), below.Close(), c.Close()))
	}
	freeze("s1", "first", "", "d.qcow2", "d-2.qcow2")
	write("d-2.qcow2", "after first", 70_000)
	freeze("s2", "second", "first", "d-2.qcow2", "d-3.qcow2")
	write("d-3.qcow2", "after second", 200_000)
	freeze("s3", "third", "second", "d-3.qcow2", "d-4.qcow2")
	write("d-4.qcow2", "after third", 270_000)
	all := func(file string) []byte {
		c, err := a.Sight.Chain(filepath.Join(folder, file))
		require.NoError(t, err)
		defer c.Close()
		p := make([]byte, c.Info().VirtualBytes)
		_, err = c.ReadAt(p, 0)
		require.NoError(t, err)
		return p
	}
	second, third, now := all("d-2.qcow2"), all("d-3.qcow2"), all("d-4.qcow2")

	merge := plan.MergeSnapshot{Power: plan.Power{Folder: folder}, Snapshot: "first", Into: "second",
		Disks: []plan.MergedLayer{{Disk: "disk1", Below: "d.qcow2", BelowFormat: "qcow2", File: "d-2.qcow2",
			Format: "qcow2", Above: []string{"d-3.qcow2"}}}}
	wrong := merge
	wrong.Disks = []plan.MergedLayer{merge.Disks[0]}
	wrong.Disks[0].File = "d-3.qcow2"
	s := ended(t, start(t, a, "s4", plan.KindMergeSnapshot, 1, wrong))
	require.Equal(t, hostlink.TaskFailed, s.State)
	require.Contains(t, s.Error, "does not stand on d.qcow2")
	require.NoError(t, a.tasks.Undo(job+".s4", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.Equal(t, third, all("d-3.qcow2"))

	tk := start(t, a, "s5", plan.KindMergeSnapshot, 1, merge)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	require.NoFileExists(t, filepath.Join(folder, "d-2.qcow2"))
	for file, want := range map[string][]byte{"d.qcow2": second, "d-3.qcow2": third, "d-4.qcow2": now} {
		require.True(t, bytes.Equal(want, all(file)), file)
	}
	_, err := doMergeSnapshot(t.Context(), &run{Worker: a.Worker, Task: tk}) // asked for again after a restart
	require.NoError(t, err)
	m, err := a.Sight.ReadMachine(folder)
	require.NoError(t, err)
	require.Len(t, m.Tree, 2)
	require.Equal(t, "d.qcow2", m.SnapshotNamed("second").Disks[0].File)
	require.Empty(t, m.SnapshotNamed("second").Parent)
	require.Equal(t, "second", m.SnapshotNamed("third").Parent)
	for _, file := range []string{"d.qcow2", "d-3.qcow2"} {
		frozen, err := a.Door.Frozen(filepath.Join(folder, file))
		require.NoError(t, err)
		require.True(t, frozen, file)
	}

	// Broken off once the layer is committed, and once more when what stood on it is pointed on.
	again := plan.MergedLayer{Disk: "disk1", Below: "d.qcow2", BelowFormat: "qcow2", File: "d-3.qcow2", Format: "qcow2",
		Above: []string{"d-4.qcow2"}}
	require.NoError(t, (&run{Worker: a.Worker, Task: tk}).mergeLayer(folder, again))
	require.FileExists(t, filepath.Join(folder, "d-3.qcow2"))
	s = ended(t, start(t, a, "s6", plan.KindMergeSnapshot, 1, plan.MergeSnapshot{Power: merge.Power, Snapshot: "second",
		Into: "third", Disks: []plan.MergedLayer{again}}))
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	require.True(t, bytes.Equal(third, all("d.qcow2")))
	require.True(t, bytes.Equal(now, all("d-4.qcow2")))
}

// TestSnapshotsOfOthers: a descriptor whose snapshots name the disk of another machine, or a layer on one, gets nothing
// written there, and nothing read from there.
func TestSnapshotsOfOthers(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	other := machineIn(t, pool, "victim", "d.qcow2", "qcow2", 1<<20)
	victim := filepath.Join(other, "d.qcow2")
	require.NoError(t, formats.NewLayer(victim, filepath.Join(pool, "tide-gauge.img"), mustFormat(t, "qcow2"), "",
		formats.Options{Format: "raw", Loose: true}))
	require.NoError(t, a.List(other, ground.Registered{Since: time.Now()}, ""))
	layer := filepath.Join(folder, "x.qcow2")
	require.NoError(t, formats.NewLayer(layer, victim, mustFormat(t, "qcow2"), "", formats.Options{Format: "qcow2",
		Loose: true}))
	before, err := os.ReadFile(victim)
	require.NoError(t, err)
	power, named := plan.Power{Folder: folder}, filepath.Join("..", "victim", "d.qcow2")
	_, err = a.redescribe(folder, func(m *machine.Machine) bool {
		m.Tree = []machine.Snapshot{{Name: "first"}, {Name: "second", Parent: "first"}}
		return true
	})
	require.NoError(t, err)
	for id, c := range map[string]struct {
		kind   string
		params any
		code   string
	}{
		"s1": {plan.KindMergeSnapshot, plan.MergeSnapshot{Power: power, Snapshot: "first", Into: "second",
			Disks: []plan.MergedLayer{{Disk: "disk1", Below: named, BelowFormat: "qcow2", File: "x.qcow2",
				Format: "qcow2"}}}, "disk.parent-of-others"},
		"s2": {plan.KindMergeSnapshot, plan.MergeSnapshot{Power: power, Snapshot: "first", Into: "second",
			Disks: []plan.MergedLayer{{Disk: "disk1", Below: "d.qcow2", BelowFormat: "qcow2", File: "x.qcow2",
				Format: "qcow2", Above: []string{named}}}}, "disk.parent-of-others"},
		"s3": {plan.KindCommit, plan.Commit{Power: power, Disks: []plan.FrozenDisk{{Disk: "disk1", Path: victim,
			Below: named, BelowFormat: "qcow2", File: "x.qcow2", Format: "qcow2"}}}, "disk.parent-of-others"},
		"s4": {plan.KindGoBack, plan.GoBack{Power: power, Snapshot: "first", Disks: []plan.FrozenDisk{{Disk: "disk1",
			Path: victim, Below: named, BelowFormat: "qcow2", File: "y.qcow2", Format: "qcow2"}}}, "disk.shared"},
	} {
		s := ended(t, start(t, a, id, c.kind, 1, c.params))
		require.Equal(t, hostlink.TaskFailed, s.State, id)
		require.Equal(t, c.code, s.Code, s.Error)
		require.NoError(t, a.tasks.Undo(job+"."+id, hostlink.TaskSpec{Job: job, Epoch: 1}))
	}
	after, err := os.ReadFile(victim)
	require.NoError(t, err)
	require.True(t, bytes.Equal(before, after))
	frozen, err := a.Door.Frozen(victim)
	require.NoError(t, err)
	require.False(t, frozen)

	gone := plan.MergeSnapshot{Power: power, Snapshot: "first", Into: "none"}
	s := ended(t, start(t, a, "s5", plan.KindMergeSnapshot, 1, gone))
	require.Contains(t, s.Error, `has no snapshot "none" any more`)
}

func mustFormat(t *testing.T, name string) *formats.Format {
	t.Helper()
	f, err := formats.ByName(name)
	require.NoError(t, err)
	return f
}
