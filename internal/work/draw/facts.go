package draw

import (
	"context"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// resolvePatience is how long the name of a host may take to be resolved.
const resolvePatience = 2 * time.Second

// HostFacts is what plans want to know of a host of ours.
func (g *Gatherer) HostFacts(ctx context.Context, h *inventory.Host) (plan.HostFacts, error) {
	if h.ManagerID != nil {
		return plan.HostFacts{}, inventory.Wrong("%s is a host of the manager %s: a machine is given to it with "+
			"unvora "+
			"put-back COPY", h.Name, h.Manager)
	}
	g.hosts.AsNow(ctx, h)
	f := plan.HostFacts{ID: h.ID.String(), Name: h.Name, State: h.State, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes,
		Abilities: h.Abilities,
		Protocol:  h.Protocol, WantsProtocol: wants(h), ClockOff: h.ClockOff, Ports: h.Ports,
		Reached: addressOf(ctx, h.Address)}
	var err error
	if f.Family, err = fit.FamilyByName(h.Family); err != nil {
		return f, err
	}
	if f.MACPrefix, err = g.inv.MACPrefix(ctx, h.Site); err != nil {
		return f, err
	}
	pools, err := g.inv.HostPools(ctx, h.ID)
	if err != nil {
		return f, err
	}
	for _, p := range pools {
		f.Pools = append(f.Pools, plan.PoolFacts{ID: p.ID.String(), Name: p.Name, Path: p.Path, State: p.State,
			Removable: p.Removable, Labels: p.Labels, TotalBytes: p.TotalBytes, FreeBytes: p.FreeBytes,
			MaxFile: p.MaxFile, Ownerless: p.Ownerless, Foreign: p.Foreign, Owner: p.Owner, Slow: fit.Slow(p.Rate)})
	}
	switches, err := g.inv.Switches(ctx, h.ID)
	for _, s := range switches {
		f.Switches = append(f.Switches, s.Wiring())
	}
	return f, err
}

// wants is the protocol that a host's agent is to speak; 0 where nothing was heard of it since that is noted.
func wants(h *inventory.Host) int {
	if h.Protocol == 0 {
		return 0
	}
	return hostlink.Protocol
}

// addressOf is the address that a host's name stands for; "" when that can't be
// told.
func addressOf(ctx context.Context, hostport string) string {
	host, _, err := net.SplitHostPort(hostport)
	if err != nil || net.ParseIP(host) != nil {
		return host
	}
	ctx, cancel := context.WithTimeout(ctx, resolvePatience)
	defer cancel()
	list, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil || len(list) == 0 {
		return ""
	}
	return list[0]
}

// arrive gathers what an operation that makes a registered copy of m on a host
// has to know: what m was made from, who has its ids, the rules of wiring. self
// is the copy that m is, which does not collide with itself.
func (g *Gatherer) arrive(ctx context.Context, a *plan.Arrival, m *machine.Machine, self string) (err error) {
	if err := g.ancestry(ctx, a, m, self); err != nil {
		return err
	}
	a.Bound = map[identity.Facet]string{}
	if id, err := uuid.Parse(a.Lineage); err == nil {
		marks, err := g.inv.Marks(ctx, id)
		if err != nil {
			return err
		}
		for _, k := range marks {
			a.Bound[identity.Facet(k.Facet)] = k.Kind
		}
	}
	if id, err := uuid.Parse(a.Lineage); err == nil && len(m.Snapshots) > 0 {
		if l, err := g.inv.LineageOf(ctx, id.String()); err == nil {
			a.Called = l.Name
		}
	}
	if m.TPM != "" {
		a.Bound[identity.TPM] = "TPM"
	}
	return g.surroundings(ctx, a, m, self)
}

// surroundings are the rules, subnets and addresses, and what owners have.
func (g *Gatherer) surroundings(ctx context.Context, a *plan.Arrival, m *machine.Machine, self string) (err error) {
	if a.Landing, err = g.inv.LandingRules(ctx); err != nil {
		return err
	}
	if a.Ranges, err = g.inv.Ranges(ctx); err != nil {
		return err
	}
	if id, err := uuid.Parse(a.Host.ID); err == nil && len(a.Host.Quotas) > 0 {
		if a.Usage, err = g.inv.Usage(ctx, id); err != nil {
			return err
		}
	}
	if a.Rules, err = g.inv.Rules(ctx); err != nil {
		return err
	}
	if a.Subnets, err = g.inv.Subnets(ctx); err != nil {
		return err
	}
	a.AddressOf, err = g.inv.AddressHolders(ctx, append(slices.Clone(m.Static), a.Wanted...), self)
	return err
}

// ancestry finds what a machine was made from, and who else has its ids.
func (g *Gatherer) ancestry(ctx context.Context, a *plan.Arrival, m *machine.Machine, self string) error {
	var origin *lineage.Known
	if pp := m.Passport; pp != nil {
		a.Lineage = pp.Lineage
		if c, err := g.inv.CopyByID(ctx, pp.Copy); err != nil {
			return err
		} else if c != nil {
			a.Lineage = c.LineageID.String()
			if a.Parent == "" && pp.Copy != self {
				a.Parent = c.ID.String()
			}
		}
		// The origin is the registered copy that it descends from.
		above, err := g.inv.Ancestors(ctx, pp.Parent)
		if err != nil {
			return err
		}
		for _, c := range above {
			a.Lineage = c.LineageID.String()
			if a.Parent == "" {
				a.Parent = c.ID.String()
			}
			if c.Form != lineage.Package {
				k := c.Known()
				origin = &k
				break
			}
		}
	}
	others := func(list []inventory.Copy) (known []lineage.Known) {
		for _, c := range list {
			if c.ID.String() != self {
				known = append(known, c.Known())
			}
		}
		return known
	}
	same, err := g.inv.HoldersOfUUID(ctx, m.UUID)
	if err != nil {
		return err
	}
	a.SameUUID = others(same)
	if len(a.SameUUID) > 0 && a.Lineage == "" {
		a.Lineage = a.SameUUID[0].Lineage
	}
	a.SameMAC = map[string][]lineage.Known{}
	for _, mac := range m.MACs() {
		holders, err := g.inv.HoldersOfMAC(ctx, mac)
		if err != nil {
			return err
		}
		if list := others(holders); len(list) > 0 {
			a.SameMAC[mac] = list
		}
	}
	a.Origin = lineage.FindOrigin(m, origin, a.SameUUID)
	return nil
}

// isolated tells whether nobody on a network that leads anywhere sees the machine.
func isolated(m *machine.Machine) bool {
	return m != nil && !slices.ContainsFunc(m.NICs, func(n machine.NIC) bool {
		return n.Network != "" &&
			n.Segment != wiring.Quarantine
	})
}

// twins finds the other copies with the copy's machine UUID, and with its MACs.
func (g *Gatherer) twins(ctx context.Context, c *inventory.Copy) (uuids, macs []lineage.Known, err error) {
	others := func(list []inventory.Copy) (out []lineage.Known) {
		for _, o := range list {
			if o.ID != c.ID {
				out = append(out, o.Known())
			}
		}
		return out
	}
	list, err := g.inv.HoldersOfUUID(ctx, c.UUID)
	if err != nil {
		return nil, nil, err
	}
	uuids = others(list)
	for _, mac := range c.MACs {
		if list, err = g.inv.HoldersOfMAC(ctx, mac); err != nil {
			return nil, nil, err
		}
		macs = append(macs, others(list)...)
	}
	return uuids, macs, nil
}

// names lists the names on a host, if there is one, and in a pool that a new name may run into: those that wishes, made
// fit to be names, or answers about names lead to.
func (g *Gatherer) names(ctx context.Context, host, pool, but uuid.UUID, answers plan.Answers,
	wishes ...string) ([]string, error) {
	for key, answer := range answers {
		if _, value, ok := strings.Cut(answer, ":"); ok && strings.HasPrefix(key, "name.") {
			wishes = append(wishes, value)
		}
	}
	for _, w := range slices.Clone(wishes) {
		wishes = append(wishes, machine.CleanName(w))
	}
	return g.inv.NamesTaken(ctx, host, pool, but, wishes)
}
