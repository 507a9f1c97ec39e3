package inventory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
)

// Host is a record of a host.
type Host struct {
	ID          uuid.UUID      `json:"id"`
	Name        string         `json:"name"`
	Family      string         `json:"family"`
	Driver      string         `json:"driver"`
	Site        string         `json:"site"`
	State       plan.HostState `json:"state"`
	CPUs        int            `json:"cpus" db:"cpus"`
	MemoryBytes int64          `json:"memoryBytes"`
	LastSeen    *time.Time     `json:"lastSeen"`
	Address     string         `json:"address"`
	Revision    string         `json:"-"`
	Turn        int64          `json:"-"` // of what jobs have changed there
	Copies      int            `json:"copies"`

	Abilities fit.Abilities `json:"abilities"`
	Protocol  int           `json:"-"`
	ClockOff  int64         `json:"-"`     // seconds
	Ports     []wiring.Port `json:"ports"` // null: its driver makes no switches
	Resting   bool          `json:"-"`
	Manager   string        `json:"manager"` // through which alone it is reached; "" for one with an agent of ours
	ManagerID *uuid.UUID    `json:"-"`
}

// longSilent is how long a host has not answered that is asked by name only: watching tries it anyway.
const longSilent = 10 * time.Minute

// LongSilent tells of a host that has not answered for long when it last did; "" of all others.
func (h *Host) LongSilent() string {
	if h.State != plan.HostUnreachable || h.LastSeen == nil || time.Since(*h.LastSeen) < longSilent {
		return ""
	}
	return fmt.Sprintf("The agent on %s does not answer at %s, since %s.", h.Name, h.Address,
		h.LastSeen.UTC().Format("2 January, 15:04 MST"))
}

const hostState = `case when h.state = 'up' and h.resting then 'resting' else h.state end`

var hostList = listing[Host]{
	columns: `h.id, h.name, h.family, h.driver, coalesce(h.site, '') as site, ` + hostState + ` as state, h.cpus,
		h.memory_bytes, h.last_seen, h.address, h.revision, h.turn, h.abilities, h.protocol, h.clock_off, h.ports,
		h.resting, h.manager_id, coalesce((select m.name from managers m where m.id = h.manager_id), '') as manager,
			(select count(*) from copies c where c.host_id = h.id and c.gone_at is null
			and c.form <> 'package') as copies`,
	from:   "hosts h",
	always: "h.manager_id is null", alias: "h", fields: hostFields,
	key: func(h *Host) (string, uuid.UUID) { return h.Name, h.ID },
}

var hostSQL = hostList.sql()

var hostFields = map[string]field{
	"name":   {equal: "h.sort = lower(%s)", like: "h.sort like lower(%s)"},
	"site":   {equal: "h.site = %s"},
	"state":  {equal: hostState + " = %s", check: oneOf(plan.HostUp, plan.HostResting, plan.HostUnreachable)},
	"family": {equal: "h.family = %s"},
}

// Hosts lists hosts by name, without those of managers.
func (inv *Inventory) Hosts(ctx context.Context, p Page) (*List[Host], error) {
	return hostList.page(ctx, inv.Pool, p)
}

// AllHosts calls f with every host, a page at a time.
func (inv *Inventory) AllHosts(ctx context.Context, f func(Host) error) error {
	for after := ""; ; {
		l, err := inv.Hosts(ctx, Page{Limit: 500, After: after})
		if err != nil {
			return err
		}
		for _, h := range l.Items {
			if err := f(h); err != nil {
				return err
			}
		}
		if after = l.Next; after == "" {
			return nil
		}
	}
}

// MemoryInUse is what the machines that run take of each host, in bytes.
func (inv *Inventory) MemoryInUse(ctx context.Context) (map[uuid.UUID]int64, error) {
	type use struct {
		Host  uuid.UUID
		Bytes int64
	}
	list, err := rows[use](ctx, inv.Pool, `select host_id as host,
		sum(coalesce((machine ->> 'memoryBytes')::bigint, 0))::bigint as bytes from copies
		where form = 'registered' and gone_at is null and state in ('running', 'paused') and host_id is not null
		group by host_id`)
	used := map[uuid.UUID]int64{}
	for _, u := range list {
		used[u.Host] = u.Bytes
	}
	return used, err
}

