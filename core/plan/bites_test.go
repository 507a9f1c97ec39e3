package plan_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// TestAnswerThatIsNone: a value that a remedy can't take is an error, and nothing is changed by it.
func TestAnswerThatIsNone(t *testing.T) {
	s := plainCase(t)
	s.m.CPUs = 12
	s.req.TakeRecommended, s.req.Answers = true, plan.Answers{"cpu.too-many": "reduce:many"}
	_, err := s.plan(t)
	require.ErrorContains(t, err, "many")
}

// twoMachines is a package of tide-gauge and rain-gauge.
func twoMachines(t *testing.T) []plan.ImportFacts {
	t.Helper()
	one, two := plainCase(t), plainCase(t)
	two.m.Name, two.m.Disks[0].ID = "rain-gauge", "disk2"
	var of []ovf.Collected
	for _, s := range []*situation{one, two} {
		_, err := s.plan(t)
		require.NoError(t, err)
		of = append(of, ovf.Collected{Descriptor: s.facts.Package.Envelope})
	}
	both, err := ovf.Collect("gauges", of, nil)
	require.NoError(t, err)
	raw, err := both.Encode(0)
	require.NoError(t, err)
	one.facts.Package.Envelope, err = ovf.Parse("gauges.ovf", raw)
	require.NoError(t, err)
	first, second := one.facts, one.facts
	second.Machine = 1
	return []plan.ImportFacts{first, second}
}

// TestSeveralNames: of several machines in a package the pattern of names counts from one.
func TestSeveralNames(t *testing.T) {
	p, err := plan.ImportAll(twoMachines(t), plan.BringRequest{Name: "{name}-{n}",
		Identity: "renew", TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	var names []string
	for _, r := range stepsOf[plan.Record](p) {
		names = append(names, r.Name)
	}
	require.Equal(t, []string{"tide-gauge-1", "rain-gauge-2"}, names)
}

// TestStoppedOnTheWay: what runs is stopped before it is taken, and started again where it stays.
func TestStoppedOnTheWay(t *testing.T) {
	f, req := lying(t)
	f.Folder.State, req.Files, req.Pool = machine.Running, plan.Copy, "harbour"
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{"stop", "give-ids", "carry", "start", "place", "record"}, kinds(p))
	f.Folder.State = machine.Stopped
	p, err = plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Nil(t, finding(p, "state.running"))
}

// TestBoundAndInUse: of a MAC that is bound to a licence and in use elsewhere it is asked once.
func TestBoundAndInUse(t *testing.T) {
	s := plainCase(t)
	s.facts.Bound = map[identity.Facet]string{identity.MAC: "licence"}
	s.facts.SameMAC = map[string][]lineage.Known{"06:5c:00:ea:c5:e4": {origin}}
	s.req.Identity = identity.Renew
	p, err := s.plan(t)
	require.NoError(t, err)
	keep(t, p)
	asked := 0
	for _, f := range p.Findings {
		if f.Code == "mac.in-use" || f.Code == "mac.licence-bound" {
			asked++
		}
	}
	require.Equal(t, 1, asked)
}

// TestTooLargeADisk: a disk that hosts of a family don't have is told before it is fetched.
func TestTooLargeADisk(t *testing.T) {
	s := plainCase(t)
	s.m.Disks[0].VirtualBytes = s.facts.Host.Family.MaxDisk + 1
	p, err := s.plan(t)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "disk.size-over"))
	s.m.Disks[0].VirtualBytes = s.facts.Host.Family.MaxDisk
	p, err = s.plan(t)
	require.NoError(t, err)
	require.Nil(t, finding(p, "disk.size-over"))
}

