package do

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/ground"
)

func TestPublic(t *testing.T) {
	for address, want := range map[string]bool{
		"8.8.8.8": true, "2606:4700::1": true, "::ffff:8.8.8.8": true,
		"127.0.0.1": false, "127.8.0.1": false, "::1": false, "::ffff:127.0.0.1": false, "0.0.0.0": false, "::": false,
		"0.1.2.3":  false,
		"10.0.0.1": false, "172.16.0.1": false, "192.168.1.1": false, "169.254.169.254": false, "fe80::1": false,
		"fd00::1": false, "100.64.1.1": false,
		"224.0.0.1": false, "ff02::1": false, "255.255.255.255": false, "64:ff9b::7f00:1": false,
		"2002:7f00:1::": false,
		"192.0.2.7":     false,
	} {
		require.Equal(t, want, public(netip.MustParseAddr(address)), address)
	}
	require.False(t, public(netip.Addr{}))
	a := netip.MustParseAddr("10.1.2.3")
	for _, list := range [][]string{{"10.1.2.3"}, {"10.1.0.0/16"}, {"Depot.example"}, {"::ffff:10.1.2.3"}} {
		require.True(t, named(list, "depot.example", a), list)
	}
	for _, list := range [][]string{nil, {""}, {"10.1.2.4"}, {"10.2.0.0/16"}, {"depot"}, {"example"}} {
		require.False(t, named(list, "depot.example", a), list)
	}
}

// TestWebRefused: whoever may ask an agent to fetch learns nothing of the network it
// stands in: nothing connects, and what is refused says the same whatever is there.
func TestWebRefused(t *testing.T) {
	var asked atomic.Int32
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.WriteHeader(http.StatusOK)
	}))
	defer inside.Close()
	a, _ := newAgent(t, 0)
	_, err := a.openWeb(t.Context(), inside.URL+"/x.ova")
	var refused *ground.Refusal
	require.ErrorAs(t, err, &refused)
	require.Equal(t, "web.refused", refused.Code)
	closed := httptest.NewServer(http.NotFoundHandler())
	closed.Close()
	_, nothing := a.openWeb(t.Context(), closed.URL+"/x.ova")
	require.Equal(t, err.Error(), nothing.Error(), "whether something is there is not told")
	require.Zero(t, asked.Load())

	// An address that is allowed leads to one that is not.
	door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, strings.Replace(inside.URL, "127.0.0.1", "127.0.0.2", 1)+r.URL.Path, http.StatusFound)
	}))
	defer door.Close()
	a.Config.Web = []string{"127.0.0.1"}
	_, err = a.openWeb(t.Context(), door.URL+"/x.ova")
	require.ErrorAs(t, err, &refused)
	require.Equal(t, "web.refused", refused.Code)
	require.Zero(t, asked.Load())
	file := httptest.NewServer(http.RedirectHandler("file:///etc/passwd", http.StatusFound))
	defer file.Close()
	_, err = a.openWeb(t.Context(), file.URL+"/x.ova")
	require.ErrorContains(t, err, "can't be fetched")
}
