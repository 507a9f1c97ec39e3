package draw

import (
	"context"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
)

func init() {
	add(Operation{
		Name: "delist", Title: "Delist", Becomes: "off its host’s list", Command: "unvora delist COPY",
		New: func() Request { return &Delist{} },
	})
}

// Delist asks for a copy to be taken off its host's list.
type Delist struct {
	Asked
	Many
	Trash bool `json:"trash,omitempty"` // its files go to the trash of their pool
}

func (r *Delist) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	copies, err := r.all(ctx, g, nil, lineage.Registered, lineage.Hollow, lineage.Stray)
	if err != nil {
		return nil, err
	}
	return r.each(r, copies, plan.Together, func(i int, a *Asked) (*Drawn, error) {
		c := copies[i]
		facts := plan.DelistFacts{Copy: c.Known(), Machine: c.Machine, Host: c.host, Busy: c.busy}
		var err error
		if facts.Last, err = g.inv.LastCopy(ctx, c.Copy); err != nil {
			return nil, err
		}
		if r.Trash && c.Form != lineage.Hollow && c.host.State != plan.HostUnreachable {
			folder, err := g.folder(ctx, c)
			if err != nil {
				return nil, err
			}
			facts.StoodOn = folder.StoodOn
		}
		p, err := plan.Delist(facts, r.Trash, a.Answers, a.TakeRecommended)
		return on(p, c.at, c.hold), refused(err)
	})
}
