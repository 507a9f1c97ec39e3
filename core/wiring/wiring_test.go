package wiring_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

func TestFind(t *testing.T) {
	switches := []wiring.Switch{{Name: "labnet", Segment: "lab", VLAN: 20}, {Name: "Field-30", Segment: "field", VLAN: 30}, {Name: "outside", Segment: "visitors"}, {Name: "quarantine", Segment: "quarantine"}}
	for name, c := range map[string]struct {
		nic    machine.NIC
		to     string
		likely int
	}{
		"by segment":         {machine.NIC{Network: "whatever", Segment: "lab"}, "labnet", 0},
		"by VLAN":            {machine.NIC{Network: "whatever", VLAN: 30}, "Field-30", 0},
		"by segment's name":  {machine.NIC{Network: "LAB"}, "labnet", 0},
		"by switch's name":   {machine.NIC{Network: "outside"}, "outside", 0},
		"never quarantine":   {machine.NIC{Network: "quarantine"}, "", 0},
		"nothing fits":       {machine.NIC{Network: "storage", Segment: "storage", VLAN: 99}, "", 0},
		"no network at all":  {machine.NIC{}, "", 0},
		"segment beats name": {machine.NIC{Network: "outside", Segment: "lab", VLAN: 30}, "labnet", 0},
	} {
		t.Run(name, func(t *testing.T) {
			m := wiring.Find(c.nic, switches)
			require.Equal(t, c.to, m.Switch)
			require.Len(t, m.Likely, c.likely)
			if c.to != "" {
				require.NotEmpty(t, m.Why)
			}
		})
	}
	require.Len(t, wiring.Find(machine.NIC{Segment: "lab"}, append(switches, wiring.Switch{Name: "lab2", Segment: "lab"})).Likely, 1)
}
