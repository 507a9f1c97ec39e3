package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

// What every operation that makes a registered copy works out in the same way:
// identity, name, hardware, wiring and place.

func giveWhat(c identity.Choice) string {
	renewed := c.Renewed()
	if len(renewed) == 0 {
		return "Keep the identity; fill in what is not stated"
	}
	for i, f := range renewed {
		renewed[i] = identity.Facet(f).Words()
	}
	return "Give out a new " + strings.Join(renewed, ", ")
}

// place names a copy and how it is, for a message.
func place(k lineage.Known) string {
	s := k.Name
	if k.Host != "" {
		s = k.Host + "/" + k.Name
	}
	if k.State != "" && k.State != "unknown" {
		s += " (" + k.State + ")"
	}
	return s
}

func (b *builder) identity(facts Arrival, req BringRequest, m *machine.Machine) (identity.Choice, error) {
	var f fit.Finding
	switch o := facts.Origin; o.Status {
	case "alive":
		f = fit.Raise("identity.origin-alive", m.Name, fmt.Sprintf("It was made from %s, which could run beside it: "+
			"with "+
			"the same ids, the two would collide.", place(*o.Copy)),
			map[string]any{"origin": o.Copy.ID, "host": o.Copy.Host, "lastSeen": o.Copy.LastSeen})
	case "gone":
		f = fit.Raise("identity.origin-gone", m.Name, fmt.Sprintf("It was made from %s, which is gone: this copy can "+
			"take "+
			"its place.", place(*o.Copy)), map[string]any{"origin": o.Copy.ID})
	default:
		f = fit.Raise("identity.origin-unknown", m.Name, "Nothing is known of where it comes from.", nil)
		if len(facts.SameUUID) > 0 || len(facts.SameMAC) > 0 {
			f.Message += " Some of its ids are in use here."
			f.Recommend("renew")
		} else {
			f.Message += " None of its ids is in use here."
		}
	}
	f = b.raise(f, req.Identity)
	all := f.Remedy()
	if all == "" {
		all = identity.Renew // until it is answered, show what renewing would mean
	}
	choice, err := identity.Choose(all, req.Facets)
	if err != nil {
		return nil, err
	}
	told := b.bound(facts, req, m, choice)
	answered := f.Answer != ""
	preset := func(facet identity.Facet) string {
		if answered && choice[facet] == identity.Renew || req.Facets[facet] != "" {
			return choice[facet]
		}
		return ""
	}
	if len(facts.SameUUID) > 0 && choice[identity.MachineUUID] == identity.Keep {
		u := b.raise(fit.Raise("identity.uuid-in-use", m.Name,
			fmt.Sprintf("Its machine UUID is that of %s.", place(facts.SameUUID[0])), map[string]any{"uuid": m.UUID}),
			preset(identity.MachineUUID))
		if u.Remedy() == "renew" {
			choice[identity.MachineUUID], choice[identity.FirmwareUUID] = identity.Renew, identity.Renew
		}
	}
	for _, n := range m.NICs {
		var g fit.Finding
		if holders := facts.SameMAC[n.MAC]; len(holders) > 0 {
			names := make([]string, len(holders))
			for i, h := range holders {
				names[i] = place(h)
			}
			g = fit.Raise("mac.in-use", n.Name, fmt.Sprintf("Its MAC %s belongs to %s.", n.MAC, listed(names)),
				map[string]any{"mac": n.MAC})
		} else if n.MAC != "" && machine.CheckMAC(n.MAC) != nil {
			g = fit.Raise("mac.invalid", n.Name, sentence(machine.CheckMAC(n.MAC).Error()),
				map[string]any{"mac": n.MAC})
		} else {
			continue
		}
		kept := facts.Bound[identity.MAC]
		if kept != "" && told[identity.MAC] {
			continue // it was asked already
		}
		if kept != "" { // it both must be kept and collides: nothing is recommended
			g.Message += fmt.Sprintf(" A %s is bound to it.", kept)
			g.Explicit()
		}
		if g = b.raise(g, preset(identity.MAC)); g.Remedy() != "" {
			choice[identity.MAC] = g.Remedy()
		}
	}
	if g := facts.Guest; g != nil && g.Name != "" {
		b.raise(fit.Raise("identity.guest-inside", m.Name, fmt.Sprintf("Inside, the guest goes on calling itself %s, "+
			"with "+
			"the machine-id and host keys that it has.", g.Name), map[string]any{"name": g.Name}), "")
	}
	return choice, nil
}

