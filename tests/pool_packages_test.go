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

	e.ok(t, "pool", "rest", "harbour")
	r = e.run(t, "export", "training-03", "harbour/", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "takes nothing new")
	list, err := filepath.Glob(filepath.Join(harbour, ".*.part"))
	require.NoError(t, err)
	require.Empty(t, list)
}
