package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

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
	wire := func(n *machine.NIC, segment string, f fit.Finding) string {
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
			to = wire(n, match.Segment, f)
		case match.Switch == "":
			f := fit.Raise("network.unmapped", n.Name, fmt.Sprintf("No switch of %s reaches the network %s.", h.Name,
				orNone(n.Network)), detail)
			if likely := wiring.Likely(*n, h.Switches); len(likely) > 0 {
				f.Message += fmt.Sprintf(" The likeliest is %s.", likely[0].Name)
				f.Suggest("switch", "Connect it to "+likely[0].Name, likely[0].Name)
			}
			to = wire(n, "", f)
		case len(match.Likely) > 0:
			f := fit.Raise("network.ambiguous", n.Name, fmt.Sprintf("Several switches of %s fit the network %s %s.",
				h.Name, n.Network, match.Why), detail)
			f.Suggest("switch", "Connect it to "+match.Switch, match.Switch)
			f.Recommend("switch")
			to = wire(n, "", f)
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

// addresses decides which fixed addresses NICs are to have: typed ones, or one
// that the segment has to give.
func (b *builder) addresses(facts Arrival, req BringRequest, m *machine.Machine) error {
	for nic, wish := range req.Addresses {
		at := slices.IndexFunc(m.NICs, func(n machine.NIC) bool { return n.Name == nic })
		if at < 0 {
			return fmt.Errorf("the machine has no NIC %q; it has %s", nic, nicNames(m))
		}
		segment := m.NICs[at].Segment
		if wish == "give" {
			told := req.filled != nil && req.filled.Addresses[nic] != ""
			if err := b.giveAddress(facts, nic, segment, told); err != nil {
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

// giveAddress gives a NIC an address of its segment, which the guest is told at its first start, or by somebody.
func (b *builder) giveAddress(facts Arrival, nic, segment string, told bool) error {
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
	how := "Set it inside the guest."
	if told {
		how = "The guest is told at its first start."
	}
	b.raise(fit.Raise("address.given", nic, fmt.Sprintf("It is given an address of the segment %s: %s, unless "+
		"somebody is quicker. %s", segment, r.Free, how),
		map[string]any{"address": r.Free.String(), "segment": segment}), "")
	return nil
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
			if err := b.giveAddress(facts, m.NICs[giver].Name, m.NICs[giver].Segment, false); err != nil {
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
