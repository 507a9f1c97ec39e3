package inventory

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// Copy is a record of a copy.
type Copy struct {
	ID        uuid.UUID          `json:"id"`
	Name      string             `json:"name"`
	LineageID uuid.UUID          `json:"lineage"`
	Form      lineage.Form       `json:"form"`
	Host      string             `json:"host"`
	Pool      string             `json:"pool"`
	Path      string             `json:"path"`
	Shelf     string             `json:"shelf"`
	UUID      string             `json:"uuid" db:"uuid"`
	MACs      []string           `json:"macs" db:"macs"`
	Addresses []string           `json:"addresses"`
	State     machine.State      `json:"state"`
	StateWhy  string             `json:"stateWhy"` // where nobody asked for it
	Parent    *uuid.UUID         `json:"parent"`
	MadeBy    string             `json:"madeBy"`
	MadeUser  string             `json:"madeUser"`
	MadeAt    time.Time          `json:"madeAt"`
	Identity  string             `json:"identity"`
	Renewed   []string           `json:"renewed"`
	LastSeen  time.Time          `json:"lastSeen"`
	GoneAt    *time.Time         `json:"goneAt"`
	Tracked   bool               `json:"tracked"`
	Owner     string             `json:"owner"`
	SizeBytes int64              `json:"sizeBytes"`
	Machine   *machine.Machine   `json:"machine,omitempty"`
	Evidence  []lineage.Evidence `json:"evidence"` // by which it was recognised
	Score     int                `json:"score"`
	Candidate *uuid.UUID         `json:"candidate"` // that it may have been made from
	SettledBy string             `json:"settledBy"` // who has said what it is
	Problem   string             `json:"problem"`
	HostID    *uuid.UUID         `json:"-"`
	PoolID    *uuid.UUID         `json:"-"`
	ShelfID   *uuid.UUID         `json:"-"`
	Number    int                `json:"-"`             // of a package's machine, from 0
	Rel       string             `json:"rel,omitempty"` // path within its pool; "" where it lies in none
	Unread    bool               `json:"-"`             // its host was not read since nobody knows when
	Version   string             `json:"-"`             // of the record: another each time it is written
}

// copyList is the list of copies; briefList the same without the machines, of which lists tell nothing.
var (
	copyList  = listOfCopies("c.machine")
	briefList = listOfCopies("null::jsonb as machine")
	copySQL   = copyList.sql()
	briefSQL  = briefList.sql()
)

func listOfCopies(machine string) listing[Copy] {
	return listing[Copy]{
		columns: `c.id, c.name, c.lineage_id, c.form, coalesce(h.name, '') as host, coalesce(p.name, '') as pool,
			c.path, coalesce(s.name, '') as shelf,
			coalesce(c.uuid::text, '') as uuid, array(select n.mac::text from nics n where n.copy_id = c.id
			order by n.position) as macs, c.addresses,
			c.state, c.state_why, c.parent_id as parent, c.made_by, c.made_user, c.made_at, c.identity, c.renewed,
			greatest(c.last_seen, case
			when c.gone_at is null and c.state <> 'away' then h.last_seen end) as last_seen, c.gone_at, c.tracked,
			c.owner, c.size_bytes,
 ` + machine + `, c.evidence, c.score, c.candidate_id as candidate, c.settled_by, c.problem, c.host_id, c.pool_id,
			c.shelf_id, c.number, c.rel, coalesce(h.revision = '', false) as unread, c.xmin::text as version`,
		from: `copies c left join hosts h on h.id = c.host_id left join pools p on p.id = c.pool_id left
			join shelves s on s.id = c.shelf_id`,
		always: "c.gone_at is null", alias: "c", fields: copyFields,
		key: func(c *Copy) (string, uuid.UUID) { return c.Name, c.ID },
		orders: map[string]ordering[Copy]{
			"made": {"made_at", "timestamptz", func(c *Copy) string { return c.MadeAt.UTC().Format(time.RFC3339Nano) }},
			"size": {"size_bytes", "bigint", func(c *Copy) string { return strconv.FormatInt(c.SizeBytes, 10) }},
		},
	}
}

