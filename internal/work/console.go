package work

import (
	"context"
	"net"
	"time"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

// console is the host and the folder of a copy whose machine can be looked at.
func (w *Work) console(ctx context.Context, ref string) (*inventory.Host, string, error) {
	c, err := w.inv.Copy(ctx, ref, lineage.Registered)
	if err != nil { // to say what it is instead
		c, err = w.inv.Copy(ctx, ref)
	}
	if err != nil {
		return nil, "", err
	}
	if c.Form != lineage.Registered {
		return nil, "", inventory.Wrong("%s is %s: only machines that a host lists have a console.", c.Name, c.Form)
	}
	m, h, err := w.places.Has(ctx, c)
	if err != nil {
		return nil, "", err
	}
	if m != nil {
		return nil, "", inventory.Wrong("%s is at the manager %s, which keeps its consoles to itself.", c.Name, m.Name)
	}
	return h, c.Path, nil
}

// Console is what a copy has said on its serial port from a position on. It waits for more.
func (w *Work) Console(ctx context.Context, ref string, from int64, wait time.Duration) (*hostlink.ConsoleLog, error) {
	h, folder, err := w.console(ctx, ref)
	if err != nil {
		return nil, err
	}
	l, err := w.hosts.Agent(h).Console(ctx, folder, from, wait)
	return l, reach.Explain(h, err)
}

// Type types on the serial port of a copy.
func (w *Work) Type(ctx context.Context, ref string, text []byte) error {
	h, folder, err := w.console(ctx, ref)
	if err != nil {
		return err
	}
	return reach.Explain(h, w.hosts.Agent(h).Type(ctx, folder, text))
}

// Picture is what a copy shows on its screen, as PNG.
func (w *Work) Picture(ctx context.Context, ref string) ([]byte, error) {
	h, folder, err := w.console(ctx, ref)
	if err != nil {
		return nil, err
	}
	p, err := w.hosts.Agent(h).Picture(ctx, folder)
	return p, reach.Explain(h, err)
}

// Display connects to the screen, keyboard and mouse of a copy.
func (w *Work) Display(ctx context.Context, ref string) (net.Conn, error) {
	h, folder, err := w.console(ctx, ref)
	if err != nil {
		return nil, err
	}
	return w.hosts.Display(ctx, h, folder)
}
