package qemu

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/wiring"
)

// A switch that is made here is a bridge that bears a mark of ours. With an uplink that port becomes one of the
// bridge's: the address by which the host is to be reached there, and the routes that lead over the port, go to the
// bridge, and come back when the switch is dropped. A tagged uplink is a VLAN of the port (IEEE 802.1Q), which keeps
// what it has.

const (
	ourMark      = "unvora" // alias of links that were made here
	switchesFile = "switches.json"
)

// taken is what a switch took from the port that became its uplink.
type taken struct {
	Switch    wiring.Switch `json:"switch"`
	Addresses []string      `json:"addresses"`
	Gateways  []gateway     `json:"gateways"`
}

// gateway is a route over the port.
type gateway struct {
	To  string `json:"to"` // "" for everywhere
	Via string `json:"via"`
}

// madeSwitches are those that were made here, by name.
func (d *Driver) madeSwitches() map[string]taken {
	all := map[string]taken{}
	runDir(d.dir).readJSON(switchesFile, &all)
	return all
}

// Ports of the computer that lead out; nil where this account may not change its network.
func (d *Driver) Ports(context.Context) ([]wiring.Port, error) {
	if !mayChangeNetwork() {
		return nil, nil
	}
	links, err := netlink.LinkList()
	if err != nil {
		return nil, fmt.Errorf("list the ports of this computer: %w", err)
	}
	list := []wiring.Port{}
	for _, l := range links {
		if !leadsOut(l) {
			continue
		}
		p := wiring.Port{Name: l.Attrs().Name}
		addresses, err := netlink.AddrList(l, netlink.FAMILY_V4)
		if err == nil && len(addresses) > 0 {
			p.Address = addresses[0].IP.String()
		}
		list = append(list, p)
	}
	return list, nil
}

// leadsOut tells a port of the computer, or of the namespace that it plays a computer in.
func leadsOut(l netlink.Link) bool {
	return (l.Type() == "device" || l.Type() == "veth") && l.Attrs().Flags&unix.IFF_LOOPBACK == 0
}

// mayChangeNetwork tells whether this process has CAP_NET_ADMIN.
func mayChangeNetwork() bool {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	return unix.Capget(&header, &data[0]) == nil && data[0].Effective&(1<<unix.CAP_NET_ADMIN) != 0
}

// MakeSwitch makes a bridge. Each part of it is looked for first, so that one that was begun is finished.
func (d *Driver) MakeSwitch(ctx context.Context, s wiring.Switch) (err error) {
	all := d.madeSwitches()
	t, begun := all[s.Name]
	if begun && t.Switch != s {
		return fmt.Errorf("there is another switch %s already", s.Name)
	}
	if !isolated(s) {
		bridge, err := netlink.LinkByName(s.Name)
		if err == nil && bridge.Attrs().Alias != ourMark {
			return fmt.Errorf("this computer has a link %s already, which somebody else made", s.Name)
		}
	}
	if !begun {
		if t, err = takes(s); err != nil {
			return err
		}
	}
	all[s.Name] = t
	if err := errors.Join(runDir(d.dir).make(), runDir(d.dir).writeJSON(switchesFile, all)); err != nil {
		return err
	}
	if isolated(s) {
		return nil // each NIC is alone on it
	}
	if err := build(t); err != nil {
		err = fmt.Errorf("make the switch %s: %w", s.Name, permission(err))
		return errors.Join(err, d.DropSwitch(context.WithoutCancel(ctx), s))
	}
	return nil
}

// takes looks what a switch would take from its uplink.
func takes(s wiring.Switch) (t taken, err error) {
	t.Switch = s
	if s.Uplink == "" || s.Tagged {
		return t, nil
	}
	port, err := netlink.LinkByName(s.Uplink)
	if err != nil {
		return t, fmt.Errorf("the port %s: %w", s.Uplink, err)
	}
	if port.Attrs().MasterIndex != 0 {
		return t, fmt.Errorf("the port %s belongs to another link already", s.Uplink)
	}
	addresses, err := netlink.AddrList(port, netlink.FAMILY_V4)
	if err != nil {
		return t, err
	}
	for _, a := range addresses {
		t.Addresses = append(t.Addresses, a.IPNet.String())
	}
	routes, err := netlink.RouteList(port, netlink.FAMILY_V4)
	for _, r := range routes {
		if r.Gw == nil {
			continue // comes with an address
		}
		g := gateway{Via: r.Gw.String()}
		if r.Dst != nil {
			g.To = r.Dst.String()
		}
		t.Gateways = append(t.Gateways, g)
	}
	return t, err
}

// build makes what a switch is of, as far as it is not there.
func build(t taken) error {
	s := t.Switch
	bridge, err := ensure(&netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: s.Name}})
	if err != nil {
		return err
	}
	if s.Uplink != "" {
		port, err := netlink.LinkByName(s.Uplink)
		if err != nil {
			return fmt.Errorf("the port %s: %w", s.Uplink, err)
		}
		if err := netlink.LinkSetUp(port); err != nil {
			return err
		}
		if s.Tagged {
			if port, err = ensure(&netlink.Vlan{LinkAttrs: netlink.LinkAttrs{Name: tagName(s),
				ParentIndex: port.Attrs().Index}, VlanId: s.VLAN}); err != nil {
				return fmt.Errorf("the VLAN %d of %s: %w", s.VLAN, s.Uplink, err)
			}
		}
		if err := netlink.LinkSetMaster(port, bridge); err != nil {
			return err
		}
		if err := takeAddresses(port, t.Addresses); err != nil {
			return err
		}
	}
	if s.Address == "" {
		return nil
	}
	address, err := netlink.ParseAddr(s.Address)
	if err != nil {
		return err
	}
	if err := netlink.AddrReplace(bridge, address); err != nil {
		return err
	}
	return addGateways(bridge, t.Gateways)
}