// TestOldFlaws: a change is judged for what it brings, and not for what was wrong before.
func TestOldFlaws(t *testing.T) {
	for says, c := range map[string]struct {
		req   plan.ChangeRequest
		wrong string
	}{
		"a name":   {plan.ChangeRequest{Name: "tide-gauge-b"}, ""},
		"a guest":  {plan.ChangeRequest{Guest: "Debian GNU/Linux 12 (64-bit)"}, ""},
		"CPUs":     {plan.ChangeRequest{CPUs: 999}, "cpu.too-many"},
		"memory":   {plan.ChangeRequest{MemoryBytes: 1 << 50}, "memory.too-much"},
		"fewer":    {plan.ChangeRequest{CPUs: 1}, ""},
		"with NIC": {plan.ChangeRequest{AddNICs: []string{"lab"}}, ""},
	} {
		facts := sound(t)
		facts.Machine.NICs[0].Model = "loom" // nobody's
		c.req.Operation = "change"
		p, err := plan.Change(facts, c.req)
		require.NoError(t, err)
		keep(t, p)
		require.Nil(t, finding(p, "nic.model"), says)
		for _, code := range []string{"cpu.too-many", "memory.too-much"} {
			require.Equal(t, code == c.wrong, finding(p, code) != nil, says)
		}
	}
}

// TestCloneOfABusyOne: an origin that a job is at work on is not cloned, nor one that is to be left alone.
func TestCloneOfABusyOne(t *testing.T) {
	facts := cloning(t)
	facts.Origin.Busy = "01a20761-0000-7547-afa2-cc06ead9f2b5"
	p, err := plan.Clone(facts, plan.CloneRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "busy.job"))
	require.False(t, p.Runnable)
	facts = cloning(t)
	facts.Origin.Copy.Untracked = true
	p, err = plan.Clone(facts, plan.CloneRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "copy.untracked"))
}

// TestPortsOfSwitches: two switches lead out by one port when each bears its own VLAN's tag, and not else; a host that
// does not answer gets none.
func TestPortsOfSwitches(t *testing.T) {
	there := wiring.Switch{Name: "lab", Segment: "lab", VLAN: 20, Uplink: "port2", Tagged: true}
	for _, c := range []struct {
		there, wanted wiring.Switch
		goes          bool
	}{
		{there, wiring.Switch{Name: "x", VLAN: 30, Uplink: "port2", Tagged: true}, true},
		{there, wiring.Switch{Name: "x", VLAN: 20, Uplink: "port2", Tagged: true}, false},
		{there, wiring.Switch{Name: "x", VLAN: 20, Uplink: "port3", Tagged: true}, true},
		{there, wiring.Switch{Name: "x", VLAN: 30, Uplink: "port2"}, false},
		{wiring.Switch{Name: "lab", VLAN: 20, Uplink: "port2"},
			wiring.Switch{Name: "x", VLAN: 30, Uplink: "port2", Tagged: true}, false},
		{wiring.Switch{Name: "lab", VLAN: 20, Uplink: "port2"}, wiring.Switch{Name: "x", Uplink: "port3"}, true},
	} {
		f := wiredHost(t)
		f.Host.Switches[0] = c.there
		_, err := plan.MakeASwitch(f, c.wanted, nil, true)
		require.Equal(t, c.goes, err == nil, "%+v beside %+v: %v", c.wanted, c.there, err)
	}
	f := wiredHost(t)
	f.Host.State = plan.HostUnreachable
	p, err := plan.MakeASwitch(f, wiring.Switch{Name: "x", Uplink: "port3"}, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "host.unreachable"))
}

// TestAnotherAddress: a fixed address that does not fit can be given up for one of the segment, by a NIC that has none
// yet.
func TestAnotherAddress(t *testing.T) {
	f, req := lying(t)
	f.Folder.Machine.Static = []string{"198.51.100.9"}
	f.Subnets = map[string]netip.Prefix{"lab": netip.MustParsePrefix("192.0.2.0/24")}
	offers := func() []string {
		p, err := plan.Register(f, req)
		require.NoError(t, err)
		keep(t, p)
		return remedies(finding(p, "address.static"))
	}
	require.NotContains(t, offers(), "give", "the segment has none to give")
	f.Ranges = map[string]plan.Range{"lab": {From: netip.MustParseAddr("192.0.2.50"),
		To: netip.MustParseAddr("192.0.2.60"), Free: netip.MustParseAddr("192.0.2.51")}}
	require.Contains(t, offers(), "give")
	req.Answers = plan.Answers{"address.static": "give"}
	p, err := plan.Register(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, map[string]string{"NIC 1": "lab"}, do[plan.GiveIDs](t, p, plan.KindGiveIDs).Addresses)
	require.Empty(t, do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.Static)
	req.Answers, req.Addresses = nil, map[string]string{"NIC 1": "give"}
	require.NotContains(t, offers(), "give", "its NIC is given one already")
}

