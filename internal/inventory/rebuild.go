package inventory

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// Had is what a host had when it was last seen as it should be; nil when
// nothing was kept.
func (inv *Inventory) Had(ctx context.Context, host uuid.UUID) (*plan.Had, error) {
	var had *plan.Had
	err := inv.Pool.QueryRow(ctx, `select had from hosts where id = $1`, host).Scan(&had)
	return had, err
}

// KeepHad notes what a host has now: its switches and the machines that it lists.
func (inv *Inventory) KeepHad(ctx context.Context, h *Host, address, who string) error {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.host_id = $1 and c.form in ('registered', 'hollow')
		and c.gone_at is null order by c.name, c.id`, h.ID)
	if err != nil {
		return err
	}
	had := plan.Had{Machines: []plan.HadMachine{}}
	for _, c := range list {
		had.Machines = append(had.Machines, plan.HadMachine{Copy: c.ID.String(), Name: c.Name, Folder: c.Path,
			Running: c.State == machine.Running})
	}
	switches, err := inv.Switches(ctx, h.ID)
	if err != nil {
		return err
	}
	for _, s := range switches {
		had.Switches = append(had.Switches, s.Wiring())
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		// A rebuilding that did not get to its end is gone on with.
		if _, err := tx.Exec(ctx, `update hosts set had = case when had is null
			or $2::jsonb -> 'machines' <> '[]' then $2 else had end, address = $3, revision = ''
			where id = $1`, h.ID, had, address); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "host rebuild", Subject: h.Name,
			Detail: map[string]any{"machines": len(had.Machines), "switches": len(had.Switches)}})
	})
}

// ForgetHad is called once a host has again what it had.
func (l Ledger) ForgetHad(ctx context.Context, host string) error {
	_, err := l.q.Exec(ctx, `update hosts set had = null where id = $1::uuid`, host)
	return err
}

// Elsewhere finds another copy of the lineage that something lost could be
// brought back from, a package before others.
func (inv *Inventory) Elsewhere(ctx context.Context, c *Copy) (*Copy, error) {
	return one(rows[Copy](ctx, inv.Pool, copySQL+` where c.lineage_id = $1 and c.id <> $2 and c.gone_at is null
		and c.form <> 'hollow' and c.host_id is not null order by c.form = 'package' desc,
		c.made_at desc limit 1`, c.LineageID, c.ID))
}
