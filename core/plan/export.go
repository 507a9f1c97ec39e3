package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// ExportRequest is what the caller asks of Export.
type ExportRequest struct {
	File            string // name of the package
	Place           string // for people and records: where it will lie on the caller's computer
	Called          string // of several machines: name of their collection
	Snapshot        string // that it is of; "" for the machine as it is
	Piped           bool   // into a pipe, where sizes can't be filled in afterwards
	Holds           HandingRequest
	Digest          string // algorithm of the manifest; "" for SHA-256
	OVF             string // version of the descriptor, 1 or 2; "" for that of the machine's own
	Disks           DiskFile
	Compact         bool // what file systems mark as free is left out
	Answers         Answers
	TakeRecommended bool
}

// DiskFile is what files of disks in a package are. The zero value is a stream of compressed blocks.
type DiskFile struct {
	Format, Variant string
	Extension       string // of their names, with its dot
	Whole           bool   // what has no data takes its room too
	MostBytes       int64  // of a disk; 0 for no bound
}

// called is the format's name for people.
func (f DiskFile) called() string {
	switch {
	case f.Format == "":
		return "stream-optimized VMDK"
	case f.Format == "raw":
		return "raw images, what is empty included"
	case f.Whole:
		return strings.ToUpper(f.Format) + ", what is empty included"
	case f.Format == "vmdk":
		return "VMDK of sparse grains"
	}
	return strings.ToUpper(f.Format)
}

// bytes is how much the file of a disk may take.
func (f DiskFile) bytes(d *machine.Disk) int64 {
	if f.Whole {
		return max(d.VirtualBytes, d.FileBytes)
	}
	return d.FileBytes
}

// Export plans the writing of a package from one copy.
func Export(facts ExportFacts, req ExportRequest) (*Plan, error) {
	return ExportTogether([]ExportFacts{facts}, req)
}

// ExportTogether plans the writing of one package from copies. Those that run at one host are taken as they are at one
// instant, the same for all of them.
func ExportTogether(all []ExportFacts, req ExportRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	e := &exporting{builder: b, req: req, several: len(all) > 1, told: map[string]bool{}}
	p := &Plan{Operation: "export", Target: req.Place}
	if req.Digest == ovf.SHA1 {
		b.raise(fit.Raise("package.weak-digest", req.File, "Its manifest has SHA-1, as readers of the "+
			"standard's 1.x want it by the letter. SHA-1 shows damage, and no "+
			"longer that nobody meddled with it.", nil), "")
	}
	for _, facts := range all {
		if err := e.add(facts); err != nil {
			return nil, err
		}
		p.Subjects = append(p.Subjects, facts.Host.Name+"/"+facts.Copy.Name)
	}
	b.of, b.answers = "", req.Answers
	if err := e.apart(); err != nil {
		return nil, err
	}
	at := all[0].Host
	pack := Packing{Digest: req.Digest, OVF: req.OVF}
	if e.several {
		pack.Called, pack.Product = req.Called, e.list[0].part.Handing.Product
	}
	shelf := all[0].Shelf
	if shelf != nil {
		at = HostFacts{ID: shelf.HostID, Name: shelf.HostName}
	}
	far := []string{}
	for i, m := range e.list {
		if m.host.ID != at.ID {
			m.part.FromHost = m.host.ID
			if !slices.Contains(far, m.host.Name) {
				far = append(far, m.host.Name)
			}
		}
		if e.several {
			m.part.Handing.Product = nil
		}
		if i == 0 {
			pack.PackedMachine = m.part
		} else {
			pack.Others = append(pack.Others, m.part)
		}
	}
	p.Steps = append(e.stops(), e.freezes()...)
	write := Step{Host: at.Name, Bytes: e.bytes}
	if shelf != nil {
		p.Target = shelf.Name
		pack.File, pack.Directory = path.Join(shelf.Path, shelf.Directory, req.File), shelf.Directory
		e.onShelf(*shelf)
		at := "on the shelf"
		if shelf.Pool != nil {
			at = "in the pool"
		} else {
			pack.Shelf = shelf.ID
		}
		write.What = fmt.Sprintf("Write %s to %s %s %s", e.disks(), path.Join(shelf.Directory, req.File), at,
			shelf.Name)
		if len(far) > 0 {
			write.What += ", read from " + strings.Join(far, " and ") + " over the network"
		}
		write.Do = &Pack{pack}
	} else {
		write.What = fmt.Sprintf("Send %s to %s", e.disks(), req.Place)
		if req.Piped && req.Disks.Format == "" { // other files are laid out before
			write.What += fmt.Sprintf(", each kept aside at %s until its size is known (up to %s)", at.Name,
				fit.Size(e.largest))
		}
		write.Do = &HandOut{pack}
	}
	p.Steps = append(p.Steps, write)
	p.Steps = append(p.Steps, e.startsAgain()...)
	p.Steps = append(p.Steps, e.records(shelf, cmp.Or(pack.File, req.Place))...)
	p.Steps = append(p.Steps, e.commits()...)
	return b.finish(p)
}

