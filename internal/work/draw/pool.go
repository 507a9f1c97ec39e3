package draw

import (
	"context"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

func init() {
	add(Operation{
		Name: "hand-over", Title: "Hand over the pool", Becomes: "free", Command: "unvora pool hand-over POOL",
		New: func() Request { return &HandOver{} },
	})
	add(Operation{
		Name: "take-over", Title: "Take over the pool", Becomes: "ours", Command: "unvora pool take-over POOL",
		New: func() Request { return &TakeOver{} },
	})
}

// HandOver asks for a pool to become nobody's.
type HandOver struct {
	Asked
	Pool string `json:"pool"`
}

// TakeOver asks for a pool to become ours, and for machines that lie in it to be registered.
type TakeOver struct {
	Asked
	Pool     string    `json:"pool"`
	Host     string    `json:"host,omitempty"`     // that registers them; the first that sees the pool unless said
	Machines *[]string `json:"machines,omitempty"` // folders; all that lie in it unless said
}

func (*TakeOver) takesSeveral() {}

// seenBy is a pool as a host sees it: one that is up and has it there, if there is one; or the host that is named.
func (g *Gatherer) seenBy(ctx context.Context, p *inventory.Pool, host string) (*inventory.Host, plan.HostFacts,
	plan.PoolFacts, error) {
	names := p.Hosts
	if host != "" {
		names = []string{host}
	}
	var h *inventory.Host
	var facts plan.HostFacts
	var at plan.PoolFacts
	for _, name := range names {
		other, err := g.inv.Host(ctx, name)
		if err != nil {
			return nil, facts, at, err
		}
		its, err := g.HostFacts(ctx, other)
		if err != nil {
			return nil, facts, at, err
		}
		seen, sees := its.Pool(p.ID.String())
		if !sees {
			return nil, facts, at, inventory.Wrong("%s does not see the pool %s; these do: %s.", other.Name, p.Name,
				strings.Join(p.Hosts, ", "))
		}
		if h == nil || facts.State == plan.HostUnreachable || at.State == plan.PoolAway {
			h, facts, at = other, its, seen
		}
	}
	return h, facts, at, nil
}

func (r *HandOver) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	p, err := g.inv.PoolOf(ctx, r.Pool)
	if err != nil {
		return nil, err
	}
	h, host, at, err := g.seenBy(ctx, p, "")
	if err != nil {
		return nil, err
	}
	facts := plan.HandOverFacts{Pool: at, Host: host}
	if facts.Stands, err = g.inv.StandingIn(ctx, p.ID); err != nil {
		return nil, err
	}
	list, err := g.inv.CopiesIn(ctx, p.ID, lineage.Registered)
	if err != nil {
		return nil, err
	}
	d := on(nil, h, "pool:"+p.ID.String())
	refs := &Many{}
	for _, c := range list {
		refs.Copies.Copies = append(refs.Copies.Copies, c.ID.String())
	}
	var copies []*subject
	if len(list) > 0 {
		if copies, err = refs.all(ctx, g, nil, lineage.Registered); err != nil {
			return nil, err
		}
	}
	for _, c := range copies {
		m := plan.PoolMachine{Copy: c.Known(), Host: c.host, Busy: c.busy}
		if c.Machine != nil {
			for _, disk := range c.Machine.Disks {
				if !strings.HasPrefix(path.Join(c.Path, disk.File), path.Dir(c.Path)+"/") {
					m.Away = append(m.Away, disk.ID)
				}
			}
		}
		facts.Machines = append(facts.Machines, m)
		d.Hosts[c.at.Name] = c.at.ID
		d.Holds = append(d.Holds, c.hold)
	}
	d.Plan, err = plan.HandOver(facts, r.Answers, r.TakeRecommended)
	return d, refused(err)
}

func (r *TakeOver) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	p, err := g.inv.PoolOf(ctx, r.Pool)
	if err != nil {
		return nil, err
	}
	h, host, at, err := g.seenBy(ctx, p, r.Host)
	if err != nil {
		return nil, err
	}
	facts := plan.TakeOverFacts{Pool: at, Host: host, Mark: plan.PoolMark{QuietSeconds: -1}}
	if host.State != plan.HostUnreachable && at.State != plan.PoolAway {
		mark, err := g.hosts.Agent(h).PoolMark(ctx, p.ID.String())
		if err != nil {
			return nil, reach.Explain(h, err)
		}
		facts.Mark = *mark
	}
	d := on(nil, h, "pool:"+p.ID.String())
	names, err := r.chosen(ctx, g, p)
	if err != nil {
		return nil, err
	}
	for i := range host.Pools { // as it will be when they are registered
		if host.Pools[i].ID == p.ID.String() {
			host.Pools[i].State, host.Pools[i].Owner = plan.PoolReady, ""
		}
	}
	making := Bringing{Making: Making{Host: h.Name}, Files: plan.Stay}
	for _, name := range names {
		folder := path.Join(at.Path, name)
		spot, err := g.Find(ctx, folder, h, host, lineage.Stray, lineage.Registered)
		if err != nil {
			return nil, err
		}
		arrival := making.arrival(&r.Asked, host)
		arrival.Of = name
		look := &lying{Bringing: making, ref: path.Join(p.Name, name), at: spot, host: h, arrival: arrival,
			answers: r.Answers.For(name, folder)}
		one, err := look.facts(ctx, g, d)
		if err != nil {
			return nil, err
		}
		facts.Machines = append(facts.Machines, *one)
	}
	bring, err := making.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	if d.Plan, err = plan.TakeOver(facts, bring); err != nil {
		return nil, refused(err)
	}
	d.holdPlaces()
	return d, nil
}

// chosen are the folders that are to be registered.
func (r *TakeOver) chosen(ctx context.Context, g *Gatherer, p *inventory.Pool) (names []string, err error) {
	lying, err := g.inv.CopiesIn(ctx, p.ID, lineage.Stray)
	if err != nil {
		return nil, err
	}
	for _, c := range lying {
		if c.Problem == "" {
			names = append(names, path.Base(c.Path))
		}
	}
	if r.Machines == nil {
		return names, nil
	}
	for _, name := range *r.Machines {
		if !slices.Contains(names, name) {
			return nil, inventory.Wrong("No machine lies in the folder %q of the pool %s; there are: %s.", name, p.Name,
				strings.Join(names, ", "))
		}
	}
	return *r.Machines, nil
}
