package tests

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// fromEnv is a number that whoever runs the test may give.
func fromEnv(t *testing.T, name string, standard int) int {
	t.Helper()
	text := os.Getenv(name)
	if text == "" {
		return standard
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err, "%s is no number", name)
	return n
}

// TestKills: at moments drawn with a seed, a process is killed while an operation is
// carried out, when the n-th thing of it was written. Each operation ends as done, and
// what it made is whole. make crash runs it with any seed, as often as one likes.
func TestKills(t *testing.T) {
	first, rounds := fromEnv(t, "SEED", 20), fromEnv(t, "ROUNDS", 1)
	t.Logf("seeds %d to %d: make crash SEED=%d ROUNDS=%d", first, first+rounds-1, first, rounds)
	if rounds == 1 {
		kills(t, ownEstate(t), uint64(first), 2)
		return
	}
	for n := range rounds {
		t.Run(fmt.Sprint(first+n), func(t *testing.T) { kills(t, ownEstate(t), uint64(first+n), 1) })
	}
}

// kills is one round, with one seed. Of so many operations one is disturbed, the others go on from what it left.
func kills(t *testing.T, e *estate, seed uint64, each int) {
	address := e.database(t)
	e.ok(t, "export", "gannet/tide-gauge", "loft", "--yes")
	truth := func(name string) string {
		c := get[openapi.Copy](t, e, "copies", name)
		d := (*c.Machine.Disks)[0]
		return judge(t, string(d.Format), filepath.Join(c.Path, d.File)).sum(t)
	}
	want, standing, moved := truth("gannet/tide-gauge"), truth("gannet/training-06"), truth("gannet/training-08")
	merged := truth("gannet/training-07")
	told := tempFile(t, "first.yaml")
	require.NoError(t, os.WriteFile(told, []byte("host-name: '{name}'\n"), 0o600))
	e.ok(t, "power", "on", "gannet/training-10")
	e.ok(t, "move", "gannet/training-01", "--pool", "harbour", "--yes")
	e.ok(t, "power", "on", "gannet/training-01")
	e.ok(t, "move", "gannet/buoy-ingest", "--pool", "kelp", "--yes")
	handed := get[openapi.Copy](t, e, "copies", "gannet/buoy-ingest").Id
	draw := rand.New(rand.NewPCG(seed, seed))
	victims := []string{"service", "postgres", "service", "agent-petrel"}
	const gannets = "agent-gannet"
	for n, operation := range [][]string{
		{"import", "loft/tide-gauge.ova", "--host", "petrel", "--name", "kill-0", "--yes"},
		{"import", "loft/tide-gauge.ova", "--host", "petrel", "--name", "kill-1", "--yes"},
		{"change", "gannet/training-02", "--memory", "2GiB", "--yes"},
		{"renew", "gannet/training-03", "--yes"},
		{"export", "gannet/training-04", "attic", "--yes"},
		{"delist", "petrel/kill-0", "--files", "keep", "--yes"},
		{"import", "loft/tide-gauge.ova", "--host", "petrel", "--name", "kill-6", "--yes"},
		{"export", "gannet/archive-db", "attic", "--yes"},                               // which runs, and is frozen
		{"export", "gannet/archive-db", "gannet/training-10", "loft/kill.ova", "--yes"}, // both, at one instant
		{"clone", "gannet/archive-db", "--name", "kill-9", "--yes"},
		{"clone", "gannet/training-05", "--name", "kill-{nn}", "--count", "4", "--kind", "layered", "--yes"},
		{"snapshot", "make", "gannet/training-06", "monday", "--yes"},
		{"snapshot", "make", "gannet/training-06", "tuesday", "--yes"},
		{"snapshot", "back", "gannet/training-06", "monday", "--yes"},
		{"snapshot", "make", "gannet/archive-db", "monday", "--yes"}, // while it runs
		{"snapshot", "drop", "gannet/archive-db", "monday", "--yes"},
		{"snapshot", "make", "gannet/training-07", "monday", "--yes"},
		{"snapshot", "make", "gannet/training-07", "tuesday", "--yes"},
		{"snapshot", "drop", "gannet/training-07", "monday", "--yes"}, // tuesday stands on it
		{"clone", "gannet/training-05", "--name", "kill-told", "--first-start", told, "--yes"},
		{"move", "gannet/training-08", "--host", "petrel", "--yes"},
		{"move", "gannet/training-09", "--host", "petrel", "--yes"},
		{"move", "gannet/training-10", "--host", "petrel", "--yes"}, // which runs
		{"move", "gannet/training-11", "gannet/training-12", "--host", "petrel", "--yes"},
		{"move", "gannet/training-01", "--host", "petrel", "--yes"}, // which runs, on a share that both see
		{"pool", "hand-over", "gannet/kelp", "--yes"},
		{"pool", "take-over", "gannet/kelp", "--only", "buoy-ingest", "--yes"},
	} {
		victim, at := victims[draw.IntN(len(victims))], 1+draw.IntN(8)
		if n > 6 { // where the disks are
			victim = []string{gannets, "service"}[n/each%2]
		}
		if operation[0] == "move" {
			victim = []string{gannets, "service", "agent-petrel", "postgres"}[draw.IntN(4)]
		}
		if n%each != 0 {
			e.ok(t, operation...)
			continue
		}
		t.Run(fmt.Sprintf("%d %s, %s at write %d", n, operation[0], victim, at), func(t *testing.T) {
			var db *pgx.Conn
			wait.Until(t, func() bool { // a server that was killed may be on its way back
				var err error
				db, err = pgx.Connect(t.Context(), address)
				return err == nil
			})
			defer db.Close(context.WithoutCancel(t.Context()))
			count := func(of string) (n int64, err error) {
				return n, db.QueryRow(t.Context(), `select count(*) from `+of).Scan(&n)
			}
			base, err := count("events")
			require.NoError(t, err)
			jobs, err := count("jobs")
			require.NoError(t, err)
			cmd := e.command(context.Background(), operation...)
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			require.NoError(t, cmd.Start())
			ended := make(chan error, 1)
			go func() { ended <- cmd.Wait() }()
			// An operation that writes less is over before; its end is judged all the same.
			for over := false; !over; {
				begun, err := count("jobs")
				if err == nil && begun == jobs { // machines that run make events too, before it has begun
					base, err = count("events")
				}
				now, failed := count("events")
				if err != nil || failed != nil || begun > jobs && now-base >= int64(at) {
					break
				}
				select {
				case err := <-ended:
					over = true
					ended <- err
				case <-time.After(2 * time.Millisecond): // between two writes there is more
				}
			}
			kill(t, e, victim)
			select {
			case err := <-ended:
				require.NoError(t, err, out.String())
			case <-time.After(wait.Bound):
				cmd.Process.Kill()
				t.Fatalf("it did not go on:\n%s", &out)
			}
			// An operation may have been over before: whoever was killed is back for the next.
			wait.Until(t, func() bool { return e.run(t, "survey", "gannet", "petrel").status == 0 })
		})
	}
	wait.Until(t, func() bool { return e.run(t, "survey").status == 0 })
	for _, name := range []string{"petrel/kill-1", "petrel/kill-6"} {
		require.Equal(t, want, truth(name), name)
	}
	for _, name := range []string{"gannet/archive-db", "gannet/kill-9", "gannet/kill-01", "gannet/kill-04"} {
		c := get[openapi.Copy](t, e, "copies", name)
		for _, d := range *c.Machine.Disks {
			chain := get[shownImage](t, e, "disk", "show", filepath.Join(c.Path, d.File)).Chain
			require.LessOrEqual(t, len(chain), map[bool]int{true: 2, false: 3}[strings.Contains(name, "archive-db")],
				"%s: no layer of an export is left: %v", name, chain)
		}
	}
	for n := 8; n <= 12; n++ { // each is there once, where it went
		name := fmt.Sprintf("training-%02d", n)
		e.onlyAt(t, name, "petrel")
	}
	shared := get[openapi.Copy](t, e, "copies", "petrel/training-01")
	require.Equal(t, "running", shared.State)
	mark, err := os.ReadFile(filepath.Join(shared.Path, ".unvora-host.json"))
	require.NoError(t, err)
	require.Contains(t, string(mark), `"name":"petrel"`)
	require.NotZero(t, e.run(t, "copies", "gannet/training-01").status)
	require.Equal(t, handed, get[openapi.Copy](t, e, "copies", "gannet/buoy-ingest").Id)
	require.NoFileExists(t, filepath.Join(e.pool("gannet", "kelp"), "unvora-contents.json"))
	require.Equal(t, moved, truth("petrel/training-08"))
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "petrel/training-10").State)
	require.Equal(t, standing, truth("gannet/training-06"), "what its guest sees is the same after all that")
	var names []string
	for _, s := range *get[openapi.Copy](t, e, "copies", "gannet/training-06").Machine.Tree {
		names = append(names, s.Name)
	}
	require.Subset(t, names, []string{"monday", "tuesday"})
	require.Equal(t, "monday", *get[openapi.Copy](t, e, "copies", "gannet/training-06").Machine.Stands)
	require.Nil(t, get[openapi.Copy](t, e, "copies", "gannet/archive-db").Machine.Tree)
	require.Equal(t, merged, truth("gannet/training-07"))
	tree := *get[openapi.Copy](t, e, "copies", "gannet/training-07").Machine.Tree
	require.Len(t, tree, 1)
	require.Equal(t, "tuesday", tree[0].Name)
	require.FileExists(t, filepath.Join(get[openapi.Copy](t, e, "copies", "gannet/kill-told").Path, "first-start.iso"))
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "gannet/archive-db").State)
	require.Equal(t, "stray", string(get[openapi.Copy](t, e, "copies", "petrel/kill-0").Form),
		"it was taken off its host's list")
	require.Equal(t, int64(2<<30), get[openapi.Copy](t, e, "copies", "gannet/training-02").Machine.MemoryBytes)
	require.Contains(t, e.ok(t, "inspect", filepath.Join(e.pool("petrel", "attic"), "training-04.ova"), "--verify"),
		"manifest ok")
	for _, j := range get[[]openapi.Job](t, e, "jobs", "--limit", "200") {
		require.Equal(t, "done", string(j.State), "%s %s: %v", j.Operation, j.Subject, j.Error)
	}
	for _, ova := range []string{filepath.Join(e.pool("petrel", "attic"), "archive-db.ova"),
		filepath.Join(e.pool("gannet", "loft"), "kill.ova")} {
		require.Contains(t, e.ok(t, "inspect", ova, "--verify"), "manifest ok")
	}
	// What a host that was away at a job's end still keeps goes at the next survey; what is of no job of ours stays.
	ours := get[[]openapi.Job](t, e, "jobs", "--limit", "1")[0].Id
	others := filepath.Join(e.pool("petrel", "reef"), ".unvora", "01a20761-aef5-7547-afa2-cc06ead9f2b4")
	for _, dir := range []string{filepath.Join(filepath.Dir(others), ours), others} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
	}
	e.give(t, e.pool("petrel", "reef"), ".unvora")
	e.ok(t, "survey")
	require.Equal(t, []string{filepath.Dir(others)}, e.leftovers(t, "petrel"))
	require.NoDirExists(t, filepath.Join(filepath.Dir(others), ours))
	require.DirExists(t, others)
	require.Empty(t, e.leftovers(t, "gannet"))
}