// exporting is a package that is planned.
type exporting struct {
	*builder
	req            ExportRequest
	several        bool
	told           map[string]bool // hosts whose agents were looked at
	list           []exported
	bytes, largest int64
}

// exported is a machine of it.
type exported struct {
	subject    string
	host       HostFacts
	copy       lineage.Known
	part       PackedMachine
	inside     *machine.Machine // as the receiver sees it
	nics       []machine.NIC    // of it, as they are here
	stop, live bool
	layers     []FrozenDisk // of one that goes on
}

func (m *exported) power() Power { return Power{Copy: m.copy.ID, Folder: m.part.Folder} }

// add puts a machine into the package.
func (e *exporting) add(facts ExportFacts) error {
	subject := facts.Host.Name + "/" + facts.Copy.Name
	if e.several {
		e.of = facts.Copy.Name
	}
	if facts.Answers != nil {
		e.answers = facts.Answers
	}
	e.agent(facts.Host.Name, facts.Host.State, facts.Host.Protocol, facts.Host.WantsProtocol, fmt.Sprintf(
		"The agent on %s does not answer. Start it, or look at its log; then try again.", facts.Host.Name))
	if facts.PoolState == PoolAway {
		e.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now. Bring it back, or "+
			"export "+
			"another copy.", nil), "")
	}
	e.busy(subject, facts.Busy)
	folder, frozenThen := facts.Copy.Path, e.req.Snapshot != ""
	if frozenThen {
		var err error
		if facts.Machine, facts.Disks, err = atSnapshot(facts.Machine, folder, facts.Disks,
			e.req.Snapshot); err != nil {
			return err
		}
	}
	holds := e.req.Holds
	if e.several { // what only others have is no mistake
		holds = holds.within(facts.Machine)
	}
	hands, err := holds.handing(facts.Machine)
	if err != nil {
		return err
	}
	m := exported{subject: subject, host: facts.Host, copy: facts.Copy, inside: hands.Of(facts.Machine)}
	for _, n := range facts.Machine.NICs {
		if !slices.Contains(hands.Drop, n.Name) {
			m.nics = append(m.nics, n)
		}
	}
	m.part = PackedMachine{Copy: facts.Copy.ID, Folder: folder, Name: m.inside.Name, Handing: hands}
	says := hands.says(facts.Machine)
	if e.req.OVF == "1" {
		says += " Its descriptor is of OVF 1.x: what only 2.x has a place for is left out of it."
	}
	if e.req.Disks.Format != "" {
		says += fmt.Sprintf(" Its disks are written as %s, and not compressed: readers that go by the standard "+
			"alone may know stream-optimized VMDK only.", e.req.Disks.called())
	}
	e.raise(fit.Raise("package.holds", subject, says, nil), "")
	stem := machine.CleanName(m.inside.Name)
	for i := range m.inside.Disks {
		d := &m.inside.Disks[i]
		as := e.req.Disks
		if as.MostBytes > 0 && d.VirtualBytes > as.MostBytes {
			return fmt.Errorf("disk %s of %s has %s, and a %s holds %s at most: choose another format", d.ID, subject,
				fit.Size(d.VirtualBytes), strings.ToUpper(as.Format), fit.Size(as.MostBytes))
		}
		file := fmt.Sprintf("%s-%s%s", stem, d.ID, cmp.Or(as.Extension, ".vmdk"))
		m.part.Disks = append(m.part.Disks, PackDisk{ID: d.ID, File: file, Source: path.Join(folder, d.File),
			VirtualBytes: d.VirtualBytes, Format: as.Format, Variant: as.Variant})
		takes := as.bytes(d)
		if !as.Whole {
			takes = max(0, takes-facts.Free[m.part.Disks[i].Source].DataBytes)
		}
		e.bytes, e.largest = e.bytes+takes, max(e.largest, takes)
		d.File, d.Format = file, cmp.Or(as.Format, "vmdk")
	}
	for _, fd := range facts.Disks {
		if !slices.Contains(hands.LeaveOut, fd.ID) {
			e.unreadable(fd)
		}
	}
	layers, unfit := frozen(facts.Host, facts.Machine, facts.Disks, facts.Files)
	how, runs := asItStands, facts.Copy.State.Active() && !frozenThen
	if runs {
		e.tracked(facts.Copy) // reading it would be no harm, stopping it is
		how = e.whileRead(facts.Copy, unfit == nil && facts.Host.Does(fit.Freezes) && commitable(facts.Disks), "read")
	}
	m.stop, m.live = how == stopped, how == atAMoment
	if m.live {
		m.layers = layers
	}
	m.part.Frozen = frozenThen || m.live
	e.compact(&m, facts, !runs)
	if facts.Copy.State == machine.Suspended && !frozenThen {
		e.raise(fit.Raise("state.left-behind", subject, "It is suspended. What its guest has in memory does not go "+
			"along: there it starts as after a power cut.", nil), "")
	}
	e.list = append(e.list, m)
	return nil
}

