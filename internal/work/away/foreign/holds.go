package foreign

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

// Properties of machines and networks at a foreign manager that we read, where
// they are stated, and write (docs/managers.md).
const (
	propHost     = "host"     // that the machine runs on
	propUUID     = "uuid"     // that its firmware shows the guest
	propFirmware = "firmware" // bios or uefi
	propGuest    = "guest"    // operating system
	propVLAN     = "vlan"     // of a network
	propPassport = "unvora-passport"
)

// managerHolds asks a foreign manager for its machines, and sorts them by host.
// Where the manager does not tell hosts apart, there is one, called "machines".
func managerHolds(ctx context.Context, client *cimi.Client) (map[string]*hostlink.Survey, string, error) {
	entry, version, err := client.EntryPoint(ctx)
	if err != nil {
		return nil, version, err
	}
	networks, _, err := cimi.List[cimi.Network](ctx, client, entry.Networks, "")
	if err != nil {
		return nil, version, err
	}
	volumes, _, err := cimi.List[cimi.Volume](ctx, client, entry.Volumes, "")
	if err != nil {
		return nil, version, err
	}
	machines, _, err := cimi.List[cimi.Machine](ctx, client, entry.Machines, "volumes,networkInterfaces")
	if err != nil {
		return nil, version, err
	}
	h := holdings{map[string]cimi.Network{}, map[string]cimi.Volume{}}
	var switches []wiring.Switch
	for _, n := range networks {
		h.networks[n.ID] = n
		vlan, _ := strconv.Atoi(n.Properties[propVLAN])
		switches = append(switches, wiring.Switch{Name: n.Name, VLAN: vlan})
	}
	for _, v := range volumes {
		h.volumes[v.ID] = v
	}
	hosts := map[string]*hostlink.Survey{}
	for i := range machines {
		m := &machines[i]
		host := m.Properties[propHost]
		if host == "" || strings.ContainsAny(host, "/@ \t") {
			host = "machines"
		}
		if hosts[host] == nil {
			hosts[host] = &hostlink.Survey{Full: true, Changed: true,
				Hello:    &hostlink.Hello{Driver: inventory.ManagerCIMI, Time: time.Now(), Protocol: hostlink.Protocol},
				Switches: slices.Clone(switches)}
		}
		f := hostlink.Folder{Path: m.ID, Registered: true, FilesThere: true, PoolThere: true, State: stateOf(m.State),
			Machine: h.model(m)}
		for _, d := range f.Machine.Disks {
			f.Bytes += d.VirtualBytes
		}
		hosts[host].Machines = append(hosts[host].Machines, f)
	}
	return hosts, version, away.Number(hosts)
}

// stateOf a machine in our words.
func stateOf(state string) machine.State {
	switch state {
	case cimi.Started:
		return machine.Running
	case cimi.Stopped:
		return machine.Stopped
	case cimi.Paused:
		return "paused"
	case cimi.Suspended:
		return machine.Suspended
	}
	return machine.Unknown
}

// holdings are what machines refer to.
type holdings struct {
	networks map[string]cimi.Network
	volumes  map[string]cimi.Volume
}

// model of a machine at a manager. Its disks are called disk1, disk2 … in the
// order in which they are attached; their files are the volumes.
func (h holdings) model(m *cimi.Machine) *machine.Machine {
	p := m.Properties
	out := &machine.Machine{Name: m.Name, UUID: p[propUUID], FirmwareUUID: p[propUUID], CPUs: m.CPU,
		MemoryBytes: m.Memory << 10, Firmware: p[propFirmware], Guest: p[propGuest], Disks: []machine.Disk{},
		NICs: []machine.NIC{}}
	if out.Name == "" {
		out.Name = path.Base(m.ID)
	}
	if _, err := uuid.Parse(out.UUID); err != nil {
		out.UUID = uuid.NewSHA1(uuid.NameSpaceURL, []byte(m.ID)).String()
	}
	if out.Firmware != "uefi" {
		out.Firmware = "bios"
	}
	if m.CPUArch != "x86_64" {
		out.Architecture = m.CPUArch
	}
	var pp machine.Passport
	if json.Unmarshal([]byte(p[propPassport]), &pp) == nil && pp.Lineage != "" {
		out.Passport = &pp
	}
	for i, v := range m.Volumes.Members {
		bytes := h.volumes[v.Volume.Href].Capacity * 1000
		out.Disks = append(out.Disks, machine.Disk{ID: fmt.Sprintf("disk%d", i+1), File: v.Volume.Href, Format: "raw",
			VirtualBytes: bytes, FileBytes: bytes, Slot: i})
	}
	for i, n := range m.NetworkInterfaces.Members {
		network := h.networks[n.Network.Href]
		name := network.Name
		if name == "" {
			name = path.Base(n.Network.Href)
		}
		vlan, _ := strconv.Atoi(network.Properties[propVLAN])
		out.NICs = append(out.NICs, machine.NIC{Name: fmt.Sprintf("NIC %d", i+1), MAC: strings.ToLower(n.MACAddress),
			Network: name, VLAN: vlan})
	}
	return out
}

func (p *place) Survey(ctx context.Context) (map[string]*hostlink.Survey, string, error) {
	client, err := p.client(p.m)
	if err != nil {
		return nil, p.m.Version, err
	}
	return managerHolds(ctx, client)
}

func (p *place) Look(ctx context.Context, c *inventory.Copy) (*away.Standing, error) {
	client, err := p.client(p.m)
	if err != nil {
		return nil, err
	}
	s := &away.Standing{State: c.State, Paths: map[string]string{}}
	for _, d := range c.Machine.Disks {
		s.Paths[d.ID] = d.File
	}
	there, err := cimi.Get[cimi.Machine](ctx, client, c.Path)
	if err != nil {
		s.Unreachable = true
		return s, nil
	}
	s.State = stateOf(there.State)
	s.Live = there.Can(cimi.RelCapture) != "" && there.State == cimi.Started
	s.May = there.Can(cimi.RelCapture) != "" || there.Can(cimi.RelStop) != ""
	return s, nil
}

func (p *place) Receives(ctx context.Context) (*away.Receiving, error) {
	client, err := p.client(p.m)
	if err != nil {
		return nil, err
	}
	entry, _, err := client.EntryPoint(ctx)
	if err != nil {
		return &away.Receiving{Unreachable: true, May: true}, nil
	}
	r := &away.Receiving{}
	machines, own, err := cimi.List[cimi.Machine](ctx, client, entry.Machines, "")
	if err == nil {
		r.May = own.Can(cimi.RelAdd) != ""
	}
	for _, m := range machines {
		r.Names = append(r.Names, m.Name)
	}
	return r, nil
}
