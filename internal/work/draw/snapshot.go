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

// Snapshot asks for a snapshot of copies. Note, which every request has, is kept with it.
type Snapshot struct {
	Asked
	Many
	Snapshot string `json:"snapshot"` // its name
}

// GoBack asks for copies to be as they were at a snapshot.
type GoBack struct {
	Asked
	Many
	Snapshot string `json:"snapshot"`
}

// DropSnapshot asks for a snapshot to be no more.
type DropSnapshot struct {
	Asked
	Many
	Snapshot string `json:"snapshot"`
}

func (r *Snapshot) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.snapshots(ctx, r, &r.Many, r.Snapshot)
}
func (r *GoBack) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.snapshots(ctx, r, &r.Many, r.Snapshot)
}
func (r *DropSnapshot) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	return g.snapshots(ctx, r, &r.Many, r.Snapshot)
}

// snapshots plans the same for the snapshot of that name of each copy.
func (g *Gatherer) snapshots(ctx context.Context, req Request, of *Many, name string) (*Drawn, error) {
	copies, err := of.all(ctx, g, nil, lineage.Registered)
	if err != nil {
		return nil, err
	}
	at := time.Now().UTC().Truncate(time.Second)
	return of.each(req, copies, plan.FrozenTogether, func(i int, a *Asked) (*Drawn, error) {
		c := copies[i]
		folder, err := g.folder(ctx, c)
		if err != nil {
			return nil, err
		}
		p, err := plan.Snapshots(plan.SnapshotFacts{Copy: c.Known(), Host: c.host, Folder: *folder, Busy: c.busy},
			plan.SnapshotRequest{Operation: a.Operation, Name: name, Note: a.Note, At: at, Answers: a.Answers,
				TakeRecommended: a.TakeRecommended})
		return on(p, c.at, c.hold), refused(err)
	})
}