// compact says what of the machine's disks is left out as free, and why not.
// stands tells that nobody writes to them.
func (e *exporting) compact(m *exported, facts ExportFacts, stands bool) {
	if !e.req.Compact {
		return
	}
	note := func(says string) { e.raise(fit.Raise("package.free-space", m.subject, says, nil), "") }
	m.part.Compact = stands || m.stop
	switch {
	case m.stop:
		note("What its file systems mark as free is left out. How much that is can be told once it is stopped.")
		return
	case !stands:
		note("While it runs its file systems are in use, and nothing of them is left out. Stop it for the export to " +
			"leave out what they mark as free.")
		return
	}
	var says []string
	for _, d := range m.part.Disks {
		says = append(says, facts.Free[d.Source].says(d.ID))
	}
	if len(says) > 0 {
		note(strings.Join(says, " "))
	}
}

// says tells what of a disk is left out, for people.
func (f DiskFree) says(disk string) string {
	if f.Unknown != "" {
		return fmt.Sprintf("Of %s it can't be told beforehand how much is left out: %s.", disk,
			strings.TrimSuffix(f.Unknown, "."))
	}
	if len(f.Systems) == 0 {
		return fmt.Sprintf("Nothing of %s is left out: no ext2 to ext4, XFS or NTFS is seen on it.", disk)
	}
	var free int64
	var kinds, says []string
	for _, s := range f.Systems {
		if s.Kept != "" {
			says = append(says, fmt.Sprintf("nothing of its %s of %s is left out, since %s", s.Kind,
				fit.Size(s.Bytes), s.Kept))
			continue
		}
		free += s.FreeBytes
		if !slices.Contains(kinds, s.Kind) {
			kinds = append(kinds, s.Kind)
		}
	}
	if len(kinds) > 0 {
		first := fmt.Sprintf("its %s has %s free, ", strings.Join(kinds, " and "), fit.Size(free))
		if f.DataBytes > 0 {
			first += fmt.Sprintf("and %s of data that lie in there are left out", fit.Size(f.DataBytes))
		} else {
			first += "where no data lie: leaving it out saves nothing"
		}
		says = append([]string{first}, says...)
	}
	return disk + ": " + strings.Join(says, "; ") + "."
}