// takeAddresses takes addresses off a port. Routes over it go along: the kernel drops them with the addresses.
func takeAddresses(port netlink.Link, addresses []string) error {
	for _, text := range addresses {
		address, err := netlink.ParseAddr(text)
		if err == nil {
			err = netlink.AddrDel(port, address)
		}
		if err != nil && !errors.Is(err, syscall.EADDRNOTAVAIL) {
			return fmt.Errorf("take the address %s off %s: %w", text, port.Attrs().Name, err)
		}
	}
	return nil
}

// addGateways lets routes lead over a link; those that its addresses don't reach lead nowhere, and are left out.
func addGateways(link netlink.Link, gateways []gateway) error {
	for _, g := range gateways {
		route := &netlink.Route{LinkIndex: link.Attrs().Index, Gw: net.ParseIP(g.Via)}
		if g.To != "" {
			to, err := netlink.ParseIPNet(g.To)
			if err != nil {
				return err
			}
			route.Dst = to
		}
		if err := netlink.RouteReplace(route); err != nil && !errors.Is(err, syscall.ENETUNREACH) {
			return fmt.Errorf("the route to %q over %s: %w", g.To, link.Attrs().Name, err)
		}
	}
	return nil
}

// ensure makes a link that bears our mark and is up, unless it is there.
func ensure(want netlink.Link) (netlink.Link, error) {
	name := want.Attrs().Name
	l, err := netlink.LinkByName(name)
	var missing netlink.LinkNotFoundError
	if errors.As(err, &missing) {
		if err := netlink.LinkAdd(want); err != nil {
			return nil, err
		}
		if l, err = netlink.LinkByName(name); err == nil {
			err = netlink.LinkSetAlias(l, ourMark)
		}
	}
	if err == nil {
		err = netlink.LinkSetUp(l)
	}
	return l, err
}

// tagName is the name of a port's VLAN.
func tagName(s wiring.Switch) string {
	tag := fmt.Sprintf(".%d", s.VLAN)
	return s.Uplink[:min(len(s.Uplink), unix.IFNAMSIZ-1-len(tag))] + tag
}

// DropSwitch takes a bridge away that was made here; its port has its addresses and routes back.
func (d *Driver) DropSwitch(_ context.Context, s wiring.Switch) error {
	all := d.madeSwitches()
	t, ours := all[s.Name]
	bridge, err := netlink.LinkByName(s.Name)
	there := err == nil
	var missing netlink.LinkNotFoundError
	switch {
	case err != nil && !errors.As(err, &missing):
		return err
	case !ours && !there && !d.named(s.Name):
		return nil
	case !ours || there && bridge.Attrs().Alias != ourMark:
		return fmt.Errorf("the switch %s was not made by Unvora: take the bridge away on the computer itself, and out "+
			"of the agent's file", s.Name)
	}
	var errs []error
	if there {
		errs = append(errs, netlink.LinkDel(bridge))
	}
	if s := t.Switch; s.Tagged && s.Uplink != "" {
		if l, err := netlink.LinkByName(tagName(s)); err == nil && l.Attrs().Alias == ourMark {
			errs = append(errs, netlink.LinkDel(l))
		}
	} else if s.Uplink != "" {
		errs = append(errs, giveBack(t))
	}
	if err := permission(errors.Join(errs...)); err != nil {
		return fmt.Errorf("drop the switch %s: %w", s.Name, err)
	}
	delete(all, s.Name)
	return runDir(d.dir).writeJSON(switchesFile, all)
}

// named tells whether the agent's file has a switch.
func (d *Driver) named(name string) bool {
	return slices.ContainsFunc(d.switches, func(s wiring.Switch) bool { return s.Name == name })
}

// giveBack gives a port what a switch took from it.
func giveBack(t taken) error {
	port, err := netlink.LinkByName(t.Switch.Uplink)
	if err != nil {
		return fmt.Errorf("the port %s, which is to have its addresses back: %w", t.Switch.Uplink, err)
	}
	errs := []error{netlink.LinkSetNoMaster(port), netlink.LinkSetUp(port)}
	for _, text := range t.Addresses {
		address, err := netlink.ParseAddr(text)
		if err == nil {
			err = netlink.AddrReplace(port, address)
		}
		errs = append(errs, err)
	}
	return errors.Join(append(errs, addGateways(port, t.Gateways))...)
}

// permission says of an error what is missing.
func permission(err error) error {
	if forbidden(err) {
		return fmt.Errorf("%w: this agent may not change the network of its computer. Give it CAP_NET_ADMIN: "+
			"AmbientCapabilities=CAP_NET_ADMIN in its unit", err)
	}
	return err
}
