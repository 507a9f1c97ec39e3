package do

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

const secretText = "what no machine may read"

// extentOf is a VMDK whose one extent lies in another file.
func extentOf(file string, size int64) []byte {
	return fmt.Appendf(nil,
		"# Disk DescriptorFile\nversion=1\nCID=1234abcd\nparentCID=ffffffff\ncreateType=\"monolithicFlat\"\n\nRW %d "+
			"FLAT "+
			"\"%s\" 0\n", size/512, file)
}

// headerOf is a QCOW2 image without data that names a parent (raw), or a data file.
func headerOf(t *testing.T, parent string, size int64) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), "h.qcow2")
	agenttest.WriteImage(t, path, "qcow2", disk.Spec{VirtualBytes: size,
		Parent: &disk.ParentRef{Path: parent, Format: "raw"}}, &pieces{})
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	return raw
}

// machineIn writes a machine folder whose one disk is file, in a format.
func machineIn(t *testing.T, pool, name, file, format string, size int64) string {
	t.Helper()
	folder := filepath.Join(pool, name)
	require.NoError(t, os.MkdirAll(folder, 0o755))
	d, err := ovf.New(&machine.Machine{Name: name, UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1,
		MemoryBytes: 1 << 30, Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: file, Format: format, VirtualBytes: size,
			Controller: "virtio-scsi"}}})
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
	return folder
}

// everyUse is whatever an agent does with a machine's disk: each returns what it
// read, or an error.
func everyUse(t *testing.T, a *hand, folder, file string) map[string]func() ([]byte, error) {
	path := filepath.Join(folder, file)
	task := func(kind string, params any) ([]byte, error) {
		tk := start(t, a, "s1", kind, 1, params)
		s := ended(t, tk)
		out, _ := os.ReadFile(filepath.Join(ground.StagingDir(filepath.Dir(folder), job), "out"))
		require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
		if s.State != hostlink.TaskDone {
			return nil, fmt.Errorf("%s: %s", s.Code, s.Error)
		}
		return out, nil
	}
	look := func() ([]byte, error) {
		f, err := a.Sight.Folder(folder)
		if err != nil {
			return nil, err
		}
		if f.Problem != "" || len(f.Disks) == 0 || f.Disks[0].Problem != "" {
			return nil, fmt.Errorf("%s %v", f.Problem, f.Disks)
		}
		return nil, nil
	}
	shelf := a.Config.Shelves[0].Path
	return map[string]func() ([]byte, error){
		"look":   look,
		"survey": func() ([]byte, error) { return nil, surveyProblem(t, a, folder) },
		"carry": func() ([]byte, error) {
			return task(plan.KindCarry, hostlink.CarryTask{Carry: plan.Carry{Disk: "disk1", Source: path,
				Folder: folder,
				Pool:   filepath.Dir(folder), File: "out", Format: "raw"}, ID: "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"})
		},
		"carry as it is": func() ([]byte, error) {
			return task(plan.KindCarry, hostlink.CarryTask{Carry: plan.Carry{Source: path, Folder: folder,
				Pool: filepath.Dir(folder), File: "out"}})
		},
		"pack": func() ([]byte, error) {
			p := hostlink.PackTask{Packing: plan.Packing{File: filepath.Join(shelf, "x.ova"),
				PackedMachine: plan.PackedMachine{Folder: folder, Name: "x",
					Passport: &machine.Passport{Copy: "c", MadeAt: time.Now()},
					Disks:    []plan.PackDisk{{ID: "disk1", File: "x.vmdk", Source: path}}}}}
			return task(plan.KindPack, p)
		},
		"sums": func() ([]byte, error) {
			return a.Sight.Sums(hostlink.SumsRequest{Path: path, Spans: []disk.Span{{Block: 0, Count: 1}}})
		},
		"layer": func() ([]byte, error) {
			return task(plan.KindLayer, plan.NewLayer{Parent: path, Path: filepath.Join(folder, "new.qcow2"),
				Format: "qcow2"})
		},
		"start": func() ([]byte, error) {
			if err := a.run(t.Context(), folder, ""); err != nil {
				return nil, err
			}
			return nil, a.Driver.Stop(t.Context(), folder, machine.CleanOrOff)
		},
	}
}