// apart sees to it that machines, disks and networks of one package are told from each other.
func (e *exporting) apart() error {
	if !e.several {
		return nil
	}
	for _, name := range slices.Concat(e.req.Holds.LeaveOut, e.req.Holds.Drop) {
		if !slices.ContainsFunc(e.list, func(m exported) bool {
			return slices.Contains(m.part.Handing.LeaveOut, name) || slices.Contains(m.part.Handing.Drop, name)
		}) {
			return fmt.Errorf("none of the machines has a disk or a device %q", name)
		}
	}
	names, ids, numbers := map[string]string{}, map[string]bool{}, map[string]string{}
	for i := range e.list {
		m := &e.list[i]
		if other := names[strings.ToLower(m.inside.Name)]; other != "" {
			return fmt.Errorf("%s and %s have one name, %s, and a package tells its machines apart by theirs: rename "+
				"one of them, or give each a package of its own", other, m.subject, m.inside.Name)
		}
		names[strings.ToLower(m.inside.Name)] = m.subject
		for k := range m.part.Disks {
			d := &m.part.Disks[k]
			if ids[d.ID] {
				d.Of, d.ID = d.ID, nextNumber(d.ID, ids)
			}
			ids[d.ID] = true
		}
		m.numberNetworks(numbers)
	}
	return nil
}

// nextNumber is the first of the ids that count on from one, disk2 and disk3 from disk1, that is not taken.
func nextNumber(id string, taken map[string]bool) string {
	stem := strings.TrimRight(id, "0123456789")
	n, err := strconv.Atoi(id[len(stem):])
	if err != nil {
		stem, n = id+"-", 1
	}
	for taken[id] {
		n++
		id = stem + strconv.Itoa(n)
	}
	return id
}

// numberNetworks gives networks whose names are dropped numbers that are the same for all machines of the package.
func (m *exported) numberNetworks(numbers map[string]string) {
	h := &m.part.Handing
	if !h.DropIdentity {
		return
	}
	h.Networks = map[string]string{}
	for _, n := range m.nics {
		is := m.host.ID + "/" + n.Network
		if n.Segment != "" || n.VLAN != 0 {
			is = fmt.Sprintf("%s/%d", n.Segment, n.VLAN)
		}
		if numbers[is] == "" {
			numbers[is] = fmt.Sprintf("net-%d", len(numbers)+1)
		}
		h.Networks[n.Network] = numbers[is]
	}
	for i := range m.inside.NICs {
		m.inside.NICs[i].Network = h.Networks[m.nics[i].Network]
	}
}

// disks says what is written, for people.
func (e *exporting) disks() string {
	n := 0
	for _, m := range e.list {
		n += len(m.part.Disks)
	}
	text := count(n, "disk") + " as " + e.req.Disks.called()
	if n == 0 {
		text = "the descriptor, without disks,"
	}
	if e.several {
		text = fmt.Sprintf("%d machines, with %s", len(e.list), text)
	}
	return text
}

// agent raises, once, what keeps an agent from its part in the export: it is silent, or would misunderstand it.
func (e *exporting) agent(host string, state HostState, protocol, wants int, silent string) {
	if e.told[host] {
		return
	}
	e.told[host] = true
	if state == HostUnreachable {
		e.raise(fit.Raise("host.unreachable", host, silent, nil), "")
	}
	e.older(host, protocol, wants)
}

// onShelf raises what keeps the shelf, or the pool, from taking the package.
func (e *exporting) onShelf(s ShelfFacts) {
	kind := "shelf"
	if s.Pool != nil {
		kind = "pool"
		e.poolState(*s.Pool, HostFacts{Name: s.HostName})
	}
	e.agent(s.HostName, s.HostState, s.Protocol, s.WantsProtocol, fmt.Sprintf("The agent on %s, where the %s %s is, "+
		"does not answer. Start it, or choose another place.", s.HostName, kind, s.Name))
	if s.OfMachine {
		e.raise(fit.Raise("place.taken", s.Directory, fmt.Sprintf("%s is a machine's folder in the pool %s. Choose "+
			"another directory.", s.Directory, s.Name), nil), "")
	}
	if s.Taken[e.req.File] {
		e.raise(fit.Raise("place.taken", e.req.File, fmt.Sprintf("The %s %s has a package of this name. Choose "+
			"another name; nothing is ever written over.", kind, s.Name), nil), "")
	}
	least := e.bytes / 4
	if e.req.Disks.Format != "" { // nothing is compressed
		least = e.bytes
	}
	if s.FreeBytes < least {
		e.raise(fit.Raise("space.short", s.Name, fmt.Sprintf("The %s has %s free; the package may need %s.", kind,
			fit.Size(s.FreeBytes), fit.Size(e.bytes)), nil), "")
	} else if s.FreeBytes < e.bytes {
		e.raise(fit.Raise("space.short-later", s.Name, fmt.Sprintf("The %s has %s free; without compression "+
			"the package would need %s.", kind, fit.Size(s.FreeBytes), fit.Size(e.bytes)), nil), "")
	}
}

