package inventory

import (
	"context"
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"unvora.example/unvora/core/machine"
)

// Kind of what a search finds.
type Kind string

// All kinds, in the order in which they are told.
const (
	KindHost    Kind = "host"
	KindManager Kind = "manager"
	KindPool    Kind = "pool"
	KindShelf   Kind = "shelf"
	KindSwitch  Kind = "switch"
	KindLineage Kind = "lineage"
	KindCopy    Kind = "copy"
	KindJob     Kind = "job"
)

var kinds = []Kind{KindHost, KindManager, KindPool, KindShelf, KindSwitch, KindLineage, KindCopy, KindJob}

// Found is one thing that a search has found.
type Found struct {
	Kind    Kind       `json:"kind"`
	ID      string     `json:"id"`      // of what has one
	Name    string     `json:"name"`    // as people call it: HOST/NAME of a copy
	About   string     `json:"about"`   // what tells it from others of the name
	Host    string     `json:"host"`    // that it is at, or is
	Lineage *uuid.UUID `json:"lineage"` // of a copy
}

// Bounds of a search.
const (
	mostSought   = 200 // bytes of the text
	mostOfAKind  = 8
	leastLetters = 2
)

// search finds one kind of thing.
type search struct {
	sql  string
	args []any
	then *search // made where this one has found fewer than are told
}

// copyFound is the beginning of each search for copies.
const copyFound = `select 'copy' as kind, c.id::text, case when c.form = 'registered' then coalesce(h.name || '/', '')
	else coalesce(s.name || '/', h.name || ': ', '') end || case when c.form = 'registered' then c.name
	else regexp_replace(c.path, '^.*/(?=.)', '') end as name, c.form || case when c.form = 'registered'
	then ', ' || c.state else '' end as about, coalesce(h.name, '') as host, c.lineage_id as lineage
	from copies c left join hosts h on h.id = c.host_id left join shelves s on s.id = c.shelf_id `

// beginningOfID is text that ids begin with.
var beginningOfID = regexp.MustCompile(`^[0-9a-f]{8}[0-9a-f-]*$`)

// searches are those that a text is worth.
func searches(text string) (list []search) {
	low := strings.ToLower(text)
	if id, err := uuid.Parse(text); err == nil {
		list = append(list,
			search{sql: copyFound + `where c.id = $1 or c.uuid = $1 or c.lineage_id = $1
				order by c.gone_at nulls first, c.name limit $2`, args: []any{id}},
			search{sql: `select 'host' as kind, id::text, name, site as about, name as host, null::uuid as lineage
				from hosts where id = $1 limit $2`, args: []any{id}})
	}
	if beginningOfID.MatchString(low) && len(low) <= 36 {
		const none, all = "00000000-0000-0000-0000-000000000000", "ffffffff-ffff-ffff-ffff-ffffffffffff"
		from, err := uuid.Parse(low + none[len(low):])
		to, e := uuid.Parse(low + all[len(low):])
		if err == nil && e == nil {
			list = append(list, search{sql: `select 'job' as kind, id::text, operation || ' ' || subject as name,
				state as about, '' as host, null::uuid as lineage from jobs where id between $1 and $2
				order by id desc limit $3`,
				args: []any{from, to}})
		}
	}
	if mac, err := machine.ParseMAC(text); err == nil {
		list = append(list, search{sql: copyFound + `where c.gone_at is null and c.id in (select copy_id from nics
			where mac = $1::macaddr) order by c.name limit $2`, args: []any{mac}})
	}
	if address, err := netip.ParseAddr(text); err == nil {
		list = append(list, search{sql: copyFound + `where c.gone_at is null and (c.addresses @> array[$1]
			or (c.machine -> 'static') ? $1) order by c.name limit $2`, args: []any{address.String()}})
	}
	known := len(list) > 0 // by what it is
	list = append(list, namedCopies.search(text, known), namedLineages.search(text, known),
		namedHosts.search(text, known))
	like := "%" + likePattern.Replace(strings.ToLower(text)) + "%"
	return append(list,
		search{sql: `select 'manager' as kind, id::text, name, address as about, '' as host, null::uuid as lineage
			from managers where sort like $1 order by sort limit $2`, args: []any{like}},
		search{sql: `select 'pool' as kind, p.id::text, h.name || '/' || p.name as name,
			array_to_string(p.labels, ', ') as about, h.name as host, null::uuid as lineage from (select * from pools
			where sort like $1 order by sort limit $2) p join pool_hosts x on x.pool_id = p.id
			join hosts h on h.id = x.host_id order by 3 limit $2`, args: []any{like}},
		search{sql: `select 'shelf' as kind, s.id::text, s.name, s.path as about, coalesce(h.name, '') as host,
			null::uuid as lineage from shelves s left join hosts h on h.id = s.host_id where lower(s.name) like $1
			order by s.name limit $2`, args: []any{like}},
		search{sql: `select 'switch' as kind, '' as id, h.name || '/' || w.name as name, w.segment as about,
			h.name as host, null::uuid as lineage from switches w join hosts h on h.id = w.host_id
			where lower(w.name) like $1 limit $2`, args: []any{like}})
}

