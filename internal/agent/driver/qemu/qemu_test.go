package qemu_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"image/png"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/drivertest"
	"unvora.example/unvora/internal/agent/driver/qemu"
	"unvora.example/unvora/internal/agent/driver/qemu/sector"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/tests/guest"
)

// TestMain: this program is also the keeper of the machines that its tests start.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == qemu.KeeperCommand {
		if err := qemu.Keep(os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	if len(os.Args) > 3 && os.Args[1] == qemu.ConfinedCommand {
		fmt.Fprintln(os.Stderr, qemu.Confine(os.Args[3:]))
		os.Exit(1)
	}
	if len(os.Args) > 1 && os.Args[1] == tryCommand {
		try(os.Args[2:])
	}
	os.Exit(m.Run())
}

// rawDisk makes a raw disk of 1 MiB that starts with this sector.
func rawDisk(t *testing.T, path string, first []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, append(first, make([]byte, 1<<20-len(first))...), 0o600))
}

// display is a guest that says up, and what is typed.
func display(t *testing.T) []byte {
	t.Helper()
	b, err := sector.Display("up\n")
	require.NoError(t, err)
	return b
}

// logBytes is how much a host of these tests keeps of what a machine says, before it is the older half.
const logBytes = 8 << 10

// switches of the host.
var switches = []wiring.Switch{{Name: "quarantine", Segment: wiring.Quarantine},
	{Name: "wharf", Segment: "lab", VLAN: 20}}

// bench is a host with one pool.
type bench struct {
	*testing.T
	pool, state, folder string
	d                   *qemu.Driver
	m                   *machine.Machine
}

func newBench(t *testing.T) *bench {
	t.Helper()
	_, err := exec.LookPath("qemu-system-x86_64")
	require.NoError(t, err, "QEMU is missing: apt-get install qemu-system-x86 (make test does that)")
	b := &bench{T: t, pool: t.TempDir(), state: filepath.Join(t.TempDir(), "machines")}
	b.folder = filepath.Join(b.pool, "ferry-display")
	require.NoError(t, os.Mkdir(b.folder, 0o755))
	rawDisk(t, filepath.Join(b.folder, "disk1.raw"), display(t))
	b.m = &machine.Machine{Name: "ferry-display", CPUs: 1, MemoryBytes: 32 << 20, Firmware: "bios",
		FirmwareUUID: "5f0e3c1a-7a39-4a7c-9d0b-4ad3c5b6f001",
		GenerationID: "5f0e3c1a-7a39-4a7c-9d0b-4ad3c5b6f002",
		NICs:         []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: "06:5c:00:00:00:01", Network: "quarantine"}},
		Disks:        []machine.Disk{{ID: "disk1", File: "disk1.raw", Format: "raw", Controller: "ahci"}}}
	b.d = b.driver()
	t.Cleanup(func() { require.NoError(t, b.d.Stop(context.Background(), b.folder, machine.CleanOrOff)) })
	return b
}

func (b *bench) driver() *qemu.Driver { return b.waits(2 * time.Second) }

// waits is a driver that gives guests some time to do what they are asked.
func (b *bench) waits(patience time.Duration) *qemu.Driver {
	b.Helper()
	d, err := qemu.New(qemu.Options{State: b.state, Files: door.New(b.pool), Patience: patience,
		LogBytes: logBytes, Switches: switches,
		Host: qemu.Look(b.Context(), qemu.AccelerationOff)})
	require.NoError(b, err)
	return d
}

func (b *bench) stands() driver.Standing {
	b.Helper()
	s, err := b.d.State(b.Context(), b.folder)
	require.NoError(b, err)
	return s
}

func (b *bench) start() {
	b.Helper()
	require.NoError(b, b.d.Start(b.Context(), b.folder, b.m))
}

// says waits for the machine to say something on its serial port.
func (b *bench) says(text string) {
	b.Helper()
	wait.Until(b, func() bool {
		log, err := b.d.Log(b.Context(), b.folder, 0)
		require.NoError(b, err)
		return strings.Contains(string(log.Text), text)
	}, "it does not say %q", text)
}

