package tests

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// TestTakenBack: the command that a result says takes it back does so, as it is written; history says it as long as
// nothing else was done with the copy.
func TestTakenBack(t *testing.T) {
	e := ownEstate(t)
	was := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	e.explain(t, "tide-gauge")
	backs := func() (list []string) {
		for _, h := range get[[]openapi.HistoryEntry](t, e, "history", "tide-gauge") {
			if h.Back != nil {
				list = append(list, *h.Back)
			}
		}
		return list
	}
	for _, args := range [][]string{
		{"delist", "gannet/tide-gauge"},
		{"delist", "gannet/tide-gauge", "--answer", "source.last-copy=by-name:tide-gauge", "--files", "trash"},
		{"change", "gannet/tide-gauge", "--name", "tide gauge", "--cpus", "3"},
		{"move", "gannet/tide-gauge", "--host", "petrel"},
	} {
		out := e.ok(t, append(args, "--yes")...)
		said := regexp.MustCompile(`To take it back: unvora (.*)\n`).FindStringSubmatch(out)
		require.NotNil(t, said, out)
		require.Equal(t, []string{"unvora " + said[1]}, backs(), "%v", args)
		for _, command := range strings.Split(said[1], " && unvora ") {
			e.ok(t, append(words(command), "--yes")...)
		}
		is := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
		require.Equal(t, was.Id, is.Id, "%v", args)
		require.Equal(t, was.Macs, is.Macs, "%v", args)
		require.Equal(t, was.Machine.Uuid, is.Machine.Uuid, "%v", args)
		require.Equal(t, was.Machine.Cpus, is.Machine.Cpus, "%v", args)
		require.NotContains(t, backs(), "unvora "+said[1], "it was taken back")
	}
	// By way of what waits for a decision, too.
	e.ok(t, "delist", "gannet/tide-gauge", "--yes")
	list := e.ok(t, "attention")
	at := regexp.MustCompile(`(\d+)\s+gannet:\S+/reef/tide-gauge`).FindStringSubmatch(list)
	require.NotNil(t, at, list)
	e.ok(t, "attention", "settle", at[1], "--yes")
	require.Equal(t, was.Macs, get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Macs)
}

// TestAgain: what a job did is asked for once more, with its answers; what needs a file on somebody's computer is not.
func TestAgain(t *testing.T) {
	e := ownEstate(t)
	state := func() string { return get[openapi.Copy](t, e, "copies", "gannet/training-01").State }
	last := func() string { return get[[]openapi.Job](t, e, "jobs")[0].Id }
	e.ok(t, "power", "on", "gannet/training-01")
	started := last()
	e.ok(t, "change", "gannet/training-01", "--cpus", "2", "--answer", "state.running=stop")
	changed := last()
	e.ok(t, "change", "gannet/training-01", "--cpus", "1", "--yes")
	e.ok(t, "jobs", "again", changed)
	require.Equal(t, 2, get[openapi.Copy](t, e, "copies", "gannet/training-01").Machine.Cpus)
	e.ok(t, "power", "off", "gannet/training-01")
	e.ok(t, "jobs", "again", started)
	require.Equal(t, "running", state())
	e.ok(t, "export", "training-02", filepath.Join(t.TempDir(), "x.ova"))
	r := e.run(t, "jobs", "again", last())
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "a file on somebody's computer")
	require.NotZero(t, e.run(t, "jobs", "again", "0000").status)
}

// words splits a command line as a shell does, as far as quotes go.
func words(line string) (list []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			list = append(list, part)
			continue
		}
		list = append(list, strings.Fields(part)...)
	}
	return list
}
