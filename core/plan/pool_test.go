package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// handing is the pool kelp of gannet, with two machines in it.
func handing() plan.HandOverFacts {
	host := plan.HostFacts{Name: "gannet", State: plan.HostUp}
	one := func(name string) plan.PoolMachine {
		return plan.PoolMachine{Copy: lineage.Known{ID: name, Name: name, Host: "gannet", Path: "/kelp/" + name,
			State: machine.Stopped}, Host: host}
	}
	return plan.HandOverFacts{Pool: plan.PoolFacts{ID: "p1", Name: "kelp", Path: "/kelp", State: plan.PoolReady},
		Host: host, Machines: []plan.PoolMachine{one("buoy-ingest"), one("tide-gauge")}}
}

// TestHandOver: all machines come off their lists, and only then is the pool marked as free. What stands in the way is
// named.
func TestHandOver(t *testing.T) {
	const two = "delist forget delist forget free-pool"
	for name, c := range map[string]struct {
		answers plan.Answers
		spoil   func(f *plan.HandOverFacts)
		finds   string
		steps   string
	}{
		"as it is": {nil, func(*plan.HandOverFacts) {}, "", two},
		"empty":    {nil, func(f *plan.HandOverFacts) { f.Machines = nil }, "", "free-pool"},
		"one runs": {plan.Answers{"pool.in-use": "stop"}, func(f *plan.HandOverFacts) {
			f.Machines[0].Copy.State = machine.Running
		}, "pool.in-use", "stop " + two},
		"nobody says that it may be stopped": {nil, func(f *plan.HandOverFacts) {
			f.Machines[0].Copy.State = machine.Running
		}, "pool.in-use", ""},
		"one is suspended": {plan.Answers{"state.suspended": "drop"}, func(f *plan.HandOverFacts) {
			f.Machines[1].Copy.State = machine.Suspended
		}, "state.suspended", "delist forget stop delist forget free-pool"},
		"a disk of it lies elsewhere": {nil, func(f *plan.HandOverFacts) { f.Machines[0].Away = []string{"disk3"} },
			"pool.disks-elsewhere", two},
		"others have disks in it": {nil, func(f *plan.HandOverFacts) { f.Stands = []string{"gannet/archive-db"} },
			"pool.holds-disks", ""},
		"a job is at work": {nil, func(f *plan.HandOverFacts) { f.Machines[0].Busy = "0199" }, "busy.job", ""},
		"its host is away": {nil, func(f *plan.HandOverFacts) { f.Host.State = plan.HostUnreachable },
			"host.unreachable", ""},
		"another's host is away": {nil, func(f *plan.HandOverFacts) {
			f.Machines[1].Host = plan.HostFacts{Name: "petrel", State: plan.HostUnreachable}
		}, "host.unreachable", ""},
		"it is away": {nil, func(f *plan.HandOverFacts) { f.Pool.State = plan.PoolAway }, "pool.away", ""},
	} {
		facts := handing()
		c.spoil(&facts)
		p, err := plan.HandOver(facts, c.answers, true)
		require.NoError(t, err, name)
		keep(t, p)
		if c.finds != "" {
			require.NotNil(t, finding(p, c.finds), name)
		}
		require.Equal(t, c.steps != "", p.Verdict == plan.Runnable, "%s: %s", name, p.Verdict)
		if c.steps != "" {
			require.Contains(t, outline(p)+" ", "/ "+c.steps+" ", name)
			require.Nil(t, p.PointOfNoReturn)
			for _, f := range stepsOf[plan.Forget](p) {
				require.Equal(t, lineage.Stray, f.Form)
			}
		}
	}
	facts := handing()
	facts.Pool.State = plan.PoolFree
	_, err := plan.HandOver(facts, nil, true)
	require.ErrorContains(t, err, "unvora pool take-over kelp")
}

// brigs is the mark of a pool that belongs to the Unvora of brig, which wrote to it so many seconds ago.
func brigs(quiet int64) plan.PoolMark {
	return plan.PoolMark{Owner: "u2", OwnerHost: "brig", QuietSeconds: quiet}
}

// TestTakeOver: a pool is taken when it is free, or its owner has been silent for long and somebody says so; then its
// machines are registered.
func TestTakeOver(t *testing.T) {
	for name, c := range map[string]struct {
		mark    plan.PoolMark
		answers plan.Answers
		finds   string
		runs    bool
	}{
		"free":                 {plan.PoolMark{Free: true, QuietSeconds: -1}, nil, "", true},
		"nobody's yet":         {plan.PoolMark{QuietSeconds: -1}, nil, "", true},
		"its owner is alive":   {brigs(20), nil, "pool.foreign", false},
		"its owner is silent":  {brigs(400), nil, "pool.lease-silent", false},
		"and somebody says so": {brigs(-1), plan.Answers{"pool.lease-silent": "take"}, "pool.lease-silent", true},
	} {
		f, req := lying(t)
		f.Of = "tide-gauge"
		req.Answers = c.answers
		facts := plan.TakeOverFacts{Pool: f.Host.Pools[0], Host: f.Host, Mark: c.mark,
			Machines: []plan.RegisterFacts{f}}
		facts.Pool.State = plan.PoolFree
		p, err := plan.TakeOver(facts, req)
		require.NoError(t, err, name)
		keep(t, p)
		if c.finds != "" {
			require.NotNil(t, finding(p, c.finds), name)
		}
		require.Equal(t, c.runs, p.Verdict == plan.Runnable, "%s: %s", name, p.Verdict)
		if c.runs {
			require.Contains(t, outline(p)+" ", "/ take-pool give-ids alter record ", name)
			require.Equal(t, c.mark.Owner, stepsOf[plan.TakePool](p)[0].From)
		}
	}
	f, req := lying(t)
	_, err := plan.TakeOver(plan.TakeOverFacts{Pool: f.Host.Pools[0], Host: f.Host,
		Mark: plan.PoolMark{Ours: true}}, req)
	require.ErrorContains(t, err, "ours already")
}

// TestSameCopy: what was taken off a list here comes back as the copy that it is, unless somebody wants it otherwise.
func TestSameCopy(t *testing.T) {
	f, req := lying(t)
	f.Origin = lineage.Origin{Status: "alive", Copy: &origin}
	f.Was = &plan.Was{Host: "gannet", By: "robin", SecondsAgo: 300}
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	require.Equal(t, plan.Runnable, p.Verdict)
	require.Contains(t, finding(p, "identity.same-copy").Message,
		"gannet listed until robin took it off the list, 5 min ago")
	for facet, choice := range stepsOf[plan.GiveIDs](p)[0].Choice {
		require.Equal(t, "keep", choice, facet)
	}
	req.Identity = "renew"
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	require.Nil(t, finding(p, "identity.same-copy"))
	require.Equal(t, "renew", stepsOf[plan.GiveIDs](p)[0].Choice["uuid"])
}