// infix is how many letters a text has that is looked for within names; a shorter one has to begin them.
const infix = 3

// named is a table whose rows have names.
type named struct {
	found string // SQL: the columns of Found, and the tables
	table string
	alias string // of it there
	cond  string
}

var (
	namedCopies   = named{copyFound, "copies", "c", "c.gone_at is null"}
	namedLineages = named{`select 'lineage' as kind, l.id::text, l.name, '' as about, '' as host, l.id as lineage
		from lineages l `, "lineages", "l", "true"}
	namedHosts = named{`select 'host' as kind, h.id::text, h.name, trim(h.site || ', ' || h.family, ', ') as about,
		h.name as host, null::uuid as lineage from hosts h `, "hosts", "h", "h.manager_id is null"}
)

// search finds rows by name: those that begin with a text first, then, unless it is known by what it is, those that
// have it within. A text that many have is found in a sample of the table, one that few have by its trigrams.
func (n named) search(text string, known bool) search {
	fill := strings.NewReplacer("FOUND", n.found, "TABLE", n.table, "ALIAS", n.alias, "COND", n.cond)
	name := likePattern.Replace(strings.ToLower(text))
	if strings.Contains(text, "/") && n.table == "copies" { // of those of the last name, those whose place is so
		name = likePattern.Replace(strings.ToLower(path.Base(text)))
		return search{sql: fill.Replace(`FOUND where COND and c.sort like $1 and (c.path ilike $2
			or h.name || '/' || c.name ilike $2) order by c.sort, c.id limit $3`),
			args: []any{name + "%", "%" + likePattern.Replace(text) + "%"}}
	}
	begin := search{sql: fill.Replace(`FOUND where COND and ALIAS.sort like $1 order by ALIAS.sort, ALIAS.id limit $2`),
		args: []any{name + "%"}}
	if known || utf8.RuneCountInString(name) < infix {
		return begin
	}
	const listed = ` FOUND where ALIAS.id in (select id from within limit $2) order by ALIAS.sort, ALIAS.id`
	like := []any{"%" + name + "%"}
	begin.then = &search{sql: fill.Replace(fmt.Sprintf(`with within as materialized (select ALIAS.id from TABLE ALIAS
		tablesample system (least(100, 100.0 * %d / greatest(1, (select reltuples from pg_class
		where oid = 'TABLE'::regclass)))) repeatable (1) where COND and ALIAS.sort like $1)`, sampled) + listed),
		args: like, then: &search{sql: fill.Replace(`with within as materialized (select ALIAS.id from TABLE ALIAS
		where COND and ALIAS.sort like $1)` + listed), args: like}}
	return begin
}

// sampled is how many rows of a table are looked at first for names that have a text within.
const sampled = 5000

// Search finds what bears a name, or part of one, a UUID, MAC, address, id or path.
func (inv *Inventory) Search(ctx context.Context, text string) ([]Found, error) {
	text = strings.TrimSpace(text)
	if len(text) < leastLetters || len(text) > mostSought {
		return nil, Wrong("What is to be found: %d letters at least, %d at most.", leastLetters, mostSought)
	}
	wanted := searches(text)
	answers := make([][]Found, len(wanted))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for i, s := range wanted {
		g.Go(func() (err error) {
			for of := &s; of != nil && err == nil && len(answers[i]) < mostOfAKind; of = of.then {
				var more []Found
				more, err = rows[Found](ctx, inv.Pool, of.sql, append(slices.Clone(of.args), mostOfAKind)...)
				answers[i] = append(answers[i], more...)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	found, told, ofKind := []Found{}, map[string]bool{}, map[Kind]int{}
	for _, list := range answers {
		for _, f := range list {
			if key := string(f.Kind) + f.ID + f.Name; !told[key] && ofKind[f.Kind] < mostOfAKind {
				told[key] = true
				ofKind[f.Kind]++
				found = append(found, f)
			}
		}
	}
	slices.SortStableFunc(found, func(a, b Found) int {
		return slices.Index(kinds, a.Kind) - slices.Index(kinds, b.Kind)
	})
	return found, nil
}
