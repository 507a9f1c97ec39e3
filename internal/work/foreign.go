package work

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
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
			hosts[host] = &hostlink.Survey{Full: true, Changed: true, Hello: &hostlink.Hello{Driver: inventory.ManagerCIMI, Time: time.Now(), Protocol: hostlink.Protocol}, Switches: slices.Clone(switches)}
		}
		f := hostlink.Folder{Path: m.ID, Registered: true, FilesThere: true, PoolThere: true, State: stateOf(m.State), Machine: h.model(m)}
		for _, d := range f.Machine.Disks {
			f.Bytes += d.VirtualBytes
		}
		hosts[host].Machines = append(hosts[host].Machines, f)
	}
	return hosts, version, number(hosts)
}

// number gives surveys a revision that changes with what is told.
func number(hosts map[string]*hostlink.Survey) error {
	for _, s := range hosts {
		slices.SortFunc(s.Machines, func(a, b hostlink.Folder) int { return strings.Compare(a.Path, b.Path) })
		sum := fnv.New64a()
		if err := json.NewEncoder(sum).Encode([]any{s.Machines, s.Switches}); err != nil {
			return err
		}
		s.Revision = fmt.Sprintf("%x", sum.Sum64())
	}
	return nil
}

// stateOf a machine in our words.
func stateOf(state string) string {
	switch state {
	case cimi.Started:
		return "running"
	case cimi.Stopped:
		return "stopped"
	case cimi.Paused:
		return "paused"
	case cimi.Suspended:
		return "suspended"
	}
	return "unknown"
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
	out := &machine.Machine{Name: m.Name, UUID: p[propUUID], FirmwareUUID: p[propUUID], CPUs: m.CPU, MemoryBytes: m.Memory << 10, Firmware: p[propFirmware], Guest: p[propGuest], Disks: []machine.Disk{}, NICs: []machine.NIC{}}
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
		out.Disks = append(out.Disks, machine.Disk{ID: fmt.Sprintf("disk%d", i+1), File: v.Volume.Href, Format: "raw", VirtualBytes: bytes, FileBytes: bytes, Slot: i})
	}
	for i, n := range m.NetworkInterfaces.Members {
		network := h.networks[n.Network.Href]
		name := network.Name
		if name == "" {
			name = path.Base(n.Network.Href)
		}
		vlan, _ := strconv.Atoi(network.Properties[propVLAN])
		out.NICs = append(out.NICs, machine.NIC{Name: fmt.Sprintf("NIC %d", i+1), MAC: strings.ToLower(n.MACAddress), Network: name, VLAN: vlan})
	}
	return out
}

// atManager tells whether a copy is at a manager, and at which.
func (w *Work) atManager(ctx context.Context, c *inventory.Copy) (*inventory.Manager, *inventory.Host, error) {
	if c.HostID == nil {
		return nil, nil, nil
	}
	h, err := w.inv.Host(ctx, c.HostID.String())
	if err != nil || h.ManagerID == nil {
		return nil, h, err
	}
	m, err := w.inv.Manager(ctx, h.ManagerID.String())
	return m, h, err
}

// fromManager is what plans of a machine at a manager are worked out from.
func (w *Work) fromManager(ctx context.Context, req *Request, c *inventory.Copy, m *inventory.Manager, at, h *inventory.Host, host plan.HostFacts, several bool) (*plan.RegisterFacts, error) {
	facts := &plan.RegisterFacts{Where: c.Ref(), Manager: &plan.ManagerFacts{Name: m.Name, Ahead: map[string]plan.AheadOne{}}}
	facts.Host, facts.Caller, facts.Wanted = host, req.caller, req.wanted()
	if several {
		facts.Of = c.Name
	}
	facts.Parent, facts.Lineage = c.ID.String(), c.LineageID.String()
	facts.From = &plan.HostFacts{ID: at.ID.String(), Name: at.Name, State: at.State}
	var err error
	if facts.Busy, err = inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(c.ID.String())); err != nil {
		return nil, err
	}
	if req.Via != "" && !strings.EqualFold(req.Via, h.Name) {
		v, err := w.inv.Host(ctx, req.Via)
		switch {
		case err != nil:
			return nil, err
		case v.ManagerID != nil || m.Kind == inventory.ManagerUnvora || req.Operation == "fetch-ahead":
			return nil, wrong("--via names a host with an agent of ours, to read and convert what a foreign manager sends when it is imported.")
		}
		via, err := w.hostFacts(ctx, v)
		if err != nil {
			return nil, err
		}
		facts.Via = &via
	}
	model, state := c.Machine, c.State
	if m.Kind == inventory.ManagerUnvora {
		facts.Manager.Peer, facts.Manager.May = true, m.LetsTake
	} else if client, err := w.client(m); err != nil {
		return nil, err
	} else if there, err := cimi.Get[cimi.Machine](ctx, client, c.Path); err != nil {
		facts.From.State = "unreachable"
	} else {
		state = stateOf(there.State)
		facts.Manager.Live = there.Can(cimi.RelCapture) != "" && there.State == cimi.Started
		facts.Manager.May = there.Can(cimi.RelCapture) != "" || there.Can(cimi.RelStop) != ""
	}
	folder := plan.Folder{Path: c.Path, State: state, Machine: model}
	for _, d := range model.Disks {
		source := d.File
		if facts.Manager.Peer {
			source = path.Join(c.Path, d.File)
		}
		folder.Disks = append(folder.Disks, plan.FolderDisk{ID: d.ID, File: d.File, Path: source, Format: host.Family.Formats[0], VirtualBytes: d.VirtualBytes, FileBytes: d.FileBytes})
	}
	facts.Folder = folder
	ahead, err := w.inv.AheadOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	for _, a := range ahead {
		if a.HostID != h.ID {
			facts.Manager.Stale = append(facts.Manager.Stale, plan.StaleOne{Host: a.Host, Path: a.Path, Image: a.Image})
		} else {
			facts.Manager.Ahead[a.Disk] = plan.AheadOne{Path: a.Path, Image: a.Image, When: a.At.Format("on 2 January 2006, 15:04")}
		}
	}
	return facts, nil
}

