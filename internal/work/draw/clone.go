package draw

import (
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "clone", Title: "Clone", Counted: true, To: "on", Becomes: "cloned", Command: "unvora clone COPY",
		New: func() Request { return &Clone{} },
	})
}

// Clone asks for other copies of a machine, each with an identity of its own.
type Clone struct {
	Asked
	Copies
	Making          // Host is the origin's unless it is said
	Kind     string `json:"kind,omitempty"`     // whole or layered; "" for layered where that can be
	Snapshot string `json:"snapshot,omitempty"` // of the origin, that they are made of
	Count    int    `json:"count,omitempty"`    // 0 is one
	On       bool   `json:"on,omitempty"`       // they are started
	FirstStart
}

func (r *Clone) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	if r.Host == "" {
		r.Host = c.at.Name
	}
	if r.Pool == "" && r.Host == c.at.Name {
		r.Pool = poolNamed(c)
	}
	making := Bringing{Making: r.Making, Files: plan.Copy}
	h, host, err := making.to(ctx, g)
	if err != nil {
		return nil, err
	}
	bring, err := making.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	all := making.made(nil, h)
	all.Hosts[c.at.Name] = c.at.ID
	look := &lying{Bringing: making, ref: c.Ref(), at: &Spot{Host: c.at, Path: c.Path, Copy: c.Copy}, host: h,
		arrival: making.arrival(&r.Asked, host), answers: r.Answers, count: min(r.Count, plan.MostClones)}
	if err := r.FirstStart.into(&bring, &look.arrival, look.count); err != nil {
		return nil, err
	}
	facts, err := look.facts(ctx, g, all)
	if err != nil {
		return nil, err
	}
	origin, err := g.changing(ctx, c, &r.Asked, nil, "")
	if err != nil {
		return nil, err
	}
	origin.Folder = facts.Folder
	if facts.Folder.Machine == nil {
		return nil, inventory.Wrong("%s can't be cloned: %s. Put that right first: unvora attention", c.Ref(),
			facts.Folder.Problem)
	}
	all.Plan, err = plan.Clone(plan.CloneFacts{RegisterFacts: *facts, Origin: *origin},
		plan.CloneRequest{BringRequest: bring, Kind: r.Kind, Snapshot: r.Snapshot, Count: r.Count, On: r.On})
	if err != nil {
		return nil, refused(err)
	}
	all.holdPlaces()
	return all, nil
}

// poolNamed is the name of the pool that a copy lies in, as its host sees it; "" when that takes nothing new.
func poolNamed(c *subject) string {
	if p, sees := poolOf(c.host, c.Copy); sees && p.State == plan.PoolReady {
		return p.Name
	}
	return ""
}
