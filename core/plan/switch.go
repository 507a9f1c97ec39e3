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

// SwitchFacts is what MakeASwitch and DropASwitch are worked out from.
type SwitchFacts struct {
	Host  HostFacts
	Users []string // copies with a NIC on the switch
}

// MakeASwitch plans a new virtual switch of a host.
func MakeASwitch(facts SwitchFacts, s wiring.Switch, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	h := facts.Host
	p := &Plan{Operation: "switch-add", Subjects: []string{h.Name + "/" + s.Name}, Target: h.Name}
	b.reach(h)
	if err := machine.CheckName(s.Name); err != nil {
		return nil, fmt.Errorf("name of the switch: %w", err)
	}
	if err := checkSwitch(h, s); err != nil {
		return nil, err
	}
	again := false
	if port, ok := h.port(s.Uplink); ok && cuts(h, port, s) {
		f := fit.Raise("network.cuts-admin", s.Name, fmt.Sprintf("%s is reached by %s, which the port %s bears: with "+
			"the "+
			"switch it would be lost. Give the switch that address (--address), or choose.", h.Name, port.Address,
			port.Name),
			map[string]any{"port": port.Name, "address": port.Address})
		f.Suggest("return", againLabel(h), "")
		if free := freePort(h); free != "" {
			f.Suggest("port", "Take the port "+free+" instead", free)
		}
		switch f = b.raise(f, ""); f.Remedy() {
		case "return":
			again = true
		case "port":
			s.Uplink = f.Value()
			if err := checkSwitch(h, s); err != nil {
				return nil, err
			}
		}
	}
	p.Steps = makeSteps(h, s, again)
	return b.finish(p)
}

// DropASwitch plans to take a virtual switch away.
func DropASwitch(facts SwitchFacts, name string, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	h := facts.Host
	p := &Plan{Operation: "switch-drop", Subjects: []string{h.Name + "/" + name}, Target: h.Name}
	b.reach(h)
	s, ok := h.switchOf(name)
	if !ok {
		return nil, fmt.Errorf("%s has no switch %q; it has %s", h.Name, name, switchNames(h))
	}
	if h.Ports == nil {
		return nil, fmt.Errorf("the hypervisor of %s does not let others make or drop switches: do it there", h.Name)
	}
	if len(facts.Users) > 0 {
		b.raise(fit.Raise("network.switch-in-use", name, fmt.Sprintf("%s of %s are connected to it. Connect them "+
			"elsewhere "+
			"first: unvora nic wire COPY NIC SWITCH", nicsOf(len(facts.Users)), strings.Join(facts.Users, ", ")),
			map[string]any{"copies": facts.Users}), "")
	}
	again := false
	if s.Address != "" && sameAddress(s.Address, h.Reached) {
		f := fit.Raise("network.cuts-admin", name, fmt.Sprintf("%s is reached by %s, which this switch bears: with "+
			"it, the "+
			"address would be lost.", h.Name, s.Address), map[string]any{"address": s.Address})
		f.Offer("return")
		f.Suggest("return", againLabel(h), "")
		f = b.raise(f, "")
		again = f.Remedy() == "return"
	}
	p.Steps = []Step{{Host: h.Name, What: fmt.Sprintf("Take the switch %s of %s away", name, h.Name),
		Do: &DropSwitch{SwitchWork{Switch: s, Return: again}}}}
	if again {
		p.Steps = append(p.Steps, keepStep(h, s, "Reach %s anew, else the switch comes back"))
	}
	return b.finish(p)
}

func againLabel(h HostFacts) string {
	return fmt.Sprintf("Do it, and take it back unless %s is reached again within %d seconds", h.Name,
		max(h.ReturnSeconds, 1))
}

func nicsOf(n int) string {
	if n == 1 {
		return "A NIC"
	}
	return "NICs"
}

