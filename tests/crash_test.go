package tests

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/wait"
)

// bigPackage writes an OVA whose only disk holds data MiB of bytes that hardly
// compress, so that moving it takes a while.
func bigPackage(t testing.TB, file, name string, data int) {
	t.Helper()
	const size = 2 << 30
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	m := &machine.Machine{Name: name, UUID: "0b0e5c5e-8c53-4f7e-9a3b-0f4f5b0c7a11",
		FirmwareUUID: "3f0d2c44-0d0b-4c6e-8c57-5f0c34f3b3a2", CPUs: 1, MemoryBytes: 1 << 30, Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: name + ".vmdk", Format: "vmdk", VirtualBytes: size,
			Controller: "virtio-scsi"}},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: "06:5c:00:aa:bb:cc", Network: "lab", Segment: "lab",
			VLAN: 20}}}
	d, err := ovf.New(m)
	require.NoError(t, err)
	descriptor, err := d.Encode(8192)
	require.NoError(t, err)
	w := ovf.NewWriter(f, name+".ovf", 8192, time.Unix(1700000000, 0), ovf.SHA256, nil)
	h := sha256.New()
	target, err := vmdk.CreateStream(io.MultiWriter(io.NewOffsetWriter(f, w.Begin()), h),
		disk.Spec{VirtualBytes: size, ID: "1234abcd"}, nil)
	require.NoError(t, err)
	rng := rand.NewChaCha8([32]byte{7})
	feed := &made{left: data, step: size / int64(data+1) / (1 << 20) << 20, rng: rng}
	require.NoError(t, disk.Pump(context.Background(), target, feed, disk.Options{}))
	require.NoError(t, target.Finish())
	require.NoError(t, w.End(ovf.Member{Name: name + ".vmdk", Size: target.Length(),
		Sum: hex.EncodeToString(h.Sum(nil))}))
	_, err = w.Finish(descriptor)
	require.NoError(t, err)
}

// made feeds MiBs of random bytes with holes between them.
type made struct {
	left     int
	at, step int64
	rng      *rand.ChaCha8
}

func (m *made) Next() (disk.Piece, error) {
	if m.left == 0 {
		return disk.Piece{}, io.EOF
	}
	block := make([]byte, 1<<20)
	m.rng.Read(block)
	p := disk.Piece{Offset: m.at, Length: len(block), Load: func(dst []byte) error { copy(dst, block); return nil }}
	m.at += m.step
	m.left--
	return p, nil
}

// moved is how many bytes lie in working files, of hosts and of the client: a job
// tells of its progress only now and then.
func moved(e *estate, file string) (sum int64) {
	for _, dir := range []string{filepath.Join(e.dir, "hosts"), filepath.Dir(file)} {
		filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.Contains(path, "/.unvora/") && !strings.HasSuffix(path, ".part") {
				return nil // it comes and goes
			}
			if st, err := d.Info(); err == nil {
				sum += disk.Allocated(st)
			}
			return nil
		})
	}
	return sum
}

