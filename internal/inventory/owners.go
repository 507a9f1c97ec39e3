package inventory

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Beater says for a service that it lives. It has a connection of its own, so
// that a busy pool is not taken for a dead service.
type Beater struct {
	inv  *Inventory
	id   uuid.UUID
	conn *pgx.Conn
}

// NewBeater makes the beater of a service.
func (inv *Inventory) NewBeater(service uuid.UUID) *Beater { return &Beater{inv: inv, id: service} }

// Beat says that the service lives. A connection that is lost is made anew by
// the next call.
func (b *Beater) Beat(ctx context.Context) error {
	if b.conn == nil {
		conn, err := pgx.ConnectConfig(ctx, b.inv.Pool.Config().ConnConfig.Copy())
		if err != nil {
			return err
		}
		b.conn = conn
	}
	_, err := b.conn.Exec(ctx, `insert into services (id) values ($1) on conflict (id) do update
		set beat_at = now()`, b.id)
	if err != nil {
		b.conn.Close(ctx)
		b.conn = nil
	}
	return err
}

// End says that the service ends: its jobs can be taken up at once.
func (b *Beater) End(ctx context.Context) error {
	if b.conn == nil {
		return nil
	}
	_, err := b.conn.Exec(ctx, `delete from services where id = $1`, b.id)
	b.conn.Close(ctx)
	b.conn = nil
	return err
}

// Given is a job that was given to a service; Epoch is that of its ownership.
type Given struct {
	ID    uuid.UUID
	Epoch int64
}

// Admit gives waiting jobs to a service, the oldest first, while it steers fewer
// than most. f is called in the same transaction for each.
func (inv *Inventory) Admit(ctx context.Context, service uuid.UUID, most int, f func(tx pgx.Tx, g Given) error) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[Given](ctx, tx, `update jobs set state = 'working', owner = $1, epoch = epoch + 1,
			retry_at = null,
			started_at = coalesce(started_at, now())
			where id in (select id from jobs where state = 'waiting' and parts = 0
				and (back or coalesce(start_at <= now(), true)) order by id
				limit greatest(0, $2 - (select count(*) from jobs where state = 'working'
				and owner = $1)) for no key update skip locked)
				returning id, epoch`, service, most)
		if err != nil {
			return err
		}
		for _, g := range list {
			if err := In(tx).Emit(ctx, "job", g.ID.String(), map[string]any{"state": JobWorking}); err != nil {
				return err
			}
			if err := f(tx, g); err != nil {
				return err
			}
		}
		return nil
	})
}

// Queue puts back into the queue what a service that died was steering, and what
// is held and due to be tried again. It returns how many of the former there were.
func (inv *Inventory) Queue(ctx context.Context, silence time.Duration) (orphans int, err error) {
	tag, err := inv.Pool.Exec(ctx, `update jobs set state = 'waiting', owner = null, epoch = epoch + 1
		where id in (select id from jobs where state = 'working' and parts = 0
		and not exists (select 1 from services s where s.id = jobs.owner
		and s.beat_at > now() - make_interval(secs => $1)) for no key update skip locked)`, silence.Seconds())
	if err != nil {
		return 0, err
	}
	_, err = inv.Pool.Exec(ctx, `update jobs set state = 'waiting' where id in (select id from jobs where state = 'held'
		and retry_at <= now() for no key update skip locked)`)
	if err == nil {
		_, err = inv.Pool.Exec(ctx, `delete from services where beat_at < now() - interval '1 day'`)
	}
	return int(tag.RowsAffected()), err
}

// Steered lists the jobs that a service steers.
func (inv *Inventory) Steered(ctx context.Context, service uuid.UUID) ([]Given, error) {
	return rows[Given](ctx, inv.Pool, `select id, epoch from jobs where state = 'working' and owner = $1`, service)
}

// TakeJob returns a job for its owner of that epoch to work on. A service that
// finds another one's job in the queue becomes its owner, with a newer epoch.
// Nil: the job is over or held, or somebody newer has it.
func (inv *Inventory) TakeJob(ctx context.Context, id uuid.UUID, epoch int64, service uuid.UUID) (*Job, error) {
	tag, err := inv.Pool.Exec(ctx, `update jobs set epoch = epoch + 1, owner = $3 where id = $1 and epoch = $2
		and state = 'working' and owner <> $3`, id, epoch, service)
	if err != nil {
		return nil, err
	}
	epoch += tag.RowsAffected()
	j, err := inv.Job(ctx, id.String())
	if err != nil || j.Epoch != epoch || j.State != JobWorking {
		return nil, err
	}
	return j, nil
}

// Reread brings in what others have changed about a job at work. False: the job
// is over or held, or somebody newer has it.
func (inv *Inventory) Reread(ctx context.Context, j *Job) (bool, error) {
	now, err := one(rows[Job](ctx, inv.Pool, jobSQL+` where id = $1 and epoch = $2 and state = 'working'`, j.ID,
		j.Epoch))
	if now == nil || err != nil {
		return false, err
	}
	now.Steps = j.Steps
	*j = *now
	return true, nil
}
