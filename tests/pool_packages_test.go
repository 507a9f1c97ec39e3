package tests

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// TestPackagesInPools: a package can lie in a pool beside the machine folders. On a share it is one package, which any
// host that sees it can bring in; what somebody brings there is found, and what somebody takes away is missed.
func TestPackagesInPools(t *testing.T) {
	e := ownEstate(t)
	harbour := filepath.Join(e.dir, "share", "harbour")
	kept := func() (list []string) {
		e.run(t, "survey")
		for _, c := range get[[]openapi.Copy](t, e, "packages") {
			require.Equal(t, "harbour", c.Pool)
			list = append(list, filepath.Base(c.Path))
		}
		return list
	}
	require.Contains(t, e.ok(t, "export", "gannet/tide-gauge", "harbour/", "--yes"),
		"harbour/tide-gauge.ova is written")
	require.Equal(t, []string{"tide-gauge.ova"}, kept(), "though two hosts see it")
	require.Contains(t, e.ok(t, "where", "tide-gauge"), "harbour/tide-gauge.ova")
	require.Contains(t, e.ok(t, "inspect", filepath.Join(harbour, "tide-gauge.ova"), "--verify"), "tide-gauge")

	r := e.run(t, "export", "gannet/tide-gauge", "archive", "--yes") // a label is no pool for the client
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "no shelf and no pool")
	r = e.run(t, "export", "gannet/tide-gauge", "harbour", "--yes")
	require.Equal(t, 4, r.status, r.out+r.err)
	require.Contains(t, r.err, "nothing is ever written over")
	r = e.run(t, "export", "gannet/tide-gauge", "harbour", "--shape", "folder")
	require.Equal(t, 2, r.status)

	// From the other end of the share, and across the network to a host that does not see it.
	e.ok(t, "import", "harbour/tide-gauge.ova", "--host", "petrel", "--name", "tide-second", "--yes")
	e.ok(t, "import", "harbour/tide-gauge.ova", "--host", "skua", "--name", "tide-third", "--yes")
	require.Equal(t, get[openapi.Copy](t, e, "copies", "harbour/tide-gauge.ova").Id,
		*get[openapi.Copy](t, e, "copies", "skua/tide-third").Parent)

	// Of several, each; into a pool of another host.
	out := e.ok(t, "export", "training-01", "training-02", "harbour/", "--yes")
	require.Contains(t, out, "harbour/training-02.ova is written")
	e.ok(t, "export", "skua/tide-third", "harbour/third.ova", "--yes")
	require.ElementsMatch(t, []string{"tide-gauge.ova", "training-01.ova", "training-02.ova", "third.ova"}, kept())

	e.ok(t, "export", "training-03", "petrel:reef/", "--yes")
	petrels, gannets := filepath.Join(e.pool("petrel", "reef"), "training-03.ova"),
		filepath.Join(e.pool("gannet", "reef"), "training-03.ova")
	require.FileExists(t, petrels)
	require.NoFileExists(t, gannets)
	e.ok(t, "export", "training-03", "reef/", "--yes") // the one of its own host, where the name is free
	for _, to := range []string{"petrel:reef/", "reef/"} {
		r = e.run(t, "export", "training-03", to, "--yes")
		require.Equal(t, 4, r.status, "it is refused before anything is read: %s", r.out+r.err)
		require.Contains(t, r.err, "nothing is ever written over")
	}
	r = e.run(t, "export", "skua/tide-third", "reef/", "--yes")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "gannet:reef or petrel:reef")
	require.NoError(t, os.Remove(petrels))
	require.NoError(t, os.Remove(gannets))
	require.Equal(t, 2, e.run(t, "export", "training-03", "skua:reef/", "--yes").status, "it has no such pool")

	// What people do there by hand.
	require.NoError(t, os.Rename(filepath.Join(harbour, "third.ova"), filepath.Join(harbour, "fourth.ova")))
	require.NoError(t, os.Remove(filepath.Join(harbour, "training-01.ova")))
	wait.Until(t, func() bool { return len(kept()) == 3 })
	require.ElementsMatch(t, []string{"tide-gauge.ova", "training-02.ova", "fourth.ova"}, kept())

	e.inDirectories(t, harbour)

	e.ok(t, "pool", "rest", "harbour")
	r = e.run(t, "export", "training-03", "harbour/", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "takes nothing new")
	list, err := filepath.Glob(filepath.Join(harbour, ".*.part"))
	require.NoError(t, err)
	require.Empty(t, list)

	e.collections(t)
}