var copyFields = map[string]field{
	"name": {equal: "(c.sort = lower(%[1]s) and c.name = %[1]s)", like: "c.sort like lower(%s)"},
	"host": {equal: "c.host_id = any(%s)", noun: "host", among: "hosts"},
	"manager": {equal: "c.host_id in (select id from hosts where manager_id = any(%s))", noun: "manager",
		among: "managers"},
	"form":    {equal: "c.form = %s", check: oneOf(lineage.Forms...)},
	"state":   {equal: "c.state = %s", check: oneOf(machine.States...)},
	"lineage": {equal: "c.lineage_id = %s::uuid", check: isUUID},
	"tracked": {equal: "c.tracked = (%s in ('yes', 'true'))", check: oneOf("yes", "no", "true", "false")},
	"owner":   {equal: "c.owner = %s and c.owner <> ''"},
	"pool": {equal: "c.pool_id = any(%s)", noun: "pool", among: "pools", many: "exists (select 1 from pools w " +
		"where w.id = c.pool_id and w.sort = lower(%s))"},
	"address": {equal: "c.addresses @> array[%s]"},
	"mac":     {equal: "c.id in (select copy_id from nics where mac = %s::macaddr)", check: isMAC},
	"id":      {equal: "c.id = %s::uuid", check: isUUID},
	"uuid":    {equal: "c.uuid = %s::uuid", check: isUUID},
}

// Copies lists copies that are there, by name.
func (inv *Inventory) Copies(ctx context.Context, p Page) (*List[Copy], error) {
	return briefList.page(ctx, inv.Pool, p)
}

// CopyByID returns nil when there is none; one that is gone is found too.
func (inv *Inventory) CopyByID(ctx context.Context, id string) (*Copy, error) {
	if _, err := uuid.Parse(id); err != nil {
		return nil, nil
	}
	return one(rows[Copy](ctx, inv.Pool, copySQL+" where c.id = $1::uuid", id))
}

// placedSQL is the condition that a copy is named $1 at the place named $3: a host, shelf, pool or manager.
const placedSQL = `c.id in (
	select x.id from copies x where x.host_id = any(array(select id from hosts where sort = lower($3)))
		and x.form <> 'package' and (x.name = $1 or x.path like '%/' || $1)
	union select x.id from copies x where x.shelf_id = any(array(select id from shelves where lower(name) = lower($3)))
		and x.form = 'package' and x.gone_at is null and (x.name = $1 or x.path like '%/' || $1)
	union select x.id from copies x where x.pool_id = any(array(select id from pools where sort = lower($3)))
		and x.form = 'package' and x.gone_at is null and (x.name = $1 or x.rel = $1)
	union select x.id from copies x where x.sort = lower($1) and x.name = $1 and x.gone_at is null
		and x.host_id = any(array(
		select id from hosts where manager_id = (select id from managers where lower(name) = lower($3)))))`

