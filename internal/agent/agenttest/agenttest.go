// Package agenttest makes the ground that tests of an agent's rooms stand on, and machine folders, images and packages.
package agenttest

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/agent/ground"
)

// New is the ground of an agent of gannet, with the pool reef, the shelf loft, and so many machines on its list.
// change, if it is not nil, sees the configuration before.
func New(t testing.TB, machines int, change func(c *ground.Config)) (*ground.Ground, string) {
	t.Helper()
	dir := t.TempDir()
	pool, shelf := filepath.Join(dir, "reef"), filepath.Join(dir, "loft")
	require.NoError(t, os.MkdirAll(pool, 0o755))
	require.NoError(t, os.MkdirAll(shelf, 0o755))
	config := ground.Config{Name: "gannet", Site: "Northhead", Family: "slate", Driver: "standin",
		State: filepath.Join(dir, "state"), CPUs: 16, MemoryMB: 65536,
		Switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}},
		Pools:    []ground.PoolConfig{{Name: "reef", Path: pool}},
		Shelves:  []ground.ShelfConfig{{Name: "loft", Path: shelf}}}
	for n := range machines {
		name := fmt.Sprintf("training-%04d", n)
		AddFolder(t, pool, name)
		config.Machines = append(config.Machines, ground.MachineConfig{Folder: filepath.Join(pool, name)})
	}
	if change != nil {
		change(&config)
	}
	g := Open(t, config)
	require.NoError(t, g.Records.FirstRegister(config.Machines))
	return g, pool
}

// Open opens the records of a configuration, as an agent does that starts; they are closed with the test.
func Open(t testing.TB, config ground.Config) *ground.Ground {
	t.Helper()
	family, err := fit.FamilyByName(config.Family)
	require.NoError(t, err)
	require.NoError(t, door.Own(config.State))
	log := slog.New(slog.DiscardHandler)
	records, err := ground.OpenRecords(filepath.Join(config.State, "agent.db"), log)
	require.NoError(t, err)
	d := standin.New(config.Switches, config.Ports, config.Door())
	t.Cleanup(func() { require.NoError(t, errors.Join(records.Close(), d.Close())) })
	return &ground.Ground{Config: config, Family: family, Driver: d, Door: config.Door(), Records: records, Log: log}
}

// AddFolder makes a machine folder without disks.
func AddFolder(t testing.TB, pool, name string) {
	t.Helper()
	folder := filepath.Join(pool, name)
	require.NoError(t, os.MkdirAll(folder, 0o755))
	d, err := ovf.New(&machine.Machine{Name: name, UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1,
		MemoryBytes: 1 << 30, Firmware: "bios"})
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
}

// Lying makes a machine folder with a QCOW2 disk, a layer on another file of the pool.
func Lying(t testing.TB, pool, name string) (folder string, m *machine.Machine) {
	t.Helper()
	folder = filepath.Join(pool, name)
	require.NoError(t, os.Mkdir(folder, 0o755))
	base := filepath.Join(pool, name+".img")
	require.NoError(t, os.WriteFile(base, disktest.Pattern(3<<20, 4), 0o644))
	format, err := formats.ByName("qcow2")
	require.NoError(t, err)
	require.NoError(t, formats.NewLayer(filepath.Join(folder, "d.qcow2"), base, format,
		"0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", formats.Options{}))
	m = &machine.Machine{Name: name, UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1, MemoryBytes: 1 << 30,
		Disks: []machine.Disk{{ID: "disk1", File: "d.qcow2", Format: "qcow2", VirtualBytes: 3 << 20}}}
	d, err := ovf.New(m)
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
	return folder, m
}

// Shelve writes a package with a manifest onto a shelf.
func Shelve(t testing.TB, path string) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	d, err := ovf.New(&machine.Machine{Name: "tide-gauge", UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1,
		MemoryBytes: 1 << 30, Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: "tide-gauge.vmdk", Format: "vmdk", VirtualBytes: 4 << 20}}})
	require.NoError(t, err)
	raw, err := d.Encode(8192)
	require.NoError(t, err)
	w := ovf.NewWriter(f, "tide-gauge.ovf", 8192, time.Unix(1700000000, 0), ovf.SHA256, nil)
	h := ovf.NewHash("sha256")
	target, err := vmdk.CreateStream(io.MultiWriter(io.NewOffsetWriter(f, w.Begin()), h),
		disk.Spec{VirtualBytes: 4 << 20, ID: "1234abcd"}, nil)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(disktest.Pattern(4<<20, 2)), 0,
		target.BlockBytes()), disk.Options{}))
	require.NoError(t, target.Finish())
	require.NoError(t, w.End(ovf.Member{Name: "tide-gauge.vmdk", Size: target.Length(),
		Sum: hex.EncodeToString(h.Sum(nil))}))
	_, err = w.Finish(raw)
	require.NoError(t, err)
}

// WriteImage writes an image of what a feed tells.
func WriteImage(t testing.TB, path, format string, spec disk.Spec, feed disk.Feed) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	file, err := disk.OpenFile(f)
	require.NoError(t, err)
	kind, err := formats.ByName(format)
	require.NoError(t, err)
	target, err := kind.Create(file, spec)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, feed, disk.Options{}))
	require.NoError(t, target.Finish())
}
