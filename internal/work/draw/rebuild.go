package draw

import (
	"context"
	"errors"
	"path"

	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

func init() {
	add(Operation{
		Name: "rebuild", Title: "Rebuild", Becomes: "as it was", Command: "unvora host rebuild HOST",
		New:   func() Request { return &Rebuild{} },
		Ended: rebuilt,
	})
}

// Rebuild asks for a host that was wiped to get back what it had.
type Rebuild struct {
	Asked
	Host string `json:"host"`
}

func (r *Rebuild) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	h, err := g.inv.Host(ctx, r.Host)
	if err != nil {
		return nil, err
	}
	had, err := g.inv.Had(ctx, h.ID)
	if err != nil {
		return nil, err
	}
	if had == nil {
		return nil, inventory.Wrong("Nothing is to be brought back to %s. Once it was wiped and its agent installed "+
			"anew: "+
			"unvora host rebuild %s --code CODE",
			h.Name, h.Name)
	}
	facts := plan.RebuildFacts{Had: *had, Lost: map[string]string{}, Folders: map[string]plan.RegisterFacts{}}
	if facts.Host, err = g.HostFacts(ctx, h); err != nil {
		return nil, err
	}
	d := on(nil, h)
	for _, m := range had.Machines {
		if err := r.machine(ctx, g, h, m, &facts, d); err != nil {
			return nil, err
		}
	}
	if d.Plan, err = plan.Rebuild(facts, r.Answers, r.TakeRecommended); err != nil {
		return nil, refused(err)
	}
	d.holdPlaces()
	return d, nil
}

// machine gathers what becomes of one machine that the host had.
func (r *Rebuild) machine(ctx context.Context, g *Gatherer, h *inventory.Host, m plan.HadMachine,
	facts *plan.RebuildFacts, all *Drawn) error {
	_, err := g.hosts.Agent(h).Folder(ctx, m.Folder)
	var fault *hostlink.Fault
	if err != nil && !errors.As(err, &fault) {
		return reach.Explain(h, err)
	}
	if err != nil { // it is gone, but for what another copy has of it
		facts.Lost[m.Copy] = ""
		if c, err := g.inv.CopyByID(ctx, m.Copy); err == nil && c != nil {
			if other, err := g.inv.Elsewhere(ctx, c); err == nil && other != nil {
				facts.Lost[m.Copy] = other.Ref()
			}
		}
		return nil
	}
	at, err := g.Find(ctx, m.Folder, h, facts.Host, lineage.Stray, lineage.Registered)
	if err != nil {
		return err
	}
	look := &lying{Bringing: Bringing{Files: plan.Stay, Identity: identity.Keep}, ref: m.Folder, at: at, host: h,
		answers: r.Answers,
		arrival: plan.Arrival{Host: facts.Host, Caller: r.by.Name, Of: path.Base(m.Folder)}}
	one, err := look.facts(ctx, g, all)
	if err != nil {
		return err
	}
	facts.Folders[m.Copy] = *one
	return nil
}

// rebuilt notes that a host has again what it had.
func rebuilt(ctx context.Context, inv *inventory.Inventory, j *inventory.Job) error {
	h, err := inv.Host(ctx, j.Subject)
	if err != nil {
		return err
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error { return inventory.In(tx).ForgetHad(ctx, h.ID.String()) })
}
