package tests

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/wait"
)

// asks makes the contract's request of one of its shapes.
func asks(t *testing.T, shape any) (req openapi.Request) {
	raw, err := json.Marshal(shape)
	require.NoError(t, err)
	require.NoError(t, req.UnmarshalJSON(raw))
	return req
}

func (e *estate) token(t testing.TB) string {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(e.dir, "client.toml"))
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(raw), `token = "`)
	token, _, _ := strings.Cut(rest, `"`)
	return token
}

func (e *estate) http(t testing.TB, method, path, token, body string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(method, e.server+path, strings.NewReader(body))
	require.NoError(t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res, string(raw)
}

// TestAPIWholeWay brings a machine in through the API alone: skeleton, plan,
// job, bytes from the offset asked for.
func TestAPIWholeWay(t *testing.T) {
	e := theEstate(t)
	ctx := t.Context()
	c := e.api(t)
	file := tempFile(t, "probe.ova")
	e.ok(t, "export", "buoy-ingest", file)
	o, err := ovf.OpenPath(file)
	require.NoError(t, err)
	defer o.Close()
	raw, err := json.Marshal(o.Skeleton)
	require.NoError(t, err)
	var skeleton openapi.Skeleton
	require.NoError(t, json.Unmarshal(raw, &skeleton))
	req := openapi.ImportRequest{Operation: openapi.ImportRequestOperationImport,
		Source: openapi.Source{Upload: &skeleton}, Host: "petrel", Name: ptr("buoy-by-api")}

	refused, err := c.StartJobWithResponse(ctx, &openapi.StartJobParams{}, asks(t, req))
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, refused.StatusCode())
	require.Equal(t, "plan.open", refused.ApplicationproblemJSONDefault.Code)
	require.NotEmpty(t, refused.ApplicationproblemJSONDefault.Plan.Findings)

	req.Answers = &map[string]string{"network.unmapped/NIC 2": "unplugged"}
	req.TakeRecommended = ptr(true)
	p, err := c.MakePlanWithResponse(ctx, asks(t, req))
	require.NoError(t, err)
	require.True(t, p.JSON200.Runnable)
	job, err := c.StartJobWithResponse(ctx, &openapi.StartJobParams{}, asks(t, req))
	require.NoError(t, err)
	require.NotNil(t, job.JSON202, string(job.Body))
	id := job.JSON202.Id
	sent := 0
	for {
		w, err := c.GetTransferWithResponse(ctx, id, &openapi.GetTransferParams{Wait: ptr(5)})
		require.NoError(t, err)
		if w.JSON200.State == "done" {
			break
		}
		require.NotContains(t, []string{"failed", "cancelled"}, w.JSON200.State)
		if w.JSON200.Need == nil {
			continue
		}
		entry, ok := o.Entry(w.JSON200.Need.Entry)
		require.True(t, ok)
		src, err := o.Source(entry)
		require.NoError(t, err)
		at := w.JSON200.Need.Offset
		// In pieces: each begins where the job says.
		piece := io.NewSectionReader(src, at, min(entry.Size-at, 3<<20))
		wrongPlace, err := c.SendBytesWithBodyWithResponse(ctx, id, &openapi.SendBytesParams{Offset: at + 1},
			"application/octet-stream", bytes.NewReader([]byte("x")))
		require.NoError(t, err)
		require.Equal(t, 409, wrongPlace.StatusCode())
		_, err = c.SendBytesWithBodyWithResponse(ctx, id, &openapi.SendBytesParams{Offset: at},
			"application/octet-stream",
			piece)
		require.NoError(t, err)
		sent++
	}
	require.Greater(t, sent, 2)
	k, err := c.GetCopyWithResponse(ctx, &openapi.GetCopyParams{Name: "petrel/buoy-by-api"})
	require.NoError(t, err)
	require.Equal(t, "renew", string(k.JSON200.Identity))
	require.Empty(t, (*k.JSON200.Machine.Nics)[1].Network)
	require.NotEqual(t, k.JSON200.Macs[0], k.JSON200.Macs[1])
	was := get[openapi.Copy](t, e, "copies", "gannet/buoy-ingest")
	require.Equal(t, judge(t, "qcow2", filepath.Join(was.Path, (*was.Machine.Disks)[0].File)).sum(t),
		judge(t, "qcow2", filepath.Join(k.JSON200.Path, (*k.JSON200.Machine.Disks)[0].File)).sum(t))
}

