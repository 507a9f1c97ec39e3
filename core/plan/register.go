package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// What becomes of the files.
const (
	Stay = "stay"
	Copy = "copy"
	Move = "move"
)

// Register plans the making of a registered copy from a machine folder. Its
// files stay, are copied or are moved; its identity is kept or renewed; the two
// are independent of each other.
func Register(facts RegisterFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	p := &Plan{Operation: "register", Subjects: []string{facts.Where}, Target: facts.Host.Name}
	b.host(facts.Host)
	if facts.From != nil && facts.From.State == HostUnreachable {
		b.reach(*facts.From)
	}
	b.of = facts.Of
	b.busy(facts.Where, facts.Busy)
	if facts.Folder.Registered && facts.From == nil {
		b.raise(fit.Raise("copy.already-here", facts.Where, fmt.Sprintf("%s lists this very folder already.",
			facts.Host.Name), nil), "")
	}
	files, err := b.files(facts, req)
	if err != nil {
		return nil, err
	}
	m, descriptor := b.described(facts)
	if m == nil || len(b.blocked()) > 0 && facts.Folder.Registered {
		return b.finish(p)
	}
	if m.Suspended {
		if f := b.raise(fit.Raise("state.suspended", m.Name, fmt.Sprintf("A suspended state lies beside its disks, "+
			"which "+
			"%s can't resume.", facts.Host.Name), nil), ""); f.Remedy() == "drop" {
			m.Suspended = false
		}
	}
	if len(m.Snapshots) > 0 && !facts.Host.Family.KeepsSnapshots {
		f := fit.Raise("snapshot.unportable", m.Name, fmt.Sprintf("It has %d snapshots, which hosts of the family %s "+
			"can't "+
			"take over: %s.", len(m.Snapshots), facts.Host.Family.Name, strings.Join(m.Snapshots, ", ")), nil)
		f.Suggest("merge", "Merge them to the present state", m.Snapshots[len(m.Snapshots)-1])
		if f = b.raise(f, ""); f.Remedy() == "merge" {
			m.Snapshots, files = nil, Copy
		}
	}
	if len(m.Tree) > 0 && files == Move {
		last := m.Tree[len(m.Tree)-1].Name
		f := fit.Raise("snapshot.unportable", m.Name, fmt.Sprintf("It goes along as it is now. What it "+
			"could go back to (%s, the last is %s) stays in the trash of its pool.", count(len(m.Tree), "snapshot"),
			last), nil)
		f.Suggest("merge", "Take it along as it is now", last)
		b.raise(f, "")
	}
	if n := facts.Newer; n != nil {
		b.raise(fit.Raise("copy.newer-elsewhere", m.Name, fmt.Sprintf("%s, of the same lineage, has run since this "+
			"one was "+
			"made: what it wrote is not here.", place(*n)), map[string]any{"copy": n.ID}), "")
	}
	choice, err := b.identity(facts.Arrival, req, m)
	if err != nil {
		return nil, err
	}
	b.name(facts.Arrival, req, m)
	if err := req.fillFirstStart(m); err != nil {
		return nil, err
	}
	stop := false
	var layers []FrozenDisk // that a machine which is followed writes to while its disks are copied
	if facts.Manager != nil {
		p.Operation = "import"
		stop = b.managed(facts, m)
	} else if facts.Folder.State.Active() {
		facts.Folder.Disks = closed(facts.Folder.Disks)
		stop, layers = b.leaves(facts, req)
	}
	if e := facts.Elsewhere; e != nil && e.Sees && e.State.Active() {
		facts.Folder.Disks = closed(facts.Folder.Disks)
	}
	handled := b.disks(m, facts.Folder, facts.Host, files == Stay)
	b.hardware(facts.Arrival, req, m)
	b.media(m, func(file string) bool { return facts.From == nil && slices.Contains(facts.Folder.Files, file) })
	if err := b.wiring(facts.Arrival, req, m); err != nil {
		return nil, err
	}
	if files != Stay {
		if err := b.firstStart(facts.Arrival, req, m, nil); err != nil {
			return nil, err
		}
	}
	at := facts.Host
	if facts.From != nil {
		at = *facts.From // images are put right where they lie
	}
	power := Power{Copy: cmp.Or(facts.Copy, facts.Parent), Folder: facts.Folder.Path}
	switch {
	case layers != nil:
		p.Steps = append(p.Steps, freezeStep(at.Name, facts.Where, power, layers, false))
	case stop && !facts.peer():
		p.Steps = append(p.Steps, stopStep(at.Name, facts.Where, power))
	}
	again := againStep(at.Name, facts.Where, power)
	if facts.Manager != nil {
		p.Steps = append(p.Steps, takeImages(facts, handled, stop, files == Move))
		if stop && !facts.peer() { // what is read from now on is the images
			p.Steps = append(p.Steps, again)
		}
		stop = false
	}
	p.Steps = append(p.Steps, b.elsewhere(facts, files)...)
	p.Steps = append(p.Steps, prepare(handled, at)...)
	if h := facts.Hollow; h != nil {
		f := b.raise(fit.Raise("copy.hollow-here", m.Name, fmt.Sprintf("%s lists an entry of the same machine whose "+
			"files "+
			"are gone: %s.", facts.Host.Name, h.Path), map[string]any{"copy": h.ID}), "")
		if f.Remedy() == "replace" {
			p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: "Take the hollow entry off the list",
				Do: &Unlist{Folder: h.Path}},
				Step{What: "Note that the hollow entry is gone", Do: &Forget{Copy: h.ID}})
		}
	}
	choices := asText(choice)
	b.who = b.owner(facts.Arrival, req, m)
	p.Steps = append(p.Steps, b.switchSteps(facts.Host)...)
	give := b.giveStep(facts.Arrival, m, choice)
	if files == Stay {
		b.inPlace(facts, req, p, m, descriptor, handled, give, choice)
		return b.finish(p)
	}
	m.WithoutSnapshots()
	to, err := b.land(facts.Arrival, req, m)
	if err != nil {
		return nil, err
	}
	p.Steps = append(p.Steps, give)
	var beside []string
	staged := map[string]string{}
	for _, x := range handled {
		format, asked, err := to.formatOf(x.disk.ID, facts.Host.Family)
		if err != nil {
			return nil, err
		}
		if !asked && facts.Host.Family.Runs(x.facts.Format) {
			format = x.facts.Format
		}
		if path.Dir(x.facts.Path) != facts.Folder.Path {
			beside = append(beside, x.facts.Path)
		}
		b.idKept(x, choice, format)
		step := x.carryStep(facts.Arrival, facts.From, facts.Folder.Path, to.at(x.disk.ID), "", m.Name, format)
		if facts.Manager != nil {
			if v := facts.Via; v != nil {
				step.Do.(*Carry).Via = v.ID
				step.What += ", by way of " + v.Name
			} else if a, ok := facts.Manager.Ahead[x.disk.ID]; ok {
				step.Do.(*Carry).Ahead, step.Bytes = a.Path, 0 // how much has changed, nobody knows yet
			}
		}
		p.Steps = append(p.Steps, step)
		staged[x.disk.ID] = x.disk.File
		to.point(x.disk, m.Name)
	}
	if layers != nil {
		p.Steps = append(p.Steps, cutOver(p.Steps, facts, req, at, power, layers)...)
	}
	if v := m.Variables; v != "" && slices.Contains(facts.Folder.Files, v) {
		p.Steps = append(p.Steps, variablesStep(facts.Host, facts.From, facts.Folder.Path, v, to.pool))
	}
	var media []Beside
	for i := range m.Devices {
		d := &m.Devices[i]
		if d.File == "" || holdsFirstStart(*d) || facts.From != nil || !slices.Contains(facts.Folder.Files, d.File) {
			continue
		}
		pool := b.mediaPool(facts.Arrival, req, to, d.File)
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: fmt.Sprintf("Copy %s into the pool %s", d.File,
			pool.Name),
			Do: &Carry{Source: path.Join(facts.Folder.Path, d.File), Folder: facts.Folder.Path, Pool: pool.Path,
				File: d.File}})
		if pool.ID != to.pool.ID {
			media = append(media, Beside{Pool: pool.Path, Dir: path.Base(aside(pool, m.Name)), File: d.File})
			d.File = besideOf(to.pool, pool, m.Name, d.File)
		}
	}
	ends := b.placing(facts.Arrival, to, staged, m, descriptor, 0, choices)
	put := ends[0].Do.(*Place) // all of it, before anything is put before it
	put.Besides = append(put.Besides, media...)
	if files == Move {
		b.stoodOn(facts.Where, facts.Folder.StoodOn, "Make")
	}
	if files == Move && facts.Manager == nil {
		ends = slices.Insert(ends, 1, Step{Host: at.Name, What: fmt.Sprintf("Put %s into the trash of its pool",
			facts.Where),
			Do: &TakeAway{Folder: facts.Folder.Path, Files: beside}})
		if rec := ends[2].Do.(*Record); facts.Copy != "" {
			rec.Copy = facts.Copy // it is the same copy, at another place
		}
	} else if facts.Copy != "" {
		ends[1].Do.(*Record).Parent = facts.Copy
	}
	if stop && !facts.Moves { // one that moves goes on where it comes to
		ends = slices.Insert(ends, 0, again)
	}
	if facts.Manager != nil {
		ends = append(ends, append(dropImages(facts, files == Move), facts.Manager.useAhead(facts)...)...)
	}
	p.Steps = append(p.Steps, ends...)
	return b.finish(p)
}

