package qemu

import (
	"net"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// slowPort is a serial port that takes longer for the first thing it is given than for the rest.
type slowPort struct {
	net.Conn
	mu    sync.Mutex
	first sync.Once
	took  string
}

func (p *slowPort) Write(b []byte) (int, error) {
	p.first.Do(func() { time.Sleep(100 * time.Millisecond) })
	p.mu.Lock()
	defer p.mu.Unlock()
	p.took += string(b)
	return len(b), nil
}

// TestTypedInOrder: what is typed goes in in the order in which it was typed, though each key is a connection of its
// own, and while the machine talks.
func TestTypedInOrder(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "c")
	server, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer server.Close()
	port := &slowPort{}
	k := &keeper{listeners: map[net.Conn]bool{}, server: server, port: port, most: 1 << 20}
	go k.accept()
	const keys = "from the page"
	for _, key := range keys {
		c, err := net.Dial("unix", socket)
		require.NoError(t, err)
		k.said([]byte("tide"))
		require.NoError(t, typeInto(c.(*net.UnixConn), []byte(string(key))))
		require.NoError(t, c.Close())
	}
	port.mu.Lock()
	defer port.mu.Unlock()
	require.Equal(t, keys, port.took)
}
