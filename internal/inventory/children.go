package inventory

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
)

// Children is what is to be known of the children of a job, of those that were given up only their ids.
type Children struct {
	IDs            []uuid.UUID
	States         map[JobState]int
	Done, Total    int64 // bytes
	BytesPerSecond int64
	HeldCode       string // why the first of those could not go on that are held; "" where somebody holds them
	HeldFor        string
}

// child is a line of the children of jobs.
type child struct {
	Parent, ID     uuid.UUID
	State          JobState
	GivenUp        bool
	Copies         []uuid.UUID // that it has made
	Done, Total    int64
	BytesPerSecond int64
	HeldCode       string
	HeldFor        string
}

// fillChildren brings in what is to be known of the children of jobs.
func (inv *Inventory) fillChildren(ctx context.Context, parents []uuid.UUID, at map[uuid.UUID]*Job) error {
	list, err := rows[child](ctx, inv.Pool, `select c.parent, c.id, c.given_up, c.held_code, c.held_for,
		c.shown as state,
		coalesce(array_agg(nullif(s.do_what->>'made', '')::uuid) filter (where c.state = 'done' and s.kind = 'record'
			and s.do_what->>'made' <> ''), '{}') as copies,
		coalesce(sum(s.done), 0)::bigint as done, coalesce(sum(greatest(s.bytes, s.done)), 0)::bigint as total,
		coalesce(sum(s.done / greatest(0.5, extract(epoch from now() - s.started_at)))
			filter (where s.state = 'working' and c.state = 'working'), 0)::bigint as bytes_per_second
		from (select *, `+stateShown+` as shown from jobs where parent = any($1)) c left join steps s on s.job_id = c.id
		group by c.parent, c.id, c.given_up, c.held_code, c.held_for, c.state, c.shown, c.nth
		order by c.parent, c.nth, c.id`, parents)
	if err != nil {
		return err
	}
	for _, c := range list {
		j := at[c.Parent]
		if j.Children == nil {
			j.Children = &Children{States: map[JobState]int{}}
		}
		j.Children.IDs = append(j.Children.IDs, c.ID)
		if c.GivenUp {
			continue
		}
		j.Children.States[c.State]++
		j.Children.Done, j.Children.Total = j.Children.Done+c.Done, j.Children.Total+c.Total
		j.Children.BytesPerSecond += c.BytesPerSecond
		if c.State == JobHeld && c.HeldFor != "" && j.Children.HeldFor == "" {
			j.Children.HeldCode, j.Children.HeldFor = c.HeldCode, c.HeldFor
		}
		j.NewCopies = append(j.NewCopies, c.Copies...)
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
