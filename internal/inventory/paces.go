package inventory

import (
	"context"
	"math"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/plan"
)

const (
	// usualPace is of converting on an ordinary host, in bytes a second, until anything was measured there.
	usualPace = 150 << 20
	// pacesLooked is how many of the last transfers are looked at.
	pacesLooked = 20
)

// paceSQL is the median of the last transfers of a kind between hosts, in bytes a second. What moved little says
// little: only those of 8 MiB and more count, as the index has them.
const paceSQL = `select coalesce(percentile_cont(0.5) within group (order by pace), 0) from (
	select done / extract(epoch from finished_at - started_at) as pace from steps
	where kind = $1 and uses = $2 and state = 'done' and done >= 8388608 and uses is not null
	and finished_at > started_at order by finished_at desc limit $3) x`

// Estimate is how long steps take, in seconds, by how fast the last of their kind went between their hosts; none goes
// faster than most bytes a second, 0 for no such limit. Of jobs that run side by side, as many as the limits of
// transfers let.
func (inv *Inventory) Estimate(ctx context.Context, steps []plan.Step, hosts map[string]uuid.UUID, jobs int,
	most int64) (seconds int64, err error) {
	paces := map[string]float64{}
	sum := 0.0
	for _, s := range steps {
		if s.Bytes == 0 {
			continue
		}
		var host *uuid.UUID
		if id, ok := hosts[s.Host]; ok {
			host = &id
		}
		used := uses(s, host)
		key := s.Kind + " " + strings.Join(used, " ")
		pace, known := paces[key]
		if !known {
			if used != nil {
				if err := inv.Pool.QueryRow(ctx, paceSQL, s.Kind, used, pacesLooked).Scan(&pace); err != nil {
					return 0, err
				}
			}
			if pace <= 0 {
				pace = usualPace
			}
			if most > 0 {
				pace = min(pace, float64(most))
			}
			paces[key] = pace
		}
		sum += float64(s.Bytes) / pace
	}
	if jobs > 1 {
		limits, err := inv.Limits(ctx)
		if err != nil {
			return 0, err
		}
		sum /= float64(min(jobs, limits.PerHost, limits.PerLink))
	}
	return max(1, int64(math.Round(sum))), nil
}
