package carry_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/wait"
)

const diskID = "70126393-2a98-4856-90ac-efe4bba599b2"

// helper is what a process of its own is asked to do.
type helper struct {
	Source, Target, Format, Variant string
	Verify                          bool
	Rate, Save                      int64
	FileLimit                       uint64 // RLIMIT_FSIZE
	Small                           string // a file system of 12 MiB is mounted here, and Target lies in it
	Blank                           int64  // bytes at the beginning that are left out
}

// TestMain is also the process that copies and is killed.
func TestMain(m *testing.M) {
	raw := os.Getenv("CARRY_HELPER")
	if raw == "" {
		os.Exit(m.Run())
	}
	var h helper
	err := json.Unmarshal([]byte(raw), &h)
	if err == nil {
		err = h.run()
	}
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}

func (h helper) run() error {
	if h.FileLimit > 0 {
		signal.Ignore(syscall.SIGXFSZ)
		if err := unix.Setrlimit(unix.RLIMIT_FSIZE, &unix.Rlimit{Cur: h.FileLimit, Max: h.FileLimit}); err != nil {
			return err
		}
	}
	if h.Small != "" {
		if err := unix.Mount("small", h.Small, "tmpfs", 0, "size=12m"); err != nil {
			return fmt.Errorf("mount a small file system (this needs user namespaces, or root): %w", err)
		}
	}
	format, err := formats.ByName(h.Format)
	if err != nil {
		return err
	}
	o := carry.Order{Source: h.Source, Target: h.Target, Format: format,
		Variant: h.Variant, ID: diskID, Verify: h.Verify, Limit: disk.NewLimit(h.Rate), SaveEvery: h.Save}
	if h.Blank > 0 {
		o.Blanks = leaveOut(h.Blank)
	}
	_, err = carry.Copy(context.Background(), o)
	if h.Small != "" {
		left, _ := os.ReadDir(h.Small)
		fmt.Printf("left over: %v\n", left)
	}
	return err
}

func (h helper) start(t *testing.T) *exec.Cmd {
	t.Helper()
	raw, err := json.Marshal(h)
	require.NoError(t, err)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "CARRY_HELPER="+string(raw))
	return cmd
}

// source writes a raw image of data and holes, and returns its truth.
func source(t testing.TB, path string, size int) []byte {
	t.Helper()
	truth := disktest.Pattern(size, 7)
	require.NoError(t, os.WriteFile(path, truth, 0o644))
	return truth
}

func requireImage(t testing.TB, truth []byte, path string) {
	t.Helper()
	c, err := formats.OpenChain(path, formats.Options{})
	require.NoError(t, err)
	defer c.Close()
	disktest.Same(t, truth, c)
}

func requireFiles(t testing.TB, dir string, want ...string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	names := []string{}
	for _, e := range entries {
		names = append(names, e.Name())
	}
	require.ElementsMatch(t, want, names)
}

func order(t testing.TB, source, target, format, variant string) carry.Order {
	t.Helper()
	f, err := formats.ByName(format)
	require.NoError(t, err)
	return carry.Order{Source: source, Target: target, Format: f, Variant: variant, ID: diskID}
}

// TestKilled: a copy is killed fifty times at random moments; taken up again it
// is right every time, and nothing is left over.
func TestKilled(t *testing.T) {
	src := filepath.Join(t.TempDir(), "tide-gauge.img")
	truth := source(t, src, 24<<20)
	var all []helper
	for _, f := range formats.Table {
		for _, v := range f.Variants {
			all = append(all, helper{Format: f.Name, Variant: v})
		}
	}
	resumed := 0
	for n := range 50 {
		h := all[n%len(all)]
		dir := t.TempDir()
		h.Source, h.Target, h.Verify = src, filepath.Join(dir, "copy"), n%2 == 0
		h.Rate, h.Save = 100<<20, 1<<20
		for range 1 + rand.IntN(2) {
			cmd := h.start(t)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(rand.IntN(320)) * time.Millisecond)
			cmd.Process.Kill()
			cmd.Wait()
		}
		o := order(t, src, h.Target, h.Format, h.Variant)
		o.Verify = h.Verify
		r, err := carry.Copy(t.Context(), o)
		if err != nil { // it was done before it was killed
			require.ErrorContains(t, err, "is there already", "%s %s", h.Format, h.Variant)
		} else if r.ResumedBytes > 0 {
			resumed++
		}
		requireImage(t, truth, h.Target)
		files := []string{"copy"}
		if h.Variant == "flat" {
			files = append(files, "copy-flat.vmdk")
		}
		requireFiles(t, dir, files...)
	}
	require.Greater(t, resumed, 10, "some went on where they were")
}