// bound keeps facets to which a licence, a reservation or a TPM is bound, and
// tells about which of them it asked.
func (b *builder) bound(facts Arrival, req BringRequest, m *machine.Machine,
	choice identity.Choice) map[identity.Facet]bool {
	told := map[identity.Facet]bool{}
	for _, facet := range identity.Facets {
		kind := facts.Bound[facet]
		if kind == "" || choice[facet] != identity.Renew {
			continue
		}
		code, what := "identity.activation", facet.Words()
		if facet == identity.MAC {
			code = "mac.licence-bound"
		}
		f := fit.Raise(code, m.Name, fmt.Sprintf("A %s is bound to its %s, which would be renewed.", kind, what),
			map[string]any{"facet": string(facet), "bound": kind})
		if facts.Origin.Status == "alive" && facet != identity.TPM {
			f.Message += fmt.Sprintf(" Kept, it collides with %s.", place(*facts.Origin.Copy))
			f.Explicit()
		}
		told[facet] = true
		choice[facet] = identity.Keep
		if f = b.raise(f, req.Facets[facet]); f.Remedy() != "" {
			choice[facet] = f.Remedy()
		}
	}
	return told
}

func (b *builder) name(facts Arrival, req BringRequest, m *machine.Machine) {
	if req.Name != "" {
		m.Name = req.Name
	} else if slices.Contains(m.Snapshots, m.Name) && facts.Called != "" && facts.Called != m.Name {
		f := fit.Raise("name.from-snapshot", m.Name, fmt.Sprintf("It bears the name of a snapshot that it was made "+
			"from; "+
			"the machine is called %s.", facts.Called), nil)
		f.Suggest("rename", "Call it "+facts.Called, facts.Called)
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
		}
	}
	if err := machine.CheckName(m.Name); err != nil {
		f := fit.Raise("name.unfit", m.Name, sentence(err.Error()), nil)
		f.Suggest("rename", "Call it "+machine.CleanName(m.Name), machine.CleanName(m.Name))
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
		} else {
			m.Name = machine.CleanName(m.Name)
		}
	}
	if facts.taken(m.Name) {
		free := freeName(m.Name, facts.taken)
		f := fit.Raise("name.taken", m.Name, fmt.Sprintf("%s has a machine or a folder of that name.", facts.Host.Name),
			nil)
		f.Suggest("rename", "Call it "+free, free)
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
			switch {
			case machine.CheckName(m.Name) != nil:
				b.err = fmt.Errorf("name.taken: %w", machine.CheckName(m.Name))
			case facts.taken(m.Name):
				b.err = fmt.Errorf("name.taken: %s is taken too", m.Name)
			}
		}
	}
}

func (b *builder) hardware(facts Arrival, req BringRequest, m *machine.Machine) {
	if req.CPUs > 0 {
		m.CPUs = req.CPUs
	}
	if req.MemoryBytes > 0 {
		m.MemoryBytes = req.MemoryBytes
	}
	b.judge(facts.Host, facts.Guest, m)
}

// judge goes through the rules of hardware, settling each before the next.
func (b *builder) judge(h HostFacts, g *fit.Guest, m *machine.Machine) {
	for _, r := range fit.Rules {
		for _, f := range r.Look(m, h.fit(), g) {
			f = b.raise(f, "")
			if r.Settle == nil || f.Remedy() == "" {
				continue
			}
			if err := r.Settle(m, f); err != nil && b.err == nil {
				b.err = err
			}
		}
	}
}

