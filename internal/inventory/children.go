package inventory

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
)

// Children is what is to be known of the children of a job.
type Children struct {
	IDs            []uuid.UUID // also of those that were given up; none in a list of jobs
	States         map[JobState]int
	Done, Total    int64 // bytes
	BytesPerSecond int64
	HeldCode       string // why the first of those could not go on that are held; "" where somebody holds them
	HeldFor        string
}

// sums is what the children of a job come to that are in one state.
type sums struct {
	Parent         uuid.UUID
	State          JobState
	Number         int
	Done, Total    int64
	BytesPerSecond int64
	HeldCode       string
	HeldFor        string
}

// fillChildren brings in what the children of jobs come to.
func (inv *Inventory) fillChildren(ctx context.Context, parents []uuid.UUID, at map[uuid.UUID]*Job) error {
	list, err := rows[sums](ctx, inv.Pool, `select parent, state, count(*)::integer as number,
		sum(done)::bigint as done, sum(total)::bigint as total, sum(bytes_per_second)::bigint as bytes_per_second,
		coalesce((array_agg(held_code order by nth, id) filter (where held_for <> ''))[1], '') as held_code,
		coalesce((array_agg(held_for order by nth, id) filter (where held_for <> ''))[1], '') as held_for
		from (select c.parent, c.id, c.nth, c.held_code, c.held_for, `+stateShown+` as state, s.* from jobs c
			cross join lateral (select coalesce(sum(done), 0) as done, coalesce(sum(greatest(bytes, done)), 0) as total,
			coalesce(sum(done / greatest(0.5, extract(epoch from now() - started_at)))
				filter (where state = 'working' and c.state = 'working'), 0) as bytes_per_second
			from steps where job_id = c.id) s
			where c.parent = any($1) and not c.given_up) each_one
		group by parent, state`, parents)
	if err != nil {
		return err
	}
	for _, id := range parents {
		at[id].Children = &Children{States: map[JobState]int{}}
	}
	for _, c := range list {
		all := at[c.Parent].Children
		all.States[c.State] = c.Number
		all.Done, all.Total = all.Done+c.Done, all.Total+c.Total
		all.BytesPerSecond += c.BytesPerSecond
		if c.State == JobHeld {
			all.HeldCode, all.HeldFor = c.HeldCode, c.HeldFor
		}
	}
	return nil
}

// nameChildren brings in which the children of a job are, and the copies that they have made.
func (inv *Inventory) nameChildren(ctx context.Context, j *Job) error {
	list, err := rows[struct {
		ID     uuid.UUID
		Copies []uuid.UUID
	}](ctx, inv.Pool, `select c.id,
		coalesce(array_agg((s.do_what->>'made')::uuid) filter (where s.id is not null), '{}') as copies
		from jobs c left join steps s on s.job_id = c.id and c.state = 'done' and s.kind = 'record'
			and s.do_what->>'made' <> ''
		where c.parent = $1 group by c.id, c.nth order by c.nth, c.id`, j.ID)
	if err != nil {
		return err
	}
	for _, c := range list {
		j.Children.IDs, j.NewCopies = append(j.Children.IDs, c.ID), append(j.NewCopies, c.Copies...)
	}
	return nil
}

// Undone is a child of a job that came to nothing.
type Undone struct {
	ID      uuid.UUID
	Nth     int
	Note    string
	Rate    int64
	Request json.RawMessage // that it was started with
}

// Undone are the children of a job that came to nothing.
func (inv *Inventory) Undone(ctx context.Context, parent uuid.UUID) ([]Undone, error) {
	return rows[Undone](ctx, inv.Pool, `select id, nth, note, rate, request from jobs where parent = $1 and not given_up
		and state in ('failed', 'cancelled') order by nth`, parent)
}

// GiveUp notes that another child does the work of one that came to nothing. False: one does already.
func (l Ledger) GiveUp(ctx context.Context, child uuid.UUID) (bool, error) {
	tag, err := l.q.Exec(ctx, `update jobs set given_up = true where id = $1 and not given_up
		and state in ('failed', 'cancelled')`, child)
	return tag.RowsAffected() > 0, err
}
