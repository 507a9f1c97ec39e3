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
}

// child is a line of the children of jobs.
type child struct {
	Parent, ID     uuid.UUID
	State          JobState
	GivenUp        bool
	Copies         []uuid.UUID // that it has made
	Done, Total    int64
	BytesPerSecond int64
}

// fillChildren brings in what is to be known of the children of jobs.
func (inv *Inventory) fillChildren(ctx context.Context, parents []uuid.UUID, at map[uuid.UUID]*Job) error {
	list, err := rows[child](ctx, inv.Pool, `select c.parent, c.id, c.given_up,
		case when c.state = 'working' and c.waits_for <> '' then 'waiting' else c.state end as state,
		coalesce(array_agg(nullif(s.do_what->>'made', '')::uuid) filter (where c.state = 'done' and s.kind = 'record'
			and s.do_what->>'made' <> ''), '{}') as copies,
		coalesce(sum(s.done), 0)::bigint as done, coalesce(sum(greatest(s.bytes, s.done)), 0)::bigint as total,
		coalesce(sum(s.done / greatest(0.5, extract(epoch from now() - s.started_at)))
			filter (where s.state = 'working' and c.state = 'working'), 0)::bigint as bytes_per_second
		from jobs c left join steps s on s.job_id = c.id where c.parent = any($1)
		group by c.id order by c.parent, c.nth, c.id`, parents)
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
		j.NewCopies = append(j.NewCopies, c.Copies...)
	}
	return nil
}

// Undone are the children of a job that came to nothing, with the requests that they were started with.
func (inv *Inventory) Undone(ctx context.Context, parent uuid.UUID) (children []Job, requests []json.RawMessage,
	err error) {
	children, err = rows[Job](ctx, inv.Pool, jobSQL+` where parent = $1 and not given_up
		and state in ('failed', 'cancelled') order by nth`, parent)
	for _, c := range children {
		raw, err := inv.RequestOf(ctx, c.ID.String())
		if err != nil {
			return nil, nil, err
		}
		requests = append(requests, raw)
	}
	return children, requests, err
}

// GiveUp notes that another child does the work of one that came to nothing. False: one does already.
func (l Ledger) GiveUp(ctx context.Context, child uuid.UUID) (bool, error) {
	tag, err := l.q.Exec(ctx, `update jobs set given_up = true where id = $1 and not given_up
		and state in ('failed', 'cancelled')`, child)
	return tag.RowsAffected() > 0, err
}
