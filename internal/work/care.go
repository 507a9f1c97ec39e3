package work

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
	"unvora.example/unvora/internal/work/reach"
)

// Rest sets a pool to rest. A drive that is to be pulled out must have nothing
// running on it; what its file system holds in memory is written out.
func (w *Work) Rest(ctx context.Context, p *inventory.Pool, who string) error {
	running, err := w.inv.RunningIn(ctx, p.ID)
	if err != nil {
		return err
	}
	if p.Removable && len(running) > 0 {
		names := []string{}
		for _, c := range running {
			names = append(names, c.Ref())
		}
		return &inventory.Error{Code: inventory.CodeTaken, Message: fmt.Sprintf("%s run from the pool %s. Stop them "+
			"first: unvora power off %s", strings.Join(names, ", "), p.Name, strings.Join(names, " ")), Likely: names}
	}
	if p.State != plan.PoolAway {
		h, err := w.inv.Host(ctx, p.Host)
		if err != nil {
			return err
		}
		if err := w.hosts.Agent(h).Settle(ctx, p.ID.String()); err != nil {
			return reach.Explain(h, err)
		}
	}
	return w.inv.RestPool(ctx, p, true, who)
}

// Label gives a pool labels, which its mark bears to every host that sees it.
func (w *Work) Label(ctx context.Context, p *inventory.Pool, labels []string, who string) error {
	for _, l := range labels {
		if machine.CheckName(l) != nil || strings.ContainsAny(l, " ,=") {
			return inventory.Wrong("%q can't be a label: letters, digits, - and _ only.", l)
		}
	}
	h, err := w.inv.Host(ctx, p.Host)
	if err != nil {
		return err
	}
	if err := w.hosts.Agent(h).Label(ctx, p.ID.String(), labels); err != nil {
		return reach.Explain(h, err)
	}
	return w.inv.Labelled(ctx, p, labels, who)
}

// WiringTry is where a network leads at a host, and why.
type WiringTry struct {
	Switch  string   `json:"switch"`
	Segment string   `json:"segment"`
	Why     string   `json:"why"`
	Rule    string   `json:"rule"`
	Likely  []string `json:"likely"`
}

// TryWiring tells which switch of a host a NIC would land on.
func (w *Work) TryWiring(ctx context.Context, n machine.NIC, host string) (*WiringTry, error) {
	h, err := w.inv.Host(ctx, host)
	if err != nil {
		return nil, err
	}
	facts, err := w.gather.HostFacts(ctx, h)
	if err != nil {
		return nil, err
	}
	rules, err := w.inv.Rules(ctx)
	if err != nil {
		return nil, err
	}
	m := wiring.Find(n, h.Name, facts.Switches, rules)
	t := &WiringTry{Switch: m.Switch, Segment: m.Segment, Why: m.Why, Rule: m.Rule, Likely: []string{}}
	likely := m.Likely
	if m.Switch == "" {
		likely = wiring.Likely(n, facts.Switches)
	}
	for _, s := range likely {
		t.Likely = append(t.Likely, s.Name)
	}
	if m.Switch == "" && m.Why == "" {
		t.Why = "no rule, segment, VLAN or name fits"
	}
	return t, nil
}

// LookAt tells what a host knows of a folder or disk image.
func (w *Work) LookAt(ctx context.Context, host, ref string) (*plan.Folder, error) {
	_, _, f, err := w.lookAt(ctx, host, ref)
	return f, err
}

// Trash is what lies in the trash of a host, or of all for "".
func (w *Work) Trash(ctx context.Context, host string) (*draw.Trash, error) {
	return w.gather.Trash(ctx, host)
}

func (w *Work) lookAt(ctx context.Context, host, ref string) (*draw.Spot, plan.HostFacts, *plan.Folder, error) {
	var facts plan.HostFacts
	h, err := w.inv.Host(ctx, host)
	if err != nil {
		return nil, facts, nil, err
	}
	if facts, err = w.gather.HostFacts(ctx, h); err != nil {
		return nil, facts, nil, err
	}
	pl, err := w.gather.Find(ctx, ref, h, facts)
	if err != nil {
		return nil, facts, nil, err
	}
	f, err := w.gather.Look(ctx, pl, ref)
	return pl, facts, f, err
}

// Adopt takes a disk image or a medium that no machine names into the inventory.
func (w *Work) Adopt(ctx context.Context, host, ref, who string) (*inventory.LooseDisk, error) {
	pl, _, f, err := w.lookAt(ctx, host, ref)
	if err != nil {
		return nil, err
	}
	if len(f.Disks) != 1 || f.Path == pl.Path {
		return nil, inventory.Wrong("%s is a folder: name one disk image. A machine folder is registered: unvora "+
			"register "+
			"%s --host %s", ref, ref, host)
	}
	fd := f.Disks[0]
	if len(fd.SharedBy) > 0 {
		return nil, inventory.Wrong("%s is a disk of %s: it is in the inventory with that machine.", ref,
			strings.Join(fd.SharedBy, " and "))
	}
	if fd.Problem != "" {
		return nil, inventory.Wrong("%s can't be read: %s.", ref, fd.Problem)
	}
	d := &inventory.LooseDisk{Name: path.Base(fd.Path), Host: pl.Host.Name, HostID: pl.Host.ID, Path: fd.Path,
		Kind: "disk", Format: fd.Format, DiskID: fd.DiskID, VirtualBytes: fd.VirtualBytes, FileBytes: fd.FileBytes,
		AdoptedBy: who}
	if id, err := uuid.Parse(fd.Pool); err == nil {
		d.PoolID = &id
	}
	if g := fd.Guest; g != nil {
		d.System = g.System
		if g.Boot == "medium" {
			d.Kind, d.Format = "media", "iso"
		}
	}
	return d, w.inv.Adopt(ctx, d)
}
