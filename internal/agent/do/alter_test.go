package do

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

func ended(t *testing.T, tk *task.Task) hostlink.Task {
	t.Helper()
	return tk.Wait(t.Context(), wait.Bound)
}

func diskIDOf(t *testing.T, path string) string {
	t.Helper()
	c, err := formats.Look(path, formats.Options{})
	require.NoError(t, err)
	defer c.Close()
	return c.Info().ID
}

// TestAlter changes a folder where it lies, and takes all of it back.
func TestAlter(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, m := agenttest.Lying(t, pool, "tide-gauge")
	before, err := os.ReadFile(filepath.Join(folder, "tide-gauge.ovf"))
	require.NoError(t, err)
	image := filepath.Join(folder, "d.qcow2")
	m.Name, m.CPUs, m.Variables = "tide-second", 4, "tide-second.variables"
	const id = "6638f76a-0abc-5061-99f4-d27aac05f657"
	p := plan.Alter{Folder: folder, Name: m.Name, Machine: m, List: true, Rename: "tide-second",
		NewIDs: map[string]string{image: id}}
	tk := start(t, a, "s1", plan.KindAlter, 1, p)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	moved := filepath.Join(pool, "tide-second")
	got, err := a.Sight.ReadMachine(moved)
	require.NoError(t, err)
	require.Equal(t, 4, got.CPUs)
	require.Equal(t, id, diskIDOf(t, filepath.Join(moved, "d.qcow2")))
	require.FileExists(t, filepath.Join(moved, "tide-second.variables"))
	require.NoFileExists(t, filepath.Join(moved, "tide-gauge.ovf"))
	require.Contains(t, a.Records.Register(), moved)
	// Asked for again after a restart, it finds everything done.
	_, err = doAlter(t.Context(), &run{a.Worker, tk})
	require.NoError(t, err)

	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	after, err := os.ReadFile(filepath.Join(folder, "tide-gauge.ovf"))
	require.NoError(t, err)
	require.Equal(t, string(before), string(after))
	require.Empty(t, a.Records.Register())
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, entries, 2, "nothing that was made is left")
}

// TestTrash: what is taken away can be put back, and goes when its term is over.
func TestTrash(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	require.NoError(t, a.Records.List(folder, ground.Registered{Since: time.Now()}))
	tk := start(t, a, "s1", plan.KindTakeAway, 1, plan.TakeAway{Folder: folder,
		Files: []string{filepath.Join(pool, "tide-gauge.img")}})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	require.NoDirExists(t, folder)
	require.Empty(t, a.Records.Register())
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.DirExists(t, folder)
	require.FileExists(t, filepath.Join(pool, "tide-gauge.img"))

	tk = start(t, a, "s2", plan.KindTakeAway, 1, plan.TakeAway{Folder: folder})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
	trash := filepath.Join(pool, ground.WorkDir, trashDir, job)
	a.EmptyTrash()
	require.DirExists(t, trash, "its term is not over")
	old := time.Now().Add(-15 * 24 * time.Hour)
	require.NoError(t, os.Chtimes(trash, old, old))
	half := filepath.Join(filepath.Dir(trash), "."+job+"-2") // emptied in part, when the agent was killed
	require.NoError(t, os.Mkdir(half, 0o755))
	list, err := a.Trash()
	require.NoError(t, err)
	require.Len(t, list, 1, "what is half gone is not told")
	a.EmptyTrash()
	require.NoDirExists(t, trash)
	require.NoDirExists(t, half)
}

