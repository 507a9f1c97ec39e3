package steer

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// lookForWord is how often a job that waits for somebody's word looks for it anyhow: it may be said at another service.
const lookForWord = 10 * time.Second

// await waits until the job may cut over: at the time of its plan, or when somebody says so. One that comes here after
// the end of its window is held, and goes on only by somebody's word.
func await(ctx context.Context, r *run) (wait, error) {
	do, err := inventory.DoOf[plan.Await](r.s)
	if err != nil {
		return nil, err
	}
	said := r.said.listen()
	if mine, err := r.inv.Reread(ctx, r.j); !mine || err != nil { // somebody may have spoken since it was read
		return nil, err
	}
	if r.j.Hold || r.j.Back {
		return sleep(0), nil
	}
	at, until, now := do.At, do.Until, time.Now()
	if word := r.j.CutOverAt; word != nil {
		at, until = word, nil
	}
	switch {
	case until != nil && now.After(*until):
		return nil, r.inv.HoldFor(ctx, r.j, fmt.Sprintf("its time to cut over ended at %s. It waits for somebody to "+
			"say when: unvora jobs cut-over %s", until.UTC().Format("2006-01-02 15:04 UTC"), r.j.ID))
	case at == nil || now.Before(*at):
		rest := lookForWord
		if at != nil {
			rest = min(rest, at.Sub(now))
		}
		return said.within(rest), nil
	}
	return nil, r.finish(ctx, func(pgx.Tx) error { return nil })
}
