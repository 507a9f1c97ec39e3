package tests

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/ovf/ovftest"
)

// TestExports: of several machines each gets a package of its own, on a shelf or in a directory here. What one can't do
// stops no other.
func TestExports(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "power", "on", "training-02")
	dir := filepath.Join(t.TempDir(), "class")
	plan := e.ok(t, "export", "--where", "name~training-0*", dir, "--yes", "--plan")
	require.Contains(t, plan, "9 jobs, one for each machine")
	require.Contains(t, plan, "training-09.ova")
	require.NoDirExists(t, dir, "a plan makes nothing")

	out := e.ok(t, "export", "training-01", "training-02", "training-03", dir, "--yes")
	require.Contains(t, out, "gannet/training-02")
	list, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Len(t, list, 3, "%v", list)
	for _, path := range list {
		name := strings.TrimSuffix(filepath.Base(path), ".ova")
		require.Contains(t, e.ok(t, "inspect", path, "--verify"), name)
	}
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "gannet/training-02").State)
	e.ok(t, "import", filepath.Join(dir, "training-02.ova"), "--host", "petrel", "--name", "class-02", "--yes")
	out = e.ok(t, "export", "training-04", "training-05", dir, "--shape", "folder", "--yes")
	require.Contains(t, out, "is written")
	require.FileExists(t, filepath.Join(dir, "training-05", "training-05.ovf"))

	// One is there already: it alone is not written, and nothing is written over.
	before, err := os.ReadFile(filepath.Join(dir, "training-01.ova"))
	require.NoError(t, err)
	r := e.run(t, "export", "training-01", "training-06", dir, "--yes")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.err, "nothing is written over")
	require.FileExists(t, filepath.Join(dir, "training-06.ova"))
	after, err := os.ReadFile(filepath.Join(dir, "training-01.ova"))
	require.NoError(t, err)
	require.Equal(t, before, after)
	list, err = filepath.Glob(filepath.Join(dir, ".*"))
	require.NoError(t, err)
	require.Empty(t, list, "nothing half-done")
	require.Empty(t, e.leftovers(t, "gannet"))

	// On a shelf, under names for the receiver.
	e.ok(t, "export", "training-07", "training-08", "loft", "--for", "hand-out", "--name", "kit-{nn}", "--yes")
	found := get[[]openapi.Copy](t, e, "copies", "--where", "form=package name~kit-*")
	require.Len(t, found, 2)
	r = e.run(t, "export", "training-07", "training-09", "loft", "--name", "kit-{nn}", "--yes")
	require.Equal(t, 4, r.status, "a name is taken: %s", r.out+r.err)
	require.Contains(t, r.out, "place.taken")

	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"nothing": {[]string{dir}, "which, and where to"},
		"a pipe":  {[]string{"training-01", "training-02", "-"}, "takes one package"},
		"a file":  {[]string{"training-01", "training-02", filepath.Join(dir, "training-01.ova")}, "exists already"},
		"no directory": {[]string{"training-01", "training-02", filepath.Join(dir, "none", "x")},
			"make it first: mkdir"},
		"a shelf's file":  {[]string{"training-01", "training-02", "loft/x"}, "name loft alone"},
		"no shelf":        {[]string{"training-01", "training-02", "attik"}, `no shelf and no pool "attik"`},
		"one name":        {[]string{"training-01", "training-02", dir, "--name", "x"}, "x-{nn}"},
		"no such machine": {[]string{"training-01", "nothing", dir}, `no copy "nothing"`},
		"none fits":       {[]string{"--where", "name=none", dir}, "No registered copy fits"},
	} {
		r := e.run(t, append([]string{"export", "--yes"}, c.args...)...)
		require.Contains(t, []int{1, 2, 4}, r.status, "%s: %s", name, r.out+r.err)
		require.Contains(t, r.err, c.says, name)
	}
	exportedFormats(t, e)
	exportedCompact(t, e)
}

