package plan

import (
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
)

// Kinds of clones.
const (
	Whole   = "whole"   // it stands on its own
	Layered = "layered" // it stands on layers that it shares with its origin
)

// CloneFacts is what Clone is worked out from.
type CloneFacts struct {
	RegisterFacts             // of the clones: the folder is the origin's, which stays as it is
	Origin        ChangeFacts // the origin on its own host
}

// CloneRequest is what the caller asks of Clone.
type CloneRequest struct {
	BringRequest        // Name may be a pattern; the identity is renewed in any case
	Kind         string // whole, layered; "" for layered where that can be
	Snapshot     string // of the origin, that they are made of; "" for the origin as it is
	Count        int    // 0 is one
	On           bool   // they are started
}

// MostClones is how many one plan makes at most.
const MostClones = 200

// Clone plans other copies of a machine, each with an identity of its own. Layered clones share what the origin holds
// now, which is frozen for that: origin and clones write to layers of their own above it.
func Clone(facts CloneFacts, req CloneRequest) (*Plan, error) {
	if req.Count == 0 {
		req.Count = 1
	}
	if req.Count < 1 || req.Count > MostClones {
		return nil, fmt.Errorf("%d clones: 1 to %d at once", req.Count, MostClones)
	}
	if req.Kind != "" && req.Kind != Whole && req.Kind != Layered {
		return nil, fmt.Errorf("kind %q: whole or layered", req.Kind)
	}
	if req.Name == "" && req.Count > 1 {
		req.Name = "{name}-{nn}"
	}
	if req.Count > 1 && Pattern(req.Name, "", 1) == Pattern(req.Name, "", 2) {
		return nil, fmt.Errorf("one name for %d clones: put {n} or {nn} into it, such as %s-{nn}", req.Count, req.Name)
	}
	req.Files, req.Identity, req.Answers = Copy, identity.Renew, maps.Clone(req.Answers)
	maps.DeleteFunc(req.Answers, func(key, _ string) bool { return asksIdentity(key) })
	c := &cloning{facts: facts, req: req}
	plans, err := c.head()
	if err != nil {
		return nil, err
	}
	for n := range req.Count {
		p, err := c.one(n + 1)
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	if c.stop {
		o := facts.Origin.Copy
		plans = append(plans, &Plan{Steps: []Step{againStep(o.Host, o.Host+"/"+o.Name,
			Power{Copy: o.ID, Folder: o.Path})}})
	}
	all := Together(plans)
	all.Operation = "clone"
	return all, nil
}

// cloning is a plan of clones in the making.
type cloning struct {
	facts   CloneFacts
	req     CloneRequest
	layered bool
	stop    bool                  // the origin is stopped until all have been copied
	on      map[string]FolderDisk // what the clones' layers are put on, by disk
}

// head decides the kind, and what has to be done once for all clones.
func (c *cloning) head() ([]*Plan, error) {
	b := newBuilder(c.req.Answers, c.req.TakeRecommended)
	o := c.facts.Origin
	name := o.Copy.Host + "/" + o.Copy.Name
	p := &Plan{Operation: "clone", Subjects: []string{name}, Target: c.facts.Host.Name}
	b.tracked(o.Copy)
	b.busy(name, o.Busy)
	if s := c.req.Snapshot; s != "" {
		folder := &c.facts.Folder
		var err error
		if folder.Machine, folder.Disks, err = atSnapshot(folder.Machine, folder.Path, folder.Disks, s); err != nil {
			return nil, err
		}
		folder.State = machine.Stopped // its files take no writes, whatever the machine does
	} else {
		b.notSuspended(o.Copy)
	}
	why := c.whyWhole()
	switch {
	case c.req.Kind == Whole:
	case why == "":
		c.layered = true
	case c.req.Kind == Layered:
		f := fit.Raise("clone.not-layered", name, why, nil)
		b.raise(f, "") // its only remedy is a whole one
	}
	switch {
	case c.layered && c.req.Snapshot != "": // it is frozen already
		c.on = map[string]FolderDisk{}
		for _, fd := range c.facts.Folder.Disks {
			c.on[fd.ID] = fd
		}
	case c.layered:
		if err := b.freezing(c, p); err != nil {
			return nil, err
		}
	case c.req.Snapshot == "":
		if c.stop = b.whileRead(o.Copy, false, "read") == stopped; c.stop { // once, for all clones
			p.Steps = append(p.Steps, stopStep(o.Copy.Host, name, Power{Copy: o.Copy.ID, Folder: o.Copy.Path}))
			c.facts.Folder.State = machine.Stopped
		}
	}
	head, err := b.finish(p)
	return []*Plan{head}, err
}

// whyWhole says why clones can't share layers with their origin; "" when they can.
func (c *cloning) whyWhole() string {
	f := c.facts
	if f.From != nil {
		return fmt.Sprintf("It would be at %s, and its origin's disks are at %s: layers are shared at one host.",
			f.Host.Name, f.From.Name)
	}
	for _, d := range f.Folder.Disks {
		switch on := f.Host.Family.LayerOn(d.Format); {
		case on == "":
			return fmt.Sprintf("Hosts of the family %s can't put a layer on %s, which is %s.", f.Host.Family.Name, d.ID,
				strings.ToUpper(d.Format))
		case !f.Host.Family.Runs(on):
			return fmt.Sprintf("Hosts of the family %s don't run %s.", f.Host.Family.Name, strings.ToUpper(on))
		case d.Layers+1 > f.Host.Family.MaxLayers:
			return fmt.Sprintf("The chain of %s has %d layers; hosts of the family %s take %d.", d.ID, d.Layers,
				f.Host.Family.Name, f.Host.Family.MaxLayers)
		case d.Missing || d.Problem != "" || len(d.Faults) > 0:
			return fmt.Sprintf("%s can't be read as it is.", d.ID)
		}
	}
	return ""
}

// freezing gives the origin layers of its own above what its clones share, unless what it has above that is empty.
func (b *builder) freezing(c *cloning, p *Plan) error {
	o, host := c.facts.Origin, c.facts.Host
	c.on = map[string]FolderDisk{}
	m := o.Machine.Clone()
	m.Disks = nil // those that are to be frozen
	for _, d := range o.Machine.Disks {
		at := slices.IndexFunc(c.facts.Folder.Disks, func(f FolderDisk) bool { return f.ID == d.ID })
		if at < 0 {
			return fmt.Errorf("the host tells nothing of the disk %s", d.ID)
		}
		fd := c.facts.Folder.Disks[at]
		if fd.TopEmpty && len(fd.Chain) > 1 && !o.Copy.State.Active() { // nothing was written since it was frozen
			fd.Path = fd.Chain[1]
		} else {
			m.Disks = append(m.Disks, d)
		}
		c.on[d.ID] = fd
	}
	if len(m.Disks) == 0 {
		return nil
	}
	layers, err := frozen(host, m, c.facts.Folder.Disks, c.facts.Folder.Files)
	if err != nil {
		return err
	}
	subject := o.Copy.Host + "/" + o.Copy.Name
	power := Power{Copy: o.Copy.ID, Folder: o.Copy.Path}
	how := b.whileRead(o.Copy, host.Does(fit.Freezes), "shared")
	freeze := freezeStep(host.Name, subject, power, layers, true)
	if how == stopped {
		p.Steps = append(p.Steps, stopStep(host.Name, subject, power), freeze, againStep(host.Name, subject, power))
		return nil
	}
	p.Steps = append(p.Steps, freeze)
	return nil
}

// one plans the clone with a number.
func (c *cloning) one(n int) (*Plan, error) {
	facts, req := c.facts.RegisterFacts, c.req.BringRequest
	m := facts.Folder.Machine
	if req.Name == "" {
		req.Name = m.Name
		if facts.taken(req.Name) {
			req.Name = freeName(m.Name, facts.taken)
		}
	} else {
		req.Name = Pattern(c.req.Name, m.Name, n)
	}
	req.Number = n
	var p *Plan
	var err error
	if c.layered {
		p, err = c.layer(facts, req)
	} else {
		p, err = Register(facts, req)
	}
	if err != nil {
		return nil, err
	}
	p.Findings = slices.DeleteFunc(p.Findings, func(f fit.Finding) bool { return asksIdentity(f.Code) })
	rec := recordOf(p)
	if rec == nil { // it is blocked
		return p, nil
	}
	c.facts.Names = append(slices.Clone(c.facts.Names), rec.Name)
	if c.req.On {
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: "Start " + facts.Host.Name + "/" + rec.Name,
			Do: &Start{Power: Power{Folder: rec.Path}}})
	}
	return p, nil
}

