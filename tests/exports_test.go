package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
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
		"a file":  {[]string{"training-01", "training-02", filepath.Join(dir, "training-01.ova")}, "is a file"},
		"no directory": {[]string{"training-01", "training-02", filepath.Join(dir, "none", "x")},
			"make it first: mkdir"},
		"a shelf's file":  {[]string{"training-01", "training-02", "loft/x.ova"}, "name loft alone"},
		"no shelf":        {[]string{"training-01", "training-02", "attik"}, `no shelf and no pool "attik"`},
		"one name":        {[]string{"training-01", "training-02", dir, "--name", "x"}, "x-{nn}"},
		"no such machine": {[]string{"training-01", "nothing", dir}, `no copy "nothing"`},
		"none fits":       {[]string{"--where", "name=none", dir}, "No registered copy fits"},
	} {
		r := e.run(t, append([]string{"export", "--yes"}, c.args...)...)
		require.Contains(t, []int{1, 2}, r.status, "%s: %s", name, r.out+r.err)
		require.Contains(t, r.err, c.says, name)
	}
}
