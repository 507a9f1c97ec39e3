package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
)

// handling is what is to become of one disk of a folder.
type handling struct {
	disk    *machine.Disk
	facts   FolderDisk
	out     bool   // left out
	carry   bool   // copied, or converted, instead of used where it lies
	asIs    bool   // its bytes as they are, unread
	read    string // format that it is read as, whatever its first bytes say
	salvage bool   // passing over what can't be read
	parent  string // where its parent is
	layer   string // of its chain, that the parent belongs to
	force   bool
	mend    bool
	newID   bool // its id is another disk's too
	onTop   bool // a new layer on it is what is used
}

// disks judges the disks of a folder for a host. stay: they are used where they
// lie, as far as that can be.
func (b *builder) disks(m *machine.Machine, folder Folder, h HostFacts, stay bool) []*handling {
	var all []*handling
	for i := range m.Disks {
		d := &m.Disks[i]
		x := &handling{disk: d, carry: !stay}
		for _, fd := range folder.Disks {
			if fd.ID == d.ID || folder.Machine == nil && fd.File == d.File {
				x.facts = fd
			}
		}
		b.disk(x, h, stay)
		all = append(all, x)
	}
	if len(all) > 0 && !slices.ContainsFunc(all, func(x *handling) bool {
		return x.out || x.facts.Guest == nil ||
			x.facts.Guest.Boot != ""
	}) &&
		!slices.ContainsFunc(m.Devices, func(d machine.Device) bool {
			return d.Kind == machine.DeviceCD &&
				d.File != ""
		}) {
		b.raise(fit.Raise("disk.nothing-bootable", m.Name, "None of its disks has a boot record or an EFI partition, "+
			"and "+
			"no medium is in a drive.", nil), "")
	}
	m.Disks = slices.DeleteFunc(slices.Clone(m.Disks), func(d machine.Disk) bool {
		return slices.ContainsFunc(all, func(x *handling) bool { return x.out && x.disk.ID == d.ID })
	})
	all = slices.DeleteFunc(all, func(x *handling) bool { return x.out })
	for _, x := range all { // into the list that is left
		for i := range m.Disks {
			if m.Disks[i].ID == x.facts.ID || m.Disks[i].ID == x.disk.ID {
				x.disk = &m.Disks[i]
			}
		}
	}
	return all
}

func (b *builder) disk(x *handling, h HostFacts, stay bool) {
	d, fd := x.disk, x.facts
	answer := func(f fit.Finding) string {
		f = b.raise(f, "")
		x.out = x.out || f.Remedy() == "leave-out"
		return f.Remedy()
	}
	raise := func(code, format string, args ...any) fit.Finding {
		return fit.Raise(code, d.ID, fmt.Sprintf(format, args...), map[string]any{"file": fd.Path})
	}
	if fd.Path == "" || fd.Missing {
		answer(raise("disk.missing", "Its file %s is not there.", d.File))
		return
	}
	if fd.Problem != "" {
		code := fd.ProblemCode
		if s, _ := fit.Describe(code); s == "" {
			code = "disk.damaged"
		}
		switch answer(raise(code, "%s", sentence(fd.Problem))) {
		case "raw":
			x.carry, x.read = true, "raw"
		case "repair":
			x.mend = true
		case "salvage":
			x.carry, x.salvage = true, true
		}
		return
	}
	d.Format = fd.Format
	if fd.Encrypted {
		f := raise("disk.encrypted", "Its contents are encrypted: nothing in it can be looked at or converted.")
		if !h.Family.Runs(fd.Format) {
			f.Offer("leave-out")
		}
		x.asIs = answer(f) == "carry" || h.Family.Runs(fd.Format)
	}
	for _, fault := range fd.Faults {
		says, _, _ := strings.Cut(fault.Message, ": unvora ") // which command would help is no news to a plan
		f := raise(fault.Code, "%s", sentence(says))
		if fault.Candidate != "" {
			f.Suggest("found", "Take "+fault.Candidate, fault.Candidate)
		} else if fault.Code == "disk.parent-missing" {
			f.Offer("file", "leave-out")
		}
		switch f = b.raise(f, ""); f.Remedy() {
		case "found", "file":
			x.layer, x.parent = fault.Path, f.Value()
		case "reparent":
			x.layer, x.parent, x.force = fault.Path, fault.Candidate, true
		case "leave-out":
			x.out = true
		case "merge":
			x.carry = true
		}
	}
	if fd.Layers > h.Family.MaxLayers && stay {
		if answer(raise("disk.chain-deep", "Its chain has %d layers; hosts of the family %s take %d.", fd.Layers,
			h.Family.Name, h.Family.MaxLayers)) == "merge" {
			x.carry = true
		}
	}
	if fd.Unclean {
		x.mend = answer(raise("disk.unclean", "It was not closed properly, and has a log to replay or tables to "+
			"bring in "+
			"order.")) == "replay"
	}
	switch {
	case fd.VirtualBytes == 0:
		answer(raise("disk.empty", "It is an image of zero bytes."))
	case fd.NoData && len(fd.Faults) == 0 && fd.Layers <= 1:
		f := raise("disk.empty", "There is no data in it.")
		f.Recommend("keep") // a disk for data to come
		answer(f)
	}
	if fd.VirtualBytes != d.VirtualBytes && d.VirtualBytes > 0 {
		f := raise("disk.size-mismatch", "The descriptor says %d bytes, the image %d.", d.VirtualBytes, fd.VirtualBytes)
		if answer(f) == "image" {
			d.VirtualBytes = fd.VirtualBytes
		}
	} else {
		d.VirtualBytes = fd.VirtualBytes
	}
	if d.VirtualBytes > h.Family.MaxDisk {
		answer(tooLarge(d.ID, d.VirtualBytes, h))
	}
	if fd.SectorBytes > 0 && !slices.Contains(h.Family.SectorBytes, fd.SectorBytes) {
		if answer(raise("disk.sector-size", "Its sectors have %d bytes, which hosts of the family %s can't give.",
			fd.SectorBytes, h.Family.Name)) == "convert" {
			x.carry = true
		}
	}
	if len(fd.SharedBy) > 0 && stay {
		if answer(raise("disk.shared", "%s names the same file: two machines that write to it destroy it.",
			strings.Join(fd.SharedBy, ", "))) == "copy" {
			x.carry = true
		}
	}
	if len(fd.LayersOf) > 0 && stay {
		f := raise("disk.parent-of-others", "Layers of %s rest on it: whatever is written to it breaks them.",
			strings.Join(fd.LayersOf, ", "))
		if b.noLayers {
			f.Suggest("layer", "Make a full copy of it", "")
		}
		if answer(f) == "layer" {
			x.onTop, x.carry = !b.noLayers, b.noLayers
		}
	}
	if fd.Pool == "" && stay && !x.out {
		if answer(raise("disk.outside-pool", "%s lies in no pool of %s.", fd.Path, h.Name)) == "copy" {
			x.carry = true
		}
	}
	if !h.Family.Runs(fd.Format) && !x.out && !x.asIs && fd.VirtualBytes > 0 {
		f := raise("disk.format-foreign", "It is a %s image; hosts of the family %s run %s.",
			strings.ToUpper(fd.Format),
			h.Family.Name, listed(h.Family.Formats))
		f.Suggest("convert", "Convert it to "+strings.ToUpper(h.Family.Formats[0]), "")
		preset := ""
		if !stay {
			preset = "convert" // it is written anew in any case
		}
		if f = b.raise(f, preset); f.Remedy() == "convert" {
			x.carry = true
		} else if f.Remedy() == "leave-out" {
			x.out = true
		}
	}
	if who := fd.IDOf; who != "" && stay && !x.carry {
		x.newID = answer(raise("disk.id-repeated", "Its id %s is that of a disk of %s.", fd.DiskID, who)) == "renew"
	}
}