// behind has QEMU do something behind the driver's back.
func (b *bench) behind(command string) {
	b.Helper()
	dirs, err := os.ReadDir(b.state)
	require.NoError(b, err)
	b.Chdir(filepath.Join(b.state, dirs[0].Name())) // a socket's address is short
	c, err := net.Dial("unix", "monitor")
	require.NoError(b, err)
	defer c.Close()
	_, err = io.WriteString(c, `{"execute": "qmp_capabilities"} {"execute": "`+command+`"}`)
	require.NoError(b, err)
	said := bufio.NewReader(c)
	for done := 0; done < 2; { // else it may be gone before QEMU has read it
		line, err := said.ReadString('\n')
		require.NoError(b, err)
		if strings.Contains(line, `"return"`) {
			done++
		}
	}
}

// pids are those of the processes that have this text in their arguments.
func pids(t *testing.T, text string) (list []int) {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, path := range all {
		raw, err := os.ReadFile(path)
		if err == nil && strings.Contains(string(raw), text) {
			var pid int
			_, err := fmt.Sscanf(path, "/proc/%d/", &pid)
			require.NoError(t, err)
			list = append(list, pid)
		}
	}
	return list
}

func TestConforms(t *testing.T) {
	b := newBench(t)
	drivertest.Conform(t, drivertest.Sample{Driver: b.d, Folder: b.folder, Machine: b.m,
		Again: func() driver.Driver { return b.driver() }})
}

// TestConsole: what a guest says is kept, what is typed reaches it, and one that shuts down by itself is seen to.
func TestConsole(t *testing.T) {
	b := newBench(t)
	b.start()
	b.says("up\n")
	c, err := b.d.Port(t.Context(), b.folder)
	require.NoError(t, err)
	defer c.Close()
	_, err = io.WriteString(c, "tide\n")
	require.NoError(t, err)
	b.says("tide\n")
	line, err := bufio.NewReader(c).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "tide\n", line)
	b.behind("system_powerdown")
	wait.Until(t, func() bool { return b.stands().State == machine.Stopped })
	require.Contains(t, b.stands().Why, "its guest shut down")
	<-b.d.Noticed()
	b.start()
	b.says("tide\nup\n") // the log goes on
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.CleanOrOff))
	require.Empty(t, b.stands().Why, "somebody asked for it")
	_, err = b.d.Port(t.Context(), b.folder)
	require.Error(t, err, "it does not run")
}

// TestGoesOn: a machine that stands still is told to, and goes on when it is started.
func TestGoesOn(t *testing.T) {
	b := newBench(t)
	b.start()
	b.says("up\n")
	b.behind("stop")
	require.Equal(t, driver.Standing{State: machine.Paused}, b.stands())
	b.start()
	require.Equal(t, driver.Standing{State: machine.Running}, b.stands())
}

// TestEveryController: a machine starts from a disk at each controller that the family has, in each format and layered.
func TestEveryController(t *testing.T) {
	for _, controller := range []string{"virtio-blk", "virtio-scsi", "ahci", "nvme", "ide"} {
		t.Run(controller, func(t *testing.T) {
			b := newBench(t)
			b.m.Disks[0].Controller = controller
			if controller == "nvme" {
				b.m.CPUs, b.m.CoresPerSocket = 4, 2
			}
			b.start()
			b.says("up\n")
		})
	}
}

