package draw

import (
	"context"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "start", Title: "Start", Becomes: "running", Command: "unvora power on COPY",
		New: func() Request { return &Start{} },
	})
	add(Operation{
		Name: "stop", Title: "Stop", Becomes: "stopped", Command: "unvora power off COPY",
		New: func() Request { return &Stop{} },
	})
}

// Start asks for copies to be started.
type Start struct {
	Asked
	Copies
}

// Stop asks for copies to be stopped.
type Stop struct {
	Asked
	Copies
}

func (r *Start) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, &r.Asked, r.Copies)
}
func (r *Stop) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.power(ctx, &r.Asked, r.Copies)
}

func (g *Gatherer) power(ctx context.Context, a *Asked, copies Copies) (*Drawn, error) {
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
		g.hosts.AsNow(ctx, h)
		f := plan.PowerFacts{Copy: c.Known(), HostState: h.State, Isolated: isolated(c.Machine)}
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
	d.Plan, err = plan.PowerOnOff(a.Operation, facts, a.Answers, a.TakeRecommended)
	return d, refused(err)
}
