// Package machine is the model of a virtual machine: its hardware, disks, NICs
// and the passport that travels with a copy. It says nothing of where a copy
// lies, how a descriptor is written or which host could run it.
package machine

import (
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Machine is what a descriptor tells of one virtual machine.
type Machine struct {
	Name         string    `json:"name"`
	UUID         string    `json:"uuid"`         // of the machine; "" when not stated
	FirmwareUUID string    `json:"firmwareUuid"` // that the firmware shows the guest (SMBIOS type 1)
	Serial       string    `json:"serial,omitempty"`
	CPUs         int       `json:"cpus"`
	MemoryBytes  int64     `json:"memoryBytes"`
	Firmware     string    `json:"firmware"` // bios or uefi
	Guest        string    `json:"guest"`    // operating system as described, "" when not stated
	GuestID      int       `json:"guestId"`  // CIM_OperatingSystem.OSType
	Disks        []Disk    `json:"disks"`
	NICs         []NIC     `json:"nics"`
	Devices      []Device  `json:"devices,omitempty"`
	Passport     *Passport `json:"passport"`

	GenerationID string `json:"generationId,omitempty"` // a new value tells the guest that it was copied
	SecureBoot   bool   `json:"secureBoot,omitempty"`
	Variables    string `json:"variables,omitempty"` // file of the UEFI variable store, relative to the descriptor
	TPM          string `json:"tpm,omitempty"`       // version of its TPM: 1.2 or 2.0; "" without
	TPMKey       string `json:"tpmKey,omitempty"`    // name of the key that its TPM state is sealed with
	// disk ids, NIC and device names, first to last; empty: not stated
	Boot           []string `json:"boot,omitempty"`
	Architecture   string   `json:"architecture,omitempty"` // of its CPUs; "" for x86_64
	CPUFeatures    []string `json:"cpuFeatures,omitempty"`  // that it requires
	CoresPerSocket int      `json:"coresPerSocket,omitempty"`
	MinMemoryBytes int64    `json:"minMemoryBytes,omitempty"` // of varying memory; 0: it is fixed
	Hardware       int      `json:"hardware,omitempty"`       // revision of the virtual hardware; 0: not stated
	Suspended      bool     `json:"suspended,omitempty"`      // a suspended state lies beside its disks
	Snapshots      []string `json:"snapshots,omitempty"`      // names, oldest first
	Static         []string `json:"static,omitempty"`         // fixed addresses known of its guest
	Properties     []string `json:"properties,omitempty"`     // of its product, KEY=VALUE
	// its turn when its host starts, from 1; 0: it does not start with its host
	StartOrder int `json:"startOrder,omitempty"`
	StartPause int `json:"startPause,omitempty"` // seconds until the next one's turn
	// Tree is the snapshots whose layers lie beside its disks, parents before children.
	Tree   []Snapshot `json:"tree,omitempty"`
	Stands string     `json:"stands,omitempty"` // snapshot that its disks stand on; "" for none
}

// Snapshot is a machine's disks as they were at a moment.
type Snapshot struct {
	Name   string         `json:"name"`
	MadeAt time.Time      `json:"madeAt"`
	Note   string         `json:"note,omitempty"`
	Parent string         `json:"parent,omitempty"` // snapshot that it was made after; "" for none
	Disks  []SnapshotDisk `json:"disks"`
}

// SnapshotDisk is the layer that a disk was at the moment of a snapshot. It takes no writes any more.
type SnapshotDisk struct {
	Disk   string `json:"disk"`
	File   string `json:"file"` // relative to the descriptor
	Format string `json:"format"`
}

// SnapshotNamed finds a snapshot by its name, any case; nil for none.
func (m *Machine) SnapshotNamed(name string) *Snapshot {
	for i := range m.Tree {
		if strings.EqualFold(m.Tree[i].Name, name) {
			return &m.Tree[i]
		}
	}
	return nil
}

// WithoutSnapshots forgets the snapshots of a machine whose disks are copied elsewhere, as they are now.
func (m *Machine) WithoutSnapshots() { m.Tree, m.Stands = nil, "" }

// Kinds of devices.
const (
	DeviceCD          = "cd"
	DeviceFloppy      = "floppy"
	DeviceSerial      = "serial"
	DeviceParallel    = "parallel"
	DeviceSound       = "sound"
	DeviceUSB         = "usb"
	DevicePassthrough = "passthrough" // of the host, handed through
	DeviceShare       = "share"       // a directory of the host shown to the guest
)

// Device is what a machine has beside disks and NICs.
type Device struct {
	Kind string `json:"kind"`
	Name string `json:"name"`           // unique within the machine
	File string `json:"file,omitempty"` // medium in it, or path of the host that it refers to
}

// Disk is a disk of a machine. Its chain's lower layers are not told here.
type Disk struct {
	ID           string `json:"id"`   // in the descriptor, unique within the machine
	File         string `json:"file"` // relative to the descriptor; "" for an empty disk
	Format       string `json:"format"`
	VirtualBytes int64  `json:"virtualBytes"`
	FileBytes    int64  `json:"fileBytes"` // 0 when not stated
	Controller   string `json:"controller"`
	Slot         int    `json:"slot"`
	// that its controller shows the guest; at most SerialLength characters
	Serial string `json:"serial,omitempty"`
}

// SerialLength is how much of a disk's serial every controller shows: that of virtio ends here (Virtual I/O Device
// 1.2, section 5.2.6).
const SerialLength = 20

// NIC is a network adapter.
type NIC struct {
	Name    string `json:"name"`  // unique within the machine
	Model   string `json:"model"` // rasd:ResourceSubType, as stated
	MAC     string `json:"mac"`   // lower case, colons; "" when not stated
	Network string `json:"network"`
	Segment string `json:"segment,omitempty"` // of that network where it was made, when known
	VLAN    int    `json:"vlan,omitempty"`    // likewise; 0: not known or untagged
}

// Product is what a package tells its receiver of what is in it (DSP0243, sections 9.4 and 9.5).
type Product struct {
	Name    string `json:"name,omitempty"`
	Vendor  string `json:"vendor,omitempty"`
	Version string `json:"version,omitempty"`
	Licence string `json:"licence,omitempty"` // text that is to be accepted
	// values that its guest may read, by key
	Properties map[string]string `json:"properties,omitempty"`
}

// Passport is the small record that travels with a copy.
type Passport struct {
	Lineage  string    `json:"lineage"`
	Copy     string    `json:"copy"`
	Parent   string    `json:"parent,omitempty"` // copy it was made from
	MadeBy   string    `json:"madeBy"`           // operation
	MadeAt   time.Time `json:"madeAt"`
	Identity string    `json:"identity"` // original, keep or renew
	Renewed  []string  `json:"renewed,omitempty"`
}

// FileBytes adds up what the machine's disk files hold, in bytes.
func (m *Machine) FileBytes() (sum int64) {
	for _, d := range m.Disks {
		sum += d.FileBytes
	}
	return sum
}

// MACs lists the stated MACs.
func (m *Machine) MACs() []string {
	macs := []string{}
	for _, n := range m.NICs {
		if n.MAC != "" {
			macs = append(macs, n.MAC)
		}
	}
	return macs
}

// Clone returns a copy that shares nothing with m.
func (m *Machine) Clone() *Machine {
	c := *m
	c.Disks = append([]Disk(nil), m.Disks...)
	c.NICs = append([]NIC(nil), m.NICs...)
	c.Devices = append([]Device(nil), m.Devices...)
	c.Boot = append([]string(nil), m.Boot...)
	c.CPUFeatures = append([]string(nil), m.CPUFeatures...)
	c.Snapshots = append([]string(nil), m.Snapshots...)
	c.Static = append([]string(nil), m.Static...)
	c.Properties = append([]string(nil), m.Properties...)
	c.Tree = append([]Snapshot(nil), m.Tree...)
	for i := range c.Tree {
		c.Tree[i].Disks = append([]SnapshotDisk(nil), m.Tree[i].Disks...)
	}
	if m.Passport != nil {
		p := *m.Passport
		c.Passport = &p
	}
	return &c
}

// maxName is the longest name that leaves room for a disk's suffix in a file
// name of 255 bytes.
const maxName = 200

// CheckName tells why name can't be a machine's name and, with it, a folder's.
func CheckName(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("a name is needed")
	case len(name) > maxName:
		return fmt.Errorf("name has %d bytes, at most %d fit", len(name), maxName)
	case strings.HasPrefix(name, "."):
		return fmt.Errorf("name %q begins with a dot", name)
	case strings.HasPrefix(name, "-"):
		return fmt.Errorf("name %q begins as an option does", name)
	case !utf8.ValidString(name):
		return fmt.Errorf("name %q is not in UTF-8", name)
	case strings.TrimSpace(name) != name:
		return fmt.Errorf("name %q begins or ends with a space", name)
	}
	for _, r := range name {
		if unfit(r) {
			return fmt.Errorf("name %q has a character that names can't have: %q", name, r)
		}
	}
	return nil
}

