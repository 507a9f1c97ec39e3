package do

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// TestPoolChangesHands: a pool that was handed over takes nothing until it is taken over; one that another Unvora has
// is taken only while that is silent. Each of it can be taken back.
func TestPoolChangesHands(t *testing.T) {
	gannet, pool := newAgent(t, 0)
	belongs := func(h *hand, to string) {
		require.NoError(t, h.Records.SetUnvora(to))
	}
	belongs(gannet, "the Unvora of Northhead")
	g, _ := agenttest.New(t, 0, func(c *ground.Config) {
		c.Name, c.Pools = "brig", []ground.PoolConfig{{Name: "reef", Path: pool}}
	})
	brig := handOf(t, g)
	belongs(brig, "the Unvora of Quay")
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	state := func(h *hand) (plan.PoolState, string) {
		p := h.Pools()[0]
		return p.State, p.Owner
	}
	now, owner := state(gannet)
	require.Equal(t, plan.PoolReady, now)
	require.Empty(t, owner)
	now, owner = state(brig)
	require.Equal(t, plan.PoolReadOnly, now)
	require.Equal(t, "gannet", owner)
	var refusal *ground.Refusal
	require.ErrorAs(t, brig.List(folder, ground.Registered{}, ""), &refusal)
	require.Equal(t, "pool.foreign", refusal.Code)
	require.NoError(t, gannet.List(folder, ground.Registered{}, ""))

	id := gannet.Pools()[0].ID
	step := 0
	run := func(h *hand, kind string, p any) (s hostlink.Task, undo func()) {
		step++
		name := kind + string(rune('a'+step))
		s = ended(t, start(t, h, name, kind, 1, p))
		undo = func() { require.NoError(t, h.tasks.Undo(job+"."+name, hostlink.TaskSpec{Job: job, Epoch: 1})) }
		if s.State != hostlink.TaskDone {
			undo()
		}
		return s, undo
	}
	free, take := plan.FreePool{ID: id}, plan.TakePool{ID: id}
	s, _ := run(gannet, plan.KindFreePool, free)
	require.Equal(t, "pool.in-use", s.Code, s.Error)
	require.NoError(t, gannet.Delist(folder))
	p, _ := agenttest.New(t, 0, func(c *ground.Config) { c.Name, c.Pools = "petrel", gannet.Config.Pools })
	petrel := handOf(t, p)
	belongs(petrel, "the Unvora of Northhead")
	require.NoError(t, petrel.List(folder, ground.Registered{}, ""))
	s, _ = run(gannet, plan.KindFreePool, free)
	require.Equal(t, "pool.in-use", s.Code, s.Error)
	require.Contains(t, s.Error, "petrel still lists tide-gauge")
	require.NoError(t, petrel.Delist(folder))
	s, _ = run(petrel, plan.KindTakePool, plan.TakePool{ID: "another"})
	require.Equal(t, "pool.away", s.Code, s.Error)
	_, undo := run(gannet, plan.KindFreePool, free)
	undo()
	now, _ = state(gannet)
	require.Equal(t, plan.PoolReady, now, "undone, it is whose it was")
	require.NoFileExists(t, filepath.Join(pool, contentsFile))
	s, _ = run(gannet, plan.KindFreePool, free)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	raw, err := os.ReadFile(filepath.Join(pool, contentsFile))
	require.NoError(t, err)
	var list contents
	require.NoError(t, json.Unmarshal(raw, &list))
	require.Equal(t, "tide-gauge", list.Machines[0].Name)
	require.Equal(t, []string{"tide-gauge.img"}, list.Files)
	for _, h := range []*hand{gannet, brig} {
		now, owner = state(h)
		require.Equal(t, plan.PoolFree, now)
		require.Empty(t, owner)
		require.ErrorAs(t, h.List(folder, ground.Registered{}, ""), &refusal)
	}

	s, _ = run(brig, plan.KindTakePool, take)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	require.NoFileExists(t, filepath.Join(pool, contentsFile))
	require.NoError(t, brig.List(folder, ground.Registered{}, ""))
	now, owner = state(gannet)
	require.Equal(t, plan.PoolReadOnly, now)
	require.Equal(t, "brig", owner)
	brig.Seen()
	mark, err := gannet.PoolMark(id)
	require.NoError(t, err)
	require.False(t, mark.Ours)
	require.InDelta(t, 0, mark.QuietSeconds, 5)

	take.From = mark.Owner
	s, _ = run(gannet, plan.KindTakePool, take)
	require.Equal(t, "pool.foreign", s.Code, "its owner is alive: %s", s.Error)
	seenAgo(t, brig, 2*plan.SilentAfter)
	s, undo = run(gannet, plan.KindTakePool, take)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	undo()
	now, _ = state(brig)
	require.Equal(t, plan.PoolReady, now)
	_, err = gannet.PoolMark("another")
	require.ErrorAs(t, err, &refusal)
	require.Equal(t, "pool.away", refusal.Code)
}
