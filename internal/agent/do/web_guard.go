package do

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"unvora.example/unvora/internal/agent/ground"
)

// An agent stands inside a network that the one who asks it to fetch something may
// not reach. So it fetches from addresses of the public internet only, and from
// those that the host's administrator names in the agent's file.

// errNotNamed is returned for an address that agents may not fetch from.
var errNotNamed = ground.Refuse("web.refused", "agents may not fetch from this address: it is none of the public "+
	"internet. The host's administrator can name it in the agent's file (web)")

const (
	webDialTime   = 5 * time.Second
	mostRedirects = 5
)

// public tells addresses that everybody reaches (RFC 6890).
func public(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsValid() && a.IsGlobalUnicast() && !a.IsPrivate() && !a.IsLoopback() && !a.IsLinkLocalUnicast() &&
		!slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(a) })
}

var special = prefixes("0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "240.0.0.0/4",
	"64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20", "5f00::/16")

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// named tells whether a host or an address of it is one of a list: names,
// addresses, or networks as 192.0.2.0/24.
func named(list []string, host string, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(n string) bool {
		if p, err := netip.ParsePrefix(n); err == nil {
			return p.Contains(a.Unmap())
		}
		if x, err := netip.ParseAddr(n); err == nil {
			return x.Unmap() == a.Unmap()
		}
		return strings.EqualFold(n, host)
	})
}

// webClient fetches from public addresses and those of a list. It is asked again at
// each address that it is redirected to, and takes what it has asked about: a
// name that changes what it stands for meanwhile gains nothing.
func webClient(list []string, transport *http.Transport) *http.Client {
	transport.Proxy = nil // a proxy would reach what we may not
	transport.ResponseHeaderTimeout, transport.IdleConnTimeout, transport.TLSHandshakeTimeout = 30*time.Second,
		time.Minute, 10*time.Second
	transport.DialContext = func(ctx context.Context, network, hostport string) (net.Conn, error) {
		host, port, err := net.SplitHostPort(hostport)
		if err != nil {
			return nil, err
		}
		ctx, stop := context.WithTimeout(ctx, webDialTime)
		defer stop()
		addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		if err != nil {
			return nil, errSilent
		}
		last := error(errNotNamed)
		for _, a := range addresses {
			if !public(a) && !named(list, host, a) {
				continue
			}
			conn, err := (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(a.String(), port))
			if err == nil {
				return conn, nil
			}
			last = errSilent
		}
		return nil, last
	}
	return &http.Client{Transport: transport, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) > mostRedirects || r.URL.Scheme != "http" && r.URL.Scheme != "https" {
			return errors.New("it is redirected too often, or to something else than the web")
		}
		return nil
	}}
}

// errSilent says no more than that nothing was to be had: why, would tell of a
// network that the one who asks may not see.
var errSilent = errors.New("nothing answers there")

// webError is an error of a request as it may be told.
func webError(err error) error {
	var refused *ground.Refusal
	if errors.As(err, &refused) {
		return refused
	}
	var u *url.Error
	if errors.As(err, &u) && !errors.Is(err, errSilent) && !errors.Is(err, context.Canceled) {
		return fmt.Errorf("it can't be fetched from here: %w", errSilent)
	}
	return fmt.Errorf("it can't be fetched from here: %w", err)
}
