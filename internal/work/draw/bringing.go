package draw

import (
	"context"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// Bringing is what every request has that brings a machine in.
type Bringing struct {
	Making
	Files    string `json:"files,omitempty"`    // stay, copy or move
	Identity string `json:"identity,omitempty"` // keep or renew
}

// Making is what every request has that makes a registered copy.
type Making struct {
	Host        string            `json:"host"`
	Name        string            `json:"name,omitempty"`
	Pool        string            `json:"pool,omitempty"`
	Disks       map[string]string `json:"disks,omitempty"` // disk → POOL, POOL:FORMAT or :FORMAT
	Facets      map[string]string `json:"facets,omitempty"`
	Wire        map[string]string `json:"wire,omitempty"`      // NIC → switch
	Addresses   map[string]string `json:"addresses,omitempty"` // NIC → give, or an address
	Owner       string            `json:"owner,omitempty"`
	CPUs        int               `json:"cpus,omitempty"`
	MemoryBytes int64             `json:"memoryBytes,omitempty"`
	KeepWiring  bool              `json:"keepWiring,omitempty"` // switches that were chosen become rules
}

// to is the host that a copy is made at, with its facts.
func (b *Bringing) to(ctx context.Context, g *Gatherer) (*inventory.Host, plan.HostFacts, error) {
	h, err := g.inv.Host(ctx, b.Host)
	if err != nil {
		return nil, plan.HostFacts{}, err
	}
	facts, err := g.HostFacts(ctx, h)
	return h, facts, err
}

// bring is the request as plans want it.
func (b *Bringing) bring(a *Asked) (plan.BringRequest, error) {
	if b.Identity != "" && b.Identity != identity.Keep && b.Identity != identity.Renew {
		return plan.BringRequest{}, inventory.Wrong("Identity %q: keep or renew.", b.Identity)
	}
	facets := map[identity.Facet]string{}
	for f, v := range b.Facets {
		facets[identity.Facet(f)] = v
	}
	return plan.BringRequest{Files: b.Files, Name: b.Name, Pool: b.Pool, Identity: b.Identity, Facets: facets,
		Wire:  b.Wire,
		Disks: b.Disks, Addresses: b.Addresses, Owner: b.Owner, CPUs: b.CPUs, MemoryBytes: b.MemoryBytes,
		Answers: a.Answers, TakeRecommended: a.TakeRecommended}, nil
}

// arrival begins the facts of a copy that is made at a host.
func (b *Bringing) arrival(a *Asked, host plan.HostFacts) plan.Arrival {
	return plan.Arrival{Host: host, Caller: a.by.Name, Wanted: typed(b.Addresses)}
}

// typed lists the addresses that somebody typed.
func typed(addresses map[string]string) (list []string) {
	for _, a := range addresses {
		list = append(list, a)
	}
	return list
}

// made makes what the plan of a new copy needs. The rules of wiring that are kept are for the host that it is made at.
func (b *Bringing) made(p *plan.Plan, h *inventory.Host) *Drawn {
	d := on(p, h)
	if b.KeepWiring {
		d.KeepWiring = b.Host
	}
	return d
}

// poolFor is the pool that the plan will choose, for asking which names are taken.
func poolFor(h plan.HostFacts, name string) uuid.UUID {
	if to, there := h.PoolMeant(name); name != "" && there {
		id, _ := uuid.Parse(to.ID)
		return id
	}
	for _, p := range h.Pools {
		if name == "" && p.State == plan.PoolReady && !p.Removable {
			id, _ := uuid.Parse(p.ID)
			return id
		}
	}
	return uuid.Nil
}