// Unseen tells characters that change what is around them instead of showing
// something: controls, line ends, and the marks that turn the direction of writing
// (Unicode, categories Cc and Zl and Zp; Unicode Standard Annex #9, section 2).
func Unseen(r rune) bool {
	return unicode.IsControl(r) || r == 0x2028 || r == 0x2029 || r == 0x061C || r == 0x200E || r == 0x200F ||
		r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069
}

// unfit tells characters that names of machines and files can't have.
func unfit(r rune) bool {
	return Unseen(r) || strings.ContainsRune(`/\:*?"<>|`, r) || r == utf8.RuneError
}

// Shown is a text from outside as it can be shown: what would not be seen is
// written as \u and its number. Most is how many characters are shown; 0 is all.
func Shown(text string, most int) string {
	var b strings.Builder
	n := 0
	for _, r := range text {
		if n++; most > 0 && n > most {
			b.WriteRune('…')
			break
		}
		if Unseen(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// CleanName makes a usable name of any text.
func CleanName(text string) string {
	clean := strings.Map(func(r rune) rune {
		if unfit(r) {
			return '-'
		}
		return r
	}, text)
	clean = strings.Trim(clean, " .-")
	for len(clean) > maxName {
		_, size := utf8.DecodeLastRuneInString(clean)
		clean = clean[:len(clean)-size]
	}
	if clean == "" {
		return "machine"
	}
	return clean
}
