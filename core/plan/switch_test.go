package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

func wiredHost(t *testing.T) plan.SwitchFacts {
	f, _ := lying(t)
	f.Host.Ports = []wiring.Port{{Name: "port1", Address: "192.0.2.1"}, {Name: "port2"}, {Name: "port3"}}
	f.Host.Switches[0].Uplink, f.Host.Switches[0].Tagged = "port2", true
	f.Host.Reached, f.Host.ReturnSeconds = "192.0.2.1", 60
	return plan.SwitchFacts{Host: f.Host}
}

func TestMakeASwitch(t *testing.T) {
	f := wiredHost(t)
	for _, s := range []wiring.Switch{
		{Name: "field", Segment: "field", VLAN: 30, Uplink: "port2", Tagged: true}, // beside lab, each with its tag
		{Name: "field", Segment: "field", Uplink: "port3"},
		{Name: "inside", Segment: "inside"},
		{Name: "trial", Segment: wiring.Quarantine},
		{Name: "own", Uplink: "port1", Address: "192.0.2.1/24"}, // the address moves along
	} {
		p, err := plan.MakeASwitch(f, s, nil, false)
		require.NoError(t, err, "%+v", s)
		keep(t, p)
		require.True(t, p.Runnable, "%v", p.Findings)
		require.Equal(t, s, do[plan.MakeSwitch](t, p, plan.KindMakeSwitch).Switch)
		require.Len(t, p.Steps, 1)
	}
	for says, s := range map[string]wiring.Switch{
		"already":            {Name: "lab"},
		"no port":            {Name: "x", Uplink: "port9"},
		"own VLAN's tag":     {Name: "x", Uplink: "port2", VLAN: 20, Tagged: true},
		"1 to 4094":          {Name: "x", VLAN: 5000},
		"needs a VLAN":       {Name: "x", Tagged: true},
		"no way out":         {Name: "x", Segment: wiring.Quarantine, Uplink: "port3"},
		"such as":            {Name: "x", Address: "somewhere"},
		"name of the switch": {Name: "a/b"},
	} {
		_, err := plan.MakeASwitch(f, s, nil, true)
		require.ErrorContains(t, err, says)
	}
	f.Host.Ports = nil
	_, err := plan.MakeASwitch(f, wiring.Switch{Name: "x"}, nil, true)
	require.ErrorContains(t, err, "does not let others")
}

// TestCutsAdmin: a switch that would cut the administrator off is made for a
// while only, or on another port.
func TestCutsAdmin(t *testing.T) {
	f := wiredHost(t)
	s := wiring.Switch{Name: "x", Uplink: "port1"}
	p, err := plan.MakeASwitch(f, s, nil, false)
	require.NoError(t, err)
	keep(t, p)
	require.False(t, p.Runnable)
	require.NotNil(t, finding(p, "network.cuts-admin"))
	p, err = plan.MakeASwitch(f, s, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.True(t, do[plan.MakeSwitch](t, p, plan.KindMakeSwitch).Return)
	require.Equal(t, plan.KindKeepSwitch, p.Steps[1].Kind)
	p, err = plan.MakeASwitch(f, s, plan.Answers{"network.cuts-admin": "port"}, false)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, "port3", do[plan.MakeSwitch](t, p, plan.KindMakeSwitch).Switch.Uplink)
	require.Len(t, p.Steps, 1)

	f.Host.Switches = append(f.Host.Switches, wiring.Switch{Name: "own", Uplink: "port1", Address: "192.0.2.1/24"})
	p, err = plan.DropASwitch(f, "own", nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "network.cuts-admin"))
	require.True(t, do[plan.DropSwitch](t, p, plan.KindDropSwitch).Return)
	f.Users = []string{"tide-gauge"}
	p, err = plan.DropASwitch(f, "lab", nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Blocked, p.Verdict)
	require.NotNil(t, finding(p, "network.switch-in-use"))
	_, err = plan.DropASwitch(f, "nothing", nil, true)
	require.ErrorContains(t, err, "no switch")
}

// TestLanding: rules choose, a pool that is asked for overrules them, and a disk
// in another pool is put aside there.
func TestLanding(t *testing.T) {
	f, req := lying(t)
	req.Files = plan.Copy
	f.Host.Pools[0].Labels, f.Host.Pools[1].Labels = []string{"fast"}, []string{"archive"}
	f.Landing = []landing.Rule{{ID: "1", Kind: landing.Machine, Label: "fast"},
		{ID: "2", Kind: landing.Disk, OverBytes: 1 << 30, Label: "archive"},
		{ID: "3", Kind: landing.Media, Label: "archive"}}
	f.Folder.Machine.Devices = []machine.Device{{Kind: machine.DeviceCD, Name: "CD", File: "guide.iso"}}
	f.Folder.Files = append(f.Folder.Files, "guide.iso")
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable, "%v", p.Findings)
	put := do[plan.Place](t, p, plan.KindPlace)
	require.Equal(t, "/reef", put.Pool)
	require.Equal(t, []plan.Beside{{Pool: "/harbour", Dir: "tide-gauge-disks", File: "tide-gauge-disk1.qcow2"},
		{Pool: "/harbour", Dir: "tide-gauge-disks", File: "guide.iso"}}, put.Besides)
	m := do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine
	require.Equal(t, "../../harbour/tide-gauge-disks/tide-gauge-disk1.qcow2", m.Disks[0].File)
	require.Equal(t, "../../harbour/tide-gauge-disks/guide.iso", m.Devices[0].File)

	req.Pool = "harbour"
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Empty(t, do[plan.Place](t, p, plan.KindPlace).Besides, "all of it where it was asked for")
	req.Disks = map[string]string{"disk1": "reef:raw"}
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, "/reef", do[plan.Carry](t, p, plan.KindCarry).Pool)
	require.Equal(t, "raw", do[plan.Carry](t, p, plan.KindCarry).Format)
	for says, disks := range map[string]map[string]string{"no disk": {"disk9": "reef"}, "no pool": {"disk1": "lagoon"},
		"run no disks": {"disk1": ":vhd"}} {
		req.Disks = disks
		_, err = plan.Register(f, req)
		require.ErrorContains(t, err, says)
	}
}

func TestAddresses(t *testing.T) {
	f, req := lying(t)
	for says, addresses := range map[string]map[string]string{"no NIC": {"NIC 9": "give"},
		"has no addresses": {"NIC 1": "give"}, "neither": {"NIC 1": "any"}} {
		req.Addresses = addresses
		_, err := plan.Register(f, req)
		require.ErrorContains(t, err, says)
	}
	req.Addresses = map[string]string{"NIC 1": "192.0.2.9"}
	f.AddressOf = map[string]string{"192.0.2.9": "gannet/archive-db"}
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Contains(t, finding(p, "address.static").Message, "gannet/archive-db")
	require.Equal(t, []string{"192.0.2.9"}, do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.Static)
}
