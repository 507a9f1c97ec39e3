package work

import (
	"context"
	"time"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Console is what a copy has said on its serial port from a position on. It waits for more.
func (w *Work) Console(ctx context.Context, ref string, from int64, wait time.Duration) (*hostlink.ConsoleLog, error) {
	c, err := w.inv.Copy(ctx, ref)
	if err != nil {
		return nil, err
	}
	if c.Form != lineage.Registered {
		return nil, inventory.Wrong("%s is %s: only machines that a host lists have a console.", c.Name, c.Form)
	}
	m, h, err := w.places.Has(ctx, c)
	if err != nil {
		return nil, err
	}
	if m != nil {
		return nil, inventory.Wrong("%s is at the manager %s, which keeps its consoles to itself.", c.Name, m.Name)
	}
	return w.hosts.Agent(h).Console(ctx, c.Path, from, wait)
}
