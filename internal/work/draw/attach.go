package draw

import (
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "attach", Title: "Attach a disk to", Becomes: "with the disk", Command: "unvora disk attach COPY FILE",
		New: func() Request { return &Attach{} },
	})
}

// Attach asks for an existing disk to be attached to a copy.
type Attach struct {
	Asked
	Copies
	File      string `json:"file"`                // POOL/PATH or a path of the host
	InPlaceOf string `json:"inPlaceOf,omitempty"` // disk of the copy that it replaces; that one's file stays
}

func (r *Attach) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	facts, err := g.changing(ctx, c, &r.Asked, nil, "")
	if err != nil {
		return nil, err
	}
	folder, err := g.folder(ctx, c)
	if err != nil {
		return nil, err
	}
	at, err := g.Find(ctx, r.File, c.at, c.host)
	if err != nil {
		return nil, err
	}
	disk, err := g.Look(ctx, at, r.File)
	if err != nil {
		return nil, err
	}
	if len(disk.Disks) != 1 || disk.Path == at.Path {
		return nil, inventory.Wrong("%s is a folder: name the disk image in it.", r.File)
	}
	if at.Host.ID != c.at.ID {
		return nil, inventory.Wrong("%s lies at %s: only what %s sees can be attached there.", r.File, at.Host.Name,
			c.at.Name)
	}
	facts.Folder, facts.Attach = *folder, &disk.Disks[0]
	return c.changed(*facts, plan.ChangeRequest{Operation: r.Operation, Replace: r.InPlaceOf, Answers: r.Answers,
		TakeRecommended: r.TakeRecommended})
}
