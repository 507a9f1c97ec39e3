package steer

import (
	"context"
	"time"

	"unvora.example/unvora/core/hours"
	"unvora.example/unvora/core/plan"
)

// rate is how fast the step may be now, by this service's clock: by the rate of its job, and by the time of the day.
// The times are read each time, so that ones that were just set hold for what starts right after.
func (r *run) rate(ctx context.Context) (int64, error) {
	if !plan.Kinds[r.s.Kind].Transfer {
		return r.j.Rate, nil
	}
	limits, err := r.inv.Limits(ctx)
	if err != nil {
		return 0, err
	}
	windows, err := limits.Windows()
	if err != nil {
		return 0, err
	}
	return hours.RateAt(time.Now(), r.j.Rate, windows), nil
}
