package inventory

import (
	"context"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/plan"
)

// pacesLooked is how many of the last transfers are looked at.
const pacesLooked = 20

// paceSQL is the median of the last transfers of a kind between hosts, in bytes a second; 0 where there were none. What
// moved little says little: only those of 8 MiB and more count, as the index has them. Nor does what was slowed down.
const paceSQL = `select coalesce(percentile_cont(0.5) within group (order by pace), 0) from (
	select s.done / extract(epoch from s.finished_at - s.started_at) as pace
	from steps s join jobs j on j.id = s.job_id
	where s.kind = $1 and s.uses = $2 and s.state = 'done' and s.done >= 8388608 and s.uses is not null
	and s.finished_at > s.started_at and j.rate = 0 order by s.finished_at desc limit $3) x`

// Paces tells how fast the last transfers went of the kind of each step between its hosts, in bytes a second; 0 where
// nothing was measured.
func (inv *Inventory) Paces(ctx context.Context, steps []plan.Step, hosts map[string]uuid.UUID) ([]float64, error) {
	paces := make([]float64, len(steps))
	known := map[string]float64{}
	for i, s := range steps {
		host, ours := hosts[s.Host]
		used := uses(s, &host)
		if s.Bytes == 0 || !ours || used == nil {
			continue
		}
		key := s.Kind + " " + strings.Join(used, " ")
		pace, looked := known[key]
		if !looked {
			if err := inv.Pool.QueryRow(ctx, paceSQL, s.Kind, used, pacesLooked).Scan(&pace); err != nil {
				return nil, err
			}
			known[key] = pace
		}
		paces[i] = pace
	}
	return paces, nil
}
