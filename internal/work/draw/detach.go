package draw

import (
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "detach", Title: "Detach a disk of", Becomes: "without it; its file stays",
		Command: "unvora disk detach COPY DISK",
		New:     func() Request { return &Detach{} },
	})
}

// Detach asks for a disk of a copy to be detached. Its file stays.
type Detach struct {
	Asked
	Copies
	Disk string `json:"disk"`
}

func (r *Detach) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	if r.Disk == "" {
		return nil, inventory.Wrong("Name the disk that is to be detached.")
	}
	facts, err := g.changing(ctx, c, &r.Asked, nil, "")
	if err != nil {
		return nil, err
	}
	folder, err := g.folder(ctx, c)
	if err != nil {
		return nil, err
	}
	facts.Folder = *folder
	return c.changed(*facts, plan.ChangeRequest{Operation: r.Operation, Detach: r.Disk, Answers: r.Answers,
		TakeRecommended: r.TakeRecommended})
}
