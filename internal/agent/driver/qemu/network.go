package qemu

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"syscall"

	"github.com/vishvananda/netlink"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

// A switch of the host is a bridge of the Linux kernel with the same name. A NIC is connected to it by a TAP device,
// which is there as long as QEMU holds it. Bridges that the agent's file does not name are listed as they are found.
// Only those that were made here are ever taken away.

// Switches of the host: those of the agent's file, then the other bridges that there are.
func (d *Driver) Switches(context.Context) ([]wiring.Switch, error) {
	list := slices.Clone(d.switches)
	made := d.madeSwitches()
	for _, name := range slices.Sorted(maps.Keys(made)) {
		list = append(list, made[name].Switch)
	}
	return bridges(list)
}

// Bridges are those of this computer, as switches of which nobody has said anything yet.
func Bridges() ([]wiring.Switch, error) { return bridges(nil) }

// bridges adds to what is known of switches what the kernel says of them.
func bridges(list []wiring.Switch) ([]wiring.Switch, error) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil, fmt.Errorf("list the bridges of this computer: %w", err)
	}
	for _, l := range links {
		if l.Type() != "bridge" {
			continue
		}
		name := l.Attrs().Name
		at := slices.IndexFunc(list, func(s wiring.Switch) bool { return s.Name == name })
		if at < 0 {
			at = len(list)
			list = append(list, wiring.Switch{Name: name})
		}
		if list[at].Uplink == "" {
			list[at].Uplink = uplink(links, l.Attrs().Index)
		}
		addresses, err := netlink.AddrList(l, netlink.FAMILY_V4)
		if err == nil && len(addresses) > 0 && list[at].Address == "" {
			list[at].Address = addresses[0].IPNet.String()
		}
	}
	return list, nil
}

// uplink is the port of a bridge that is no machine's; "" when it has none.
func uplink(links []netlink.Link, bridge int) string {
	for _, l := range links {
		if l.Attrs().MasterIndex == bridge && l.Type() != "tuntap" && l.Type() != "tun" {
			return l.Attrs().Name
		}
	}
	return ""
}

// isolated tells whether a switch leads nowhere, so that it needs no bridge: each NIC is alone on it.
func isolated(s wiring.Switch) bool { return s.Segment == wiring.Quarantine }

// connect adds the other end of a NIC: a TAP device, whose name it returns, on the switch's bridge. Where the NIC is
// unplugged, or alone on its switch, the device is on no bridge and down, so that nothing comes or goes.
func (c *command) connect(id string, nic machine.NIC, switches []wiring.Switch) (string, error) {
	bridge, err := bridgeOf(nic, switches)
	if err != nil {
		return "", err
	}
	tap, err := addTAP()
	if err == nil {
		err = plug(tap, bridge)
	}
	switch {
	case forbidden(err) && bridge == nil: // then it is made of nothing, and can't be connected while the machine runs
		c.add("-netdev", fmt.Sprintf("hubport,id=%s,hubid=%s", id, strings.TrimPrefix(id, "net")))
		return "", nil
	case forbidden(err):
		return "", fmt.Errorf("%s can't be connected to %s: this agent may make no TAP devices. Give it "+
			"CAP_NET_ADMIN: AmbientCapabilities=CAP_NET_ADMIN in its unit", nic.Name, nic.Network)
	case err != nil:
		return "", fmt.Errorf("connect %s to %s: %w", nic.Name, nic.Network, err)
	}
	c.add("-netdev", fmt.Sprintf("tap,id=%s,fd=%d", id, c.pass(tap.Fds[0])))
	return tap.Name, nil
}

// cutOff tells whether a NIC has lost its switch. One that is to be on no bridge is down.
func (p part) cutOff() bool {
	if p.TAP == "" {
		return false
	}
	l, err := netlink.LinkByName(p.TAP)
	return err == nil && l.Attrs().MasterIndex == 0 && l.Attrs().Flags&net.FlagUp != 0
}

// cutOff says which NICs of a running machine have lost their switch; "" for none.
func (d runDir) cutOff() string {
	has := newDevices()
	if !d.readJSON(devicesFile, &has) {
		return ""
	}
	var lost []string
	for _, name := range slices.Sorted(maps.Keys(has.NICs)) {
		p := has.NICs[name]
		if p.cutOff() {
			lost = append(lost, fmt.Sprintf("%s is on no switch any more, since %s was taken away: wire it anew "+
				"(unvora nic wire)", name, p.File))
		}
	}
	return strings.Join(lost, "; ")
}

func forbidden(err error) bool {
	return errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES)
}

// addTAP makes a TAP device that is there as long as its descriptor is open.
func addTAP() (*netlink.Tuntap, error) {
	tap := &netlink.Tuntap{LinkAttrs: netlink.LinkAttrs{Name: "unv%d"},
		Mode: netlink.TUNTAP_MODE_TAP, NonPersist: true, Queues: 1,
		Flags: netlink.TUNTAP_NO_PI | netlink.TUNTAP_VNET_HDR}
	return tap, netlink.LinkAdd(tap)
}

// plug puts a link on a bridge; on none, and down, where that is nil.
func plug(tap, bridge netlink.Link) error {
	if bridge == nil {
		return errors.Join(netlink.LinkSetDown(tap), netlink.LinkSetNoMaster(tap))
	}
	if err := netlink.LinkSetMaster(tap, bridge); err != nil {
		return err
	}
	return netlink.LinkSetUp(tap)
}

// bridgeOf is the bridge of the switch that a NIC is on; nil where it is unplugged or alone.
func bridgeOf(nic machine.NIC, switches []wiring.Switch) (netlink.Link, error) {
	at := slices.IndexFunc(switches, func(s wiring.Switch) bool { return s.Name == nic.Network })
	if nic.Network != "" && at < 0 {
		return nil, fmt.Errorf("%s is on the switch %q, which this host does not have", nic.Name, nic.Network)
	}
	if nic.Network == "" || isolated(switches[at]) {
		return nil, nil
	}
	bridge, err := netlink.LinkByName(nic.Network)
	var missing netlink.LinkNotFoundError
	switch {
	case errors.As(err, &missing):
		return nil, fmt.Errorf("%s is on the switch %q, and this computer has no bridge of that name: ip link add "+
			"%[2]s type bridge", nic.Name, nic.Network)
	case err != nil:
		return nil, err
	case bridge.Type() != "bridge":
		return nil, fmt.Errorf("%s is on the switch %q, and what has that name on this computer is no bridge",
			nic.Name, nic.Network)
	}
	return bridge, nil
}

// unplug takes the link off the NICs that are connected to nothing, once QEMU runs.
func unplug(ctx context.Context, dir runDir, m *machine.Machine, has devices) error {
	for _, nic := range m.NICs {
		if nic.Network != "" {
			continue
		}
		if err := ask(ctx, dir, "set_link", map[string]any{"name": has.NICs[nic.Name].Device, "up": false},
			nil); err != nil {
			return err
		}
	}
	return nil
}
