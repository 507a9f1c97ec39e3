package qemu_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/qemu/sector"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/tests/guest"
)

// ownNetwork puts the test into a network of its own, with a bridge that has an address.
func ownNetwork(t *testing.T, bridge, address string) {
	t.Helper()
	runtime.LockOSThread() // never unlocked: the thread ends with the test
	require.NoError(t, unix.Unshare(unix.CLONE_NEWNET), "tests of networks have to run as root")
	l := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: bridge}}
	require.NoError(t, netlink.LinkAdd(l))
	ip, err := netlink.ParseAddr(address)
	require.NoError(t, err)
	require.NoError(t, netlink.AddrAdd(l, ip))
	require.NoError(t, netlink.LinkSetUp(l))
}

// answers tells whether somebody has an address: it refuses a connection.
func answers(address string) bool {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_SNDTIMEO, &unix.Timeval{Sec: 1})
	at := &unix.SockaddrInet4{Port: 9}
	copy(at.Addr[:], net.ParseIP(address).To4())
	return errors.Is(unix.Connect(fd, at), unix.ECONNREFUSED)
}

// TestBridge: guests on a switch answer on their addresses; one in quarantine, and one that is unplugged, do not.
func TestBridge(t *testing.T) {
	raw, err := guest.Disk() // the first time it is put together from what is downloaded: not from its own network
	require.NoError(t, err)
	ownNetwork(t, "wharf", "192.0.2.1/24")
	var all []*bench
	nic := func(n int, network string) machine.NIC {
		return machine.NIC{Name: fmt.Sprint("NIC ", n), Model: "virtio", Network: network,
			MAC: fmt.Sprintf("06:5c:00:00:00:%02x", n)}
	}
	for _, nics := range [][]machine.NIC{{nic(16, "wharf")}, {nic(18, "quarantine"), nic(19, "")}} {
		b := newBench(t)
		write(t, raw, filepath.Join(b.folder, "disk.qcow2"), "qcow2", "")
		b.m.Disks[0] = machine.Disk{ID: "disk1", File: "disk.qcow2", Format: "qcow2", Controller: "virtio-scsi"}
		b.m.NICs, b.m.MemoryBytes, b.d = nics, 192<<20, b.waits(wait.Bound)
		b.start()
		all = append(all, b)
	}
	// A guest that does not hear while it starts that it is to let go of a device is asked again.
	early := all[1].m.Clone()
	rawDisk(t, filepath.Join(all[1].folder, "early.raw"), nil)
	early.Disks = append(early.Disks, machine.Disk{ID: "disk9", File: "early.raw", Format: "raw",
		Controller: "virtio-blk"})
	require.NoError(t, all[1].d.Adapt(t.Context(), all[1].folder, early))
	require.NoError(t, all[1].d.Adapt(t.Context(), all[1].folder, all[1].m))
	for _, b := range all {
		wait.Until(t, func() bool {
			log, err := b.d.Log(t.Context(), b.folder, 0)
			require.NoError(t, err)
			return strings.Contains(string(log.Text), "guest: ready")
		})
	}
	for n, want := range map[int]bool{16: true, 18: false, 19: false} {
		require.Equal(t, want, answers(fmt.Sprintf("192.0.2.%d", n)), "NIC %d", n)
	}
	for until := time.Now().Add(wait.Bound); ; time.Sleep(10 * time.Millisecond) { // in this thread's network
		heard, err := all[0].d.Addresses(t.Context(), all[0].folder)
		require.NoError(t, err)
		if slices.Equal(heard, []string{"192.0.2.16"}) {
			break
		}
		require.True(t, time.Now().Before(until), "it was heard to use %q", heard)
	}
	heard, err := all[0].driver().Addresses(t.Context(), all[0].folder)
	require.NoError(t, err)
	require.Equal(t, []string{"192.0.2.16"}, heard, "the next agent knows it too")
	list, err := all[0].d.Switches(t.Context())
	require.NoError(t, err)
	require.Contains(t, list, wiring.Switch{Name: "wharf", Segment: "lab", VLAN: 20, Address: "192.0.2.1/24"})
	links, err := netlink.LinkList()
	require.NoError(t, err)
	taps := func() (n int) {
		links, err = netlink.LinkList()
		require.NoError(t, err)
		for _, l := range links {
			if l.Type() == "tuntap" || l.Type() == "tun" {
				n++
			}
		}
		return n
	}
	require.Equal(t, 3, taps())

	// While they run: what is wired elsewhere is there in a second, what is put in is seen, what is taken out goes.
	quiet := all[1]
	adapt := func(b *bench, change func(m *machine.Machine)) {
		t.Helper()
		m := b.m.Clone()
		change(m)
		require.NoError(t, b.d.Adapt(t.Context(), b.folder, m))
		b.m = m
	}
	reached := func(address string, want bool) {
		t.Helper()
		for until := time.Now().Add(wait.Bound); answers(address) != want; time.Sleep(10 * time.Millisecond) {
			require.True(t, time.Now().Before(until), "%s answers: %v", address, !want) // in this thread's network
		}
	}
	adapt(quiet, func(m *machine.Machine) { m.NICs[0].Network = "wharf" })
	reached("192.0.2.18", true)
	adapt(quiet, func(m *machine.Machine) { m.NICs[0].Network = "quarantine" })
	reached("192.0.2.18", false)
	adapt(quiet, func(m *machine.Machine) { m.NICs[0].Network = "wharf" })
	reached("192.0.2.18", true)
	adapt(quiet, func(m *machine.Machine) { m.NICs[0].Network = "" })
	reached("192.0.2.18", false)
	adapt(quiet, func(m *machine.Machine) { m.NICs = append(m.NICs, nic(20, "wharf")) })
	quiet.says("06:5c:00:00:00:14 192.0.2.20")
	require.Equal(t, 4, taps())
	for n, controller := range []string{"virtio-blk", "virtio-scsi", "nvme"} {
		d := machine.Disk{ID: fmt.Sprint("disk", n+2), File: controller + ".raw", Format: "raw", Controller: controller,
			Serial: "TIDE" + controller}
		rawDisk(t, filepath.Join(quiet.folder, d.File), nil)
		adapt(quiet, func(m *machine.Machine) { m.Disks = append(m.Disks, d) })
		quiet.says("serial " + d.Serial)
	}
	adapt(quiet, func(m *machine.Machine) { m.Disks, m.NICs = m.Disks[:1], m.NICs[:2] })
	for _, left := range []string{"left vd", "left sd", "left nvme", "left e"} {
		quiet.says(left)
	}
	require.Equal(t, 3, taps())
	for range 7 { // more often than there are places
		adapt(quiet, func(m *machine.Machine) { m.NICs = append(m.NICs, nic(20, "wharf")) })
		adapt(quiet, func(m *machine.Machine) { m.NICs = m.NICs[:2] })
	}
	for _, b := range all {
		require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.CleanOrOff))
	}
	require.Zero(t, taps(), "they go with the machines")
}