// inDirectories: packages come into directories of pools too, are found there, and brought in from there.
func (e *estate) inDirectories(t *testing.T, harbour string) {
	require.Contains(t, e.ok(t, "export", "gannet/tide-gauge", "harbour/autumn/", "--yes"),
		"harbour/autumn/tide-gauge.ova is written")
	require.Contains(t, e.ok(t, "export", "training-01", "training-02", "petrel:harbour/autumn/", "--yes"),
		"harbour/autumn/training-02.ova is written")
	e.ok(t, "export", "training-01", "training-02", "harbour/autumn/both.ova", "--yes")
	inAutumn := func() (list []string) {
		e.ok(t, "survey")
		for _, c := range get[[]openapi.Copy](t, e, "packages") {
			if c.Rel != nil && filepath.Dir(*c.Rel) == "autumn" {
				list = append(list, filepath.Base(*c.Rel))
			}
		}
		return list
	}
	all := []string{"tide-gauge.ova", "training-01.ova", "training-02.ova", "both.ova", "both.ova"}
	require.ElementsMatch(t, all, inAutumn())
	require.Contains(t, e.ok(t, "where", "tide-gauge"), "harbour/autumn/tide-gauge.ova")
	e.ok(t, "import", "harbour/autumn/tide-gauge.ova", "--host", "petrel", "--name", "tide-autumn", "--yes")
	require.Equal(t, get[openapi.Copy](t, e, "copies", "harbour/autumn/tide-gauge.ova").Id,
		*get[openapi.Copy](t, e, "copies", "petrel/tide-autumn").Parent)
	for said, args := range map[string][]string{
		"nothing is ever written over": {"tide-gauge", "harbour/autumn/"},
		"is a machine's folder":        {"tide-gauge", "reef/training-05/"},
		"a shelf has none":             {"tide-gauge", "attic/autumn/x.ova"},
		"begins with a dot":            {"tide-gauge", "harbour/.unvora/x.ova"},
		"can't have":                   {"tide-gauge", "harbour/a/b/"},
	} {
		r := e.run(t, append(append([]string{"export"}, args...), "--yes")...)
		require.Contains(t, []int{2, 4}, r.status, r.out+r.err)
		require.Contains(t, r.err, said)
	}
	// One that is not finished leaves no directory.
	e.ok(t, "export", "gannet/archive-db", "harbour/winter/", "--rate", "1MiB", "--yes", "--detach")
	winter := func() bool { _, err := os.Stat(filepath.Join(harbour, "winter")); return err == nil }
	wait.Until(t, winter)
	e.ok(t, "jobs", "cancel", get[[]openapi.Job](t, e, "jobs")[0].Id)
	wait.Until(t, func() bool { return !winter() })
	require.NoError(t, os.Remove(filepath.Join(harbour, "autumn", "both.ova")))
	require.NoError(t, os.Rename(filepath.Join(harbour, "autumn", "training-01.ova"),
		filepath.Join(harbour, "autumn", "01.ova")))
	require.ElementsMatch(t, []string{"tide-gauge.ova", "training-02.ova", "01.ova"}, inAutumn())
	require.NoError(t, os.RemoveAll(filepath.Join(harbour, "autumn")))
	require.Empty(t, inAutumn())
}
