package draw

import (
	"context"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Lend plans what is done here while another Unvora reads a copy. Nobody here asks for it, so it is no row of the
// table.
func (g *Gatherer) Lend(ctx context.Context, m *inventory.Manager, c *inventory.Copy, h *inventory.Host,
	q hostlink.PeerRead) (*Drawn, error) {
	facts := plan.DelistFacts{Copy: c.Known(), Machine: c.Machine}
	var err error
	if facts.Host, err = g.HostFacts(ctx, h); err != nil {
		return nil, err
	}
	hold := inventory.CopyKey(c.ID.String())
	if facts.Busy, err = g.inv.Holder(ctx, hold); err != nil {
		return nil, err
	}
	p, err := plan.LendOut(plan.LendFacts{Delist: facts, Peer: m.Name, Stop: q.Stop && c.State.Active(),
		Move:  q.Move,
		Bytes: q.Bytes})
	return on(p, h, hold), err
}
