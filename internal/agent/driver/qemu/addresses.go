package qemu

import (
	"bytes"
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/mdlayher/packet"
	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// A guest tells its neighbours which addresses it has: by ARP (RFC 826), and by neighbour discovery (RFC 4861). Whoever
// listens on its TAP device hears that. What a guest says of itself is only ever shown, and compared.

const (
	mostAddresses = 8             // that are kept of a machine
	staleAddress  = 6 * time.Hour // after which one that was not heard again is no longer told
	frameBytes    = 128           // of a frame that are looked at
)

// heardAddress is one that a guest was heard to use.
type heardAddress struct {
	Address netip.Addr `json:"address"`
	At      time.Time  `json:"at"`
}

// ears hear on TAP devices.
type ears struct {
	mu    sync.Mutex
	on    map[string]bool // TAP devices
	heard map[runDir][]heardAddress
}

const addressesFile = "addresses.json"

// listen hears on the TAP devices of a machine that runs, as long as they are there.
func (d *Driver) listen(dir runDir) {
	has := newDevices()
	if !dir.readJSON(devicesFile, &has) {
		return
	}
	d.ears.mu.Lock()
	defer d.ears.mu.Unlock()
	if d.ears.heard[dir] == nil {
		var before []heardAddress
		dir.readJSON(addressesFile, &before)
		d.ears.heard[dir] = before
	}
	for _, nic := range has.NICs {
		if nic.TAP == "" || d.ears.on[nic.TAP] {
			continue
		}
		c, err := open(nic.TAP)
		if err != nil {
			continue // this account may not, or the device is gone already
		}
		d.ears.on[nic.TAP] = true
		go func() {
			defer c.Close()
			frame := make([]byte, frameBytes)
			for {
				n, _, err := c.ReadFrom(frame)
				if err != nil {
					break // the device is gone
				}
				if address, ok := spoken(frame[:n], nic.MAC); ok {
					d.hear(dir, address)
				}
			}
			d.ears.mu.Lock()
			delete(d.ears.on, nic.TAP)
			d.ears.mu.Unlock()
		}()
	}
}

// open listens on a device for frames in which somebody tells an address.
func open(device string) (*packet.Conn, error) {
	ifi, err := net.InterfaceByName(device)
	if err != nil {
		return nil, err
	}
	filter, err := bpf.Assemble([]bpf.Instruction{
		bpf.LoadAbsolute{Off: 12, Size: 2},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: uint32(layers.EthernetTypeARP), SkipTrue: 5},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(layers.EthernetTypeIPv6), SkipTrue: 5},
		bpf.LoadAbsolute{Off: 20, Size: 1}, // the next header of IPv6
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(layers.IPProtocolICMPv6), SkipTrue: 3},
		bpf.LoadAbsolute{Off: 54, Size: 1}, // the type of ICMPv6
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: layers.ICMPv6TypeNeighborAdvertisement, SkipTrue: 1},
		bpf.RetConstant{Val: frameBytes},
		bpf.RetConstant{Val: 0},
	})
	if err != nil {
		return nil, err
	}
	return packet.Listen(ifi, packet.Raw, unix.ETH_P_ALL, &packet.Config{Filter: filter})
}

// spoken is the address that the NIC with a MAC tells in a frame.
func spoken(frame []byte, mac string) (netip.Addr, bool) {
	var eth layers.Ethernet
	var arp layers.ARP
	var ip layers.IPv6
	var icmp layers.ICMPv6
	var advert layers.ICMPv6NeighborAdvertisement
	parser := gopacket.NewDecodingLayerParser(layers.LayerTypeEthernet, &eth, &arp, &ip, &icmp, &advert)
	parser.IgnoreUnsupported = true
	var found []gopacket.LayerType
	if parser.DecodeLayers(frame, &found) != nil || eth.SrcMAC.String() != mac {
		return netip.Addr{}, false
	}
	var address netip.Addr
	switch {
	case slices.Contains(found, layers.LayerTypeARP) && bytes.Equal(arp.SourceHwAddress, eth.SrcMAC):
		address, _ = netip.AddrFromSlice(arp.SourceProtAddress)
	case slices.Contains(found, layers.LayerTypeICMPv6NeighborAdvertisement):
		address, _ = netip.AddrFromSlice(advert.TargetAddress)
	}
	return address, address.IsGlobalUnicast()
}

// hear notes an address. One that is new is told at once.
func (d *Driver) hear(dir runDir, address netip.Addr) {
	d.ears.mu.Lock()
	defer d.ears.mu.Unlock()
	list := d.ears.heard[dir]
	at := slices.IndexFunc(list, func(h heardAddress) bool { return h.Address == address })
	if at >= 0 {
		list[at].At = time.Now()
		return
	}
	if len(list) == mostAddresses { // the one that was not heard for the longest time makes room
		oldest := 0
		for n, h := range list {
			if h.At.Before(list[oldest].At) {
				oldest = n
			}
		}
		list = slices.Delete(list, oldest, oldest+1)
	}
	d.ears.heard[dir] = append(list, heardAddress{address, time.Now()})
	_ = dir.writeJSON(addressesFile, d.ears.heard[dir]) // else the next agent hears it anew
	d.tell()
}

// deafen forgets what was heard of a machine that has ended.
func (d *Driver) deafen(dir runDir) {
	d.ears.mu.Lock()
	defer d.ears.mu.Unlock()
	delete(d.ears.heard, dir)
	_ = dir.remove(addressesFile)
}

// Addresses that the guest of a running machine was heard to use.
func (d *Driver) Addresses(_ context.Context, folder string) (list []string, err error) {
	d.ears.mu.Lock()
	defer d.ears.mu.Unlock()
	for _, h := range d.ears.heard[d.at(folder)] {
		if time.Since(h.At) < staleAddress {
			list = append(list, h.Address.String())
		}
	}
	slices.Sort(list)
	return list, nil
}