// variablesStep takes what a machine's firmware keeps to its new place: what it starts from is in it.
func variablesStep(host HostFacts, from *HostFacts, folder, file string, to PoolFacts) Step {
	do := &Carry{Source: path.Join(folder, file), Folder: folder, Pool: to.Path, File: file}
	if from != nil {
		do.FromHost, do.Format, do.Read = from.ID, "raw", "raw"
	}
	return Step{Host: host.Name, What: "Copy the firmware's settings", Do: do}
}

// files decides what becomes of the files.
func (b *builder) files(facts RegisterFacts, req BringRequest) (string, error) {
	files := req.Files
	switch files {
	case "":
		files = Stay
		if facts.From != nil {
			files = Copy
		}
	case Stay, Copy, Move:
	default:
		return "", fmt.Errorf("files %q: stay, copy or move", files)
	}
	if files == Stay && facts.From != nil {
		return "", fmt.Errorf("%s lies at %s and in no pool that %s sees: its files can be copied or moved, not stay",
			facts.Where, facts.From.Name, facts.Host.Name)
	}
	for _, p := range facts.Host.Pools {
		if files != Copy && facts.From == nil && p.ID == facts.Folder.Pool {
			if to, _ := facts.Host.PoolMeant(req.Pool); files == Move && (req.Pool == "" || to.ID == p.ID) {
				files = Stay // it is in that pool already
			}
			b.poolState(p, facts.Host)
		}
	}
	return files, nil
}