func (b *builder) wiring(facts Arrival, req BringRequest, m *machine.Machine) error {
	h := facts.Host
	names := make([]string, len(h.Switches))
	quarantine := false
	for i, s := range h.Switches {
		names[i] = s.Name
		quarantine = quarantine || s.Segment == wiring.Quarantine
	}
	for nic := range req.Wire {
		if !hasNIC(m, nic) {
			return fmt.Errorf("the machine has no NIC %q; it has %s", nic, nicNames(m))
		}
	}
	settle := func(n *machine.NIC, segment string, f fit.Finding) string {
		if f.Code != "network.ambiguous" {
			f.Recommend("unplugged")
			if quarantine { // nothing is lost there, and nothing gets out
				f.Recommend("quarantine")
			} else {
				f.Withdraw("quarantine")
			}
		}
		if f = b.raise(f, ""); f.Remedy() == "create" {
			s := wiring.Switch{Name: f.Value(), Segment: segment, VLAN: n.VLAN, Uplink: freePort(h),
				Tagged: n.VLAN != 0}
			if name, port, ok := strings.Cut(s.Name, "@"); ok {
				s.Name, s.Uplink = name, port
			}
			if _, there := h.switchOf(s.Name); !there {
				h.Switches = append(slices.Clone(h.Switches), s)
				b.switches = append(b.switches, s)
			}
			return s.Name
		}
		return b.wired(f, h.Switches)
	}
	for i := range m.NICs {
		n := &m.NICs[i]
		match := wiring.Find(*n, h.Name, h.Switches, facts.Rules)
		detail := map[string]any{"network": n.Network, "switches": names, "why": match.Why}
		to := req.Wire[n.Name]
		switch {
		case to != "":
			if s, ok := h.switchOf(to); ok && n.Segment != "" && s.Segment != n.Segment &&
				s.Segment != wiring.Quarantine {
				f := b.raise(fit.Raise("network.segment-differs", n.Name,
					fmt.Sprintf("The switch %s reaches %s; at its origin the NIC was on %s.", to,
						segmentOf(s.Segment, s.VLAN),
						segmentOf(n.Segment, n.VLAN)), detail), "")
				if f.Remedy() == "switch" {
					to = f.Value()
				}
			}
		case n.Network == "" && n.Segment == "" && n.VLAN == 0 && n.MAC != "":
			continue // it was unplugged, and stays so
		case match.Switch == "" && match.Segment != "":
			f := fit.Raise("network.switch-absent", n.Name, fmt.Sprintf("Its network belongs on the segment %s, %s; "+
				"%s has no "+
				"switch that reaches it.", match.Segment, match.Why, h.Name), detail)
			if port := freePort(h); port != "" {
				f.Suggest("create", fmt.Sprintf("Make the switch %s, with the port %s to lead out", match.Segment,
					port),
					match.Segment)
			} else {
				f.Withdraw("create")
			}
			to = settle(n, match.Segment, f)
		case match.Switch == "":
			f := fit.Raise("network.unmapped", n.Name, fmt.Sprintf("No switch of %s reaches the network %s.", h.Name,
				orNone(n.Network)), detail)
			if likely := wiring.Likely(*n, h.Switches); len(likely) > 0 {
				f.Message += fmt.Sprintf(" The likeliest is %s.", likely[0].Name)
				f.Suggest("switch", "Connect it to "+likely[0].Name, likely[0].Name)
			}
			to = settle(n, "", f)
		case len(match.Likely) > 0:
			f := fit.Raise("network.ambiguous", n.Name, fmt.Sprintf("Several switches of %s fit the network %s %s.",
				h.Name,
				n.Network, match.Why), detail)
			f.Suggest("switch", "Connect it to "+match.Switch, match.Switch)
			f.Recommend("switch")
			to = settle(n, "", f)
		default:
			to = match.Switch
			detail["switch"] = to
			b.raise(fit.Raise("network.mapped", n.Name, fmt.Sprintf("The network %s becomes the switch %s, %s.",
				orNone(n.Network), to, match.Why), detail), "")
		}
		if err := plug(n, to, h); err != nil {
			return err
		}
	}
	if err := b.addresses(facts, req, m); err != nil {
		return err
	}
	return b.static(facts, m)
}

// freePort is a port of the host that no switch has, and that the host is not
// reached by; "" when there is none, or its driver makes no switches.
func freePort(h HostFacts) string {
	for _, p := range h.Ports {
		used := slices.ContainsFunc(h.Switches, func(s wiring.Switch) bool { return s.Uplink == p.Name })
		if !used && p.Address == "" {
			return p.Name
		}
	}
	return ""
}