// surveyProblem is what a survey says against a machine folder.
func surveyProblem(t *testing.T, a *hand, folder string) error {
	for _, f := range a.Sight.Survey(t.Context(), "", 0).Machines {
		if f.Path == folder && f.Problem != "" {
			return fmt.Errorf("%s", f.Problem)
		}
		if f.Path == folder {
			for _, d := range f.Disks {
				for _, fault := range d.Faults {
					return fmt.Errorf("%s: %s", fault.Code, fault.Message)
				}
			}
			return nil
		}
	}
	return fmt.Errorf("%s is not told of", folder)
}

// TestOutside: nothing in a pool makes an agent read a file outside of its pools,
// or wait for anybody.
func TestOutside(t *testing.T) {
	const size = 1 << 20
	plain := bytes.Repeat([]byte(secretText), size/len(secretText)+1)[:size]
	for _, c := range []struct {
		name, file, format string
		lay                func(t *testing.T, folder, outside string) // outside is a directory that is no pool
		may                []string                                   // uses that read nothing of it
	}{
		{"a disk that is a link out", "d.img", "raw", func(t *testing.T, folder, outside string) {
			require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(folder, "d.img")))
		}, nil},
		{"a disk that is a link out, by way of a directory", "sub/d.img", "raw",
			func(t *testing.T, folder, outside string) {
				require.NoError(t, os.Symlink(outside, filepath.Join(folder, "sub")))
				require.NoError(t, os.Symlink("secret", filepath.Join(outside, "d.img")))
			}, nil},
		{"a disk by its path", "../../../outside/secret", "raw", func(*testing.T, string, string) {}, nil},
		{"an extent by its path", "d.vmdk", "vmdk", func(t *testing.T, folder, outside string) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "d.vmdk"),
				extentOf(filepath.Join(outside, "secret"), size),
				0o644))
		}, []string{"carry as it is"}},
		{"an extent that is a link out", "d.vmdk", "vmdk", func(t *testing.T, folder, outside string) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "d.vmdk"), extentOf("e.vmdk", size), 0o644))
			require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(folder, "e.vmdk")))
		}, []string{"carry as it is"}},
		{"a parent by its path", "d.qcow2", "qcow2", func(t *testing.T, folder, outside string) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "d.qcow2"),
				headerOf(t, filepath.Join(outside, "secret"), size), 0o644))
		}, []string{"carry as it is"}},
		{"a parent that is a link out", "d.qcow2", "qcow2", func(t *testing.T, folder, outside string) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "d.qcow2"), headerOf(t, "base.img", size), 0o644))
			require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(folder, "base.img")))
		}, []string{"carry as it is"}},
		{"a disk that is a pipe", "d.img", "raw", func(t *testing.T, folder, _ string) {
			require.NoError(t, unix.Mkfifo(filepath.Join(folder, "d.img"), 0o644))
		}, nil},
		{"a disk that is a socket", "d.img", "raw", func(t *testing.T, folder, _ string) {
			l, err := net.Listen("unix", filepath.Join(folder, "d.img"))
			require.NoError(t, err)
			t.Cleanup(func() { l.Close() })
		}, nil},
		{"an extent that is a pipe", "d.vmdk", "vmdk", func(t *testing.T, folder, _ string) {
			require.NoError(t, os.WriteFile(filepath.Join(folder, "d.vmdk"), extentOf("e.vmdk", size), 0o644))
			require.NoError(t, unix.Mkfifo(filepath.Join(folder, "e.vmdk"), 0o644))
		}, []string{"carry as it is"}},
		{"a device", "d.img", "raw", func(t *testing.T, folder, _ string) {
			require.NoError(t, os.Symlink("/dev/zero", filepath.Join(folder, "d.img")))
		}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, pool := newAgent(t, 0)
			outside := filepath.Join(filepath.Dir(pool), "outside")
			require.NoError(t, os.Mkdir(outside, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), plain, 0o644))
			folder := machineIn(t, pool, "m", c.file, c.format, size)
			c.lay(t, folder, outside)
			for name, use := range everyUse(t, a, folder, c.file) {
				began := time.Now()
				out, err := use()
				require.Less(t, time.Since(began), time.Minute, name)
				require.NotContains(t, string(out), secretText, name)
				if !slices.Contains(c.may, name) {
					require.Error(t, err, name)
				}
			}
			require.Empty(t, leftIn(t, filepath.Join(pool, ground.WorkDir)))
		})
	}
}

