package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// TestTurns: one person's plans wait for each other, and for nobody else's.
func TestTurns(t *testing.T) {
	var all turns
	var ends []func()
	for range plansAtOnce {
		end, err := all.take(t.Context(), "robin")
		require.NoError(t, err)
		ends = append(ends, end)
	}
	short, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	_, err := all.take(short, "robin")
	var later *access.Later
	require.ErrorAs(t, err, &later)
	end, err := all.take(t.Context(), "alex")
	require.NoError(t, err)
	end()
	ends[0]()
	_, err = all.take(t.Context(), "robin")
	require.NoError(t, err)
}

// TestFigures: figures are for those who may look, and what others think up is no
// name for one.
func TestFigures(t *testing.T) {
	h := newHouse(t)
	for n := range 50 {
		res, err := http.Get(fmt.Sprintf("%s/made/up/%d", h.url, n))
		require.NoError(t, err)
		res.Body.Close()
		req, err := http.NewRequest(fmt.Sprintf("MADE%d", n), h.url+"/api/v1/copies", nil)
		require.NoError(t, err)
		res, err = http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
	}
	status, _ := h.call("GET", "/metrics", "", "", "")
	require.Equal(t, 401, status)
	req, err := http.NewRequest("GET", h.url+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+h.tokens[access.Viewer])
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	figures := string(raw)
	require.NotContains(t, strings.ToLower(figures), "made")
	require.Contains(t, figures, `path="other"`)
	require.Contains(t, figures, "go_memstats_heap_inuse_bytes")
	for _, line := range []string{`unvora_database_up 1`, `unvora_hosts{state="unreachable"}`,
		`unvora_jobs{state="held"}`} {
		require.Contains(t, figures, line)
	}
}

// TestWebByOperators: who only looks makes no agent fetch anything.
func TestWebByOperators(t *testing.T) {
	h := newHouse(t)
	require.NoError(t, h.inv.AddHost(t.Context(), inventory.NewID(), "127.0.0.1:1",
		&hostlink.Hello{Name: "gannet", Family: "slate", Driver: "standin", Site: "Northhead", CPUs: 4,
			MemoryBytes: 1 << 30},
		"test"))
	body := `{"operation":"import","host":"gannet","source":{"package":"https://depot.example/x.ova"}}`
	status, code := h.call("POST", apiBase+"/plans", h.tokens[access.Viewer], asJSON, body)
	require.Equal(t, 403, status, code)
	require.Equal(t, "permission.denied", code)
	status, code = h.call("POST", apiBase+"/plans", h.tokens[access.Operator], asJSON, body)
	require.NotEqual(t, 403, status, code)
}
