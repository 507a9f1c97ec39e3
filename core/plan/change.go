package plan

import (
	"fmt"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// ChangeFacts is what Change is worked out from.
type ChangeFacts struct {
	Arrival // Origin is not looked at: the copy is there already
	Copy    lineage.Known
	Machine *machine.Machine
	Busy    string
	Attach  *FolderDisk // the disk to be attached
	Folder  Folder      // of the copy, for what depends on its disks; empty unless asked for
}

// ChangeRequest is what the caller asks of Change. What is empty stays as it is.
type ChangeRequest struct {
	Operation       string // change, renew, attach, detach
	Name            string
	Folder          bool // it gets the new name too
	CPUs            int
	MemoryBytes     int64
	Guest           string
	Boot            []string
	Add, Drop       []string // devices: KIND or KIND=FILE; names
	AddNICs         []string // switches, "" for one that is unplugged
	DropNICs        []string
	Wire            map[string]string // NIC → switch
	Unplug          []string          // NICs
	Addresses       map[string]string // NIC → "give" or an address
	Media           map[string]string // drive → file relative to the machine folder; "" to take it out
	StartOrder      *int              // its turn when its host starts; 0: it does not start with it
	StartPause      int               // seconds until the next one's turn
	StandAlone      bool              // its disks no longer share layers with others
	FirstStartDone  bool              // its guest has read what it was to be told at its first start
	Renew           []identity.Facet
	Replace         string // disk in whose place the attached one comes
	Detach          string // disk
	Answers         Answers
	TakeRecommended bool
}

// Change plans to make a registered copy different where it is.
func Change(facts ChangeFacts, req ChangeRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	b.of = facts.Of
	subject := facts.Copy.Host + "/" + facts.Copy.Name
	p := &Plan{Operation: req.Operation, Subjects: []string{subject}, Target: facts.Host.Name}
	b.reach(facts.Host)
	b.tracked(facts.Copy)
	b.busy(subject, facts.Busy)
	b.notSuspended(facts.Copy)
	if facts.Copy.State == machine.Away {
		b.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now.", nil), "")
	}
	m := facts.Machine.Clone()
	before := facts.Machine
	b.before, b.stays = before, true
	if err := b.reshape(facts, req, m); err != nil {
		return nil, err
	}
	var steps []Step
	renewIDs := []string{}
	if facts.Attach != nil {
		more, err := b.attach(facts, req, m)
		if err != nil {
			return nil, err
		}
		steps = append(steps, more...)
	}
	if req.Detach != "" {
		if err := b.detach(facts, req.Detach, m); err != nil {
			return nil, err
		}
	}
	var freed []Step
	if req.StandAlone {
		var more []Step
		if more, freed = b.standAlone(facts, m); len(more) == 0 {
			return nil, fmt.Errorf("the disks of %s stand on their own already", subject)
		}
		steps = append(steps, more...)
	}
	if req.FirstStartDone {
		more, err := b.endFirstStart(facts, m)
		if err != nil {
			return nil, err
		}
		freed = append(freed, more...)
	}
	if req.CPUs > 0 || req.MemoryBytes > 0 || len(req.Add) > 0 || facts.Attach != nil || len(req.AddNICs) > 0 {
		b.judgeNew(facts.Host, before, m)
	}
	choice := identity.Choice{}
	for _, f := range identity.Facets {
		choice[f] = identity.Keep
	}
	for _, f := range req.Renew {
		choice[f] = identity.Renew
	}
	if len(req.Renew) > 0 {
		b.bound(facts.Arrival, BringRequest{}, m, choice)
		if choice[identity.DiskID] == identity.Renew {
			for _, d := range m.Disks {
				renewIDs = append(renewIDs, filepath.Join(facts.Copy.Path, d.File))
			}
		}
	}
	live := facts.Copy.State == machine.Running && changesLive(facts.Host, req, before, m)
	stop := false
	switch {
	case live:
		b.raise(fit.Raise("state.live", subject, "It runs, and goes on running: this takes effect at once.", nil), "")
	case facts.Copy.State.Active():
		stop = b.running(subject, "It runs, and this takes effect only while it is stopped.", "") == stopped
	}
	power := Power{Copy: facts.Copy.ID, Folder: facts.Copy.Path}
	if stop {
		p.Steps = append(p.Steps, stopStep(facts.Host.Name, subject, power))
	}
	p.Steps = append(p.Steps, steps...)
	folder := facts.Copy.Path
	do := &Alter{Folder: folder, Name: m.Name, RenewIDs: renewIDs, List: true, Live: live}
	if req.Folder && m.Name != path.Base(folder) {
		do.Rename = m.Name
		folder = path.Join(path.Dir(folder), m.Name)
		power.Folder = folder
	}
	if err := b.addresses(facts.Arrival, BringRequest{Addresses: req.Addresses}, m); err != nil {
		return nil, err
	}
	if len(req.Addresses) > 0 {
		if err := b.static(facts.Arrival, m); err != nil {
			return nil, err
		}
	}
	choices := asText(choice)
	p.Steps = append(p.Steps, b.giveStep(facts.Arrival, m, choice))
	if live {
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, Do: &Adapt{Power: power},
			What: "Change the devices of " + subject + " while it runs"})
	}
	p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: "Write the descriptor of " + subject + " anew", Do: do})
	if stop {
		p.Steps = append(p.Steps, againStep(facts.Host.Name, subject, power))
	}
	p.Steps = append(p.Steps, Step{What: "Note the change in the inventory",
		Do: &Record{Form: lineage.Registered, Name: m.Name, Lineage: facts.Lineage, Parent: facts.Parent,
			Host: facts.Host.ID,
			Pool: facts.Copy.Pool, Path: folder, Choice: choices, Machine: m, Copy: facts.Copy.ID, Change: true}})
	p.Steps = append(p.Steps, freed...)
	p.Back = backFromChange(facts, req, m)
	return b.finish(p)
}