// drawManaged plans the import, or the fetching ahead, of one machine at a manager.
func (w *Work) drawManaged(ctx context.Context, req *Request, c *inventory.Copy, m *inventory.Manager, at, h *inventory.Host, host plan.HostFacts, several bool) (*drawn, error) {
	if req.Files == plan.Move && m.Kind == inventory.ManagerCIMI {
		return nil, wrong("A machine is copied from a foreign manager, and stays there: remove it there once the copy here has run.")
	}
	facts, err := w.fromManager(ctx, req, c, m, at, h, host, several)
	if err != nil {
		return nil, err
	}
	d := &drawn{hosts: map[string]uuid.UUID{h.Name: h.ID, at.Name: at.ID}, holds: []string{inventory.CopyKey(c.ID.String())}}
	for _, a := range facts.Manager.Stale {
		other, err := w.inv.Host(ctx, a.Host)
		if err != nil {
			return nil, err
		}
		d.hosts[a.Host] = other.ID
	}
	bring, err := req.bring()
	if err != nil {
		return nil, err
	}
	if req.Operation == "fetch-ahead" {
		if facts.Landing, err = w.inv.LandingRules(ctx); err != nil {
			return nil, err
		}
		if d.Plan, err = plan.FetchAhead(*facts, bring); err != nil {
			return nil, wrong("%v", err)
		}
		return d, nil
	}
	self := ""
	if req.Files == plan.Move { // what is taken away does not collide
		self = c.ID.String()
	}
	if err := w.arrive(ctx, &facts.Arrival, h, c.Machine, self); err != nil {
		return nil, err
	}
	k := c.Known()
	facts.Parent, facts.Lineage = k.ID, k.Lineage
	if facts.Origin = lineage.FindOrigin(c.Machine, &k, facts.SameUUID); self != "" {
		facts.Origin = lineage.Origin{Status: "gone", Copy: &k}
	}
	taken, failed := w.taken(ctx, h, poolFor(host, req.Pool))
	facts.Taken = taken
	bring.Files = plan.Copy
	if req.Files == plan.Move {
		bring.Files = plan.Move
	}
	if d.Plan, err = plan.Register(*facts, bring); err != nil {
		return nil, wrong("%v", err)
	}
	d.holdPlaces()
	return d, *failed
}

// drawPutBack plans to give a machine back to the manager that it came from.
func (w *Work) drawPutBack(ctx context.Context, req *Request) (*drawn, error) {
	c, h, host, busy, err := w.registered(ctx, req, "registered")
	if err != nil {
		return nil, err
	}
	facts := plan.PutBackFacts{Copy: c.Known(), Machine: c.Machine, Host: host, Pool: poolStateOf(host, c), Busy: busy}
	var m *inventory.Manager
	var at *inventory.Host
	if req.Manager != "" {
		if m, err = w.inv.Manager(ctx, req.Manager); err != nil {
			return nil, err
		}
	}
	above, err := w.inv.Ancestors(ctx, c.ID.String())
	if err != nil {
		return nil, err
	}
	for _, o := range above[min(1, len(above)):] { // which of its origins was at a manager
		from, there, err := w.atManager(ctx, &o)
		if err != nil {
			return nil, err
		}
		if from != nil && from.Kind == inventory.ManagerCIMI && (m == nil || m.ID == from.ID) {
			m, at = from, there
			if o.GoneAt == nil {
				k := o.Known()
				facts.Origin = &k
			}
			break
		}
	}
	switch {
	case m == nil:
		return nil, wrong("%s came from no manager that is known here. Name the one that it is for: --to MANAGER", c.Ref())
	case m.Kind != inventory.ManagerCIMI:
		return nil, wrong("%s is another Unvora: there, people import it from here.", m.Name)
	}
	if at == nil {
		hosts, err := w.inv.ManagedHosts(ctx, m)
		if err != nil {
			return nil, err
		}
		if len(hosts) == 0 {
			return nil, wrong("%s has told of no host yet.", m.Name)
		}
		at = &hosts[0]
	}
	facts.Manager = m.Name
	facts.There = plan.HostFacts{ID: at.ID.String(), Name: at.Name, State: at.State}
	switches, err := w.inv.Switches(ctx, at.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range switches {
		facts.There.Switches = append(facts.There.Switches, s.Wiring())
	}
	client, err := w.client(m)
	if err != nil {
		return nil, err
	}
	names := map[string]bool{}
	if entry, _, err := client.EntryPoint(ctx); err != nil {
		facts.There.State, facts.May = "unreachable", true
	} else if machines, own, err := cimi.List[cimi.Machine](ctx, client, entry.Machines, ""); err == nil {
		facts.May = own.Can(cimi.RelAdd) != ""
		for _, x := range machines {
			names[x.Name] = true
		}
	}
	facts.Taken = func(name string) bool { return names[name] }
	bring, err := req.bring()
	if err != nil {
		return nil, err
	}
	d := &drawn{hosts: map[string]uuid.UUID{h.Name: h.ID, at.Name: at.ID}, holds: []string{inventory.CopyKey(c.ID.String())}}
	if d.Plan, err = plan.PutBack(facts, bring); err != nil {
		return nil, wrong("%v", err)
	}
	return d, nil
}
