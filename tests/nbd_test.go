package tests

import (
	"bytes"
	"context"
	"crypto/tls"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/nbd"
)

// credentials writes certificates the way QEMU wants them, and returns ours.
func credentials(t *testing.T) (dir string, server, client *tls.Config) {
	t.Helper()
	dir = t.TempDir()
	certPEM, keyPEM, err := hostlink.NewAuthority()
	require.NoError(t, err)
	a, err := hostlink.LoadAuthority(certPEM, keyPEM)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ca-cert.pem"), certPEM, 0o600))
	for _, end := range []string{"server", "client"} {
		selfPEM, key, err := hostlink.NewKey()
		require.NoError(t, err)
		pair, err := tls.X509KeyPair(selfPEM, key)
		require.NoError(t, err)
		cert, err := a.Issue("localhost", pair.Leaf.PublicKey)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, end+"-cert.pem"), cert, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, end+"-key.pem"), key, 0o600))
		config, err := hostlink.MemberTLS(cert, key, certPEM)
		require.NoError(t, err)
		config.NextProtos = nil
		if end == "server" {
			server = config
		} else {
			client = config
			client.ServerName = "localhost"
		}
	}
	return dir, server, client
}

// TestQEMUServesUs: our client reads and writes a disk that QEMU serves.
func TestQEMUServesUs(t *testing.T) {
	truth := sample(40*mib, 3)
	path := filepath.Join(t.TempDir(), "image")
	writeQCOW2(t, path, truth)
	nbdSocket, _ := daemon(t, "--blockdev", "driver=file,node-name=file,filename="+path, "--blockdev",
		"driver=qcow2,node-name=image,file=file",
		"--export", "type=nbd,id=e,node-name=image,name=image,writable=on")
	conn, err := net.Dial("unix", nbdSocket)
	require.NoError(t, err)
	d, err := nbd.Open(t.Context(), conn, nbd.Options{Name: "image"})
	require.NoError(t, err)
	defer d.Close()
	disktest.Same(t, truth, d)
	data, err := disk.DataBytes(d)
	require.NoError(t, err)
	require.Less(t, data, int64(4*mib), "block status is understood")
	p := disktest.Pattern(mib, 9)
	_, err = d.WriteAt(p, 20*mib)
	require.NoError(t, err)
	require.NoError(t, d.Zero(0, mib, true))
	require.NoError(t, d.Sync())
	copy(truth[20*mib:], p)
	clear(truth[:mib])
	j := dialNBD(t, nbdSocket, "image")
	requireGuest(t, truth, j)
	conn, err = net.Dial("unix", nbdSocket)
	require.NoError(t, err)
	_, err = nbd.Open(t.Context(), conn, nbd.Options{Name: "none"})
	require.ErrorIs(t, err, nbd.ErrRefused)
}

func writeQCOW2(t *testing.T, path string, truth []byte) {
	t.Helper()
	format, err := formats.ByName("qcow2")
	require.NoError(t, err)
	target, err := format.Create(create(t, path), disk.Spec{VirtualBytes: int64(len(truth)),
		ID: "70126393-2a98-4856-90ac-efe4bba599b2"})
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
}

// TestWeServeQEMU: QEMU reads a disk that we serve, over TLS, and passes it on
// to the judge.
func TestWeServeQEMU(t *testing.T) {
	truth := sample(40*mib+512, 4)
	path := filepath.Join(t.TempDir(), "image")
	writeQCOW2(t, path, truth)
	dir, serverTLS, _ := credentials(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	t.Cleanup(func() { cancel(); l.Close(); wg.Wait() })
	server := &nbd.Server{TLS: serverTLS, Find: func(context.Context, string, net.Conn) (*nbd.Export, error) {
		c, err := formats.OpenChain(path, formats.Options{})
		if err != nil {
			return nil, err
		}
		return &nbd.Export{Image: c, Close: func() { c.Close() }}, nil
	}}
	wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			wg.Go(func() { server.Serve(ctx, conn) })
		}
	})
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	socket, _ := daemon(t, "--object", "tls-creds-x509,id=tls,endpoint=client,dir="+dir,
		"--blockdev", "driver=nbd,node-name=image,read-only=on,export=tide-gauge,tls-creds=tls,"+
			"tls-hostname=localhost,server.type=inet,server.host=127.0.0.1,server.port="+port,
		"--export", "type=nbd,id=e,node-name=image,name=image")
	requireGuest(t, truth, dialNBD(t, socket, "image"))
}

// TestTLSOfQEMU: our client speaks TLS with QEMU's server.
func TestTLSOfQEMU(t *testing.T) {
	truth := sample(8*mib, 5)
	path := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(path, truth, 0o644))
	dir, _, clientTLS := credentials(t)
	l, err := net.Listen("tcp", "127.0.0.1:0") // a free port
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, l.Close())
	daemonOf(t, "--object", "tls-creds-x509,id=tls,endpoint=server,verify-peer=on,dir="+dir,
		"--blockdev", "driver=file,node-name=image,filename="+path+",read-only=on",
		"--nbd-server", "addr.type=inet,addr.host=127.0.0.1,addr.port="+port+",tls-creds=tls", "--export",
		"type=nbd,id=e,node-name=image,name=image")
	conn, err := net.Dial("tcp", "127.0.0.1:"+port)
	require.NoError(t, err)
	d, err := nbd.Open(t.Context(), conn, nbd.Options{Name: "image", TLS: clientTLS})
	require.NoError(t, err)
	defer d.Close()
	got := make([]byte, len(truth))
	_, err = d.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(truth, got))
}
