package ovf

import (
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"

	"unvora.example/unvora/core/machine"
)

// readOwn reads what OVF has no place for.
func readOwn(own *etree.Element, m *machine.Machine) {
	for _, f := range ownFields(m) {
		value := text(own, f.name)
		switch v := f.value.(type) {
		case *string:
			if value != "" {
				*v = value
			}
		case *bool:
			*v = value == "true"
		case *int:
			*v, _ = strconv.Atoi(value)
		case *int64:
			*v, _ = strconv.ParseInt(value, 10, 64)
		case *[]string:
			*v = nil
			for _, e := range children(own, f.name) {
				*v = append(*v, e.Text())
			}
		}
	}
	m.Tree = nil
	for _, e := range children(own, snapshotElement) {
		s := machine.Snapshot{Name: e.SelectAttrValue("name", ""), Note: e.SelectAttrValue("note", ""),
			Parent: e.SelectAttrValue("parent", "")}
		s.MadeAt, _ = time.Parse(time.RFC3339, e.SelectAttrValue("madeAt", ""))
		for _, d := range children(e, snapshotDisk) {
			s.Disks = append(s.Disks, machine.SnapshotDisk{Disk: d.SelectAttrValue("disk", ""),
				File: d.SelectAttrValue("file", ""), Format: d.SelectAttrValue("format", "")})
		}
		m.Tree = append(m.Tree, s)
	}
	for _, e := range children(own, diskSerial) {
		for i := range m.Disks {
			if m.Disks[i].ID == e.SelectAttrValue("disk", "") {
				m.Disks[i].Serial = e.Text()
			}
		}
	}
}

// diskSerial is the element of a disk's serial; its attribute disk names the disk.
const diskSerial = "DiskSerial"

// The elements of snapshots whose layers lie beside the disks.
const (
	snapshotElement = "Moment"
	snapshotDisk    = "MomentDisk"
)

// writeSnapshots writes those of a machine into our section.
func writeSnapshots(own *etree.Element, ours string, m *machine.Machine) {
	for _, s := range m.Tree {
		e := own.CreateElement(ours + snapshotElement)
		e.CreateAttr("name", s.Name)
		e.CreateAttr("madeAt", s.MadeAt.UTC().Format(time.RFC3339))
		if s.Note != "" {
			e.CreateAttr("note", s.Note)
		}
		if s.Parent != "" {
			e.CreateAttr("parent", s.Parent)
		}
		for _, d := range s.Disks {
			x := e.CreateElement(ours + snapshotDisk)
			x.CreateAttr("disk", d.Disk)
			x.CreateAttr("file", d.File)
			x.CreateAttr("format", d.Format)
		}
	}
}

type ownField struct {
	name  string
	value any // where it is in the machine
}

// ownFields are the elements of our section, in the order in which they are written.
func ownFields(m *machine.Machine) []ownField {
	return []ownField{
		{"UUID", &m.UUID}, {"FirmwareUUID", &m.FirmwareUUID}, {"Serial", &m.Serial}, {"Firmware", &m.Firmware},
		{"GenerationID", &m.GenerationID},
		{"SecureBoot", &m.SecureBoot}, {"Variables", &m.Variables}, {"TPM", &m.TPM}, {"TPMKey", &m.TPMKey},
		{"Boot", &m.Boot},
		{"Architecture", &m.Architecture}, {"CPUFeature", &m.CPUFeatures}, {"CoresPerSocket", &m.CoresPerSocket},
		{"MinMemoryBytes", &m.MinMemoryBytes},
		{"Hardware", &m.Hardware}, {"Suspended", &m.Suspended}, {"Snapshot", &m.Snapshots}, {"Static", &m.Static},
		{"Property", &m.Properties}, {"StartOrder", &m.StartOrder}, {"StartPause", &m.StartPause},
		{"Stands", &m.Stands},
	}
}

func readPassport(e *etree.Element) *machine.Passport {
	if e == nil || e.NamespaceURI() != nsUnvora || text(e, "Copy") == "" {
		return nil
	}
	p := &machine.Passport{
		Lineage: text(e, "Lineage"), Copy: text(e, "Copy"), Parent: text(e, "Parent"),
		MadeBy: text(e, "MadeBy"), Identity: text(e, "Identity"),
	}
	p.MadeAt, _ = time.Parse(time.RFC3339, text(e, "MadeAt"))
	if r := text(e, "Renewed"); r != "" {
		p.Renewed = strings.Fields(r)
	}
	return p
}
