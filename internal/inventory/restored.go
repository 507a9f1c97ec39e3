package inventory

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// skippedMACs is how many addresses of each site's range are passed over when the database was brought back from a
// copy: what was given out since, nobody remembers.
const skippedMACs = 4096

// Restored readies a database that was brought back from a copy, before a service runs on it. Jobs that were at work
// when the copy was made are held: what they have done since, the copy does not know. Hosts are read anew. It returns
// how many jobs are held; while a service runs on the database, it is an error.
func (inv *Inventory) Restored(ctx context.Context) (held int64, err error) {
	running, err := inv.Services(ctx)
	if err != nil {
		return 0, err
	}
	if running > 0 {
		return 0, Refuse(CodeTaken, "A service runs on this database. Stop all of them first.")
	}
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `update jobs set state = 'held', owner = null, hold = false, needs_client = false,
			waits_for = '', held_code = 'database.restored', retry_at = null,
			held_for = 'the database was brought back from a copy that was made while the job was at work; look what '
			|| 'it has done, then resume it or cancel it'
			where state in ('waiting', 'working') and parts = 0`)
		if err != nil {
			return err
		}
		held = tag.RowsAffected()
		for _, change := range []string{
			`update hosts set revision = ''`,
			`update steps set claimed = false where claimed and state in ('waiting', 'working')`,
		} {
			if _, err := tx.Exec(ctx, change); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `update sites set next_mac = least(next_mac + $1, 16777216)`,
			skippedMACs); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: onComputer, What: "restored", Subject: "the database",
			Detail: map[string]any{"held": held}})
	})
	return held, err
}