// steps are those that each machine has that is meant.
func (e *exporting) steps(meant func(m *exported) bool, step func(m *exported) Step) (list []Step) {
	for i := range e.list {
		if m := &e.list[i]; meant(m) {
			list = append(list, step(m))
		}
	}
	return list
}

func (e *exporting) stops() []Step {
	return e.steps(func(m *exported) bool { return m.stop }, func(m *exported) Step {
		return stopStep(m.host.Name, m.subject, m.power())
	})
}

func (e *exporting) startsAgain() []Step {
	return e.steps(func(m *exported) bool { return m.stop }, func(m *exported) Step {
		return againStep(m.host.Name, m.subject, m.power())
	})
}

func (e *exporting) commits() []Step {
	return e.steps(func(m *exported) bool { return m.live }, func(m *exported) Step {
		return commitStep(m.host.Name, m.subject, m.power(), m.layers)
	})
}

// freezes are the steps that freeze what goes on: one for all machines of a host.
func (e *exporting) freezes() (list []Step) {
	of := map[string]int{} // host → its step
	for i := range e.list {
		m := &e.list[i]
		if !m.live {
			continue
		}
		at, there := of[m.host.ID]
		if !there {
			of[m.host.ID] = len(list)
			list = append(list, freezeStep(m.host.Name, m.subject, m.power(), m.layers, false))
			continue
		}
		do := list[at].Do.(*Freeze)
		do.With = append(do.With, FrozenMachine{Folder: m.part.Folder, Disks: m.layers})
		disks := 0
		for _, one := range do.Machines() {
			disks += len(one.Disks)
		}
		list[at].What = fmt.Sprintf("Freeze %s of %d machines at one instant; they write to new layers from then on",
			count(disks, "disk"), len(do.With)+1)
	}
	return list
}

// records note the package in the inventory, as a copy of each machine in it.
func (e *exporting) records(s *ShelfFacts, place string) []Step {
	number := -1
	return e.steps(func(*exported) bool { return true }, func(m *exported) Step {
		number++
		r := &Record{Form: lineage.Package, Name: m.inside.Name, Lineage: m.copy.Lineage, Parent: m.copy.ID,
			Path: place, Machine: m.inside, Number: number}
		if s != nil {
			r.Host = s.HostID
			if s.Pool != nil {
				r.Pool, r.Rel = s.ID, path.Join(s.Directory, e.req.File)
			} else {
				r.Shelf = s.ID
			}
		}
		what := "Note the package in the inventory"
		if e.several {
			what += ", as a copy of " + m.subject
		}
		return Step{What: what, Do: r}
	})
}

// unreadable raises what keeps a disk from being read as it is.
func (b *builder) unreadable(fd FolderDisk) {
	raise := func(code, says string) {
		f := fit.Raise(code, fd.ID, sentence(says), map[string]any{"file": fd.Path})
		f.Offer() // to put it right is an operation of its own
		b.raise(f, "")
	}
	switch {
	case fd.Missing:
		raise("disk.missing", fmt.Sprintf("its file %s is not there", fd.File))
	case fd.Problem != "":
		code := fd.ProblemCode
		if s, _ := fit.Describe(code); s == "" {
			code = "disk.damaged"
		}
		raise(code, fd.Problem)
	case fd.Encrypted:
		raise("disk.encrypted", "its contents are encrypted, and a package holds them as they are read")
	}
	for _, fault := range fd.Faults {
		// the one is told otherwise, the other does no harm
		if fault.Code != "disk.in-use" && fault.Code != "disk.chain-deep" {
			raise(fault.Code, fault.Message)
		}
	}
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
