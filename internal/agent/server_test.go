package agent

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/hostlink"
)

// newAgent makes an agent with one pool, a shelf and so many machines.
func newAgent(t testing.TB, machines int) (*Agent, string) {
	t.Helper()
	g, pool := agenttest.New(t, machines, nil)
	require.NoError(t, g.Records.Close())
	a, err := New(g.Config, g.Driver, g.Log)
	require.NoError(t, err)
	t.Cleanup(func() {
		a.tasks.Close()
		require.NoError(t, a.Records.Close())
	})
	return a, pool
}

// TestOffers: a name for a disk works once, for the host that asked for it, and
// not for long.
func TestOffers(t *testing.T) {
	a, pool := newAgent(t, 0)
	path := filepath.Join(pool, "disk.img")
	require.NoError(t, os.WriteFile(path, disktest.Pattern(1<<20, 1), 0o644))
	certPEM, keyPEM, err := hostlink.NewAuthority()
	require.NoError(t, err)
	authority, err := hostlink.LoadAuthority(certPEM, keyPEM)
	require.NoError(t, err)
	connection := func(peer string) net.Conn {
		member := func(name string) *tls.Config {
			self, key, err := hostlink.NewKey()
			require.NoError(t, err)
			pair, err := tls.X509KeyPair(self, key)
			require.NoError(t, err)
			cert, err := authority.Issue(name, pair.Leaf.PublicKey)
			require.NoError(t, err)
			config, err := hostlink.MemberTLS(cert, key, authority.CertPEM())
			require.NoError(t, err)
			config.ServerName = "gannet"
			return config
		}
		x, y := net.Pipe()
		t.Cleanup(func() { x.Close(); y.Close() })
		client, server := tls.Client(x, member(peer)), tls.Server(y, member("gannet"))
		go func() {
			client.Handshake()
			io.Copy(io.Discard, client)
		}()
		require.NoError(t, server.Handshake())
		return server
	}
	put := func(lasts time.Duration) {
		a.offers.Store("name", offer{path: path, peer: "petrel", expires: time.Now().Add(lasts)})
	}
	take := func(conn net.Conn) error {
		e, err := a.takeOffer(t.Context(), "name", conn)
		if err == nil {
			e.Close()
		}
		return err
	}
	put(offerLasts)
	require.NoError(t, take(connection("petrel")))
	require.ErrorContains(t, take(connection("petrel")), "works once")
	put(offerLasts)
	require.ErrorContains(t, take(connection("skua")), "for another host")
	put(-time.Second)
	require.ErrorContains(t, take(connection("petrel")), "works once")
	put(offerLasts)
	plainEnd, otherEnd := net.Pipe()
	defer plainEnd.Close()
	defer otherEnd.Close()
	require.Error(t, take(plainEnd), "unencrypted")
}

// TestNobody: who shows no certificate gets nothing but what a ticket for
// foreign agents names.
func TestNobody(t *testing.T) {
	a, pool := newAgent(t, 1)
	later := time.Now().Add(time.Minute)
	a.tickets.Store("ours", hostlink.Ticket{Path: pool, Expires: later})
	a.tickets.Store("theirs", hostlink.Ticket{Path: pool, Expires: later, Foreign: true})
	a.tickets.Store("another's", hostlink.Ticket{Path: pool, Expires: later, Foreign: true, For: "petrel"})
	a.tickets.Store("old", hostlink.Ticket{Path: pool, Expires: time.Now(), Foreign: true})
	for name, works := range map[string]bool{"ours": false, "theirs": true, "another's": false, "old": false,
		"none": false} {
		r := httptest.NewRequest(http.MethodPost, "/", nil)
		r.TLS = &tls.ConnectionState{}
		r.SetPathValue("ticket", name)
		_, err := a.ticket(r)
		require.Equal(t, works, err == nil, name)
	}
	for _, path := range []string{"GET /v1/survey", "GET /v1/tickets/theirs", "GET /v1/tickets/theirs/descriptor",
		"GET /v1/folder?path=" + pool, "PUT /v1/tickets/x", "DELETE /v1/jobs/x", "POST /v1/tickets/ours/disks"} {
		method, at, _ := strings.Cut(path, " ")
		r := httptest.NewRequest(method, at, strings.NewReader("{}"))
		r.TLS = &tls.ConnectionState{}
		w := httptest.NewRecorder()
		a.routes().ServeHTTP(w, r)
		require.Equal(t, http.StatusConflict, w.Code, path)
	}
}