// leaveOut leaves out bytes at the beginning.
func leaveOut(bytes int64) func(disk.Image) (*disk.Blanks, error) {
	return func(img disk.Image) (*disk.Blanks, error) {
		b := disk.NewBlanks(img.Info().VirtualBytes)
		b.Add(0, bytes)
		return b, nil
	}
}

// TestBlanks: what nobody needs is left out, also of a raw file that could be copied as it is. A copy with it does not
// go on with what one without it has begun.
func TestBlanks(t *testing.T) {
	src := filepath.Join(t.TempDir(), "tide-gauge.img")
	truth := source(t, src, 24<<20)
	without := append(make([]byte, 8<<20), truth[8<<20:]...)
	for _, format := range []string{"raw", "qcow2"} {
		dir := t.TempDir()
		o := order(t, src, filepath.Join(dir, "left"), format, "")
		o.Blanks, o.Verify = leaveOut(8<<20), true
		r, err := carry.Copy(t.Context(), o)
		require.NoError(t, err)
		require.Positive(t, r.LeftBytes)
		requireImage(t, without, o.Target)

		h := helper{Source: src, Target: filepath.Join(dir, "whole"), Format: format, Rate: 20 << 20, Save: 1 << 20,
			Blank: 8 << 20}
		cmd := h.start(t)
		require.NoError(t, cmd.Start())
		wait.Until(t, func() bool {
			_, err := os.Stat(filepath.Join(dir, ".whole.journal"))
			return err == nil
		})
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		r, err = carry.Copy(t.Context(), order(t, src, h.Target, format, ""))
		require.NoError(t, err)
		require.Zero(t, r.ResumedBytes)
		requireImage(t, truth, h.Target)

		// Nor is one its end that was all but renamed.
		ended, err := os.ReadFile(o.Target)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".third.part"), ended, 0o644))
		journal := fmt.Appendf(nil, `{"sources":[{"path":%q}],"format":%q,"id":%q,"compact":true,"finished":true}`,
			src, format, diskID)
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".third.journal"), journal, 0o600))
		third := order(t, src, filepath.Join(dir, "third"), format, "")
		_, err = carry.Copy(t.Context(), third)
		require.NoError(t, err)
		requireImage(t, truth, third.Target)
		requireFiles(t, dir, "left", "whole", "third")
	}
}

// TestNoRoom: a file system that is full, and a limit on a file's size, end in a
// clear error and leave nothing.
func TestNoRoom(t *testing.T) {
	src := filepath.Join(t.TempDir(), "buoy-ingest.img")
	source(t, src, 30<<20)
	for _, f := range formats.Table {
		for _, v := range f.Variants {
			dir := t.TempDir()
			out, err := helper{Source: src, Target: filepath.Join(dir, "x"), Format: f.Name, Variant: v,
				FileLimit: 1 << 20}.start(t).CombinedOutput()
			require.Error(t, err, "%s %s", f.Name, v)
			require.Contains(t, string(out), "larger than its file system takes", "%s %s", f.Name, v)
			requireFiles(t, dir)
		}
	}
	t.Run("full", func(t *testing.T) {
		noise := make([]byte, 20<<20)
		_, err := rand.NewChaCha8([32]byte{7}).Read(noise)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(src, noise, 0o644))
		for _, variant := range []string{"stream", "sparse"} { // nobody knows beforehand how far it compresses
			dir := t.TempDir()
			cmd := helper{Source: src, Target: filepath.Join(dir, "x"), Format: "vmdk", Variant: variant,
				Small: dir}.start(t)
			cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWNS | unix.CLONE_NEWUSER,
				UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}},
				GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}}
			out, err := cmd.CombinedOutput()
			require.Error(t, err)
			require.Contains(t, string(out), "no space left on device")
			require.Contains(t, string(out), "left over: []")
		}
	})
}

// TestSourceChanges: a source that is cut short, or written to, while it is read.
func TestSourceChanges(t *testing.T) {
	for name, spoil := range map[string]func(path string) error{
		"cut short":  func(path string) error { return os.Truncate(path, 5<<20) },
		"written to": func(path string) error { return os.WriteFile(path, disktest.Pattern(24<<20, 8), 0o644) },
	} {
		t.Run(name, func(t *testing.T) {
			src := filepath.Join(t.TempDir(), "chart-render.img")
			source(t, src, 24<<20)
			dir := t.TempDir()
			o := order(t, src, filepath.Join(dir, "x.qcow2"), "qcow2", "")
			o.Limit = disk.NewLimit(60 << 20)
			done := false
			o.Progress = func(_ string, n, _ int64) {
				if n > 4<<20 && !done {
					done = true
					require.NoError(t, spoil(src))
				}
			}
			_, err := carry.Copy(t.Context(), o)
			require.Error(t, err)
			if name == "written to" {
				require.ErrorIs(t, err, carry.ErrChanged)
			}
			require.ErrorContains(t, err, src)
			requireFiles(t, dir)
		})
	}
}