// TestGiveBack: what lies in the trash is told with where it lay, and comes back there, with its disks that lay
// elsewhere; that can be taken back. What is no longer there, or was never in a trash, is refused.
func TestGiveBack(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, m := agenttest.Lying(t, pool, "tide-gauge")
	m.Passport = &machine.Passport{Copy: "c-1"}
	_, err := a.redescribe(folder, func(is *machine.Machine) bool { is.Passport = m.Passport; return true })
	require.NoError(t, err)
	image := filepath.Join(pool, "tide-gauge.img")
	takeAway := plan.TakeAway{Folder: folder, Files: []string{image}}
	require.Equal(t, hostlink.TaskDone, ended(t, start(t, a, "s1", plan.KindTakeAway, 1, takeAway)).State)
	trash := filepath.Join(pool, ground.WorkDir, trashDir, job)
	told := func() (list []hostlink.Trashed) {
		list, err := a.Trash()
		require.NoError(t, err)
		for n := range list {
			require.WithinDuration(t, list[n].TakenAt.Add(14*24*time.Hour), list[n].Until, time.Second)
			require.Positive(t, list[n].Bytes)
			list[n].Bytes, list[n].TakenAt, list[n].Until = 0, time.Time{}, time.Time{}
		}
		slices.SortFunc(list, func(a, b hostlink.Trashed) int { return strings.Compare(a.Name, b.Name) })
		return list
	}
	both := []hostlink.Trashed{
		{Job: job, Name: "tide-gauge", Pool: "reef", Path: trash + "/tide-gauge", Was: folder, Copy: "c-1"},
		{Job: job, Name: "tide-gauge.img", Pool: "reef", Path: trash + "/tide-gauge.img", Was: image,
			Of: "tide-gauge"},
	}
	require.Equal(t, both, told())

	parts := []plan.GivenBack{{From: both[0].Path, To: folder}, {From: both[1].Path, To: image, Of: "tide-gauge"}}
	tk := start(t, a, "s2", plan.KindGiveBack, 1, plan.GiveBack{Parts: parts})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	require.FileExists(t, image)
	require.FileExists(t, filepath.Join(folder, "tide-gauge.ovf"))
	require.Empty(t, told())
	require.NoDirExists(t, trash)
	_, err = doGiveBack(t.Context(), &run{a.Worker, tk}) // asked for again after a restart
	require.NoError(t, err)
	require.NoError(t, a.tasks.Undo(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.NoDirExists(t, folder)
	require.Equal(t, both, told())

	require.NoError(t, os.Mkdir(folder, 0o755))
	for id, c := range map[string]struct {
		part plan.GivenBack
		code string
	}{
		"s3": {parts[0], "name.taken"},
		"s4": {plan.GivenBack{From: trash + "/gone", To: filepath.Join(pool, "gone")}, "trash.gone"},
		"s5": {plan.GivenBack{From: folder, To: filepath.Join(pool, "other")}, "file.outside"},
		"s6": {plan.GivenBack{From: both[0].Path, To: "/tmp/tide-gauge"}, "disk.outside-pool"},
	} {
		s := ended(t, start(t, a, id, plan.KindGiveBack, 1, plan.GiveBack{Parts: []plan.GivenBack{c.part}}))
		require.Equal(t, hostlink.TaskFailed, s.State, id)
		require.Equal(t, c.code, s.Code, s.Error)
		require.NoError(t, a.tasks.Undo(job+"."+id, hostlink.TaskSpec{Job: job, Epoch: 1}))
	}
	require.Equal(t, both, told())

	// What was taken away before there were notes lay in its pool.
	require.NoError(t, os.Remove(filepath.Join(trash, takenNote)))
	require.Equal(t, folder, told()[0].Was)
}

// TestFollow: what a layer holds is written into the disk that was carried without it.
func TestFollow(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	below, layer := filepath.Join(folder, "d.qcow2"), filepath.Join(folder, "d-2.qcow2")
	carried := hostlink.CarryTask{Carry: plan.Carry{Disk: "disk1", Source: below, Pool: pool, File: "x.qcow2",
		Format: "qcow2", Folder: folder}, ID: "8b1f3b0a-3d65-4d8e-9a0e-6a1f0c5d7e01"}
	freeze := plan.Freeze{Power: plan.Power{Folder: folder}, Disks: []plan.FrozenDisk{{Disk: "disk1", Path: below,
		Below: "d.qcow2", BelowFormat: "qcow2", File: "d-2.qcow2", Format: "qcow2"}}}
	require.Equal(t, hostlink.TaskDone, ended(t, start(t, a, "s1", plan.KindFreeze, 1, freeze)).State)
	require.Equal(t, hostlink.TaskDone, ended(t, start(t, a, "s2", plan.KindCarry, 1, carried)).State)

	f, err := disk.OpenSource(disk.OS, layer, os.O_RDWR)
	require.NoError(t, err)
	c, err := a.Sight.Chain(below)
	require.NoError(t, err)
	guest, err := qcow2.OpenWrite(f, c)
	require.NoError(t, err)
	_, err = guest.WriteAt([]byte("written meanwhile"), 70_000)
	require.NoError(t, err)
	require.NoError(t, errors.Join(guest.Finish(), guest.Close(), c.Close()))

	follow := plan.Follow{Disk: "disk1", Source: layer, Folder: folder, Pool: pool, File: "x.qcow2", Format: "qcow2"}
	staged := filepath.Join(ground.StagingDir(pool, job), "x.qcow2")
	for _, id := range []string{"s3", "s4"} {
		s := ended(t, start(t, a, id, plan.KindFollow, 1, hostlink.FollowTask{Follow: follow}))
		require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	}
	got, err := formats.OpenChain(staged, formats.Options{Format: "qcow2"})
	require.NoError(t, err)
	defer got.Close()
	require.Len(t, got.Links, 1)
	want, err := a.Sight.Chain(layer)
	require.NoError(t, err)
	defer want.Close()
	all := make([]byte, want.Info().VirtualBytes)
	_, err = want.ReadAt(all, 0)
	require.NoError(t, err)
	require.Contains(t, string(all), "written meanwhile")
	disktest.Same(t, all, got)

	for id, c := range map[string]struct {
		spoil func(f *plan.Follow)
		code  string
	}{
		"s5": {func(f *plan.Follow) { f.File = "../x" }, "package.path-escape"},
		"s6": {func(f *plan.Follow) { f.Source = "/etc/passwd" }, "disk.outside-pool"},
		"s7": {func(f *plan.Follow) { f.Pool = "/tmp" }, "disk.outside-pool"},
	} {
		spoilt := follow
		c.spoil(&spoilt)
		s := ended(t, start(t, a, id, plan.KindFollow, 1, hostlink.FollowTask{Follow: spoilt}))
		require.Equal(t, hostlink.TaskFailed, s.State, id)
		require.Equal(t, c.code, s.Code, s.Error)
		require.NoError(t, a.tasks.Undo(job+"."+id, hostlink.TaskSpec{Job: job, Epoch: 1}))
	}
}

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
	_, err := doMergeSnapshot(t.Context(), &run{a.Worker, tk}) // asked for again after a restart
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
	require.NoError(t, (&run{a.Worker, tk}).mergeLayer(folder, again))
	require.FileExists(t, filepath.Join(folder, "d-3.qcow2"))
	s = ended(t, start(t, a, "s6", plan.KindMergeSnapshot, 1, plan.MergeSnapshot{Power: merge.Power, Snapshot: "second",
		Into: "third", Disks: []plan.MergedLayer{again}}))
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	require.True(t, bytes.Equal(third, all("d.qcow2")))
	require.True(t, bytes.Equal(now, all("d-4.qcow2")))
}

// TestRelinkAndLayer: layers are pointed to their parents, made, and taken back.
func TestRelinkAndLayer(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	image, base := filepath.Join(folder, "d.qcow2"), filepath.Join(pool, "tide-gauge.img")
	moved := filepath.Join(pool, "moved.img")
	require.NoError(t, os.Rename(base, moved))
	tk := start(t, a, "s1", plan.KindRelink, 1, plan.Relink{Layer: image, Parent: moved})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	c, err := formats.OpenChain(image, formats.Options{})
	require.NoError(t, err)
	require.Equal(t, moved, c.Paths()[1])
	require.NoError(t, c.Close())
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))

	top := filepath.Join(folder, "top.qcow2")
	tk = start(t, a, "s2", plan.KindLayer, 1, plan.NewLayer{Parent: image, Path: top, Format: "qcow2"})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	require.FileExists(t, top)
	require.NoError(t, a.tasks.Undo(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.NoFileExists(t, top)
	require.Equal(t, hostlink.TaskDone, ended(t, start(t, a, "s3", plan.KindMend, 1, plan.Mend{Path: image})).State,
		"it is sound")
}

// TestCarry copies a chain into a staging directory, another file as it is, and
// leaves nothing when it is undone.
func TestCarry(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	truth := disktest.Pattern(3<<20, 4)
	p := hostlink.CarryTask{Carry: plan.Carry{Disk: "disk1", Source: filepath.Join(folder, "d.qcow2"), Pool: pool,
		File: "x.vhdx", Format: "vhdx"}, ID: "6638f76a-0abc-5061-99f4-d27aac05f657"}
	s := ended(t, start(t, a, "s1", plan.KindCarry, 1, p))
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	img, err := formats.OpenChain(filepath.Join(ground.StagingDir(pool, job), "x.vhdx"), formats.Options{})
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.NoError(t, img.Close())
	p.Carry = plan.Carry{Source: filepath.Join(folder, "tide-gauge.ovf"), Pool: pool, File: "as-it-is"}
	s = ended(t, start(t, a, "s2", plan.KindCarry, 1, p))
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	want, err := os.ReadFile(filepath.Join(folder, "tide-gauge.ovf"))
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(ground.StagingDir(pool, job), "as-it-is"))
	require.NoError(t, err)
	require.Equal(t, want, got)
	for _, step := range []string{"s1", "s2"} {
		require.NoError(t, a.tasks.Undo(job+"."+step, hostlink.TaskSpec{Job: job, Epoch: 1}))
	}
	left, err := os.ReadDir(ground.StagingDir(pool, job))
	require.NoError(t, err)
	require.Empty(t, left)

	p.Carry = plan.Carry{Source: "/etc/passwd", Pool: pool, File: "x"}
	s = ended(t, start(t, a, "s3", plan.KindCarry, 1, p))
	require.Equal(t, "disk.outside-pool", s.Code)
	require.NoError(t, a.tasks.Undo(job+".s3", hostlink.TaskSpec{Job: job, Epoch: 1}))
	p.Carry = plan.Carry{Source: filepath.Join(folder, "d.qcow2"), Pool: pool, File: "../x", Format: "raw"}
	s = ended(t, start(t, a, "s4", plan.KindCarry, 1, p))
	require.Equal(t, "package.path-escape", s.Code)
}

// TestPanic: a mistake in one task does not take the agent down.
func TestPanic(t *testing.T) {
	a, _ := newAgent(t, 0)
	a.tasks = task.New(a.Ground, map[string]task.Kind{"mistake": {
		Do:   func(context.Context, *task.Task) (any, error) { panic(errors.New("no such thing")) },
		Undo: func(context.Context, *task.Task) error { return nil },
	}})
	s := ended(t, start(t, a, "s1", "mistake", 1, struct{}{}))
	require.Equal(t, hostlink.TaskFailed, s.State)
	require.Contains(t, s.Error, "no such thing")
}
