package tests

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// postgres runs one of PostgreSQL's own tools.
func postgres(t *testing.T, tool string, args ...string) {
	t.Helper()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/" + tool)
	require.NoError(t, err)
	require.NotEmpty(t, found, "%s is missing: apt-get install postgresql", tool)
	slices.Sort(found)
	var out bytes.Buffer
	cmd := exec.Command(found[len(found)-1], args...)
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Run(), "%s", &out)
}

// TestRestored: the service comes back from a copy of its database and its key, as docs/operations.md says. What was
// done since is found at the hosts; a job that was at work when the copy was made is held, and undoing it harms
// nothing.
func TestRestored(t *testing.T) {
	e := ownEstate(t)
	copied := filepath.Join(t.TempDir(), "unvora.dump")
	petrel := e.pids(t)["agent-petrel"]
	require.NoError(t, syscall.Kill(petrel, syscall.SIGSTOP))
	e.ok(t, "move", "training-01", "--host", "petrel", "--pool", "reef", "--yes", "--detach")
	job := get[[]openapi.Job](t, e, "jobs")[0].Id
	e.untilStep(t, job, "give-ids")
	postgres(t, "pg_dump", "--format=custom", "--file="+copied, e.database(t))
	key, err := os.ReadFile(filepath.Join(e.dir, "unvora.key"))
	require.NoError(t, err)

	require.NoError(t, syscall.Kill(petrel, syscall.SIGCONT))
	wait.Until(t, func() bool { return e.job(t, job).State == openapi.JobStateDone })
	e.ok(t, "clone", "tide-gauge", "--name", "tide-b", "--kind", "layered", "--yes")
	clone := get[openapi.Copy](t, e, "copies", "gannet/tide-b")
	e.ok(t, "delist", "training-04", "--yes")
	e.ok(t, "power", "on", "petrel/training-01")
	moved := get[openapi.Copy](t, e, "copies", "petrel/training-01")
	r := exec.Command(e.binary, "serve", "after-restore", "--database", e.database(t))
	out, err := r.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "A service runs on this database")

	// The service and its database are lost; hosts and agents go on.
	require.NoError(t, syscall.Kill(e.cmd.Process.Pid, syscall.SIGSTOP)) // who starts it anew
	require.NoError(t, syscall.Kill(e.pids(t)["service"], syscall.SIGKILL))
	require.NoError(t, os.WriteFile(filepath.Join(e.dir, "unvora.key"), key, 0o600))
	postgres(t, "pg_restore", "--clean", "--if-exists", "--no-owner", "--dbname="+e.database(t), copied)
	time.Sleep(11 * time.Second) // the copy has a service that was alive
	out, err = exec.Command(e.binary, "serve", "after-restore", "--database", e.database(t)).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "Held: 1 job")
	require.NoError(t, syscall.Kill(e.cmd.Process.Pid, syscall.SIGCONT))

	wait.Until(t, func() bool { return e.run(t, "survey").status == 0 })
	e.backAt(t, "training-01", "petrel")
	now := get[openapi.Copy](t, e, "copies", "petrel/training-01")
	require.Equal(t, moved.Id, now.Id, "its passport tells which copy it is")
	require.Equal(t, "running", now.State)
	require.NotZero(t, e.run(t, "copies", "gannet/training-01").status)
	again := get[openapi.Copy](t, e, "copies", "gannet/tide-b")
	require.Equal(t, clone.Id, again.Id)
	require.Equal(t, clone.Lineage, again.Lineage)
	require.Contains(t, e.ok(t, "copies"), "stray", "training-04 is on no list")
	require.Contains(t, e.ok(t, "managers"), "mainland")

	held := e.job(t, job)
	require.Equal(t, openapi.JobStateHeld, held.State)
	require.Contains(t, held.Error.Message, "brought back from a copy")
	e.run(t, "jobs", "cancel", job)
	wait.Until(t, func() bool { return e.job(t, job).State == openapi.JobStateCancelled })
	e.ok(t, "survey")
	e.backAt(t, "training-01", "petrel")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "petrel/training-01").State)

	e.ok(t, "clone", "buoy-ingest", "--name", "buoy-b", "--kind", "layered", "--yes")
	for _, mac := range get[openapi.Copy](t, e, "copies", "gannet/buoy-b").Macs {
		require.NotContains(t, clone.Macs, mac, "what was given out since is not given out again")
	}
	require.Contains(t, e.ok(t, "history"), "restored")
}
