package do

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

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
