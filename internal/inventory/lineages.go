package inventory

import (
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"
)

// Lineage is a record of a lineage, with its copies.
type Lineage struct {
	ID     uuid.UUID `json:"id"`
	Name   string    `json:"name"`
	Copies []Copy    `json:"copies" db:"-"`
	Total  int       `json:"total"`
}

var lineageList = listing[Lineage]{
	columns: `l.id, l.name, (select count(*) from copies c where c.lineage_id = l.id
		and c.gone_at is null)::int as total`,
	from: "lineages l", alias: "l", fields: lineageFields,
	key: func(l *Lineage) (string, uuid.UUID) { return l.Name, l.ID },
}

var lineageFields = map[string]field{
	"name": {equal: "(l.sort = lower(%[1]s) and l.name = %[1]s)", like: "l.sort like lower(%s)"},
	"host": {equal: "l.id in (select c.lineage_id from copies c where c.gone_at is null and c.host_id = any(%s))",
		noun: "host", among: "hosts"},
}

const copiesShown = 24 // of each lineage in a list

// Lineages lists lineages by name, each with its first copies.
func (inv *Inventory) Lineages(ctx context.Context, p Page) (*List[Lineage], error) {
	l, err := lineageList.page(ctx, inv.Pool, p)
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(l.Items))
	at := map[uuid.UUID]int{}
	for i := range l.Items {
		ids[i], at[l.Items[i].ID] = l.Items[i].ID, i
		l.Items[i].Copies = []Copy{}
	}
	copies, err := rows[Copy](ctx, inv.Pool, briefSQL+` where c.id in (select x.id from unnest($1::uuid[]) as w(id),
		lateral
		(select id from copies where lineage_id = w.id and gone_at is null order by made_at, id limit $2) x)
		order by c.made_at, c.id`, ids, copiesShown)
	for _, c := range copies {
		l.Items[at[c.LineageID]].Copies = append(l.Items[at[c.LineageID]].Copies, c)
	}
	return l, err
}

// LineageOf finds the lineage that ref means: its id or name, or a copy of it,
// and reads all its copies, also those that are gone, oldest first.
func (inv *Inventory) LineageOf(ctx context.Context, ref string) (*Lineage, error) {
	cond := "l.sort = lower($1) and l.name = $1"
	if _, err := uuid.Parse(ref); err == nil {
		cond = "l.id = $1::uuid or l.id = (select lineage_id from copies where id = $1::uuid)"
	}
	list, err := rows[Lineage](ctx, inv.Pool, lineageList.sql()+" where "+cond+" limit 20", ref)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		c, err := inv.Copy(ctx, ref)
		if e, ok := err.(*Error); ok && e.Code == CodeAmbiguous {
			c, err = inv.sameLineage(ctx, ref)
			if err == nil && c == nil {
				return nil, e
			}
		}
		if err != nil {
			return nil, err
		}
		if list, err = rows[Lineage](ctx, inv.Pool, lineageList.sql()+" where l.id = $1", c.LineageID); err != nil {
			return nil, err
		}
	}
	if len(list) > 1 {
		e := &Error{Code: CodeAmbiguous}
		for _, l := range list {
			e.Likely = append(e.Likely, l.ID.String())
		}
		e.Message = fmt.Sprintf("%q could mean %d lineages: %s. Give the id, or one of its copies as HOST/NAME.", ref,
			len(list), strings.Join(e.Likely, ", "))
		return nil, e
	}
	l := &list[0]
	l.Copies, err = rows[Copy](ctx, inv.Pool, briefSQL+` where c.lineage_id = $1 order by c.made_at,
		c.id limit 10000`, l.ID)
	return l, err
}

// sameLineage returns a copy of the name when all that bear it are of one lineage.
func (inv *Inventory) sameLineage(ctx context.Context, name string) (*Copy, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.sort = lower($1) and c.name = $1
		and c.gone_at is null limit 100`, name)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	for _, c := range list {
		if c.LineageID != list[0].LineageID {
			return nil, nil
		}
	}
	return &list[0], nil
}
