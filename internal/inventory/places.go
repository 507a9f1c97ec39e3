package inventory

import (
	"context"
	"errors"
	"net/netip"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
)

// LandingRules lead files to pools, in the order in which they are tried.
func (inv *Inventory) LandingRules(ctx context.Context) ([]landing.Rule, error) {
	return rows[landing.Rule](ctx, inv.Pool, `select id::text, kind, over_bytes, host, label, pool, keep_bytes
		from landing_rules order by position`)
}

// AddLandingRule puts a rule before all others, or after them.
func (inv *Inventory) AddLandingRule(ctx context.Context, r landing.Rule, first bool, who string) (landing.Rule,
	error) {
	if err := r.Check(); err != nil {
		return r, Wrong("%v.", err)
	}
	if err := knownAll(ctx, inv.Pool, [2]string{"host", r.Host}, [2]string{"pool", r.Pool},
		[2]string{"label", r.Label}); err != nil {
		return r, err
	}
	r.ID = NewID().String()
	at := `coalesce(max(position) + 1, 0)`
	if first {
		at = `coalesce(min(position) - 1, 0)`
	}
	return r, inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into landing_rules (id, position, kind, over_bytes, host, label, pool,
			keep_bytes) select $1, `+at+`, $2, $3, $4, $5, $6, $7
			from landing_rules`, r.ID, r.Kind, r.OverBytes, r.Host, r.Label, r.Pool, r.KeepBytes); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "landing set", Subject: r.Words(fit.Size)})
	})
}

// DropLandingRule takes a rule away, by its id or the end of it.
func (inv *Inventory) DropLandingRule(ctx context.Context, ref, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[landing.Rule](ctx, tx, `delete from landing_rules where (id::text = $1
			or id::text like '%' || $1
			and length($1) >= 4) returning id::text, kind, over_bytes, host, label, pool, keep_bytes`, ref)
		if err != nil {
			return err
		}
		if len(list) != 1 {
			return Refuse(CodeUnknown, "%q names %d rules of landing, not one. unvora landing list shows them.", ref,
				len(list))
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "landing drop", Subject: list[0].Words(fit.Size)})
	})
}

// PoolOf finds a pool as hosts see it, by id, name or HOST/NAME.
func (inv *Inventory) PoolOf(ctx context.Context, ref string) (*Pool, error) {
	host, name, placed := strings.Cut(ref, "/")
	cond, args := "p.sort = lower($1)", []any{ref}
	if placed {
		cond, args = "p.sort = lower($1) and exists (select 1 from pool_hosts x join hosts h on h.id = "+
			"x.host_id "+
			"where x.pool_id = p.id and lower(h.name) = lower($2))", []any{name, host}
	} else if _, err := uuid.Parse(ref); err == nil {
		cond = "p.id = $1::uuid"
	}
	list, err := rows[Pool](ctx, inv.Pool, poolSQL+" where "+cond+" order by f.host, p.id limit 20", args...)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		return nil, inv.unknown(ctx, "pool", ref, "pools")
	case len(list) > 1:
		e := &Error{Code: CodeAmbiguous, Message: "Several pools have that name."}
		for _, p := range list {
			e.Likely = append(e.Likely, p.Host+"/"+p.Name)
		}
		e.Message += " Say which: " + strings.Join(e.Likely, " or ") + "."
		return nil, e
	}
	return &list[0], nil
}

// RestPool says that a pool takes nothing new, or takes it again.
func (inv *Inventory) RestPool(ctx context.Context, p *Pool, resting bool, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update pools set resting = $2 where id = $1`, p.ID, resting); err != nil {
			return err
		}
		what := "pool wake"
		if resting {
			what = "pool rest"
		}
		if err := In(tx).Emit(ctx, "pool", p.ID.String(), map[string]any{"name": p.Name,
			"resting": resting}); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: what, Subject: p.Host + "/" + p.Name})
	})
}

// RunningIn lists copies in a pool that run.
func (inv *Inventory) RunningIn(ctx context.Context, pool uuid.UUID) ([]Copy, error) {
	return rows[Copy](ctx, inv.Pool, copySQL+` where c.pool_id = $1 and c.gone_at is null and c.state in ('running',
		'paused') order by c.name limit 100`, pool)
}

