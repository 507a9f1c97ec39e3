package tests

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf/ovftest"
	"unvora.example/unvora/internal/wait"
)

// collections: several machines, of two hosts, go into one package. Each is found in it as a copy of its own, and comes
// out as it went in.
func (e *estate) collections(t *testing.T) {
	e.ok(t, "power", "on", "gannet/buoy-ingest")
	three := []string{"gannet/archive-db", "gannet/buoy-ingest", "petrel/tide-probe"}
	export := func(dest string, more ...string) string {
		return e.ok(t, append(append(append([]string{"export"}, three...), dest, "--yes"), more...)...)
	}
	file := tempFile(t, "sea.ova")
	require.Contains(t, export(file), "sea.ova is written")
	breaches, err := ovftest.PackageBreaches(file)
	require.NoError(t, err)
	require.Empty(t, breaches)
	for _, name := range three[:2] {
		c := get[openapi.Copy](t, e, "copies", name)
		require.Equal(t, "running", c.State, "it went on")
		for _, d := range *c.Machine.Disks {
			require.NotContains(t, filepath.Base(d.File), "-2.", "its layers are taken off again")
		}
	}
	require.Empty(t, e.leftovers(t, "gannet"))
	e.ok(t, "power", "off", "gannet/buoy-ingest")

	// What comes out is what went in; the other is as it was at one moment of its guest.
	e.ok(t, "import", file, "--host", "fulmar", "--name", "sea-{name}", "--yes")
	require.Equal(t, e.guestSum(t, "petrel/tide-probe"), e.guestSum(t, "fulmar/sea-tide-probe"))
	for _, name := range three {
		was := get[openapi.Copy](t, e, "copies", name)
		is := get[openapi.Copy](t, e, "copies", "fulmar/sea-"+was.Name)
		require.Equal(t, was.Lineage, is.Lineage)
		require.Len(t, *is.Machine.Disks, len(*was.Machine.Disks))
		require.NotEqual(t, was.Uuid, is.Uuid, "it was renewed")
	}

	// On a shelf each machine of it is known, and stays so.
	require.Contains(t, export("loft/sea.ova"), "loft/sea.ova is written")
	for range 2 {
		e.ok(t, "survey", "gannet")
		var names []string
		for _, c := range get[[]openapi.Copy](t, e, "packages") {
			if c.Shelf == "loft" {
				names = append(names, c.Name)
				origin := get[openapi.Copy](t, e, "copies", *c.Parent)
				require.Equal(t, []string{c.Name, c.Lineage}, []string{origin.Name, origin.Lineage})
			}
		}
		require.ElementsMatch(t, []string{"archive-db", "buoy-ingest", "tide-probe"}, names)
	}
	require.Contains(t, e.ok(t, "where", "buoy-ingest"), "loft/sea.ova")
	e.ok(t, "import", "loft/sea.ova", "--host", "fulmar", "--name", "alone", "--answer",
		"descriptor.several-machines=some:buoy-ingest", "--yes")
	alone := get[openapi.Copy](t, e, "copies", "fulmar/alone")
	require.Equal(t, "buoy-ingest", get[openapi.Copy](t, e, "copies", *alone.Parent).Name)
	loft := filepath.Join(e.dir, "hosts", "gannet", "loft")
	one := tempFile(t, "one.ova")
	e.ok(t, "export", "gannet/training-03", one, "--yes")
	raw, err := os.ReadFile(one)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(loft, ".sea.next"), raw, 0o644))
	require.NoError(t, os.Rename(filepath.Join(loft, ".sea.next"), filepath.Join(loft, "sea.ova")))
	wait.Until(t, func() bool {
		e.ok(t, "survey", "gannet")
		n := 0
		for _, c := range get[[]openapi.Copy](t, e, "packages") {
			if c.Shelf == "loft" {
				n++
			}
		}
		return n == 1
	}, "what another package is written over is gone")

	// Both are read from another host than the shelf's.
	e.ok(t, "export", three[0], three[1], "attic/two.ova", "--yes")
	two := filepath.Join(e.pool("petrel", "attic"), "two.ova")
	require.Contains(t, e.ok(t, "inspect", two, "--verify"), "manifest ok")

	// As a folder, through a pipe, and for others.
	folder := filepath.Join(t.TempDir(), "sea")
	export(folder, "--shape", "folder", "--together", "--name", "sea", "--for", "hand-out")
	breaches, err = ovftest.PackageBreaches(folder)
	require.NoError(t, err)
	require.Empty(t, breaches)
	descriptor, err := os.ReadFile(filepath.Join(folder, "sea.ovf"))
	require.NoError(t, err)
	require.NotContains(t, string(descriptor), "labnet")
	cmd := e.command(t.Context(), append(append([]string{"export"}, three...), "-", "--together", "--name", "sea",
		"--yes")...)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	require.NoError(t, cmd.Run(), said.String())
	piped := tempFile(t, "piped.ova")
	require.NoError(t, os.WriteFile(piped, out.Bytes(), 0o600))
	breaches, err = ovftest.PackageBreaches(piped)
	require.NoError(t, err)
	require.Empty(t, breaches)
	require.Contains(t, e.ok(t, "inspect", piped, "--verify"), "buoy-ingest")

	// What can't be.
	for want, args := range map[string][]string{
		"a package of several machines needs a name": {"loft", "--together"},
		"--shape folder": {"-", "--together", "--name", "sea", "--shape", "folder"},
		"none of the machines has a disk or a device": {"loft/x.ova", "--leave-out", "disk9"},
	} {
		r := e.run(t, append(append([]string{"export"}, three...), args...)...)
		if want == "--shape folder" {
			want = "standard output takes an OVA"
		}
		require.Equal(t, 2, r.status, r.out+r.err)
		require.Contains(t, r.err, want)
	}
	e.ok(t, "clone", "petrel/tide-probe", "--host", "gannet", "--name", "tide-probe", "--yes")
	r := e.run(t, "export", "petrel/tide-probe", "gannet/tide-probe", "loft/x.ova", "--yes")
	require.Equal(t, 2, r.status, r.out+r.err)
	require.Contains(t, r.err, "have one name")
	require.False(t, strings.Contains(strings.Join(e.leftovers(t, "gannet"), " "), "sea"))
}
