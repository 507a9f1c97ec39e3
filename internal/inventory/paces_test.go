package inventory_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// TestPaces: how fast a transfer will go is told by how fast the last of its kind went between its hosts.
func TestPaces(t *testing.T) {
	inv := open(t)
	from, to, far := addHost(t, inv), addHost(t, inv), addHost(t, inv)
	hosts := map[string]uuid.UUID{from.Name: from.ID, to.Name: to.ID, far.Name: far.ID}
	transfer := func(host *inventory.Host, bytes int64) plan.Step {
		return plan.Step{ID: "s1", Kind: plan.KindCarry, Host: host.Name, Bytes: bytes,
			Do: &plan.Carry{Disk: "disk1", FromHost: from.ID.String()}}
	}
	steps := []plan.Step{transfer(to, 1500<<20), {Kind: plan.KindRecord, Do: &plan.Record{}}, transfer(far, 1500<<20),
		transfer(to, 1<<20)}
	paces := func() []float64 {
		t.Helper()
		list, err := inv.Paces(t.Context(), steps, hosts)
		require.NoError(t, err)
		return list
	}
	require.Equal(t, []float64{0, 0, 0, 0}, paces(), "nothing is known")
	for n, pace := range []int64{20 << 20, 30 << 20, 500 << 20} {
		carried(t, inv, transfer(to, 100<<20), to, pace, 0, time.Duration(n)*time.Minute)
	}
	carried(t, inv, transfer(to, 1<<20), to, 1<<10, 0, 0)       // what moved little does not count
	carried(t, inv, transfer(to, 100<<20), to, 1<<20, 1<<20, 0) // nor what was slowed down
	got := paces()
	require.InEpsilon(t, 30<<20, got[0], 0.01, "the median")
	require.InEpsilon(t, 30<<20, got[3], 0.01, "of the same hosts")
	require.Zero(t, got[1])
	require.Zero(t, got[2], "another pair of hosts")
}

// carried puts a transfer into the records that is over for some time, and went at a pace.
func carried(t *testing.T, inv *inventory.Inventory, s plan.Step, host *inventory.Host, pace, rate int64,
	since time.Duration) {
	t.Helper()
	job := inventory.NewID()
	ended := time.Now().Add(-since)
	_, err := inv.Pool.Exec(t.Context(), `insert into jobs (id, operation, subject, state, user_name, plan, rate)
		values ($1, 'move', 'x', 'done', 'ines', '{}', $2)`, job, rate)
	require.NoError(t, err)
	_, err = inv.Pool.Exec(t.Context(), `insert into steps (job_id, position, id, kind, what, host_id, bytes, done,
		state, do_what, uses, started_at, finished_at)
		values ($1, 0, 's1', $2, 'carry', $3, $4, $4, 'done', '{}', $5, $6, $7)`,
		job, s.Kind, host.ID, s.Bytes, inventory.Uses(s, &host.ID),
		ended.Add(-time.Duration(float64(s.Bytes)/float64(pace)*float64(time.Second))), ended)
	require.NoError(t, err)
}