// standAlone makes whole disks of those that are layers, and puts away the layers that nobody needs then.
func (b *builder) standAlone(facts ChangeFacts, m *machine.Machine) (steps, freed []Step) {
	here := PoolFacts{}
	for _, q := range facts.Host.Pools {
		if q.ID == facts.Copy.Pool {
			here = q
		}
	}
	for i := range m.Disks {
		d := &m.Disks[i]
		at := slices.IndexFunc(facts.Folder.Disks, func(f FolderDisk) bool { return f.ID == d.ID })
		if at < 0 || facts.Folder.Disks[at].Layers < 2 {
			continue
		}
		fd := facts.Folder.Disks[at]
		b.unreadable(fd)
		file := nextLayer(m.Name, d.ID, fd.Format, facts.Folder.Files)
		x := &handling{disk: d, facts: fd, carry: true}
		step := x.carryStep(facts.Arrival, nil, facts.Copy.Path, here, facts.Copy.Path, m.Name, fd.Format)
		step.What = fmt.Sprintf("Make one disk of %s and the %s below it", path.Base(fd.Path),
			count(fd.Layers-1, "layer"))
		step.Do.(*Carry).File, d.File = file, file
		steps = append(steps, step)
		if len(fd.LayersOf) == 0 && strings.HasPrefix(fd.Path, facts.Copy.Path+"/") {
			freed = append(freed, Step{Host: facts.Host.Name, What: fmt.Sprintf("Put %s into the trash of its pool",
				path.Base(fd.Path)), Do: &TakeAway{Folder: fd.Path}})
		}
	}
	return steps, freed
}