// TestMedia: what is in a drive is changed while the machine runs; a device that its guest does not let go of stays,
// and a disk that can't be put in leaves nothing behind.
func TestMedia(t *testing.T) {
	b := newBench(t)
	for _, name := range []string{"tides.iso", "buoys.iso"} {
		rawDisk(t, filepath.Join(b.folder, name), []byte(name))
	}
	rawDisk(t, filepath.Join(b.folder, "more.raw"), nil)
	b.m.Devices = []machine.Device{{Kind: machine.DeviceCD, Name: "CD drive 1"}}
	b.start()
	b.says("up\n")
	blocks := func() (list []struct{ Device, Inserted json.RawMessage }) {
		t.Helper()
		require.NoError(t, b.d.Ask(t.Context(), b.folder, "query-block", &list))
		return list
	}
	nodes := func() (n int) {
		t.Helper()
		var list []json.RawMessage
		require.NoError(t, b.d.Ask(t.Context(), b.folder, "query-named-block-nodes", &list))
		return len(list)
	}
	before := nodes()
	m := b.m.Clone()
	for _, file := range []string{"tides.iso", filepath.Join(b.folder, "buoys.iso"), "", "tides.iso"} {
		m.Devices[0].File = file
		require.NoError(t, b.d.Adapt(t.Context(), b.folder, m))
		require.Equal(t, file != "", len(blocks()[1].Inserted) > 0)
	}
	require.Equal(t, before+2, nodes(), "what was taken out is closed")
	m.Devices[0].File = "/etc/passwd"
	require.ErrorContains(t, b.d.Adapt(t.Context(), b.folder, m), "leads out of the pools")
	require.NotEmpty(t, blocks()[1].Inserted)

	m = b.m.Clone()
	m.Devices[0].File = "tides.iso"
	m.Disks = append(m.Disks, machine.Disk{ID: "disk2", File: "more.raw", Format: "raw", Controller: "ahci"})
	require.ErrorContains(t, b.d.Adapt(t.Context(), b.folder, m), "takes no disks while the machine runs")
	m.Disks[1].Controller, m.Disks[1].File = "virtio-blk", "not-there"
	require.ErrorContains(t, b.d.Adapt(t.Context(), b.folder, m), "disk disk2: ")
	require.Equal(t, before+2, nodes())
	m.Disks[1].File = "more.raw"
	require.NoError(t, b.d.Adapt(t.Context(), b.folder, m))
	require.ErrorContains(t, b.d.Adapt(t.Context(), b.folder, b.m), "the guest does not let go of disk disk2")
	require.NoError(t, b.d.Adapt(t.Context(), b.folder, m), "as it is")
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.Off))
	require.ErrorContains(t, b.d.Adapt(t.Context(), b.folder, m), "does not run")
}

