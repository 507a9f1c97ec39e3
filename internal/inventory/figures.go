package inventory

import (
	"context"

	"unvora.example/unvora/core/plan"
)

// Figures are what a monitor watches.
type Figures struct {
	Hosts map[plan.HostState]int // ours, by state
	Jobs  map[JobState]int       // that are not over, by state; those that failed within the last day
	Pools []PoolFigures          // of the fullest, at most mostPoolFigures
}

// PoolFigures is the room of a pool.
type PoolFigures struct {
	Name, Host            string
	TotalBytes, FreeBytes int64
}

const mostPoolFigures = 200

// stated is how many there are in one state.
type stated[S ~string] struct {
	State  S
	Number int
}

// Figures counts what a monitor watches.
func (inv *Inventory) Figures(ctx context.Context) (*Figures, error) {
	f := &Figures{Hosts: map[plan.HostState]int{}, Jobs: map[JobState]int{}}
	hosts, err := rows[stated[plan.HostState]](ctx, inv.Pool, `select `+hostState+` as state,
		count(*)::integer as number from hosts h where h.manager_id is null group by 1`)
	if err != nil {
		return nil, err
	}
	for _, s := range hosts {
		f.Hosts[s.State] = s.Number
	}
	jobs, err := rows[stated[JobState]](ctx, inv.Pool, `select state, count(*)::integer as number from jobs
		where parts = 0 and (state in ('waiting', 'working', 'held')
		or state = 'failed' and created_at > now() - interval '1 day') group by state`)
	if err != nil {
		return nil, err
	}
	for _, s := range jobs {
		f.Jobs[s.State] = s.Number
	}
	f.Pools, err = rows[PoolFigures](ctx, inv.Pool, `select p.name, x.host, p.total_bytes, p.free_bytes from pools p
		cross join lateral (select h.name as host from pool_hosts x join hosts h on h.id = x.host_id
			where x.pool_id = p.id and x.state in ('ready', 'read-only') order by h.added_at limit 1) x
		where p.total_bytes > 0 order by p.free_bytes::float8 / p.total_bytes, p.id limit $1`, mostPoolFigures)
	return f, err
}
