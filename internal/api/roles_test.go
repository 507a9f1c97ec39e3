package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/inventory/pgtest"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/internal/work"
	"unvora.example/unvora/internal/work/tell"
)

var database string

func TestMain(m *testing.M) { pgtest.Main(m, &database) }

// house is a service without hosts, with a user of each role.
type house struct {
	*testing.T
	url    string
	inv    *inventory.Inventory
	access *access.Access
	tokens map[string]string // by role
}

const password = "eider down 7"

func newHouse(t *testing.T) *house {
	t.Helper()
	inv, err := inventory.Open(t.Context(), pgtest.Database(t, database))
	require.NoError(t, err)
	t.Cleanup(inv.Close)
	key := keyring.Key{1, 2, 3}
	w, err := work.New(t.Context(), inv, key, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	people, err := access.New(inv, key)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	teller, err := tell.New(inv, key, tell.Settings{}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	handler, _, err := New(ctx, Rooms{Inventory: inv, Work: w, Access: people, Teller: teller},
		fstest.MapFS{"index.html": {Data: []byte("console")}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	server := httptest.NewServer(handler)
	t.Cleanup(func() { stop(); server.CloseClientConnections(); server.Close() })
	h := &house{T: t, url: server.URL, inv: inv, access: people, tokens: map[string]string{}}
	for _, role := range []string{access.Administrator, access.Operator, access.Viewer} {
		u, err := people.AddUser(t.Context(), "a-"+role, password, role, "test")
		require.NoError(t, err)
		h.tokens[role], _, err = people.MakeToken(t.Context(), u, "t", 0, false)
		require.NoError(t, err)
	}
	return h
}

// call returns the status and the problem's code.
func (h *house) call(method, path, token, kind, body string) (int, string) {
	h.Helper()
	ctx, stop := context.WithTimeout(h.Context(), wait.Bound)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, method, h.url+path, strings.NewReader(body))
	require.NoError(h, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(h, err)
	defer res.Body.Close()
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		return res.StatusCode, ""
	}
	raw, err := io.ReadAll(res.Body)
	require.NoError(h, err)
	var p Problem
	if res.StatusCode >= 400 {
		require.NoError(h, json.Unmarshal(raw, &p), "%s %s: %s", method, path, raw)
		require.NotEmpty(h, string(p.Code))
		require.NotContains(h, string(raw), "SQLSTATE")
	}
	return res.StatusCode, string(p.Code)
}

const asJSON = "application/json"

// TestRoles walks every call of the contract as nobody and with each role: whoever
// is of too low a role is refused, before anything else is said of the call.
func TestRoles(t *testing.T) {
	h := newHouse(t)
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	table, err := contractOf(spec)
	require.NoError(t, err)
	calls := 0
	for path, item := range spec.Paths.Map() {
		for method := range item.Operations() {
			calls++
			at := apiBase + pathParameter.ReplaceAllString(path, "x") + "?limit=none&offset=none&after=%00"
			needs := table[routed(method, path)].role
			require.NotEmpty(t, needs, "%s %s", method, path)
			if needs == nobody {
				continue
			}
			status, code := h.call(method, at, "", asJSON, "{")
			require.Equal(t, 401, status, "%s %s: %s", method, path, code)
			status, _ = h.call(method, at, "unv_wrong", asJSON, "{")
			require.Equal(t, 401, status, "%s %s", method, path)
			for role, token := range h.tokens {
				if method == http.MethodDelete && path == "/session" {
					continue
				}
				status, code := h.call(method, at, token, asJSON, "{")
				if access.May(role, needs) {
					require.Equal(t, 400, status, "%s %s as %s: %s", method, path, role, code)
				} else {
					require.Equal(t, 403, status, "%s %s as %s: %s", method, path, role, code)
				}
			}
		}
	}
	require.Greater(t, calls, 50)

	delete(spec.Paths.Map()["/hosts"].Get.Extensions, "x-role")
	_, err = contractOf(spec)
	require.ErrorContains(t, err, "/hosts no role")
}

// TestWrongCalls: what is wrong in a call is told as such.
func TestWrongCalls(t *testing.T) {
	h := newHouse(t)
	for _, c := range []struct {
		method, path, kind, body string
		status                   int
		code                     string
	}{
		{"GET", "/copies?limit=100000", "", "", 400, "wrong"},
		{"GET", "/copies?limit=-1", "", "", 400, "wrong"},
		{"GET", "/copies?after=nonsense", "", "", 400, "wrong"},
		{"GET", "/copies?filter=host%3d%00", "", "", 400, "wrong"},
		{"GET", "/copies?filter=state%3dflying", "", "", 400, "wrong"},
		{"GET", "/copies?filter=form%3dghost", "", "", 400, "wrong"},
		{"GET", "/jobs?after=nonsense", "", "", 400, "wrong"},
		{"GET", "/jobs?state=flying", "", "", 400, "wrong"},
		{"GET", "/jobs?limit=5000", "", "", 400, "wrong"},
		{"GET", "/history?after=nonsense", "", "", 400, "wrong"},
		{"GET", "/history?limit=5000", "", "", 400, "wrong"},
		{"GET", "/copy?name=%00", "", "", 400, "wrong"},
		{"GET", "/copy?name=%ff", "", "", 400, "wrong"},
		{"POST", "/session", "text/plain", `{"name":"a","password":"b"}`, 415, "not-json"},
		{"POST", "/session", "application/x-www-form-urlencoded", "name=a&password=b", 415, "not-json"},
		{"POST", "/plans", asJSON, `{"operation":"export","copies":["a\u0000b"]}`, 400, "wrong"},
		{"POST", "/plans", asJSON, `{"operation":"fly"}`, 400, "wrong"},
		{"POST", "/tokens", asJSON, `{"name":"x","days":-3}`, 400, "wrong"},
		{"POST", "/tokens", asJSON, `{"name":"x","days":99999}`, 400, "wrong"},
		{"POST", "/tokens", asJSON, `{"name":"-x"}`, 400, "wrong"},
		{"POST", "/users", asJSON, `{"name":"x","password":"short","role":"viewer"}`, 400, "wrong"},
		{"DELETE", "/users/nobody", "", "", 404, "unknown"},
		{"DELETE", "/tokens/nothing", "", "", 404, "unknown"},
		{"GET", "/nothing", "", "", 404, "unknown"},
	} {
		status, code := h.call(c.method, apiBase+c.path, h.tokens[access.Administrator], c.kind, c.body)
		require.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, code)
		require.Equal(t, c.code, code, "%s %s", c.method, c.path)
	}
}

// TestErrorsMapped: an error of an unknown kind is a mistake of ours, never a success.
func TestErrorsMapped(t *testing.T) {
	h := newHouse(t)
	s := &Server{log: slog.New(slog.DiscardHandler)}
	for _, err := range []error{&inventory.Error{Code: "never heard of", Message: "x"},
		fmt.Errorf("select secret from users")} {
		res := httptest.NewRecorder()
		c := ginContext(res)
		s.problem(c, err)
		require.Equal(t, 500, res.Code)
		require.NotContains(t, res.Body.String(), "secret")
	}
	for code := range statusOf {
		require.GreaterOrEqual(t, statusOf[code], 400, code)
	}
	_ = h
}

// TestOwnJobs: operators see and steer their own jobs, administrators all.
func TestOwnJobs(t *testing.T) {
	h := newHouse(t)
	j := &inventory.Job{ID: inventory.NewID(), UserName: "a-operator"}
	other := &inventory.Job{ID: inventory.NewID(), UserName: "a-administrator"}
	for _, job := range []*inventory.Job{j, other} {
		require.NoError(t, h.inv.InTx(t.Context(), func(tx pgx.Tx) error {
			return inventory.In(tx).AddJob(t.Context(), inventory.NewJob{Job: job,
				Plan: &plan.Plan{Operation: "export", Subjects: []string{"x"}}})
		}))
	}
	for role, want := range map[string][2]int{access.Operator: {200, 404}, access.Administrator: {200, 200}} {
		for i, job := range []*inventory.Job{j, other} {
			status, _ := h.call("GET", apiBase+"/jobs/"+job.ID.String(), h.tokens[role], "", "")
			require.Equal(t, want[i], status, role)
		}
	}
	for verb, body := range map[string]string{"cancel": "", "hold": "", "resume": "", "descriptor": "[]",
		"handed-out": `{"bytes":1}`} {
		status, _ := h.call("POST", apiBase+"/jobs/"+other.ID.String()+"/"+verb, h.tokens[access.Operator], asJSON,
			body)
		require.Equal(t, 404, status, verb)
	}
	status, _ := h.call("POST", apiBase+"/jobs/"+j.ID.String()+"/hold", h.tokens[access.Operator], "", "")
	require.Equal(t, 202, status)
	var page struct{ Items []inventory.Job }
	for role, n := range map[string]int{access.Viewer: 0, access.Operator: 1, access.Administrator: 2} {
		req, err := http.NewRequest("GET", h.url+apiBase+"/jobs", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+h.tokens[role])
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, json.NewDecoder(res.Body).Decode(&page))
		res.Body.Close()
		require.Len(t, page.Items, n, role)
	}
}

// TestPeople: tokens and users are listed, changed and dropped; what is dropped
// opens nothing any more.
func TestPeople(t *testing.T) {
	h := newHouse(t)
	admin := h.tokens[access.Administrator]
	session := func(name, password string) (cookie, csrf string) {
		body, err := json.Marshal(map[string]string{"name": name, "password": password})
		require.NoError(t, err)
		res, err := http.Post(h.url+apiBase+"/session", asJSON, bytes.NewReader(body))
		require.NoError(t, err)
		defer res.Body.Close()
		var s struct{ CSRF string }
		require.NoError(t, json.NewDecoder(res.Body).Decode(&s))
		for _, k := range res.Cookies() {
			cookie = k.Value
		}
		return cookie, s.CSRF
	}
	with := func(cookie string) int {
		req, err := http.NewRequest("GET", h.url+apiBase+"/session", nil)
		require.NoError(t, err)
		req.AddCookie(&http.Cookie{Name: sessionCookie, Value: cookie})
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	cookie, csrf := session("a-operator", password)
	require.NotEmpty(t, csrf)
	require.Equal(t, 200, with(cookie))
	status, code := h.call("PATCH", apiBase+"/users/a-operator", h.tokens[access.Operator], asJSON,
		`{"password":"another eider","current":"not it at all"}`)
	require.Equal(t, 400, status, code)
	status, _ = h.call("PATCH", apiBase+"/users/a-viewer", h.tokens[access.Operator], asJSON,
		`{"password":"another eider"}`)
	require.Equal(t, 403, status)
	status, _ = h.call("PATCH", apiBase+"/users/a-operator", h.tokens[access.Operator], asJSON,
		`{"role":"administrator"}`)
	require.Equal(t, 403, status)
	status, code = h.call("PATCH", apiBase+"/users/a-operator", h.tokens[access.Operator], asJSON,
		`{"password":"another eider","current":"`+password+`"}`)
	require.Equal(t, 200, status, code)
	require.Equal(t, 401, with(cookie), "sessions of the old password are over")
	cookie, _ = session("a-operator", "another eider")
	require.Equal(t, 200, with(cookie))

	status, code = h.call("PATCH", apiBase+"/users/a-administrator", admin, asJSON, `{"role":"viewer"}`)
	require.Equal(t, 400, status, code)
	status, _ = h.call("DELETE", apiBase+"/users/a-administrator", admin, "", "")
	require.Equal(t, 400, status, "somebody has to be administrator")
	status, _ = h.call("DELETE", apiBase+"/users/a-operator", admin, "", "")
	require.Equal(t, 204, status)
	require.Equal(t, 401, with(cookie), "sessions of a dropped user end at once")
	status, _ = h.call("GET", apiBase+"/copies", h.tokens[access.Operator], "", "")
	require.Equal(t, 401, status)

	list, err := h.inv.Tokens(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, k := range list {
		require.NotNil(t, k.ExpiresAt, "a token has a term unless it is asked for otherwise")
		if k.User == "a-administrator" {
			require.NotNil(t, k.UsedAt)
		}
	}
	status, _ = h.call("DELETE", apiBase+"/tokens/t", h.tokens[access.Viewer], "", "")
	require.Equal(t, 204, status)
	status, _ = h.call("GET", apiBase+"/copies", h.tokens[access.Viewer], "", "")
	require.Equal(t, 401, status)
}

// TestManyTries: wrong passwords cost a bounded amount of memory, and wait longer
// each time; every try is in the audit trail.
func TestManyTries(t *testing.T) {
	h := newHouse(t)
	var mu sync.Mutex
	seen := map[int]int{}
	var all sync.WaitGroup
	for range 60 {
		all.Go(func() {
			status, _ := h.call("POST", apiBase+"/session", "", asJSON, `{"name":"a-viewer","password":"wrong"}`)
			mu.Lock()
			defer mu.Unlock()
			seen[status]++
		})
	}
	all.Wait()
	require.Equal(t, 60, seen[401]+seen[429], "%v", seen)
	require.Greater(t, seen[429], 40)
	status, code := h.call("POST", apiBase+"/session", "", asJSON, `{"name":"a-viewer","password":"`+password+`"}`)
	require.Equal(t, 429, status, "even the right one has to wait")
	require.Equal(t, "later", code)
	list, err := h.inv.History(t.Context(), nil, "", 100, "")
	require.NoError(t, err)
	refusedTries := 0
	for _, e := range list {
		if e.What == "sign-in refused" && e.Who == "a-viewer" && e.Detail["address"] == "127.0.0.1" {
			refusedTries++
		}
	}
	require.Equal(t, seen[401], refusedTries)
}