// mostInPool bounds how many machines of a pool are dealt with at once.
const mostInPool = 500

// CopiesIn lists the copies of a form whose folders lie in a pool.
func (inv *Inventory) CopiesIn(ctx context.Context, pool uuid.UUID, form lineage.Form) ([]Copy, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.pool_id = $1 and c.gone_at is null and c.form = $2
		order by c.name, c.id limit $3`, pool, form, mostInPool+1)
	if len(list) > mostInPool {
		return nil, Wrong("More than %d machines lie in the pool: move some of them first, or name those that are "+
			"meant.", mostInPool)
	}
	return list, err
}

// StandingIn lists registered machines whose folders lie elsewhere, and that have layers of disks in a pool.
func (inv *Inventory) StandingIn(ctx context.Context, pool uuid.UUID) ([]string, error) {
	rows, err := inv.Pool.Query(ctx, `select distinct h.name || '/' || c.name from pool_hosts x
		join hosts h on h.id = x.host_id
		join copies c on c.host_id = x.host_id and c.gone_at is null and c.form = 'registered'
			and c.pool_id is distinct from x.pool_id
		join copy_disks d on d.copy_id = c.id
		where x.pool_id = $1 and exists (select 1 from unnest(d.layers || d.path) l where starts_with(l, x.path || '/'))
		order by 1 limit 20`, pool)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Labelled notes a change of a pool's labels.
func (inv *Inventory) Labelled(ctx context.Context, p *Pool, labels []string, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update pools set labels = $2 where id = $1`, p.ID, labels); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "pool label", Subject: p.Host + "/" + p.Name,
			Detail: map[string]any{"labels": labels}})
	})
}

// OnSwitch lists copies of a host with a NIC on one of its switches.
func (inv *Inventory) OnSwitch(ctx context.Context, host uuid.UUID, name string) ([]Copy, error) {
	return rows[Copy](ctx, inv.Pool, copySQL+` where c.host_id = $1 and c.form = 'registered' and c.gone_at is null
		and c.machine -> 'nics' @> jsonb_build_array(jsonb_build_object('network', $2::text))
		order by c.name limit 100`, host, name)
}

// OnSwitches are the machines that have NICs on a host's switches.
type OnSwitches struct {
	Switch   string   `json:"switch"`
	Machines []string `json:"machines"` // the first by name
	Total    int      `json:"total"`
}

// OnAllSwitches tells which machines have NICs on which of a host's switches.
func (inv *Inventory) OnAllSwitches(ctx context.Context, host uuid.UUID) ([]OnSwitches, error) {
	return rows[OnSwitches](ctx, inv.Pool, `select n->>'network' as switch, count(distinct c.id) as total,
		(array_agg(distinct c.name order by c.name))[1:12] as machines
		from copies c cross join lateral jsonb_path_query(c.machine, '$.nics[*] ? (@.network != "")') n
		where c.host_id = $1 and c.form = 'registered' and c.gone_at is null
		group by 1 order by 1`, host)
}

// Promise is by how much the disks that lie in a pool may still grow.
type Promise struct {
	Pool  uuid.UUID `json:"pool"`
	Bytes int64     `json:"bytes"`
}

// Promised tells by how much the disks in a host's pools may still grow, in bytes; descriptors may state any size.
func (inv *Inventory) Promised(ctx context.Context, host uuid.UUID) ([]Promise, error) {
	return rows[Promise](ctx, inv.Pool, `select c.pool_id as pool,
		least(9e18, sum(greatest(0, (d->>'virtualBytes')::numeric - coalesce((d->>'fileBytes')::numeric, 0))))::bigint
		as bytes from copies c cross join lateral jsonb_path_query(c.machine, '$.disks[*] ? (@.virtualBytes > 0)') d
		where c.pool_id in (select pool_id from pool_hosts where host_id = $1) and c.gone_at is null
		and c.form <> 'package' group by 1`, host)
}

// mostRange is how many addresses of a range are looked through for a free one.
const mostRange = 4096

