package fit

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/machine"
)

// Family is a kind of hosts with the same native disk format, device models
// and limits.
type Family struct {
	Name        string
	Formats     []string // of disks that it runs; the first is its own
	NICs        []string // models; the first is the usual one
	Controllers []string
	Firmware    []string
	MaxCPUs     int
	MaxDisk     int64 // bytes
}

// Families is the table of all.
var Families = []Family{
	{Name: "slate", Formats: []string{"qcow2", "raw"}, NICs: []string{"virtio", "e1000"}, Controllers: []string{"virtio-scsi", "sata", "ide", "scsi"}, Firmware: []string{"bios", "uefi"}, MaxCPUs: 255, MaxDisk: 1 << 56},
	{Name: "chalk", Formats: []string{"vmdk"}, NICs: []string{"vmxnet3", "e1000"}, Controllers: []string{"pvscsi", "sata", "ide", "scsi"}, Firmware: []string{"bios", "uefi"}, MaxCPUs: 128, MaxDisk: 62 << 40},
	{Name: "flint", Formats: []string{"vhdx", "vhd"}, NICs: []string{"synthetic", "legacy"}, Controllers: []string{"scsi", "ide"}, Firmware: []string{"bios", "uefi"}, MaxCPUs: 64, MaxDisk: 64 << 40},
}

// FamilyByName finds a line of the table.
func FamilyByName(name string) (Family, error) {
	for _, f := range Families {
		if f.Name == name {
			return f, nil
		}
	}
	return Family{}, fmt.Errorf("unknown family of hosts %q", name)
}

// Host is what Judge needs to know of a host.
type Host struct {
	Name        string
	CPUs        int
	MemoryBytes int64
	Family      Family
}

// Judge compares hardware with what a host can give.
func Judge(m *machine.Machine, h Host) []Finding {
	var fs []Finding
	if most := min(h.CPUs, h.Family.MaxCPUs); most > 0 && m.CPUs > most {
		f := Raise("cpu.too-many", m.Name, fmt.Sprintf("It has %d CPUs; %s gives a machine %d at most.", m.CPUs, h.Name, most), map[string]any{"has": m.CPUs, "most": most})
		f.Suggest("reduce", fmt.Sprintf("Reduce them to %d", most), strconv.Itoa(most))
		fs = append(fs, f)
	}
	if h.MemoryBytes > 0 && m.MemoryBytes > h.MemoryBytes {
		f := Raise("memory.too-much", m.Name, fmt.Sprintf("It has %s of memory; %s has %s.", Size(m.MemoryBytes), h.Name, Size(h.MemoryBytes)), map[string]any{"has": m.MemoryBytes, "most": h.MemoryBytes})
		f.Suggest("reduce", "Reduce it to "+Size(h.MemoryBytes), strconv.FormatInt(h.MemoryBytes, 10))
		fs = append(fs, f)
	}
	if !slices.Contains(h.Family.Firmware, m.Firmware) {
		fs = append(fs, Raise("firmware.unsupported", m.Name, fmt.Sprintf("It starts with %s firmware, which hosts of the family %s do not have.", m.Firmware, h.Family.Name), nil))
	}
	for _, n := range m.NICs {
		if n.Model != "" && !slices.Contains(h.Family.NICs, strings.ToLower(n.Model)) {
			f := Raise("nic.model", n.Name, fmt.Sprintf("Hosts of the family %s have no adapter of the model %s.", h.Family.Name, n.Model), map[string]any{"model": n.Model})
			f.Suggest("replace", "Replace it by "+h.Family.NICs[0], h.Family.NICs[0])
			fs = append(fs, f)
		}
	}
	return fs
}

// Size writes bytes in binary units: 1536 → "1.5 KiB".
func Size(bytes int64) string {
	if bytes < 1024 {
		return strconv.FormatInt(bytes, 10) + " B"
	}
	v, u := float64(bytes), -1
	for v >= 1024 && u < 5 {
		v /= 1024
		u++
	}
	digits := 1
	if v >= 100 || v == float64(int64(v)) {
		digits = 0
	}
	return strconv.FormatFloat(v, 'f', digits, 64) + " " + string("KMGTPE"[u]) + "iB"
}
