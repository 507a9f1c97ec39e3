package inventory

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
)

// Shares are how many parts the hosts are watched in.
const Shares = 64

// silentService is how long a service that has not said that it lives still counts.
const silentService = 10 * time.Second

// LeaseShares gives a service its part of the shares for a term: as many as any other service has that lives. What it
// has beyond that it gives back. It is called again before the term is over.
func (inv *Inventory) LeaseShares(ctx context.Context, service uuid.UUID, term time.Duration) (mine []int16,
	err error) {
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		var services int
		if err := tx.QueryRow(ctx, `select count(*) + 1 from services where id <> $1
			and beat_at > now() - make_interval(secs => $2)`, service,
			silentService.Seconds()).Scan(&services); err != nil {
			return err
		}
		fair := (Shares + services - 1) / services
		batch := &pgx.Batch{}
		batch.Queue(`update watch_shares set service = null, until = '-infinity' where n in (select n from watch_shares
			where service = $1 order by n offset $2)`, service, fair)
		batch.Queue(`update watch_shares set service = $1, until = now() + make_interval(secs => $3)
			where service = $1 or n in (select n from watch_shares where until < now() and service is distinct from $1
			order by n limit greatest(0, $2 - (select count(*) from watch_shares where service = $1))
			for no key update skip locked)`, service, fair, term.Seconds())
		if err := tx.SendBatch(ctx, batch).Close(); err != nil {
			return err
		}
		list, err := tx.Query(ctx, `select n from watch_shares where service = $1 order by n`, service)
		if err != nil {
			return err
		}
		mine, err = pgx.CollectRows(list, pgx.RowTo[int16])
		return err
	})
	return mine, err
}

// ReturnShares lets others have the shares of a service that ends.
func (inv *Inventory) ReturnShares(ctx context.Context, service uuid.UUID) error {
	_, err := inv.Pool.Exec(ctx, `update watch_shares set service = null, until = '-infinity'
		where service = $1`, service)
	return err
}

// Watched is what has to be known of a host to watch it.
type Watched struct {
	ID       uuid.UUID
	Name     string
	Address  string
	Revision string
	Turn     int64
	State    plan.HostState
	AddedAt  time.Time
	LastSeen time.Time
}

// Host is the record of a host so far as it is known.
func (w *Watched) Host() *Host {
	return &Host{ID: w.ID, Name: w.Name, Address: w.Address, Revision: w.Revision, Turn: w.Turn,
		State: w.State}
}

const watchedSQL = `select id, name, address, revision, turn, state, added_at,
	coalesce(last_seen, added_at) as last_seen from hosts where manager_id is null and `

// EachWatched calls f with every host of some shares that was added after a moment, without any order.
func (inv *Inventory) EachWatched(ctx context.Context, shares []int16, after time.Time, f func(Watched)) error {
	list, err := inv.Pool.Query(ctx, watchedSQL+`share = any($1) and added_at > $2`, shares, after)
	if err != nil {
		return err
	}
	var w Watched
	into := []any{&w.ID, &w.Name, &w.Address, &w.Revision, &w.Turn, &w.State, &w.AddedAt, &w.LastSeen}
	_, err = pgx.ForEachRow(list, into, func() error {
		f(w)
		return nil
	})
	return err
}

// WatchedNow reads a host anew; nil when it was dropped.
func (inv *Inventory) WatchedNow(ctx context.Context, id uuid.UUID) (*Watched, error) {
	return one(rows[Watched](ctx, inv.Pool, watchedSQL+`id = $1`, id))
}