// TestDies: one that is killed is noticed, with its last words; its disk is free again.
func TestDies(t *testing.T) {
	b := newBench(t)
	b.start()
	b.says("up\n")
	for _, pid := range b.processes("isa-serial,chardev=serial") {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	select {
	case <-b.d.Noticed():
	case <-time.After(wait.Bound):
		t.Fatal("it was not noticed")
	}
	require.Equal(t, machine.Stopped, b.stands().State)
	require.Regexp(t, `^died: signal: killed \(`, b.stands().Why)
	b.start()
}

// TestRefused: what can't be run is refused before anything runs, or with QEMU's own words.
func TestRefused(t *testing.T) {
	b := newBench(t)
	outside := filepath.Join(t.TempDir(), "secret.raw")
	rawDisk(t, outside, display(t))
	for says, spoil := range map[string]func(m *machine.Machine){
		"leads out of the pools":   func(m *machine.Machine) { m.Disks[0].File = "../../" + filepath.Base(outside) },
		"is none that this host":   func(m *machine.Machine) { m.NICs[0].Model = "ghost" },
		"its controller \"tape\"":  func(m *machine.Machine) { m.Disks[0].Controller = "tape" },
		"is no UUID":               func(m *machine.Machine) { m.FirmwareUUID = "x,file=/etc/passwd" },
		"can't be shown":           func(m *machine.Machine) { m.Serial = "a\nb" },
		"at least one CPU":         func(m *machine.Machine) { m.CPUs = 0 },
		"QEMU did not start: died": func(m *machine.Machine) { m.CPUs = 100_000 },
		"medium of CD drive 1: ": func(m *machine.Machine) {
			m.Devices = []machine.Device{{Kind: "cd", Name: "CD drive 1", File: "/etc/passwd"}}
		},
		"disk disk1 has no file":        func(m *machine.Machine) { m.Disks[0].File = "" },
		"no bridge of that name":        func(m *machine.Machine) { m.NICs[0].Network = "wharf" },
		"which this host does not have": func(m *machine.Machine) { m.NICs[0].Network = "pier" },
		"disk disk1: ":                  func(m *machine.Machine) { m.Disks[0].Format = "qcow2" },
	} {
		m := b.m.Clone()
		spoil(m)
		require.ErrorContains(t, b.d.Start(t.Context(), b.folder, m), says)
		require.Equal(t, machine.Stopped, b.stands().State)
	}
}

// TestLogIsBounded: a guest that floods its serial port fills no drive, and positions go on.
func TestLogIsBounded(t *testing.T) {
	b := newBench(t)
	flood := make([]byte, sector.Bytes)
	copy(flood, []byte{0xba, 0xf8, 0x03, 0xb0, '#', 0xee, 0xeb, 0xfb}) // again: out 3f8h, '#'; again
	flood[510], flood[511] = 0x55, 0xaa
	rawDisk(t, filepath.Join(b.folder, "disk1.raw"), flood)
	b.start()
	wait.Until(t, func() bool {
		log, err := b.d.Log(t.Context(), b.folder, 0)
		require.NoError(t, err)
		require.LessOrEqual(t, len(log.Text), 2*logBytes)
		return log.From > 0
	})
}

// TestProbe: the sector that proves acceleration ends QEMU as it should, also where nothing is accelerated.
func TestProbe(t *testing.T) {
	h := qemu.Look(t.Context(), qemu.AccelerationProbe)
	require.NotEmpty(t, h.Version)
	require.NoError(t, qemu.Probe(t.Context(), h.Binary, "tcg"))
	require.ErrorContains(t, qemu.Probe(t.Context(), h.Binary, "none-such"), "QEMU could not use none-such")
}

// write makes an image of what a raw disk holds.
func write(t *testing.T, raw, path, format, variant string) {
	t.Helper()
	kind, err := formats.ByName(format)
	require.NoError(t, err)
	_, err = carry.Copy(t.Context(), carry.Order{Source: raw, Options: formats.Options{Format: "raw"}, Target: path,
		Format: kind, Variant: variant, ID: "8b1f3b0a-3d65-4d8e-9a0e-6a1f0c5d7e01"})
	require.NoError(t, err)
}

// TestEveryFormat: a machine starts from a disk in each format that the family runs, and from layers; a variant that
// QEMU runs badly, or that names further files, is refused before anything runs.
func TestEveryFormat(t *testing.T) {
	family, err := fit.FamilyByName("qemu")
	require.NoError(t, err)
	for _, format := range family.Formats {
		t.Run(format, func(t *testing.T) {
			b := newBench(t)
			raw := filepath.Join(b.folder, "disk1.raw")
			b.m.Disks[0].File, b.m.Disks[0].Format = "disk."+format, format
			write(t, raw, filepath.Join(b.folder, b.m.Disks[0].File), format, "")
			b.start()
			b.says("up\n")
		})
	}
	t.Run("layers", func(t *testing.T) {
		b := newBench(t)
		base, middle, top := filepath.Join(b.pool, "base.raw"), filepath.Join(b.pool, "middle.qcow2"),
			filepath.Join(b.folder, "top.qcow2")
		require.NoError(t, os.Rename(filepath.Join(b.folder, "disk1.raw"), base))
		qcow2, err := formats.ByName("qcow2")
		require.NoError(t, err)
		require.NoError(t, formats.NewLayer(middle, base, qcow2, "", formats.Options{}))
		require.NoError(t, formats.NewLayer(top, middle, qcow2, "", formats.Options{}))
		b.m.Disks[0].File, b.m.Disks[0].Format = "top.qcow2", "qcow2"
		b.start()
		b.says("up\n")
	})
	for format, variant := range map[string]string{"vmdk": "stream"} {
		t.Run(format+" "+variant, func(t *testing.T) {
			b := newBench(t)
			write(t, filepath.Join(b.folder, "disk1.raw"), filepath.Join(b.folder, "disk.x"), format, variant)
			b.m.Disks[0].File, b.m.Disks[0].Format = "disk.x", format
			require.ErrorContains(t, b.d.Start(t.Context(), b.folder, b.m), "which QEMU does not run as it is")
		})
	}
}

// TestDebian: Debian's kernel starts by BIOS from an old controller, sees an old NIC, and shuts down when it is asked
// to.
func TestDebian(t *testing.T) {
	b := newBench(t)
	raw, err := guest.Disk()
	require.NoError(t, err)
	write(t, raw, filepath.Join(b.folder, "disk.vhdx"), "vhdx", "")
	b.m.Disks[0] = machine.Disk{ID: "disk1", File: "disk.vhdx", Format: "vhdx", Controller: "ide",
		Serial: "0123456789ABCDEFGHIJ"}
	b.m.NICs[0].Model, b.m.MemoryBytes, b.m.Serial = "RTL8139", 256<<20, "TIDE, 7"
	b.start()
	for _, line := range []string{"guest: uuid " + b.m.FirmwareUUID, "guest: serial TIDE, 7", "guest: firmware bios",
		"serial 0123456789ABCDEFGHIJ", b.m.NICs[0].MAC + " 8139cp", "guest: ready"} {
		wait.Until(t, func() bool {
			log, err := b.d.Log(t.Context(), b.folder, 0)
			require.NoError(t, err)
			return strings.Contains(string(log.Text), line)
		}, "it does not say %q", line)
	}
	require.NoError(t, b.waits(wait.Bound).Stop(t.Context(), b.folder, machine.CleanOrOff))
	b.says("guest: shuts down")
}

// processes are those of this bench's machines that have a text in their arguments.
func (b *bench) processes(of string) (list []int) {
	b.Helper()
	for _, pid := range pids(b.T, of) {
		at, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
		if err == nil && strings.HasPrefix(at, b.state) {
			list = append(list, pid)
		}
	}
	require.NotEmpty(b, list)
	return list
}

// TestKeeperGone: a machine whose keeper is killed goes on; that its console is not kept is said, and so is its end, of
// which nobody knows how it came.
func TestKeeperGone(t *testing.T) {
	b := newBench(t)
	b.start()
	b.says("up\n")
	for _, pid := range b.processes(qemu.KeeperCommand) {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	require.Equal(t, machine.Running, b.stands().State)
	wait.Until(t, func() bool { // a process that is killed takes a moment to go
		_, err := b.d.Log(t.Context(), b.folder, 0)
		return err != nil && strings.Contains(err.Error(), "its keeper is gone")
	})
	require.NoError(t, b.driver().Start(t.Context(), b.folder, b.m), "it runs already")
	for _, pid := range b.processes("isa-serial,chardev=serial") {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	<-b.d.Noticed()
	require.Equal(t, driver.Standing{State: machine.Stopped,
		Why: "it ended when its keeper was gone, so that nobody knows how"}, b.stands())
	b.start()
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.CleanOrOff))
	require.Empty(t, b.stands().Why)
}

// TestSuspendKeepsMemory: a guest goes on where it was, and does not start again; a state that was not written to its
// end counts for nothing.
func TestSuspendKeepsMemory(t *testing.T) {
	b := newBench(t)
	b.start()
	b.says("up\n")
	require.NoError(t, b.d.Suspend(t.Context(), b.folder))
	require.Empty(t, b.stands().Why)
	require.ErrorContains(t, b.d.StartFrom(t.Context(), b.folder, b.m, "disk1"), "it is suspended")
	b.start()
	c, err := b.d.Port(t.Context(), b.folder)
	require.NoError(t, err)
	defer c.Close()
	_, err = io.WriteString(c, "tide\n")
	require.NoError(t, err)
	b.says("tide\n")
	log, err := b.d.Log(t.Context(), b.folder, 0)
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(string(log.Text), "up\n"), "it did not start anew: %q", log.Text)

	state := filepath.Join(b.folder, driver.SuspendedFile)
	require.NoError(t, os.WriteFile(filepath.Join(b.run(), "saving"), nil, 0o600)) // the agent was killed at that
	b.behind("stop")
	require.NoError(t, os.WriteFile(state, []byte("half"), 0o600))
	require.Contains(t, b.stands().Why, "being written")
	b.d = b.driver()
	require.Equal(t, machine.Running, b.stands().State, "it goes on")
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.Off))
	require.Equal(t, machine.Stopped, b.stands().State)
	b.start()
	require.NoFileExists(t, state)
	require.NoError(t, b.d.Suspend(t.Context(), b.folder))
	require.NoError(t, os.WriteFile(state, []byte("of another machine"), 0o600))
	err = b.d.Start(t.Context(), b.folder, b.m)
	require.ErrorContains(t, err, "can't go on where it was suspended")
	require.ErrorContains(t, err, "power off")
	require.Equal(t, machine.Suspended, b.stands().State, "and nothing is lost")
	require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.Off))
}

