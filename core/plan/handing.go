package plan

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/machine"
)

// Purposes of a package.
const (
	ForRestore = "restore"  // to restore the machine, or to take it elsewhere: it stays the one that it is
	ForHandOut = "hand-out" // for others: they get a machine, and nothing of this one's
)

// Choices of what becomes of MACs and of the identity.
const (
	Keep = "keep"
	Drop = "drop"
)

// Choices of what becomes of media in drives.
const (
	MediaNamed   = "named"   // the drives name what lies in them; the files do not go along
	MediaWithout = "without" // the drives are empty
)

// HandingRequest is what the caller asks a package to hold.
type HandingRequest struct {
	For         string // ForRestore or ForHandOut; "" for the first. What is said below comes first.
	MACs        string // Keep or Drop; "" as its purpose wants it
	Identity    string // likewise
	Media       string // MediaNamed or MediaWithout; likewise
	LeaveOut    []string
	Drop        []string
	Name        string
	CPUs        int
	MemoryBytes int64
	Product     machine.Product
}

// Handing is how the receiver of a package is to see a machine, where that is not how it is. The machine itself stays
// as it is.
type Handing struct {
	Name         string           `json:"name,omitempty"`
	CPUs         int              `json:"cpus,omitempty"`
	MemoryBytes  int64            `json:"memoryBytes,omitempty"`
	DropMACs     bool             `json:"dropMacs,omitempty"`
	DropIdentity bool             `json:"dropIdentity,omitempty"` // ids, fixed addresses, names of switches
	EmptyDrives  bool             `json:"emptyDrives,omitempty"`
	LeaveOut     []string         `json:"leaveOut,omitempty"` // ids of disks
	Drop         []string         `json:"drop,omitempty"`     // names of devices and NICs
	Product      *machine.Product `json:"product,omitempty"`
	// Networks are what those whose names are dropped are called instead; such as are not in it are numbered.
	Networks map[string]string `json:"networks,omitempty"`
}

// within leaves out what a machine does not have.
func (r HandingRequest) within(m *machine.Machine) HandingRequest {
	r.LeaveOut = slices.DeleteFunc(slices.Clone(r.LeaveOut), func(id string) bool {
		return !slices.ContainsFunc(m.Disks, func(d machine.Disk) bool { return d.ID == id })
	})
	r.Drop = slices.DeleteFunc(slices.Clone(r.Drop), func(name string) bool {
		return !slices.Contains(deviceNames(m), name) &&
			!slices.ContainsFunc(m.NICs, func(n machine.NIC) bool { return n.Name == name })
	})
	return r
}

// handing works out what a package of a machine holds; its errors tell what the machine has instead.
func (r HandingRequest) handing(m *machine.Machine) (Handing, error) {
	out := r.For == ForHandOut
	h := Handing{Name: r.Name, CPUs: r.CPUs, MemoryBytes: r.MemoryBytes, LeaveOut: r.LeaveOut, Drop: r.Drop,
		DropMACs:     r.MACs == Drop || r.MACs == "" && out,
		DropIdentity: r.Identity == Drop || r.Identity == "" && out,
		EmptyDrives:  r.Media == MediaWithout || r.Media == "" && out}
	if p := r.Product; p.Name+p.Vendor+p.Version+p.Licence != "" || len(p.Properties) > 0 {
		h.Product = &p
	}
	if r.Name != "" {
		if err := machine.CheckName(r.Name); err != nil {
			return h, fmt.Errorf("name for the receiver: %w", err)
		}
	}
	disks, names := []string{}, deviceNames(m)
	for _, d := range m.Disks {
		disks = append(disks, d.ID)
	}
	for _, n := range m.NICs {
		names = append(names, n.Name)
	}
	for _, id := range r.LeaveOut {
		if !slices.Contains(disks, id) {
			return h, fmt.Errorf("the machine has no disk %q; it has %s", id, quoted(disks))
		}
	}
	for _, name := range r.Drop {
		if !slices.Contains(names, name) {
			return h, fmt.Errorf("the machine has no device %q; it has %s", name, quoted(names))
		}
	}
	if r.MemoryBytes != 0 && r.MemoryBytes < 1<<20 {
		return h, fmt.Errorf("memory for the receiver: %d bytes, and a machine has 1 MiB at least", r.MemoryBytes)
	}
	for key := range r.Product.Properties {
		if strings.HasSuffix("."+key, ".") || strings.Contains(key, ":") || strings.ContainsFunc(key, machine.Unseen) {
			return h, fmt.Errorf("a property is KEY=VALUE or CLASS.KEY=VALUE, and %q is no key", key)
		}
	}
	return h, nil
}