// Ranges of the segments that have addresses to give out, with the next free one.
func (inv *Inventory) Ranges(ctx context.Context) (map[string]plan.Range, error) {
	type line struct {
		Name     string
		From, To netip.Addr
	}
	list, err := rows[line](ctx, inv.Pool, `select name, range_from as "from", range_to as "to" from segments
		where range_from is not null`)
	if err != nil {
		return nil, err
	}
	all := map[string]plan.Range{}
	for _, l := range list {
		r := plan.Range{From: l.From, To: l.To}
		if r.Free, err = freeAddress(ctx, inv.Pool, l.Name, l.From, l.To); err != nil {
			return nil, err
		}
		all[l.Name] = r
	}
	return all, nil
}

// freeAddress is the first of a range that was not given out, and that no copy
// is known or seen to have.
func freeAddress(ctx context.Context, q Querier, segment string, from, to netip.Addr) (free netip.Addr, err error) {
	at, looked := from, 0
	for most := firstAddresses; looked < mostRange; most *= 4 {
		var some []string
		for ; len(some) < most && looked < mostRange && at.IsValid() && !to.Less(at); at = at.Next() {
			some = append(some, at.String())
			looked++
		}
		if len(some) == 0 {
			break
		}
		query, err := q.Query(ctx, `select a from unnest($2::text[]) with ordinality x(a, n)
			where not exists (select 1 from given_addresses where segment = $1 and address = a::inet)
			and not exists (select 1 from copies c where c.gone_at is null and c.addresses @> array[a])
			and not exists (select 1 from copies c where c.gone_at is null and c.machine -> 'static' ? a)
			order by n limit 1`, segment, some)
		if err != nil {
			return free, err
		}
		found, err := pgx.CollectRows(query, pgx.RowTo[string])
		if err != nil {
			return free, err
		}
		if len(found) > 0 {
			return netip.ParseAddr(found[0])
		}
	}
	return free, nil
}

// firstAddresses is how many of a range are looked at first; then four times as many, and so on.
const firstAddresses = 16

// GiveAddress gives out the next free address of a segment, or the one that was
// typed, to the copy that a job makes.
func (l Ledger) GiveAddress(ctx context.Context, wish string, segment string, job uuid.UUID, copyID *uuid.UUID) (string,
	error) {
	address, err := netip.ParseAddr(wish)
	if err != nil {
		var from, to netip.Addr
		// One after the other: two jobs must not be given the same.
		err := l.q.QueryRow(ctx, `select range_from, range_to from segments where name = $1
			and range_from is not null for no key update`, wish).Scan(&from, &to)
		if errors.Is(err, pgx.ErrNoRows) {
			return "", Refuse("address.none-free", "The segment %s has no addresses to give out any more.", wish)
		}
		if err != nil {
			return "", err
		}
		segment = wish
		if address, err = freeAddress(ctx, l.q, segment, from, to); err != nil {
			return "", err
		}
		if !address.IsValid() {
			return "", Refuse("address.none-free", "All addresses that the segment %s has to give out were taken "+
				"meanwhile.",
				segment)
		}
	}
	_, err = l.q.Exec(ctx, `insert into given_addresses (segment, address, copy_id, job_id) values ($1, $2, $3, $4)
		on conflict (segment, address) do update set copy_id = excluded.copy_id, job_id = excluded.job_id,
		given_at = now()`,
		segment, address, copyID, job)
	return address.String(), err
}

// TakeAddressesBack forgets what a job that was undone had given out.
func (l Ledger) TakeAddressesBack(ctx context.Context, job uuid.UUID) error {
	_, err := l.q.Exec(ctx, `delete from given_addresses where job_id = $1`, job)
	return err
}

// Usage is what the machines of each owner take of a host.
func (inv *Inventory) Usage(ctx context.Context, host uuid.UUID) (map[string]plan.Usage, error) {
	type line struct {
		Owner    string
		Machines int
		Memory   int64
	}
	list, err := rows[line](ctx, inv.Pool, `select owner, count(*)::int as machines,
		coalesce(sum((machine ->> 'memoryBytes')::bigint), 0)::bigint as memory from copies
		where host_id = $1 and gone_at is null and form = 'registered' and owner <> '' group by owner`, host)
	all := map[string]plan.Usage{}
	for _, l := range list {
		all[l.Owner] = plan.Usage{Machines: l.Machines, MemoryBytes: l.Memory}
	}
	return all, err
}