// addresses settles which fixed addresses NICs are to have: typed ones, or one
// that the segment has to give.
func (b *builder) addresses(facts Arrival, req BringRequest, m *machine.Machine) error {
	for nic, wish := range req.Addresses {
		at := slices.IndexFunc(m.NICs, func(n machine.NIC) bool { return n.Name == nic })
		if at < 0 {
			return fmt.Errorf("the machine has no NIC %q; it has %s", nic, nicNames(m))
		}
		segment := m.NICs[at].Segment
		if wish == "give" {
			if err := b.giveAddress(facts, nic, segment); err != nil {
				return err
			}
			continue
		}
		address, err := netip.ParseAddr(wish)
		if err != nil {
			return fmt.Errorf("address of %s: %q is neither an address nor “give”", nic, wish)
		}
		if !slices.Contains(m.Static, address.String()) {
			m.Static = append(m.Static, address.String()) // looked at with the others
		}
		b.give[nic] = address.String()
	}
	return nil
}

func (b *builder) giveAddress(facts Arrival, nic, segment string) error {
	r, ok := facts.Ranges[segment]
	switch {
	case segment == "":
		return fmt.Errorf("%s is unplugged: there is no segment to give it an address", nic)
	case !ok:
		return fmt.Errorf("the segment %s has no addresses to give out: unvora wiring segment %s SUBNET --range "+
			"FROM-TO",
			segment, segment)
	case !r.Free.IsValid():
		b.raise(fit.Raise("address.none-free", nic, fmt.Sprintf("All addresses from %s to %s, which the segment %s "+
			"has to "+
			"give out, are taken.", r.From, r.To, segment), nil), "")
		return nil
	}
	b.give[nic] = segment
	b.raise(fit.Raise("address.given", nic, fmt.Sprintf("It is given an address of the segment %s: %s, unless "+
		"somebody "+
		"is quicker. Set it inside the guest.", segment, r.Free),
		map[string]any{"address": r.Free.String(), "segment": segment}), "")
	return nil
}

// owner settles whose the machine is, and whether there is room for it in that
// one's share of the host.
func (b *builder) owner(facts Arrival, req BringRequest, m *machine.Machine) string {
	owner := req.Owner
	if h := facts.Host; owner == "" && len(h.Owners) > 0 {
		f := fit.Raise("owner.none", m.Name, fmt.Sprintf("On %s a machine must be somebody's: %s.", h.Name,
			strings.Join(h.Owners, ", ")), map[string]any{"owners": h.Owners})
		f.Suggest("caller", "Make it "+facts.Caller+"'s", facts.Caller)
		if f = b.raise(f, ""); f.Remedy() != "" {
			owner = f.Value()
		}
	}
	for range facts.Host.Quotas { // another one's share may be used up too
		q := slices.IndexFunc(facts.Host.Quotas, func(q fit.Quota) bool { return q.Owner == owner })
		if q < 0 {
			break
		}
		share, used := facts.Host.Quotas[q], facts.Usage[owner]
		var says string
		switch {
		case share.Machines > 0 && used.Machines+1 > share.Machines:
			says = fmt.Sprintf("%s may have %s on %s and has %d.", owner, count(share.Machines, "machine"),
				facts.Host.Name,
				used.Machines)
		case share.MemoryBytes > 0 && used.MemoryBytes+m.MemoryBytes > share.MemoryBytes:
			says = fmt.Sprintf("The machines of %s may have %s of memory on %s; they have %s, and this one wants %s.",
				owner,
				fit.Size(share.MemoryBytes), facts.Host.Name, fit.Size(used.MemoryBytes), fit.Size(m.MemoryBytes))
		default:
			return owner
		}
		f := b.raise(fit.Raise("quota.exceeded", owner, says, nil), "")
		if f.Remedy() != "owner" {
			break
		}
		owner = f.Value()
	}
	return owner
}

func segmentOf(name string, vlan int) string {
	if vlan == 0 {
		return name
	}
	return fmt.Sprintf("%s (VLAN %d)", name, vlan)
}

