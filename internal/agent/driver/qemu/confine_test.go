package qemu_test

import (
	"encoding/binary"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver/qemu"
)

// TestNamesNothing: an image that names a file which QEMU would open is refused, wherever that file lies.
func TestNamesNothing(t *testing.T) {
	b := newBench(t)
	path := filepath.Join(b.folder, "disk.x")
	write(t, filepath.Join(b.folder, "disk1.raw"), path, "qcow2", "")
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	header := make([]byte, 512)
	_, err = f.ReadAt(header, 0)
	require.NoError(t, err)
	binary.BigEndian.PutUint64(header[72:], binary.BigEndian.Uint64(header[72:])|1<<2) // QCOW2: external data file
	at := binary.BigEndian.Uint32(header[100:])
	clear(header[at:])
	binary.BigEndian.PutUint32(header[at:], 0x44415441) // extension: its name
	binary.BigEndian.PutUint32(header[at+4:], 9)
	copy(header[at+8:], "disk1.raw")
	_, err = f.WriteAt(header, 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	b.m.Disks[0].File, b.m.Disks[0].Format = "disk.x", "qcow2"
	require.ErrorContains(t, b.d.Start(t.Context(), b.folder, b.m), "names another file with its data")

	require.NoError(t, os.Remove(path))
	write(t, filepath.Join(b.folder, "disk1.raw"), path, "vmdk", "")
	f, err = os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, 8), 12) // VMDK: a capacity of 0, for which QEMU reads the descriptor's extents
	require.NoError(t, err)
	require.NoError(t, f.Close())
	b.m.Disks[0].Format = "vmdk"
	require.Error(t, b.d.Start(t.Context(), b.folder, b.m))

	b.m.Disks[0].File, b.m.Disks[0].Format = "disk1.raw", "raw"
	for _, name := range []string{"../other/disk1.raw", "/etc/passwd", ".."} {
		b.m.Firmware, b.m.Variables = "uefi", name
		require.ErrorContains(t, b.d.Start(t.Context(), b.folder, b.m), "has to lie beside its descriptor")
	}
	require.Equal(t, machine.Stopped, b.stands().State)
}

// run is the directory of the machine while it runs.
func (b *bench) run() string {
	b.Helper()
	dirs, err := os.ReadDir(b.state)
	require.NoError(b, err)
	return filepath.Join(b.state, dirs[0].Name())
}

// try says of each thing whether it could be done: NAME=PATH.
func try(what []string) {
	for _, w := range what {
		name, path, _ := strings.Cut(w, "=")
		var err error
		switch name {
		case "read":
			_, err = os.ReadFile(path)
		case "write":
			err = os.WriteFile(path, []byte("x"), 0o600)
		case "remove":
			err = os.Remove(path)
		case "run":
			err = exec.Command(path).Run()
		case "unix", "tcp":
			var c net.Conn
			if c, err = net.Dial(name, path); err == nil {
				c.Close()
			}
		case "signal":
			var pid int
			_, _ = fmt.Sscan(path, &pid)
			err = syscall.Kill(pid, 0)
		}
		fmt.Println(w, err == nil)
	}
	os.Exit(0)
}

// TestConfined: who breaks out of a guest can read QEMU's own libraries, and reaches nothing else: not another
// machine's disk, monitor or process, no program, no network, also not what the agent may. The same without being
// confined shows that there was something to be reached.
func TestConfined(t *testing.T) {
	b := newBench(t)
	b.start() // another machine
	b.says("up\n")
	b.Chdir(b.run())
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	open := t.TempDir() // to every account, so that it is not the rights of files that are tried
	for dir := open; dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o777))
	}
	drop, self := filepath.Join(open, "drop"), filepath.Join(open, "self")
	require.NoError(t, os.WriteFile(drop, nil, 0o666))
	program, err := os.ReadFile("/proc/self/exe")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(self, program, 0o755))
	tries := []string{"read=" + filepath.Join(b.folder, "disk1.raw"), "read=/etc/passwd", "write=" + drop,
		"run=/bin/true", "unix=monitor", "tcp=" + l.Addr().String(),
		fmt.Sprintf("signal=%d", pids(t, b.m.FirmwareUUID)[0]), "remove=" + drop}
	for _, account := range []int{0, qemu.FirstAccount} {
		said, err := qemu.Confined(account, self, append([]string{tryCommand, "read=/usr/lib/os-release"},
			tries...)).CombinedOutput()
		require.NoError(t, err, "%s", said)
		require.Contains(t, string(said), "read=/usr/lib/os-release true")
		for _, what := range tries {
			require.Contains(t, string(said), what+" false", "account %d", account)
		}
	}
	said, err := exec.Command(self, append([]string{tryCommand}, tries...)...).Output()
	require.NoError(t, err)
	require.NotContains(t, string(said), "false")
	for _, pid := range pids(t, b.m.FirmwareUUID) {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		require.NoError(t, err)
		require.Contains(t, string(status), "CapEff:\t0000000000000000")
		require.Contains(t, string(status), "NoNewPrivs:\t1")
		require.Contains(t, string(status), "Seccomp:\t2")
		require.Contains(t, string(status), fmt.Sprint("Uid:\t", qemu.FirstAccount))
	}
}
