package draw

import (
	"context"
	"time"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
)

func init() {
	add(Operation{
		Name: plan.OpSnapshot, Title: "Make a snapshot of", Becomes: "with the snapshot",
		Command: "unvora snapshot make COPY NAME", New: func() Request { return &Snapshot{} },
	})
	add(Operation{
		Name: plan.OpGoBack, Title: "Go back with", Becomes: "as it was then",
		Command: "unvora snapshot back COPY NAME", New: func() Request { return &GoBack{} },
	})
	add(Operation{
		Name: plan.OpDropSnapshot, Title: "Drop a snapshot of", Becomes: "without the snapshot",
		Command: "unvora snapshot drop COPY NAME", New: func() Request { return &DropSnapshot{} },
	})
}

// Snapshot asks for a snapshot of a copy. Note, which every request has, is kept with it.
type Snapshot struct {
	Asked
	Copies
	Snapshot string `json:"snapshot"` // its name
}

// GoBack asks for a copy to be as it was at a snapshot.
type GoBack struct {
	Asked
	Copies
	Snapshot string `json:"snapshot"`
}

// DropSnapshot asks for a snapshot to be no more.
type DropSnapshot struct {
	Asked
	Copies
	Snapshot string `json:"snapshot"`
}

func (r *Snapshot) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.snapshot(ctx, &r.Asked, r.Copies, r.Snapshot)
}
func (r *GoBack) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.snapshot(ctx, &r.Asked, r.Copies, r.Snapshot)
}
func (r *DropSnapshot) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.snapshot(ctx, &r.Asked, r.Copies, r.Snapshot)
}

func (g *Gatherer) snapshot(ctx context.Context, a *Asked, copies Copies, name string) (*Drawn, error) {
	c, err := copies.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	folder, err := g.folder(ctx, c)
	if err != nil {
		return nil, err
	}
	p, err := plan.Snapshots(plan.SnapshotFacts{Copy: c.Known(), Host: c.host, Folder: *folder, Busy: c.busy},
		plan.SnapshotRequest{Operation: a.Operation, Name: name, Note: a.Note,
			At: time.Now().UTC().Truncate(time.Second), Answers: a.Answers, TakeRecommended: a.TakeRecommended})
	return on(p, c.at, c.hold), refused(err)
}