// TestNotSavable: QEMU says itself of which formats it can't save the state, and the machine goes on; fit.Families has
// the same list.
func TestNotSavable(t *testing.T) {
	b := newBench(t)
	family, err := fit.FamilyByName("qemu")
	require.NoError(t, err)
	var refused []string
	disk := func(format, controller string) {
		b.m.Disks[0] = machine.Disk{ID: "disk1", File: "disk1." + format, Format: format, Controller: controller}
		if path := filepath.Join(b.folder, b.m.Disks[0].File); format != "raw" {
			write(t, filepath.Join(b.folder, "disk1.raw"), path, format, "")
		}
		b.start()
		if err := b.d.Suspend(t.Context(), b.folder); err != nil {
			require.NoFileExists(t, filepath.Join(b.folder, driver.SuspendedFile))
			require.Equal(t, machine.Running, b.stands().State, "%s on %s: it goes on", format, controller)
			refused = append(refused, map[bool]string{true: controller, false: format}[format == "raw"])
		}
		require.NoError(t, b.d.Stop(t.Context(), b.folder, machine.Off))
	}
	for _, format := range family.Formats {
		disk(format, "virtio-blk")
	}
	for _, controller := range family.Controllers {
		disk("raw", controller)
	}
	require.ElementsMatch(t, family.NotSaved, refused)
}

