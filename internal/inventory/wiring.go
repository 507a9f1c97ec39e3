package inventory

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/wiring"
)

// Rules of wiring, in the order in which they are tried.
func (inv *Inventory) Rules(ctx context.Context) ([]wiring.Rule, error) {
	return rows[wiring.Rule](ctx, inv.Pool, `select id::text, network, vlan, segment, host, switch from wiring_rules
		order by position`)
}

// AddRule puts a rule before all others, or after them.
func (inv *Inventory) AddRule(ctx context.Context, r wiring.Rule, first bool, who string) (made wiring.Rule,
	err error) {
	if err := knownAll(ctx, inv.Pool, [2]string{"segment", r.Segment}, [2]string{"host", r.Host}); err != nil {
		return r, err
	}
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		made, err = In(tx).PutRule(ctx, r, first, who)
		return err
	})
	return made, err
}

// PutRule is AddRule in a transaction of the caller's.
func (l Ledger) PutRule(ctx context.Context, r wiring.Rule, first bool, who string) (wiring.Rule, error) {
	if err := r.Check(); err != nil {
		return r, Wrong("%v.", err)
	}
	r.ID = NewID().String()
	at := `coalesce(max(position) + 1, 0)`
	if first {
		at = `coalesce(min(position) - 1, 0)`
	}
	if _, err := l.q.Exec(ctx, `insert into wiring_rules (id, position, network, vlan, segment, host, switch) select $1,
		`+at+`, $2, $3, $4, $5, $6 from wiring_rules`,
		r.ID, r.Network, r.VLAN, r.Segment, r.Host, r.Switch); err != nil {
		return r, err
	}
	return r, l.Audit(ctx, Entry{Who: who, What: "wiring set", Subject: r.String()})
}

// DropRule takes a rule away, by its id or the beginning of it.
func (inv *Inventory) DropRule(ctx context.Context, ref, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[wiring.Rule](ctx, tx, `delete from wiring_rules where (id::text = $1
			or id::text like '%' || $1
			and length($1) >= 4) returning id::text, network, vlan, segment, host, switch`, ref)
		if err != nil {
			return err
		}
		if len(list) != 1 {
			return Refuse(CodeUnknown, "%q names %d rules of wiring, not one. unvora wiring list shows them.", ref,
				len(list))
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "wiring drop", Subject: list[0].String()})
	})
}

// Segment is what is known of a segment.
type Segment struct {
	Name   string  `json:"name"`
	Subnet *string `json:"subnet"`
	From   *string `json:"from"` // first and last address that it has to give out
	To     *string `json:"to"`
	Given  int     `json:"given"` // of them
	Hosts  int     `json:"hosts"` // that have a switch into it
}

// Segments lists those that a switch reaches or somebody has described.
func (inv *Inventory) Segments(ctx context.Context) ([]Segment, error) {
	return rows[Segment](ctx, inv.Pool, `with recursive reached(name) as (
		(select segment from switches where segment > '' order by segment limit 1)
		union all select (select segment from switches where segment > r.name order by segment limit 1) from reached r
		where r.name is not null)
		select x.name, g.subnet::text as subnet, host(g.range_from) as "from", host(g.range_to) as "to",
		(select count(*) from given_addresses a where a.segment = x.name)::int as given,
		(select count(*) from (select distinct host_id from switches s where s.segment = x.name
		limit $1) h)::int as hosts
		from (select name from reached where name is not null union select name from segments where name <> '') x
		left join segments g on g.name = x.name order by x.name`, CountCap+1)
}

// SetSegment gives a segment its subnet and the addresses that it has to give
// out, FROM-TO; "" takes them away.
func (inv *Inventory) SetSegment(ctx context.Context, name, subnet, addresses, who string) error {
	var value, from, to *string
	if subnet != "" {
		p, err := netip.ParsePrefix(subnet)
		if err != nil || p != p.Masked() {
			return Wrong("%q is no subnet such as 192.0.2.0/24.", subnet)
		}
		value = &subnet
		if addresses != "" {
			a, b, _ := strings.Cut(addresses, "-")
			first, err := netip.ParseAddr(strings.TrimSpace(a))
			last, e := netip.ParseAddr(strings.TrimSpace(b))
			if err != nil || e != nil || last.Less(first) || !p.Contains(first) || !p.Contains(last) {
				return Wrong("%q is no range of addresses in %s, such as 192.0.2.100-192.0.2.199.", addresses,
					subnet)
			}
			x, y := first.String(), last.String()
			from, to = &x, &y
		}
	} else if addresses != "" {
		return Wrong("A range of addresses lies in a subnet: give that too.")
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into segments (name, subnet, range_from, range_to) values ($1, $2::cidr,
			$3::inet,
			$4::inet) on conflict (name) do update set subnet = excluded.subnet, range_from = excluded.range_from,
			range_to = excluded.range_to`, name, value, from, to); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "segment set", Subject: name,
			Detail: map[string]any{"subnet": subnet, "range": addresses}})
	})
}

// Subnets of the segments that have one.
func (inv *Inventory) Subnets(ctx context.Context) (map[string]netip.Prefix, error) {
	type line struct {
		Name   string
		Subnet netip.Prefix
	}
	list, err := rows[line](ctx, inv.Pool, `select name, subnet from segments where subnet is not null`)
	all := map[string]netip.Prefix{}
	for _, l := range list {
		all[l.Name] = l.Subnet
	}
	return all, err
}

// AddressHolders finds who else has the addresses.
func (inv *Inventory) AddressHolders(ctx context.Context, addresses []string, but string) (map[string]string, error) {
	all := map[string]string{}
	for _, a := range addresses {
		list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null and c.form = 'registered'
			and (c.machine -> 'static' ? $1 or c.addresses @> array[$1]) and c.id <> $2::uuid order by c.made_at,
			c.id limit 1`, a, asUUID(but))
		if err != nil {
			return nil, err
		}
		if len(list) > 0 {
			all[a] = list[0].Ref()
		}
	}
	return all, nil
}

