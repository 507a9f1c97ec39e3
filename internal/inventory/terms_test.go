package inventory_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
)

// TestTerms: what is over for long goes, with all that hangs on it; what is not over, or has a child that is not,
// stays, however old it is; and without a term everything stays.
func TestTerms(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	const day = 24 * time.Hour
	age := func(id uuid.UUID, state string, begun, ended int) {
		t.Helper()
		_, err := inv.Pool.Exec(ctx, `update jobs set state = $2, created_at = now() - make_interval(days => $3),
			finished_at = case when $4 > 0 then now() - make_interval(days => $4) end where id = $1`, id, state, begun,
			ended)
		require.NoError(t, err)
	}
	job := func(state string, begun, ended int) uuid.UUID {
		t.Helper()
		j, err := addJob(t, inv)
		require.NoError(t, err)
		t.Cleanup(func() { drop(t, inv, j.ID) })
		age(j.ID, state, begun, ended)
		return j.ID
	}
	family := func(ended ...int) uuid.UUID {
		t.Helper()
		step := plan.Step{Do: &plan.Record{}}
		b := hatch(t, inv, nil, step, step)
		children, err := inv.Pool.Query(ctx, `select id from jobs where parent = $1 order by id`, b.parent.ID)
		require.NoError(t, err)
		var ids []uuid.UUID
		for children.Next() {
			var id uuid.UUID
			require.NoError(t, children.Scan(&id))
			ids = append(ids, id)
		}
		require.NoError(t, children.Err())
		for n, id := range ids {
			age(id, map[bool]string{true: "done", false: "held"}[ended[n] > 0], 200, ended[n])
		}
		age(b.parent.ID, "done", 200, 190) // behind them: it follows what becomes of them
		return b.parent.ID
	}
	gone := map[string]uuid.UUID{"done": job("done", 200, 101), "failed": job("failed", 101, 101),
		"cancelled": job("cancelled", 101, 101), "with all its children": family(150, 101)}
	kept := map[string]uuid.UUID{"young": job("done", 99, 99), "old, and over for a day": job("done", 200, 1),
		"at work": job("working", 200, 0), "held": job("held", 200, 0), "with a child that is held": family(150, 0),
		"with a child that ended later": family(150, 50)}
	there := func(id uuid.UUID) (n int) {
		t.Helper()
		require.NoError(t, inv.Pool.QueryRow(ctx, `select count(*) from jobs where id = $1 or parent = $1`,
			id).Scan(&n))
		return n
	}
	require.NoError(t, inv.PruneJobs(ctx, 0))
	for how, id := range gone {
		require.Positive(t, there(id), how)
	}
	require.NoError(t, inv.PruneJobs(ctx, 100*day))
	for how, id := range gone {
		require.Zero(t, there(id), how)
	}
	for how, id := range kept {
		require.Positive(t, there(id), how)
	}
	var steps int
	require.NoError(t, inv.Pool.QueryRow(ctx, `select count(*) from steps where not exists (select 1 from jobs
		where id = job_id)`).Scan(&steps))
	require.Zero(t, steps)

	// History, many entries at once.
	old := "old " + uuid.NewString()
	_, err := inv.Pool.Exec(ctx, `insert into audit (id, at, who, what, subject) select gen_random_uuid(),
		now() - make_interval(days => case when n <= 6000 then 101 else 99 end), 'robin', 'note', $1
		from generate_series(1, 6003) n`, old)
	require.NoError(t, err)
	entries := func() (n int) {
		t.Helper()
		require.NoError(t, inv.Pool.QueryRow(ctx, `select count(*) from audit where subject = $1`, old).Scan(&n))
		return n
	}
	require.NoError(t, inv.PruneHistory(ctx, 0))
	require.Equal(t, 6003, entries())
	require.NoError(t, inv.PruneHistory(ctx, 100*day))
	require.Equal(t, 3, entries())
	_, err = inv.Pool.Exec(ctx, `delete from audit where subject = $1`, old)
	require.NoError(t, err)
}
