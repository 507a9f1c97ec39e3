package do

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// twoHosts are gannet and petrel, which both see the pool reef. gannet has one machine.
func twoHosts(t *testing.T) (gannet, petrel *hand, folder string) {
	t.Helper()
	gannet, pool := newAgent(t, 0)
	folder, _ = agenttest.Lying(t, pool, "tide-gauge")
	require.NoError(t, gannet.List(folder, ground.Registered{}, ""))
	g, _ := agenttest.New(t, 0, func(c *ground.Config) {
		c.Name, c.Pools = "petrel", []ground.PoolConfig{{Name: "reef", Path: pool}}
	})
	return gannet, handOf(t, g), folder
}

// seenAgo has a host have written to the pool that long ago.
func seenAgo(t *testing.T, h *hand, ago time.Duration) string {
	t.Helper()
	h.Seen()
	self, err := h.Records.Self()
	require.NoError(t, err)
	then := time.Now().Add(-ago)
	require.NoError(t, os.Chtimes(filepath.Join(h.Config.Pools[0].Path, ground.MarkFile+".seen-"+self), then, then))
	return self
}

// TestListedOnce: in a pool that two hosts see, what one lists the other neither lists, starts, reads nor changes.
func TestListedOnce(t *testing.T) {
	gannet, petrel, folder := twoHosts(t)
	seen, err := petrel.Folder(folder)
	require.NoError(t, err)
	require.Equal(t, "gannet", seen.ListedBy.Name)
	require.InDelta(t, 0, seen.ListedBy.QuietSeconds, 5, "it is alive from the first moment on")
	require.NotContains(t, seen.Files, ground.HolderFile)
	seenAgo(t, gannet, 30*time.Second)
	seen, err = petrel.Folder(folder)
	require.NoError(t, err)
	require.InDelta(t, 30, seen.ListedBy.QuietSeconds, 5)
	own, err := gannet.Folder(folder)
	require.NoError(t, err)
	require.Nil(t, own.ListedBy)

	var refusal *ground.Refusal
	for what, err := range map[string]error{
		"list":   petrel.List(folder, ground.Registered{}, ""),
		"read":   func() error { _, err := petrel.KeepStill(t.Context(), folder, "no"); return err }(),
		"change": func() error { _, err := petrel.KeepStopped(t.Context(), folder, "no"); return err }(),
	} {
		require.ErrorAs(t, err, &refusal, what)
		require.Equal(t, "copy.listed-elsewhere", refusal.Code, what)
		require.ErrorContains(t, err, "gannet lists the machine", what)
	}
	require.NotContains(t, petrel.Records.Register(), folder)
	s := ended(t, start(t, petrel, "m", plan.KindMend, 1, plan.Mend{Path: filepath.Join(folder, "d.qcow2")}))
	require.Equal(t, "copy.listed-elsewhere", s.Code, s.Error)

	// Off the one list, it comes onto the other.
	require.NoError(t, gannet.Delist(folder))
	require.NoFileExists(t, filepath.Join(folder, ground.HolderFile))
	require.NoError(t, petrel.List(folder, ground.Registered{}, ""))
	require.ErrorAs(t, gannet.List(folder, ground.Registered{}, ""), &refusal)

	// An agent whose records were lost is the host that it was.
	again, _ := agenttest.New(t, 0, func(c *ground.Config) { c.Name, c.Pools = "petrel", petrel.Config.Pools })
	h, err := again.HeldElsewhere(folder)
	require.NoError(t, err)
	require.Nil(t, h)
	require.NoError(t, again.List(folder, ground.Registered{}, ""))

	// A mark that was left when the agent was killed goes when the host looks, and not before.
	mark, err := os.ReadFile(filepath.Join(folder, ground.HolderFile))
	require.NoError(t, err)
	require.NoError(t, petrel.Delist(folder))
	require.NoError(t, again.Delist(folder))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ground.HolderFile), mark, 0o640))
	_, err = gannet.Folder(folder)
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(folder, ground.HolderFile))
	_, err = petrel.Folder(folder)
	require.NoError(t, err)
	require.NoFileExists(t, filepath.Join(folder, ground.HolderFile))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ground.HolderFile), []byte(`{"id":"../../x","name":"brig"}`),
		0o640))
	require.ErrorContains(t, gannet.List(folder, ground.Registered{}, ""), "is no mark of a host")
	require.NoError(t, os.Remove(filepath.Join(folder, ground.HolderFile)))

	// A folder that was copied by hand bears a mark that says nothing.
	copied := folder + "-copy"
	require.NoError(t, os.CopyFS(copied, os.DirFS(folder)))
	require.NoError(t, gannet.List(copied, ground.Registered{}, ""))
	require.NoError(t, gannet.Delist(copied))
}

