package inventory_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// TestEstimate: a plan's time is told by how fast the last transfers of its kind went between its hosts.
func TestEstimate(t *testing.T) {
	inv := open(t)
	from, to, far := addHost(t, inv), addHost(t, inv), addHost(t, inv)
	hosts := map[string]uuid.UUID{from.Name: from.ID, to.Name: to.ID, far.Name: far.ID}
	transfer := func(host *inventory.Host, bytes int64) plan.Step {
		do := &plan.Carry{Disk: "disk1", FromHost: from.ID.String()}
		return plan.Step{ID: "s1", Kind: plan.KindCarry, Host: host.Name, Bytes: bytes, Do: do}
	}
	estimate := func(jobs int, most int64, steps ...plan.Step) int64 {
		t.Helper()
		n, err := inv.Estimate(t.Context(), steps, hosts, jobs, most)
		require.NoError(t, err)
		return n
	}
	require.EqualValues(t, 10, estimate(1, 0, transfer(to, 1500<<20)), "as usual, while nothing is known")
	require.EqualValues(t, 150, estimate(1, 10<<20, transfer(to, 1500<<20)), "no faster than it may go")
	for n, pace := range []int64{20 << 20, 30 << 20, 500 << 20} { // the median counts, and what moved little does not
		carried(t, inv, transfer(to, 100<<20), to, pace, time.Duration(n)*time.Minute)
	}
	carried(t, inv, transfer(to, 1<<20), to, 1<<10, 0)
	require.EqualValues(t, 50, estimate(1, 0, transfer(to, 1500<<20)))
	require.EqualValues(t, 10, estimate(1, 0, transfer(far, 1500<<20)), "another pair of hosts")
	require.EqualValues(t, 60, estimate(1, 0, transfer(to, 1500<<20), transfer(far, 1500<<20)))
	require.EqualValues(t, 50, estimate(2, 0, transfer(to, 1500<<20), transfer(to, 1500<<20)), "two side by side")
	require.EqualValues(t, 1, estimate(1, 0, plan.Step{Kind: plan.KindRecord, Do: &plan.Record{}}))
}

// carried puts a transfer into the records that is over for some time, and went at a pace.
func carried(t *testing.T, inv *inventory.Inventory, s plan.Step, host *inventory.Host, pace int64,
	since time.Duration) {
	t.Helper()
	job := inventory.NewID()
	ended := time.Now().Add(-since)
	_, err := inv.Pool.Exec(t.Context(), `insert into jobs (id, operation, subject, state, user_name, plan)
		values ($1, 'move', 'x', 'done', 'ines', '{}')`, job)
	require.NoError(t, err)
	_, err = inv.Pool.Exec(t.Context(), `insert into steps (job_id, position, id, kind, what, host_id, bytes, done,
		state, do_what, uses, started_at, finished_at)
		values ($1, 0, 's1', $2, 'carry', $3, $4, $4, 'done', '{}', $5, $6, $7)`,
		job, s.Kind, host.ID, s.Bytes, inventory.Uses(s, &host.ID),
		ended.Add(-time.Duration(float64(s.Bytes)/float64(pace)*float64(time.Second))), ended)
	require.NoError(t, err)
}
