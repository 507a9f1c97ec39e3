package demo

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent"
	"unvora.example/unvora/internal/agent/driver/qemu"
	"unvora.example/unvora/internal/agent/ground"
)

// sampleHost is a host of the sample estate.
type sampleHost struct {
	name, family, site string
	cpus               int
	memoryMiB          int64
	driver             string              // "" for the stand-in
	pools              []ground.PoolConfig // paths relative to the host's directory
	shelves            []ground.ShelfConfig
	switches           []wiring.Switch
	machines           []sampleMachine
}

type sampleMachine struct {
	name, guest string
	guestID     int
	pool        string
	cpus        int
	memoryMiB   int64
	running     bool
	stray       bool   // lies in its pool without being listed
	hollow      bool   // its folder is taken away once it was surveyed
	display     string // shown by its boot sector, which is all the system that it has
	macOf       string // has the MAC of the machine of that name
	disks       []sampleDisk
	networks    []string // segments, one NIC each
	more        func(m *machine.Machine)
}

type sampleDisk struct {
	id               string
	pool             string // "" beside the descriptor
	sizeMiB, dataMiB int64
	parent           string // path in the machine's pool: the disk is a layer on it
	movedTo          string // where that parent is put once the layer was made
}

const (
	debian     = "Debian GNU/Linux 12 (64-bit)"
	debianID   = 96 // CIM_OperatingSystem.OSType
	windows    = "Windows Server 2022 (64-bit)"
	windowsID  = 113
	kioskMedia = "visitor-guide.iso"
)