// Copy finds the one that ref means: an id, HOST/NAME, SHELF/NAME or a name
// that only one copy bears. forms narrows what may be meant.
func (inv *Inventory) Copy(ctx context.Context, ref string, forms ...lineage.Form) (*Copy, error) {
	if c, err := inv.CopyByID(ctx, ref); c != nil || err != nil {
		if c != nil && len(forms) > 0 && !slices.Contains(forms, c.Form) {
			return nil, Wrong("%s is %s, not %s.", c.Name, c.Form, joined(forms, " or "))
		}
		if c != nil && len(forms) > 0 && c.GoneAt != nil {
			return nil, Refuse(CodeUnknown, "That copy of %s is gone since %s.", c.Name,
				c.GoneAt.Format("2 January 2006, 15:04"))
		}
		return c, err
	}
	if len(forms) == 0 {
		forms = lineage.Forms
	}
	cond, args := "c.sort = lower($1) and c.name = $1", []any{ref, forms}
	if place, name, ok := strings.Cut(ref, "/"); ok {
		cond = placedSQL
		args = []any{name, forms, place}
	}
	placed := len(args) == 3
	list, err := rows[Copy](ctx, inv.Pool, copySQL+" where "+cond+" and c.form = any($2) and c.gone_at is null order "+
		"by "+
		"c.form = 'registered' desc, h.name, c.path, c.number limit 20", args...)
	// HOST/NAME is the copy that the host lists, whatever else lies in its pools.
	if placed && len(list) > 1 && list[0].Form == lineage.Registered && list[1].Form != lineage.Registered {
		list = list[:1]
	}
	list = onePackage(list)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		if place, name, ok := strings.Cut(ref, "/"); ok {
			if _, err := inv.Host(ctx, place); err != nil {
				s, _ := inv.Shelf(ctx, place)
				if _, e := inv.Manager(ctx, place); s == nil && e != nil {
					return nil, err
				}
			}
			err := inv.unknown(ctx, "copy", name, "copies")
			var e *Error
			if !errors.As(err, &e) {
				return nil, err
			}
			e.Message = strings.Replace(e.Message, fmt.Sprintf("%q", name), fmt.Sprintf("%q at %s", name, place), 1)
			return nil, e
		}
		return nil, inv.unknown(ctx, "copy", ref, "copies")
	case len(list) > 1:
		e := &Error{Code: CodeAmbiguous}
		for _, c := range list {
			e.Likely = append(e.Likely, c.Ref())
		}
		e.Message = fmt.Sprintf("%q could mean %d copies: %s. Say which one.", ref, len(list),
			strings.Join(e.Likely, ", "))
		return nil, e
	}
	return &list[0], nil
}

// onePackage leaves the first machine of a package, where all of a list are of that one.
func onePackage(list []Copy) []Copy {
	if len(list) > 1 && !slices.ContainsFunc(list[1:], func(c Copy) bool { return !c.samePackage(list[0]) }) {
		return list[:1]
	}
	return list
}

// samePackage tells whether two copies are machines of one package.
func (c Copy) samePackage(other Copy) bool {
	id := func(p *uuid.UUID) uuid.UUID {
		if p == nil {
			return uuid.Nil
		}
		return *p
	}
	return c.Form == lineage.Package && other.Form == lineage.Package && c.Path == other.Path &&
		id(c.ShelfID) == id(other.ShelfID) && id(c.PoolID) == id(other.PoolID) && (c.ShelfID != nil || c.PoolID != nil)
}

