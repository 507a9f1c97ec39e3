package draw

import (
	"context"
	"path"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "fetch-ahead", Title: "Fetch ahead the disks of", To: "to", Becomes: "fetched ahead",
		Command: "unvora import --from MANAGER NAME --ahead --host HOST",
		New:     func() Request { return &FetchAhead{} },
	})
}

// FetchAhead asks for the disks of machines at a manager to be fetched ahead of their import.
type FetchAhead struct {
	Asked
	Folders []string          `json:"folders"` // copies at managers
	Host    string            `json:"host"`
	Pool    string            `json:"pool,omitempty"`
	Disks   map[string]string `json:"disks,omitempty"` // disk → POOL
}

func (r *FetchAhead) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	if len(r.Folders) == 0 || r.Host == "" {
		return nil, inventory.Wrong("To fetch ahead needs a machine at a manager and a host.")
	}
	b := &Bringing{Making: Making{Host: r.Host, Pool: r.Pool, Disks: r.Disks}}
	h, host, err := b.to(ctx, g)
	if err != nil {
		return nil, err
	}
	bring, err := b.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	all := on(nil, h)
	var plans []*plan.Plan
	for _, ref := range r.Folders {
		at, err := g.Find(ctx, ref, h, host, lineage.Registered)
		if err != nil {
			return nil, err
		}
		if at.Host.ManagerID == nil {
			return nil, inventory.Wrong("%s is at no manager: only machines of managers are fetched ahead.", ref)
		}
		facts, err := g.fromManager(ctx, at, h, b.arrival(&r.Asked, host), "", all)
		if err != nil {
			return nil, err
		}
		if len(r.Folders) > 1 {
			facts.Of = path.Base(facts.Where)
		}
		if facts.Landing, err = g.inv.LandingRules(ctx); err != nil {
			return nil, err
		}
		p, err := plan.FetchAhead(*facts, bring)
		if err != nil {
			return nil, refused(err)
		}
		plans = append(plans, p)
	}
	all.Plan = plan.Together(plans)
	return all, nil
}
