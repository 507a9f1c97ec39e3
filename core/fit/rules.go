package fit

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/machine"
)

// Abilities are what a host states of itself beyond its family.
type Abilities struct {
	// of its CPUs, beyond what every one has
	Features []string `json:"features,omitempty" toml:"features"`
	// why it has no hardware virtualisation; "" when it has
	NoAcceleration string   `json:"noAcceleration,omitempty" toml:"no_acceleration"`
	FreeMemory     int64    `json:"freeMemory,omitempty" toml:"free_memory"` // bytes; 0: not known
	Keys           []string `json:"keys,omitempty" toml:"keys"`              // names of those in its keyring
	// of those, the ones that exist nowhere else
	UnsavedKeys []string `json:"unsavedKeys,omitempty" toml:"unsaved_keys"`
	// after which a change that cut it off is taken back
	ReturnSeconds int `json:"returnSeconds,omitempty" toml:"-"`
	// a machine must be somebody's of these; empty: it may be nobody's
	Owners  []string `json:"owners,omitempty" toml:"owners"`
	Quotas  []Quota  `json:"quotas,omitempty" toml:"quota"`  // shares of owners
	Classes []Class  `json:"classes,omitempty" toml:"class"` // sizes in force; empty: any size
	// a machine may have a size of its own all the same
	CustomSizes bool `json:"customSizes,omitempty" toml:"custom_sizes"`
	// what its hypervisor can beyond starting and stopping
	Can []Ability `json:"can,omitempty" toml:"-"`
}

// Ability is something that only some hypervisors can.
type Ability string

// The abilities.
const (
	MakesSwitches Ability = "switches"  // virtual switches are made and dropped
	SeesAddresses Ability = "addresses" // it tells which addresses a guest uses
	KeepsConsole  Ability = "console"   // what a guest says on its serial port is kept
	HasDisplay    Ability = "display"   // its screen is seen, and used, from elsewhere
	Pauses        Ability = "pause"
	Suspends      Ability = "suspend"
	BootsOnce     Ability = "boot-once" // a start from another device than usual
	ChangesLive   Ability = "live"      // disks, NICs and media come and go while a machine runs
	Freezes       Ability = "freeze"    // disks of a running machine, at one instant
	Lasts         Ability = "lasting"   // machines go on when the agent ends
)

// AllAbilities are all that there are.
var AllAbilities = []Ability{MakesSwitches, SeesAddresses, KeepsConsole, HasDisplay, Pauses, Suspends, BootsOnce,
	ChangesLive, Freezes, Lasts}

// Does tells whether the host can something.
func (a Abilities) Does(what Ability) bool { return slices.Contains(a.Can, what) }

// Quota is what an owner's machines may take of a host; 0 for no bound.
type Quota struct {
	Owner       string `json:"owner" toml:"owner"`
	Machines    int    `json:"machines" toml:"machines"`
	MemoryBytes int64  `json:"memoryBytes" toml:"memory_bytes"`
}

// Host is what Judge needs to know of a host.
type Host struct {
	Name        string
	CPUs        int
	MemoryBytes int64
	Family      Family
	Abilities
}

// Rule is one entry of the judgement of hardware.
type Rule struct {
	Code string
	// Look raises the finding where it applies.
	Look func(m *machine.Machine, h Host, g *Guest) []Finding
	// Settle changes the machine as a finding was answered.
	Settle func(m *machine.Machine, f Finding) error
}

func number(f Finding) (int64, error) {
	n, err := strconv.ParseInt(f.Value(), 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%s: %q is not a number", f.Code, f.Value())
	}
	return n, nil
}

func one(f Finding) []Finding { return []Finding{f} }

func drop[T any](list []T, is func(T) bool) []T { return slices.DeleteFunc(slices.Clone(list), is) }

// replaceNIC, replaceController and the like carry remedies out.
func replaceNIC(m *machine.Machine, f Finding) error {
	for i := range m.NICs {
		if m.NICs[i].Name == f.Subject && f.Remedy() == "replace" {
			m.NICs[i].Model = f.Value()
		}
	}
	return nil
}