func leftIn(t *testing.T, dir string) (files []string) {
	t.Helper()
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files = append(files, path)
		}
		return nil
	})
	return files
}

// TestOutsideFolders: links and pipes in the places of folders, descriptors,
// packages and marks.
func TestOutsideFolders(t *testing.T) {
	a, pool := newAgent(t, 1)
	dir := filepath.Dir(pool)
	outside, shelf := filepath.Join(dir, "outside"), filepath.Join(dir, "loft")
	require.NoError(t, os.Mkdir(outside, 0o755))
	real := machineIn(t, outside, "hidden", "d.img", "raw", 1<<20)
	require.NoError(t, os.WriteFile(filepath.Join(real, "d.img"), disktest.Pattern(1<<20, 1), 0o644))
	require.NoError(t, os.Symlink(real, filepath.Join(pool, "linked")))
	_, err := a.Sight.Folder(filepath.Join(pool, "linked"))
	require.ErrorIs(t, err, disk.ErrOutside)
	require.Equal(t, "file.outside", ground.CodeOf(err))
	require.ErrorContains(t, err, real, "it says where to")

	linkedDescriptor := filepath.Join(pool, "descriptor")
	require.NoError(t, os.Mkdir(linkedDescriptor, 0o755))
	require.NoError(t, os.Symlink(filepath.Join(real, "hidden.ovf"), filepath.Join(linkedDescriptor, "x.ovf")))
	f, err := a.Sight.Folder(linkedDescriptor)
	require.NoError(t, err)
	require.Nil(t, f.Machine)

	piped := filepath.Join(pool, "piped")
	require.NoError(t, os.Mkdir(piped, 0o755))
	require.NoError(t, unix.Mkfifo(filepath.Join(piped, "x.ovf"), 0o644))
	require.NoError(t, unix.Mkfifo(filepath.Join(pool, "training-0000", "extra.vmdk"), 0o644))
	require.NoError(t, unix.Mkfifo(filepath.Join(shelf, "pipe.ova"), 0o644))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(shelf, "link.ova")))
	told := make(chan *hostlink.Survey, 1)
	go func() { told <- a.Sight.Survey(t.Context(), "", 0) }()
	select {
	case s := <-told:
		for _, p := range s.Packages {
			require.NotEmpty(t, p.Problem, p.Path)
		}
		for _, m := range s.Machines {
			require.NotEqual(t, "hidden", m.Machine.Name)
		}
	case <-time.After(wait.Bound):
		t.Fatal("a pipe stops the survey")
	}
	for _, path := range []string{"pipe.ova", "link.ova"} {
		_, err := a.OpenPackage(t.Context(), hostlink.FetchSource{Path: filepath.Join(shelf, path)}, t.TempDir())
		require.Error(t, err)
	}
	for _, task := range []struct {
		kind   string
		params any
	}{
		{plan.KindTakeAway, plan.TakeAway{Folder: filepath.Join(pool, "linked", "hidden")}},
		{plan.KindGiveBack, plan.GiveBack{Parts: []plan.GivenBack{{From: filepath.Join(pool, ground.WorkDir, trashDir,
			"j", "x"), To: filepath.Join(pool, "linked", "x")}}}},
		{plan.KindFollow, hostlink.FollowTask{Follow: plan.Follow{Source: filepath.Join(pool, "linked", "d.img"),
			Pool: pool, File: "x", Format: "raw"}}},
		{plan.KindPlace, hostlink.PlaceTask{Pool: filepath.Join(pool, "linked"), Name: "x",
			Machine: &machine.Machine{Name: "x", Passport: &machine.Passport{Copy: "c"}}}},
		{plan.KindMend, plan.Mend{Path: filepath.Join(pool, "linked", "d.img")}},
		{plan.KindUseAhead, plan.UseAhead{Files: []string{filepath.Join(pool, "linked", ground.WorkDir, "ahead",
			"x")}}},
		{plan.KindAlter, plan.Alter{Folder: filepath.Join(pool, "linked"), Name: "x",
			Machine: &machine.Machine{Name: "x"}}},
	} {
		s := ended(t, start(t, a, "s1", task.kind, 1, task.params))
		if task.kind != plan.KindUseAhead {
			require.Equal(t, hostlink.TaskFailed, s.State, task.kind)
		}
		require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	}
	entries, err := os.ReadDir(real)
	require.NoError(t, err)
	require.Len(t, entries, 2, "nothing was made or taken there")
}