// TestBootOnce: what is started from once is not started from when the guest restarts.
func TestBootOnce(t *testing.T) {
	b := newBench(t)
	other, err := sector.Display("other\n")
	require.NoError(t, err)
	rawDisk(t, filepath.Join(b.folder, "disk2.raw"), other)
	b.m.Disks = append(b.m.Disks, machine.Disk{ID: "disk2", File: "disk2.raw", Format: "raw", Controller: "virtio-blk"})
	b.m.Boot = []string{"disk1", "disk2"}
	require.NoError(t, b.d.StartFrom(t.Context(), b.folder, b.m, "disk2"))
	b.says("other\n")
	b.behind("system_reset")
	b.says("other\nup\n")
}

// TestManners: a guest that is only asked to shut down, and does not, goes on; turned off, nobody asks it.
func TestManners(t *testing.T) {
	b := newBench(t)
	deaf := []byte{0xfa, 0xf4, 0xeb, 0xfd} // cli; hlt
	boot := make([]byte, 512)
	copy(boot, deaf)
	boot[510], boot[511] = 0x55, 0xaa
	rawDisk(t, filepath.Join(b.folder, "disk1.raw"), boot)
	b.start()
	require.ErrorContains(t, b.d.Stop(t.Context(), b.folder, machine.CleanOnly), "turn it off")
	require.Equal(t, machine.Running, b.stands().State)
	begun := time.Now()
	require.NoError(t, b.waits(wait.Bound).Stop(t.Context(), b.folder, machine.Off))
	require.Less(t, time.Since(begun), wait.Bound, "it was not asked first")
	require.Equal(t, driver.Standing{State: machine.Stopped}, b.stands())
}

