package draw

import (
	"cmp"
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "move", Title: "Move", Becomes: "moved", Command: "unvora move COPY --host HOST",
		New: func() Request { return &Move{} },
	})
}

// Move asks to take a registered copy to another host, or to another pool of its host.
type Move struct {
	Asked
	Copies
	Host       string            `json:"host"` // its own unless it is said
	Pool       string            `json:"pool,omitempty"`
	Disks      map[string]string `json:"disks,omitempty"` // disk → POOL, POOL:FORMAT or :FORMAT
	Wire       map[string]string `json:"wire,omitempty"`  // NIC → switch
	KeepWiring bool              `json:"keepWiring,omitempty"`
}

func (r *Move) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	if !c.Tracked {
		return nil, inventory.Wrong("%s is left alone here. If it is to be looked after: unvora track %s", c.Ref(),
			c.Ref())
	}
	moving := Bringing{Files: plan.Move, Making: Making{Host: cmp.Or(r.Host, c.at.Name), Pool: r.Pool, Disks: r.Disks,
		Wire: r.Wire, KeepWiring: r.KeepWiring}}
	h, host, err := moving.to(ctx, g)
	if err != nil {
		return nil, err
	}
	bring, err := moving.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	all := moving.made(nil, h)
	all.Hosts[c.at.Name] = c.at.ID
	look := &lying{Bringing: moving, ref: c.Ref(), at: &Spot{Host: c.at, Path: c.Path, Copy: c.Copy}, host: h,
		arrival: moving.arrival(&r.Asked, host), answers: r.Answers, moves: true}
	facts, err := look.facts(ctx, g, all)
	if err != nil {
		return nil, err
	}
	if facts.Folder.Machine == nil {
		return nil, inventory.Wrong("%s can't be moved: %s. Put that right first: unvora attention", c.Ref(),
			facts.Folder.Problem)
	}
	pool := ""
	if c.at.ID == h.ID {
		pool = poolNamed(c)
	}
	all.Plan, err = plan.MoveMachine(plan.MoveFacts{RegisterFacts: *facts, Pool: pool}, bring)
	if err != nil {
		return nil, refused(err)
	}
	all.holdPlaces()
	return all, nil
}