// killDuring starts the command, kills the processes one after the other when
// enough bytes have moved, and waits for the command to succeed all the same.
func killDuring(t *testing.T, e *estate, victims []string, args ...string) {
	t.Helper()
	before := moved(e, args[2])
	cmd := e.command(context.Background(), args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	killed := 0
	for at := int64(18 << 20); killed < len(victims); {
		select {
		case err := <-ended:
			t.Fatalf("it was over (%v) before %s could be killed:\n%s", err, victims[killed], &out)
		case <-time.After(5 * time.Millisecond):
		}
		if done := moved(e, args[2]) - before; done > at {
			kill(t, e, victims[killed])
			killed++
			at = done + 18<<20
		}
	}
	select {
	case err := <-ended:
		require.NoError(t, err, out.String())
	case <-time.After(wait.Bound):
		cmd.Process.Kill()
		t.Fatalf("the job did not go on:\n%s", &out)
	}
}

func kill(t *testing.T, e *estate, name string) {
	t.Helper()
	pid := e.pids(t)[name]
	require.NotZero(t, pid, name)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
}

// TestCrash: service and agents are killed in the middle of a disk. The job
// goes on, the disk is right to the byte, and nothing is left over.
func TestCrash(t *testing.T) {
	e := ownEstate(t)
	file := tempFile(t, "wave-model.ova")
	bigPackage(t, file, "wave-model", 160)
	truth := judge(t, "vmdk", unpacked(t, file)).sum(t)
	check := func(t *testing.T, name string) {
		c := get[openapi.Copy](t, e, "copies", name)
		require.Equal(t, truth, judge(t, "qcow2", filepath.Join(c.Path, (*c.Machine.Disks)[0].File)).sum(t))
		for _, h := range []string{"gannet", "petrel"} {
			require.Empty(t, e.leftovers(t, h))
		}
	}
	t.Run("service during an import from this computer", func(t *testing.T) {
		killDuring(t, e, []string{"service"}, "import", file, "--host", "gannet", "--yes")
		check(t, "gannet/wave-model")
	})
	t.Run("agent during an import from this computer", func(t *testing.T) {
		killDuring(t, e, []string{"agent-petrel"}, "import", file, "--host", "petrel", "--yes")
		check(t, "petrel/wave-model")
	})
	// In this order: an agent goes on by itself, and would be done before the service is back.
	t.Run("agent then service during an export to a shelf", func(t *testing.T) {
		killDuring(t, e, []string{"agent-gannet", "service"}, "export", "gannet/wave-model", "loft", "--yes")
		shelved := filepath.Join(e.pool("gannet", "loft"), "wave-model.ova")
		require.Contains(t, e.ok(t, "inspect", shelved, "--verify"), "manifest ok")
		require.Equal(t, truth, judge(t, "vmdk", unpacked(t, shelved)).sum(t))
	})
	t.Run("both agents during an import from a shelf elsewhere", func(t *testing.T) {
		killDuring(t, e, []string{"agent-gannet", "agent-petrel"}, "import", "loft/wave-model.ova", "--host", "petrel",
			"--name", "wave-second", "--yes")
		check(t, "petrel/wave-second")
	})
	t.Run("the agent that is read from, then the other, during an export to a shelf elsewhere", func(t *testing.T) {
		killDuring(t, e, []string{"agent-gannet", "agent-petrel"}, "export", "gannet/wave-model", "attic", "--yes")
		shelved := filepath.Join(e.pool("petrel", "attic"), "wave-model.ova")
		require.Contains(t, e.ok(t, "inspect", shelved, "--verify"), "manifest ok")
		require.Equal(t, truth, judge(t, "vmdk", unpacked(t, shelved)).sum(t))
		for _, h := range []string{"gannet", "petrel"} {
			require.Empty(t, e.leftovers(t, h))
		}
	})
	t.Run("service then agent during an export to this computer", func(t *testing.T) {
		out := tempFile(t, "again.ova")
		killDuring(t, e, []string{"service", "agent-petrel"}, "export", "petrel/wave-model", out)
		require.Contains(t, e.ok(t, "inspect", out, "--verify"), "manifest ok")
		require.Equal(t, truth, judge(t, "vmdk", unpacked(t, out)).sum(t))
	})
	t.Run("the database", func(t *testing.T) {
		killDuring(t, e, []string{"postgres"}, "import", file, "--host", "petrel", "--name", "wave-third", "--yes")
		check(t, "petrel/wave-third")
	})
}

// unpacked takes the disk out of a package with tar.
func unpacked(t testing.TB, file string) string {
	t.Helper()
	dir, err := os.MkdirTemp(scratch, "unpacked-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	out, err := exec.Command(need(t, "tar", "tar"), "-xf", file, "-C", dir).CombinedOutput()
	require.NoError(t, err, string(out))
	found, err := filepath.Glob(filepath.Join(dir, "*.vmdk"))
	require.NoError(t, err)
	require.Len(t, found, 1, fmt.Sprint(found))
	return found[0]
}

// TestClientGone: the command that gave bytes to a job, or took them, is killed;
// another one goes on for it, with the same file and no other.
func TestClientGone(t *testing.T) {
	e := ownEstate(t)
	file, other := tempFile(t, "wave-model.ova"), tempFile(t, "other.ova")
	bigPackage(t, file, "wave-model", 160)
	bigPackage(t, other, "wave-other", 3)
	truth := judge(t, "vmdk", unpacked(t, file)).sum(t)
	killed := func(args ...string) (job string) {
		before := moved(e, args[2])
		cmd := e.command(context.Background(), args...)
		require.NoError(t, cmd.Start())
		wait.Until(t, func() bool { return moved(e, args[2])-before > 20<<20 })
		require.NoError(t, cmd.Process.Kill())
		cmd.Wait()
		for _, j := range get[[]openapi.Job](t, e, "jobs") {
			if j.State == "working" {
				return j.Id
			}
		}
		t.Fatalf("it was over before it could be killed: %s", args)
		return ""
	}
	job := killed("import", file, "--host", "gannet", "--yes")
	r := e.run(t, "jobs", "resume", job)
	require.Equal(t, 2, r.status, r.out+r.err)
	require.Contains(t, r.err, "waits for its package")
	r = e.run(t, "jobs", "resume", job, other)
	require.Equal(t, 4, r.status, r.out+r.err)
	require.Contains(t, r.err, "is not the package")
	require.Contains(t, e.ok(t, "jobs", "resume", job, file), "is done")
	c := get[openapi.Copy](t, e, "copies", "gannet/wave-model")
	require.Equal(t, truth, judge(t, "qcow2", filepath.Join(c.Path, (*c.Machine.Disks)[0].File)).sum(t))

	out := tempFile(t, "again.ova")
	job = killed("export", "gannet/wave-model", out)
	r = e.run(t, "jobs", "resume", job)
	require.Equal(t, 2, r.status, r.out+r.err)
	require.Contains(t, r.err, out)
	r = e.run(t, "jobs", "resume", job, other+".x")
	require.Equal(t, 4, r.status, r.out+r.err)
	require.Contains(t, e.ok(t, "jobs", "resume", job, out), "is done")
	require.Contains(t, e.ok(t, "inspect", out, "--verify"), "manifest ok")
	require.Equal(t, truth, judge(t, "vmdk", unpacked(t, out)).sum(t))
	left, err := filepath.Glob(filepath.Join(filepath.Dir(out), ".*"))
	require.NoError(t, err)
	require.Empty(t, left)
}