// exportedCompact: what a clean file system marks as free is left out, of a stream and of a file that is laid out; the
// plan says before how much, and the file system is whole in the package.
func exportedCompact(t *testing.T, e *estate) {
	const size = 32 << 20
	dir, files := t.TempDir(), t.TempDir()
	whole := filepath.Join(dir, "buoy.img")
	require.NoError(t, os.WriteFile(whole, disktest.Pattern(size, 3), 0o600)) // what was deleted, as it were
	log := disktest.Pattern(5<<20, 4)
	require.NoError(t, os.WriteFile(filepath.Join(files, "log"), log, 0o600))
	tool := func(name string, args ...string) []byte {
		t.Helper()
		cmd := exec.Command("/usr/sbin/"+name, args...)
		cmd.Env = append(os.Environ(), "LC_ALL=C")
		out, err := cmd.Output()
		require.NoError(t, err, "%s: %s (apt-get install e2fsprogs, which make test does)", name, out)
		return out
	}
	tool("mke2fs", "-q", "-F", "-t", "ext4", "-E", "nodiscard", "-d", files, whole)
	e.ok(t, "import", whole, "--host", "gannet", "--name", "buoy", "--yes")

	said := e.run(t, "export", "gannet/buoy", dir+"/", "--compact", "--plan").out
	require.Regexp(t, `buoy: its ext4 has 2\d\.\d MiB free, and 1\d\.\d MiB of data that lie in there are left out`,
		said)
	for _, format := range []string{"vmdk", "qcow2"} {
		to := filepath.Join(dir, format)
		e.ok(t, "export", "gannet/buoy", to+"/", "--compact", "--disk-format", format, "--yes")
		require.Contains(t, e.ok(t, "inspect", filepath.Join(to, "buoy.ovf"), "--verify"), "manifest ok")
		found, err := filepath.Glob(filepath.Join(to, "buoy-*"))
		require.NoError(t, err)
		require.Len(t, found, 1)
		st, err := os.Stat(found[0])
		require.NoError(t, err)
		require.Less(t, st.Size(), int64(10<<20))
		j := judge(t, format, found[0])
		require.EqualValues(t, size, j.size)
		image := filepath.Join(to, "guest")
		require.NoError(t, os.WriteFile(image, j.read(t, 0, size), 0o600))
		tool("e2fsck", "-f", "-n", image)
		require.True(t, bytes.Equal(log, tool("debugfs", "-R", "cat log", image)))
	}

	// Nothing is left out of one that is in use, and it is said why.
	e.ok(t, "power", "on", "gannet/buoy", "--yes")
	require.Contains(t, e.run(t, "export", "gannet/buoy", dir+"/", "--compact", "--plan").out,
		"nothing of them is left out")
	e.ok(t, "power", "off", "gannet/buoy", "--hard", "--yes")
}

// exportedFormats: disks of packages as files of each format, as QEMU reads them and as they come back.
func exportedFormats(t *testing.T, e *estate) {
	truth, dir := sample(9<<20+512, 7), t.TempDir()
	bare := filepath.Join(dir, "bare.img")
	require.NoError(t, os.WriteFile(bare, truth, 0o600))
	e.ok(t, "import", bare, "--host", "gannet", "--name", "bare", "--yes")
	for _, format := range []string{"qcow2", "vhdx", "vmdk:sparse", "raw"} {
		name, _, _ := strings.Cut(format, ":")
		folder := filepath.Join(dir, name)
		said := e.ok(t, "export", "gannet/bare", folder+"/", "--disk-format", format, "--yes")
		require.Contains(t, said, "is written")
		files, err := filepath.Glob(filepath.Join(folder, "*-*"))
		require.NoError(t, err)
		require.Len(t, files, 1)
		requireGuest(t, truth, judge(t, name, files[0]))
		require.Contains(t, e.ok(t, "inspect", filepath.Join(folder, "bare.ovf"), "--verify"), name)
	}
	back := func(name string) {
		c := e.onlyAt(t, name, "petrel")
		d := (*c.Machine.Disks)[0]
		requireGuest(t, truth, judge(t, d.Format, filepath.Join(c.Path, d.File)))
	}
	e.ok(t, "import", filepath.Join(dir, "raw", "bare.ovf"), "--host", "petrel", "--name", "from-raw", "--yes")
	back("from-raw")
	piped, err := os.Create(filepath.Join(dir, "piped.ova"))
	require.NoError(t, err)
	defer piped.Close()
	cmd := e.command(t.Context(), "export", "gannet/bare", "-", "--disk-format", "vhdx", "--yes")
	cmd.Stdout = piped
	require.NoError(t, cmd.Run())
	require.Contains(t, e.ok(t, "inspect", piped.Name(), "--verify"), "manifest ok")
	out, err := exec.Command("tar", "xOf", piped.Name(), "--wildcards", "*.vhdx").Output()
	require.NoError(t, err)
	file := filepath.Join(dir, "piped.vhdx")
	require.NoError(t, os.WriteFile(file, out, 0o600))
	requireGuest(t, truth, judge(t, "vhdx", file))
	e.ok(t, "export", "gannet/bare", "loft/bare.ova", "--disk-format", "vhd:fixed", "--yes")
	e.ok(t, "import", "loft/bare.ova", "--host", "petrel", "--name", "from-vhd", "--yes")
	back("from-vhd")
	exportedParts(t, e, truth, dir)
	for format, says := range map[string]string{"vmdk:flat": "one of", "bmp": "one of"} {
		r := e.run(t, "export", "gannet/bare", "loft", "--disk-format", format)
		require.Equal(t, 2, r.status)
		require.Contains(t, r.err, says)
	}
}

