package draw

import (
	"context"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "renew", Title: "Renew the identity of", Becomes: "with ids of its own", Command: "unvora renew COPY",
		New: func() Request { return &Renew{} },
	})
}

// Renew asks for new identity facets of a copy, where it is.
type Renew struct {
	Asked
	Copies
	Renew []string `json:"renew"` // facets
}

func (r *Renew) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	facets := make([]identity.Facet, len(r.Renew))
	for i, f := range r.Renew {
		if facets[i] = identity.Facet(f); facets[i].Words() == "" {
			return nil, inventory.Wrong("There is no facet %q; there are %v.", f, identity.Facets)
		}
	}
	facts, err := g.changing(ctx, c, &r.Asked, nil, "")
	if err != nil {
		return nil, err
	}
	return c.changed(*facts, plan.ChangeRequest{Operation: r.Operation, Renew: facets, Answers: r.Answers,
		TakeRecommended: r.TakeRecommended})
}