func replaceController(m *machine.Machine, f Finding) error {
	for i := range m.Disks {
		if m.Disks[i].ID == f.Subject && f.Remedy() == "replace" {
			m.Disks[i].Controller = f.Value()
		}
	}
	return nil
}

func removeDevice(m *machine.Machine, f Finding) error {
	switch f.Remedy() {
	case "remove":
		m.Devices = drop(m.Devices, func(d machine.Device) bool { return d.Name == f.Subject })
	case "eject", "elsewhere", "file":
		for i := range m.Devices {
			if m.Devices[i].Name == f.Subject {
				m.Devices[i].File = f.Value()
			}
		}
	}
	return nil
}

// devices raises a finding for each device that the test holds for.
func devices(code string, says func(d machine.Device) string) func(*machine.Machine, Host, *Guest) []Finding {
	return func(m *machine.Machine, _ Host, _ *Guest) (fs []Finding) {
		for _, d := range m.Devices {
			if text := says(d); text != "" {
				fs = append(fs, Raise(code, d.Name, text, map[string]any{"kind": d.Kind, "file": d.File}))
			}
		}
		return fs
	}
}

var faresBadly = []string{"FreeBSD", "Solaris", "Windows 2000", "Windows NT", "Netware"}

// suited picks, from the models of a family, one that the guest has a driver
// for; where nothing is known of that, the usual one.
func suited(models []string, g *Guest) string {
	if g != nil && g.Drivers != nil {
		for _, m := range models {
			if slices.Contains(g.Drivers, m) {
				return m
			}
		}
	}
	return models[0]
}

func driverKnown(model string, g *Guest) string {
	switch {
	case g == nil || g.Drivers == nil:
		return fmt.Sprintf(" Whether its guest has a driver for %s is not known.", model)
	case slices.Contains(g.Drivers, model):
		return fmt.Sprintf(" Its guest has a driver for %s.", model)
	}
	return fmt.Sprintf(" Its guest was not seen to have a driver for %s.", model)
}