// Host finds one by name or id.
func (inv *Inventory) Host(ctx context.Context, ref string) (*Host, error) {
	cond := "lower(h.name) = lower($1)"
	if _, err := uuid.Parse(ref); err == nil {
		cond = "h.id = $1::uuid"
	}
	list, err := rows[Host](ctx, inv.Pool, hostSQL+" where "+cond, ref)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, inv.unknown(ctx, "host", ref, "hosts")
	}
	return &list[0], nil
}

// unknown makes the error of a name that is not there, with near ones.
func (inv *Inventory) unknown(ctx context.Context, noun, ref, table string) error {
	near, err := inv.near(ctx, ref, table)
	if err != nil {
		return err
	}
	e := &Error{Code: CodeUnknown, Message: fmt.Sprintf("There is no %s %q.", noun, ref), Likely: near}
	if len(near) > 0 {
		e.Message += " Did you mean " + strings.Join(near, " or ") + "?"
	}
	return e
}

// near finds names that are few letters from ref, among those that are near it in order, and, in a table that is not
// large, among those that share letters with it by the trigram index.
func (inv *Inventory) near(ctx context.Context, ref, table string) ([]string, error) {
	there := ""
	if table == "copies" {
		there = "gone_at is null and "
	}
	r, err := inv.Pool.Query(ctx, strings.NewReplacer("TABLE", table, "THERE", there).Replace(`
		select name from (select distinct name from (
			(select name from TABLE where THERE sort <= lower($1) order by sort desc limit 100)
			union all (select name from TABLE where THERE sort > lower($1) order by sort limit 100)
			union all (select name from TABLE where THERE sort % lower($1)
				and (select reltuples < $2 from pg_class where oid = 'TABLE'::regclass) limit 200)) x) y
		order by name`),
		ref, notLarge)
	if err != nil {
		return nil, err
	}
	names, err := pgx.CollectRows(r, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	low := strings.ToLower(ref)
	far := func(n string) int { return levenshtein.ComputeDistance(strings.ToLower(n), low) }
	names = slices.DeleteFunc(names, func(n string) bool { return far(n) > max(2, len(ref)/3) })
	slices.SortStableFunc(names, func(a, b string) int { return far(a) - far(b) })
	return names[:min(len(names), 3)], nil
}

// notLarge is how many rows a table has that is looked through for names that share letters.
const notLarge = 20_000

// sitePrefix numbers the MAC ranges of sites: 256 under each second octet from 5c on.
func sitePrefix(n int) (string, error) {
	second := 0x5c + n/256
	if second > 0xff {
		return "", Wrong("There are %d sites: no range of MACs is left for another.", n-1)
	}
	return fmt.Sprintf("02:%02x:%02x", second, n%256), nil
}

// AddHost records a host that was enrolled.
func (inv *Inventory) AddHost(ctx context.Context, id uuid.UUID, address string, h *hostlink.Hello, who string) error {
	if strings.Contains(h.Name, "@") {
		return Wrong("%q is no name for a host: HOST@MANAGER is one of a manager. Give it another in its "+
			"agent's "+
			"file.", h.Name)
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		var n int // sites are numbered one after the other
		if _, err := tx.Exec(ctx, `lock table sites in share row exclusive mode`); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `select count(*) from sites`).Scan(&n); err != nil {
			return err
		}
		prefix, err := sitePrefix(n + 1)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into sites (name, mac_prefix) values ($1, $2)
			on conflict (name) do nothing`, h.Site, prefix); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into hosts (id, name, family, driver, site, address, state, cpus, memory_bytes,
			last_seen)
			values ($1, $2, $3, $4, $5, $6, 'up', $7, $8,
			now())`, id, h.Name, h.Family, h.Driver, h.Site, address, h.CPUs, h.MemoryBytes)
		if violates(err, "hosts_name") {
			return Refuse(CodeTaken, "There is a host %q already. Drop it first, or give the new one another name.",
				h.Name)
		}
		if err != nil {
			return err
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: "host add", Subject: h.Name}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "host", id.String(), map[string]any{"name": h.Name, "state": plan.HostUp})
	})
}