// changesLive tells whether all that is different can be changed while the machine runs.
func changesLive(h HostFacts, req ChangeRequest, before, after *machine.Machine) bool {
	if !h.Does(fit.ChangesLive) || len(req.Renew) > 0 || req.Folder {
		return false
	}
	if !reflect.DeepEqual(fixedPart(before), fixedPart(after)) {
		return false
	}
	for _, pair := range [][2]*machine.Machine{{before, after}, {after, before}} {
		for _, d := range pair[0].Disks {
			stays := slices.ContainsFunc(pair[1].Disks,
				func(o machine.Disk) bool { return o.ID == d.ID && o.File == d.File })
			if !stays && !slices.Contains(h.Family.Live, strings.ToLower(d.Controller)) {
				return false
			}
		}
	}
	return true
}

// fixedPart is what of a machine can't be changed while it runs.
func fixedPart(m *machine.Machine) *machine.Machine {
	m = m.Clone()
	m.Disks, m.NICs, m.Boot, m.StartOrder, m.StartPause = nil, nil, nil, 0, 0
	for i := range m.Devices {
		if m.Devices[i].Kind == machine.DeviceCD {
			m.Devices[i].File = "" // its medium
		}
	}
	return m
}

// tracked raises that a copy is to be left alone.
func (b *builder) tracked(k lineage.Known) {
	if k.Untracked {
		b.raise(fit.Raise("copy.untracked", place(k), fmt.Sprintf("%s is not looked after here. If it is to be: "+
			"unvora "+
			"track %s", place(k), k.Host+"/"+k.Name), nil), "")
	}
}

// reshape applies what was asked for by name and number.
func (b *builder) reshape(facts ChangeFacts, req ChangeRequest, m *machine.Machine) error {
	if req.Name != "" && req.Name != m.Name {
		b.name(facts.Arrival, BringRequest{Name: req.Name}, m)
	}
	if req.CPUs > 0 {
		m.CPUs = req.CPUs
	}
	if req.MemoryBytes > 0 {
		m.MemoryBytes = req.MemoryBytes
	}
	if req.Guest != "" {
		m.Guest, m.GuestID = req.Guest, fit.OSType(req.Guest)
	}
	if req.StartOrder != nil {
		if *req.StartOrder < 0 || req.StartPause < 0 || *req.StartOrder > 0 && !facts.Host.Does(fit.Lasts) {
			return fmt.Errorf("its turn when the host starts: a number from 1, on a host whose machines go on " +
				"without the agent; 0 for none")
		}
		m.StartOrder, m.StartPause = *req.StartOrder, req.StartPause
	}
	for _, name := range req.Drop {
		n := len(m.Devices)
		if m.Devices = slices.DeleteFunc(m.Devices,
			func(d machine.Device) bool { return d.Name == name }); len(m.Devices) == n {
			return fmt.Errorf("the machine has no device %q; it has %s", name, quoted(deviceNames(m)))
		}
	}
	for name, file := range req.Media {
		at := slices.IndexFunc(m.Devices, func(d machine.Device) bool {
			return d.Name == name && d.Kind == machine.DeviceCD
		})
		if at < 0 {
			return fmt.Errorf("the machine has no drive %q; it has %s", name, quoted(driveNames(m)))
		}
		m.Devices[at].File = file
	}
	for _, text := range req.Add {
		kind, file, _ := strings.Cut(text, "=")
		if _, known := facts.Host.Family.MaxOf[kind]; !known || kind == "nic" || kind == "disk" {
			kinds := []string{}
			for k := range facts.Host.Family.MaxOf {
				if k != "nic" && k != "disk" {
					kinds = append(kinds, k)
				}
			}
			slices.Sort(kinds)
			return fmt.Errorf("there is no kind of device %q; there are %s", kind, strings.Join(kinds, ", "))
		}
		m.Devices = append(m.Devices, machine.Device{Kind: kind, Name: freeNumber(kind, deviceNames(m)), File: file})
	}
	for _, name := range req.DropNICs {
		if !hasNIC(m, name) {
			return fmt.Errorf("the machine has no NIC %q; it has %s", name, nicNames(m))
		}
		m.NICs = slices.DeleteFunc(m.NICs, func(n machine.NIC) bool { return n.Name == name })
	}
	wire := map[string]string{}
	for nic, to := range req.Wire {
		wire[nic] = to
	}
	for _, to := range req.AddNICs {
		names := []string{}
		for _, n := range m.NICs {
			names = append(names, n.Name)
		}
		n := machine.NIC{Name: freeNumber("NIC", names), Model: facts.Host.Family.NICs[0]}
		m.NICs = append(m.NICs, n)
		if to != "" {
			wire[n.Name] = to
		}
	}
	for _, name := range req.Unplug {
		if !hasNIC(m, name) {
			return fmt.Errorf("the machine has no NIC %q; it has %s", name, nicNames(m))
		}
		for i := range m.NICs {
			if m.NICs[i].Name == name {
				m.NICs[i].Network, m.NICs[i].Segment, m.NICs[i].VLAN = "", "", 0
			}
		}
	}
	for nic, to := range wire {
		if !hasNIC(m, nic) {
			return fmt.Errorf("the machine has no NIC %q; it has %s", nic, nicNames(m))
		}
		for i := range m.NICs {
			if m.NICs[i].Name != nic {
				continue
			}
			if err := plug(&m.NICs[i], to, facts.Host); err != nil {
				return err
			}
		}
	}
	for _, name := range req.Boot {
		known := slices.ContainsFunc(m.Disks, func(d machine.Disk) bool { return d.ID == name }) || hasNIC(m, name) ||
			slices.Contains(deviceNames(m), name)
		if !known {
			return fmt.Errorf("nothing of the machine is called %q that it could start from", name)
		}
	}
	if len(req.Boot) > 0 {
		m.Boot = req.Boot
	}
	return nil
}

