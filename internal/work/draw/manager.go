package draw

import (
	"context"
	"strings"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// fromManager is what plans of a machine at a manager are worked out from. Hosts and holds go to all.
func (g *Gatherer) fromManager(ctx context.Context, at *Spot, h *inventory.Host, arrival plan.Arrival, via string,
	all *Drawn) (*plan.RegisterFacts, error) {
	c := at.Copy
	if c == nil {
		return nil, inventory.Wrong("%s knows of nothing at %s.", at.Host.Manager, at.Path)
	}
	m, err := g.inv.Manager(ctx, at.Host.ManagerID.String())
	if err != nil {
		return nil, err
	}
	place, err := g.away.Of(m)
	if err != nil {
		return nil, err
	}
	stands, err := place.Look(ctx, c)
	if err != nil {
		return nil, err
	}
	facts := &plan.RegisterFacts{Arrival: arrival, Where: c.Ref()}
	facts.Manager = &plan.ManagerFacts{Name: m.Name, Live: stands.Live, May: stands.May, Peer: stands.Peer,
		Ahead: map[string]plan.AheadOne{}}
	facts.Parent, facts.Lineage = c.ID.String(), c.LineageID.String()
	facts.From = &plan.HostFacts{ID: at.Host.ID.String(), Name: at.Host.Name, State: at.Host.State}
	if stands.Unreachable {
		facts.From.State = plan.HostUnreachable
	}
	if facts.Busy, err = g.inv.Holder(ctx, inventory.CopyKey(c.ID.String())); err != nil {
		return nil, err
	}
	if via != "" && !strings.EqualFold(via, h.Name) {
		v, err := g.inv.Host(ctx, via)
		if err != nil {
			return nil, err
		}
		if v.ManagerID != nil || stands.Peer {
			return nil, inventory.Wrong("--via names a host with an agent of ours, to read and convert what a " +
				"foreign manager sends when it is imported.")
		}
		facts.Via = new(plan.HostFacts)
		if *facts.Via, err = g.HostFacts(ctx, v); err != nil {
			return nil, err
		}
	}
	facts.Folder = plan.Folder{Path: c.Path, State: stands.State, Machine: c.Machine}
	for _, d := range c.Machine.Disks {
		facts.Folder.Disks = append(facts.Folder.Disks, plan.FolderDisk{ID: d.ID, File: d.File,
			Path:   stands.Paths[d.ID],
			Format: arrival.Host.Family.Formats[0], VirtualBytes: d.VirtualBytes, FileBytes: d.FileBytes})
	}
	all.Hosts[at.Host.Name] = at.Host.ID
	all.Holds = append(all.Holds, inventory.CopyKey(c.ID.String()))
	return facts, g.fetchedAhead(ctx, c, h, facts.Manager, all)
}

// fetchedAhead tells what was fetched of a copy before, at the host that it comes to and at others.
func (g *Gatherer) fetchedAhead(ctx context.Context, c *inventory.Copy, h *inventory.Host, facts *plan.ManagerFacts,
	all *Drawn) error {
	ahead, err := g.inv.AheadOf(ctx, c.ID)
	if err != nil {
		return err
	}
	for _, a := range ahead {
		if a.HostID == h.ID {
			facts.Ahead[a.Disk] = plan.AheadOne{Path: a.Path, Image: a.Image,
				When: a.At.Format("on 2 January 2006, 15:04")}
			continue
		}
		facts.Stale = append(facts.Stale, plan.StaleOne{Host: a.Host, Path: a.Path, Image: a.Image})
		all.Hosts[a.Host] = a.HostID
	}
	return nil
}