// Packed are the machines of the package that a copy is in, by their numbers.
func (inv *Inventory) Packed(ctx context.Context, c *Copy) ([]Copy, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.form = 'package' and c.gone_at is null and c.path = $1
		and c.shelf_id is not distinct from $2 and c.pool_id is not distinct from $3
		and (c.shelf_id is not null or c.pool_id is not null) order by c.number`, c.Path, c.ShelfID, c.PoolID)
	return list, err
}

// mostAncestors is more than any lineage has one above the other.
const mostAncestors = 1000

// Ancestors are a copy, what it was made from, and so on, those that are gone too.
func (inv *Inventory) Ancestors(ctx context.Context, id string) ([]Copy, error) {
	if _, err := uuid.Parse(id); err != nil {
		return nil, nil
	}
	return rows[Copy](ctx, inv.Pool, `with recursive up(id, parent_id, n) as (select id, parent_id, 0 from copies
		where id = $1::uuid
		union all select c.id, c.parent_id, n + 1 from up join copies c on c.id = up.parent_id where n < $2) cycle id
		set twice using path
		`+copySQL+` join (select id, min(n) as n from up where not twice group by id) u on u.id = c.id
		order by u.n`, id, mostAncestors)
}

// PackageAt tells whether a package of that name lies on the shelf, or in the pool, of that id.
func (inv *Inventory) PackageAt(ctx context.Context, place uuid.UUID, file string) (there bool, err error) {
	err = inv.Pool.QueryRow(ctx, `select exists (select 1 from copies where shelf_id = $1
		and right(path, length($2) + 1) = '/' || $2 and form = 'package' and gone_at is null)
		or exists (select 1 from copies where pool_id = $1 and rel = $2 and form = 'package' and gone_at is null)`,
		place, file).Scan(&there)
	return there, err
}

// FolderAt tells whether a machine's folder of that name lies in a pool.
func (inv *Inventory) FolderAt(ctx context.Context, pool uuid.UUID, name string) (there bool, err error) {
	err = inv.Pool.QueryRow(ctx, `select exists (select 1 from copies where pool_id = $1 and rel = $2
		and form <> 'package' and gone_at is null)`, pool, name).Scan(&there)
	return there, err
}

// Ref names a copy so that it can't be mistaken.
func (c Copy) Ref() string {
	switch {
	case c.Form == lineage.Package && cmp.Or(c.Shelf, c.Pool) != "":
		return cmp.Or(c.Shelf, c.Pool) + "/" + cmp.Or(c.Rel, c.Path[strings.LastIndexByte(c.Path, '/')+1:])
	case c.Form == lineage.Registered && c.Host != "":
		return c.Host + "/" + c.Name
	}
	return c.ID.String()
}

// Known is the copy as package lineage wants it.
func (c Copy) Known() lineage.Known {
	k := lineage.Known{ID: c.ID.String(), Lineage: c.LineageID.String(), Name: c.Name, Host: c.Host, Path: c.Path,
		UUID: c.UUID, State: c.State, Form: c.Form, LastSeen: c.LastSeen, Present: c.GoneAt == nil,
		Untracked: c.Form == lineage.Registered && !c.Tracked}
	if c.PoolID != nil {
		k.Pool = c.PoolID.String()
	}
	return k
}

// HoldersOfUUID finds registered copies that have the machine UUID.
func (inv *Inventory) HoldersOfUUID(ctx context.Context, id string) ([]Copy, error) {
	if _, err := uuid.Parse(id); err != nil {
		return nil, nil
	}
	return rows[Copy](ctx, inv.Pool, copySQL+` where c.uuid = $1::uuid and c.form = 'registered' and c.gone_at is null
		order by c.made_at limit 20`, id)
}

// HoldersOfMAC finds registered copies that have the MAC.
func (inv *Inventory) HoldersOfMAC(ctx context.Context, mac string) ([]Copy, error) {
	return rows[Copy](ctx, inv.Pool, copySQL+` where c.id in (select copy_id from nics where mac = $1::macaddr)
		and c.form = 'registered' and c.gone_at is null order by c.made_at limit 20`, mac)
}

// NamesTaken lists the names, in lower case, that a host lists, that folders of a pool have, or that a job is about to
// make, of those that are one of stems, or one of them followed by a hyphen and more. One copy does not count, where
// that is said.
func (inv *Inventory) NamesTaken(ctx context.Context, host, pool, but uuid.UUID, stems []string) ([]string, error) {
	lower := make([]string, len(stems))
	for i, s := range stems {
		lower[i] = strings.ToLower(s)
	}
	query, err := inv.Pool.Query(ctx, `with stems as (select distinct s from unnest($3::text[]) s where s <> '')
		select lower(c.name) from stems join copies c on c.host_id = $1 and c.form <> 'package' and c.gone_at is null
		and lower(c.name) = s and c.id <> $5
		union select lower(c.name) from stems join copies c on c.host_id = $1 and c.form <> 'package'
		and c.gone_at is null
			and lower(c.name) ~>=~ (s || '-') and lower(c.name) ~<~ (s || '.') and c.id <> $5
		union select lower(c.rel) from stems join copies c on c.pool_id = $2 and c.form <> 'package'
		and c.gone_at is null
		and lower(c.rel) = s and c.id <> $5
		union select lower(c.rel) from stems join copies c on c.pool_id = $2 and c.form <> 'package'
		and c.gone_at is null
			and lower(c.rel) ~>=~ (s || '-') and lower(c.rel) ~<~ (s || '.') and c.id <> $5
		union select right(h.key, -length($4)) from stems join holds h on starts_with(h.key, $4 || s)`,
		host, pool, lower, FolderKey(pool.String(), ""), but)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(query, pgx.RowTo[string])
}

// LastCopy tells whether no other copy of the lineage is there, packages on
// somebody's computer not counted.
func (inv *Inventory) LastCopy(ctx context.Context, c *Copy) (last bool, err error) {
	err = inv.Pool.QueryRow(ctx, `select not exists (select 1 from copies where lineage_id = $1 and id <> $2
		and gone_at is null and form <> 'hollow' and host_id is not null)`, c.LineageID, c.ID).Scan(&last)
	return last, err
}

// AtPlace finds the copy whose folder is at a path of a host, or of a pool that
// it shares; nil when none is.
func (inv *Inventory) AtPlace(ctx context.Context, host uuid.UUID, pool *uuid.UUID, at string) (*Copy, error) {
	return one(rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null and c.form <> 'package' and (c.host_id = $1
		and c.path = $2 or c.pool_id = $3 and c.rel = $4)
		order by c.form = 'registered' desc limit 1`, host, at, pool, at[strings.LastIndexByte(at, '/')+1:]))
}