// estate is Skerrow Coastal Observatory, as far as it is played.
var estate = []sampleHost{
	{
		name: "gannet", family: "slate", site: "Northhead", cpus: 16, memoryMiB: 64 << 10,
		pools: []ground.PoolConfig{
			{Name: "reef", Path: "reef", Labels: []string{"fast"}},
			{Name: "harbour", Path: "../../share/harbour", Labels: []string{"archive"}},
			{Name: "kelp", Path: "kelp", Removable: true, Rate: 18 << 20}, // as a small USB drive is
		},
		shelves: []ground.ShelfConfig{{Name: "loft", Path: "loft"}},
		switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20, Uplink: "port2", Tagged: true},
			{Name: "field", Segment: "field", VLAN: 30, Uplink: "port2", Tagged: true},
			{Name: "quarantine", Segment: wiring.Quarantine}},
		machines: append([]sampleMachine{
			{name: "tide-gauge", guest: debian, guestID: debianID, pool: "reef", cpus: 2, memoryMiB: 2048,
				networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 96}}},
			{name: "buoy-ingest", guest: debian, guestID: debianID, pool: "reef", cpus: 4, memoryMiB: 4096,
				networks: []string{"lab", "field"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 8192, dataMiB: 24}},
				more: func(m *machine.Machine) { m.Static = []string{"198.51.100.17"} }},
			{name: "archive-db", guest: debian, guestID: debianID, pool: "reef", cpus: 8, memoryMiB: 16384,
				running:  true,
				networks: []string{"lab"},
				disks: []sampleDisk{{id: "disk1", sizeMiB: 8192, dataMiB: 16},
					{id: "disk2", sizeMiB: 16384, dataMiB: 32},
					{id: "disk3", pool: "harbour", sizeMiB: 16384, dataMiB: 16}}},
			{name: "chart-render", guest: debian, guestID: debianID, pool: "kelp", cpus: 4, memoryMiB: 8192,
				stray:    true,
				networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 24}}},
		}, class()...),
	},
	{
		name: "petrel", family: "slate", site: "Northhead", cpus: 8, memoryMiB: 32 << 10,
		pools: []ground.PoolConfig{
			{Name: "reef", Path: "reef", Labels: []string{"fast"}},
			{Name: "harbour", Path: "../../share/harbour", Labels: []string{"archive"}},
		},
		shelves: []ground.ShelfConfig{{Name: "attic", Path: "attic"}},
		switches: []wiring.Switch{{Name: "labnet", Segment: "lab", VLAN: 20, Uplink: "port2", Tagged: true},
			{Name: "quarantine", Segment: wiring.Quarantine}},
		machines: []sampleMachine{
			{name: "chart-render", guest: debian, guestID: debianID, pool: "reef", cpus: 4, memoryMiB: 8192,
				running:  true,
				networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 24}}},
			{name: "tide-probe", guest: debian, guestID: debianID, pool: "reef", cpus: 1, memoryMiB: 1024,
				macOf:    "tide-gauge",
				networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 2048, dataMiB: 8}}},
		},
	},
	{
		name: "skua", family: "chalk", site: "Quay", cpus: 24, memoryMiB: 128 << 10,
		pools: []ground.PoolConfig{{Name: "shoal", Path: "shoal"}},
		switches: []wiring.Switch{{Name: "Lab-20", Segment: "lab", VLAN: 20, Uplink: "port2", Tagged: true},
			{Name: "Field-30", Segment: "field", VLAN: 30, Uplink: "port2", Tagged: true},
			{Name: "visitors", Segment: "visitors", VLAN: 40, Uplink: "port2", Tagged: true}},
		machines: []sampleMachine{
			{name: "wave-model", guest: debian, guestID: debianID, pool: "shoal", cpus: 12, memoryMiB: 96 << 10,
				networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 32768, dataMiB: 24}}},
			{name: "kiosk-visitor", guest: debian, guestID: debianID, pool: "shoal", cpus: 2, memoryMiB: 2048,
				networks: []string{"visitors"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 8}},
				more: func(m *machine.Machine) {
					m.Firmware, m.NICs[0].Model = "uefi", "RTL8139"
					m.Devices = []machine.Device{{Kind: machine.DeviceCD, Name: "CD drive 1", File: kioskMedia},
						{Kind: machine.DeviceFloppy, Name: "Floppy drive 1"},
						{Kind: machine.DeviceSerial, Name: "Serial port 1"},
						{Kind: machine.DeviceSound, Name: "Sound card 1"}}
				}},
			{name: "old-telemetry", guest: debian, guestID: debianID, pool: "shoal", cpus: 1, memoryMiB: 1024,
				hollow:   true,
				networks: []string{"field"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 2048, dataMiB: 1}}},
		},
	},
	{
		name: "fulmar", family: "flint", site: "Quay", cpus: 4, memoryMiB: 16 << 10,
		pools: []ground.PoolConfig{{Name: "ledge", Path: "ledge"}},
		switches: []wiring.Switch{{Name: "laboratory", Segment: "lab", VLAN: 20, Uplink: "port2", Tagged: true},
			{Name: "outside", Segment: "field", VLAN: 30, Uplink: "port2", Tagged: true}},
		machines: []sampleMachine{
			{name: "licence-desk", guest: windows, guestID: windowsID, pool: "ledge", cpus: 2, memoryMiB: 4096,
				networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 8192, dataMiB: 16}},
				more: func(m *machine.Machine) { m.Firmware, m.TPM = "uefi", "2.0" }},
			{name: "sonar-lab", guest: debian, guestID: debianID, pool: "ledge", cpus: 2, memoryMiB: 2048,
				networks: []string{"lab"},
				disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 8, parent: "sonar-base/sonar-base.vhdx",
					movedTo: "sonar-parents/sonar-base.vhdx"}}},
		},
	},
}

// hosts are those of the estate, with tern where QEMU is installed.
func hosts() []sampleHost {
	if hypervisor() != nil {
		return estate
	}
	return append(slices.Clone(estate), tern())
}

// hypervisor says why nothing really runs here.
func hypervisor() error {
	_, err := exec.LookPath(qemu.BinaryName)
	if err != nil {
		err = errors.New("QEMU is not installed, so that the host tern is left out: apt-get install qemu-system-x86")
	}
	return err
}

