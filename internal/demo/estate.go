package demo

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent"
)

// sampleHost is a host of the sample estate.
type sampleHost struct {
	name, family, site string
	cpus               int
	memoryMiB          int64
	pools              []agent.PoolConfig // paths relative to the host's directory
	shelves            []agent.ShelfConfig
	switches           []wiring.Switch
	machines           []sampleMachine
}

type sampleMachine struct {
	name, guest string
	pool        string
	cpus        int
	memoryMiB   int64
	running     bool
	stray       bool   // lies in its pool without being listed
	macOf       string // has the MAC of the machine of that name
	disks       []sampleDisk
	networks    []string // segments, one NIC each
}

type sampleDisk struct {
	id               string
	pool             string // "" beside the descriptor
	sizeMiB, dataMiB int64
}

// estate is Skerrow Coastal Observatory, as far as it is played.
var estate = []sampleHost{
	{
		name: "gannet", family: "slate", site: "Northhead", cpus: 16, memoryMiB: 64 << 10,
		pools: []agent.PoolConfig{
			{Name: "reef", Path: "reef", Labels: []string{"fast"}},
			{Name: "harbour", Path: "../../share/harbour", Labels: []string{"archive"}},
			{Name: "kelp", Path: "kelp", Removable: true},
		},
		shelves:  []agent.ShelfConfig{{Name: "loft", Path: "loft"}},
		switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}, {Name: "field", Segment: "field", VLAN: 30}, {Name: "quarantine", Segment: wiring.Quarantine}},
		machines: []sampleMachine{
			{name: "tide-gauge", guest: "Debian GNU/Linux 12 (64-bit)", pool: "reef", cpus: 2, memoryMiB: 2048, networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 96}}},
			{name: "buoy-ingest", guest: "Debian GNU/Linux 12 (64-bit)", pool: "reef", cpus: 4, memoryMiB: 4096, networks: []string{"lab", "field"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 8192, dataMiB: 24}}},
			{name: "archive-db", guest: "Debian GNU/Linux 12 (64-bit)", pool: "reef", cpus: 8, memoryMiB: 16384, running: true, networks: []string{"lab"},
				disks: []sampleDisk{{id: "disk1", sizeMiB: 8192, dataMiB: 16}, {id: "disk2", sizeMiB: 16384, dataMiB: 32}, {id: "disk3", pool: "harbour", sizeMiB: 16384, dataMiB: 16}}},
			{name: "chart-render", guest: "Debian GNU/Linux 12 (64-bit)", pool: "kelp", cpus: 4, memoryMiB: 8192, stray: true, networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 24}}},
		},
	},
	{
		name: "petrel", family: "slate", site: "Northhead", cpus: 8, memoryMiB: 32 << 10,
		pools: []agent.PoolConfig{
			{Name: "reef", Path: "reef", Labels: []string{"fast"}},
			{Name: "harbour", Path: "../../share/harbour", Labels: []string{"archive"}},
		},
		shelves:  []agent.ShelfConfig{{Name: "attic", Path: "attic"}},
		switches: []wiring.Switch{{Name: "labnet", Segment: "lab", VLAN: 20}, {Name: "quarantine", Segment: wiring.Quarantine}},
		machines: []sampleMachine{
			{name: "chart-render", guest: "Debian GNU/Linux 12 (64-bit)", pool: "reef", cpus: 4, memoryMiB: 8192, running: true, networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 4096, dataMiB: 24}}},
			{name: "tide-probe", guest: "Debian GNU/Linux 12 (64-bit)", pool: "reef", cpus: 1, memoryMiB: 1024, macOf: "tide-gauge", networks: []string{"lab"}, disks: []sampleDisk{{id: "disk1", sizeMiB: 2048, dataMiB: 8}}},
		},
	},
}

