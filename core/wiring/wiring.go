// Package wiring finds the switch of a host that a NIC lands on.
package wiring

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"unvora.example/unvora/core/machine"
)

// Switch is a virtual switch of a host and the segment it reaches.
type Switch struct {
	Name    string `json:"name" toml:"name"`
	Segment string `json:"segment" toml:"segment"`
	VLAN    int    `json:"vlan" toml:"vlan"`                         // 0: untagged or not known
	Uplink  string `json:"uplink,omitempty" toml:"uplink,omitempty"` // port of the host that leads out; "" for none
	Tagged  bool   `json:"tagged,omitempty" toml:"tagged,omitempty"` // frames bear the VLAN's tag on the uplink
	// of the host's own on it, with its prefix length; "" for none
	Address string `json:"address,omitempty" toml:"address,omitempty"`
}

// Port is a network port of a host.
type Port struct {
	Name string `json:"name" toml:"name"`
	// of the host's own on it, as long as no switch has the port; "" for none
	Address string `json:"address,omitempty" toml:"address,omitempty"`
}

// Quarantine is the segment with no way out.
const Quarantine = "quarantine"

// Rule leads a network to a segment, or a segment to a switch of a host. Rules
// are tried in order; the first that fits wins.
type Rule struct {
	ID      string `json:"id"`
	Network string `json:"network"` // pattern of names (*, ?), any case; "" for any
	VLAN    int    `json:"vlan"`    // 0 for any
	Segment string `json:"segment"` // that it leads to; with Switch set, that it leads from
	Host    string `json:"host"`    // whose switch; "" for every host
	Switch  string `json:"switch"`  // "" for the host's switch that reaches the segment
}

// String is the rule in words.
func (r Rule) String() string {
	var from []string
	if r.Network != "" {
		from = append(from, "network "+r.Network)
	}
	if r.VLAN != 0 {
		from = append(from, "VLAN "+strconv.Itoa(r.VLAN))
	}
	if r.Switch == "" {
		return strings.Join(from, ", ") + " → segment " + r.Segment
	}
	if r.Segment != "" {
		from = append(from, "segment "+r.Segment)
	}
	host := r.Host
	if host == "" {
		host = "any host"
	}
	return strings.Join(from, ", ") + " → switch " + r.Switch + " of " + host
}

// Check tells why the rule can't be one.
func (r Rule) Check() error {
	if _, err := path.Match(strings.ToLower(r.Network), ""); err != nil {
		return fmt.Errorf("pattern %q: %w", r.Network, err)
	}
	switch {
	case r.VLAN < 0 || r.VLAN > 4094:
		return fmt.Errorf("VLAN %d: 1 to 4094", r.VLAN)
	case r.Network == "" && r.VLAN == 0 && (r.Switch == "" || r.Segment == ""):
		return fmt.Errorf("a rule needs a network or a VLAN to begin with, or a segment that leads to a switch")
	case r.Segment == "" && r.Switch == "":
		return fmt.Errorf("a rule leads to a segment or to a switch")
	}
	return nil
}

func (r Rule) fits(n machine.NIC, segment, host string) bool {
	if r.Host != "" && !strings.EqualFold(r.Host, host) || r.VLAN != 0 && r.VLAN != n.VLAN {
		return false
	}
	if r.Switch != "" && r.Segment != "" && r.Segment != segment {
		return false
	}
	if r.Network == "" {
		return true
	}
	ok, err := path.Match(strings.ToLower(r.Network), strings.ToLower(n.Network))
	return ok && err == nil && n.Network != ""
}

// Match is where a NIC goes, and why; Switch is "" when nothing fits.
type Match struct {
	Switch  string
	Segment string // that it belongs on, where that is known
	Why     string
	Rule    string   // id of the rule that won; "" where none was needed
	Likely  []Switch // the others that fit as well
}

// Find tries, in this order: the rules; the segment that the NIC's network had
// at its origin; its VLAN; a segment of the network's name; a switch of that
// name.
func Find(n machine.NIC, host string, switches []Switch, rules []Rule) Match {
	m := Match{}
	for _, r := range rules {
		if !r.fits(n, n.Segment, host) || m.Rule != "" && r.Switch == "" {
			continue
		}
		if r.Switch != "" {
			for _, s := range switches {
				if s.Name == r.Switch {
					return Match{Switch: s.Name, Segment: s.Segment, Why: "by the rule “" + r.String() + "”",
						Rule: r.ID}
				}
			}
			continue
		}
		n.Segment = r.Segment
		m = Match{Segment: r.Segment, Why: "by the rule “" + r.String() + "”", Rule: r.ID}
		for _, next := range rules { // from the segment on to a switch
			if next.Switch != "" && next.Segment == r.Segment && next.fits(n, r.Segment, host) {
				for _, s := range switches {
					if s.Name == next.Switch {
						return Match{Switch: s.Name, Segment: r.Segment, Why: m.Why + ", then “" + next.String() + "”",
							Rule: r.ID}
					}
				}
			}
		}
		for _, s := range switches {
			if s.Segment == r.Segment {
				if m.Switch == "" {
					m.Switch = s.Name
				} else {
					m.Likely = append(m.Likely, s)
				}
			}
		}
		return m
	}
	tries := []struct {
		why  string
		fits func(Switch) bool
	}{
		{fmt.Sprintf("by its segment, %s%s", n.Segment, vlan(n.VLAN)),
			func(s Switch) bool { return n.Segment != "" && s.Segment == n.Segment }},
		{fmt.Sprintf("by its VLAN, %d", n.VLAN), func(s Switch) bool { return n.VLAN != 0 && s.VLAN == n.VLAN }},
		{"its network is named like the segment", func(s Switch) bool {
			return n.Network != "" &&
				strings.EqualFold(s.Segment, n.Network)
		}},
		{"its network is named like the switch", func(s Switch) bool {
			return n.Network != "" &&
				strings.EqualFold(s.Name, n.Network)
		}},
	}
	for _, r := range tries {
		var fits []Switch
		for _, s := range switches {
			if s.Segment != Quarantine && r.fits(s) {
				fits = append(fits, s)
			}
		}
		if len(fits) > 0 {
			return Match{Switch: fits[0].Name, Segment: fits[0].Segment, Why: r.why, Likely: fits[1:]}
		}
	}
	return Match{}
}

// Likely lists switches that may be meant, the likeliest first: those whose
// name or segment shares a word with the network, or its number as VLAN.
func Likely(n machine.NIC, switches []Switch) (list []Switch) {
	words := strings.FieldsFunc(strings.ToLower(n.Network), func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9')
	})
	for _, s := range switches {
		if s.Segment == Quarantine {
			continue
		}
		for _, w := range words {
			id, err := strconv.Atoi(w)
			if len(w) > 2 && (strings.Contains(strings.ToLower(s.Name), w) ||
				strings.Contains(w, strings.ToLower(s.Segment))) ||
				err == nil && id != 0 && id == s.VLAN {
				list = append(list, s)
				break
			}
		}
	}
	return list
}

func vlan(id int) string {
	if id == 0 {
		return ""
	}
	return fmt.Sprintf(" (VLAN %d)", id)
}
