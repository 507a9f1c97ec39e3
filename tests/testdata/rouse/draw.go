package draw

import (
	"context"

	"unvora.example/unvora/core/plan"
)

func init() {
	add(Operation{
		Name: "rouse", Title: "Rouse", Becomes: "running again", Command: "unvora rouse COPY",
		New: func() Request { return &Rouse{} },
	})
}

// Rouse asks for a copy to be stopped and started again.
type Rouse struct {
	Asked
	Copies
}

func (r *Rouse) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, "registered")
	if err != nil {
		return nil, err
	}
	facts := plan.RouseFacts{Copy: plan.PowerFacts{Copy: c.Known(), Host: c.host, Busy: c.busy}}
	p, err := plan.Rouse(facts, r.Answers, r.TakeRecommended)
	return on(p, c.at, c.hold), refused(err)
}