func deviceNames(m *machine.Machine) (names []string) {
	for _, d := range m.Devices {
		names = append(names, d.Name)
	}
	return names
}

func driveNames(m *machine.Machine) (names []string) {
	for _, d := range m.Devices {
		if d.Kind == machine.DeviceCD {
			names = append(names, d.Name)
		}
	}
	return names
}

// listed names several things in a sentence: "a", "a and b", "a, b and c".
func listed(names []string) string {
	last := len(names) - 1
	if last < 1 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:last], ", ") + " and " + names[last]
}

func quoted(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = strconv.Quote(n)
	}
	return strings.Join(out, ", ")
}

// freeNumber appends the first number that nothing bears.
func freeNumber(stem string, taken []string) string {
	for n := 1; ; n++ {
		if name := fmt.Sprintf("%s %d", stem, n); !slices.Contains(taken, name) {
			return name
		}
	}
}

// judgeNew raises only what the machine as it was did not have already.
func (b *builder) judgeNew(h HostFacts, before, m *machine.Machine) {
	old := map[string]bool{}
	for _, f := range fit.Judge(before, h.fit(), nil) {
		old[f.Code+"/"+f.Subject] = true
	}
	for _, r := range fit.Rules {
		for _, f := range r.Look(m, h.fit(), nil) {
			if old[f.Code+"/"+f.Subject] && f.Code != "cpu.too-many" && f.Code != "memory.too-much" ||
				f.Code == "device.needless" {
				continue
			}
			if f = b.raise(f, ""); r.Settle != nil && f.Remedy() != "" {
				if err := r.Settle(m, f); err != nil && b.err == nil {
					b.err = err
				}
			}
		}
	}
}

