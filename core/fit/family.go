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
	Name           string
	Architecture   string
	Formats        []string // of disks that it runs; the first is its own
	NICs           []string // models; the first is the usual one
	Controllers    []string
	Firmware       []string
	SecureBoot     bool
	TPM            bool
	VaryingMemory  bool
	MaxCPUs        int
	MaxCores       int    // of a socket
	MaxDisk        int64  // bytes
	MaxLayers      int    // of a chain
	LayersIn       string // format of new layers, over whatever lies below; "" for that of their parent
	SectorBytes    []int  // of disks
	MinHardware    int    // oldest and newest revision of the virtual hardware
	MaxHardware    int
	MaxPath        int            // bytes
	MaxSwitchName  int            // bytes; 0: no bound
	MaxOf          map[string]int // devices by kind; "nic" and "disk" too
	Live           []string       // controllers on which disks come and go while a machine runs
	NotSaved       []string       // formats and controllers with which a machine's state can't be saved
	KeepsSnapshots bool           // those of another host can be taken over
}

// Families is the table of all. Devices are real hardware, or those of open standards.
var Families = []Family{
	{
		Name: "slate", Architecture: "x86_64", Formats: []string{"qcow2", "raw", "vhdx"},
		NICs: []string{"virtio", "82574L"}, Controllers: []string{"virtio-scsi", "ahci", "nvme", "ide", "scsi"},
		Firmware: []string{"bios", "uefi"}, SecureBoot: true, TPM: true, VaryingMemory: true,
		MaxCPUs: 192, MaxCores: 48, MaxDisk: 96 << 40, MaxLayers: 40, SectorBytes: []int{512, 4096},
		MinHardware: 1, MaxHardware: 9, MaxPath: 3000, KeepsSnapshots: true,
		Live: []string{"virtio-scsi", "nvme"},
		MaxOf: map[string]int{"nic": 24, "disk": 120, machine.DeviceCD: 4, machine.DeviceFloppy: 1,
			machine.DeviceSerial:   6,
			machine.DeviceParallel: 2, machine.DeviceSound: 1, machine.DeviceUSB: 3},
	},
	{
		Name: "chalk", Architecture: "x86_64", Formats: []string{"vmdk", "raw"},
		NICs: []string{"82574L", "RTL8139"}, Controllers: []string{"lsi-sas", "ahci", "ide", "scsi"},
		Firmware: []string{"bios", "uefi"}, SecureBoot: true, VaryingMemory: true,
		MaxCPUs: 72, MaxCores: 36, MaxDisk: 40 << 40, MaxLayers: 20, SectorBytes: []int{512},
		MinHardware: 2, MaxHardware: 6, MaxPath: 1500, Live: []string{"lsi-sas"},
		MaxOf: map[string]int{"nic": 12, "disk": 48, machine.DeviceCD: 3, machine.DeviceFloppy: 1,
			machine.DeviceSerial:   3,
			machine.DeviceParallel: 1, machine.DeviceSound: 1, machine.DeviceUSB: 2},
	},
	{
		Name: "flint", Architecture: "x86_64", Formats: []string{"vhdx", "qcow2"},
		NICs: []string{"virtio", "RTL8139"}, Controllers: []string{"nvme", "ahci", "ide"},
		Firmware: []string{"bios", "uefi"}, SecureBoot: true, TPM: true, VaryingMemory: true,
		MaxCPUs: 40, MaxCores: 20, MaxDisk: 24 << 40, MaxLayers: 28, SectorBytes: []int{512, 4096},
		MinHardware: 3, MaxHardware: 8, MaxPath: 700, Live: []string{"nvme"},
		MaxOf: map[string]int{"nic": 6, "disk": 36, machine.DeviceCD: 2, machine.DeviceSerial: 2,
			machine.DeviceSound: 0,
			machine.DeviceUSB:   0, machine.DeviceParallel: 0, machine.DeviceFloppy: 1},
	},
	{
		Name: "qemu", Architecture: "x86_64", Formats: []string{"qcow2", "raw", "vmdk", "vhdx", "vhd"},
		NICs:        []string{"virtio", "82574L", "RTL8139"},
		Controllers: []string{"virtio-blk", "virtio-scsi", "ahci", "nvme", "ide"},
		Firmware:    []string{"bios", "uefi"}, SecureBoot: true,
		MaxCPUs: 255, MaxCores: 255, MaxDisk: 64 << 40, MaxLayers: 60, LayersIn: "qcow2", SectorBytes: []int{512, 4096},
		MinHardware: 1, MaxHardware: 1, MaxPath: 4000, MaxSwitchName: 15,
		NotSaved: []string{"vmdk", "vhdx", "vhd", "nvme"}, Live: []string{"virtio-blk", "virtio-scsi", "nvme"},
		MaxOf: map[string]int{"nic": 8, "disk": 16, machine.DeviceCD: 4, machine.DeviceFloppy: 0,
			machine.DeviceSerial:   1,
			machine.DeviceParallel: 0, machine.DeviceSound: 0, machine.DeviceUSB: 0},
	},
}

// has tells whether a model is one of a list; packages write models in any case.
func has(models []string, model string) bool {
	return slices.ContainsFunc(models, func(m string) bool { return strings.EqualFold(m, model) })
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

// Runs tells whether hosts of the family run disks of the format as they are.
func (f Family) Runs(format string) bool { return slices.Contains(f.Formats, format) }

// LayerOn is the format of a new layer on an image; "" when hosts of the family can't have one there.
func (f Family) LayerOn(format string) string {
	switch {
	case f.LayersIn != "":
		return f.LayersIn
	case format != "raw" && format != "vhd" && f.Runs(format):
		return format
	case f.Runs("qcow2"): // the only one that goes over any other
		return "qcow2"
	}
	return ""
}

// Class is a size that machines of a site come in.
type Class struct {
	Name        string `json:"name" toml:"name"`
	CPUs        int    `json:"cpus" toml:"cpus"`
	MemoryBytes int64  `json:"memoryBytes" toml:"memory_bytes"`
}

// SlowRate is in bytes a second; machines run badly from drives that write slower.
const SlowRate = 30 << 20

// Slow says of a measured rate how slow it is; "" when it is not, or not known.
func Slow(rate int64) string {
	if rate == 0 || rate >= SlowRate {
		return ""
	}
	return Size(rate) + " a second were measured when writing to it"
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

// ParseSize reads 2GiB, 512MiB, 2G (binary too) or 4096B: a number alone could mean any unit.
func ParseSize(text string) (int64, error) {
	clean := strings.TrimSuffix(strings.TrimSuffix(strings.ToUpper(strings.ReplaceAll(text, " ", "")), "IB"), "B")
	shift := 0
	if i := strings.IndexAny(clean, "KMGT"); i > 0 && i == len(clean)-1 {
		shift = 10 * (strings.IndexByte("KMGT", clean[i]) + 1)
		clean = clean[:i]
	}
	n, err := strconv.ParseInt(clean, 10, 64)
	if err == nil && shift == 0 && !strings.HasSuffix(strings.ToUpper(text), "B") {
		return 0, fmt.Errorf("%q has no unit: %sGiB, %[2]sMiB, or %[2]sB for bytes", text, clean)
	}
	if err != nil || n <= 0 || n > 1<<(62-shift) {
		return 0, fmt.Errorf("%q is no size such as 2GiB", text)
	}
	return n << shift, nil
}