// tryCommand is this program when it tries what a QEMU that its guest has broken out of might.
const tryCommand = "try"

// TestDisplay: the screen shows what the guest writes there, to whoever looks, and a picture is taken of it; keys that
// are pressed reach the guest.
func TestDisplay(t *testing.T) {
	b := newBench(t)
	_, err := b.d.Display(t.Context(), b.folder)
	require.ErrorContains(t, err, "does not run")
	_, err = b.d.Picture(t.Context(), b.folder)
	require.ErrorContains(t, err, "does not run")
	require.ErrorContains(t, b.d.Type(t.Context(), b.folder, []byte("x")), "does not run")
	b.start()
	b.says("up\n")
	require.NoError(t, b.d.Type(t.Context(), b.folder, []byte("typed\n")))
	b.says("typed\n")
	for range 2 { // several may look
		c, err := b.d.Display(t.Context(), b.folder)
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(wait.Bound)))
		greeting := make([]byte, 12)
		_, err = io.ReadFull(c, greeting)
		require.NoError(t, err)
		require.Equal(t, "RFB 003.008\n", string(greeting))
		_, err = c.Write(greeting)
		require.NoError(t, err)
		security := make([]byte, 2) // RFC 6143, section 7.1.2: one type, None
		_, err = io.ReadFull(c, security)
		require.NoError(t, err)
		require.Equal(t, []byte{1, 1}, security)
	}
	raw, err := b.d.Picture(t.Context(), b.folder)
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	require.Greater(t, picture.Bounds().Dx(), 600)
	lit := 0
	for y := range picture.Bounds().Dy() {
		for x := range picture.Bounds().Dx() {
			if r, _, _, _ := picture.At(x, y).RGBA(); r > 0x4000 {
				lit++
			}
		}
	}
	require.Greater(t, lit, 50, "there is text on it")
}

// FuzzSpoken: what a guest sends is never more than an address of its own, or nothing.
func FuzzSpoken(f *testing.F) {
	const mac = "06:5c:00:00:00:10"
	arp := []byte("\xff\xff\xff\xff\xff\xff\x06\x5c\x00\x00\x00\x10\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01" +
		"\x06\x5c\x00\x00\x00\x10\xc0\x00\x02\x10\x00\x00\x00\x00\x00\x00\xc0\x00\x02\x01")
	f.Add(arp)
	address, ok := qemu.Spoken(arp, mac)
	require.True(f, ok)
	require.Equal(f, "192.0.2.16", address.String())
	_, ok = qemu.Spoken(arp, "06:5c:00:00:00:11")
	require.False(f, ok, "somebody else's")
	advert := []byte("\x33\x33\x00\x00\x00\x01\x06\x5c\x00\x00\x00\x10\x86\xdd\x60\x00\x00\x00\x00\x18\x3a\xff" +
		"\x20\x01\x0d\xb8\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x10" +
		"\xff\x02\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01" +
		"\x88\x00\x00\x00\x20\x00\x00\x00\x20\x01\x0d\xb8\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x10")
	f.Add(advert)
	address, ok = qemu.Spoken(advert, mac)
	require.True(f, ok)
	require.Equal(f, "2001:db8::10", address.String())
	f.Fuzz(func(t *testing.T, frame []byte) {
		if address, ok := qemu.Spoken(frame, mac); ok {
			require.True(t, address.IsGlobalUnicast())
		}
	})
}
