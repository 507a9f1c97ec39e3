package draw

import (
	"context"
	"strings"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

func init() {
	add(Operation{
		Name: "put-back", Title: "Put back", To: "to",
		Becomes: "the manager that it came from", Command: "unvora put-back COPY",
		New: func() Request { return &PutBack{} },
	})
}

// PutBack asks for a machine to be given to the foreign manager that it came from.
type PutBack struct {
	Asked
	Copies
	Manager string            `json:"manager,omitempty"` // the one that it came from, unless said
	Name    string            `json:"name,omitempty"`
	Wire    map[string]string `json:"wire,omitempty"` // NIC → network
}

func (r *PutBack) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	facts := plan.PutBackFacts{Copy: c.Known(), Machine: c.Machine, Host: c.host, Pool: c.pool(), Busy: c.busy}
	m, at, err := r.origin(ctx, g, c, &facts)
	if err != nil {
		return nil, err
	}
	place, err := g.away.Of(m)
	if err != nil {
		return nil, err
	}
	to, ok := place.(away.Receiver)
	if !ok {
		return nil, inventory.Wrong("%s is another Unvora: there, people import it from here.", m.Name)
	}
	if at == nil {
		hosts, err := g.inv.ManagedHosts(ctx, m)
		if err != nil {
			return nil, err
		}
		if len(hosts) == 0 {
			return nil, inventory.Wrong("%s has told of no host yet.", m.Name)
		}
		at = &hosts[0]
	}
	facts.Manager = m.Name
	facts.There = plan.HostFacts{ID: at.ID.String(), Name: at.Name, State: at.State}
	switches, err := g.inv.Switches(ctx, at.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range switches {
		facts.There.Switches = append(facts.There.Switches, s.Wiring())
	}
	receives, err := to.Receives(ctx)
	if err != nil {
		return nil, err
	}
	facts.May, facts.Names = receives.May, receives.Names
	if receives.Unreachable {
		facts.There.State = plan.HostUnreachable
	}
	d := on(nil, c.at, c.hold)
	d.Hosts[at.Name] = at.ID
	d.Plan, err = plan.PutBack(facts, plan.BringRequest{Name: r.Name, Wire: r.Wire, Answers: r.Answers,
		TakeRecommended: r.TakeRecommended})
	return d, refused(err)
}

// origin finds the manager that a copy goes to, and the host there that has what the copy was made from.
func (r *PutBack) origin(ctx context.Context, g *Gatherer, c *subject, facts *plan.PutBackFacts) (m *inventory.Manager,
	at *inventory.Host, err error) {
	if r.Manager != "" {
		if m, err = g.inv.Manager(ctx, r.Manager); err != nil {
			return nil, nil, err
		}
	}
	above, err := g.inv.Ancestors(ctx, c.ID.String())
	if err != nil {
		return nil, nil, err
	}
	for _, o := range above[min(1, len(above)):] {
		from, there, err := g.away.Has(ctx, &o)
		if err != nil {
			return nil, nil, err
		}
		if from == nil || from.Kind != inventory.ManagerCIMI || m != nil && m.ID != from.ID {
			continue
		}
		if o.GoneAt == nil {
			k := o.Known()
			facts.Origin = &k
		}
		return from, there, nil
	}
	if m == nil {
		return nil, nil, inventory.Wrong("%s came from no manager that is known here. Name the one that it is for: "+
			"--to "+
			"MANAGER", strings.TrimSpace(c.Ref()))
	}
	return m, nil, nil
}
