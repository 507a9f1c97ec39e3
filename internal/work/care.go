package work

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/inventory"
)

// registered finds the copies that a change is about: exactly one.
func (w *Work) registered(ctx context.Context, req *Request, forms ...string) (*inventory.Copy, *inventory.Host, plan.HostFacts, string, error) {
	var facts plan.HostFacts
	if len(req.Copies) != 1 {
		return nil, nil, facts, "", wrong("Name one copy.")
	}
	c, err := w.inv.Copy(ctx, req.Copies[0], forms...)
	if err != nil {
		return nil, nil, facts, "", err
	}
	h, err := w.hostOf(ctx, c)
	if err != nil {
		return nil, nil, facts, "", err
	}
	if facts, err = w.hostFacts(ctx, h); err != nil {
		return nil, nil, facts, "", err
	}
	busy, err := inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(c.ID.String()))
	return c, h, facts, busy, err
}

// hostOf is the host of ours that has a copy.
func (w *Work) hostOf(ctx context.Context, c *inventory.Copy) (*inventory.Host, error) {
	h, err := w.inv.Host(ctx, c.HostID.String())
	if err == nil && h.ManagerID != nil {
		return nil, wrong("%s is at the manager %s, which looks after it. Import it first: unvora import --from %s %s --host HOST", c.Name, h.Manager, h.Manager, c.Name)
	}
	return h, err
}

func (w *Work) drawChange(ctx context.Context, req *Request) (*drawn, error) {
	if req.Change == nil {
		req.Change = &Change{}
	}
	c, h, host, busy, err := w.registered(ctx, req, "registered")
	if err != nil {
		return nil, err
	}
	facts := plan.ChangeFacts{Copy: c.Known(), Machine: c.Machine, Busy: busy}
	facts.Host, facts.Lineage, facts.Wanted = host, c.LineageID.String(), req.wanted()
	if c.Parent != nil {
		facts.Parent = c.Parent.String()
	}
	arrival := facts.Arrival
	if err := w.arrive(ctx, &arrival, h, c.Machine, c.ID.String()); err != nil {
		return nil, err
	}
	arrival.Lineage, arrival.Parent = facts.Lineage, facts.Parent
	facts.Arrival = arrival
	var failed *error
	poolID := uuid.Nil
	if c.PoolID != nil {
		poolID = *c.PoolID
	}
	facts.Taken, failed = w.taken(ctx, h, poolID)
	ch := req.Change
	if ch.Attach != "" || ch.Detach != "" {
		folder, err := w.look(ctx, &place{host: h, path: c.Path}, c.Ref())
		if err != nil {
			return nil, err
		}
		facts.Folder = *folder
	}
	if ch.Attach != "" {
		pl, err := w.find(ctx, ch.Attach, h, host)
		if err != nil {
			return nil, err
		}
		disk, err := w.look(ctx, pl, ch.Attach)
		if err != nil {
			return nil, err
		}
		if len(disk.Disks) != 1 || disk.Path == pl.path {
			return nil, wrong("%s is a folder: name the disk image in it.", ch.Attach)
		}
		if pl.host.ID != h.ID {
			return nil, wrong("%s lies at %s: only what %s sees can be attached there.", ch.Attach, pl.host.Name, h.Name)
		}
		facts.Attach = &disk.Disks[0]
	}
	renew := make([]identity.Facet, len(ch.Renew))
	for i, f := range ch.Renew {
		if renew[i] = identity.Facet(f); renew[i].Words() == "" {
			return nil, wrong("There is no facet %q; there are %v.", f, identity.Facets)
		}
	}
	p, err := plan.Change(facts, plan.ChangeRequest{Operation: req.Operation, Name: req.Name, Folder: ch.Folder, CPUs: req.CPUs, MemoryBytes: req.MemoryBytes, Guest: ch.Guest, Boot: ch.Boot,
		Add: ch.Add, Drop: ch.Drop, AddNICs: ch.AddNICs, DropNICs: ch.DropNICs, Wire: req.Wire, Unplug: ch.Unplug, Addresses: req.Addresses, Renew: renew, Replace: ch.Replace, Detach: ch.Detach,
		Answers: req.Answers, TakeRecommended: req.TakeRecommended})
	if err != nil {
		return nil, wrong("%v", err)
	}
	d := &drawn{Plan: p, hosts: map[string]uuid.UUID{h.Name: h.ID}, holds: []string{inventory.CopyKey(c.ID.String())}}
	return d, *failed
}

func (w *Work) drawDelist(ctx context.Context, req *Request) (*drawn, error) {
	c, h, host, busy, err := w.registered(ctx, req, "registered", "hollow", "stray")
	if err != nil {
		return nil, err
	}
	facts := plan.DelistFacts{Copy: c.Known(), Machine: c.Machine, Host: host, Busy: busy}
	if facts.Last, err = w.inv.LastCopy(ctx, c); err != nil {
		return nil, err
	}
	p, err := plan.Delist(facts, req.Change != nil && req.Change.Trash, req.Answers, req.TakeRecommended)
	if err != nil {
		return nil, wrong("%v", err)
	}
	return &drawn{Plan: p, hosts: map[string]uuid.UUID{h.Name: h.ID}, holds: []string{inventory.CopyKey(c.ID.String())}}, nil
}