// WasAt finds the copy whose folder was last at a path of a host, or of a pool
// that it shares, when it is gone from there; nil when none was.
func (inv *Inventory) WasAt(ctx context.Context, host uuid.UUID, pool *uuid.UUID, at string) (*Copy, error) {
	return one(rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is not null and c.form <> 'package'
		and (c.host_id = $1
		and c.path = $2 or c.pool_id = $3 and c.rel = $4)
		order by c.gone_at desc limit 1`, host, at, pool, at[strings.LastIndexByte(at, '/')+1:]))
}

// HollowLike finds a hollow entry of the host with that machine UUID or name.
func (inv *Inventory) HollowLike(ctx context.Context, host uuid.UUID, machineUUID, name string) (*Copy, error) {
	return one(rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null and c.form = 'hollow' and c.host_id = $1
		and (c.uuid = $2::uuid or lower(c.name) = lower($3)) limit 1`, host, asUUID(machineUUID), name))
}

// FolderKey is the hold on a folder that a job will make.
func FolderKey(pool, name string) string { return "folder:" + pool + "/" + strings.ToLower(name) }

// CopyKey is the hold on a copy that a job works on.
func CopyKey(id string) string { return "copy:" + id }

// putCopy writes a copy with its MACs. was is its record so far; nil when there is none, or nobody has looked. over is
// the version of the record that it may write over, else it is ErrOvertaken; "" is any.
func putCopy(ctx context.Context, tx Querier, c, was *Copy, rel, over string) error {
	var id *string
	if c.UUID != "" {
		if _, err := uuid.Parse(c.UUID); err == nil {
			id = &c.UUID
		}
	}
	if c.Renewed == nil {
		c.Renewed = []string{}
	}
	if c.Evidence == nil {
		c.Evidence = []lineage.Evidence{}
	}
	if c.Addresses == nil {
		c.Addresses = []string{}
	}
	if c.Machine == nil {
		c.Machine = &machine.Machine{Name: c.Name}
	}
	same := was != nil && was.GoneAt == nil && was.Path == c.Path && was.PoolID != nil && c.PoolID != nil &&
		*was.PoolID == *c.PoolID
	if c.Form != lineage.Package && c.PoolID != nil && !same {
		if err := evict(ctx, tx, c, rel); err != nil {
			return err
		}
	}
	tag, err := tx.Exec(ctx, `insert into copies (id, lineage_id, name, form, host_id, pool_id, shelf_id, path, rel,
		uuid, state, parent_id, made_by, made_user, made_at, identity, renewed, last_seen, size_bytes, machine, tracked,
		addresses, owner, evidence, score, candidate_id, problem, state_why, number)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, (select id from copies where id = $12), $13, $14, $15,
		$16, $17,
		now(), $18, $19, $20 and not exists (select 1 from hosts where id = $5 and manager_id is not null), $21, $22,
		$23,
		$24, (select id from copies where id = $25), $26, $27, $29)
		on conflict (id) do update set name = excluded.name, form = excluded.form, host_id = excluded.host_id,
		pool_id = excluded.pool_id, shelf_id = excluded.shelf_id,
		parent_id = excluded.parent_id, made_by = excluded.made_by, made_user = excluded.made_user,
		made_at = excluded.made_at, identity = excluded.identity, renewed = excluded.renewed,
		path = excluded.path, rel = excluded.rel, uuid = excluded.uuid, state = excluded.state,
		state_why = excluded.state_why, last_seen = now(),
		gone_at = null, size_bytes = excluded.size_bytes, machine = excluded.machine,
		addresses = case when excluded.addresses = '{}'
		and excluded.state <> 'running' then copies.addresses else excluded.addresses end, problem = excluded.problem,
		number = excluded.number,
		tracked = copies.tracked or (copies.form <> 'registered' and excluded.form = 'registered'), owner = case
		when excluded.owner = '' then copies.owner else excluded.owner end
		where $28 = '' or copies.xmin::text = $28`,
		c.ID, c.LineageID, c.Name, c.Form, c.HostID, c.PoolID, c.ShelfID, c.Path, rel, id, c.State, c.Parent, c.MadeBy,
		c.MadeUser, c.MadeAt, c.Identity, c.Renewed, c.SizeBytes, c.Machine, c.Form == lineage.Registered ||
			c.Form == lineage.Hollow,
		c.Addresses, c.Owner, c.Evidence, c.Score, c.Candidate, c.Problem, c.StateWhy, over,
		c.Number)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrOvertaken
	}
	if err != nil {
		return fmt.Errorf("copy %s: %w", c.Name, err)
	}
	if was != nil && slices.Equal(was.MACs, c.Machine.MACs()) {
		return emitCopy(ctx, tx, c)
	}
	if _, err := tx.Exec(ctx, `delete from nics where copy_id = $1`, c.ID); err != nil {
		return err
	}
	for i, n := range c.Machine.NICs {
		if n.MAC == "" {
			continue
		}
		if _, err := tx.Exec(ctx, `insert into nics (copy_id, position, mac) values ($1, $2,
			$3::macaddr)`, c.ID, i, n.MAC); err != nil {
			return err
		}
	}
	return emitCopy(ctx, tx, c)
}