// Mark says that something is bound to a facet of a lineage's identity.
type Mark struct {
	Facet string    `json:"facet"`
	Kind  string    `json:"kind"`
	Who   string    `json:"who"`
	At    time.Time `json:"at"`
}

// Marks of a lineage.
func (inv *Inventory) Marks(ctx context.Context, lineage uuid.UUID) ([]Mark, error) {
	return rows[Mark](ctx, inv.Pool, `select facet, kind, who, at from marks where lineage_id = $1
		order by facet`, lineage)
}

// SetMark binds a kind of thing to a facet; "" unbinds it.
func (inv *Inventory) SetMark(ctx context.Context, l *Lineage, facet, kind, who string) error {
	if identity.Facet(facet).Words() == "" {
		return Wrong("There is no facet %q; there are %v.", facet, identity.Facets)
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		var err error
		switch kind {
		case "":
			_, err = tx.Exec(ctx, `delete from marks where lineage_id = $1 and facet = $2`, l.ID, facet)
		case "licence", "reservation":
			_, err = tx.Exec(ctx, `insert into marks (lineage_id, facet, kind, who) values ($1, $2, $3, $4)
				on conflict (lineage_id, facet) do update set kind = excluded.kind, who = excluded.who,
				at = now()`, l.ID, facet, kind, who)
		default:
			err = Wrong("%q is neither licence nor reservation.", kind)
		}
		if err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "mark", Subject: l.Name, LineageID: &l.ID,
			Detail: map[string]any{"facet": facet, "kind": kind}})
	})
}

// LooseDisk is a disk or a medium in the inventory that no machine names.
type LooseDisk struct {
	Name         string     `json:"name"` // of its file
	ID           uuid.UUID  `json:"id"`
	Host         string     `json:"host"`
	Pool         string     `json:"pool"`
	Path         string     `json:"path"`
	Kind         string     `json:"kind"` // disk or media
	Format       string     `json:"format"`
	DiskID       string     `json:"diskId"`
	VirtualBytes int64      `json:"virtualBytes"`
	FileBytes    int64      `json:"fileBytes"`
	System       string     `json:"system"`
	AdoptedBy    string     `json:"adoptedBy"`
	AdoptedAt    time.Time  `json:"adoptedAt"`
	HostID       uuid.UUID  `json:"-"`
	PoolID       *uuid.UUID `json:"-"`
}

var looseList = listing[LooseDisk]{
	columns: `d.name, d.id, h.name as host, coalesce(p.name, '') as pool, d.path, d.kind, d.format, d.disk_id,
		d.virtual_bytes, d.file_bytes, d.system, d.adopted_by, d.adopted_at, d.host_id, d.pool_id`,
	from:  "loose_disks d join hosts h on h.id = d.host_id left join pools p on p.id = d.pool_id",
	alias: "d",
	fields: map[string]field{
		"name": {equal: "(d.sort = lower(%[1]s) and d.name = %[1]s)", like: "d.sort like lower(%s)"},
		"kind": {equal: "d.kind = %s",
			check: oneOf("disk", "media")},
		"format": {equal: "d.format = %s"},
		"host":   {equal: "d.host_id = (select id from hosts where lower(name) = lower(%s))", noun: "host"},
	},
	key: func(d *LooseDisk) (string, uuid.UUID) { return d.Name, d.ID },
}

var looseSQL = looseList.sql()

// LooseDisks lists them by path.
func (inv *Inventory) LooseDisks(ctx context.Context, p Page) (*List[LooseDisk], error) {
	return looseList.page(ctx, inv.Pool, p)
}

// Adopt takes a disk into the inventory.
func (inv *Inventory) Adopt(ctx context.Context, d *LooseDisk) error {
	d.ID = NewID()
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `insert into loose_disks (id, host_id, pool_id, path, kind, format, disk_id,
			virtual_bytes,
			file_bytes, system, adopted_by, name) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
			on conflict do nothing`,
			d.ID, d.HostID, d.PoolID, d.Path, d.Kind, d.Format, d.DiskID, d.VirtualBytes, d.FileBytes, d.System,
			d.AdoptedBy, d.Name)
		if err == nil && tag.RowsAffected() == 0 {
			err = Refuse(CodeTaken, "%s is in the inventory already.", d.Path)
		}
		if err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: d.AdoptedBy, What: "disk adopt", Subject: d.Path})
	})
}

// LetGo takes a disk out of the inventory. Its file is not touched.
func (inv *Inventory) LetGo(ctx context.Context, ref, who string) (*LooseDisk, error) {
	list, err := rows[LooseDisk](ctx, inv.Pool, looseSQL+` where d.path = $1 or d.id::text = $1
		or h.name || ':' || d.path = $1 or p.name || '/' || regexp_replace(d.path, '^.*/' || p.name || '/',
		'') = $1 limit 2`, ref)
	if err != nil {
		return nil, err
	}
	switch len(list) {
	case 0:
		return nil, Refuse(CodeUnknown, "There is no loose disk %q in the inventory. unvora disks lists them.", ref)
	case 2:
		return nil, Refuse(CodeAmbiguous, "%q is a disk of several hosts: give its id. unvora disks -o json shows it.",
			ref)
	}
	return &list[0], inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from loose_disks where id = $1`, list[0].ID); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "disk let-go", Subject: list[0].Path})
	})
}
