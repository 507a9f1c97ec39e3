package tests

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/work/tell"
)

// TestTell: a web address is called when a job ends, with a signature by the secret that was shown once.
func TestTell(t *testing.T) {
	e := ownEstate(t)
	type told struct {
		signature string
		body      []byte
	}
	calls := make(chan told, 10)
	web := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		calls <- told{r.Header.Get(tell.SignatureHeader), raw}
	}))
	t.Cleanup(web.Close)
	require.Contains(t, e.ok(t, "tell", "list"), "Nobody is told anything")
	out := e.ok(t, "tell", "call", web.URL+"/jobs", "--when", "done,failed", "--all")
	secret := regexp.MustCompile(`secret ([0-9a-f]{48})`).FindStringSubmatch(out)
	require.Len(t, secret, 2, out)
	id := regexp.MustCompile(`tell try ([0-9a-f]{8})`).FindStringSubmatch(out)[1]
	judged := func(c told) (said struct {
		Cause, Title string
		Job          struct{ Operation, State, User string }
	}) {
		at, _, _ := strings.Cut(strings.TrimPrefix(c.signature, "t="), ",")
		seconds, err := strconv.ParseInt(at, 10, 64)
		require.NoError(t, err)
		require.Equal(t, tell.Sign([]byte(secret[1]), time.Unix(seconds, 0), c.body), c.signature)
		require.NoError(t, json.Unmarshal(c.body, &said))
		return said
	}
	e.ok(t, "tell", "try", id)
	require.Equal(t, "test", judged(<-calls).Cause)
	e.ok(t, "power", "on", "training-01", "training-02")
	said := judged(<-calls)
	require.Equal(t, "done", said.Cause)
	require.Equal(t, "start", said.Job.Operation)
	require.Equal(t, "admin", said.Job.User)
	select {
	case c := <-calls:
		t.Fatalf("one job was told twice, or its children by themselves: %s", c.body)
	case <-time.After(4 * time.Second):
	}
	list := e.ok(t, "tell", "list")
	require.Contains(t, list, "everybody's")
	require.NotContains(t, list, "never")

	r := e.run(t, "tell", "mail", "robin@skerrow.example")
	require.NotZero(t, r.status)
	require.Contains(t, r.err, "no mail server")
	require.Contains(t, e.run(t, "tell", "call", "ftp://x/").err, "no web address")
	require.Contains(t, e.run(t, "tell", "call", web.URL, "--when", "begun").err, "begun")
	operator := e.operator(t, "kit")
	status, said403 := e.http(t, "POST", "/api/v1/tellings", operator, `{"how":"call","address":"`+web.URL+`"}`)
	require.Equal(t, 403, status.StatusCode, said403)
	status, said403 = e.http(t, "DELETE", "/api/v1/tellings/"+id, operator, "")
	require.Equal(t, 404, status.StatusCode, said403)
	e.ok(t, "tell", "drop", id)
	require.Contains(t, e.ok(t, "tell", "list"), "Nobody")
}