func TestAccess(t *testing.T) {
	e := theEstate(t)
	admin := e.token(t)
	res, body := e.http(t, "GET", "/api/v1/hosts", "", "")
	require.Equal(t, 401, res.StatusCode)
	require.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
	require.Contains(t, body, `"next"`)
	res, _ = e.http(t, "GET", "/api/v1/hosts", "unv_guess", "")
	require.Equal(t, 401, res.StatusCode)

	res, body = e.http(t, "POST", "/api/v1/users", admin,
		`{"name":"night-desk","password":"only looks at things","role":"viewer"}`)
	require.Equal(t, 201, res.StatusCode, body)
	require.NotContains(t, body, "assword")
	res, _ = e.http(t, "POST", "/api/v1/users", admin,
		`{"name":"Night-Desk","password":"only looks at things","role":"viewer"}`)
	require.Equal(t, 409, res.StatusCode)
	res, _ = e.http(t, "POST", "/api/v1/users", admin, `{"name":"short","password":"short","role":"viewer"}`)
	require.Equal(t, 400, res.StatusCode)

	// A console session: the cookie reads, and writes only with its CSRF token.
	jar := &http.Client{}
	login, err := jar.Post(e.server+"/api/v1/session", "application/json",
		strings.NewReader(`{"name":"night-desk","password":"only looks at things"}`))
	require.NoError(t, err)
	require.Equal(t, 200, login.StatusCode)
	var session openapi.Session
	require.NoError(t, json.NewDecoder(login.Body).Decode(&session))
	login.Body.Close()
	cookie := login.Cookies()[0]
	require.True(t, cookie.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	with := func(method, path, csrf, body string) int {
		req, err := http.NewRequest(method, e.server+path, strings.NewReader(body))
		require.NoError(t, err)
		req.AddCookie(cookie)
		req.Header.Set("X-CSRF-Token", csrf)
		req.Header.Set("Content-Type", "application/json")
		res, err := jar.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	require.Equal(t, 200, with("GET", "/api/v1/hosts", "", ""))
	require.Equal(t, 403, with("POST", "/api/v1/plans", "", `{"operation":"start","copies":["tide-gauge"]}`))
	require.Equal(t, 200, with("POST", "/api/v1/plans", session.Csrf,
		`{"operation":"start","copies":["gannet/tide-gauge"]}`))
	require.Equal(t, 403, with("POST", "/api/v1/jobs", session.Csrf,
		`{"operation":"start","copies":["gannet/tide-gauge"]}`), "a viewer looks")
	require.Equal(t, 403, with("POST", "/api/v1/hosts", session.Csrf, `{}`))
	require.Equal(t, 204, with("DELETE", "/api/v1/session", session.Csrf, ""))
	require.Equal(t, 401, with("GET", "/api/v1/hosts", "", ""))
	require.Contains(t, e.ok(t, "history", "--limit", "500"), "user add")
}

func TestPagesAndFilters(t *testing.T) {
	e := theEstate(t)
	c, ctx := e.api(t), t.Context()
	var names []string
	var after *string
	for {
		p, err := c.ListCopiesWithResponse(ctx, &openapi.ListCopiesParams{Limit: ptr(1), After: after})
		require.NoError(t, err)
		require.NotNil(t, p.JSON200, string(p.Body))
		require.Len(t, p.JSON200.Items, 1)
		names = append(names, p.JSON200.Items[0].Name)
		if p.JSON200.Next == nil {
			require.Equal(t, len(names), p.JSON200.Count)
			break
		}
		after = p.JSON200.Next
	}
	require.GreaterOrEqual(t, len(names), 6)
	for filter, want := range map[string]string{"name~tide-g*": "tide-gauge",
		"host=petrel name=tide-probe": "tide-probe",
		"form=stray":                  "chart-render"} {
		p, err := c.ListCopiesWithResponse(ctx, &openapi.ListCopiesParams{Filter: &filter})
		require.NoError(t, err)
		require.NotEmpty(t, p.JSON200.Items, filter)
		for _, i := range p.JSON200.Items {
			require.Equal(t, want, i.Name)
		}
	}
	for _, path := range []string{"/api/v1/copies?filter=x", "/api/v1/copies?after=zzz", "/api/v1/copies?limit=many",
		"/api/v1/jobs?after=zzz"} {
		res, body := e.http(t, "GET", path, e.token(t), "")
		require.Equal(t, 400, res.StatusCode, path+body)
	}
	for path, says := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/api/docs": "/api/v1/lineages",
		"/api/v1/openapi.json": `"openapi"`, "/": "<div id=\"root\">", "/lineages/x": "<div id=\"root\">"} {
		res, body := e.http(t, "GET", path, "", "")
		require.Equal(t, 200, res.StatusCode, path)
		require.Contains(t, body, says)
	}
	res, _ := e.http(t, "GET", "/metrics", "", "")
	require.Equal(t, 401, res.StatusCode)
	res, body := e.http(t, "GET", "/metrics", e.token(t), "")
	require.Equal(t, 200, res.StatusCode)
	for _, says := range []string{"unvora_http_seconds", "go_goroutines", "process_resident_memory_bytes"} {
		require.Contains(t, body, says)
	}
	res, _ = e.http(t, "GET", "/api/v1/nothing", e.token(t), "")
	require.Equal(t, 404, res.StatusCode)
}

// TestEvents: a reader that comes back gets what it missed, in order, once.
func TestEvents(t *testing.T) {
	e := theEstate(t)
	open := func(last string) io.ReadCloser {
		params := &openapi.StreamEventsParams{LastEventID: optional(last)}
		res, err := e.api(t).ClientInterface.StreamEvents(wait.Context(t), params)
		require.NoError(t, err)
		return res.Body
	}
	read := func(stream io.ReadCloser, enough func(ids []string, kinds string) bool) (ids []string, kinds string) {
		defer stream.Close()
		for lines := bufio.NewScanner(stream); !enough(ids, kinds) && lines.Scan(); {
			field, value, _ := strings.Cut(lines.Text(), ":")
			switch value = strings.TrimPrefix(value, " "); field {
			case "id":
				ids = append(ids, value)
			case "event":
				kinds += value + " "
			}
		}
		return ids, kinds
	}
	live := open("")
	e.ok(t, "power", "on", "gannet/buoy-ingest")
	first, _ := read(live, func(ids []string, _ string) bool { return len(ids) == 3 })
	require.NotEmpty(t, first, "live")
	e.ok(t, "power", "off", "gannet/buoy-ingest")
	later, _ := read(open(first[0]), func(_ []string, kinds string) bool { // a job's end comes with what it changed
		return strings.Contains(kinds, "job copy ")
	})
	require.NotContains(t, later, first[0])
	again, _ := read(open(first[0]), func(ids []string, _ string) bool { return len(ids) >= len(later) })
	require.Equal(t, later, again[:len(later)])
	seen := map[string]bool{}
	for _, id := range again {
		require.False(t, seen[id], "twice: %s", id)
		seen[id] = true
	}
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// TestHandmade: what people do behind the inventory's back is seen.
func TestHandmade(t *testing.T) {
	e := theEstate(t)
	reef := e.pool("petrel", "reef")
	require.NoError(t, os.CopyFS(filepath.Join(reef, "probe-by-hand"), os.DirFS(filepath.Join(reef, "tide-probe"))))
	require.Contains(t, e.ok(t, "survey"), "tide-probe found in")
	require.Contains(t, e.ok(t, "where", "petrel/tide-probe"), "copied by hand")
	require.NoError(t, os.RemoveAll(filepath.Join(reef, "probe-by-hand")))
	require.Contains(t, e.ok(t, "survey"), "is no longer there")
	require.Contains(t, e.ok(t, "where", "petrel/tide-probe"), "gone since")

	// A drive is pulled out: its copies are away, not gone.
	kelp := e.pool("gannet", "kelp")
	require.NoError(t, os.Rename(kelp, kelp+"-out"))
	e.ok(t, "survey", "gannet")
	out := e.ok(t, "copies", "--where", "name=chart-render form=stray")
	require.Contains(t, out, "away")
	require.NoError(t, os.Rename(kelp+"-out", kelp))
	e.ok(t, "survey", "gannet")
	require.NotContains(t, e.ok(t, "copies", "--where", "name=chart-render form=stray"), "away")
}

// TestStoppedAgent: a host that does not answer blocks what needs it, and
// nothing else.
func TestStoppedAgent(t *testing.T) {
	e := ownEstate(t)
	pid := e.pids(t)["agent-petrel"]
	process, err := os.FindProcess(pid)
	require.NoError(t, err)
	file := tempFile(t, "x.ova")
	e.ok(t, "export", "tide-gauge", file)
	// The demo starts it again after two seconds; until then it is gone.
	require.NoError(t, process.Kill())
	r := e.run(t, "survey", "petrel")
	require.Equal(t, 6, r.status, r.out+r.err)
	require.Contains(t, r.out, "does not answer at 127.0.0.1")
	r = e.run(t, "import", file, "--host", "petrel", "--yes")
	require.Equal(t, 4, r.status, r.out+r.err)
	require.Contains(t, r.err, "The agent on petrel does not answer")
	wait.Until(t, func() bool { return e.run(t, "survey", "petrel").status == 0 })
	require.Equal(t, "up", string(get[openapi.HostDetail](t, e, "hosts", "petrel").State))
}

// TestSecondDemo: ports and directories in use are told.
func TestSecondDemo(t *testing.T) {
	e := theEstate(t)
	r := e.run(t, "demo", "--dir", e.dir, "--port", "1")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "a demo runs in")
	port := e.server[strings.LastIndexByte(e.server, ':')+1:]
	r = e.run(t, "demo", "--dir", t.TempDir(), "--port", port)
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "is in use")
	require.NoError(t, os.WriteFile(filepath.Join(e.dir, "blocked"), nil, 0o644))
	r = e.run(t, "demo", "--dir", filepath.Join(e.dir, "blocked", "x"))
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "--dir")
	require.Contains(t, e.ok(t, "serve", "--show-config", "--listen", "127.0.0.1:1"), "--listen")
}
