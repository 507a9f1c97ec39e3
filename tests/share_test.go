package tests

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// TestShare: in a pool that two hosts see a machine is on one list, and moves without being copied; from a host that is
// silent it is taken when somebody says that it is off, and that one obeys when it comes back.
func TestShare(t *testing.T) {
	e := ownEstate(t)
	harbour := filepath.Join(e.dir, "share", "harbour")
	folder := filepath.Join(harbour, "training-01")
	e.ok(t, "move", "training-01", "--pool", "harbour", "--yes")
	e.ok(t, "power", "on", "training-01")
	before := get[openapi.Copy](t, e, "copies", "gannet/training-01")
	raw, err := os.ReadFile(filepath.Join(folder, "training-01-disk1.qcow2"))
	require.NoError(t, err)

	for _, args := range [][]string{{"harbour/training-01"}, {"harbour/training-01", "--identity", "renew"},
		{"petrel:" + folder}} {
		r := e.run(t, append(append([]string{"register"}, args...), "--host", "petrel", "--yes")...)
		require.Equal(t, 4, r.status, r.out+r.err)
		require.Contains(t, r.out+r.err, "unvora move gannet/training-01 --host petrel")
	}
	now, err := os.ReadFile(filepath.Join(folder, "training-01-disk1.qcow2"))
	require.NoError(t, err)
	require.Equal(t, len(raw), len(now), "nothing was put in order under its host")

	// A copy of it is read where it is listed, though petrel could read the file.
	e.ok(t, "power", "off", "training-01")
	e.ok(t, "register", "harbour/training-01", "--host", "petrel", "--files", "copy", "--name", "training-x", "--yes")
	require.Equal(t, e.guestSum(t, "gannet/training-01"), e.guestSum(t, "petrel/training-x"))
	e.ok(t, "power", "on", "training-01")

	moves := func(host string, answers ...string) openapi.Copy {
		args := append([]string{"move", "training-01", "--host", host, "--yes"}, answers...)
		plan, _, _ := e.planned(t, args...)
		require.Zero(t, plan.Bytes, "nothing is copied")
		e.ok(t, args...)
		c := get[openapi.Copy](t, e, "copies", host+"/training-01")
		require.Equal(t, before.Id, c.Id)
		require.Equal(t, before.Machine.Uuid, c.Machine.Uuid)
		require.Equal(t, "running", c.State)
		require.Equal(t, folder, c.Path)
		return c
	}
	moves("petrel")
	r := e.run(t, "copies", "gannet/training-01")
	require.NotZero(t, r.status)
	require.NoDirExists(t, filepath.Join(harbour, ".unvora", "trash"))
	e.backAt(t, "training-01", "petrel")
	moves("gannet")

	// gannet is silent. While it was heard of a moment ago it counts as alive.
	gannet := e.pids(t)["agent-gannet"]
	require.NoError(t, syscall.Kill(gannet, syscall.SIGSTOP))
	goOn := func() { require.NoError(t, syscall.Kill(gannet, syscall.SIGCONT)) }
	t.Cleanup(goOn)
	wait.Until(t, func() bool { return get[openapi.Host](t, e, "hosts", "gannet").State == "unreachable" })
	ago := func(d time.Duration) {
		list, err := filepath.Glob(filepath.Join(harbour, ".unvora-pool.json.seen-*"))
		require.NoError(t, err)
		for _, f := range list {
			who, err := os.ReadFile(f)
			require.NoError(t, err)
			if strings.Contains(string(who), `"gannet"`) {
				require.NoError(t, os.Chtimes(f, time.Now().Add(-d), time.Now().Add(-d)))
			}
		}
	}
	ago(5 * time.Second)
	_, found, status := e.planned(t, "move", "training-01", "--host", "petrel", "--yes", "--answer",
		"host.silent=off")
	require.Equal(t, 4, status)
	require.Contains(t, found["host.unheard"].Message, "it is alive")
	ago(10 * time.Minute)
	_, found, status = e.planned(t, "move", "training-01", "--host", "petrel", "--yes")
	require.Equal(t, 4, status, "it is never taken for off by itself")
	require.Contains(t, found["host.silent"].Message, "It last wrote to the pool 10 min ago")
	moves("petrel", "--answer", "host.silent=off")

	goOn()
	wait.Until(t, func() bool { return get[openapi.Host](t, e, "hosts", "gannet").State == "up" })
	e.ok(t, "survey")
	e.backAt(t, "training-01", "petrel")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "petrel/training-01").State)
	log, err := os.ReadFile(filepath.Join(e.dir, "logs", "agent-gannet.log"))
	require.NoError(t, err)
	require.Contains(t, string(log), "was taken over by another host meanwhile")
	moves("gannet")
	require.NotContains(t, e.ok(t, "attention"), "training-01")
}