func TestStopped(t *testing.T) {
	src := filepath.Join(t.TempDir(), "sonar-lab.img")
	source(t, src, 24<<20)
	dir := t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	o := order(t, src, filepath.Join(dir, "x.vhdx"), "vhdx", "")
	o.Limit = disk.NewLimit(20 << 20)
	began := time.Now()
	o.Progress = func(_ string, n, _ int64) {
		if n > 2<<20 {
			cancel()
		}
	}
	_, err := carry.Copy(ctx, o)
	require.ErrorIs(t, err, context.Canceled)
	require.Less(t, time.Since(began), 10*time.Second, "held to its rate, it would have taken longer")
	requireFiles(t, dir)
}

// TestRefused: what can't be done is said before anything is made.
func TestRefused(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	source(t, at("a.img"), 1<<20)
	source(t, at("there.img"), 1<<20)
	require.NoError(t, os.Mkdir(at("folder"), 0o755))
	big := at("big.img")
	require.NoError(t, os.WriteFile(big, nil, 0o644))
	require.NoError(t, os.Truncate(big, 3<<40))
	for name, c := range map[string]struct {
		order carry.Order
		says  string
	}{
		"it is there":       {order(t, at("a.img"), at("there.img"), "raw", ""), "nothing is ever written over"},
		"a folder":          {order(t, at("a.img"), at("folder"), "raw", ""), "is a folder"},
		"no such folder":    {order(t, at("a.img"), at("none/x.img"), "raw", ""), "no such file"},
		"no folder at all":  {order(t, at("a.img"), at("a.img/x.img"), "raw", ""), "not a directory"},
		"a device":          {order(t, at("a.img"), "/dev/null", "raw", ""), "is a device"},
		"no such source":    {order(t, at("none.img"), at("x.img"), "raw", ""), "no such file"},
		"no such variant":   {order(t, at("a.img"), at("x.img"), "raw", "v3"), "there are sparse and full"},
		"too large for VHD": {order(t, big, at("x.vhd"), "vhd", ""), "too large for the format"},
		"no room":           {order(t, big, at("x.img"), "raw", "full"), "no space left"},
		"read-only":         {order(t, at("a.img"), "/proc/x.img", "raw", ""), "/proc/"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := carry.Copy(t.Context(), c.order)
			require.ErrorContains(t, err, c.says)
			requireFiles(t, dir, "a.img", "there.img", "folder", "big.img")
		})
	}
}

// TestReadBack: what storage has spoilt is noticed, and where.
func TestReadBack(t *testing.T) {
	truth := disktest.Pattern(8<<20, 2)
	d := disk.NewDigest(int64(len(truth)))
	feed := disk.ImageFeed(disktest.Plain(truth), 0, 512)
	require.NoError(t, disk.Pump(t.Context(), drop{}, feed, disk.Options{Digest: d}))
	require.NoError(t, disk.ReadBack(t.Context(), disktest.Plain(truth), d, nil))
	raw, err := json.Marshal(d)
	require.NoError(t, err)
	var again disk.Digest
	require.NoError(t, json.Unmarshal(raw, &again))
	require.NoError(t, disk.ReadBack(t.Context(), disktest.Plain(truth), &again, nil))
	for _, at := range []int{0, 5_000_000, len(truth) - 1} {
		truth[at] ^= 1
		err := disk.ReadBack(t.Context(), disktest.Plain(truth), d, nil)
		require.ErrorIs(t, err, disk.ErrReadBack)
		require.ErrorContains(t, err, fmt.Sprintf("guest bytes %d", at/65536*65536))
		truth[at] ^= 1
	}
}

type drop struct{}

func (drop) BlockBytes() int                      { return 512 }
func (drop) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }
func (drop) Put(int64, []byte, int) error         { return nil }
func (drop) Sync() ([]byte, error)                { return nil, nil }
func (drop) Finish() error                        { return nil }

