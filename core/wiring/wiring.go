// Package wiring finds the switch of a host that a NIC lands on.
package wiring

import (
	"fmt"
	"strings"

	"unvora.example/unvora/core/machine"
)

// Switch is a virtual switch of a host and the segment it reaches.
type Switch struct {
	Name    string `json:"name"`
	Segment string `json:"segment"`
	VLAN    int    `json:"vlan"` // 0: untagged or not known
}

// Quarantine is the segment with no way out.
const Quarantine = "quarantine"

// Match is where a NIC goes, and why; Switch is "" when nothing fits.
type Match struct {
	Switch string
	Why    string
	Likely []Switch // the others that fit as well
}

// Find tries, in this order: the segment that the NIC's network had at its
// origin, its VLAN, a segment of the network's name, a switch of that name.
func Find(n machine.NIC, switches []Switch) Match {
	rules := []struct {
		why  string
		fits func(Switch) bool
	}{
		{fmt.Sprintf("by its segment, %s%s", n.Segment, vlan(n.VLAN)), func(s Switch) bool { return n.Segment != "" && s.Segment == n.Segment }},
		{fmt.Sprintf("by its VLAN, %d", n.VLAN), func(s Switch) bool { return n.VLAN != 0 && s.VLAN == n.VLAN }},
		{"its network is named like the segment", func(s Switch) bool { return n.Network != "" && strings.EqualFold(s.Segment, n.Network) }},
		{"its network is named like the switch", func(s Switch) bool { return n.Network != "" && strings.EqualFold(s.Name, n.Network) }},
	}
	for _, r := range rules {
		var fits []Switch
		for _, s := range switches {
			if s.Segment != Quarantine && r.fits(s) {
				fits = append(fits, s)
			}
		}
		if len(fits) > 0 {
			return Match{Switch: fits[0].Name, Why: r.why, Likely: fits[1:]}
		}
	}
	return Match{}
}

func vlan(id int) string {
	if id == 0 {
		return ""
	}
	return fmt.Sprintf(" (VLAN %d)", id)
}
