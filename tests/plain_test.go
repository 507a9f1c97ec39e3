package tests

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// TestPlainly: what was meant is done, and what was done is said.
func TestPlainly(t *testing.T) {
	e := ownEstate(t)
	t.Run("attention", func(t *testing.T) { numbersStay(t, e) })
	t.Run("history", func(t *testing.T) { historyRows(t, e) })
	t.Run("results", func(t *testing.T) { whatIsSaid(t, e) })
	t.Run("packages", func(t *testing.T) { packagesAtOnce(t, e) })
}

// historyRows: what was done is one row, by the name that people call its copy, and is found again by who did it,
// what it was, and when.
func historyRows(t *testing.T, e *estate) {
	e.ok(t, "power", "on", "training-05")
	e.ok(t, "renew", "training-06", "--facet", "mac", "--note", "twins in the class")
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--yes")
	rows := get[[]openapi.HistoryEntry](t, e, "history")
	var said []string
	for _, r := range rows[:3] {
		said = append(said, r.What+" "+r.Subject)
		require.NotNil(t, r.Copy, "%s %s leads to its copy", r.What, r.Subject)
		require.NotEmpty(t, r.Detail["job"], "and to its plan")
	}
	require.Equal(t, []string{"register gannet/chart-render", "renew gannet/training-06", "start gannet/training-05"},
		said)
	plan := e.ok(t, "jobs", rows[1].Detail["job"].(string), "--plan")
	require.Contains(t, plan, "Renew the identity of gannet/training-06")
	require.Contains(t, plan, "a new one")
	one := get[[]openapi.HistoryEntry](t, e, "history", "--where",
		"who=admin what=renew subject~*training-06 since=2020-01-01")
	require.Len(t, one, 1)
	require.Equal(t, "twins in the class", one[0].Why)
	require.Empty(t, get[[]openapi.HistoryEntry](t, e, "history", "--where", "until=2020-01-01"))
	r := e.run(t, "history", "--where", "since=yesterday")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "no day such as")
}

// numbersStay: items of attention keep their numbers while one works through them, and what is left is shown.
func numbersStay(t *testing.T, e *estate) {
	list := e.ok(t, "attention")
	require.Regexp(t, `(?m)^  1   skua/old-telemetry$`, list)
	require.Regexp(t, `(?m)^  4   gannet:`, list)
	left := e.ok(t, "attention", "settle", "1", "--yes")
	require.NotContains(t, left, "  1   ")
	require.Regexp(t, `(?m)^  4   gannet:.*kelp/chart-render$`, left)
	r := e.run(t, "attention", "settle", "1")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "waits no more")
	require.Contains(t, e.run(t, "attention", "settle", "4", "--plan").out, "Register kelp/chart-render on gannet")
}

// packagesAtOnce: several packages are several machines; what is no package among them is refused, and what one
// can't do stops no other.
func packagesAtOnce(t *testing.T, e *estate) {
	dir := t.TempDir()
	one, two, none := filepath.Join(dir, "one.ova"), filepath.Join(dir, "two.ova"), filepath.Join(dir, "none.ova")
	e.ok(t, "export", "training-01", one, "-q")
	e.ok(t, "export", "training-02", two, "-q")
	require.NoError(t, os.WriteFile(none, []byte("no package"), 0o644))
	r := e.run(t, "import", one, none, two, "--host", "petrel", "--pool", "fast", "--yes")
	require.Equal(t, 4, r.status, r.err)
	require.Contains(t, r.err, "1 of 3 were not brought in: "+none)
	for _, name := range []string{"petrel/training-01", "petrel/training-02"} {
		require.Contains(t, r.out, name+" is registered, stopped. Identity renewed")
		require.Equal(t, "reef", get[openapi.Copy](t, e, "copies", name).Pool, "the pool labelled fast")
	}
	require.Equal(t, 4, e.run(t, "inspect", none).status, "it is blocked")

	// What a file holds counts, not what it is called; as JSON several are one list.
	renamed, stuff := filepath.Join(dir, "one.bin"), filepath.Join(dir, "stuff.bin")
	raw, err := os.ReadFile(one)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(renamed, raw, 0o644))
	require.NoError(t, os.WriteFile(stuff, make([]byte, 1<<20), 0o644))
	var jobs []openapi.Job
	require.NoError(t, json.Unmarshal([]byte(e.ok(t, "import", renamed, two, "--host", "petrel", "--yes", "-o",
		"json")), &jobs))
	require.Len(t, jobs, 2)
	for _, j := range jobs {
		require.EqualValues(t, "done", j.State)
		require.NotEmpty(t, j.NewCopy)
	}
	r = e.run(t, "import", stuff, stuff, "--host", "petrel")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, stuff+" is none: a raw image ends in .img or .raw")
	for said, args := range map[string][]string{
		"is no package":              {"import", one, filepath.Join(e.dir, "client.toml"), "--host", "petrel"},
		"--name is for one machine":  {"import", one, two, "--host", "petrel", "--name", "x"},
		`no pool of the name or`:     {"import", one, "--host", "petrel", "--pool", "nowhere"},
		"reef (fast)":                {"import", one, "--host", "petrel", "--pool", "nowhere"},
		`--except "nobody"`:          {"import", "--from", "gannet", "--except", "nobody", "--host", "petrel"},
		"no such file":               {"change", "tide-gauge", "--add", "cd=nothing.iso"},
		`There is no host "nowhere"`: {"copies", "--where", "host=nowhere"},
		"There is no segment":        {"wiring", "set", "--network", "lab", "--segment", "nowhere"},
	} {
		r := e.run(t, args...)
		require.Equal(t, 2, r.status, "%s%s", r.out, r.err)
		require.Contains(t, r.err, said)
	}
}

