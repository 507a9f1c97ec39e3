package draw

import (
	"context"

	"github.com/google/uuid"

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
	Copies
	Boot string `json:"boot,omitempty"` // a disk, drive or NIC that they start from, this once
}

// Stop asks for copies to be stopped.
type Stop struct {
	Asked
	Copies
	Manner machine.Manner `json:"manner,omitempty"`
}

// Pause asks for copies to stand still while they run.
type Pause struct {
	Asked
	Copies
}

// Suspend asks for copies to be ended with what they have in memory kept.
type Suspend struct {
	Asked
	Copies
}

func (r *Start) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, &r.Asked, r.Copies, plan.PowerRequest{Boot: r.Boot})
}
func (r *Stop) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, &r.Asked, r.Copies, plan.PowerRequest{Manner: r.Manner})
}
func (r *Pause) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, &r.Asked, r.Copies, plan.PowerRequest{})
}
func (r *Suspend) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, &r.Asked, r.Copies, plan.PowerRequest{})
}

func (g *Gatherer) power(ctx context.Context, a *Asked, copies Copies, req plan.PowerRequest) (*Drawn, error) {
	if len(copies.Copies) == 0 {
		return nil, inventory.Wrong("Name one or more copies.")
	}
	facts := []plan.PowerFacts{}
	d := &Drawn{Hosts: map[string]uuid.UUID{}}
	seen := map[uuid.UUID]bool{}
	for _, ref := range copies.Copies {
		c, err := g.inv.Copy(ctx, ref, lineage.Registered)
		if err != nil {
			return nil, err
		}
		if seen[c.ID] {
			continue
		}
		seen[c.ID] = true
		h, err := g.hostOf(ctx, c)
		if err != nil {
			return nil, err
		}
		f := plan.PowerFacts{Copy: c.Known(), Machine: c.Machine, Isolated: isolated(c.Machine)}
		if f.Host, err = g.HostFacts(ctx, h); err != nil {
			return nil, err
		}
		hold := inventory.CopyKey(c.ID.String())
		if f.Busy, err = g.inv.Holder(ctx, hold); err != nil {
			return nil, err
		}
		if f.SameUUID, f.SameMAC, err = g.twins(ctx, c); err != nil {
			return nil, err
		}
		facts = append(facts, f)
		d.Hosts[h.Name] = h.ID
		d.Holds = append(d.Holds, hold)
	}
	var err error
	req.Operation, req.Answers, req.TakeRecommended = a.Operation, a.Answers, a.TakeRecommended
	d.Plan, err = plan.SetPower(facts, req)
	return d, refused(err)
}
