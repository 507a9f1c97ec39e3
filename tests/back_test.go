package tests

import (
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
		e.ok(t, append(words(said[1]), "--yes")...)
		if args[len(args)-1] == "trash" { // it lies where it lay, and nobody lists it
			e.ok(t, "register", "reef/tide-gauge", "--host", "gannet", "--yes")
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