// whatIsSaid: a change names what it changes, a result names what was made, and a copy bears the format of its
// ending.
func whatIsSaid(t *testing.T, e *estate) {
	said := e.ok(t, "change", "tide-gauge", "--cpus", "3", "--memory", "3GiB")
	require.Regexp(t, `gannet/tide-gauge: changed in [\d.]+ m?s\.\n  CPUs    2 → 3\n  memory  2 GiB → 3 GiB\n`,
		said)
	said = e.ok(t, "clone", "training-01", "--name", "class-{nn}", "--count", "2", "--yes")
	require.Regexp(t, `gannet/class-02 is registered, stopped. Identity renewed \([a-z, -]+\)\. MAC [0-9a-f:]{17}\.`,
		said)
	require.Regexp(t, `(?m)^Done in [\d.]+ m?s\. .*unvora where gannet/class-01$`, said)
	require.Contains(t, e.ok(t, "where", "gannet/class-01"), "gannet/class-02")
	said = e.ok(t, "export", "training-01", "loft")
	require.Regexp(t, `loft/training-01.ova is written, [\d.]+ MiB in `, said)
	require.Contains(t, e.ok(t, "jobs"), "Export gannet/training-01")
	vmdk := filepath.Join(t.TempDir(), "gauge.vmdk")
	e.ok(t, "disk", "copy", filepath.Join(e.pool("gannet", "reef"), "tide-gauge", "tide-gauge-disk1.qcow2"), vmdk)
	require.Contains(t, e.ok(t, "disk", "show", vmdk, "-o", "json"), `"format": "vmdk"`)
	profile := filepath.Join(t.TempDir(), "new.toml")
	r := e.run(t, "hosts", "--config", profile)
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "unvora login makes it")
	said = e.onTerminal(t, "\x03", "change", "training-05", "--memory", "2GiB")
	require.Contains(t, said, "cancelled; nothing was begun")
	said = e.onTerminal(t, "\x03", "login", "robin", "--config", profile)
	require.Contains(t, said, "cancelled; nothing was begun")
	require.NoFileExists(t, profile)
	said = e.ok(t, "hosts", "gannet", "--columns", "pool,free")
	require.Regexp(t, `(?m)^pool +free$`, said)
	require.NotContains(t, said, "leads out by")
	require.Contains(t, e.run(t, "hosts", "gannet", "--columns", "colour").err, `--columns "colour": there are pool,`)
	said = e.onTerminal(t, "", "copies", "--no-color", "--columns", "copy,state")
	require.Regexp(t, `(?m)^archive-db +running\r?$`, said)
	narrow := strings.Split(strings.ReplaceAll(e.onTerminal(t, "", "copies", "--no-color"), "\r", ""), "\n")
	for _, line := range narrow {
		require.LessOrEqual(t, len([]rune(line)), 118, line)
	}
	require.Contains(t, strings.Join(narrow, "\n"), "Left out for lack of room: MACs")
	for _, offered := range e.offered(t, "") { // what the shell offers, the service takes
		refused := e.run(t, "copies", "--where", offered+"nothing").err
		require.NotContains(t, refused, "can't be filtered", offered)
	}
}

// offered are the fields that the shell offers for a filter of copies.
func (e *estate) offered(t *testing.T, begun string) (list []string) {
	t.Helper()
	for _, line := range strings.Split(e.ok(t, "__complete", "copies", "--where", begun), "\n") {
		if strings.HasSuffix(line, "=") {
			list = append(list, line)
		}
	}
	require.Greater(t, len(list), 8)
	return list
}
