package reach

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Check is one thing that has to hold for a host to be of use.
type Check struct {
	What string `json:"what"` // name, port, certificate, agent, clock, pools
	OK   bool   `json:"ok"`
	Says string `json:"says"` // what was found, and what to do about it
}

// CheckPatience is how long one thing may take to be tried.
const CheckPatience = 5 * time.Second

// Checks are gathered one after the other; nothing after one that fails is tried.
type Checks struct{ List []Check }

// Said adds what was found about one thing, and returns ok.
func (c *Checks) Said(what string, ok bool, format string, args ...any) bool {
	c.List = append(c.List, Check{what, ok, fmt.Sprintf(format, args...)})
	return ok
}

// Last is what was said last.
func (c *Checks) Last() string { return c.List[len(c.List)-1].Says }

// Reach tries name and port of address, HOST:PORT, where who should answer.
func (c *Checks) Reach(ctx context.Context, address, who string) bool {
	name, port, err := net.SplitHostPort(address)
	if err != nil {
		return c.Said("name", false, "%q is no ADDRESS:PORT", address)
	}
	addresses, err := net.DefaultResolver.LookupHost(ctx, name)
	if err != nil {
		return c.Said("name", false, "%s can't be resolved: %v. Put it into DNS or /etc/hosts of the service's "+
			"computer.",
			name, err)
	}
	c.Said("name", true, "%s is %s", name, strings.Join(addresses, ", "))
	conn, err := (&net.Dialer{Timeout: CheckPatience}).DialContext(ctx, "tcp", address)
	if err != nil {
		return c.Said("port", false, "%s", refused(err, port, who))
	}
	conn.Close()
	return c.Said("port", true, "%s is open", port)
}

// refused tells the ways apart in which a port is not reached.
func refused(err error, port, who string) string {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Sprintf("nothing listens on port %s: start %s there, or correct the address", port, who)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "no route leads there: the host is off, or the network between is"
	case errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Sprintf("no answer from port %s in %s: a firewall drops it, or the host is off. Open that port to "+
			"the "+
			"service.", port, CheckPatience)
	}
	return err.Error()
}

// Check tries each thing by itself, so that one can be told from another.
// Nothing after the first that fails is tried.
func (r *Hosts) Check(ctx context.Context, h *inventory.Host) ([]Check, error) {
	ctx, cancel := context.WithTimeout(ctx, 4*CheckPatience)
	defer cancel()
	c := &Checks{}
	if !c.Reach(ctx, h.Address, "the agent") {
		return c.List, nil
	}
	config, err := r.Authority.ServiceTLS()
	if err != nil {
		return nil, err
	}
	config = config.Clone()
	config.ServerName, config.NextProtos = h.ID.String(), []string{"h2"}
	secure, err := (&tls.Dialer{NetDialer: &net.Dialer{Timeout: CheckPatience}, Config: config}).DialContext(ctx, "tcp",
		h.Address)
	var late net.Error
	if errors.As(err, &late) && late.Timeout() || errors.Is(err, context.DeadlineExceeded) {
		c.Said("agent", false, "it does not answer within %s, though its port is open: its process stands still, or "+
			"its "+
			"host is overloaded. Look at it there, or start it again.", CheckPatience)
		return c.List, nil
	}
	if err != nil {
		c.Said("certificate", false, "what answers there is not the agent of %s that was added, or its records were "+
			"lost: "+
			"%v. If the host was wiped: unvora host rebuild %s", h.Name, err, h.Name)
		return c.List, nil
	}
	secure.Close()
	c.Said("certificate", true, "signed by this service's authority, for this host")
	s, err := r.Agent(h).Survey(ctx, h.Revision)
	if err != nil {
		c.Said("agent", false, "it does not tell what it holds: %v. Its log tells more.", err)
		return c.List, nil
	}
	if h.Protocol != 0 && h.Protocol < hostlink.Protocol {
		c.Said("agent", false, "it speaks protocol %d, this service %d: update it", h.Protocol, hostlink.Protocol)
	} else {
		c.Said("agent", true, "it answers, at revision %s", s.Revision)
	}
	if off := h.ClockOff; off > 60 || off < -60 {
		c.Said("clock", false, "it is off by %d s: set the host to a time server", off)
	} else {
		c.Said("clock", true, "it is right")
	}
	pools, err := r.inv.HostPools(ctx, h.ID)
	if err != nil {
		return nil, err
	}
	var away []string
	for _, p := range pools {
		if p.State != plan.PoolReady && !p.Removable {
			away = append(away, p.Name+" is "+string(p.State))
		}
	}
	if len(away) > 0 {
		c.Said("pools", false, "%s", strings.Join(away, ", "))
	} else {
		c.Said("pools", true, "all that stay are ready")
	}
	more, err := r.Agent(h).Examine(ctx)
	if err != nil {
		c.Said("hypervisor", false, "whether all is there that machines need can't be told: %v", err)
	}
	for _, k := range more {
		c.Said(k.Name, k.OK, "%s", k.Says)
	}
	return c.List, nil
}
