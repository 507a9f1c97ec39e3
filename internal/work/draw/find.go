package draw

import (
	"context"
	"errors"
	"path"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

// Spot is a path at a host.
type Spot struct {
	Host *inventory.Host
	Path string
	Copy *inventory.Copy // that is there; nil for none
}

// Find resolves what a person calls a folder or file: a path of the host,
// POOL/PATH, or a copy of the inventory in one of forms.
func (g *Gatherer) Find(ctx context.Context, ref string, h *inventory.Host, facts plan.HostFacts,
	forms ...lineage.Form) (*Spot, error) {
	at := &Spot{Host: h}
	if name, below, ok := strings.Cut(ref, ":/"); ok { // of another host
		other, err := g.inv.Host(ctx, name)
		if err != nil {
			return nil, err
		}
		at.Host, at.Path = other, path.Clean("/"+below)
	} else if strings.HasPrefix(ref, "/") {
		at.Path = path.Clean(ref)
	} else if pool, rest, ok := strings.Cut(ref, "/"); ok {
		for _, p := range facts.Pools {
			if strings.EqualFold(p.Name, pool) {
				at.Path = path.Join(p.Path, rest)
			}
		}
		if at.Path == "" {
			if err := g.elsewhere(ctx, at, pool, rest); err != nil {
				return nil, err
			}
		}
	}
	if at.Path == "" {
		c, err := g.inv.Copy(ctx, ref, forms...)
		if err != nil {
			var e *inventory.Error
			if errors.As(err, &e) && e.Code == inventory.CodeUnknown {
				names := []string{}
				for _, p := range facts.Pools {
					names = append(names, p.Name)
				}
				e.Message += " A folder is named by its path on the host, as POOL/NAME (pools of " + h.Name + ": " +
					strings.Join(names, ", ") + "), or as a copy of the inventory."
			}
			return nil, err
		}
		at.Copy, at.Path = c, c.Path
		if c.HostID == nil || *c.HostID == h.ID {
			return at, nil
		}
		if p, sees := poolOf(facts, c); sees && p.State != plan.PoolAway { // a share that both see
			at.Path = path.Join(p.Path, path.Base(c.Path))
			return at, nil
		}
		at.Host, err = g.inv.Host(ctx, c.HostID.String())
		return at, err
	}
	var poolID *uuid.UUID
	for _, p := range facts.Pools {
		if at.Host == h && strings.HasPrefix(at.Path, p.Path+"/") {
			if id, err := uuid.Parse(p.ID); err == nil {
				poolID = &id
			}
		}
	}
	var err error
	at.Copy, err = g.inv.AtPlace(ctx, at.Host.ID, poolID, at.Path)
	return at, err
}

// poolOf is the pool that a copy lies in as a host sees it; false where it does not.
func poolOf(h plan.HostFacts, c *inventory.Copy) (plan.PoolFacts, bool) {
	if c.PoolID == nil {
		return plan.PoolFacts{}, false
	}
	return h.Pool(c.PoolID.String())
}

// elsewhere finds a pool that only other hosts see.
func (g *Gatherer) elsewhere(ctx context.Context, at *Spot, pool, rest string) error {
	pools, err := g.inv.PoolsNamed(ctx, pool)
	if err != nil || len(pools) == 0 {
		return err
	}
	hosts := []string{}
	for _, p := range pools {
		h, err := g.inv.Host(ctx, p.Host.String())
		if err != nil {
			return err
		}
		hosts = append(hosts, h.Name)
		at.Host, at.Path = h, path.Join(p.Path, rest)
	}
	if len(hosts) > 1 {
		return inventory.Wrong("Several hosts have a pool %q: %s. Name the folder as HOST:/PATH.", pool,
			strings.Join(hosts, ", "))
	}
	return nil
}

// Look asks the agent what is at the place.
func (g *Gatherer) Look(ctx context.Context, at *Spot, what string) (*plan.Folder, error) {
	f, err := g.hosts.Agent(at.Host).Folder(ctx, at.Path)
	var fault *hostlink.Fault
	if errors.As(err, &fault) {
		return nil, inventory.Wrong("%s at %s: %s.", what, at.Host.Name, strings.TrimSuffix(fault.Message, "."))
	}
	if err != nil {
		return nil, reach.Explain(at.Host, err)
	}
	return f, nil
}
