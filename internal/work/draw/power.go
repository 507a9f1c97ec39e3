package draw

import (
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: plan.OpStart, Title: "Start", Becomes: "running", Command: "unvora power on COPY",
		New: func() Request { return &Start{} },
	})
	add(Operation{
		Name: plan.OpStop, Title: "Stop", Becomes: "stopped", Command: "unvora power off COPY",
		New: func() Request { return &Stop{} },
	})
	add(Operation{
		Name: plan.OpPause, Title: "Pause", Becomes: "paused", Command: "unvora power pause COPY",
		New: func() Request { return &Pause{} },
	})
	add(Operation{
		Name: plan.OpSuspend, Title: "Suspend", Becomes: "suspended", Command: "unvora power suspend COPY",
		New: func() Request { return &Suspend{} },
	})
}

// Start asks for copies to be started, or to go on.
type Start struct {
	Asked
	Many
	Boot string `json:"boot,omitempty"` // a disk, drive or NIC that they start from, this once
}

// Stop asks for copies to be stopped.
type Stop struct {
	Asked
	Many
	Manner machine.Manner `json:"manner,omitempty"`
}

// Pause asks for copies to stand still while they run.
type Pause struct {
	Asked
	Many
}

// Suspend asks for copies to be ended with what they have in memory kept.
type Suspend struct {
	Asked
	Many
}

func (r *Start) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, r, &r.Many, plan.PowerRequest{Boot: r.Boot})
}
func (r *Stop) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, r, &r.Many, plan.PowerRequest{Manner: r.Manner})
}
func (r *Pause) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, r, &r.Many, plan.PowerRequest{})
}
func (r *Suspend) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, r, &r.Many, plan.PowerRequest{})
}

func (g *Gatherer) power(ctx context.Context, r Request, m *Many, req plan.PowerRequest) (*Drawn, error) {
	a := r.asked()
	copies, err := m.all(ctx, g, func(c inventory.Copy) bool { return c.State == toward[a.Operation] },
		lineage.Registered)
	if err != nil {
		return nil, err
	}
	facts := make([]plan.PowerFacts, len(copies))
	for i, c := range copies {
		facts[i] = plan.PowerFacts{Copy: c.Known(), Machine: c.Machine, Host: c.host, Busy: c.busy,
			Isolated: isolated(c.Machine)}
		if facts[i].SameUUID, facts[i].SameMAC, err = g.twins(ctx, c.Copy); err != nil {
			return nil, err
		}
	}
	req.Operation, req.Answers, req.TakeRecommended = a.Operation, a.Answers, a.TakeRecommended
	plans, err := plan.SetPower(facts, req)
	if err != nil {
		return nil, refused(err)
	}
	return m.each(r, copies, plan.Together, func(i int, _ *Asked) (*Drawn, error) {
		return on(plans[i], copies[i].at, copies[i].hold), nil
	})
}

// toward is the state that an operation leads to.
var toward = map[string]machine.State{plan.OpStart: machine.Running, plan.OpStop: machine.Stopped,
	plan.OpPause: machine.Paused, plan.OpSuspend: machine.Suspended}
