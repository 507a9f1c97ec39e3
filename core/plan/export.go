package plan

import (
	"fmt"
	"path"
	"slices"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// ExportRequest is what the caller asks of Export.
type ExportRequest struct {
	File            string // name of the package
	Place           string // for people and records: where it will lie on the caller's computer
	Snapshot        string // that it is of; "" for the machine as it is
	Piped           bool   // into a pipe, where sizes can't be filled in afterwards
	Holds           HandingRequest
	Digest          string // algorithm of the manifest; "" for SHA-256
	OVF             string // version of the descriptor, 1 or 2; "" for that of the machine's own
	Answers         Answers
	TakeRecommended bool
}

// Export plans the writing of a package from one copy.
func Export(facts ExportFacts, req ExportRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	subject := facts.Host.Name + "/" + facts.Copy.Name
	p := &Plan{Operation: "export", Subjects: []string{subject}, Target: req.Place}

	if facts.Host.State == HostUnreachable {
		b.raise(fit.Raise("host.unreachable", facts.Host.Name,
			fmt.Sprintf("The agent on %s does not answer. Start it, or look at its log; then try again.",
				facts.Host.Name), nil),
			"")
	}
	if facts.PoolState == PoolAway {
		b.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now. Bring it back, or "+
			"export "+
			"another copy.", nil), "")
	}
	b.busy(subject, facts.Busy)
	folder := facts.Copy.Path
	frozenThen := req.Snapshot != ""
	if frozenThen {
		var err error
		if facts.Machine, facts.Disks, err = atSnapshot(facts.Machine, folder, facts.Disks, req.Snapshot); err != nil {
			return nil, err
		}
	}
	hands, err := req.Holds.handing(facts.Machine)
	if err != nil {
		return nil, err
	}
	inside := hands.Of(facts.Machine)
	pack := Packing{Copy: facts.Copy.ID, Folder: folder, Name: inside.Name, Handing: hands, Digest: req.Digest,
		OVF: req.OVF}
	holds := hands.says(facts.Machine)
	if req.OVF == "1" {
		holds += " Its descriptor is of OVF 1.x: what only 2.x has a place for is left out of it."
	}
	b.raise(fit.Raise("package.holds", subject, holds, nil), "")
	if req.Digest == ovf.SHA1 {
		b.raise(fit.Raise("package.weak-digest", subject, "Its manifest has SHA-1, as readers of the "+
			"standard's 1.x want it by the letter. SHA-1 shows damage, and no "+
			"longer that nobody meddled with it.", nil), "")
	}
	var bytes int64
	stem := machine.CleanName(inside.Name)
	for i := range inside.Disks {
		d := &inside.Disks[i]
		file := fmt.Sprintf("%s-%s.vmdk", stem, d.ID)
		pack.Disks = append(pack.Disks, PackDisk{ID: d.ID, File: file, Source: path.Join(folder, d.File),
			VirtualBytes: d.VirtualBytes})
		bytes += d.FileBytes
		d.File, d.Format = file, "vmdk"
	}

	for _, fd := range facts.Disks {
		if !slices.Contains(hands.LeaveOut, fd.ID) {
			b.unreadable(fd)
		}
	}

	layers, unfit := frozen(facts.Host, facts.Machine, facts.Disks, facts.Files)
	how := asItStands
	if facts.Copy.State.Active() && !frozenThen {
		b.tracked(facts.Copy) // reading it would be no harm, stopping it is
		how = b.whileRead(facts.Copy, unfit == nil && facts.Host.Does(fit.Freezes) && commitable(facts.Disks), "read")
	}
	stop, live := how == stopped, how == atAMoment
	pack.Frozen = frozenThen
	if facts.Copy.State == machine.Suspended && !frozenThen {
		b.raise(fit.Raise("state.left-behind", subject, "It is suspended. What its guest has in memory does not go "+
			"along: there it starts as after a power cut.", nil), "")
	}
	power := Power{Copy: facts.Copy.ID, Folder: folder}
	if stop {
		p.Steps = append(p.Steps, stopStep(facts.Host.Name, subject, power))
	}
	if live {
		pack.Frozen = true
		p.Steps = append(p.Steps, freezeStep(facts.Host.Name, subject, power, layers, false))
	}
	record := Record{Form: lineage.Package, Name: inside.Name, Lineage: facts.Copy.Lineage, Parent: facts.Copy.ID,
		Path: req.Place}
	disks := count(len(pack.Disks), "disk") + " as stream-optimized VMDK"
	if len(pack.Disks) == 0 {
		disks = "the descriptor, without disks,"
	}
	if s := facts.Shelf; s != nil {
		p.Target = s.Name
		pack.File = path.Join(s.Path, req.File)
		record.Host, record.Path = s.HostID, pack.File
		kind, at := "shelf", "on"
		if s.Pool != nil {
			kind, at, record.Pool = "pool", "in", s.ID
			b.poolState(*s.Pool, HostFacts{Name: s.HostName})
		} else {
			pack.Shelf, record.Shelf = s.ID, s.ID
		}
		far := ""
		if s.HostID != facts.Host.ID {
			pack.FromHost, far = facts.Host.ID, ", read from "+facts.Host.Name+" over the network"
			if s.HostState == HostUnreachable {
				b.raise(fit.Raise("host.unreachable", s.HostName, fmt.Sprintf("The agent on %s, where the %s %s is, "+
					"does not answer. Start it, or choose another place.", s.HostName, kind, s.Name), nil), "")
			}
		}
		if s.Taken[req.File] {
			b.raise(fit.Raise("place.taken", req.File, fmt.Sprintf("The %s %s has a package of this name. Choose "+
				"another name; nothing is ever written over.", kind, s.Name), nil), "")
		}
		if s.FreeBytes < bytes/4 {
			b.raise(fit.Raise("space.short", s.Name, fmt.Sprintf("The %s has %s free; the package may need %s.", kind,
				fit.Size(s.FreeBytes), fit.Size(bytes)), nil), "")
		} else if s.FreeBytes < bytes {
			b.raise(fit.Raise("space.short-later", s.Name, fmt.Sprintf("The %s has %s free; without compression "+
				"the package would need %s.", kind, fit.Size(s.FreeBytes), fit.Size(bytes)), nil), "")
		}
		p.Steps = append(p.Steps, Step{What: fmt.Sprintf("Write %s to %s %s the %s %s%s",
			disks, req.File, at, kind, s.Name, far), Host: s.HostName, Bytes: bytes, Do: &Pack{pack}})
	} else {
		what := fmt.Sprintf("Send %s to %s", disks, req.Place)
		if req.Piped {
			what += fmt.Sprintf(", each kept aside at %s until its size is known (up to %s)", facts.Host.Name,
				fit.Size(largest(inside)))
		}
		p.Steps = append(p.Steps, Step{What: what, Host: facts.Host.Name, Bytes: bytes, Do: &HandOut{pack}})
	}
	if stop {
		p.Steps = append(p.Steps, againStep(facts.Host.Name, subject, power))
	}
	record.Machine = inside
	p.Steps = append(p.Steps, Step{What: "Note the package in the inventory", Do: &record})
	if live {
		p.Steps = append(p.Steps, commitStep(facts.Host.Name, subject, power, layers))
	}
	return b.finish(p)
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

// largest is what the machine's largest disk takes, in bytes.
func largest(m *machine.Machine) (most int64) {
	for _, d := range m.Disks {
		most = max(most, d.FileBytes)
	}
	return most
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