// described is the machine of the folder, or one made in its stead; nil while
// that is not settled.
func (b *builder) described(facts RegisterFacts) (*machine.Machine, string) {
	if m := facts.Folder.Machine; m != nil {
		return m.Clone(), facts.Folder.Descriptor
	}
	f := fit.Raise("descriptor.lost", facts.Where, sentence(facts.Folder.Problem), nil)
	if facts.Record == nil {
		f.Offer("disks")
		f.Recommend("disks")
	}
	f = b.raise(f, "")
	if f.Remedy() == "record" {
		return facts.Record.Clone(), ""
	}
	return Around(path.Base(facts.Folder.Path), facts.Folder.Disks, facts.Host), ""
}

// Around makes a machine around disks that nothing describes.
func Around(name string, disks []FolderDisk, h HostFacts) *machine.Machine {
	m := &machine.Machine{Name: machine.CleanName(name), CPUs: 2, MemoryBytes: 2 << 30, Firmware: "bios",
		Disks: []machine.Disk{}, NICs: []machine.NIC{{Name: "NIC 1", Model: h.Family.NICs[0]}}}
	first := -1
	for i, d := range disks {
		if d.Missing || d.Problem != "" {
			continue
		}
		if d.Guest != nil && d.Guest.Boot != "" && first < 0 {
			first = len(m.Disks)
			if d.Guest.Boot == "uefi" {
				m.Firmware = "uefi"
			}
		}
		if g := d.Guest; g != nil && g.System != "" && m.Guest == "" {
			m.Guest, m.GuestID = g.System, g.OSType
			if strings.HasPrefix(g.System, "Windows") {
				m.MemoryBytes = 4 << 30
			}
		}
		m.Disks = append(m.Disks, machine.Disk{ID: d.ID, File: disks[i].File, Format: d.Format,
			VirtualBytes: d.VirtualBytes,
			FileBytes:    d.FileBytes, Controller: h.Family.Controllers[0]})
	}
	if first > 0 { // a machine starts from its first disk
		boot := m.Disks[first]
		m.Disks = slices.Insert(slices.Delete(m.Disks, first, first+1), 0, boot)
	}
	for i := range m.Disks {
		m.Disks[i].Slot = i
	}
	return m
}

// inPlace plans the rest for files that stay.
func (b *builder) inPlace(facts RegisterFacts, req BringRequest, p *Plan, m *machine.Machine, descriptor string,
	handled []*handling, give Step, choice identity.Choice) {
	here := PoolFacts{}
	for _, q := range facts.Host.Pools {
		if q.ID == facts.Folder.Pool {
			here = q
		}
	}
	do := &Alter{Folder: facts.Folder.Path, Name: m.Name, Descriptor: descriptor, List: true}
	for _, x := range handled {
		switch {
		case x.carry:
			format := facts.Host.Family.Formats[0]
			if facts.Host.Family.Runs(x.facts.Format) {
				format = x.facts.Format
			}
			step := x.carryStep(facts.Arrival, nil, facts.Folder.Path, here, facts.Folder.Path, m.Name, format)
			p.Steps = append(p.Steps, step)
		case x.onTop:
			file := diskFile(m.Name, x.disk.ID+"-layer", x.facts.Format)
			p.Steps = append(p.Steps, Step{Host: facts.Host.Name,
				What: fmt.Sprintf("Put a new layer on disk %s", x.disk.ID),
				Do: &NewLayer{Parent: x.facts.Path, Path: path.Join(facts.Folder.Path, file),
					Format: x.facts.Format}})
			x.disk.File = file
		case choice[identity.DiskID] == identity.Renew || x.newID:
			do.RenewIDs = append(do.RenewIDs, x.facts.Path)
		}
	}
	choices := asText(choice)
	p.Steps = append(p.Steps, give,
		Step{Host: facts.Host.Name, What: fmt.Sprintf("Register %s on %s, its files where they are", facts.Where,
			facts.Host.Name), Do: do},
		Step{What: "Note the copy in the inventory",
			Do: &Record{Form: lineage.Registered, Name: m.Name, Lineage: facts.Lineage, Parent: facts.Parent,
				Host: facts.Host.ID,
				Pool: facts.Folder.Pool, Path: facts.Folder.Path, Choice: choices, Machine: m, Copy: facts.Copy,
				Owner: b.who}})
}