// build makes what is not there yet: directories, machines, agents' files.
func build(dir string, ports map[string]int) error {
	for _, h := range estate {
		root := filepath.Join(dir, "hosts", h.name)
		config := agent.Config{Name: h.name, Site: h.site, Family: h.family, Driver: "standin", Listen: fmt.Sprintf("127.0.0.1:%d", ports[h.name]),
			State: filepath.Join(root, "state"), CPUs: h.cpus, MemoryMB: h.memoryMiB, Switches: h.switches}
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
		_, err := os.Stat(made)
		first := errors.Is(err, fs.ErrNotExist)
		for _, m := range h.machines {
			if first {
				if err := m.make(pools, h.switches); err != nil {
					return fmt.Errorf("%s/%s: %w", h.name, m.name, err)
				}
			}
			if !m.stray {
				config.Machines = append(config.Machines, agent.MachineConfig{Folder: filepath.Join(pools[m.pool], m.name), Running: m.running})
			}
		}
		if err := writeTOML(filepath.Join(root, "agent.toml"), config); err != nil {
			return err
		}
		if err := os.WriteFile(made, nil, 0o644); err != nil {
			return err
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
func (s sampleMachine) make(pools map[string]string, switches []wiring.Switch) error {
	folder := filepath.Join(pools[s.pool], s.name)
	if err := os.RemoveAll(folder); err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	m := &machine.Machine{Name: s.name, UUID: sampleUUID("uuid " + s.name), FirmwareUUID: sampleUUID("firmware " + s.name),
		CPUs: s.cpus, MemoryBytes: s.memoryMiB << 20, Firmware: "bios", Guest: s.guest, GuestID: 96} // 96: Debian 64-bit
	for i, d := range s.disks {
		file := fmt.Sprintf("%s-%s.qcow2", s.name, d.id)
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
		if err := d.make(path, s.name); err != nil {
			return err
		}
		m.Disks = append(m.Disks, machine.Disk{ID: d.id, File: file, Format: "qcow2", VirtualBytes: d.sizeMiB << 20, Controller: "virtio-scsi", Slot: i})
	}
	for i, segment := range s.networks {
		sw := switches[slices.IndexFunc(switches, func(w wiring.Switch) bool { return w.Segment == segment })]
		owner := s.name
		if s.macOf != "" {
			owner = s.macOf
		}
		m.NICs = append(m.NICs, machine.NIC{Name: fmt.Sprintf("NIC %d", i+1), Model: "virtio", MAC: sampleMAC(fmt.Sprint("mac ", owner, i)), Network: sw.Name, Segment: sw.Segment, VLAN: sw.VLAN})
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

const mib = 1 << 20

// make writes a disk with a boot sector, a partition table and text that
// compresses about as well as what guests hold.
func (d sampleDisk) make(path, owner string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	src, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	size := d.sizeMiB * mib
	img, err := qcow2.Create(src, disk.Spec{VirtualBytes: size, ID: sampleUUID("disk " + owner + d.id)})
	if err != nil {
		return err
	}
	rng := rand.New(seeded("data " + owner + d.id))
	if err := img.Put(0, bootBlock(size), img.BlockBytes()); err != nil {
		return err
	}
	block := make([]byte, mib)
	for n := range d.dataMiB {
		fill(block, rng)
		// Data lies in runs with holes between them, as in a file system.
		at := (1 + n + n/8*((d.sizeMiB-d.dataMiB-2)*8/max(8, d.dataMiB)/2)) * mib
		if at > size-2*mib {
			at = size - 2*mib
		}
		if err := img.Put(at, block, mib); err != nil {
			return err
		}
	}
	return img.Finish()
}

// bootBlock is an MBR that says on the screen that there is nothing to start
// (in 16-bit code), with one partition from 1 MiB to the end.
func bootBlock(size int64) []byte {
	b := make([]byte, 64<<10)
	code := []byte{0xbe, 0x1b, 0x7c, 0xac, 0x08, 0xc0, 0x74, 0x09, 0xb4, 0x0e, 0xbb, 0x07, 0x00, 0xcd, 0x10, 0xeb, 0xf2, 0xf4, 0xeb, 0xfd}
	copy(b, code)
	copy(b[0x1b:], "A sample disk of Skerrow Coastal Observatory.\r\n\x00")
	entry := b[446:462]
	entry[0], entry[4] = 0x80, 0x83
	binary.LittleEndian.PutUint32(entry[8:], mib/512)
	binary.LittleEndian.PutUint32(entry[12:], uint32((size-mib)/512))
	b[510], b[511] = 0x55, 0xaa
	return b
}

var words = []string{"tide", "level", "metres", "gauge", "north", "buoy", "wave", "height", "period", "wind", "gust", "pressure", "hPa", "station", "quality", "ok"}

// fill writes readings as text, with some bytes that do not compress.
func fill(p []byte, rng *rand.Rand) {
	for n := 0; n < len(p); {
		if rng.IntN(4) == 0 {
			var b [8]byte
			binary.LittleEndian.PutUint64(b[:], rng.Uint64())
			n += copy(p[n:], b[:])
			continue
		}
		n += copy(p[n:], words[rng.IntN(len(words))])
		n += copy(p[n:], fmt.Sprintf(" %d\n", rng.IntN(100000)))
	}
}
