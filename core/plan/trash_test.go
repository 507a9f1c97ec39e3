package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
)

// TestRestore: what is in the trash comes back to where it lay, under another name where that is taken.
func TestRestore(t *testing.T) {
	facts := plan.RestoreFacts{Host: plan.HostFacts{ID: "h", Name: "gannet", State: plan.HostUp},
		Item: plan.InTrash{Name: "tide-gauge", Pool: "p1", Parts: []plan.GivenBack{
			{From: "/reef/.unvora/trash/j/tide-gauge", To: "/reef/tide-gauge"},
			{From: "/kelp/.unvora/trash/j/d.qcow2", To: "/kelp/tide-gauge-disks/d.qcow2", Of: "tide-gauge"}}}}
	p, err := plan.Restore(facts, nil, false)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Runnable, p.Verdict)
	require.Equal(t, facts.Item.Parts, stepsOf[plan.GiveBack](p)[0].Parts)
	require.Nil(t, p.PointOfNoReturn)
	require.Contains(t, p.Steps[0].What, "/kelp/tide-gauge-disks/d.qcow2", "all is said")

	facts.Taken = []string{"Tide-Gauge", "tide-gauge-2"}
	p, err = plan.Restore(facts, nil, false)
	require.NoError(t, err)
	require.Equal(t, plan.Open, p.Verdict)
	p, err = plan.Restore(facts, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, "/reef/tide-gauge-3", stepsOf[plan.GiveBack](p)[0].Parts[0].To)
	require.Equal(t, "/reef/tide-gauge", facts.Item.Parts[0].To, "facts stay as they are")
	for answer, says := range map[string]string{"rename:tide-gauge-2": "taken too", "rename:a/b": "name.taken"} {
		_, err = plan.Restore(facts, plan.Answers{"name.taken": answer}, false)
		require.ErrorContains(t, err, says)
	}

	facts.Taken, facts.Now = nil, &lineage.Known{ID: "c1", Name: "tide-gauge", Host: "petrel", Present: true}
	p, err = plan.Restore(facts, nil, false)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Runnable, p.Verdict)
	require.Contains(t, finding(p, "trash.copy-elsewhere").Message, "petrel/tide-gauge")

	facts.Host.Pools = []plan.PoolFacts{{ID: "p2", State: plan.PoolReadOnly}, {ID: "p1", State: plan.PoolReady}}
	p, err = plan.Restore(facts, nil, false)
	require.NoError(t, err)
	require.Equal(t, plan.Runnable, p.Verdict)
	facts.Host.Pools[1].Foreign = "mainland"
	p, err = plan.Restore(facts, nil, true)
	require.NoError(t, err)
	require.Equal(t, plan.Blocked, p.Verdict, "nothing is written into another's pool")
	facts.Host.Pools = nil

	facts.Host.State = plan.HostUnreachable
	p, err = plan.Restore(facts, nil, true)
	require.NoError(t, err)
	require.Equal(t, plan.Blocked, p.Verdict)
}