// prepare is the steps that put images right before they are used or read.
func prepare(all []*handling, h HostFacts) (steps []Step) {
	for _, x := range all {
		if x.mend {
			steps = append(steps, Step{Host: h.Name, What: fmt.Sprintf("Put disk %s in order, without guessing",
				x.disk.ID),
				Do: &Mend{Path: x.facts.Path}})
		}
		if x.parent != "" {
			steps = append(steps, Step{Host: h.Name, What: fmt.Sprintf("Tell %s that its parent is %s",
				path.Base(x.layer),
				x.parent), Do: &Relink{Layer: x.layer, Parent: x.parent, Force: x.force}})
		}
	}
	return steps
}

// idKept tells of a disk whose id can't be kept: it is none of the new format's.
func (b *builder) idKept(x *handling, choice identity.Choice, format string) {
	if choice[identity.DiskID] == identity.Renew || x.facts.DiskID == "" || format == x.facts.Format ||
		identity.IsUUID(x.facts.DiskID) {
		return
	}
	b.raise(fit.Raise("disk.id-not-kept", x.disk.ID, fmt.Sprintf("It bears the id %s, which is none that %s can have: "+
		"it gets a new one.", x.facts.DiskID, strings.ToUpper(format)), nil), "")
}

// carryStep copies a disk; into is the machine folder for one that stays, ""
// for the staging directory of a pool.
func (x *handling) carryStep(a Arrival, from *HostFacts, folder string, pool PoolFacts, into, name,
	format string) Step {
	do := &Carry{Disk: x.disk.ID, Source: x.facts.Path, Folder: folder, Pool: pool.Path, Into: into, Format: format,
		Read: x.read, Salvage: x.salvage}
	verb, as := "Copy", " as "+strings.ToUpper(format)
	if x.asIs {
		do.Format, format, as = "", x.facts.Format, ", unread,"
	} else if format != x.facts.Format {
		verb = "Convert"
	}
	do.File = diskFile(name, x.disk.ID, format)
	if x.facts.Layers > 1 && !x.asIs {
		as = fmt.Sprintf(", its %d layers as one,", x.facts.Layers) + as
	}
	where := "into the pool " + pool.Name
	if into != "" {
		where = "beside it"
	}
	if from != nil {
		do.FromHost = from.ID
		where += ", read from " + from.Name + " over the network"
	}
	x.disk.File, x.disk.Format = do.File, format
	if !x.asIs { // what is on record says how it is read
		do.Read = cmp.Or(x.read, x.facts.Format)
	}
	return Step{Host: a.Host.Name, Bytes: x.facts.FileBytes,
		What: fmt.Sprintf("%s disk %s (%s)%s %s", verb, x.disk.ID, fit.Size(x.disk.VirtualBytes), as, where), Do: do}
}
