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
	Many
	Renew []string `json:"renew,omitempty"` // facets; none for the usual ones
}

func (r *Renew) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	copies, err := r.all(ctx, g, nil, lineage.Registered)
	if err != nil {
		return nil, err
	}
	facets := make([]identity.Facet, len(r.Renew))
	for i, f := range r.Renew {
		if facets[i] = identity.Facet(f); facets[i].Words() == "" {
			return nil, inventory.Wrong("There is no facet %q; there are %v.", f, identity.Facets)
		}
	}
	if len(facets) == 0 {
		facets = identity.Usual
	}
	return r.each(r, copies, plan.Together, func(i int, a *Asked) (*Drawn, error) {
		c := copies[i]
		facts, err := g.changing(ctx, c, a, nil, "")
		if err != nil {
			return nil, err
		}
		if len(copies) > 1 {
			facts.Of = called(c, copies)
		}
		return c.changed(*facts, plan.ChangeRequest{Operation: a.Operation, Renew: facets, Answers: a.Answers,
			TakeRecommended: a.TakeRecommended})
	})
}
