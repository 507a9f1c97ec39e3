package inventory

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/identity"
)

// Giver gives out ids for a job, each once for all times, in its transaction.
type Giver struct {
	Ctx    context.Context
	Tx     pgx.Tx
	Job    uuid.UUID
	Prefix string
}

// UUID that nobody has.
func (g *Giver) UUID() (string, error) {
	id := uuid.New()
	_, err := g.Tx.Exec(g.Ctx, `insert into given_uuids (uuid, job_id) values ($1, $2)`, id, g.Job)
	return id.String(), err
}

// MAC from the site's range that was neither given out nor seen anywhere.
func (g *Giver) MAC() (string, error) {
	for {
		var n int64
		if err := g.Tx.QueryRow(g.Ctx, `update sites set next_mac = next_mac + 1 where mac_prefix = $1
			returning next_mac - 1`, g.Prefix).Scan(&n); err != nil {
			return "", err
		}
		mac, err := identity.RangeMAC(g.Prefix, n)
		if err != nil {
			return "", err
		}
		tag, err := g.Tx.Exec(g.Ctx, `insert into given_macs (mac, job_id) select $1::macaddr, $2
			where not exists (select 1
			from nics where mac = $1::macaddr) on conflict do nothing`, mac, g.Job)
		if err != nil {
			return "", err
		}
		if tag.RowsAffected() == 1 {
			return mac, nil
		}
	}
}