func emitCopy(ctx context.Context, tx Querier, c *Copy) error {
	return In(tx).Emit(ctx, "copy", c.ID.String(), map[string]any{"name": c.Name, "lineage": c.LineageID,
		"form":  c.Form,
		"state": c.State, "host": c.Host})
}

// evict makes room for a copy where another is recorded: that one is no longer
// there. One that a survey has only just come upon, while a job was making this
// one of it, was never anything else and is forgotten.
func evict(ctx context.Context, tx Querier, c *Copy, rel string) error {
	const there = ` from copies x where x.pool_id = $1 and x.rel = $2 and x.id <> $3 and x.gone_at is null
		and x.form <> 'package'`
	if _, err := tx.Exec(ctx, `with seen as (delete from copies where id in (select x.id`+there+`
		and x.made_by = 'survey'
		and x.made_at > now() - interval '1 minute'
			and not exists (select 1 from copies k where k.parent_id = x.id)) returning id, lineage_id)
		delete from lineages l using seen where l.id = seen.lineage_id and l.id <> $4 and not exists (select 1
		from copies k
		where k.lineage_id = l.id and k.id <> seen.id)`, c.PoolID, rel, c.ID, c.LineageID); err != nil {
		return fmt.Errorf("make room for %s: %w", c.Name, err)
	}
	_, err := tx.Exec(ctx, `update copies set gone_at = now(), state = 'unknown'
		where id in (select x.id`+there+`)`, c.PoolID, rel, c.ID)
	return err
}