func (h HostFacts) switchOf(name string) (wiring.Switch, bool) {
	for _, s := range h.Switches {
		if s.Name == name {
			return s, true
		}
	}
	return wiring.Switch{}, false
}

// plug connects a NIC to a switch of the host; "" unplugs it.
func plug(n *machine.NIC, to string, h HostFacts) error {
	n.Network, n.Segment, n.VLAN = "", "", 0
	if to == "" {
		return nil
	}
	s, ok := h.switchOf(to)
	if !ok {
		names := make([]string, len(h.Switches))
		for i, s := range h.Switches {
			names[i] = s.Name
		}
		return fmt.Errorf("%s has no switch %q; it has %s", h.Name, to, strings.Join(names, ", "))
	}
	n.Network, n.Segment, n.VLAN = s.Name, s.Segment, s.VLAN
	return nil
}

// static looks at the guest's fixed addresses: each should lie in the subnet of
// a segment that the machine is on now, and be nobody else's.
func (b *builder) static(facts Arrival, m *machine.Machine) error {
	for _, text := range m.Static {
		address, err := netip.ParseAddr(text)
		if err != nil {
			continue // as somebody typed it; it says nothing
		}
		problem := "lies in no subnet of the segments that it would be on"
		known, isolated := false, len(m.NICs) > 0
		for _, n := range m.NICs {
			isolated = isolated && (n.Segment == wiring.Quarantine || n.Network == "")
			if subnet, ok := facts.Subnets[n.Segment]; ok {
				known = true
				if subnet.Contains(address) {
					problem = ""
				}
			}
		}
		if who := facts.AddressOf[text]; who != "" {
			problem, known = "is that of "+who, true
		}
		if problem == "" || !known || isolated {
			continue
		}
		f := fit.Raise("address.static", m.Name, fmt.Sprintf("The guest has the fixed address %s, which %s.", text,
			problem),
			map[string]any{"address": text})
		giver := slices.IndexFunc(m.NICs, func(n machine.NIC) bool {
			return facts.Ranges[n.Segment].Free.IsValid() && (b.give[n.Name] == "" || b.give[n.Name] == text)
		})
		if giver < 0 {
			f.Withdraw("give")
		}
		switch f = b.raise(f, ""); f.Remedy() {
		case "give":
			m.Static = slices.DeleteFunc(slices.Clone(m.Static), func(s string) bool { return s == text })
			if err := b.giveAddress(facts, m.NICs[giver].Name, m.NICs[giver].Segment); err != nil {
				return err
			}
		case "quarantine":
			for i := range m.NICs {
				if err := plug(&m.NICs[i], b.wired(f, facts.Host.Switches), facts.Host); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// wired is the switch that an answer leads to; "" is unplugged or undecided.
func (b *builder) wired(f fit.Finding, switches []wiring.Switch) string {
	switch f.Remedy() {
	case "switch":
		return f.Value()
	case "quarantine":
		for _, s := range switches {
			if s.Segment == wiring.Quarantine {
				return s.Name
			}
		}
		b.err = fmt.Errorf("%s: the host has no switch into quarantine", f.Code)
	}
	return ""
}

func orNone(s string) string {
	if s == "" {
		return "(none stated)"
	}
	return s
}

func hasNIC(m *machine.Machine, name string) bool {
	for _, n := range m.NICs {
		if n.Name == name {
			return true
		}
	}
	return false
}

func nicNames(m *machine.Machine) string {
	names := make([]string, len(m.NICs))
	for i, n := range m.NICs {
		names[i] = fmt.Sprintf("%q", n.Name)
	}
	return strings.Join(names, ", ")
}

// host raises what keeps a host from taking something new.
func (b *builder) host(h HostFacts) {
	if h.State == "resting" {
		b.raise(fit.Raise("host.resting", h.Name, fmt.Sprintf("%s is set to rest and takes nothing new. Choose "+
			"another "+
			"host, or wake it: unvora host wake %s", h.Name, h.Name), nil), "")
	}
	b.reach(h)
}

// busy raises that a job is at work on the subject; "" for none.
func (b *builder) busy(subject, job string) {
	if job != "" {
		b.raise(fit.Raise("busy.job", subject, fmt.Sprintf("The job %s is at work on it. Wait for it, or cancel it: "+
			"unvora "+
			"jobs cancel %s", job, job), map[string]any{"job": job}), "")
	}
}

// reach raises what keeps a host from working on what it has.
func (b *builder) reach(h HostFacts) {
	if h.State == "unreachable" {
		b.raise(fit.Raise("host.unreachable", h.Name, fmt.Sprintf("The agent on %s does not answer. Start it, or "+
			"look at "+
			"its log; then try again.", h.Name), nil), "")
	}
	if h.WantsProtocol > 0 && h.Protocol < h.WantsProtocol {
		b.raise(fit.Raise("host.older", h.Name, fmt.Sprintf("The agent on %s speaks protocol %d, the service %d. "+
			"Update it.",
			h.Name, h.Protocol, h.WantsProtocol), nil), "")
	}
	if h.ClockOff > 60 || h.ClockOff < -60 {
		b.raise(fit.Raise("host.clock", h.Name, fmt.Sprintf("The clock of %s is off by %d s.", h.Name, h.ClockOff),
			map[string]any{"seconds": h.ClockOff}), "")
	}
}

// pathLength raises paths that the host can't take.
func (b *builder) pathLength(folder string, m *machine.Machine, h HostFacts) {
	longest := len(folder) + len("/") + len(m.Name) + len(".ovf")
	for _, d := range m.Disks {
		longest = max(longest, len(folder)+len("/")+len(d.File))
	}
	if most := h.Family.MaxPath; most > 0 && longest > most {
		b.raise(fit.Raise("path.too-long", m.Name, fmt.Sprintf("Its longest path would have %d bytes; hosts of the "+
			"family "+
			"%s take %d. Give it a shorter name: --name", longest, h.Family.Name, most), nil), "")
	}
}

// media settles what lies in removable drives: there tells whether a file is here.
func (b *builder) media(m *machine.Machine, there func(file string) bool) {
	for i := range m.Devices {
		d := &m.Devices[i]
		if d.File == "" || d.Kind != machine.DeviceCD && d.Kind != machine.DeviceFloppy || there(d.File) {
			continue
		}
		f := b.raise(fit.Raise("disk.leftover-reference", d.Name,
			fmt.Sprintf("%s lies in it, and is not here.", d.File),
			map[string]any{"file": d.File}), "")
		switch f.Remedy() {
		case "eject":
			d.File = ""
		case "file":
			d.File = f.Value()
		}
	}
}

// poolState raises what keeps a pool from being written to.
func (b *builder) poolState(p PoolFacts, h HostFacts) {
	another := "Choose another pool."
	switch {
	case p.State == "away":
		b.raise(fit.Raise("pool.away", p.Name, fmt.Sprintf("The pool %s of %s is away now. Bring it back, or choose "+
			"another pool.", p.Name, h.Name), nil), "")
	case p.State == "resting":
		b.raise(fit.Raise("pool.resting", p.Name, fmt.Sprintf("The pool %s is set to rest and takes nothing new. %s",
			p.Name,
			another), nil), "")
	case p.State == "read-only":
		b.raise(fit.Raise("pool.read-only", p.Name, fmt.Sprintf("The pool %s of %s can't be written. %s", p.Name,
			h.Name,
			another), nil), "")
	}
	if p.Foreign != "" {
		b.raise(fit.Raise("pool.foreign", p.Name, fmt.Sprintf("The pool %s belongs to the manager %s. %s", p.Name,
			p.Foreign,
			another), nil), "")
	}
	if p.Ownerless {
		b.raise(fit.Raise("pool.ownerless", p.Name, fmt.Sprintf("The file system of the pool %s keeps no owners of "+
			"files: "+
			"whoever reaches the drive reads the disks.", p.Name), nil), "")
	}
	if p.Slow != "" {
		b.raise(fit.Raise("pool.slow", p.Name, fmt.Sprintf("Machines run slowly from the pool %s: %s.", p.Name, p.Slow),
			nil),
			"")
	}
}