// TestDiskFull: a machine that finds no room for what it writes stands still and says why; with room it goes on.
func TestDiskFull(t *testing.T) {
	b := newBench(t)
	require.NoError(t, unix.Mount("tmpfs", b.folder, "tmpfs", 0, "size=16m"), "tests of full disks have to run as root")
	t.Cleanup(func() { require.NoError(t, unix.Unmount(b.folder, unix.MNT_DETACH)) })
	rawDisk(t, filepath.Join(b.folder, "disk1.raw"), sector.Writes())
	require.NoError(t, os.Truncate(filepath.Join(b.folder, "disk1.raw"), 1<<30))
	b.start()
	full := driver.Standing{State: machine.Paused, Why: "there is no room left for what it writes: make room in the " +
		"pool, then let it go on (unvora power on)"}
	stands := func(want driver.Standing) {
		t.Helper()
		wait.Until(t, func() bool { return b.stands() == want })
	}
	stands(full)
	before := allocated(t, filepath.Join(b.folder, "disk1.raw"))
	b.start()
	stands(full)
	require.NoError(t, unix.Mount("tmpfs", b.folder, "tmpfs", unix.MS_REMOUNT, "size=32m"))
	b.start()
	stands(full)
	require.Greater(t, allocated(t, filepath.Join(b.folder, "disk1.raw")), before+8<<20, "it went on where it was")
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.Off))
}

// allocated is how much of a file is there, in bytes.
func allocated(t *testing.T, path string) int64 {
	t.Helper()
	var st unix.Stat_t
	require.NoError(t, unix.Stat(path, &st))
	return st.Blocks * 512
}

// TestSwitchGone: a machine whose switch is taken away goes on, and says so; where the switch is made again, it is
// wired to it anew.
func TestSwitchGone(t *testing.T) {
	ownNetwork(t, "wharf", "192.0.2.1/24")
	b := newBench(t)
	b.m.NICs = append(b.m.NICs, machine.NIC{Name: "NIC 2", Model: "virtio", MAC: "06:5c:00:00:00:02", Network: "wharf"})
	b.start()
	require.Equal(t, driver.Standing{State: machine.Running}, b.stands())
	wharf, err := netlink.LinkByName("wharf")
	require.NoError(t, err)
	require.NoError(t, netlink.LinkDel(wharf))
	require.Equal(t, driver.Standing{State: machine.Running,
		Why: "NIC 2 is on no switch any more, since wharf was taken away: wire it anew (unvora nic wire)"}, b.stands())
	require.ErrorContains(t, b.d.Adapt(t.Context(), b.folder, b.m), "wharf")
	require.NoError(t, netlink.LinkAdd(&netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: "wharf"}}))
	require.NoError(t, b.d.Adapt(t.Context(), b.folder, b.m))
	require.Equal(t, driver.Standing{State: machine.Running}, b.stands())
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.Off))
}

// TestFrozenTogether: of machines that are frozen at one instant each goes on as it stood, one that can't be frozen
// keeps all from it, and all go back.
func TestFrozenTogether(t *testing.T) {
	b := newBench(t)
	other := filepath.Join(b.pool, "archive-db")
	require.NoError(t, os.Mkdir(other, 0o755))
	rawDisk(t, filepath.Join(other, "disk1.raw"), display(t))
	second := b.m.Clone()
	second.Name, second.NICs = "archive-db", nil
	q, err := formats.ByName("qcow2")
	require.NoError(t, err)
	var both []driver.ToFreeze
	for folder, m := range map[string]*machine.Machine{b.folder: b.m, other: second} {
		layered := m.Clone()
		layered.Disks[0].File, layered.Disks[0].Format = "layer.qcow2", "qcow2"
		both = append(both, driver.ToFreeze{Folder: folder, Machine: layered})
	}
	require.Error(t, b.d.Freeze(t.Context(), both...), "they don't run")
	b.start()
	require.NoError(t, b.d.Start(t.Context(), other, second))
	t.Cleanup(func() { require.NoError(t, b.d.Stop(context.Background(), other, machine.Off)) })
	require.NoError(t, b.d.Pause(t.Context(), b.folder))
	stands := func() {
		t.Helper()
		require.Equal(t, machine.Paused, b.stands().State, "as it stood")
		now, err := b.d.State(t.Context(), other)
		require.NoError(t, err)
		require.Equal(t, machine.Running, now.State)
	}
	layer := func(folder string) {
		require.NoError(t, formats.NewLayer(filepath.Join(folder, "layer.qcow2"), filepath.Join(folder, "disk1.raw"), q,
			"", formats.Options{Format: "raw", Loose: true}))
	}
	layer(both[0].Folder)
	require.Error(t, b.d.Freeze(t.Context(), both...), "the other has no layer")
	stands()
	layer(both[1].Folder)
	require.NoError(t, b.d.Freeze(t.Context(), both...))
	stands()
	require.NoError(t, b.d.Freeze(t.Context(), both...), "they are frozen already")
	stands()
	for _, f := range both {
		was := f.Machine.Clone()
		was.Disks[0].File, was.Disks[0].Format = "disk1.raw", "raw"
		require.NoError(t, b.d.Commit(t.Context(), f.Folder, was, func() error { return nil }))
	}
	stands()
}
