package tests

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// TestServices: three services on one database share the jobs. One of them is killed every three seconds, another goes
// on with what it was at, and each job is done once.
func TestServices(t *testing.T) {
	e := ownEstate(t)
	e.stop()
	e.args = []string{"--services", "3"}
	port, err := freePort()
	require.NoError(t, err)
	e.server = fmt.Sprintf("http://127.0.0.1:%d", port)
	e.out = &printed{}
	require.NoError(t, e.start(port))
	everyone := []string{e.server}
	for _, line := range strings.Split(e.out.String(), "\n") {
		if address, ok := strings.CutPrefix(line, "and at            "); ok {
			everyone = append(everyone, address)
		}
	}
	require.Len(t, everyone, 3)
	var clients []*openapi.ClientWithResponses
	for _, server := range everyone {
		at := &estate{server: server}
		clients = append(clients, at.apiWith(t, e.token(t)))
	}

	// What is asked of one is known to all.
	e.ok(t, "power", "on", "gannet/training-01", "--server", everyone[1])
	require.Contains(t, e.ok(t, "copies", "gannet/training-01", "--server", everyone[2]), "running")
	e.ok(t, "export", "gannet/training-02", filepath.Join(e.dir, "by-two.ova"), "--server", everyone[1], "--yes")
	e.ok(t, "import", filepath.Join(e.dir, "by-two.ova"), "--host", "gannet", "--name", "by-three", "--server",
		everyone[2], "--yes")

	want := map[string]string{}
	for n := 3; n <= 12; n++ {
		name := fmt.Sprintf("training-%02d", n)
		want[name] = e.guestSum(t, "gannet/"+name)
	}
	e.ok(t, "move", "--where", "host=gannet name~training-0* state=stopped", "--host", "petrel", "--yes", "--detach",
		"--rate", "2MiB")
	move := get[[]openapi.Job](t, e, "jobs")[0].Id
	require.Len(t, e.children(t, move), 8)
	jobs := []string{move}
	begin := func(args ...string) {
		e.ok(t, append(args, "--yes", "--detach", "--rate", "2MiB")...)
		jobs = append(jobs, get[[]openapi.Job](t, e, "jobs")[0].Id)
	}
	packed := []string{"tide-gauge", "buoy-ingest", "training-10", "training-11"}
	for n, name := range packed {
		begin("export", "gannet/"+name, []string{"loft", "attic"}[n%2])
	}
	begin("clone", "gannet/training-12", "--name", "twin-12", "--kind", "whole")
	begin("export", "skua/kiosk-visitor", "loft")
	over := func() bool { // asked of whoever answers
		for _, id := range jobs {
			ended := false
			for _, c := range clients {
				res, err := c.GetJobWithResponse(t.Context(), id)
				if err != nil || res.JSON200 == nil {
					continue
				}
				require.NotContains(t, []openapi.JobState{"failed", "cancelled", "partly"}, res.JSON200.State, id)
				ended = res.JSON200.State == "done"
				break
			}
			if !ended {
				return false
			}
		}
		return true
	}
	killed, last := 0, time.Now()
	wait.Until(t, func() bool {
		if time.Since(last) > 3*time.Second && killed < 20 {
			name := []string{"service", "service-2", "service-3"}[killed%3]
			if pid := e.pids(t)[name]; pid > 0 && syscall.Kill(pid, syscall.SIGKILL) == nil {
				killed++
			}
			last = time.Now()
		}
		return over()
	})
	require.Positive(t, killed)
	t.Logf("%d services were killed", killed)
	wait.Until(t, func() bool { return e.run(t, "survey").status == 0 })
	for name, sum := range want {
		host := "gannet"
		if name < "training-10" {
			host = "petrel"
		}
		e.onlyAt(t, name, host)
		require.Equal(t, sum, e.guestSum(t, host+"/"+name), name)
	}
	require.Equal(t, want["training-12"], e.guestSum(t, "gannet/twin-12"))
	for n, name := range packed {
		shelf := []string{"loft", "attic"}[n%2]
		made := slices.DeleteFunc(get[[]openapi.Copy](t, e, "copies", "--where", "form=package name="+name),
			func(c openapi.Copy) bool { return c.Shelf != shelf })
		require.Len(t, made, 1, name)
		require.Contains(t, e.ok(t, "inspect", made[0].Path, "--verify"), "ok")
	}
	for _, h := range []string{"gannet", "petrel"} {
		require.Empty(t, e.leftovers(t, h))
	}
}
