package do

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
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
	_, err = doAlter(t.Context(), &run{Worker: a.Worker, Task: tk})
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