// Of is a machine as the receiver of the package sees it.
func (h Handing) Of(m *machine.Machine) *machine.Machine {
	m = m.Clone()
	m.WithoutSnapshots()
	dropFirstStart(m)
	m.Disks = slices.DeleteFunc(m.Disks, func(d machine.Disk) bool { return slices.Contains(h.LeaveOut, d.ID) })
	m.NICs = slices.DeleteFunc(m.NICs, func(n machine.NIC) bool { return slices.Contains(h.Drop, n.Name) })
	m.Devices = slices.DeleteFunc(m.Devices, func(d machine.Device) bool { return slices.Contains(h.Drop, d.Name) })
	m.Boot = slices.DeleteFunc(m.Boot, func(name string) bool {
		return slices.Contains(h.LeaveOut, name) || slices.Contains(h.Drop, name)
	})
	if h.Name != "" {
		m.Name = h.Name
	}
	if h.CPUs > 0 {
		m.CPUs = h.CPUs
		if m.CoresPerSocket > 0 && h.CPUs%m.CoresPerSocket != 0 {
			m.CoresPerSocket = 0
		}
	}
	if h.MemoryBytes > 0 {
		m.MemoryBytes, m.MinMemoryBytes = h.MemoryBytes, min(m.MinMemoryBytes, h.MemoryBytes)
	}
	if h.EmptyDrives {
		for i, d := range m.Devices {
			if d.Kind == machine.DeviceCD || d.Kind == machine.DeviceFloppy {
				m.Devices[i].File = ""
			}
		}
	}
	if h.DropMACs {
		for i := range m.NICs {
			m.NICs[i].MAC = ""
		}
	}
	if h.DropIdentity {
		h.dropIdentity(m)
	}
	return m
}

// dropIdentity takes out what tells a machine and its site from others, what its guest was told by its site, and what
// belongs to its host. Networks stay apart from each other: they are numbered.
func (h Handing) dropIdentity(m *machine.Machine) {
	m.UUID, m.FirmwareUUID, m.Serial, m.GenerationID, m.Static = "", "", "", "", nil
	m.Properties, m.TPMKey, m.StartOrder, m.StartPause = nil, "", 0, 0
	m.Devices = slices.DeleteFunc(m.Devices, func(d machine.Device) bool { // they are the host's
		return d.Kind == machine.DevicePassthrough || d.Kind == machine.DeviceShare
	})
	for i, d := range m.Devices {
		if d.File != "" {
			m.Devices[i].File = path.Base(d.File) // where it lies here says nothing there
		}
	}
	for i := range m.Disks {
		m.Disks[i].Serial = ""
	}
	numbered := maps.Clone(h.Networks)
	if numbered == nil {
		numbered = map[string]string{}
	}
	for i, n := range m.NICs {
		if n.Network != "" && numbered[n.Network] == "" {
			numbered[n.Network] = fmt.Sprintf("net-%d", len(numbered)+1)
		}
		m.NICs[i].Network, m.NICs[i].Segment, m.NICs[i].VLAN = numbered[n.Network], "", 0
	}
	if pp := m.Passport; pp != nil { // what is left tells only that two packages are the same
		m.Passport = &machine.Passport{Copy: pp.Copy, MadeAt: pp.MadeAt, Identity: pp.Identity}
	}
}

// says tells what a package holds, for people.
func (h Handing) says(m *machine.Machine) string {
	var kept, gone []string
	sort := func(dropped bool, what string) {
		if dropped {
			gone = append(gone, what)
		} else {
			kept = append(kept, what)
		}
	}
	if len(m.MACs()) > 0 {
		sort(h.DropMACs, "MACs")
	}
	sort(h.DropIdentity, "ids, fixed addresses, names of networks")
	if len(m.Properties) > 0 {
		sort(h.DropIdentity, "values of its properties")
	}
	for _, d := range m.Devices {
		if h.DropIdentity && (d.Kind == machine.DevicePassthrough || d.Kind == machine.DeviceShare) {
			sort(true, d.Name)
		}
		if d.File != "" && !holdsFirstStart(d) && (d.Kind == machine.DeviceCD || d.Kind == machine.DeviceFloppy) {
			sort(h.EmptyDrives, "what lies in "+d.Name)
		}
	}
	for _, id := range h.LeaveOut {
		sort(true, "disk "+id)
	}
	for _, name := range h.Drop {
		sort(true, name)
	}
	said := ""
	if len(gone) > 0 {
		said = "The receiver does not get: " + strings.Join(gone, ", ") + "."
	}
	if len(kept) > 0 {
		said += " It keeps its " + strings.Join(kept, ", ") + ": to restore it, or to take it elsewhere."
	}
	return strings.TrimSpace(said)
}
