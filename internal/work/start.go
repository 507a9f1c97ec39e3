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
	j := &inventory.Job{ID: id, UserName: by.Name, Note: draw.NoteOf(req), StartAt: draw.StartOf(req),
		Rate: draw.RateOf(req)}
	n := drawn(j, d, req)
	n.Key = key
	return id, w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.In(tx).AddJob(ctx, n); err != nil || d.KeepWiring == "" {
			return err
		}
		return keepWiring(ctx, tx, d.Plan, d.KeepWiring, by.Name)
	})
}

// drawn makes a job of what was drawn; of one over several machines with a child for each.
func drawn(j *inventory.Job, d *draw.Drawn, req draw.Request) inventory.NewJob {
	n := inventory.NewJob{Job: j, Plan: d.Plan, Request: req}
	for _, part := range d.Parts {
		child := &inventory.Job{ID: inventory.NewID(), UserName: j.UserName, Note: j.Note, StartAt: j.StartAt,
			Rate: j.Rate}
		n.Children = append(n.Children, drawn(child, part.Drawn, part.Request))
	}
	if len(n.Children) == 0 {
		j.NewCopy, n.Hosts, n.Holds = d.Begin(time.Now()), d.Hosts, d.Holds
	}
	return n
}

// SetLimits puts other limits of transfers into force; what they make room for begins at once.
func (w *Work) SetLimits(ctx context.Context, l inventory.Limits, who string) (*inventory.Limits, error) {
	now, err := w.inv.SetLimits(ctx, l, who)
	if err == nil {
		w.Steer.MoreRoom()
	}
	return now, err
}

// AgainFailed goes on with those of a job's children that came to nothing: each is worked out once more, as it was
// asked for, and gets a new job in the place of the old.
func (w *Work) AgainFailed(ctx context.Context, parent *inventory.Job, by draw.Caller) (*inventory.Job, error) {
	if parent.Parts == 0 {
		return nil, inventory.Wrong("The job %s is about one machine. Ask for the same again.", parent.ID)
	}
	children, err := w.inv.Undone(ctx, parent.ID)
	if err != nil {
		return nil, err
	}
	if len(children) == 0 {
		return nil, inventory.Wrong("None of the machines of the job %s has failed.", parent.ID)
	}
	again := make([]inventory.NewJob, len(children))
	plans := make([]*plan.Plan, len(children))
	for i, old := range children {
		req, err := draw.Parse(old.Request)
		if err != nil {
			return nil, err
		}
		draw.As(req, by)
		d, err := w.gather.Draw(ctx, req)
		if err != nil {
			return nil, err
		}
		if err := d.CheckRole(by); err != nil {
			return nil, err
		}
		plans[i] = d.Plan
		again[i] = drawn(&inventory.Job{ID: inventory.NewID(), UserName: by.Name, Note: old.Note, Parent: &parent.ID,
			Nth: old.Nth, Rate: old.Rate}, d, req)
	}
	if all := plan.SideBySide(plans); !all.Runnable {
		return nil, &NotRunnable{all}
	}
	err = w.inv.InTx(ctx, func(tx pgx.Tx) error {
		var mine []inventory.NewJob
		for i, old := range children { // else somebody asked for the same at the same moment
			taken, err := inventory.In(tx).GiveUp(ctx, old.ID)
			if err != nil {
				return err
			}
			if taken {
				mine = append(mine, again[i])
			}
		}
		return inventory.In(tx).AddJob(ctx, mine...)
	})
	if err != nil {
		return nil, err
	}
	w.Steer.Tell()
	return w.inv.Job(ctx, parent.ID.String())
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
