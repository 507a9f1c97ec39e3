package work

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
)

// NotRunnable is returned by Start for a plan that can't be carried out.
type NotRunnable struct{ Plan *plan.Plan }

func (n *NotRunnable) Error() string {
	if n.Plan.Verdict == plan.Blocked {
		return "The plan has findings that nothing can go on with."
	}
	return fmt.Sprintf("The plan has %d open choices.", len(n.Plan.OpenChoices()))
}

// Plan works a request out. Nothing is changed.
func (w *Work) Plan(ctx context.Context, req draw.Request) (*plan.Plan, error) {
	d, err := w.gather.Draw(ctx, req)
	if err != nil {
		return nil, err
	}
	return d.Plan, nil
}

// Start works the plan out once more and makes a job of it. A key that was used before by the same user returns the
// job that it started.
func (w *Work) Start(ctx context.Context, req draw.Request, key string) (*inventory.Job, error) {
	user := draw.CallerOf(req).Name
	if j, err := w.inv.JobByKey(ctx, user, key); j != nil || err != nil {
		return j, err
	}
	started, err := w.start(ctx, req, key)
	if err != nil { // a call with the same key, at the same moment, may have been quicker
		if j, e := w.inv.JobByKey(ctx, user, key); j != nil && e == nil {
			return j, nil
		}
		return nil, err
	}
	if err := w.Steer.Admit(ctx); err != nil { // it waits, and is found there
		w.log.Warn("begin job", "job", started, "error", err)
	}
	return w.inv.Job(ctx, started.String())
}

func (w *Work) start(ctx context.Context, req draw.Request, key string) (id uuid.UUID, err error) {
	d, err := w.gather.Draw(ctx, req)
	if err != nil {
		return id, err
	}
	if !d.Runnable {
		return id, &NotRunnable{d.Plan}
	}
	by := draw.CallerOf(req)
	if err := d.CheckRole(by); err != nil {
		return id, err
	}
	id = inventory.NewID()
	j := &inventory.Job{ID: id, UserName: by.Name, Note: draw.NoteOf(req), NewCopy: d.Begin(time.Now())}
	return id, w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.In(tx).AddJob(ctx, j, d.Plan, d.Hosts, key, d.Holds, req); err != nil ||
			d.KeepWiring == "" {
			return err
		}
		return keepWiring(ctx, tx, d.Plan, d.KeepWiring, by.Name)
	})
}

// keepWiring makes rules of the switches that a person chose where nothing told
// which one is right, in the transaction that makes the job.
func keepWiring(ctx context.Context, tx pgx.Tx, p *plan.Plan, host, user string) error {
	for _, f := range p.Findings {
		network, _ := f.Detail["network"].(string)
		if network == "" || f.Remedy() != "switch" || !strings.HasPrefix(f.Code, "network.") {
			continue
		}
		if _, err := inventory.In(tx).PutRule(ctx, wiring.Rule{Network: network, Host: host, Switch: f.Value()}, true,
			user); err != nil {
			return err
		}
	}
	return nil
}
