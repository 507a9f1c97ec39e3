package fit

import (
	"fmt"
	"slices"
	"strconv"

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
	MaxCores       int   // of a socket
	MaxDisk        int64 // bytes
	MaxLayers      int   // of a chain
	SectorBytes    []int // of disks
	MinHardware    int   // oldest and newest revision of the virtual hardware
	MaxHardware    int
	MaxPath        int            // bytes
	MaxOf          map[string]int // devices by kind; "nic" and "disk" too
	KeepsSnapshots bool           // those of another host can be taken over
}

// Families is the table of all.
var Families = []Family{
	{Name: "slate", Architecture: "x86_64", Formats: []string{"qcow2", "raw"}, NICs: []string{"virtio", "e1000"}, Controllers: []string{"virtio-scsi", "sata", "ide", "scsi"},
		Firmware: []string{"bios", "uefi"}, SecureBoot: true, TPM: true, VaryingMemory: true, MaxCPUs: 255, MaxCores: 64, MaxDisk: 1 << 56, MaxLayers: 64, SectorBytes: []int{512, 4096},
		MinHardware: 1, MaxHardware: 9, MaxPath: 4095, KeepsSnapshots: true,
		MaxOf: map[string]int{"nic": 32, "disk": 256, machine.DeviceCD: 4, machine.DeviceFloppy: 1, machine.DeviceSerial: 4, machine.DeviceParallel: 3, machine.DeviceSound: 1, machine.DeviceUSB: 4}},
	{Name: "chalk", Architecture: "x86_64", Formats: []string{"vmdk"}, NICs: []string{"vmxnet3", "e1000"}, Controllers: []string{"pvscsi", "sata", "ide", "scsi"},
		Firmware: []string{"bios", "uefi"}, SecureBoot: true, VaryingMemory: true, MaxCPUs: 128, MaxCores: 64, MaxDisk: 62 << 40, MaxLayers: 32, SectorBytes: []int{512},
		MinHardware: 1, MaxHardware: 7, MaxPath: 1023,
		MaxOf: map[string]int{"nic": 10, "disk": 60, machine.DeviceCD: 4, machine.DeviceFloppy: 2, machine.DeviceSerial: 4, machine.DeviceParallel: 3, machine.DeviceSound: 1, machine.DeviceUSB: 2}},
	{Name: "flint", Architecture: "x86_64", Formats: []string{"vhdx", "vhd"}, NICs: []string{"synthetic", "legacy"}, Controllers: []string{"scsi", "ide"},
		Firmware: []string{"bios", "uefi"}, SecureBoot: true, TPM: true, VaryingMemory: true, MaxCPUs: 64, MaxCores: 32, MaxDisk: 64 << 40, MaxLayers: 50, SectorBytes: []int{512, 4096},
		MinHardware: 3, MaxHardware: 9, MaxPath: 259,
		MaxOf: map[string]int{"nic": 8, "disk": 64, machine.DeviceCD: 2, machine.DeviceSerial: 2, machine.DeviceSound: 0, machine.DeviceUSB: 0, machine.DeviceParallel: 0, machine.DeviceFloppy: 1}},
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
