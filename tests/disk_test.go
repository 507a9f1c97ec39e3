package tests

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/internal/wait"
)

// diskShown is what disk show prints as JSON, with the fields that are fixed.
type diskShown struct {
	Path, Format, Variant, ID          string
	VirtualBytes, FileBytes, DataBytes int64
	Encrypted, Clean                   *bool
	Parent                             *struct{ Path, Format, ID string }
	Chain                              []string
	Findings                           []struct{ Code, Severity, Subject, Message string }
	Snapshots                          []struct{ Name string }
}

// onDisks runs disk commands in a folder, without any service.
type onDisks struct {
	t   testing.TB
	dir string
	bin string
}

func disksIn(t testing.TB) onDisks {
	return onDisks{t, t.TempDir(), theEstate(t).binary}
}

func (d onDisks) at(name string) string { return filepath.Join(d.dir, name) }

func (d onDisks) run(args ...string) result {
	d.t.Helper()
	cmd := exec.Command(d.bin, append([]string{"disk"}, args...)...)
	cmd.Dir = d.dir
	cmd.Env = []string{"HOME=" + d.dir, "UNVORA_SERVER=http://127.0.0.1:1"} // nobody is asked
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	if _, failed := err.(*exec.ExitError); !failed {
		require.NoError(d.t, err)
	}
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

func (d onDisks) ok(args ...string) string {
	d.t.Helper()
	r := d.run(args...)
	require.Zero(d.t, r.status, "%v: %s%s", args, r.out, r.err)
	return r.out
}

func (d onDisks) show(name string) (s diskShown) {
	d.t.Helper()
	require.NoError(d.t, json.Unmarshal([]byte(d.ok("show", name, "-o", "json")), &s))
	return s
}

func (d onDisks) sum(name string) string {
	d.t.Helper()
	sum, _, found := strings.Cut(d.ok("sum", name), "  ")
	require.True(d.t, found)
	return sum
}

// TestDiskCommands goes round all formats: whatever an image passed through, the
// guest's bytes are the same, and QEMU reads the last one.
func TestDiskCommands(t *testing.T) {
	d := disksIn(t)
	truth := sample(9*mib+512, 5)
	require.NoError(t, os.WriteFile(d.at("tide-gauge.img"), truth, 0o640))
	want := fmt.Sprintf("%x", sha256.Sum256(truth))
	require.Equal(t, fmt.Sprintf("%s  %d  tide-gauge.img\n", want, len(truth)), d.ok("sum", "tide-gauge.img"))
	last := "tide-gauge.img"
	for n, to := range []string{"qcow2 v3", "vhdx dynamic", "vmdk stream", "vhd dynamic", "vmdk sparse", "qcow2 v2",
		"vhd fixed", "vmdk flat", "vhdx fixed", "raw full", "raw sparse"} {
		format, variant, _ := strings.Cut(to, " ")
		next := fmt.Sprintf("copy%d.%s", n, format)
		require.Contains(t, d.ok("copy", last, next, "--format", format, "--variant", variant, "--verify"),
			"read back and right", to)
		require.Equal(t, want, d.sum(next), to)
		require.Contains(t, d.ok("check", next), "sound", to)
		s := d.show(next)
		require.Equal(t, format, s.Format)
		require.Equal(t, int64(len(truth)), s.VirtualBytes)
		require.True(t, *s.Clean)
		require.False(t, *s.Encrypted)
		require.Nil(t, s.Parent)
		require.Equal(t, []string{next}, s.Chain)
		require.Empty(t, s.Findings)
		require.GreaterOrEqual(t, s.DataBytes, int64(mib))
		if format != "raw" {
			require.Equal(t, variant, s.Variant)
			require.NotEmpty(t, s.ID)
		}
		st, err := os.Stat(d.at(next))
		require.NoError(t, err)
		require.Equal(t, "-rw-r-----", st.Mode().String(), "as the source was")
		last = next
		requireGuest(t, truth, judge(t, driver(format), d.at(next)))
	}
	a, b := d.show("copy0.qcow2"), d.show("copy5.qcow2")
	require.NotEqual(t, a.ID, b.ID, "a copy gets an id of its own")
	d.ok("copy", "copy0.qcow2", "moved.vhdx", "--format", "vhdx", "--keep-id")
	require.Equal(t, a.ID, d.show("moved.vhdx").ID)
	entries, err := os.ReadDir(d.dir)
	require.NoError(t, err)
	for _, e := range entries {
		require.False(t, strings.HasPrefix(e.Name(), "."), "%s is left over", e.Name())
	}
}

// TestDiskLayers: a class of layers on one parent, which is moved, written to,
// mistaken for another, and merged away.
func TestDiskLayers(t *testing.T) {
	d := disksIn(t)
	truth := sample(5*mib, 7)
	require.NoError(t, os.WriteFile(d.at("classroom.img"), truth, 0o644))
	want := fmt.Sprintf("%x", sha256.Sum256(truth))
	d.ok("layer", "training-01.qcow2", "--parent", "classroom.img")
	d.ok("layer", "training-02.qcow2", "--parent", "training-01.qcow2")
	s := d.show("training-02.qcow2")
	require.Equal(t, []string{"training-02.qcow2", "training-01.qcow2", "classroom.img"}, s.Chain)
	require.Equal(t, "training-01.qcow2", s.Parent.Path)
	require.Equal(t, d.show("training-01.qcow2").ID, s.Parent.ID)
	require.Equal(t, want, d.sum("training-02.qcow2"))

	// The parent moves to a folder nearby: it is found by its contents, and named.
	require.NoError(t, os.Mkdir(d.at("parents"), 0o755))
	require.NoError(t, os.Rename(d.at("classroom.img"), d.at("parents/class.img")))
	require.NoError(t, os.WriteFile(d.at("parents/other.img"), sample(5*mib, 8), 0o644))
	require.NoError(t, os.Mkdir(d.at("layers"), 0o755))
	require.NoError(t, os.Rename(d.at("training-01.qcow2"), d.at("layers/training-01.qcow2")))
	s = d.show("layers/training-01.qcow2")
	require.Len(t, s.Findings, 1)
	require.Equal(t, "disk.parent-missing", s.Findings[0].Code)
	require.Contains(t, s.Findings[0].Message, "parents/class.img may be it")
	require.Contains(t, d.show("training-02.qcow2").Findings[0].Message, "layers/training-01.qcow2 may be it",
		"by its id, though its own parent is missing")
	r := d.run("copy", "layers/training-01.qcow2", "x.img", "--format", "raw")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "disk.parent-missing")
	r = d.run("reparent", "layers/training-01.qcow2", "--parent", "parents/other.img")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "disk.parent-changed")
	d.ok("reparent", "layers/training-01.qcow2", "--parent", "parents/class.img")

	// Where it leads out of its folder, it is followed only when told so.
	for _, args := range [][]string{{"sum", "layers/training-01.qcow2"},
		{"copy", "layers/training-01.qcow2", "x.img", "--format", "raw"}, {"merge", "layers/training-01.qcow2"}} {
		r = d.run(args...)
		require.Equal(t, 4, r.status, args)
		require.Contains(t, r.err, "file.outside")
		require.Contains(t, r.err, "parents/class.img")
		require.Contains(t, r.err, "--allow-outside")
		require.NoFileExists(t, d.at("x.img"))
	}
	sum, _, _ := strings.Cut(d.ok("sum", "layers/training-01.qcow2", "--allow-outside"), "  ")
	require.Equal(t, want, sum)
	require.Contains(t, d.ok("show", "layers/training-01.qcow2"), "parents/class.img")
	d.ok("reparent", "training-02.qcow2", "--parent", "layers/training-01.qcow2")

	// Somebody writes to the parent.
	f, err := os.OpenFile(d.at("parents/class.img"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(disktest.Pattern(5*mib, 99), 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	r = d.run("sum", "training-02.qcow2")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "disk.parent-changed")
	require.NoError(t, os.WriteFile(d.at("parents/class.img"), truth, 0o644))

	d.ok("merge", "training-02.qcow2")
	require.NoError(t, os.RemoveAll(d.at("parents")))
	s = d.show("training-02.qcow2")
	require.Nil(t, s.Parent)
	require.Equal(t, want, d.sum("training-02.qcow2"))
	requireGuest(t, truth, judge(t, "qcow2", d.at("training-02.qcow2")))
	require.Equal(t, 1, d.run("merge", "training-02.qcow2").status, "it stands alone")
}

// saved is when the journal of a copy that is being made was written last.
func (d onDisks) saved(target string) time.Time {
	st, err := os.Stat(d.at("." + target + ".journal"))
	if err != nil {
		return time.Time{}
	}
	return st.ModTime()
}

// TestDiskCopyKilled: the command is killed; asked for again, it goes on.
func TestDiskCopyKilled(t *testing.T) {
	d := disksIn(t)
	truth := disktest.Pattern(60*mib, 3)
	require.NoError(t, os.WriteFile(d.at("archive-db.img"), truth, 0o644))
	for n := range 2 {
		cmd := exec.Command(d.bin, "disk", "copy", "archive-db.img", "archive-db.qcow2", "--format", "qcow2", "--rate",
			"6MiB")
		cmd.Dir = d.dir
		before := d.saved("archive-db.qcow2")
		require.NoError(t, cmd.Start())
		wait.Until(t, func() bool { return d.saved("archive-db.qcow2") != before }, "its journal was saved")
		time.Sleep(time.Duration(rand.IntN(400)) * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		cmd.Wait()
		require.NoFileExists(t, d.at("archive-db.qcow2"), "try %d", n)
	}
	require.Contains(t, d.ok("copy", "archive-db.img", "archive-db.qcow2", "--format", "qcow2"), "by an earlier try")
	require.Equal(t, fmt.Sprintf("%x", sha256.Sum256(truth)), d.sum("archive-db.qcow2"))
	entries, err := os.ReadDir(d.dir)
	require.NoError(t, err)
	require.Len(t, entries, 2)
}

// TestDiskWrongInput: what went wrong, where, and what to do.
func TestDiskWrongInput(t *testing.T) {
	d := disksIn(t)
	require.NoError(t, os.WriteFile(d.at("a.img"), sample(3*mib, 1), 0o644))
	d.ok("copy", "a.img", "a.qcow2", "--format", "qcow2")
	d.ok("copy", "a.img", "a.vhdx", "--format", "vhdx")
	raw, err := os.ReadFile(d.at("a.qcow2"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(d.at("cut.qcow2"), raw[:len(raw)/3], 0o644))
	raw[35] = 1 // the encryption method
	require.NoError(t, os.WriteFile(d.at("sealed.qcow2"), raw, 0o644))
	for name, c := range map[string]struct {
		args   []string
		status int
		says   string
	}{
		"no such file": {[]string{"show", "none.img"}, 1, "is the path right?"},
		"a folder":     {[]string{"show", "."}, 1, "is a directory"},
		"no such format": {[]string{"copy", "a.img", "x", "--format", "tape"}, 2,
			"there are qcow2, vmdk, vhdx, vhd and raw"},
		"no such variant": {[]string{"copy", "a.img", "x", "--format", "vhd", "--variant", "v3"}, 2,
			"there are dynamic and fixed"},
		"one argument": {[]string{"copy", "a.img"}, 2, "DST is missing"},
		"it is there": {[]string{"copy", "a.img", "a.qcow2", "--format", "qcow2"}, 1,
			"nothing is ever written over"},
		"a rate of nothing":  {[]string{"copy", "a.img", "x", "--rate", "0"}, 2, "--rate"},
		"cut short":          {[]string{"sum", "cut.qcow2"}, 1, "(at byte "},
		"cut short, copied":  {[]string{"copy", "cut.qcow2", "x"}, 1, "cut.qcow2"},
		"cut short, checked": {[]string{"check", "cut.qcow2"}, 1, "--salvage"},
		"encrypted":          {[]string{"copy", "sealed.qcow2", "x"}, 1, "encrypted"},
		"the wrong format":   {[]string{"copy", "a.img", "x", "--from-format", "vhdx"}, 1, "no VHDX signature"},
		"no layer":           {[]string{"reparent", "a.qcow2", "--parent", "a.img"}, 1, "is no layer"},
		"no parent told":     {[]string{"reparent", "a.qcow2"}, 2, "parent"},
		"a parent of another": {[]string{"layer", "l.vhdx", "--parent", "a.qcow2", "--format", "vhdx"}, 1,
			"has to be vhdx too"},
		"no snapshots": {[]string{"copy", "a.vhdx", "x", "--snapshot", "monday"}, 1, "keep no snapshots"},
	} {
		t.Run(name, func(t *testing.T) {
			r := d.run(c.args...)
			require.Equal(t, c.status, r.status, r.err)
			require.Contains(t, r.err, c.says)
			require.NoFileExists(t, d.at("x"))
			require.NoFileExists(t, d.at(".x.part"))
		})
	}
	var s diskShown
	require.NoError(t, json.Unmarshal([]byte(d.run("show", "sealed.qcow2", "-o", "json").out), &s))
	require.True(t, *s.Encrypted)
	require.Equal(t, "disk.encrypted", s.Findings[0].Code)
	require.NoError(t, json.Unmarshal([]byte(d.run("show", "cut.qcow2", "-o", "json").out), &s))
	require.Equal(t, "disk.damaged", s.Findings[0].Code)

	// What shows without anything being read.
	finding := func(file string) string {
		var s diskShown
		require.NoError(t, json.Unmarshal([]byte(d.run("show", file, "-o", "json").out), &s))
		require.Len(t, s.Findings, 1, file)
		return s.Findings[0].Code
	}
	raw[35], raw[79] = 0, raw[79]|1
	require.NoError(t, os.WriteFile(d.at("unclean.qcow2"), raw, 0o644))
	require.Equal(t, "disk.unclean", finding("unclean.qcow2"))
	require.Equal(t, 1, d.run("check", "unclean.qcow2").status)
	require.Contains(t, d.ok("check", "unclean.qcow2", "--repair"), "count all references anew")
	require.NoError(t, os.WriteFile(d.at("empty.img"), nil, 0o644))
	require.Equal(t, "disk.empty", finding("empty.img"))
	d.ok("layer", "one.qcow2", "--parent", "a.qcow2")
	d.ok("layer", "two.qcow2", "--parent", "one.qcow2")
	require.NoError(t, os.Rename(d.at("two.qcow2"), d.at("one.qcow2")))
	require.Equal(t, "disk.chain-loop", finding("one.qcow2"))
	require.Equal(t, 4, d.run("sum", "one.qcow2").status)

	// Repair tells before it does, and does what needs no guessing.
	f, err := os.OpenFile(d.at("a.vhdx"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1, 2, 3}, 128*kib+200) // the older header
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.Contains(t, d.ok("check", "a.vhdx"), "costs room only")
	r := d.run("check", "a.vhdx", "--repair")
	require.Zero(t, r.status)
	require.Contains(t, r.err, "This will be done:")
	require.Contains(t, r.out, "repaired")
	require.Contains(t, d.ok("check", "a.vhdx"), "sound\n")

	r = d.run("copy", "cut.qcow2", "saved.img", "--format", "raw", "--salvage")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.out, "could not be read")
	require.FileExists(t, d.at("saved.img"))
}

// TestDiskApart: two images are compared whatever their formats, and told by status; a tree sum is the same for the
// same bytes, layers applied.
func TestDiskApart(t *testing.T) {
	d := disksIn(t)
	truth := sample(9*mib, 6)
	require.NoError(t, os.WriteFile(d.at("monday.img"), truth, 0o640))
	d.ok("copy", "monday.img", "monday.vmdk")
	require.Contains(t, d.ok("compare", "monday.img", "monday.vmdk"), "They hold the same: 9 MiB")
	d.ok("layer", "today.qcow2", "--parent", "monday.vmdk")
	first := strings.Fields(d.ok("sum", "--tree", "monday.img", "monday.vmdk", "today.qcow2"))
	require.Equal(t, first[0], first[3])
	require.Equal(t, first[0], first[6])
	require.NotEqual(t, strings.Fields(d.ok("sum", "monday.img"))[0], first[0], "it is a sum of another kind")

	truth[5*mib]++
	require.NoError(t, os.WriteFile(d.at("other.img"), append(truth, 1), 0o640))
	r := d.run("compare", "today.qcow2", "other.img", "-o", "json")
	require.Equal(t, 1, r.status, r.err)
	var apart struct {
		Same                   bool
		Places, DifferentBytes int64
		Where                  []struct{ Offset, Bytes int64 }
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &apart))
	require.False(t, apart.Same)
	require.EqualValues(t, 2, apart.Places)
	require.EqualValues(t, 5*mib, apart.Where[0].Offset)
	require.EqualValues(t, 9*mib, apart.Where[1].Offset)
	require.EqualValues(t, 4096+1, apart.DifferentBytes)
	require.NotEqual(t, first[0], strings.Fields(d.ok("sum", "--tree", "other.img"))[0])
	require.Equal(t, 1, d.run("compare", "monday.img", "nothing.img").status)
	require.Equal(t, 2, d.run("compare", "monday.img").status)
}
