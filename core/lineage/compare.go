package lineage

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/machine"
)

// Areas of a comparison.
const (
	Hardware = "hardware"
	Wiring   = "wiring"
	Identity = "identity"
)

// Difference is one thing in which two machines are not alike.
type Difference struct {
	Area string `json:"area"`
	What string `json:"what"`
	A    string `json:"a"`
	B    string `json:"b"`
}

// Compare tells in what the descriptions of two machines differ; their disks'
// contents are another matter. size writes bytes for people.
func Compare(a, b *machine.Machine, size func(int64) string) []Difference {
	out := []Difference{}
	add := func(area, what, x, y string) {
		if x != y {
			out = append(out, Difference{area, what, orDash(x), orDash(y)})
		}
	}
	add(Hardware, "CPUs", fmt.Sprint(a.CPUs), fmt.Sprint(b.CPUs))
	add(Hardware, "memory", size(a.MemoryBytes), size(b.MemoryBytes))
	add(Hardware, "firmware", a.Firmware, b.Firmware)
	add(Hardware, "guest", a.Guest, b.Guest)
	add(Hardware, "TPM", a.TPM, b.TPM)
	add(Hardware, "devices", deviceList(a), deviceList(b))
	cd := func(d machine.Device) string { return d.Name }
	for _, name := range both(drives(a), drives(b), cd) {
		add(Hardware, "medium in "+name, mediumIn(called(drives(a), cd, name)), mediumIn(called(drives(b), cd, name)))
	}
	add(Hardware, "boot order", strings.Join(a.Boot, ", "), strings.Join(b.Boot, ", "))
	add(Hardware, "turn when the host starts", number(a.StartOrder), number(b.StartOrder))
	disk := func(d machine.Disk) string { return d.ID }
	for _, id := range both(a.Disks, b.Disks, disk) {
		add(Hardware, DiskNamed(id), diskWords(called(a.Disks, disk, id), size),
			diskWords(called(b.Disks, disk, id), size))
	}
	nic := func(n machine.NIC) string { return n.Name }
	for _, name := range both(a.NICs, b.NICs, nic) {
		x, y := called(a.NICs, nic, name), called(b.NICs, nic, name)
		add(Wiring, name, nicWords(x), nicWords(y))
		if x != nil && y != nil {
			add(Hardware, name+", model", x.Model, y.Model)
			add(Identity, "MAC of "+name, x.MAC, y.MAC)
		}
	}
	add(Wiring, "fixed addresses", strings.Join(a.Static, ", "), strings.Join(b.Static, ", "))
	add(Identity, "machine UUID", a.UUID, b.UUID)
	add(Identity, "firmware UUID", a.FirmwareUUID, b.FirmwareUUID)
	add(Identity, "serial", a.Serial, b.Serial)
	add(Identity, "generation id", a.GenerationID, b.GenerationID)
	return out
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// both lists the names of what two machines have, each once, in order.
func both[T any](a, b []T, name func(T) string) (names []string) {
	for _, x := range slices.Concat(a, b) {
		if n := name(x); !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	return names
}

// called finds what bears a name; nil when nothing does.
func called[T any](list []T, name func(T) string, wanted string) *T {
	at := slices.IndexFunc(list, func(x T) bool { return name(x) == wanted })
	if at < 0 {
		return nil
	}
	return &list[at]
}

func deviceList(m *machine.Machine) string {
	var names []string
	for _, d := range m.Devices {
		names = append(names, d.Name)
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

// drives lists the drives of a machine that take media.
func drives(m *machine.Machine) (list []machine.Device) {
	for _, d := range m.Devices {
		if d.Kind == machine.DeviceCD {
			list = append(list, d)
		}
	}
	return list
}

// DiskNamed is what people are told of a disk by: "disk1", and "disk tides" of one whose id does not say what it is.
func DiskNamed(id string) string {
	if strings.HasPrefix(id, "disk") {
		return id
	}
	return "disk " + id
}

func mediumIn(d *machine.Device) string {
	if d == nil || d.File == "" {
		return ""
	}
	return path.Base(d.File)
}

func diskWords(d *machine.Disk, size func(int64) string) string {
	if d == nil {
		return ""
	}
	words := fmt.Sprintf("%s as %s", size(d.VirtualBytes), strings.ToUpper(d.Format))
	if d.Controller != "" { // foreign managers don't tell
		words += " on " + d.Controller
	}
	return words
}

func nicWords(n *machine.NIC) string {
	switch {
	case n == nil:
		return ""
	case n.Network == "":
		return "unplugged"
	case n.Segment != "" && n.Segment != n.Network:
		return n.Network + " (segment " + n.Segment + ")"
	}
	return n.Network
}

// number writes one; "" for 0.
func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}
