package tests

import (
	"net/http"
	"net/http/httptest"
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

// TestRotateKeys: the key file and the authority are replaced while the service is
// stopped; what is broken off goes on, and everything is reached afterwards.
func TestRotateKeys(t *testing.T) {
	e := ownEstate(t)
	keyFile := filepath.Join(e.dir, "unvora.key")
	args := func(what string) []string {
		return []string{"keys", "rotate", what, "--key-file", keyFile, "--database", e.database(t)}
	}
	key := func() string {
		raw, err := os.ReadFile(keyFile)
		require.NoError(t, err)
		return string(raw)
	}
	// A service that stands still says nothing any more, and is ended then: the demo
	// starts it again.
	without := func(f func()) {
		service := e.pids(t)["service"]
		require.NoError(t, syscall.Kill(service, syscall.SIGSTOP))
		time.Sleep(11 * time.Second)
		f()
		require.NoError(t, syscall.Kill(service, syscall.SIGKILL))
		wait.Until(t, func() bool { return e.run(t, "hosts").status == 0 && e.pids(t)["service"] != service })
	}
	reached := func() {
		out := e.ok(t, "survey")
		require.NotContains(t, out, "does not answer")
		require.Contains(t, e.ok(t, "manager", "check", "mainland"), "certificate")
	}
	web := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(web.Close)
	e.ok(t, "tell", "call", web.URL) // whose secret is sealed too
	id := get[[]openapi.Telling](t, e, "tell", "list")[0].Id
	before := key()
	r := e.run(t, args("file")...)
	require.NotZero(t, r.status)
	require.Contains(t, r.err, "stop it first")
	require.Equal(t, before, key())
	require.NoFileExists(t, keyFile+".next")

	without(func() {
		require.Contains(t, e.ok(t, args("file")...), "with the new key")
		require.NotEqual(t, before, key())
		require.NoFileExists(t, keyFile+".next")
		now := key()
		// Broken off after the database was sealed, and before: the files tell.
		require.NoError(t, os.WriteFile(keyFile+".next", []byte(now), 0o600))
		require.NoError(t, os.WriteFile(keyFile, []byte(before), 0o600))
		require.Contains(t, e.ok(t, args("file")...), "with the new key")
		require.NoError(t, os.WriteFile(keyFile+".next", []byte(before), 0o600))
		require.Contains(t, e.ok(t, args("file")...), "with the new key")
		last := key()
		require.NoError(t, os.WriteFile(keyFile, []byte(before), 0o600))
		r := e.run(t, args("file")...)
		require.NotZero(t, r.status)
		require.Contains(t, r.err, "is not the one that the secrets in this database are sealed with")
		require.NoError(t, os.WriteFile(keyFile, []byte(last), 0o600))
	})
	reached()
	require.Contains(t, e.run(t, "tell", "try", id).err, "404 Not Found", "its secret opens")

	without(func() {
		thaw := freeze(t, e, "agent-petrel")
		r := e.run(t, args("authority")...)
		require.NotZero(t, r.status)
		require.Contains(t, r.err, "petrel")
		require.Contains(t, r.err, "the old authority stays in force")
		thaw()
	})
	reached() // some agents have the new certificate, some the old one
	without(func() { require.Contains(t, e.ok(t, args("authority")...), "A new authority is in force") })
	reached()
	file := tempFile(t, "x.ova")
	e.ok(t, "export", "gannet/tide-gauge", file)
	e.ok(t, "import", file, "--host", "petrel", "--name", "tide-third", "--identity", "renew", "--yes")
	require.NotContains(t, strings.ToLower(e.ok(t, "attention")), "held-job")
}