// TestChainOverPools: a layer may have its parent in another pool of the host.
func TestChainOverPools(t *testing.T) {
	a, pool := newAgent(t, 0)
	other := filepath.Join(filepath.Dir(pool), "harbour")
	require.NoError(t, os.Mkdir(other, 0o755))
	a.Config.Pools = append(a.Config.Pools, ground.PoolConfig{Name: "harbour", Path: other})
	a.Door = a.Config.Door()
	base := filepath.Join(other, "base.img")
	truth := disktest.Pattern(1<<20, 1)
	require.NoError(t, os.WriteFile(base, truth, 0o644))
	require.NoError(t, os.Symlink(base, filepath.Join(pool, "by-link.img")))
	for _, parent := range []string{base, filepath.Join(pool, "by-link.img")} {
		folder := machineIn(t, pool, "m", "d.qcow2", "qcow2", 1<<20)
		require.NoError(t, os.WriteFile(filepath.Join(folder, "d.qcow2"), headerOf(t, parent, 1<<20), 0o644))
		c, err := a.Sight.Chain(filepath.Join(folder, "d.qcow2"))
		require.NoError(t, err)
		disktest.Same(t, truth, c)
		require.NoError(t, c.Close())
	}
}

// TestRawStaysRaw: a guest that writes a header of another format into the first
// block of its raw disk is read as what it wrote, by every use; what the header
// names is not.
func TestRawStaysRaw(t *testing.T) {
	const size = 1 << 20
	for _, stated := range []string{"raw", ""} { // by the descriptor, or only as it was first met
		t.Run("stated as "+stated, func(t *testing.T) {
			a, pool := newAgent(t, 0)
			victim := filepath.Join(pool, "other", "secret.img")
			require.NoError(t, os.Mkdir(filepath.Dir(victim), 0o755))
			require.NoError(t, os.WriteFile(victim, bytes.Repeat([]byte(secretText+"\n"), size/(len(secretText)+1)),
				0o644))
			folder := machineIn(t, pool, "m", "d.img", stated, size)
			path := filepath.Join(folder, "d.img")
			truth := disktest.Pattern(size, 3)
			require.NoError(t, os.WriteFile(path, truth, 0o644))
			_, err := a.Sight.Folder(folder)
			require.NoError(t, err)

			copy(truth, headerOf(t, victim, size))
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.Write(truth)
			require.NoError(t, err)
			require.NoError(t, f.Close())
			for name, use := range everyUse(t, a, folder, "d.img") {
				out, err := use()
				require.NoError(t, err, name)
				require.NotContains(t, string(out), secretText, name)
				if strings.HasPrefix(name, "carry") {
					require.True(t, bytes.Equal(truth, out), name)
				}
			}
			// A layer without a word on its parent's format does not make it one.
			layer := headerOf(t, path, size)
			require.Equal(t, uint32(0xE2792ACA), binary.BigEndian.Uint32(layer[bytes.Index(layer,
				[]byte{0xE2, 0x79, 0x2A, 0xCA}):]))
			// an extension that nobody knows
			copy(layer[bytes.Index(layer, []byte{0xE2, 0x79, 0x2A, 0xCA}):], []byte{0x75, 0x6e, 0x76, 0x6f})
			above := machineIn(t, pool, "above", "d.qcow2", "qcow2", size)
			require.NoError(t, os.WriteFile(filepath.Join(above, "d.qcow2"), layer, 0o644))
			_, err = a.Sight.Chain(filepath.Join(above, "d.qcow2"))
			require.ErrorIs(t, err, disk.ErrFormat)
			require.ErrorContains(t, err, "unvora disk reparent")
		})
	}
}
