package plan

import (
	"path"
	"slices"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// Difference is one thing that will be different about a machine: "CPUs", "2", "4".
type Difference struct {
	Of   string `json:"of,omitempty"` // machine, where a plan is for several
	What string `json:"what"`
	From string `json:"from"`
	To   string `json:"to"`
}

// anew is what a renewed facet will be: it is given out when the job runs.
const anew = "a new one"

// changes tells what will be different about the machine that the steps give ids to.
func (b *builder) changes(steps []Step) []Difference {
	list := []Difference{}
	at := slices.IndexFunc(steps, func(s Step) bool { _, gives := s.Do.(*GiveIDs); return gives })
	if b.before == nil || at < 0 {
		return list
	}
	give := steps[at].Do.(*GiveIDs)
	before, after := b.before, give.Machine
	add := func(what, from, to string) {
		if from != to {
			list = append(list, Difference{What: what, From: from, To: to})
		}
	}
	add("name", before.Name, after.Name)
	for _, d := range lineage.Compare(before, after, fit.Size) {
		if d.Area != lineage.Identity && d.What != "devices" {
			add(d.What, d.A, d.B)
		}
	}
	for _, d := range after.Devices {
		if !hasDevice(before, d.Name) {
			add(d.Name, "–", "a new "+d.Kind)
		}
	}
	for _, d := range before.Devices {
		if !hasDevice(after, d.Name) {
			add(d.Name, d.Kind, "–")
		}
	}
	for _, d := range after.Disks {
		if !slices.ContainsFunc(before.Disks, func(was machine.Disk) bool { return was.ID == d.ID }) {
			add("file of "+lineage.DiskNamed(d.ID), "–", path.Base(d.File))
		}
		same := func(was machine.Disk) bool {
			return was.ID == d.ID && was.Format == d.Format && was.Controller == d.Controller &&
				was.VirtualBytes == d.VirtualBytes
		}
		if i := slices.IndexFunc(before.Disks, same); i >= 0 && b.stays {
			add("file of "+lineage.DiskNamed(d.ID), path.Base(before.Disks[i].File), path.Base(d.File))
		}
	}
	for _, f := range identity.Facets {
		if give.Choice[string(f)] != identity.Renew {
			continue
		}
		for _, was := range facetOf(before, f) {
			add(was[0], was[1], anew)
		}
	}
	return list
}

func hasDevice(m *machine.Machine, name string) bool {
	return slices.ContainsFunc(m.Devices, func(d machine.Device) bool { return d.Name == name })
}

// facetOf names what a machine has of a facet, with its value.
func facetOf(m *machine.Machine, f identity.Facet) (list [][2]string) {
	one := func(what, value string) {
		if value != "" {
			list = append(list, [2]string{what, value})
		}
	}
	switch f {
	case identity.MachineUUID:
		one("machine UUID", m.UUID)
	case identity.FirmwareUUID:
		one("firmware UUID", m.FirmwareUUID)
		one("serial", m.Serial)
	case identity.GenerationID:
		one("generation id", m.GenerationID)
	case identity.MAC:
		for _, n := range m.NICs {
			one("MAC of "+n.Name, n.MAC)
		}
	case identity.DiskID:
		if len(m.Disks) > 0 {
			one("ids of its disks", "as they are")
		}
	case identity.TPM:
		one("TPM", m.TPM)
	}
	return list
}