// HostState notes whether a host answers; a change is an event.
func (inv *Inventory) HostState(ctx context.Context, h *Host, state plan.HostState) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `update hosts set state = $2 where id = $1 and state <> $2`, h.ID, state)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return In(tx).Emit(ctx, "host", h.ID.String(), map[string]any{"name": h.Name, "state": state})
	})
}

// RestHost says that a host takes nothing new, or takes it again.
func (inv *Inventory) RestHost(ctx context.Context, h *Host, resting bool, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update hosts set resting = $2 where id = $1`, h.ID, resting); err != nil {
			return err
		}
		what := "host wake"
		if resting {
			what = "host rest"
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: what, Subject: h.Name}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "host", h.ID.String(), map[string]any{"name": h.Name, "resting": resting})
	})
}

// idle refuses what can't be done while jobs have steps at hosts, given by a
// query for their ids.
func idle(ctx context.Context, tx Querier, name, hosts string, arg any) error {
	var job string
	err := tx.QueryRow(ctx, `select j.id::text from jobs j
		where j.state not in ('done', 'partly', 'failed', 'cancelled')
		and exists (select 1 from steps s where s.job_id = j.id and s.host_id in (`+hosts+`)) limit 1`, arg).Scan(&job)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return Refuse(CodeBusy, "The job %s is at work at %s. Wait for it, or cancel it: unvora jobs cancel %s", job,
		name, job)
}

// DropHost forgets a host that has no copies any more.
func (inv *Inventory) DropHost(ctx context.Context, h *Host, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		var busy, shelved int
		if err := tx.QueryRow(ctx, `select count(*) filter (where form <> 'package'),
			count(*) filter (where form = 'package')
			from copies where host_id = $1 and gone_at is null`, h.ID).Scan(&busy, &shelved); err != nil {
			return err
		}
		if busy+shelved > 0 {
			return Refuse(CodeTaken, "%s still has %d copies and %d packages. Delist or move them first; a host that "+
				"was lost is brought back with: unvora host rebuild %s", h.Name, busy, shelved, h.Name)
		}
		if err := idle(ctx, tx, h.Name, `select $1::uuid`, h.ID); err != nil {
			return err
		}
		for _, sql := range []string{`update copies set host_id = null, pool_id = null, shelf_id = null
			where host_id = $1`, `update steps set host_id = null where host_id = $1`, `delete from hosts
			where id = $1`} {
			if _, err := tx.Exec(ctx, sql, h.ID); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `delete from pools p where not exists (select 1 from pool_hosts x
			where x.pool_id = p.id)
			and not exists (select 1 from copies c where c.pool_id = p.id)`); err != nil {
			return err
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: "host drop", Subject: h.Name}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "host", h.ID.String(), map[string]any{"name": h.Name, "gone": true})
	})
}

// Pool is a record of a pool.
type Pool struct {
	ID         uuid.UUID      `json:"id"`
	Host       string         `json:"host"`
	Name       string         `json:"name"`
	Path       string         `json:"path"`
	State      plan.PoolState `json:"state"`
	Labels     []string       `json:"labels"`
	Hosts      []string       `json:"hosts"`
	TotalBytes int64          `json:"totalBytes"`
	UsedBytes  int64          `json:"usedBytes"`
	FreeBytes  int64          `json:"freeBytes"`
	Removable  bool           `json:"removable"`
	Ownerless  bool           `json:"ownerless"`
	MaxFile    int64          `json:"maxFile"` // bytes; 0: no bound known
	Rate       int64          `json:"rate"`    // bytes a second; 0: not measured
	Foreign    string         `json:"foreign"` // manager that it belongs to
	Owner      string         `json:"owner"`   // a host of another Unvora, which it belongs to
}

// poolState is that of a pool p as a host's line x of pool_hosts has it.
const poolState = `case when p.resting and x.state = 'ready' then 'resting' else x.state end`

var poolList = listing[Pool]{
	columns: `p.id, p.name, p.labels, p.total_bytes, p.total_bytes - p.free_bytes as used_bytes, p.free_bytes,
			f.path, f.state, f.removable, f.ownerless, f.max_file, f.rate, f.foreign_to as foreign,
			f.owner, f.host,
			array(select h.name
			from pool_hosts x join hosts h on h.id = x.host_id where x.pool_id = p.id order by h.added_at) as hosts`,
	from: `pools p cross join lateral (select x.path, ` + poolState + ` as state, x.removable, x.ownerless, x.max_file,
		x.rate, x.foreign_to, x.owner, h.name as host from pool_hosts x join hosts h on h.id = x.host_id
		where x.pool_id = p.id order by h.added_at limit 1) f`,
	counted: "pools p", alias: "p", fields: poolFields,
	key: func(p *Pool) (string, uuid.UUID) { return p.Name, p.ID },
}

var poolSQL = poolList.sql()

var poolFields = map[string]field{
	"name": {equal: "(p.sort = lower(%[1]s) and p.name = %[1]s)", like: "p.sort like lower(%s)"},
	"host": {equal: "exists (select 1 from pool_hosts x join hosts h on h.id = x.host_id where x.pool_id = p.id and " +
		"lower(h.name) = lower(%s))", noun: "host"},
}

// Pools lists pools by name; a share is one.
func (inv *Inventory) Pools(ctx context.Context, p Page) (*List[Pool], error) {
	return poolList.page(ctx, inv.Pool, p)
}

// HostPools lists a host's pools as it sees them, in its own order.
func (inv *Inventory) HostPools(ctx context.Context, host uuid.UUID) ([]Pool, error) {
	return rows[Pool](ctx, inv.Pool, `select p.id, p.name, p.labels, p.total_bytes,
		p.total_bytes - p.free_bytes as used_bytes, p.free_bytes,
		x.path, `+poolState+` as state, x.removable, x.ownerless, x.max_file, x.rate, x.foreign_to as foreign,
		x.owner, h.name as host,
		'{}'::text[] as hosts
		from pool_hosts x join pools p on p.id = x.pool_id join hosts h on h.id = x.host_id where x.host_id = $1
		order by x.position`, host)
}

// Switch is a record of a switch.
type Switch struct {
	Host    string `json:"host"`
	Name    string `json:"name"`
	Segment string `json:"segment"`
	VLAN    int    `json:"vlan" db:"vlan"`
	Uplink  string `json:"uplink"`
	Tagged  bool   `json:"tagged"`
	Address string `json:"address"`
}

// Wiring is the switch as plans know it.
func (s Switch) Wiring() wiring.Switch {
	return wiring.Switch{Name: s.Name, Segment: s.Segment, VLAN: s.VLAN, Uplink: s.Uplink, Tagged: s.Tagged,
		Address: s.Address}
}

// NoteSwitch records that a host has a switch, or has none of that name, in the
// transaction of the step that has made or dropped it.
func (l Ledger) NoteSwitch(ctx context.Context, host uuid.UUID, sw wiring.Switch, there bool) error {
	if _, err := l.q.Exec(ctx, `delete from switches where host_id = $1 and name = $2`, host, sw.Name); err != nil {
		return err
	}
	if there {
		if _, err := l.q.Exec(ctx, `insert into switches (host_id, name, segment, vlan, uplink, tagged, address)
			values ($1,
			$2, $3, $4, $5, $6, $7)`,
			host, sw.Name, sw.Segment, sw.VLAN, sw.Uplink, sw.Tagged, sw.Address); err != nil {
			return err
		}
	}
	return l.Emit(ctx, "host", host.String(), map[string]any{"switch": sw.Name, "there": there})
}

const switchSQL = `select h.name as host, s.name, s.segment, s.vlan, s.uplink, s.tagged, s.address
	from switches s join hosts h on h.id = s.host_id`

// Switches lists a host's switches.
func (inv *Inventory) Switches(ctx context.Context, host uuid.UUID) ([]Switch, error) {
	return rows[Switch](ctx, inv.Pool, switchSQL+` where s.host_id = $1 order by s.name`, host)
}

// AllSwitches is a page of the switches of all hosts of ours, by host and name. next is "" at the end.
func (inv *Inventory) AllSwitches(ctx context.Context, after string, limit int) (list []Switch, next string,
	err error) {
	host, name, _ := strings.Cut(after, "/") // no host has a / in its name
	return pageOf(limit, func(limit int) ([]Switch, error) {
		return rows[Switch](ctx, inv.Pool, switchSQL+` where h.manager_id is null
			and (h.sort, s.name) > (lower($1), $2) order by h.sort, s.name limit $3`, host, name, limit)
	}, func(s *Switch) string { return s.Host + "/" + s.Name })
}

// Shelf is a record of a shelf.
type Shelf struct {
	ID        uuid.UUID `json:"id"`
	Name      string    `json:"name"`
	HostID    uuid.UUID `json:"-"`
	Host      string    `json:"host"`
	Address   string    `json:"-"`
	Path      string    `json:"path"`
	FreeBytes int64     `json:"freeBytes"`
}

const shelfSQL = `select s.id, s.name, s.host_id, h.name as host, h.address, s.path, s.free_bytes from shelves s
	join hosts h on h.id = s.host_id`

// RoomiestShelf is the name of the shelf with the most room; "" where there is none.
func (inv *Inventory) RoomiestShelf(ctx context.Context) (name string, err error) {
	err = inv.Pool.QueryRow(ctx, `select name from shelves order by free_bytes desc, name limit 1`).Scan(&name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return name, err
}

// Shelves is a page of all shelves, by name. next is "" at the end.
func (inv *Inventory) Shelves(ctx context.Context, after string, limit int) (list []Shelf, next string, err error) {
	return pageOf(limit, func(limit int) ([]Shelf, error) {
		return rows[Shelf](ctx, inv.Pool, shelfSQL+` where lower(s.name) > lower($1) order by lower(s.name) limit $2`,
			after, limit)
	}, func(s *Shelf) string { return s.Name })
}

// ShelvesOf lists those of a host.
func (inv *Inventory) ShelvesOf(ctx context.Context, host uuid.UUID) ([]Shelf, error) {
	return rows[Shelf](ctx, inv.Pool, shelfSQL+` where s.host_id = $1 order by s.name`, host)
}

// Shelf finds one by name; nil when there is none.
func (inv *Inventory) Shelf(ctx context.Context, name string) (*Shelf, error) {
	list, err := rows[Shelf](ctx, inv.Pool, shelfSQL+` where lower(s.name) = lower($1)`, name)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// applyHost writes what a survey tells of the host itself.
func applyHost(ctx context.Context, tx Querier, host uuid.UUID, s *hostlink.Survey) error {
	if h := s.Hello; h != nil {
		if _, err := tx.Exec(ctx, `update hosts set family = $2, driver = $3, cpus = $4, memory_bytes = $5,
			abilities = $6,
			protocol = $7, clock_off = extract(epoch from $8::timestamptz - clock_timestamp())::bigint where id = $1`,
			host, h.Family, h.Driver, h.CPUs, h.MemoryBytes, h.Abilities, h.Protocol, h.Time); err != nil {
			return err
		}
	}
	if s.Bare == nil {
		s.Bare = []hostlink.BareFolder{}
	}
	if s.Unread == nil {
		s.Unread = []string{}
	}
	if _, err := tx.Exec(ctx, `update hosts set revision = $2, last_seen = now(), state = 'up', ports = case
		when $3 then $4 else ports end, bare = case when $3 then $5 else bare end, unread = case
		when $3 then $6 else unread end where id = $1`,
		host, s.Revision, s.Changed, s.Ports, s.Bare, s.Unread); err != nil {
		return err
	}
	for i, p := range s.Pools {
		if p.ID == "" {
			continue // away since the agent was installed: nothing is known of it
		}
		labels := p.Labels
		if labels == nil {
			labels = []string{}
		}
		_, err := tx.Exec(ctx, `insert into pools (id, name, labels, total_bytes, free_bytes) values ($1, $2, $3, $4,
			$5)
			on conflict (id) do update set total_bytes = excluded.total_bytes, free_bytes = excluded.free_bytes,
			labels = excluded.labels
			where $6 and (pools.total_bytes, pools.free_bytes, pools.labels) is distinct from (excluded.total_bytes,
			excluded.free_bytes, excluded.labels)`,
			p.ID, p.Name, labels, p.TotalBytes, p.FreeBytes, p.State != plan.PoolAway)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into pool_hosts (pool_id, host_id, position, path, state, removable, max_file,
			rate, foreign_to, ownerless, owner) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
			on conflict (pool_id, host_id) do update set position = excluded.position, path = excluded.path,
			state = excluded.state, removable = excluded.removable, max_file = excluded.max_file, rate = excluded.rate,
			foreign_to = excluded.foreign_to, ownerless = excluded.ownerless, owner = excluded.owner
			where (pool_hosts.position, pool_hosts.path, pool_hosts.state, pool_hosts.removable, pool_hosts.max_file,
			pool_hosts.rate, pool_hosts.foreign_to, pool_hosts.ownerless, pool_hosts.owner) is distinct from
			(excluded.position, excluded.path, excluded.state, excluded.removable, excluded.max_file, excluded.rate,
			excluded.foreign_to, excluded.ownerless, excluded.owner)`,
			p.ID, host, i, p.Path, p.State, p.Removable, p.MaxFile, p.Rate, p.Foreign, p.Ownerless, p.Owner)
		if err != nil {
			return err
		}
	}
	for _, sh := range s.Shelves {
		_, err := tx.Exec(ctx, `insert into shelves (id, name, host_id, path, free_bytes) values ($1, $2, $3, $4, $5)
			on conflict (host_id, path) do update set name = excluded.name,
			free_bytes = excluded.free_bytes`, NewID(), sh.Name, host, sh.Path, sh.FreeBytes)
		if violates(err, "shelves_name") {
			return Refuse(CodeTaken, "Another host has a shelf of the name %q. Give one of them another name in its "+
				"agent's file.",
				sh.Name)
		}
		if err != nil {
			return err
		}
	}
	if !s.Changed {
		return nil
	}
	return applySwitches(ctx, tx, host, s.Switches)
}