// TestSalvage: of a damaged image, what can be read is copied and the rest is listed.
func TestSalvage(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	truth := []byte(strings.Repeat("wave height 2.1 metres\n", 300_000))[:6<<20]
	require.NoError(t, os.WriteFile(at("a.img"), truth, 0o644))
	_, err := carry.Copy(t.Context(), order(t, at("a.img"), at("a.vmdk"), "vmdk", "stream"))
	require.NoError(t, err)
	raw, err := os.ReadFile(at("a.vmdk"))
	require.NoError(t, err)
	grain := 128*512 + 30*512 // that of guest byte 1,900,000 or so
	for n := range 100 {
		raw[grain+12+n] ^= 0xff
	}
	require.NoError(t, os.WriteFile(at("a.vmdk"), raw, 0o644))
	_, err = carry.Copy(t.Context(), order(t, at("a.vmdk"), at("b.img"), "raw", ""))
	require.ErrorIs(t, err, disk.ErrDamaged)
	o := order(t, at("a.vmdk"), at("b.img"), "raw", "")
	o.Salvage = true
	r, err := carry.Copy(t.Context(), o)
	require.NoError(t, err)
	require.NotEmpty(t, r.Lost)
	saved, err := os.ReadFile(at("b.img"))
	require.NoError(t, err)
	for _, l := range r.Lost {
		require.LessOrEqual(t, l.Length, int64(128<<10), "a grain or two")
		clear(truth[l.Offset:l.End()])
	}
	require.Equal(t, truth, saved)

	t.Run("without its parent", func(t *testing.T) {
		f, err := formats.ByName("qcow2")
		require.NoError(t, err)
		require.NoError(t, formats.NewLayer(at("top.qcow2"), at("b.img"), f, diskID, formats.Options{}))
		require.NoError(t, os.Rename(at("b.img"), filepath.Join(t.TempDir(), "gone")))
		_, err = carry.Copy(t.Context(), order(t, at("top.qcow2"), at("c.img"), "raw", ""))
		var fault *formats.Fault
		require.ErrorAs(t, err, &fault)
		o := order(t, at("top.qcow2"), at("c.img"), "raw", "")
		o.Salvage = true
		r, err := carry.Copy(t.Context(), o)
		require.NoError(t, err)
		require.Equal(t, []disk.Range{{Offset: 0, Length: 6 << 20}}, r.Lost)
	})
}

// TestMerge: a chain becomes one image in the place of its top, with its id;
// a layer on it stays right.
func TestMerge(t *testing.T) {
	for _, format := range formats.Table {
		if !format.Layers {
			continue
		}
		t.Run(format.Name, func(t *testing.T) {
			dir := t.TempDir()
			at := func(name string) string { return filepath.Join(dir, name+format.Extension) }
			truth := source(t, filepath.Join(dir, "base.img"), 3<<20)
			_, err := carry.Copy(t.Context(), order(t, filepath.Join(dir, "base.img"), at("base"), format.Name, ""))
			require.NoError(t, err)
			require.NoError(t, formats.NewLayer(at("mid"), at("base"), &format, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77",
				formats.Options{}))
			require.NoError(t, formats.NewLayer(at("top"), at("mid"), &format, "1b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77",
				formats.Options{}))
			mid, err := formats.OpenChain(at("mid"), formats.Options{})
			require.NoError(t, err)
			info := mid.Info()
			require.NoError(t, mid.Close())
			o := order(t, at("mid"), at("mid"), format.Name, "")
			o.Replace, o.ID, o.Linkage = true, info.ID, info.Linkage
			_, err = carry.Copy(t.Context(), o)
			require.NoError(t, err)
			require.NoError(t, os.Remove(at("base")))
			if format.Name == "vhd" { // which keeps the time of its parent, too
				_, err := formats.Reparent(at("top"), at("mid"), "", false, formats.Options{})
				require.NoError(t, err)
			}
			requireImage(t, truth, at("top"))
			requireFiles(t, dir, "base.img", "mid"+format.Extension, "top"+format.Extension)
		})
	}
}

// TestOneAtATime: two copies to one place don't meet.
func TestOneAtATime(t *testing.T) {
	src := filepath.Join(t.TempDir(), "kiosk-visitor.img")
	truth := source(t, src, 16<<20)
	dir := t.TempDir()
	h := helper{Source: src, Target: filepath.Join(dir, "x"), Format: "raw", Rate: 8 << 20}
	cmd := h.start(t)
	require.NoError(t, cmd.Start())
	part := filepath.Join(dir, ".x.part")
	for _, err := os.Stat(part); errors.Is(err, fs.ErrNotExist); _, err = os.Stat(part) {
		time.Sleep(5 * time.Millisecond)
	}
	time.Sleep(50 * time.Millisecond)
	_, err := carry.Copy(t.Context(), order(t, src, h.Target, "raw", ""))
	require.ErrorContains(t, err, "under way")
	require.NoError(t, cmd.Wait())
	requireImage(t, truth, h.Target)
}
