package do

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// TestTrash: what is taken away can be put back, and goes when its term is over.
func TestTrash(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	require.NoError(t, a.List(folder, ground.Registered{Since: time.Now()}, ""))
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
	id := a.Pools()[0].ID
	require.NotEmpty(t, id)
	both := []hostlink.Trashed{
		{Job: job, Name: "tide-gauge", Pool: "reef", PoolID: id, Path: trash + "/tide-gauge", Was: folder, Copy: "c-1"},
		{Job: job, Name: "tide-gauge.img", Pool: "reef", PoolID: id, Path: trash + "/tide-gauge.img", Was: image,
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
	_, err = doGiveBack(t.Context(), &run{Worker: a.Worker, Task: tk}) // asked for again after a restart
	require.NoError(t, err)
	require.NoError(t, a.tasks.Undo(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.NoDirExists(t, folder)
	require.Equal(t, both, told())

	require.NoError(t, os.Mkdir(folder, 0o755))
	for step, c := range map[string]struct {
		part plan.GivenBack
		code string
	}{
		"s3": {parts[0], "name.taken"},
		"s4": {plan.GivenBack{From: trash + "/gone", To: filepath.Join(pool, "gone")}, "trash.gone"},
		"s5": {plan.GivenBack{From: folder, To: filepath.Join(pool, "other")}, "file.outside"},
		"s6": {plan.GivenBack{From: both[0].Path, To: "/tmp/tide-gauge"}, "disk.outside-pool"},
	} {
		s := ended(t, start(t, a, step, plan.KindGiveBack, 1, plan.GiveBack{Parts: []plan.GivenBack{c.part}}))
		require.Equal(t, hostlink.TaskFailed, s.State, step)
		require.Equal(t, c.code, s.Code, s.Error)
		require.NoError(t, a.tasks.Undo(job+"."+step, hostlink.TaskSpec{Job: job, Epoch: 1}))
	}
	require.Equal(t, both, told())

	// What was taken away before there were notes lay in its pool.
	require.NoError(t, os.Remove(filepath.Join(trash, takenNote)))
	require.Equal(t, folder, told()[0].Was)
}

// TestLay: a note of a trash counts as far as it names a place in its pool, and none of our own there.
func TestLay(t *testing.T) {
	for was, want := range map[string]string{
		"":                              "/reef/tide-gauge",
		"tide-gauge":                    "/reef/tide-gauge",
		"old/tide-gauge":                "/reef/old/tide-gauge",
		"../other/tide-gauge":           "/reef/tide-gauge",
		"/etc/passwd":                   "/reef/tide-gauge",
		".":                             "/reef/tide-gauge",
		ground.WorkDir + "/trash/x":     "/reef/tide-gauge",
		"a/../../x":                     "/reef/tide-gauge",
		"a/../" + ground.WorkDir + "/x": "/reef/tide-gauge",
	} {
		require.Equal(t, want, lay("/reef", "tide-gauge", taken{Was: was}), was)
	}
}

// TestTakenWithLayers: disks that lie in another pool are taken away with the layers that they stand on there, and
// those of snapshots; what lies elsewhere stays.
func TestTakenWithLayers(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	aside, golden := filepath.Join(pool, "tide-gauge-disks"), filepath.Join(pool, "golden")
	for _, dir := range []string{aside, golden} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	parent := filepath.Join(golden, "golden.qcow2")
	agenttest.WriteImage(t, parent, "qcow2", disk.Spec{VirtualBytes: 1 << 20, ID: uuid.NewString()},
		disk.ImageFeed(disktest.Plain(make([]byte, 1<<20)), 0, 64<<10))
	format, err := formats.ByName("qcow2")
	require.NoError(t, err)
	file := func(name string) string { return filepath.Join(aside, name+".qcow2") }
	within := filepath.Join(folder, "within.qcow2") // what it writes to since it was frozen
	for _, l := range [][2]string{{file("monday"), parent}, {file("tuesday"), file("monday")}, {file("top"),
		file("monday")}, {file("frozen"), parent}, {within, file("frozen")}} {
		require.NoError(t, formats.NewLayer(l[0], l[1], format, uuid.NewString(), formats.Options{}))
	}
	_, err = a.redescribe(folder, func(m *machine.Machine) bool {
		m.Disks = []machine.Disk{{ID: "disk1", File: "../tide-gauge-disks/top.qcow2", Format: "qcow2",
			VirtualBytes: 1 << 20}, {ID: "disk2", File: "within.qcow2", Format: "qcow2", VirtualBytes: 1 << 20}}
		m.Tree = []machine.Snapshot{
			{Name: "monday", Disks: []machine.SnapshotDisk{{Disk: "disk1", File: "../tide-gauge-disks/monday.qcow2"}}},
			{Name: "tuesday", Disks: []machine.SnapshotDisk{{Disk: "disk1",
				File: "../tide-gauge-disks/tuesday.qcow2"}}},
			{Name: "nowhere", Disks: []machine.SnapshotDisk{{Disk: "disk1", File: "../../tide-gauge-disks/x"}}}}
		return true
	})
	require.NoError(t, err)
	tk := start(t, a, "s1", plan.KindTakeAway, 1, plan.TakeAway{Folder: folder, Files: []string{file("top")}})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	require.NoDirExists(t, aside)
	require.FileExists(t, parent)
	list, err := a.Trash()
	require.NoError(t, err)
	require.Len(t, list, 5)
	_, err = doTakeAway(t.Context(), &run{Worker: a.Worker, Task: tk})
	require.NoError(t, err, "asked for again after a restart")
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	for _, name := range []string{"monday", "tuesday", "top", "frozen"} {
		require.FileExists(t, file(name))
	}
}