func applySwitches(ctx context.Context, tx Querier, host uuid.UUID, list []wiring.Switch) error {
	before, err := rows[wiring.Switch](ctx, tx, `select name, segment, vlan, uplink, tagged, address from switches
		where host_id = $1 order by name`, host)
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b wiring.Switch) int { return strings.Compare(a.Name, b.Name) })
	if slices.Equal(before, list) {
		return nil
	}
	if err := In(tx).Emit(ctx, "host", host.String(), map[string]any{"switches": len(list)}); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `delete from switches where host_id = $1`, host); err != nil {
		return err
	}
	for _, sw := range list {
		if _, err := tx.Exec(ctx, `insert into switches (host_id, name, segment, vlan, uplink, tagged, address)
			values ($1,
			$2, $3, $4, $5, $6, $7)`,
			host, sw.Name, sw.Segment, sw.VLAN, sw.Uplink, sw.Tagged, sw.Address); err != nil {
			return fmt.Errorf("switch %s: %w", sw.Name, err)
		}
	}
	return nil
}

// MACPrefix is the range of a host's site.
func (inv *Inventory) MACPrefix(ctx context.Context, site string) (prefix string, err error) {
	err = inv.Pool.QueryRow(ctx, `select mac_prefix from sites where name = $1`, site).Scan(&prefix)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", Refuse(CodeUnknown, "There is no site %q.", site)
	}
	return prefix, err
}

// PoolAt is a pool as one host sees it.
type PoolAt struct {
	Host uuid.UUID
	Path string
}

// PoolsNamed finds the pools of a name on all hosts.
func (inv *Inventory) PoolsNamed(ctx context.Context, name string) ([]PoolAt, error) {
	return rows[PoolAt](ctx, inv.Pool, `select ph.host_id as host, ph.path from pools p
		join pool_hosts ph on ph.pool_id = p.id where lower(p.name) = lower($1) and ph.state <> 'away'
		order by ph.host_id limit 10`, name)
}
