// Package standintest starts the stand-in manager for tests.
package standintest

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/cimi/standin"
)

const size = 64 << 20

// Serve starts a stand-in manager with one stopped and one running machine on
// each of two hosts, dunlin and knot, of which knot hands out disks of stopped
// machines only. change may alter what it holds first.
func Serve(t testing.TB, change func(*standin.State)) (dir, address, cert string) {
	t.Helper()
	dir = t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = l.Addr().String()
	require.NoError(t, l.Close())
	state := standin.State{Name: "mainland", Listen: address, Version: "2.0.0",
		Accounts: []standin.Account{{Name: "skerrow", Password: "low tide"},
			{Name: "visitor", Password: "x", Reader: true}},
		Hosts:    []standin.Host{{Name: "dunlin", Live: true}, {Name: "knot"}},
		Networks: []standin.Network{{Name: "laboratory", VLAN: 20}}}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "volumes"), 0o755))
	for i, host := range []string{"dunlin", "dunlin", "knot", "knot"} {
		id := fmt.Sprint("m", i+1)
		truth := make([]byte, size)
		copy(truth[1<<20:], disktest.Pattern(2<<20, uint32(i)))
		require.NoError(t, os.WriteFile(standin.VolumePath(dir, "v"+id), truth, 0o644))
		state.Volumes = append(state.Volumes, standin.Volume{ID: "v" + id, Name: id, Bytes: size, Bootable: true})
		state.Machines = append(state.Machines, standin.Machine{ID: id, Name: id, Host: host,
			State: []string{cimi.Stopped, cimi.Started}[i%2], CPUs: 2, MemoryKiB: 1 << 20, Volumes: []string{"v" + id},
			NICs: []standin.NIC{{Network: "laboratory", MAC: "0a:77:00:00:00:01"}}})
	}
	if change != nil {
		change(&state)
	}
	for _, v := range state.Volumes { // it may have made them smaller
		require.NoError(t, os.Truncate(standin.VolumePath(dir, v.ID), v.Bytes))
	}
	require.NoError(t, standin.Save(dir, state))
	s, err := standin.Open(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	over := make(chan error, 1)
	go func() { over <- s.Serve(ctx) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-over) })
	require.Eventually(t, func() bool {
		c, _, err := cimi.Shown(t.Context(), address)
		if err == nil {
			cert = cimi.EncodeCertificate(c)
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	return dir, address, cert
}
