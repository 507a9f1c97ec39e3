package wiring_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

func TestFind(t *testing.T) {
	switches := []wiring.Switch{{Name: "labnet", Segment: "lab", VLAN: 20},
		{Name: "Field-30", Segment: "field", VLAN: 30},
		{Name: "outside", Segment: "visitors"}, {Name: "quarantine", Segment: "quarantine"}}
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
			m := wiring.Find(c.nic, "petrel", switches, nil)
			require.Equal(t, c.to, m.Switch)
			require.Len(t, m.Likely, c.likely)
			if c.to != "" {
				require.NotEmpty(t, m.Why)
			}
		})
	}
	require.Len(t, wiring.Find(machine.NIC{Segment: "lab"}, "petrel",
		append(switches, wiring.Switch{Name: "lab2", Segment: "lab"}), nil).Likely, 1)
}

func TestRules(t *testing.T) {
	switches := []wiring.Switch{{Name: "labnet", Segment: "lab", VLAN: 20}, {Name: "quarantine", Segment: "quarantine"}}
	rules := []wiring.Rule{
		{ID: "1", Network: "Wet lab*", Segment: "lab"},
		{ID: "2", Segment: "visitors", Host: "petrel", Switch: "quarantine"},
		{ID: "3", VLAN: 40, Segment: "visitors"},
		{ID: "4", Network: "storage", Segment: "storage"},
		{ID: "5", Network: "lab", Switch: "gone"},
	}
	for _, r := range rules {
		require.NoError(t, r.Check())
	}
	find := func(n machine.NIC, host string) wiring.Match { return wiring.Find(n, host, switches, rules) }
	m := find(machine.NIC{Network: "wet lab 2"}, "petrel")
	require.Equal(t, "labnet", m.Switch)
	require.Equal(t, "1", m.Rule)
	require.Contains(t, m.Why, "network Wet lab* → segment lab")
	m = find(machine.NIC{Network: "guests", VLAN: 40}, "petrel")
	require.Equal(t, "quarantine", m.Switch, "by way of the segment")
	require.Contains(t, m.Why, "segment visitors → switch quarantine of petrel")
	require.Empty(t, find(machine.NIC{Network: "guests", VLAN: 40}, "gannet").Switch, "a rule of another host")
	m = find(machine.NIC{Network: "storage"}, "petrel")
	require.Empty(t, m.Switch)
	require.Equal(t, "storage", m.Segment, "it is known where it belongs")
	require.Equal(t, "labnet", find(machine.NIC{Network: "lab"}, "petrel").Switch,
		"a rule whose switch is not there is passed over")

	for _, r := range []wiring.Rule{{}, {Segment: "lab"}, {Network: "[", Segment: "lab"}, {Network: "x"},
		{VLAN: 4095, Segment: "lab"}} {
		require.Error(t, r.Check(), r.String())
	}
	likely := wiring.Likely(machine.NIC{Network: "Production lab 20"}, switches)
	require.Equal(t, "labnet", likely[0].Name)
	require.Empty(t, wiring.Likely(machine.NIC{Network: "a"}, switches))
}