// checkSwitch tells why a host can't have the switch.
func checkSwitch(h HostFacts, s wiring.Switch) error {
	if h.Ports == nil {
		return fmt.Errorf("the hypervisor of %s does not let others make or drop switches: do it there", h.Name)
	}
	if _, there := h.switchOf(s.Name); there {
		return fmt.Errorf("%s has a switch %q already; it has %s", h.Name, s.Name, switchNames(h))
	}
	most := h.Family.MaxSwitchName
	if most > 0 && (len(s.Name) > most || strings.ContainsAny(s.Name, " \t")) {
		return fmt.Errorf("name of the switch: hosts of the family %s take at most %d characters, and no spaces",
			h.Family.Name, most)
	}
	if s.VLAN < 0 || s.VLAN > 4094 {
		return fmt.Errorf("VLAN %d: 1 to 4094", s.VLAN)
	}
	if s.Tagged && (s.VLAN == 0 || s.Uplink == "") {
		return fmt.Errorf("a tag needs a VLAN and an uplink port to bear it on")
	}
	if s.Address != "" {
		if _, err := netip.ParsePrefix(s.Address); err != nil {
			return fmt.Errorf("address %q: an address of the host's own on the switch, such as 192.0.2.7/24", s.Address)
		}
	}
	if s.Segment == wiring.Quarantine && (s.Uplink != "" || s.Address != "") {
		return fmt.Errorf("quarantine has no way out: a switch into it has " +
			"neither an uplink nor an address of the host's own")
	}
	if s.Uplink == "" {
		return nil
	}
	if _, ok := h.port(s.Uplink); !ok {
		names := []string{}
		for _, p := range h.Ports {
			names = append(names, p.Name)
		}
		return fmt.Errorf("%s has no port %q; it has %s", h.Name, s.Uplink, strings.Join(names, ", "))
	}
	for _, o := range h.Switches {
		if o.Uplink == s.Uplink && !(o.Tagged && s.Tagged && o.VLAN != s.VLAN) {
			return fmt.Errorf("the port %s leads out of the switch %s; two share a port only when each bears its own "+
				"VLAN's tag",
				s.Uplink, o.Name)
		}
	}
	return nil
}

func (h HostFacts) port(name string) (wiring.Port, bool) {
	for _, p := range h.Ports {
		if p.Name == name && name != "" {
			return p, true
		}
	}
	return wiring.Port{}, false
}

// cuts tells whether the switch takes the address by which the host is reached
// off its port without giving it back.
func cuts(h HostFacts, port wiring.Port, s wiring.Switch) bool {
	return port.Address != "" && sameAddress(port.Address, h.Reached) && !sameAddress(s.Address, h.Reached)
}

// sameAddress compares addresses, with or without a prefix length.
func sameAddress(a, b string) bool {
	bare := func(s string) netip.Addr {
		s, _, _ = strings.Cut(s, "/")
		addr, _ := netip.ParseAddr(s)
		return addr
	}
	return bare(a).IsValid() && bare(a) == bare(b)
}

func switchNames(h HostFacts) string {
	names := []string{}
	for _, s := range h.Switches {
		names = append(names, s.Name)
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

func makeSteps(h HostFacts, s wiring.Switch, again bool) []Step {
	how := "with no way out"
	if s.Uplink != "" {
		how = "with the port " + s.Uplink + " to lead out"
		if s.Tagged {
			how += fmt.Sprintf(", its frames tagged %d", s.VLAN)
		}
	}
	if s.Address != "" {
		how += ", the host's own address " + s.Address + " on it"
	}
	steps := []Step{{Host: h.Name, What: fmt.Sprintf("Make the switch %s of %s, %s", s.Name, h.Name, how),
		Do: &MakeSwitch{SwitchWork{Switch: s, Return: again}}}}
	if again {
		steps = append(steps, keepStep(h, s, "Reach %s anew, else the switch is taken back"))
	}
	return steps
}

func keepStep(h HostFacts, s wiring.Switch, what string) Step {
	return Step{Host: h.Name, What: fmt.Sprintf(what, h.Name), Do: &KeepSwitch{SwitchWork{Switch: s}}}
}

// switchSteps makes the switches that were asked for on the way.
func (b *builder) switchSteps(h HostFacts) (steps []Step) {
	for _, s := range b.switches {
		err := checkSwitch(h, s)
		if port, ok := h.port(s.Uplink); ok && cuts(h, port, s) {
			err = fmt.Errorf("network.switch-absent: %s is reached by the address of the port %s: make that switch "+
				"by itself "+
				"first (unvora switch add), which is taken back if the host is cut off", h.Name, s.Uplink)
		}
		if b.err == nil {
			b.err = err
		}
		steps = append(steps, makeSteps(h, s, false)...)
	}
	return steps
}