// tern is the host that is not played: machines really run on it, where QEMU is installed.
func tern() sampleHost {
	cpus, memory := thisComputer()
	return sampleHost{
		name: "tern", family: "qemu", site: "Ferry", driver: "qemu", cpus: cpus, memoryMiB: memory,
		pools:    []ground.PoolConfig{{Name: "tideline", Path: "tideline"}},
		switches: []wiring.Switch{{Name: "quarantine", Segment: wiring.Quarantine}},
		machines: []sampleMachine{{name: "ferry-display", pool: "tideline", cpus: 1, memoryMiB: 64,
			display:  "Skerrow Coastal Observatory\r\nFerry to Quay: 07:40  12:15  18:20\r\n",
			networks: []string{wiring.Quarantine}, disks: []sampleDisk{{id: "disk1", sizeMiB: 64}}}},
	}
}

// thisComputer is its CPUs and memory.
func thisComputer() (cpus int, memoryMiB int64) {
	var info unix.Sysinfo_t
	if err := unix.Sysinfo(&info); err != nil {
		return runtime.NumCPU(), 1024
	}
	return runtime.NumCPU(), int64(info.Totalram) * int64(info.Unit) >> 20
}

// class is the machines of a training: layers on one parent.
func class() (all []sampleMachine) {
	for n := range 12 {
		all = append(all, sampleMachine{name: fmt.Sprintf("training-%02d", n+1), guest: debian, guestID: debianID,
			pool: "reef", cpus: 1, memoryMiB: 1024, networks: []string{"lab"},
			disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 8, parent: "training-parent/classroom.qcow2"}}})
	}
	return all
}