// Rules is the judgement of hardware, in the order in which it is made: what
// one settles, the next ones see.
var Rules = []Rule{
	{"cpu.architecture", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.Architecture == "" || m.Architecture == h.Family.Architecture {
			return nil
		}
		return one(Raise("cpu.architecture", m.Name, fmt.Sprintf("It has %s CPUs; %s has %s. Choose another host.",
			m.Architecture, h.Name, h.Family.Architecture), nil))
	}, nil},
	{"cpu.too-many", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		most := min(h.CPUs, h.Family.MaxCPUs)
		if most <= 0 || m.CPUs <= most {
			return nil
		}
		f := Raise("cpu.too-many", m.Name, fmt.Sprintf("It has %d CPUs; %s gives a machine %d at most.", m.CPUs, h.Name,
			most), map[string]any{"has": m.CPUs, "most": most})
		f.Suggest("reduce", fmt.Sprintf("Reduce them to %d", most), strconv.Itoa(most))
		return one(f)
	}, func(m *machine.Machine, f Finding) error {
		if f.Remedy() != "reduce" {
			return nil
		}
		n, err := number(f)
		m.CPUs = int(n)
		return err
	}},
	{"cpu.topology", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		c := m.CoresPerSocket
		if c == 0 || c <= h.Family.MaxCores && m.CPUs%c == 0 {
			return nil
		}
		best := 1
		for n := 1; n <= min(m.CPUs, h.Family.MaxCores); n++ {
			if m.CPUs%n == 0 && n <= c {
				best = n
			}
		}
		f := Raise("cpu.topology", m.Name, fmt.Sprintf("%d CPUs can't be given as sockets of %d cores: hosts of the "+
			"family "+
			"%s have %d at most, and every socket as many.", m.CPUs, c, h.Family.Name, h.Family.MaxCores), nil)
		f.Suggest("nearest", fmt.Sprintf("%d sockets of %d cores", m.CPUs/best, best), strconv.Itoa(best))
		return one(f)
	}, func(m *machine.Machine, f Finding) error {
		if f.Remedy() != "nearest" {
			return nil
		}
		n, err := number(f)
		m.CoresPerSocket = int(n)
		return err
	}},
	{"cpu.feature-missing", func(m *machine.Machine, h Host, _ *Guest) (fs []Finding) {
		for _, feature := range m.CPUFeatures {
			if !slices.Contains(h.Features, feature) {
				fs = append(fs, Raise("cpu.feature-missing", feature,
					fmt.Sprintf("It requires the CPU feature %s, which %s does not give.", feature, h.Name), nil))
			}
		}
		return fs
	}, func(m *machine.Machine, f Finding) error {
		if f.Remedy() == "without" {
			m.CPUFeatures = drop(m.CPUFeatures, func(s string) bool { return s == f.Subject })
		}
		return nil
	}},
	{"memory.too-much", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		most, says := h.MemoryBytes, fmt.Sprintf("%s has %s", h.Name, Size(h.MemoryBytes))
		if h.FreeMemory > 0 && h.FreeMemory < most {
			most, says = h.FreeMemory, fmt.Sprintf("%s has %s free of %s", h.Name, Size(h.FreeMemory),
				Size(h.MemoryBytes))
		}
		if most <= 0 || m.MemoryBytes <= most {
			return nil
		}
		f := Raise("memory.too-much", m.Name, fmt.Sprintf("It has %s of memory; %s.", Size(m.MemoryBytes), says),
			map[string]any{"has": m.MemoryBytes, "most": most})
		f.Suggest("reduce", "Reduce it to "+Size(most), strconv.FormatInt(most, 10))
		return one(f)
	}, func(m *machine.Machine, f Finding) (err error) {
		if f.Remedy() == "reduce" {
			m.MemoryBytes, err = number(f)
		}
		return err
	}},
	{"memory.varying", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.MinMemoryBytes == 0 || m.MinMemoryBytes == m.MemoryBytes {
			return nil
		}
		why := ""
		if !h.Family.VaryingMemory {
			why = fmt.Sprintf("Hosts of the family %s give fixed memory only", h.Family.Name)
		}
		for _, bad := range faresBadly {
			if strings.Contains(m.Guest, bad) {
				why = bad + " fares badly with memory that varies"
			}
		}
		if why == "" {
			return nil
		}
		f := Raise("memory.varying", m.Name, fmt.Sprintf("Its memory varies between %s and %s. %s.",
			Size(m.MinMemoryBytes),
			Size(m.MemoryBytes), why), nil)
		f.Suggest("fix", "Fix it at "+Size(m.MemoryBytes), strconv.FormatInt(m.MemoryBytes, 10))
		return one(f)
	}, func(m *machine.Machine, f Finding) (err error) {
		if f.Remedy() == "fix" {
			m.MinMemoryBytes = 0
			m.MemoryBytes, err = number(f)
		}
		return err
	}},
	{"size.class", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if len(h.Classes) == 0 || slices.ContainsFunc(h.Classes,
			func(c Class) bool { return c.CPUs == m.CPUs && c.MemoryBytes == m.MemoryBytes }) {
			return nil
		}
		names := make([]string, len(h.Classes))
		var near *Class
		for i, c := range h.Classes {
			names[i] = c.Name
			if c.CPUs >= m.CPUs && c.MemoryBytes >= m.MemoryBytes &&
				(near == nil || c.MemoryBytes*int64(near.CPUs) < near.MemoryBytes*int64(c.CPUs) &&
					c.CPUs <= near.CPUs ||
					c.CPUs < near.CPUs) {
				near = &h.Classes[i]
			}
		}
		f := Raise("size.class", m.Name, fmt.Sprintf("%d CPUs with %s of memory is none of the sizes in force: %s.",
			m.CPUs, Size(m.MemoryBytes), strings.Join(names, ", ")), nil)
		if near != nil {
			f.Suggest("nearest", fmt.Sprintf("%s: %d CPUs, %s", near.Name, near.CPUs, Size(near.MemoryBytes)),
				fmt.Sprintf("%d/%d", near.CPUs, near.MemoryBytes))
		} else {
			f.Withdraw("nearest")
		}
		if !h.CustomSizes {
			f.Withdraw("custom")
		}
		return one(f)
	}, func(m *machine.Machine, f Finding) (err error) {
		if f.Remedy() == "nearest" {
			_, err = fmt.Sscanf(f.Value(), "%d/%d", &m.CPUs, &m.MemoryBytes)
		}
		return err
	}},
	{"firmware.unsupported", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.Firmware != "" && !slices.Contains(h.Family.Firmware, m.Firmware) {
			return one(Raise("firmware.unsupported", m.Name, fmt.Sprintf("It starts with %s firmware, which hosts of "+
				"the "+
				"family %s do not have. Choose another host.", m.Firmware, h.Family.Name), nil))
		}
		if m.SecureBoot && !h.Family.SecureBoot {
			return one(Raise("firmware.unsupported", m.Name, fmt.Sprintf("It starts securely, which hosts of the "+
				"family %s do "+
				"not do. Choose another host.", h.Family.Name), nil))
		}
		return nil
	}, nil},
	{"firmware.variables-missing", func(m *machine.Machine, _ Host, _ *Guest) []Finding {
		if m.Firmware != "uefi" || m.Variables != "" {
			return nil
		}
		return one(Raise("firmware.variables-missing", m.Name,
			"It starts with UEFI and has no store of its variables, such as the boot entries.", nil))
	}, func(m *machine.Machine, f Finding) error {
		if f.Remedy() == "fresh" {
			m.Variables = machine.CleanName(m.Name) + ".variables"
		}
		return nil
	}},
	{"hardware.newer", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.Hardware <= h.Family.MaxHardware {
			return nil
		}
		f := Raise("hardware.newer", m.Name, fmt.Sprintf("Its virtual hardware is of revision %d; hosts of the "+
			"family %s "+
			"go up to %d.", m.Hardware, h.Family.Name, h.Family.MaxHardware), nil)
		f.Suggest("lower", fmt.Sprintf("Lower it to %d", h.Family.MaxHardware), strconv.Itoa(h.Family.MaxHardware))
		return one(f)
	}, settleHardware},
	{"hardware.older", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.Hardware == 0 || m.Hardware >= h.Family.MinHardware {
			return nil
		}
		f := Raise("hardware.older", m.Name, fmt.Sprintf("Its virtual hardware is of revision %d; hosts of the "+
			"family %s "+
			"begin with %d.", m.Hardware, h.Family.Name, h.Family.MinHardware), nil)
		f.Suggest("raise", fmt.Sprintf("Raise it to %d", h.Family.MinHardware), strconv.Itoa(h.Family.MinHardware))
		return one(f)
	}, settleHardware},
	{"tpm.unsupported", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.TPM == "" || h.Family.TPM {
			return nil
		}
		return one(Raise("tpm.unsupported", m.Name, fmt.Sprintf("It has a TPM %s; hosts of the family %s give none. "+
			"Without it, the secrets in it are lost: disks that it unlocks stay locked.", m.TPM, h.Family.Name), nil))
	}, func(m *machine.Machine, f Finding) error {
		if f.Remedy() == "without" {
			m.TPM, m.TPMKey = "", ""
		}
		return nil
	}},
	{"tpm.key-missing", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.TPM == "" || m.TPMKey == "" || slices.Contains(h.Keys, m.TPMKey) {
			return nil
		}
		return one(Raise("tpm.key-missing", m.Name, fmt.Sprintf("The state of its TPM is sealed with the key %s, "+
			"which %s "+
			"lacks. Bring the key there first, or seal the state anew at the source.", m.TPMKey, h.Name),
			map[string]any{"key": m.TPMKey}))
	}, nil},
	{"key.no-backup", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if m.TPM == "" || !slices.Contains(h.UnsavedKeys, m.TPMKey) {
			return nil
		}
		return one(Raise("key.no-backup", m.Name, fmt.Sprintf("The key %s, with which its TPM state is sealed, "+
			"exists only "+
			"on %s: if that host is lost, so is what the TPM protects.", m.TPMKey, h.Name),
			map[string]any{"key": m.TPMKey}))
	}, nil},
	{"nic.model", func(m *machine.Machine, h Host, g *Guest) (fs []Finding) {
		for _, n := range m.NICs {
			if n.Model != "" && !has(h.Family.NICs, n.Model) {
				to := suited(h.Family.NICs, g)
				f := Raise("nic.model", n.Name, fmt.Sprintf("Hosts of the family %s have no adapter of the model %s.",
					h.Family.Name, n.Model)+driverKnown(to, g), map[string]any{"model": n.Model,
					"models": h.Family.NICs})
				f.Suggest("replace", "Replace it by "+to, to)
				fs = append(fs, f)
			}
		}
		return fs
	}, replaceNIC},
	{"controller.model", func(m *machine.Machine, h Host, g *Guest) (fs []Finding) {
		for _, d := range m.Disks {
			if d.Controller != "" && !has(h.Family.Controllers, d.Controller) {
				to := suited(h.Family.Controllers, g)
				f := Raise("controller.model", d.ID, fmt.Sprintf("Hosts of the family %s have no disk controller of "+
					"the model %s.",
					h.Family.Name, d.Controller)+driverKnown(to, g), map[string]any{"model": d.Controller,
					"models": h.Family.Controllers})
				f.Suggest("replace", "Replace it by "+to, to)
				fs = append(fs, f)
			}
		}
		return fs
	}, replaceController},
	{"guest.driver-missing", func(m *machine.Machine, h Host, g *Guest) (fs []Finding) {
		if g == nil || g.Drivers == nil {
			return nil
		}
		for _, d := range m.Disks {
			c := strings.ToLower(d.Controller)
			if c == "" || slices.Contains(g.Drivers, c) {
				continue
			}
			f := Raise("guest.driver-missing", d.ID, fmt.Sprintf("Its guest was not seen to have a driver for %s: it "+
				"would "+
				"not find the disk it starts from.", c), nil)
			if to := suited(h.Family.Controllers, g); slices.Contains(g.Drivers, to) {
				f.Suggest("replace", "Connect it to "+to+", which the guest knows", to)
			} else {
				f.Withdraw("replace")
				f.Recommend("")
			}
			fs = append(fs, f)
		}
		return fs
	}, replaceController},
	{"device.passthrough", devices("device.passthrough", func(d machine.Device) string {
		if d.Kind != machine.DevicePassthrough {
			return ""
		}
		return fmt.Sprintf("It hands through a device of its old host, %s, which is not here.", d.File)
	}), removeDevice},
	{"device.host-path", devices("device.host-path", func(d machine.Device) string {
		if d.File == "" || d.Kind == machine.DevicePassthrough || d.Kind != machine.DeviceShare &&
			!strings.HasPrefix(d.File, "/") && !strings.Contains(d.File, `\`) {
			return ""
		}
		return fmt.Sprintf("It refers to %s, a path of its old host.", d.File)
	}), removeDevice},
	{"device.needless", devices("device.needless", func(d machine.Device) string {
		switch d.Kind {
		case machine.DeviceFloppy, machine.DeviceSerial, machine.DeviceParallel, machine.DeviceUSB:
			if d.File != "" {
				return ""
			}
		case machine.DeviceSound:
		default:
			return ""
		}
		return "Nothing is connected to it; a server hardly needs it."
	}), removeDevice},
	{"device.limit", func(m *machine.Machine, h Host, _ *Guest) (fs []Finding) {
		count := map[string]int{"nic": len(m.NICs), "disk": len(m.Disks)}
		for _, d := range m.Devices {
			count[d.Kind]++
		}
		kinds := []string{"nic", "disk"}
		for kind := range h.Family.MaxOf {
			if kind != "nic" && kind != "disk" {
				kinds = append(kinds, kind)
			}
		}
		slices.Sort(kinds)
		for _, kind := range kinds {
			if most, known := h.Family.MaxOf[kind]; known && count[kind] > most {
				f := Raise("device.limit", kind, fmt.Sprintf("It has %d of the kind %s; hosts of the family %s give "+
					"%d.",
					count[kind], kind, h.Family.Name, most), nil)
				f.Suggest("first", fmt.Sprintf("Keep the first %d", most), strconv.Itoa(most))
				fs = append(fs, f)
			}
		}
		return fs
	}, func(m *machine.Machine, f Finding) error {
		if f.Remedy() != "first" {
			return nil
		}
		most, err := strconv.Atoi(f.Value())
		if err != nil || most < 0 {
			return fmt.Errorf("%s: %q is not a number", f.Code, f.Value())
		}
		switch f.Subject {
		case "nic":
			m.NICs = m.NICs[:min(most, len(m.NICs))]
		case "disk":
			m.Disks = m.Disks[:min(most, len(m.Disks))]
		}
		seen := 0
		m.Devices = drop(m.Devices, func(d machine.Device) bool {
			if d.Kind != f.Subject {
				return false
			}
			seen++
			return seen > most
		})
		return nil
	}},
	{"guest.unknown", func(m *machine.Machine, _ Host, g *Guest) []Finding {
		if m.Guest != "" && !strings.HasPrefix(strings.ToLower(m.Guest), "other") {
			return nil
		}
		f := Raise("guest.unknown", m.Name, "Its operating system is not stated.", nil)
		if g != nil && g.System != "" {
			f.Message = fmt.Sprintf("Its operating system is not stated; on its disk is %s.", g.System)
			f.Suggest("found", "It is "+g.System, g.System)
		} else {
			f.Withdraw("found")
			f.Recommend("unknown")
		}
		return one(f)
	}, settleGuest},
	{"guest.stated-wrong", func(m *machine.Machine, _ Host, g *Guest) []Finding {
		if m.Guest == "" || g == nil || g.System == "" || alike(m.Guest, g.System) {
			return nil
		}
		f := Raise("guest.stated-wrong", m.Name, fmt.Sprintf("Its operating system is stated as %s; on its disk is %s.",
			m.Guest, g.System), nil)
		f.Suggest("found", "It is "+g.System, g.System)
		return one(f)
	}, settleGuest},
	{"host.no-acceleration", func(m *machine.Machine, h Host, _ *Guest) []Finding {
		if h.NoAcceleration == "" {
			return nil
		}
		return one(Raise("host.no-acceleration", h.Name, fmt.Sprintf("%s has no hardware virtualisation (%s). "+
			"Machines run there, slowly.", h.Name, h.NoAcceleration), nil))
	}, nil},
}

func settleHardware(m *machine.Machine, f Finding) error {
	if f.Remedy() != "lower" && f.Remedy() != "raise" {
		return nil
	}
	n, err := number(f)
	m.Hardware = int(n)
	return err
}

func settleGuest(m *machine.Machine, f Finding) error {
	if r := f.Remedy(); r == "found" || r == "choose" {
		m.Guest, m.GuestID = f.Value(), OSType(f.Value())
	}
	return nil
}

// osTypes are values of CIM_OperatingSystem.OSType by a part of the name.
var osTypes = []struct {
	part string
	id   int
}{
	{"Windows Server 2022", 113}, {"Windows Server 2019", 113}, {"Windows Server 2016", 113}, {"Windows Server", 77},
	{"Windows 11", 105}, {"Windows 10", 105},
	{"Debian", 96}, {"Ubuntu", 94}, {"Red Hat", 80}, {"CentOS", 107}, {"SUSE", 83}, {"FreeBSD", 78}, {"Linux", 101},
}

// OSType is the number that CIM has for a system of that name; 1, "other", for none.
func OSType(name string) int {
	for _, t := range osTypes {
		if strings.Contains(name, t.part) {
			return t.id
		}
	}
	return 1
}

// alike tells whether two names mean one system: their first word and their
// first number are the same, as far as both have one.
func alike(a, b string) bool {
	first := func(s string) (word, digits string) {
		for _, f := range strings.FieldsFunc(strings.ToLower(s),
			func(r rune) bool { return strings.ContainsRune(" ()/-", r) }) {
			switch {
			case word == "":
				word = f
			case digits == "" && f[0] >= '0' && f[0] <= '9' && f != "64" && f != "32":
				digits, _, _ = strings.Cut(f, ".")
			}
		}
		return word, digits
	}
	wa, na := first(a)
	wb, nb := first(b)
	return wa == wb && (na == nb || na == "" || nb == "")
}

// Judge lists what would be found if nothing were settled.
func Judge(m *machine.Machine, h Host, g *Guest) (fs []Finding) {
	for _, r := range Rules {
		fs = append(fs, r.Look(m, h, g)...)
	}
	return fs
}
