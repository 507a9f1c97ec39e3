package tests

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/wait"
)

// freeze stops a process of the estate with all its children, without ending them;
// thaw lets them go on.
func freeze(t *testing.T, e *estate, name string) (thaw func()) {
	t.Helper()
	pid := e.pids(t)[name]
	require.NotZero(t, pid, name)
	all := []int{pid}
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(t, err)
	for _, file := range stats {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue // it has ended meanwhile
		}
		head, rest, _ := strings.Cut(string(raw), ") ")
		number, _, _ := strings.Cut(head, " ")
		if f := strings.Fields(rest); len(f) > 1 && f[1] == strconv.Itoa(pid) {
			child, err := strconv.Atoi(number)
			require.NoError(t, err)
			require.NoError(t, syscall.Kill(child, syscall.SIGSTOP))
			all = append(all, child)
		}
	}
	thawed := false
	thaw = func() {
		if !thawed {
			for _, p := range all {
				_ = syscall.Kill(p, syscall.SIGCONT)
			}
			thawed = true
		}
	}
	t.Cleanup(thaw)
	return thaw
}

// TestFrozen: what stands still is no reason to wait for ever: an agent, PostgreSQL.
func TestFrozen(t *testing.T) {
	e := ownEstate(t)
	began := time.Now()
	thaw := freeze(t, e, "agent-petrel")
	r := e.run(t, "host", "check", "petrel")
	require.NotZero(t, r.status)
	require.Contains(t, r.out+r.err, "does not answer within 5s")
	require.NotContains(t, r.out+r.err, "rebuild")
	r = e.run(t, "survey", "petrel")
	require.Equal(t, 6, r.status, r.out+r.err)
	r = e.run(t, "export", "petrel/tide-probe", tempFile(t, "x.ova"))
	require.NotZero(t, r.status)
	require.Contains(t, r.out+r.err, "does not answer")
	thaw()
	wait.Until(t, func() bool { return e.run(t, "survey", "petrel").status == 0 })

	thaw = freeze(t, e, "postgres")
	client := &http.Client{Timeout: wait.Bound}
	res, err := client.Get(e.server + "/readyz")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
	res, err = client.Get(e.server + "/healthz")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode, "the service itself lives")
	r = e.run(t, "copies")
	require.NotZero(t, r.status)
	require.Contains(t, r.err, "PostgreSQL does not answer")
	require.Less(t, time.Since(began), 5*time.Minute)

	// A service that is told to end does so, whatever PostgreSQL does.
	service := e.pids(t)["service"]
	require.NoError(t, syscall.Kill(service, syscall.SIGINT))
	wait.Until(t, func() bool { return gone(service) })
	thaw()
	wait.Until(t, func() bool {
		ctx, stop := context.WithTimeout(t.Context(), 5*time.Second)
		defer stop()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, e.server+"/readyz", nil)
		if err != nil {
			return false
		}
		res, err := client.Do(req)
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == http.StatusOK
	})
	e.ok(t, "copies")
}

// gone tells whether a process has ended, be it waited for or not.
func gone(pid int) bool {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return true
	}
	_, rest, _ := strings.Cut(string(raw), ") ")
	return strings.HasPrefix(rest, "Z")
}