// BehindSurvey lets the surveys of hosts that are being applied end first, and keeps others out until the transaction
// ends; those for which a host was asked before that are not applied at all. What a job knows of a copy counts, and not
// what a survey has seen of it on the way. It is about the host that a copy is recorded at, and about where it goes. It
// comes before all that is written of the copy, as it does in a survey: else the two would wait for each other.
func (l Ledger) BehindSurvey(ctx context.Context, id uuid.UUID, to ...*uuid.UUID) error {
	_, err := l.q.Exec(ctx, `with behind as (select id from hosts
		where id = any($2::uuid[] || array(select host_id from copies where id = $1)) order by id for no key update)
		update hosts set turn = turn + 1 from behind where hosts.id = behind.id`, id, to)
	return err
}

// RecordCopy writes a copy that a job has made or changed, in its transaction.
func (l Ledger) RecordCopy(ctx context.Context, c *Copy, rel, what, who, why, job string) error {
	if err := putCopy(ctx, l.q, c, nil, rel, ""); err != nil {
		return err
	}
	subject, err := l.called(ctx, c.ID)
	if err != nil {
		return err
	}
	return l.Audit(ctx, Entry{Who: who, What: what, Subject: subject, CopyID: &c.ID, LineageID: &c.LineageID, Why: why,
		Detail: map[string]any{"job": job, "identity": c.Identity, "renewed": c.Renewed, "path": c.Path}})
}

// called is what people call a copy by: HOST/NAME where a host lists it, else its name.
func (l Ledger) called(ctx context.Context, id uuid.UUID) (subject string, err error) {
	err = l.q.QueryRow(ctx, `select coalesce(h.name || '/', '') || c.name from copies c
		left join hosts h on h.id = c.host_id and c.form = 'registered' where c.id = $1`, id).Scan(&subject)
	return subject, err
}

// ForgetCopy notes that a copy is gone, or has another form from now on.
func (l Ledger) ForgetCopy(ctx context.Context, id string, form lineage.Form, what, who, why, job string) error {
	var name string
	var lineageID uuid.UUID
	copyID, err := uuid.Parse(id)
	if err != nil {
		return err
	}
	if err := l.BehindSurvey(ctx, copyID); err != nil {
		return err
	}
	subject, err := l.called(ctx, copyID) // as it was
	if err != nil {
		return err
	}
	if err := l.q.QueryRow(ctx, `update copies set gone_at = case when $2 = '' then now() end, form = case
		when $2 = '' then form else $2 end, state = case when $2 = '' then 'unknown' else 'stopped' end,
		tracked = tracked and $2 <> 'stray' where id = $1 returning name,
		lineage_id`, copyID, form).Scan(&name, &lineageID); err != nil {
		return err
	}
	if err := l.Emit(ctx, "copy", id, map[string]any{"name": name, "form": form, "gone": form == ""}); err != nil {
		return err
	}
	return l.Audit(ctx, Entry{Who: who, What: what, Subject: subject, CopyID: &copyID, LineageID: &lineageID, Why: why,
		Detail: map[string]any{"job": job}})
}

// SetState notes whether a copy runs, in the transaction of the step that has
// started or stopped it.
func (l Ledger) SetState(ctx context.Context, id string, state machine.State) error {
	if _, err := uuid.Parse(id); err != nil {
		return nil // it was not in the inventory
	}
	list, err := rows[Copy](ctx, l.q, briefSQL+` where c.id = $1`, id)
	if err != nil || len(list) == 0 || list[0].State == state || list[0].GoneAt != nil {
		return err
	}
	if err := l.BehindSurvey(ctx, list[0].ID); err != nil {
		return err
	}
	if _, err := l.q.Exec(ctx, `update copies set state = $2, state_why = '' where id = $1`, id, state); err != nil {
		return err
	}
	list[0].State = state
	return emitCopy(ctx, l.q, &list[0])
}

// EnsureLineage makes the lineage unless it is there.
func (l Ledger) EnsureLineage(ctx context.Context, id uuid.UUID, name string) error {
	_, err := l.q.Exec(ctx, `insert into lineages (id, name) values ($1, $2) on conflict do nothing`, id, name)
	return err
}