// drawPutRight plans to put a copy's disks right.
func (w *Work) drawPutRight(ctx context.Context, req *Request) (*drawn, error) {
	c, h, host, busy, err := w.registered(ctx, req, "registered")
	if err != nil {
		return nil, err
	}
	facts := plan.ChangeFacts{Copy: c.Known(), Machine: c.Machine, Busy: busy}
	facts.Host = host
	folder, err := w.look(ctx, &place{host: h, path: c.Path}, c.Ref())
	if err != nil {
		return nil, err
	}
	facts.Folder = *folder
	p, err := plan.PutRight(facts, req.Answers, req.TakeRecommended)
	if err != nil {
		return nil, wrong("%v", err)
	}
	return &drawn{Plan: p, hosts: map[string]uuid.UUID{h.Name: h.ID}, holds: []string{inventory.CopyKey(c.ID.String())}}, nil
}

// drawSwitch plans a switch to be made or dropped.
func (w *Work) drawSwitch(ctx context.Context, req *Request) (*drawn, error) {
	if req.Host == "" || req.Switch == nil || req.Switch.Name == "" {
		return nil, wrong("Name the host and the switch.")
	}
	h, err := w.inv.Host(ctx, req.Host)
	if err != nil {
		return nil, err
	}
	facts := plan.SwitchFacts{}
	if facts.Host, err = w.hostFacts(ctx, h); err != nil {
		return nil, err
	}
	var p *plan.Plan
	if req.Operation == "switch-add" {
		p, err = plan.MakeASwitch(facts, *req.Switch, req.Answers, req.TakeRecommended)
	} else {
		users, e := w.inv.OnSwitch(ctx, h.ID, req.Switch.Name)
		if e != nil {
			return nil, e
		}
		for _, c := range users {
			facts.Users = append(facts.Users, c.Name)
		}
		p, err = plan.DropASwitch(facts, req.Switch.Name, req.Answers, req.TakeRecommended)
	}
	if err != nil {
		return nil, wrong("%v", err)
	}
	return &drawn{Plan: p, hosts: map[string]uuid.UUID{h.Name: h.ID}, holds: []string{"switches:" + h.ID.String()}}, nil
}

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
		return &inventory.Error{Code: "taken", Message: fmt.Sprintf("%s run from the pool %s. Stop them first: unvora power off %s", strings.Join(names, ", "), p.Name, strings.Join(names, " ")), Likely: names}
	}
	if p.State != "away" {
		h, err := w.inv.Host(ctx, p.Host)
		if err != nil {
			return err
		}
		if err := w.agent(h).Settle(ctx, p.ID.String()); err != nil {
			return w.unreachable(h, err)
		}
	}
	return w.inv.RestPool(ctx, p, true, who)
}

// Label gives a pool labels, which its mark bears to every host that sees it.
func (w *Work) Label(ctx context.Context, p *inventory.Pool, labels []string, who string) error {
	for _, l := range labels {
		if machine.CheckName(l) != nil || strings.ContainsAny(l, " ,=") {
			return wrong("%q can't be a label: letters, digits, - and _ only.", l)
		}
	}
	h, err := w.inv.Host(ctx, p.Host)
	if err != nil {
		return err
	}
	if err := w.agent(h).Label(ctx, p.ID.String(), labels); err != nil {
		return w.unreachable(h, err)
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
	facts, err := w.hostFacts(ctx, h)
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

func (w *Work) lookAt(ctx context.Context, host, ref string) (*place, plan.HostFacts, *plan.Folder, error) {
	var facts plan.HostFacts
	h, err := w.inv.Host(ctx, host)
	if err != nil {
		return nil, facts, nil, err
	}
	if facts, err = w.hostFacts(ctx, h); err != nil {
		return nil, facts, nil, err
	}
	pl, err := w.find(ctx, ref, h, facts)
	if err != nil {
		return nil, facts, nil, err
	}
	f, err := w.look(ctx, pl, ref)
	return pl, facts, f, err
}

// Adopt takes a disk image or a medium that no machine names into the inventory.
func (w *Work) Adopt(ctx context.Context, host, ref, who string) (*inventory.LooseDisk, error) {
	pl, _, f, err := w.lookAt(ctx, host, ref)
	if err != nil {
		return nil, err
	}
	if len(f.Disks) != 1 || f.Path == pl.path {
		return nil, wrong("%s is a folder: name one disk image. A machine folder is registered: unvora register %s --host %s", ref, ref, host)
	}
	fd := f.Disks[0]
	if len(fd.SharedBy) > 0 {
		return nil, wrong("%s is a disk of %s: it is in the inventory with that machine.", ref, strings.Join(fd.SharedBy, " and "))
	}
	if fd.Problem != "" {
		return nil, wrong("%s can't be read: %s.", ref, fd.Problem)
	}
	d := &inventory.LooseDisk{Name: path.Base(fd.Path), Host: pl.host.Name, HostID: pl.host.ID, Path: fd.Path, Kind: "disk", Format: fd.Format, DiskID: fd.DiskID, VirtualBytes: fd.VirtualBytes, FileBytes: fd.FileBytes, AdoptedBy: who}
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