// TestLeftOff: a start that is to leave a machine off says so; what changes how a machine stands tells how it stood.
func TestLeftOff(t *testing.T) {
	h, _, folder := twoHosts(t)
	power := plan.Power{Folder: folder}
	run := func(step, kind string, p any) (s hostlink.Task, r hostlink.PowerResult) {
		s = ended(t, start(t, h, step, kind, 1, p))
		require.Equal(t, hostlink.TaskDone, s.State, s.Error)
		require.NoError(t, json.Unmarshal(s.Result, &r))
		return s, r
	}
	off := hostlink.PowerResult{Was: machine.Stopped, Is: machine.Stopped}
	_, r := run("p1", plan.KindStop, plan.Stop{Power: power})
	require.Equal(t, off, r)
	s, r := run("p2", plan.KindStart, plan.Start{Power: power, Off: true})
	require.Equal(t, off, r)
	require.Contains(t, s.Note, "stays off")
	_, r = run("p3", plan.KindStart, plan.Start{Power: power})
	require.Equal(t, hostlink.PowerResult{Was: machine.Stopped, Is: machine.Running}, r)
	_, r = run("p4", plan.KindStop, plan.Stop{Power: power, Manner: machine.Off})
	require.Equal(t, hostlink.PowerResult{Was: machine.Running, Is: machine.Stopped}, r)
}

// TestFence: a machine is taken from a host that has been silent for long, and from no other. It obeys when it comes
// back: the machine is off its list, and turned off where it runs.
func TestFence(t *testing.T) {
	gannet, petrel, folder := twoHosts(t)
	run := func(h *hand, step, kind string, p any) hostlink.Task {
		s := ended(t, start(t, h, step, kind, 1, p))
		if s.State != hostlink.TaskDone {
			require.NoError(t, h.tasks.Undo(job+"."+step, hostlink.TaskSpec{Job: job, Epoch: 1}))
		}
		return s
	}
	require.Equal(t, hostlink.TaskDone, run(gannet, "on", plan.KindStart, plan.Start{Power: plan.Power{
		Folder: folder}}).State)
	id := seenAgo(t, gannet, 40*time.Second)
	refused := run(petrel, "f1", plan.KindFence, plan.Fence{Folder: folder, From: id})
	require.Equal(t, "host.unheard", refused.Code, refused.Error)
	h, err := petrel.HeldElsewhere(folder)
	require.NoError(t, err)
	require.Equal(t, "gannet", h.Name, "the mark is as it was")

	seenAgo(t, gannet, 2*plan.SilentAfter)
	refused = run(petrel, "f2", plan.KindFence, plan.Fence{Folder: folder, From: "another"})
	require.Equal(t, "copy.listed-elsewhere", refused.Code, refused.Error)
	require.Equal(t, hostlink.TaskDone, run(petrel, "f3", plan.KindFence, plan.Fence{Folder: folder, From: id}).State)
	require.NoError(t, petrel.tasks.Undo(job+".f3", hostlink.TaskSpec{Job: job, Epoch: 1}))
	h, err = petrel.HeldElsewhere(folder)
	require.NoError(t, err)
	require.Equal(t, "gannet", h.Name, "undone, it is whose it was")
	require.Equal(t, hostlink.TaskDone, run(petrel, "f4", plan.KindFence, plan.Fence{Folder: folder, From: id}).State)
	require.NoError(t, petrel.List(folder, ground.Registered{}, ""))

	// gannet comes back, and its machine runs there still.
	_, err = gannet.Starting(t.Context(), folder)
	require.ErrorContains(t, err, "petrel lists the machine")
	told := gannet.Survey(t.Context(), "", 0)
	require.False(t, told.Machines[0].Registered)
	require.Equal(t, machine.Stopped, told.Machines[0].State)
	require.NotContains(t, gannet.Records.Register(), folder)
	now, err := gannet.Driver.State(t.Context(), folder)
	require.NoError(t, err)
	require.False(t, now.State.Active(), "somebody has said that it is off")
	require.Contains(t, petrel.Records.Register(), folder)

	// Where both list it from of old, the mark decides who starts it; nothing is taken off a list.
	require.NoError(t, petrel.Delist(folder))
	require.NoError(t, gannet.List(folder, ground.Registered{}, ""))
	require.NoError(t, os.Remove(filepath.Join(folder, ground.HolderFile)))
	require.NoError(t, petrel.List(folder, ground.Registered{}, ""))
	gannet.Obey(context.Background())
	require.Contains(t, gannet.Records.Register(), folder)
	told = gannet.Survey(t.Context(), "", 0)
	require.False(t, told.Machines[0].Registered)
	require.Contains(t, told.Machines[0].Problem, "petrel lists it too")
	require.True(t, told.Machines[0].Contested)
	same := gannet.Survey(t.Context(), told.Revision, 0)
	require.False(t, same.Changed, "it is told once")
}
