package hostlink_test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/hostlink"
)

func authority(t *testing.T) *hostlink.Authority {
	t.Helper()
	cert, key, err := hostlink.NewAuthority()
	require.NoError(t, err)
	a, err := hostlink.LoadAuthority(cert, key)
	require.NoError(t, err)
	return a
}

// member makes a certificate in a name, and the configuration to show it.
func member(t *testing.T, a *hostlink.Authority, name string) *tls.Config {
	t.Helper()
	self, key, err := hostlink.NewKey()
	require.NoError(t, err)
	pair, err := tls.X509KeyPair(self, key)
	require.NoError(t, err)
	cert, err := a.Issue(name, pair.Leaf.PublicKey)
	require.NoError(t, err)
	config, err := hostlink.MemberTLS(cert, key, a.CertPEM())
	require.NoError(t, err)
	return config
}

func TestCodes(t *testing.T) {
	self, key, err := hostlink.NewKey()
	require.NoError(t, err)
	pair, err := tls.X509KeyPair(self, key)
	require.NoError(t, err)
	code := hostlink.NewCode(pair.Leaf)
	for _, text := range []string{code.String(), strings.ToLower(code.String()),
		strings.ReplaceAll(code.String(), "-", " ")} {
		read, err := hostlink.ParseCode(text)
		require.NoError(t, err)
		require.Equal(t, code, read)
		require.True(t, read.Matches(pair.Leaf))
	}
	other, otherKey, err := hostlink.NewKey()
	require.NoError(t, err)
	otherPair, err := tls.X509KeyPair(other, otherKey)
	require.NoError(t, err)
	require.False(t, code.Matches(otherPair.Leaf))
	for _, bad := range []string{"", "ABCD", code.String() + "-ABCD",
		strings.Replace(code.String(), code.String()[:1], "0", 1)} {
		_, err := hostlink.ParseCode(bad)
		require.Error(t, err, bad)
	}
}

// agentStub answers surveys on a real TLS port.
func agentStub(t *testing.T, config *tls.Config) string {
	t.Helper()
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/v1/survey":
			json.NewEncoder(w).Encode(hostlink.Survey{Revision: "r." + r.TLS.PeerCertificates[0].Subject.CommonName})
		case "/v1/look":
			w.WriteHeader(http.StatusConflict)
			json.NewEncoder(w).Encode(hostlink.Fault{Code: "package.truncated", Message: "cut short"})
		default:
			w.WriteHeader(http.StatusBadGateway)
			w.Write([]byte("not from an agent"))
		}
	}))
	server.TLS = config
	server.EnableHTTP2 = true
	server.StartTLS()
	t.Cleanup(server.Close)
	return server.Listener.Addr().String()
}

func TestWhoSpeaksToWhom(t *testing.T) {
	a, stranger := authority(t), authority(t)
	address := agentStub(t, member(t, a, "host-1"))
	service, err := a.ServiceTLS()
	require.NoError(t, err)
	ctx := t.Context()
	d := hostlink.NewDialer(service)
	s, err := d.Host("host-1", address).Survey(ctx, "")
	require.NoError(t, err)
	require.Equal(t, "r."+hostlink.ServiceName, s.Revision)

	_, err = d.Host("host-2", address).Survey(ctx, "")
	require.ErrorIs(t, err, hostlink.ErrUnreachable, "another host answers at this address")
	foreign, err := stranger.ServiceTLS()
	require.NoError(t, err)
	_, err = hostlink.NewDialer(foreign).Host("host-1", address).Survey(ctx, "")
	require.ErrorIs(t, err, hostlink.ErrUnreachable, "another authority")

	// A fault of the agent keeps its code; what is none is told as it is.
	_, err = d.Host("host-1", address).Look(ctx, "/x")
	var fault *hostlink.Fault
	require.ErrorAs(t, err, &fault)
	require.Equal(t, "package.truncated", fault.Code)
	err = d.Host("host-1", address).Forget(ctx, "j", 1)
	require.ErrorAs(t, err, &fault)
	require.Contains(t, fault.Message, "not from an agent")
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = d.Host("host-1", address).Survey(gone, "")
	require.ErrorIs(t, err, context.Canceled)
	_, err = d.Host("nobody", "127.0.0.1:1").Survey(ctx, "")
	require.ErrorIs(t, err, hostlink.ErrUnreachable)
}

func TestEnrolChecksTheKey(t *testing.T) {
	self, key, err := hostlink.NewKey()
	require.NoError(t, err)
	pair, err := tls.X509KeyPair(self, key)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var got hostlink.Enrolment
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		json.NewDecoder(r.Body).Decode(&got)
		json.NewEncoder(w).Encode(hostlink.Hello{Name: "gannet", Protocol: hostlink.Protocol})
	})}
	go server.Serve(tls.NewListener(listener, &tls.Config{Certificates: []tls.Certificate{pair}}))
	t.Cleanup(func() { server.Close() })
	a := authority(t)
	code := hostlink.NewCode(pair.Leaf)
	hello, err := a.Enrol(t.Context(), listener.Addr().String(), code, "host-1")
	require.NoError(t, err)
	require.Equal(t, "gannet", hello.Name)
	require.Equal(t, "host-1", got.HostID)
	config, err := hostlink.MemberTLS([]byte(got.Cert), key, []byte(got.Authority))
	require.NoError(t, err, "the certificate is for the agent's own key")
	require.NotNil(t, config)

	code.Fingerprint[0] ^= 1
	_, err = a.Enrol(t.Context(), listener.Addr().String(), code, "host-1")
	require.ErrorContains(t, err, "another agent answers")
}
