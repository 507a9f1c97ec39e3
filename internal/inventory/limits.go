package inventory

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/hours"
	"unvora.example/unvora/core/plan"
)

// Limits are how many transfers run at once. Each is from 1 to 100.
type Limits struct {
	PerHost int `json:"perHost"` // that a host reads or writes
	PerLink int `json:"perLink"` // between two hosts
	PerPool int `json:"perPool"` // that a pool is read or written by, from whatever hosts
	// Hours are times of the day at which each is slower, as package hours has them.
	Hours []string `json:"hours"`
}

// mostHours is how many times of the day there may be.
const mostHours = 20

// Windows are the hours, read.
func (l *Limits) Windows() (list []hours.Window, err error) {
	for _, text := range l.Hours {
		w, err := hours.Parse(text)
		if err != nil {
			return nil, err
		}
		list = append(list, w)
	}
	return list, nil
}

// Limits are those in force.
func (inv *Inventory) Limits(ctx context.Context) (*Limits, error) {
	return one(rows[Limits](ctx, inv.Pool, `select per_host, per_link, per_pool, hours from limits`))
}

// SetLimits puts others into force, at once; what runs goes on. One that is 0, or hours that are nil, stay as they are.
// It returns all.
func (inv *Inventory) SetLimits(ctx context.Context, l Limits, who string) (now *Limits, err error) {
	if _, err := l.Windows(); err != nil {
		return nil, Wrong("%v", err)
	}
	if len(l.Hours) > mostHours {
		return nil, Wrong("There are at most %d times of the day.", mostHours)
	}
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		now, err = one(rows[Limits](ctx, tx, `update limits set per_host = coalesce(nullif($1, 0), per_host),
			per_link = coalesce(nullif($2, 0), per_link), per_pool = coalesce(nullif($3, 0), per_pool),
			hours = coalesce($4, hours) returning per_host, per_link, per_pool, hours`, l.PerHost, l.PerLink,
			l.PerPool, l.Hours))
		if err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "limits", Subject: "transfers",
			Detail: map[string]any{"perHost": now.PerHost, "perLink": now.PerLink, "perPool": now.PerPool,
				"hours": now.Hours}})
	})
	return now, err
}

// uses are the things that there is only so much of that a transfer uses: each of its hosts, and the pair of them.
func uses(s plan.Step, host *uuid.UUID) []string {
	if host == nil {
		return nil
	}
	hosts := plan.Between(s.Do, host.String())
	keys := []string{}
	for _, h := range hosts {
		keys = append(keys, "host:"+h)
	}
	if len(hosts) == 2 {
		keys = append(keys, "link:"+min(hosts[0], hosts[1])+":"+max(hosts[0], hosts[1]))
	}
	if len(keys) == 0 {
		return nil
	}
	return keys
}

// poolsUsed are the pools that the transfers of a job read and write. They count for all of its transfers: room is
// taken for them together.
func poolsUsed(ctx context.Context, q Querier, steps []plan.Step, host func(name string) *uuid.UUID) ([]string,
	error) {
	var hosts []uuid.UUID
	var paths []string
	for _, s := range steps {
		at := host(s.Host)
		transfer, ok := s.Do.(plan.Transferring)
		if at == nil || !ok {
			continue
		}
		for _, t := range transfer.Touches(at.String()) {
			if id := OptionalID(t.Host); id != nil && t.Path != "" {
				hosts, paths = append(hosts, *id), append(paths, t.Path)
			}
		}
	}
	if len(hosts) == 0 {
		return []string{}, nil
	}
	r, err := q.Query(ctx, `select distinct 'pool:' || w.pool_id from unnest($1::uuid[], $2::text[]) t(host, path)
		join pool_hosts w on w.host_id = t.host and starts_with(t.path, w.path || '/')`, hosts, paths)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(r, pgx.RowTo[string])
}

// oneAtATime is the lock under which transfers begin.
const oneAtATime = 7480

// room takes room for the next transfer of a job, before any step that comes ahead of it: a machine is not stopped, nor
// are its disks frozen, to wait then for the transfers of others. What is taken is kept until the job's last transfer
// between the same hosts is done. It tells what has to be waited for; "" for nothing. Who came first goes first.
func room(ctx context.Context, tx pgx.Tx, job uuid.UUID, position int) (waitsFor string, err error) {
	var uses, pools []string
	var rests int // the job before it goes on at that position: room is not taken beyond that
	err = tx.QueryRow(ctx, `select uses, pools, rests from steps, (select coalesce(min(position), $4) as rests
		from steps where job_id = $1 and position > $2 and kind = $3) r where job_id = $1 and position >= $2
		and position < rests and uses is not null and state = 'waiting' and not claimed order by position limit 1`,
		job, position, plan.KindAwait, math.MaxInt32).Scan(&uses, &pools, &rests)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, oneAtATime); err != nil {
		return "", err
	}
	type line struct {
		Key            string
		Limit          int
		Running, Ahead int
	}
	full, err := rows[line](ctx, tx, `with busy as (
			select unnest(s.uses || s.pools) as key, j.id, s.claimed from steps s join jobs j on j.id = s.job_id
			where j.state = 'working' and j.id <> $1 and s.uses is not null and s.state in ('waiting', 'working')
			and (s.claimed or j.waits_for <> '' and j.id < $1 and not exists (select 1 from steps b
			where b.job_id = s.job_id and b.position < s.position and b.uses is not null and not b.claimed
			and b.state = 'waiting'))),
		counted as (select key, count(distinct id) filter (where claimed) as running,
			count(distinct id) filter (where not claimed) as ahead from busy where key = any($2) group by key),
		limited as (select key, running, ahead,
			case when key like 'link:%' then per_link when key like 'pool:%' then per_pool else per_host end as "limit"
			from counted cross join limits)
		select key, "limit", running, ahead from limited where running + ahead >= "limit" order by key limit 1`,
		job, append(slices.Clone(uses), pools...))
	if err != nil {
		return "", err
	}
	if len(full) > 0 {
		f := full[0]
		kind, ids, _ := strings.Cut(f.Key, ":")
		var names string
		if err := tx.QueryRow(ctx, `select coalesce(string_agg(name, ' and ' order by name), 'what is gone') from (
			select name from hosts where id = any($1::uuid[]) union all
			select name from pools where id = any($1::uuid[])) x`, strings.Split(ids, ":")).Scan(&names); err != nil {
			return "", err
		}
		at := map[string]string{"host": "at ", "link": "between ", "pool": "of the pool "}[kind] + names
		waitsFor = fmt.Sprintf("%d of %d transfers %s are running", f.Running, f.Limit, at)
		switch {
		case f.Ahead == 1:
			waitsFor += ", and one more comes first"
		case f.Ahead > 1:
			waitsFor += fmt.Sprintf(", and %d more come first", f.Ahead)
		}
	}
	if waitsFor == "" {
		if _, err := tx.Exec(ctx, `update steps set claimed = true where job_id = $1 and uses = $2
			and state = 'waiting' and position < $3`, job, uses, rests); err != nil {
			return "", err
		}
	}
	_, err = tx.Exec(ctx, `update jobs set waits_for = $2 where id = $1 and waits_for <> $2`, job, waitsFor)
	return waitsFor, err
}