// asksIdentity tells the question whether an identity is kept: that of a clone never is.
func asksIdentity(code string) bool { return strings.HasPrefix(code, "identity.origin-") }

// recordOf is what a plan records of the copy that it makes.
func recordOf(p *Plan) *Record {
	for _, s := range p.Steps {
		if r, ok := s.Do.(*Record); ok {
			return r
		}
	}
	return nil
}

// layer plans a clone that stands on its origin's frozen layers.
func (c *cloning) layer(facts RegisterFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	p := &Plan{Operation: "clone", Subjects: []string{facts.Where}, Target: facts.Host.Name}
	b.host(facts.Host)
	m := facts.Folder.Machine.Clone()
	m.Snapshots, m.Suspended = nil, false
	m.WithoutSnapshots()
	choice, err := b.identity(facts.Arrival, req, m)
	if err != nil {
		return nil, err
	}
	b.name(facts.Arrival, req, m)
	if err := req.fillFirstStart(m); err != nil {
		return nil, err
	}
	b.hardware(facts.Arrival, req, m)
	dropFirstStart(m)
	for i := range m.Devices { // what is in a drive may be in several
		if d := &m.Devices[i]; d.File != "" && slices.Contains(facts.Folder.Files, d.File) {
			d.File = path.Join(facts.Folder.Path, d.File)
		}
	}
	if err := b.wiring(facts.Arrival, req, m); err != nil {
		return nil, err
	}
	if err := b.firstStart(facts.Arrival, req, m, nil); err != nil {
		return nil, err
	}
	b.who = b.owner(facts.Arrival, req, m)
	if req.Pool == "" {
		for _, q := range facts.Host.Pools {
			if q.ID == facts.Folder.Pool && q.State == PoolReady {
				req.Pool = q.Name // where its origin is
			}
		}
	}
	small := m.Clone()
	for i := range small.Disks {
		small.Disks[i].FileBytes, small.Disks[i].VirtualBytes = 0, 0
	}
	to, err := b.land(facts.Arrival, req, small)
	if err != nil {
		return nil, err
	}
	p.Steps = append(p.Steps, b.switchSteps(facts.Host)...)
	p.Steps = append(p.Steps, b.giveStep(facts.Arrival, m, choice))
	if v := m.Variables; v != "" && slices.Contains(facts.Folder.Files, v) {
		p.Steps = append(p.Steps, variablesStep(facts.Host, nil, facts.Folder.Path, v, to.pool))
	}
	staged := map[string]string{}
	for i := range m.Disks {
		d := &m.Disks[i]
		on := c.on[d.ID]
		d.Format, d.FileBytes = facts.Host.Family.LayerOn(on.Format), 0
		d.File = diskFile(m.Name, d.ID, d.Format)
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: fmt.Sprintf("Put a layer of %s on %s", m.Name,
			filepath.Base(on.Path)), Do: &NewLayer{Parent: on.Path, Pool: to.at(d.ID).Path, File: d.File,
			Format: d.Format, Freeze: true}})
		staged[d.ID] = d.File
		to.point(d, m.Name)
	}
	p.Steps = append(p.Steps, b.placing(facts.Arrival, to, staged, m, facts.Folder.Descriptor, 0, asText(choice))...)
	return b.finish(p)
}
