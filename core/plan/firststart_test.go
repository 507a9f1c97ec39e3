package plan_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
)

// TestFirstStart: each clone is told its own name and address, what is found is told once, and what can't be is refused
// before anything is done.
func TestFirstStart(t *testing.T) {
	clone := func(text string, spoil func(f *plan.CloneFacts), req plan.CloneRequest) (*plan.Plan, error) {
		t.Helper()
		d, err := firststart.Parse(text)
		require.NoError(t, err)
		facts := cloning(t)
		facts.Folder.Machine.Static = []string{"198.51.100.9"} // of its origin
		facts.Folder.Machine.Devices = append(facts.Folder.Machine.Devices, machine.Device{Kind: machine.DeviceCD,
			Name: firststart.Drive, File: firststart.File}) // its own, of long ago
		spoil(&facts)
		req.FirstStart, req.TakeRecommended = d, true
		return plan.Clone(facts, req)
	}
	same := func(*plan.CloneFacts) {}
	p, err := clone("host-name: '{name}'\naddresses:\n  NIC 1: 192.0.2.1{nn}/24", same,
		plan.CloneRequest{Count: 2, BringRequest: plan.BringRequest{Name: "class-{nn}"}})
	require.NoError(t, err)
	keep(t, p)
	places, records := stepsOf[plan.Place](p), stepsOf[plan.Record](p)
	require.Len(t, places, 2)
	for n, want := range []string{"class-01 192.0.2.101", "class-02 192.0.2.102"} {
		tell := places[n].FirstStart
		require.Equal(t, want, tell.Data.HostName+" "+tell.Data.Wishes()["NIC 1"])
		var discs []machine.Device
		for _, d := range records[n].Machine.Devices {
			if d.File == firststart.File {
				discs = append(discs, d)
			}
		}
		require.Equal(t, []machine.Device{{Kind: machine.DeviceCD, Name: firststart.Drive, File: firststart.File}},
			discs, "its own disc, and not that of its origin")
		require.Equal(t, strings.Fields(want)[1:], records[n].Machine.Static, "and none of its origin's")
	}
	told := 0
	for _, f := range p.Findings {
		if f.Code == "first-start.unsure" {
			told++
			require.Contains(t, f.Message, "call it {name}; set NIC 1 to 192.0.2.1{nn}/24")
		}
	}
	require.Equal(t, 1, told)

	p, err = clone("host-name: x", func(f *plan.CloneFacts) {
		f.Guest = &fit.Guest{System: "Debian GNU/Linux 12 (bookworm)", Name: "classroom", Initialiser: "cloud-init"}
	}, plan.CloneRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.Contains(t, finding(p, "first-start.read").Message, "cloud-init")
	require.Nil(t, finding(p, "identity.guest-inside"), "it gets another name")
	p, err = clone("host-name: x", func(f *plan.CloneFacts) { f.Guest = &fit.Guest{System: "Windows 10 Pro"} },
		plan.CloneRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.Contains(t, finding(p, "first-start.by-hand").Message, "call it x")
	require.Nil(t, stepsOf[plan.Place](p)[0].FirstStart)
	require.Empty(t, stepsOf[plan.Record](p)[0].Machine.Devices[len(cloning(t).Folder.Machine.Devices):])

	p, err = clone("host-name: x", func(f *plan.CloneFacts) {
		f.Folder.Machine.Devices = nil
		for _, name := range []string{"a", "b", "c", "d"} {
			f.Folder.Machine.Devices = append(f.Folder.Machine.Devices, machine.Device{Kind: machine.DeviceCD,
				Name: name})
		}
	}, plan.CloneRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "first-start.no-drive"))
	require.False(t, p.Runnable)

	for text, says := range map[string]string{
		"addresses: {NIC 9: automatic}":    `no NIC "NIC 9"`,
		"host-name: '{name} here'":         "is no host name",
		"addresses: {NIC 1: 192.0.2.7/24}": "say one",
	} {
		_, err = clone(text, same, plan.CloneRequest{BringRequest: plan.BringRequest{
			Addresses: map[string]string{"NIC 1": "192.0.2.9"}}})
		require.ErrorContains(t, err, says)
	}
}

// TestFirstStartGiven: an address that a segment gives comes with the length of its prefix.
func TestFirstStartGiven(t *testing.T) {
	facts := cloning(t)
	segment := facts.Host.Switches[0].Segment
	facts.Folder.Machine.NICs[0].Network = facts.Host.Switches[0].Name
	facts.Ranges = map[string]plan.Range{segment: {From: netip.MustParseAddr("192.0.2.50"),
		To: netip.MustParseAddr("192.0.2.60"), Free: netip.MustParseAddr("192.0.2.51")}}
	facts.Subnets = map[string]netip.Prefix{segment: netip.MustParsePrefix("192.0.2.0/25")}
	d, err := firststart.Parse("addresses: {NIC 1: give via 192.0.2.1}")
	require.NoError(t, err)
	p, err := plan.Clone(facts, plan.CloneRequest{BringRequest: plan.BringRequest{FirstStart: d, TakeRecommended: true,
		Wire: map[string]string{"NIC 1": facts.Host.Switches[0].Name}}})
	require.NoError(t, err)
	keep(t, p)
	tell := stepsOf[plan.Place](p)[0].FirstStart
	require.NotNil(t, tell, "%v", p.Findings)
	m := stepsOf[plan.Record](p)[0].Machine.Clone()
	m.NICs[0].MAC = "06:5c:00:00:00:07"
	s, err := tell.Seed("c9", m, map[string]string{"NIC 1": "192.0.2.51"})
	require.NoError(t, err)
	require.Contains(t, s.NetworkConfig, "192.0.2.51/25")
	require.Contains(t, s.MetaData, "c9")
	_, err = tell.Seed("c9", m, nil)
	require.ErrorContains(t, err, "address of NIC 1")
}

// TestFirstStartDone: the disc is put away; a machine that runs keeps the drive, which can't be taken out of it.
func TestFirstStartDone(t *testing.T) {
	for _, state := range []machine.State{machine.Stopped, machine.Running} {
		facts := sound(t)
		facts.Copy.State = state
		facts.Host.Can = []fit.Ability{fit.ChangesLive}
		facts.Machine.Devices = append(facts.Machine.Devices, machine.Device{Kind: machine.DeviceCD,
			Name: firststart.Drive, File: firststart.File})
		p, err := plan.Change(facts, plan.ChangeRequest{Operation: "change", FirstStartDone: true,
			TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, facts.Copy.Path+"/"+firststart.File, stepsOf[plan.TakeAway](p)[0].Folder)
		left := stepsOf[plan.Record](p)[0].Machine.Devices
		require.Equal(t, state == machine.Running, len(left) == len(facts.Machine.Devices))
		require.Equal(t, state == machine.Running, finding(p, "state.live") != nil)
		for _, d := range left {
			require.NotEqual(t, firststart.File, d.File)
		}
	}
	_, err := plan.Change(sound(t), plan.ChangeRequest{Operation: "change", FirstStartDone: true})
	require.ErrorContains(t, err, "no first-start data lies in a drive")
}

// TestImportTold: what a package wants told to its guest comes on the disc of the first start, with the values that
// were said and beside what else is told; where it does not ask for a disc that is said.
func TestImportTold(t *testing.T) {
	const product = `<ProductSection><Info>x</Info>
	 <Property ovf:key="unit" ovf:type="string" ovf:value="m" ovf:userConfigurable="true"/>
	 <Property ovf:key="key" ovf:type="string" ovf:value="swell" ovf:password="true" ovf:userConfigurable="true"/>
	 <Property ovf:key="depth" ovf:type="uint8" ovf:userConfigurable="true"/>
	 <Property ovf:key="made" ovf:type="string" ovf:value="2026"/>`
	importing := func(transport, more string, req plan.BringRequest) (*plan.Plan, error) {
		s := plainCase(t)
		s.req = req
		s.req.TakeRecommended, s.req.Identity = true, "renew"
		s.spoil = func(k *ovf.Skeleton) {
			text := strings.Replace(k.Descriptor, "<VirtualHardwareSection", product+more+"</ProductSection>"+
				"<VirtualHardwareSection"+transport, 1)
			require.NotEqual(t, text, k.Descriptor)
			k.Descriptor = text
		}
		return s.plan(t)
	}
	const disc = ` ovf:transport="iso"`
	p, err := importing(disc, "", plan.BringRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.False(t, p.Runnable, "a value is asked for")
	require.NotNil(t, finding(p, "descriptor.property-missing"))
	require.Equal(t, "As its package asks for, its guest is told on a disc where it is: unit=m, key (not shown), "+
		"depth=, made=2026. Other values: --property KEY=VALUE.", finding(p, "environment.told").Message)

	p, err = importing(disc, "", plan.BringRequest{
		Properties: map[string]string{"depth": "40", "unit": "ft", "key": "surge"},
		FirstStart: &firststart.Data{HostName: "{name}"}})
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	put := stepsOf[plan.Place](p)[0]
	require.Equal(t, "tide-gauge", put.FirstStart.Data.HostName)
	require.Contains(t, put.FirstStart.Environment, `ovfenv:key="unit" ovfenv:value="ft"`)
	m := stepsOf[plan.Record](p)[0].Machine
	require.Equal(t, []string{"unit=ft", "depth=40"}, m.Properties, "no secrets in the inventory")
	require.Contains(t, put.FirstStart.Environment, `ovfenv:value="surge"`)
	require.Equal(t, firststart.File, m.Devices[len(m.Devices)-1].File)
	seed, err := put.FirstStart.Seed("c9", m, nil)
	require.NoError(t, err)
	require.Contains(t, seed.MetaData, "c9")
	require.Equal(t, put.FirstStart.Environment, seed.Environment)

	p, err = importing(disc, "", plan.BringRequest{Answers: plan.Answers{"descriptor.property-missing": "empty"}})
	require.NoError(t, err)
	keep(t, p)
	put = stepsOf[plan.Place](p)[0]
	require.Nil(t, put.FirstStart.Data)
	seed, err = put.FirstStart.Seed("c9", m, nil)
	require.NoError(t, err)
	require.Empty(t, seed.MetaData)
	require.Contains(t, seed.Environment, `ovfenv:key="depth" ovfenv:value=""`)

	p, err = importing("", "", plan.BringRequest{Properties: map[string]string{"depth": "40"}})
	require.NoError(t, err)
	keep(t, p)
	require.Nil(t, stepsOf[plan.Place](p)[0].FirstStart)
	require.Contains(t, finding(p, "environment.untold").Message, "reads unit, key, depth from a disc")

	many := ""
	for n := range 30 {
		many += fmt.Sprintf(`<Property ovf:key="k%d" ovf:type="string" ovf:value="%s"/>`, n, strings.Repeat("v", 99))
	}
	p, err = importing(disc, many, plan.BringRequest{Properties: map[string]string{"depth": "40"}})
	require.NoError(t, err)
	says := finding(p, "environment.told").Message
	require.Contains(t, says, strings.Repeat("v", 60)+"…, and 14 more.")
	require.NotContains(t, says, strings.Repeat("v", 61))

	for name, c := range map[string][2]string{"made": {"2027", "nobody else does"}, "depth": {"256", "is no uint8"},
		"width": {"1", `no property "width"; it asks for unit, key, depth`}} {
		_, err := importing(disc, "", plan.BringRequest{Properties: map[string]string{name: c[0]}})
		require.ErrorContains(t, err, c[1])
	}
	s := plainCase(t)
	s.req.Properties = map[string]string{"unit": "m"}
	_, err = s.plan(t)
	require.ErrorContains(t, err, "property unit: the package asks for none")
}
