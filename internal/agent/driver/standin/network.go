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
func (n *network) Ports(context.Context) ([]wiring.Port, error) {
	return append([]wiring.Port{}, n.ports...), nil
}

// MakeSwitch makes a switch.
func (n *network) MakeSwitch(_ context.Context, s wiring.Switch) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if !slices.Contains(n.list, s) {
		n.list = append(n.list, s)
		n.changed()
	}
	return nil
}

// DropSwitch takes a switch away.
func (n *network) DropSwitch(_ context.Context, s wiring.Switch) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.list = slices.DeleteFunc(n.list, func(o wiring.Switch) bool { return o.Name == s.Name })
	n.changed()
	return nil
}

// changed breaks all connections when the address was taken off the last port that had one.
func (n *network) changed() {
	if n.cut() {
		for c := range n.open {
			c.Close()
		}
	}
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
