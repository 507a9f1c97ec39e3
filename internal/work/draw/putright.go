package draw

import (
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
)

func init() {
	add(Operation{
		Name: "put-right", Title: "Put right the disks of", Becomes: "with disks in order",
		Command: "unvora attention settle ID",
		New:     func() Request { return &PutRight{} },
	})
}

// PutRight asks for what is wrong with a copy's disks to be put right.
type PutRight struct {
	Asked
	Copies
}

func (r *PutRight) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	facts := plan.ChangeFacts{Copy: c.Known(), Machine: c.Machine, Busy: c.busy}
	facts.Host = c.host
	folder, err := g.folder(ctx, c)
	if err != nil {
		return nil, err
	}
	facts.Folder = *folder
	p, err := plan.PutRight(facts, r.Answers, r.TakeRecommended)
	return on(p, c.at, c.hold), refused(err)
}
