package standin

import (
	"context"
	"net"
	"slices"
	"strings"
	"sync"

	"unvora.example/unvora/core/wiring"
)

// network plays the host's own network: a port whose address no switch has
// taken off it lets connections through.
type network struct {
	ports []wiring.Port
	mu    sync.Mutex
	list  []wiring.Switch
	open  map[net.Conn]bool
}

// Switches of the host.
func (n *network) Switches(context.Context) ([]wiring.Switch, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.Clone(n.list), nil
}

// Ports of the host.
func (n *network) Ports(context.Context) ([]wiring.Port, error) { return n.ports, nil }

// SetSwitches makes these the switches of the host. If they take the address
// off the last port that has one, all connections break.
func (n *network) SetSwitches(_ context.Context, list []wiring.Switch) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.list = slices.Clone(list)
	if n.cut() {
		for c := range n.open {
			c.Close()
		}
	}
	return nil
}

// cut tells whether nobody can reach the host any more.
func (n *network) cut() bool {
	had := false
	for _, p := range n.ports {
		if p.Address == "" {
			continue
		}
		had = true
		taken := slices.ContainsFunc(n.list, func(s wiring.Switch) bool {
			given, _, _ := strings.Cut(s.Address, "/")
			return s.Uplink == p.Name && given != p.Address
		})
		if !taken {
			return false
		}
	}
	return had
}

func (n *network) hasSwitch(name string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.ContainsFunc(n.list, func(s wiring.Switch) bool { return s.Name == name })
}

// Wire lets the connections of a listener go through this network.
func (n *network) Wire(l net.Listener) net.Listener { return &wired{l, n} }

type wired struct {
	net.Listener
	n *network
}

func (w *wired) Accept() (net.Conn, error) {
	for {
		c, err := w.Listener.Accept()
		if err != nil {
			return nil, err
		}
		w.n.mu.Lock()
		through := !w.n.cut()
		if through {
			w.n.open[c] = true
		}
		w.n.mu.Unlock()
		if through {
			return &wiredConn{c, w.n}, nil
		}
		c.Close()
	}
}

type wiredConn struct {
	net.Conn
	n *network
}

func (c *wiredConn) Close() error {
	c.n.mu.Lock()
	delete(c.n.open, c.Conn)
	c.n.mu.Unlock()
	return c.Conn.Close()
}