// TestPoolByLabel: a pool is meant by its name first, then by a label, of which the roomiest one that can be used is
// taken; what there is not is refused with what there is.
func TestPoolByLabel(t *testing.T) {
	pools := func(s *situation) []plan.PoolFacts { return s.facts.Host.Pools }
	landsIn := func(fill func(s *situation)) (string, error) {
		s := plainCase(t)
		s.req.TakeRecommended, s.req.Pool = true, "Fast"
		s.facts.Host.Pools = append(s.facts.Host.Pools, plan.PoolFacts{ID: "p3", Name: "shoal", Path: "/shoal",
			State: "ready", TotalBytes: 1 << 40, FreeBytes: 1 << 39})
		fill(s)
		p, err := s.plan(t)
		if err != nil {
			return "", err
		}
		return stepsOf[plan.Place](p)[0].PoolID, nil
	}
	for what, c := range map[string]struct {
		fill func(s *situation)
		id   string
	}{
		"the only one": {func(s *situation) { pools(s)[3].Labels = []string{"quiet", "fast"} }, "p3"},
		"the roomiest": {func(s *situation) {
			pools(s)[1].Labels, pools(s)[3].Labels = []string{"fast"}, []string{"fast"}
		}, "p1"},
		"one that can be used": {func(s *situation) {
			pools(s)[0].Labels, pools(s)[3].Labels = []string{"fast"}, []string{"fast"}
		}, "p3"},
		"its name": {func(s *situation) { pools(s)[3].Labels, s.req.Pool = []string{"reef"}, "reef" }, "p1"},
	} {
		id, err := landsIn(c.fill)
		require.NoError(t, err, what)
		require.Equal(t, c.id, id, what)
	}
	_, err := landsIn(func(s *situation) { pools(s)[3].Labels = []string{"quiet", "slow"} })
	require.ErrorContains(t, err,
		`petrel has no pool of the name or label "Fast"; it has usb, reef, kelp, shoal (quiet, slow)`)
}

// TestEmptyDrives: what lies in drives of either kind is left out, and nothing else is.
func TestEmptyDrives(t *testing.T) {
	m := full()
	m.Devices = append(m.Devices, machine.Device{Kind: machine.DeviceFloppy, Name: "Floppy drive 1", File: "f.img"},
		machine.Device{Kind: machine.DeviceSerial, Name: "Serial port 1", File: "/dev/ttyS0"})
	files := map[string]string{}
	for _, d := range (plan.Handing{EmptyDrives: true}).Of(m).Devices {
		files[d.Name] = d.File
	}
	require.Empty(t, files["CD drive 1"])
	require.Empty(t, files["Floppy drive 1"])
	require.Equal(t, "/dev/ttyS0", files["Serial port 1"])
	require.Equal(t, "f.img", m.Devices[len(m.Devices)-2].File, "the machine itself stays as it is")
}

// TestNumbersOfSeveral: each of several machines of a package knows which it is, from one.
func TestNumbersOfSeveral(t *testing.T) {
	told := &firststart.Data{HostName: "gauge-{n}"}
	p, err := plan.ImportAll(twoMachines(t), plan.BringRequest{FirstStart: told,
		Identity: "renew", TakeRecommended: true})
	require.NoError(t, err)
	var names []string
	for _, put := range stepsOf[plan.Place](p) {
		names = append(names, put.FirstStart.Data.HostName)
	}
	require.Equal(t, []string{"gauge-1", "gauge-2"}, names)
}