// build makes what is not there yet: directories, machines, agents' files.
func build(dir string, ports map[string]int, now func(sampleMachine) bool) error {
	var g errgroup.Group // machines are made side by side
	g.SetLimit(2 * runtime.NumCPU())
	marks := map[string][]byte{} // the machines of each host that are made
	for _, h := range hosts() {
		root := filepath.Join(dir, "hosts", h.name)
		config := agent.Config{Name: h.name, Site: h.site, Family: h.family, Driver: cmp.Or(h.driver, "standin"),
			Listen: fmt.Sprintf("127.0.0.1:%d", ports[h.name]),
			State:  filepath.Join(root, "state"), CPUs: h.cpus, MemoryMB: h.memoryMiB, Switches: h.switches,
			Ports:         h.ports(),
			ReturnSeconds: 5, StopSeconds: 10, Web: []string{"127.0.0.1"}}
		if h.driver != "" { // it makes no switches, and its ports are the computer's own
			config.Ports = nil
		}
		pools := map[string]string{}
		for _, p := range h.pools {
			p.Path = filepath.Join(root, p.Path)
			pools[p.Name] = p.Path
			config.Pools = append(config.Pools, p)
			if err := os.MkdirAll(p.Path, 0o755); err != nil {
				return err
			}
		}
		for _, s := range h.shelves {
			s.Path = filepath.Join(root, s.Path)
			config.Shelves = append(config.Shelves, s)
			if err := os.MkdirAll(s.Path, 0o755); err != nil {
				return err
			}
		}
		made := filepath.Join(root, "machines-made")
		had, err := os.ReadFile(made)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		all := err == nil && len(had) == 0 // made when their names were not noted yet
		for _, m := range h.machines {
			if !all && !slices.Contains(strings.Fields(string(had)), m.name) && now(m) {
				marks[made] = fmt.Appendln(marks[made], m.name)
				g.Go(func() error {
					if err := m.make(pools, h); err != nil {
						return fmt.Errorf("%s/%s: %w", h.name, m.name, err)
					}
					return nil
				})
			}
			if !m.stray {
				config.Machines = append(config.Machines, ground.MachineConfig{Folder: filepath.Join(pools[m.pool],
					m.name),
					Running: m.running})
			}
		}
		if err := writeTOML(filepath.Join(root, "agent.toml"), config); err != nil {
			return err
		}
		if marks[made] = append(had, marks[made]...); len(marks[made]) == 0 {
			delete(marks, made)
		}
	}
	g.Go(func() error { return packages(filepath.Join(dir, "packages")) })
	if err := g.Wait(); err != nil {
		return err
	}
	for made, names := range marks {
		if err := os.WriteFile(made, names, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// ports of a host: the first bears the address that it is reached by, those of
// its switches follow, and one is free.
func (h sampleHost) ports() []wiring.Port {
	list := []wiring.Port{{Name: "port1", Address: "127.0.0.1"}, {Name: "port2"}}
	for _, s := range h.switches {
		if !slices.ContainsFunc(list, func(p wiring.Port) bool { return p.Name == s.Uplink || s.Uplink == "" }) {
			list = append(list, wiring.Port{Name: s.Uplink})
		}
	}
	return append(list, wiring.Port{Name: fmt.Sprintf("port%d", len(list)+1)})
}

// hollowOut takes away the folders of machines that are registered and whose
// files are gone. It is done once they were seen.
func hollowOut(dir string) error {
	for _, h := range hosts() {
		for _, m := range h.machines {
			if !m.hollow {
				continue
			}
			for _, p := range h.pools {
				if p.Name == m.pool {
					if err := os.RemoveAll(filepath.Join(dir, "hosts", h.name, p.Path, m.name)); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// seeded is random numbers that are the same each time.
func seeded(text string) *rand.ChaCha8 {
	return rand.NewChaCha8(sha256.Sum256([]byte("skerrow " + text)))
}

func sampleUUID(text string) string {
	id, err := uuid.NewRandomFromReader(seeded(text))
	if err != nil {
		panic(err) // the source does not end
	}
	return id.String()
}

func sampleMAC(text string) string {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], seeded(text).Uint64())
	return fmt.Sprintf("06:5c:00:%02x:%02x:%02x", b[0], b[1], b[2])
}

// make writes a machine folder. A try that was cut short is thrown away.
func (s sampleMachine) make(pools map[string]string, h sampleHost) error {
	family, err := fit.FamilyByName(h.family)
	if err != nil {
		return err
	}
	format, err := formats.ByName(family.Formats[0])
	if err != nil {
		return err
	}
	folder := filepath.Join(pools[s.pool], s.name)
	if err := os.RemoveAll(folder); err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	m := &machine.Machine{Name: s.name, UUID: sampleUUID("uuid " + s.name),
		FirmwareUUID: sampleUUID("firmware " + s.name),
		CPUs:         s.cpus, MemoryBytes: s.memoryMiB << 20, Firmware: "bios", Guest: s.guest, GuestID: s.guestID}
	for i, segment := range s.networks {
		sw := h.switches[slices.IndexFunc(h.switches, func(w wiring.Switch) bool { return w.Segment == segment })]
		owner := s.name
		if s.macOf != "" {
			owner = s.macOf
		}
		m.NICs = append(m.NICs, machine.NIC{Name: fmt.Sprintf("NIC %d", i+1), Model: family.NICs[0],
			MAC: sampleMAC(fmt.Sprint("mac ", owner, i)), Network: sw.Name, Segment: sw.Segment, VLAN: sw.VLAN})
	}
	if s.more != nil {
		s.more(m)
	}
	for i, d := range s.disks {
		file := fmt.Sprintf("%s-%s%s", s.name, d.id, format.Extension)
		path := filepath.Join(folder, file)
		if d.pool != "" {
			beside := filepath.Join(pools[d.pool], s.name+"-disks")
			if err := os.MkdirAll(beside, 0o755); err != nil {
				return err
			}
			path = filepath.Join(beside, file)
			rel, err := filepath.Rel(folder, path)
			if err != nil {
				return err
			}
			file = rel
		}
		if err := d.place(pools[s.pool], path, format, s, i == 0); err != nil {
			return err
		}
		m.Disks = append(m.Disks, machine.Disk{ID: d.id, File: file, Format: format.Name, VirtualBytes: d.sizeMiB << 20,
			Controller: family.Controllers[0], Slot: i})
	}
	for _, d := range m.Devices {
		if d.File == kioskMedia {
			if err := os.WriteFile(filepath.Join(folder, kioskMedia), medium(), 0o644); err != nil {
				return err
			}
		}
	}
	d, err := ovf.New(m)
	if err != nil {
		return err
	}
	raw, err := d.Encode(0)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, s.name+".ovf"), raw, 0o644)
}
