package qemu_test

import (
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"

	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver/qemu"
)

// addressesOf are the addresses of a link, and the gateways of routes over it.
func addressesOf(t *testing.T, name string) (list []string) {
	t.Helper()
	l, err := netlink.LinkByName(name)
	require.NoError(t, err)
	addresses, err := netlink.AddrList(l, netlink.FAMILY_V4)
	require.NoError(t, err)
	for _, a := range addresses {
		list = append(list, a.IPNet.String())
	}
	routes, err := netlink.RouteList(l, netlink.FAMILY_V4)
	require.NoError(t, err)
	for _, r := range routes {
		if r.Gw != nil {
			list = append(list, "via "+r.Gw.String())
		}
	}
	return list
}

// TestSwitches: a switch is a bridge of the kernel. One with an uplink takes over the port's address and routes, and
// gives them back; what somebody else made is left alone, and a switch that can't be made whole leaves nothing.
func TestSwitches(t *testing.T) {
	ownNetwork(t, "wharf", "192.0.2.1/24") // somebody else's
	add := func(l netlink.Link) netlink.Link {
		t.Helper()
		require.NoError(t, netlink.LinkAdd(l))
		require.NoError(t, netlink.LinkSetUp(l))
		return l
	}
	port := add(&netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "port1"}, PeerName: "beyond"})
	beyond, err := netlink.LinkByName("beyond")
	require.NoError(t, err)
	require.NoError(t, netlink.LinkSetUp(beyond))
	address, err := netlink.ParseAddr("198.51.100.7/24")
	require.NoError(t, err)
	require.NoError(t, netlink.AddrAdd(port, address))
	require.NoError(t, netlink.RouteAdd(&netlink.Route{LinkIndex: port.Attrs().Index,
		Gw: net.ParseIP("198.51.100.1")}))
	before := []string{"198.51.100.7/24", "via 198.51.100.1"}
	require.Equal(t, before, addressesOf(t, "port1"))

	state := filepath.Join(t.TempDir(), "machines")
	driver := func() *qemu.Driver {
		d, err := qemu.New(qemu.Options{State: state, Switches: switches})
		require.NoError(t, err)
		return d
	}
	d := driver()
	ports, err := d.Ports(t.Context())
	require.NoError(t, err)
	require.Contains(t, ports, wiring.Port{Name: "port1", Address: "198.51.100.7"})
	listed := func(name string) *wiring.Switch {
		t.Helper()
		list, err := d.Switches(t.Context())
		require.NoError(t, err)
		for _, s := range list {
			if s.Name == name {
				return &s
			}
		}
		return nil
	}

	inside := wiring.Switch{Name: "inside", Segment: "lab"}
	require.NoError(t, d.MakeSwitch(t.Context(), inside))
	require.NoError(t, d.MakeSwitch(t.Context(), inside), "it is there")
	require.Equal(t, &inside, listed("inside"))
	pier := wiring.Switch{Name: "pier", Segment: "field", Uplink: "port1", Address: "198.51.100.7/24"}
	require.NoError(t, d.MakeSwitch(t.Context(), pier))
	require.Equal(t, &pier, listed("pier"))
	require.Equal(t, before, addressesOf(t, "pier"), "what led over the port leads over the switch")
	require.Empty(t, addressesOf(t, "port1"))
	moved, err := netlink.LinkByName("port1")
	require.NoError(t, err)
	bridge, err := netlink.LinkByName("pier")
	require.NoError(t, err)
	require.Equal(t, bridge.Attrs().Index, moved.Attrs().MasterIndex)

	other := wiring.Switch{Name: "other", Uplink: "port1"}
	require.ErrorContains(t, d.MakeSwitch(t.Context(), other), "belongs to another")
	require.Nil(t, listed("other"))
	require.ErrorContains(t, d.MakeSwitch(t.Context(), wiring.Switch{Name: "wharf"}), "somebody else made")
	require.ErrorContains(t, d.DropSwitch(t.Context(), wiring.Switch{Name: "wharf"}), "was not made by Unvora")
	require.Equal(t, []string{"192.0.2.1/24"}, addressesOf(t, "wharf"))
	require.ErrorContains(t, d.DropSwitch(t.Context(), wiring.Switch{Name: "quarantine"}), "agent's file")
	require.ErrorContains(t, d.MakeSwitch(t.Context(), wiring.Switch{Name: "x", Uplink: "nowhere"}), "the port nowhere")

	// The computer was started anew: bridges are gone, and are made again.
	require.NoError(t, netlink.LinkDel(bridge))
	require.NoError(t, netlink.LinkDel(moved))
	port = add(&netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "port1"}, PeerName: "beyond"})
	require.NoError(t, netlink.AddrAdd(port, address))
	d = driver()
	require.NoError(t, d.MakeSwitch(t.Context(), pier))
	require.Contains(t, addressesOf(t, "pier"), "198.51.100.7/24")
	require.NoError(t, d.DropSwitch(t.Context(), pier))
	require.Contains(t, addressesOf(t, "port1"), "198.51.100.7/24")
	require.NoError(t, d.DropSwitch(t.Context(), pier), "it is gone")
	require.Nil(t, listed("pier"))
	require.NoError(t, d.DropSwitch(t.Context(), inside))

	quiet := wiring.Switch{Name: "quiet", Segment: wiring.Quarantine}
	require.NoError(t, d.MakeSwitch(t.Context(), quiet))
	require.Equal(t, &quiet, listed("quiet"))
	_, err = netlink.LinkByName("quiet")
	require.Error(t, err, "whoever is in quarantine is alone")
	require.NoError(t, d.DropSwitch(t.Context(), quiet))

	// This kernel may know no VLANs: then nothing of the switch stays.
	tagged := wiring.Switch{Name: "tagged", Segment: "field", VLAN: 30, Tagged: true, Uplink: "port1"}
	if err := d.MakeSwitch(t.Context(), tagged); err != nil {
		require.ErrorContains(t, err, "the VLAN 30 of port1")
		require.Nil(t, listed("tagged"))
		_, err = netlink.LinkByName("tagged")
		require.Error(t, err)
	} else {
		require.NoError(t, d.DropSwitch(t.Context(), tagged))
	}
	require.Contains(t, addressesOf(t, "port1"), "198.51.100.7/24")
}
