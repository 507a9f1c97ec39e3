package work

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"
	"time"

	"unvora.example/unvora/internal/hostlink"
)

// Check is one thing that has to hold for a host to be of use.
type Check struct {
	What string `json:"what"` // name, port, certificate, agent, clock, pools
	OK   bool   `json:"ok"`
	Says string `json:"says"` // what was found, and what to do about it
}

const checkPatience = 5 * time.Second

// CheckHost tries each thing by itself, so that one can be told from another.
// Nothing after the first that fails is tried.
func (w *Work) CheckHost(ctx context.Context, ref string) ([]Check, error) {
	h, err := w.inv.Host(ctx, ref)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 4*checkPatience)
	defer cancel()
	c := &checks{}
	if !c.reach(ctx, h.Address, "the agent") {
		return c.list, nil
	}
	config, err := w.authority.ServiceTLS()
	if err != nil {
		return nil, err
	}
	config = config.Clone()
	config.ServerName, config.NextProtos = h.ID.String(), []string{"h2"}
	secure, err := (&tls.Dialer{NetDialer: &net.Dialer{Timeout: checkPatience}, Config: config}).DialContext(ctx, "tcp", h.Address)
	var late net.Error
	if errors.As(err, &late) && late.Timeout() || errors.Is(err, context.DeadlineExceeded) {
		c.said("agent", false, "it does not answer within %s, though its port is open: its process stands still, or its host is overloaded. Look at it there, or start it again.", checkPatience)
		return c.list, nil
	}
	if err != nil {
		c.said("certificate", false, "what answers there is not the agent of %s that was added, or its records were lost: %v. If the host was wiped: unvora host rebuild %s", h.Name, err, h.Name)
		return c.list, nil
	}
	secure.Close()
	c.said("certificate", true, "signed by this service's authority, for this host")
	s, err := w.agent(h).Survey(ctx, h.Revision)
	if err != nil {
		c.said("agent", false, "it does not tell what it holds: %v. Its log tells more.", err)
		return c.list, nil
	}
	if h.Protocol != 0 && h.Protocol < hostlink.Protocol {
		c.said("agent", false, "it speaks protocol %d, this service %d: update it", h.Protocol, hostlink.Protocol)
	} else {
		c.said("agent", true, "it answers, at revision %s", s.Revision)
	}
	if off := h.ClockOff; off > 60 || off < -60 {
		c.said("clock", false, "it is off by %d s: set the host to a time server", off)
	} else {
		c.said("clock", true, "it is right")
	}
	pools, err := w.inv.HostPools(ctx, h.ID)
	if err != nil {
		return nil, err
	}
	var away []string
	for _, p := range pools {
		if p.State != "ready" && !p.Removable {
			away = append(away, p.Name+" is "+p.State)
		}
	}
	if len(away) > 0 {
		c.said("pools", false, "%s", strings.Join(away, ", "))
	} else {
		c.said("pools", true, "all that stay are ready")
	}
	return c.list, nil
}

// checks are gathered one after the other; nothing after one that fails is tried.
type checks struct{ list []Check }

func (c *checks) said(what string, ok bool, format string, args ...any) bool {
	c.list = append(c.list, Check{what, ok, fmt.Sprintf(format, args...)})
	return ok
}

func (c *checks) last() string { return c.list[len(c.list)-1].Says }

// reach tries name and port of address, HOST:PORT, where who should answer.
func (c *checks) reach(ctx context.Context, address, who string) bool {
	name, port, err := net.SplitHostPort(address)
	if err != nil {
		return c.said("name", false, "%q is no ADDRESS:PORT", address)
	}
	addresses, err := net.DefaultResolver.LookupHost(ctx, name)
	if err != nil {
		return c.said("name", false, "%s can't be resolved: %v. Put it into DNS or /etc/hosts of the service's computer.", name, err)
	}
	c.said("name", true, "%s is %s", name, strings.Join(addresses, ", "))
	conn, err := (&net.Dialer{Timeout: checkPatience}).DialContext(ctx, "tcp", address)
	if err != nil {
		return c.said("port", false, "%s", refused(err, port, who))
	}
	conn.Close()
	return c.said("port", true, "%s is open", port)
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
		return fmt.Sprintf("no answer from port %s in %s: a firewall drops it, or the host is off. Open that port to the service.", port, checkPatience)
	}
	return err.Error()
}