// attach plans a disk into the machine, in place of another or in addition.
func (b *builder) attach(facts ChangeFacts, req ChangeRequest, m *machine.Machine) ([]Step, error) {
	d := machine.Disk{Controller: facts.Host.Family.Controllers[0]}
	at := len(m.Disks)
	if req.Replace != "" {
		at = slices.IndexFunc(m.Disks, func(d machine.Disk) bool { return d.ID == req.Replace })
		if at < 0 {
			return nil, fmt.Errorf("the machine has no disk %q; it has %s", req.Replace, diskNames(m))
		}
		old := m.Disks[at]
		d.ID, d.Controller, d.Slot = old.ID, old.Controller, old.Slot
		b.depended(facts, old.ID)
		m.Disks = slices.Delete(m.Disks, at, at+1)
	} else {
		for n := 1; d.ID == ""; n++ {
			if id := fmt.Sprintf("disk%d", n); !slices.ContainsFunc(m.Disks,
				func(d machine.Disk) bool { return d.ID == id }) {
				d.ID = id
			}
		}
		for _, o := range m.Disks {
			d.Slot = max(d.Slot, o.Slot+1)
			d.Controller = o.Controller
		}
	}
	fd := *facts.Attach
	fd.ID = d.ID
	rel, err := filepath.Rel(facts.Copy.Path, fd.Path)
	if err != nil {
		return nil, err
	}
	d.File, d.VirtualBytes, d.FileBytes = rel, fd.VirtualBytes, fd.FileBytes
	x := &handling{disk: &d, facts: fd}
	b.disk(x, facts.Host, true)
	if x.out {
		return nil, nil
	}
	steps := prepare([]*handling{x}, facts.Host)
	here := PoolFacts{}
	for _, q := range facts.Host.Pools {
		if q.ID == facts.Copy.Pool {
			here = q
		}
	}
	switch {
	case x.carry:
		format := facts.Host.Family.Formats[0]
		if facts.Host.Family.Runs(fd.Format) {
			format = fd.Format
		}
		steps = append(steps, x.carryStep(facts.Arrival, nil, facts.Copy.Path, here, facts.Copy.Path, m.Name, format))
	case x.onTop:
		d.File = diskFile(m.Name, d.ID+"-layer", fd.Format)
		steps = append(steps, Step{Host: facts.Host.Name, What: fmt.Sprintf("Put a new layer on %s",
			path.Base(fd.Path)),
			Do: &NewLayer{Parent: fd.Path, Path: path.Join(facts.Copy.Path, d.File), Format: fd.Format}})
	}
	m.Disks = slices.Insert(m.Disks, at, d)
	return steps, nil
}

// depended names who else needs a disk that is taken from the machine. Nothing
// of it is deleted, so that this is good to know and no more.
func (b *builder) depended(facts ChangeFacts, disk string) {
	for _, fd := range facts.Folder.Disks {
		if fd.ID != disk {
			continue
		}
		if who := append(slices.Clone(fd.SharedBy), fd.LayersOf...); len(who) > 0 {
			b.raise(fit.Raise("disk.depended-on", disk, fmt.Sprintf("%s %s on %s, which stays where it is.",
				listed(who), verb(len(who), "depends", "depend"), fd.Path), map[string]any{"who": who}), "")
		}
	}
}

func (b *builder) detach(facts ChangeFacts, disk string, m *machine.Machine) error {
	at := slices.IndexFunc(m.Disks, func(d machine.Disk) bool {
		return d.ID == disk || d.File == disk || path.Base(d.File) == path.Base(disk)
	})
	if at < 0 {
		return fmt.Errorf("the machine has no disk %q; it has %s", disk, diskNames(m))
	}
	b.depended(facts, m.Disks[at].ID)
	m.Boot = slices.DeleteFunc(m.Boot, func(s string) bool { return s == m.Disks[at].ID })
	m.Disks = slices.Delete(m.Disks, at, at+1)
	if len(m.Disks) == 0 {
		b.raise(fit.Raise("disk.nothing-bootable", m.Name, "No disk is left to start from.", nil), "")
	}
	return nil
}

func diskNames(m *machine.Machine) string {
	names := []string{}
	for _, d := range m.Disks {
		names = append(names, d.ID)
	}
	return quoted(names)
}