// exportedParts: files of a folder in parts, as the standard has them, for drives that take no large ones; they are
// read as one, also from two drives.
func exportedParts(t *testing.T, e *estate, truth []byte, dir string) {
	near, far := filepath.Join(dir, "parts"), filepath.Join(dir, "far")
	said := e.ok(t, "export", "gannet/bare", near+"/", "--disk-format", "raw", "--parts", "4MiB", "--yes")
	require.Contains(t, said, "is written")
	var whole []byte
	for n := range 3 {
		part, err := os.ReadFile(filepath.Join(near, fmt.Sprintf("bare-bare.img.%09d", n)))
		require.NoError(t, err)
		require.LessOrEqual(t, len(part), 4<<20)
		whole = append(whole, part...)
	}
	require.True(t, bytes.Equal(truth, whole), "put together by somebody else, they are the disk")
	breaches, err := ovftest.PackageBreaches(near)
	require.NoError(t, err)
	require.Empty(t, breaches)
	sums := exec.Command("sh", "-c", "sed -n 's/SHA256(\\(.*\\))= \\(.*\\)/\\2  \\1/p' bare.mf | "+
		"sha256sum -c --strict --quiet")
	sums.Dir = near
	out, err := sums.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, e.ok(t, "inspect", near, "--verify"), "manifest ok")
	bringing := func(name string, from ...string) {
		t.Helper()
		e.ok(t, append(append([]string{"import"}, from...), "--host", "petrel", "--name", name, "--yes")...)
		c := e.onlyAt(t, name, "petrel")
		d := (*c.Machine.Disks)[0]
		requireGuest(t, truth, judge(t, d.Format, filepath.Join(c.Path, d.File)))
	}
	bringing("from-parts", near)

	require.NoError(t, os.Mkdir(far, 0o755))
	second := "bare-bare.img.000000001"
	require.NoError(t, os.Rename(filepath.Join(near, second), filepath.Join(far, second)))
	r := e.run(t, "import", near, "--host", "petrel", "--name", "half", "--yes")
	require.NotEqual(t, 0, r.status)
	require.Contains(t, r.out+r.err, second+" is not in the package")
	bringing("from-two", near, far)
	require.Contains(t, e.ok(t, "inspect", near, far, "--verify"), "manifest ok")

	part, err := os.ReadFile(filepath.Join(far, second))
	require.NoError(t, err)
	part[1000] ^= 1
	require.NoError(t, os.WriteFile(filepath.Join(far, second), part, 0o600))
	require.Contains(t, e.run(t, "inspect", near, far, "--verify").out, second+" was changed or damaged")
	r = e.run(t, "import", near, far, "--host", "petrel", "--name", "spoilt", "--yes")
	require.NotEqual(t, 0, r.status)
	require.Contains(t, r.out+r.err, "manifest")
	require.NoError(t, os.WriteFile(filepath.Join(far, second), part[:5000], 0o600))
	require.Contains(t, e.run(t, "inspect", near, far).out, second+" should have 4194304 bytes and has 5000")

	// One that fits is not cut, and what can't be cut is refused.
	small := filepath.Join(dir, "small")
	e.ok(t, "export", "gannet/bare", small+"/", "--parts", "1GiB", "--yes")
	require.FileExists(t, filepath.Join(small, "bare-bare.vmdk"))
	for _, c := range [][]string{{filepath.Join(dir, "x.ova"), "4MiB", "an OVA is one file"},
		{"loft", "4MiB", "is one file"}, {filepath.Join(dir, "y") + "/", "4KiB", "at least 1 MiB"}} {
		r := e.run(t, "export", "gannet/bare", c[0], "--parts", c[1], "--yes")
		require.Equal(t, 2, r.status, r.out)
		require.Contains(t, r.err, c[2])
	}
}
