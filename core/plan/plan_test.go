package plan_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

var origin = lineage.Known{ID: "01a20761-aef5-7547-afa2-cc06ead9f2b5", Lineage: "01a20761-aded-7063-aff5-a8ed7322c044",
	Name: "tide-gauge", Host: "gannet",
	UUID: "70126393-2a98-4856-90ac-efe4bba599b2", State: "stopped", Form: "registered",
	LastSeen: time.Unix(1700000000, 0),
	Present:  true}

func tideGauge() *machine.Machine {
	return &machine.Machine{Name: "tide-gauge", UUID: origin.UUID, CPUs: 2, MemoryBytes: 2 << 30, Firmware: "bios",
		Guest: "Debian GNU/Linux 12", GuestID: 96,
		Disks: []machine.Disk{{ID: "disk1", File: "d.vmdk", Format: "vmdk", VirtualBytes: 4 << 30,
			Controller: "virtio-scsi"}},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: "06:5c:00:ea:c5:e4", Network: "lab", Segment: "lab",
			VLAN: 20}}}
}

// situation is what a case changes of the plain one: tide-gauge, made from
// gannet's, to petrel.
type situation struct {
	m     *machine.Machine
	facts plan.ImportFacts
	req   plan.BringRequest
	spoil func(s *ovf.Skeleton)
}

func plainCase(t *testing.T) *situation {
	family, err := fit.FamilyByName("slate")
	require.NoError(t, err)
	return &situation{m: tideGauge(), facts: plan.ImportFacts{Where: "tide-gauge.ova",
		Arrival: plan.Arrival{Origin: lineage.Origin{Status: "alive", Copy: &origin},
			Host: plan.HostFacts{ID: "h", Name: "petrel", State: "up", CPUs: 8, MemoryBytes: 32 << 30, Family: family,
				MACPrefix: "02:5c:01",
				Pools: []plan.PoolFacts{{ID: "p0", Name: "usb", State: "ready", Removable: true, FreeBytes: 1 << 50},
					{ID: "p1", Name: "reef", Path: "/reef", State: "ready", TotalBytes: 1 << 40, FreeBytes: 1 << 40},
					{ID: "p2", Name: "kelp", State: "away"}},
				Switches: []wiring.Switch{{Name: "labnet", Segment: "lab", VLAN: 20},
					{Name: "quarantine", Segment: "quarantine"}}}}}}
}

func (s *situation) plan(t *testing.T) (*plan.Plan, error) {
	t.Helper()
	d, err := ovf.New(s.m)
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	k := ovf.Skeleton{Name: "tide-gauge.ova", Kind: "ova", DescriptorName: "x.ovf", Descriptor: string(raw),
		ManifestName: "x.mf", Entries: []ovf.Entry{{Name: "x.ovf", Size: int64(len(raw))}, {Name: "x.mf"},
			{Name: "d.vmdk", Size: 1 << 20}}}
	if s.spoil != nil {
		s.spoil(&k)
	}
	if s.facts.Problem == nil {
		s.facts.Package, err = k.Open()
		require.NoError(t, err)
	}
	return plan.Import(s.facts, s.req)
}

func finding(p *plan.Plan, code string) *fit.Finding {
	for i := range p.Findings {
		if p.Findings[i].Code == code {
			return &p.Findings[i]
		}
	}
	return nil
}

// TestFindings: for each finding a case that raises it and, where it can be
// settled, an answer that clears the way.
func TestFindings(t *testing.T) {
	here := []lineage.Known{origin}
	for code, c := range map[string]struct {
		spoil   func(s *situation)
		settles string // "": a blocker, or a note
	}{
		"identity.origin-alive":   {func(*situation) {}, "keep"},
		"identity.origin-gone":    {func(s *situation) { s.facts.Origin.Status = "gone" }, "renew"},
		"identity.origin-unknown": {func(s *situation) { s.facts.Origin = lineage.Origin{Status: "unknown"} }, "keep"},
		"identity.uuid-in-use":    {func(s *situation) { s.facts.SameUUID = here; s.req.Identity = "keep" }, "renew"},
		"mac.in-use": {func(s *situation) {
			s.facts.SameMAC = map[string][]lineage.Known{"06:5c:00:ea:c5:e4": here}
			s.req.Identity = "keep"
		}, "keep"},
		"mac.invalid": {func(s *situation) { s.m.NICs[0].MAC = "01:5c:00:ea:c5:e4"; s.req.Identity = "keep" },
			"renew"},
		"name.taken":           {func(s *situation) { s.facts.Names = []string{"tide-gauge"} }, "rename"},
		"name.unfit":           {func(s *situation) { s.req.Name = "tide/gauge" }, "rename"},
		"cpu.too-many":         {func(s *situation) { s.m.CPUs = 12 }, "reduce"},
		"memory.too-much":      {func(s *situation) { s.m.MemoryBytes = 96 << 30 }, "reduce:8589934592"},
		"firmware.unsupported": {func(s *situation) { s.m.Firmware = "openfirmware" }, ""},
		"nic.model":            {func(s *situation) { s.m.NICs[0].Model = "RTL8139" }, "replace"},
		"network.mapped":       {func(*situation) {}, ""},
		"network.unmapped": {func(s *situation) {
			s.m.NICs[0].Network, s.m.NICs[0].Segment, s.m.NICs[0].VLAN = "field",
				"field", 30
		}, "switch:labnet"},
		"network.ambiguous": {func(s *situation) {
			s.facts.Host.Switches = append(s.facts.Host.Switches, wiring.Switch{Name: "lab2", Segment: "lab", VLAN: 20})
		}, "switch:lab2"},
		"space.short":       {func(s *situation) { s.facts.Host.Pools[1].FreeBytes = 1000 }, ""},
		"space.short-later": {func(s *situation) { s.facts.Host.Pools[1].FreeBytes = 2 << 30 }, ""},
		"pool.away":         {func(s *situation) { s.req.Pool = "kelp" }, ""},
		"host.unreachable":  {func(s *situation) { s.facts.Host.State = "unreachable" }, ""},
		"package.truncated": {func(s *situation) {
			s.facts.Problem = &ovf.Problem{Code: "package.truncated", Subject: "x", Offset: 7, Line: 3, Message: "cut"}
		}, ""},
		"package.file-missing": {func(s *situation) { s.spoil = func(k *ovf.Skeleton) { k.Entries = k.Entries[:2] } },
			""},
		"package.file-unused": {func(s *situation) {
			s.spoil = func(k *ovf.Skeleton) { k.Entries = append(k.Entries, ovf.Entry{Name: "readme"}) }
		}, ""},
		"manifest.absent": {func(s *situation) { s.spoil = func(k *ovf.Skeleton) { k.ManifestName = "" } }, ""},
		"manifest.algorithm-weak": {func(s *situation) {
			s.spoil = func(k *ovf.Skeleton) { k.Manifest = "SHA1(d.vmdk)= " + strings.Repeat("ab", 20) }
		}, ""},
		"manifest.mismatch": {func(s *situation) {
			s.spoil = func(k *ovf.Skeleton) { k.Manifest = "SHA256(x.ovf)= " + strings.Repeat("ab", 32) }
		}, ""},
		"descriptor.section-required": {func(s *situation) {
			s.spoil = func(k *ovf.Skeleton) {
				k.Descriptor = strings.Replace(k.Descriptor, "<NetworkSection>",
					"<TeaSection><Info>t</Info></TeaSection><NetworkSection>", 1)
			}
		}, "without"},
	} {
		t.Run(code, func(t *testing.T) {
			s := plainCase(t)
			c.spoil(s)
			p, err := s.plan(t)
			require.NoError(t, err)
			keep(t, p)
			f := finding(p, code)
			require.NotNil(t, f, "not raised")
			severity, _ := fit.Describe(code)
			require.Equal(t, severity, f.Severity)
			require.NotEmpty(t, f.Message)
			switch severity {
			case fit.Blocker:
				require.Equal(t, plan.Blocked, p.Verdict)
				require.False(t, p.Runnable)
				return
			case fit.Note:
				s.req.TakeRecommended = true
				p, err = s.plan(t)
				require.NoError(t, err)
				keep(t, p)
				require.True(t, p.Runnable, "a note stands in nobody's way")
				return
			}
			require.False(t, p.Runnable)
			s.req.Answers = plan.Answers{code + "/" + f.Subject: c.settles}
			s.req.TakeRecommended = true // for the others
			p, err = s.plan(t)
			require.NoError(t, err)
			keep(t, p)
			require.Equal(t, c.settles, finding(p, code).Answer)
			require.True(t, p.Runnable)
		})
	}
}

func do[T any](t *testing.T, p *plan.Plan, kind string) *T {
	t.Helper()
	for _, s := range p.Steps {
		if s.Kind == kind {
			return any(s.Do).(*T)
		}
	}
	t.Fatalf("there is no step %s", kind)
	return nil
}

func TestImport(t *testing.T) {
	s := plainCase(t)
	s.facts.SameMAC = map[string][]lineage.Known{"06:5c:00:ea:c5:e4": {origin}}
	p, err := s.plan(t)
	require.NoError(t, err)
	keep(t, p)
	require.Len(t, p.OpenChoices(), 2)
	s.req.TakeRecommended = true
	p, err = s.plan(t)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.Equal(t, int64(1<<20), p.Bytes)
	ids := do[plan.GiveIDs](t, p, plan.KindGiveIDs)
	require.Equal(t, map[string]string{"uuid": "renew", "firmware-uuid": "renew", "mac": "renew", "disk-id": "renew",
		"generation-id": "renew", "tpm": "keep"}, ids.Choice)
	require.Equal(t, "labnet", ids.Machine.NICs[0].Network)
	require.Equal(t, machine.Disk{ID: "disk1", File: "tide-gauge-disk1.qcow2", Format: "qcow2", VirtualBytes: 4 << 30,
		Controller: "virtio-scsi"}, ids.Machine.Disks[0])
	require.Equal(t, "/reef", do[plan.Place](t, p, plan.KindPlace).Pool, "a removable pool is not chosen by itself")
	raw, err := json.Marshal(p)
	require.NoError(t, err)
	require.Contains(t, string(raw), `"pointOfNoReturn":null`)
	require.Contains(t, string(raw), `"takes":null`)

	// One facet kept, hardware and wiring as asked for.
	s.req = plan.BringRequest{Identity: "renew", Facets: map[identity.Facet]string{identity.MAC: "keep"}, CPUs: 1,
		MemoryBytes: 1 << 30, Wire: map[string]string{"NIC 1": "quarantine"}, Name: "gauge", TakeRecommended: true,
		Answers: plan.Answers{"mac.in-use": "keep"}}
	p, err = s.plan(t)
	require.NoError(t, err)
	keep(t, p)
	ids = do[plan.GiveIDs](t, p, plan.KindGiveIDs)
	require.Equal(t, "keep", ids.Choice["mac"])
	require.Equal(t, "renew", ids.Choice["uuid"])
	require.Equal(t, 1, ids.Machine.CPUs)
	require.Equal(t, "quarantine", ids.Machine.NICs[0].Network)
	require.Equal(t, "gauge", ids.Machine.Name)

	for name, req := range map[string]plan.BringRequest{
		"no such switch": {Wire: map[string]string{"NIC 1": "wan"}},
		"no such NIC":    {Wire: map[string]string{"NIC 7": "labnet"}},
		"no such pool":   {Pool: "cellar"},
		"no such facet":  {Identity: "keep", Facets: map[identity.Facet]string{"soul": "keep"}},
		"no such remedy": {Answers: plan.Answers{"identity.origin-alive": "ignore"}},
		"no sense":       {Identity: "keep", Facets: map[identity.Facet]string{"mac": "burn"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := plainCase(t)
			s.req = req
			_, err := s.plan(t)
			require.Error(t, err)
		})
	}
}

// TestExplicit: a remedy that could do harm is never taken by itself.
func TestExplicit(t *testing.T) {
	for _, code := range fit.Codes() {
		_, remedies := fit.Describe(code)
		f := fit.Raise(code, "x", "x", nil)
		for _, r := range remedies {
			if r.Explicit {
				require.NotEqual(t, r.ID, f.Recommendation(), code)
				f.Recommend(r.ID)
				require.Empty(t, f.Recommendation(), code)
			}
		}
	}
}

func TestExport(t *testing.T) {
	host := plainCase(t).facts.Host
	facts := plan.ExportFacts{Copy: origin, Machine: tideGauge(), Host: host, PoolState: "ready"}
	p, err := plan.Export(facts, plan.ExportRequest{File: "x.ova", Place: "pc:/x.ova"})
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.Equal(t, []string{plan.KindHandOut, plan.KindRecord}, kinds(p))

	p, err = plan.Export(facts, plan.ExportRequest{File: "x.ova", Place: "a pipe", Piped: true})
	require.NoError(t, err)
	keep(t, p)
	require.Contains(t, p.Steps[0].What, "kept aside at petrel")
	p, err = plan.Export(facts, plan.ExportRequest{File: "x.ova", Place: "a pipe", Piped: true,
		Disks: plan.DiskFile{Format: "vhdx"}})
	require.NoError(t, err)
	keep(t, p)
	require.NotContains(t, p.Steps[0].What, "kept aside", "it is laid out before, and so its size is known")

	// An agent that would misunderstand what it is asked is not asked, neither the one that reads nor one that writes.
	older := facts
	older.Host.Protocol, older.Host.WantsProtocol = 3, 4
	p, err = plan.Export(older, plan.ExportRequest{File: "x.ova"})
	require.NoError(t, err)
	require.Equal(t, "petrel", finding(p, "host.older").Subject)
	require.False(t, p.Runnable)
	older = facts
	older.Shelf = &plan.ShelfFacts{Name: "loft", HostID: "far", HostName: "gannet", FreeBytes: 1 << 40, Protocol: 3,
		WantsProtocol: 4}
	p, err = plan.Export(older, plan.ExportRequest{File: "x.ova"})
	require.NoError(t, err)
	require.Equal(t, "gannet", finding(p, "host.older").Subject)

	facts.Copy.State = "running"
	p, err = plan.Export(facts, plan.ExportRequest{File: "x.ova"})
	require.NoError(t, err)
	keep(t, p)
	require.False(t, p.Runnable)
	shelf := plan.ShelfFacts{Name: "loft", Path: "/loft", HostID: "h", HostName: "petrel", FreeBytes: 1 << 40,
		Taken: map[string]bool{"y.ova": true}}
	facts.Shelf = &shelf
	p, err = plan.Export(facts, plan.ExportRequest{File: "x.ova", TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindStop, plan.KindPack, plan.KindStart, plan.KindRecord}, kinds(p))

	elsewhere := shelf
	elsewhere.HostID, elsewhere.HostName, elsewhere.HostState = "other", "gannet", "up"
	far := facts
	far.Shelf = &elsewhere
	p, err = plan.Export(far, plan.ExportRequest{File: "x.ova", TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.Equal(t, "gannet", p.Steps[1].Host, "the shelf's host packs, and reads from the machine's")
	require.Contains(t, p.Steps[1].What, "read from petrel")
	elsewhere.HostState = "unreachable"
	p, err = plan.Export(far, plan.ExportRequest{File: "x.ova", TakeRecommended: true})
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "host.unreachable"))

	for code, spoil := range map[string]func(f *plan.ExportFacts, req *plan.ExportRequest){
		"busy.job":         func(f *plan.ExportFacts, _ *plan.ExportRequest) { f.Busy = "j" },
		"pool.away":        func(f *plan.ExportFacts, _ *plan.ExportRequest) { f.PoolState = "away" },
		"host.unreachable": func(f *plan.ExportFacts, _ *plan.ExportRequest) { f.Host.State = "unreachable" },
		"place.taken":      func(_ *plan.ExportFacts, r *plan.ExportRequest) { r.File = "y.ova" },
		"pool.resting": func(f *plan.ExportFacts, _ *plan.ExportRequest) {
			f.Shelf.Pool = &plan.PoolFacts{ID: "p1", Name: "harbour", State: plan.PoolResting}
		},
		"space.short": func(f *plan.ExportFacts, _ *plan.ExportRequest) {
			f.Machine.Disks[0].FileBytes = 1 << 41
			f.Shelf.FreeBytes = 1 << 30
		},
	} {
		t.Run(code, func(t *testing.T) {
			f, s := facts, shelf
			f.Shelf, f.Machine = &s, tideGauge()
			req := plan.ExportRequest{File: "x.ova", TakeRecommended: true}
			spoil(&f, &req)
			p, err := plan.Export(f, req)
			require.NoError(t, err)
			keep(t, p)
			require.NotNil(t, finding(p, code))
			require.Equal(t, plan.Blocked, p.Verdict)
		})
	}
}

// TestExportTogether: machines of one package are told apart, those of one host are frozen at one instant, and what is
// answered for one is for that one.
func TestExportTogether(t *testing.T) {
	host := plainCase(t).facts.Host
	host.Can = append(host.Can, fit.Freezes)
	facts := func(name, id string, host plan.HostFacts) plan.ExportFacts {
		m := tideGauge()
		m.Name = name
		if name == "archive-db" {
			m.Devices = append(m.Devices, machine.Device{Kind: machine.DeviceCD, Name: "CD drive 1"})
		}
		c := origin
		c.Name, c.ID, c.Host, c.State, c.Path = name, id, host.Name, machine.Running, "/pools/reef/"+name
		f := plan.ExportFacts{Copy: c, Machine: m, Host: host, PoolState: plan.PoolReady}
		for _, d := range m.Disks {
			f.Disks = append(f.Disks, plan.FolderDisk{ID: d.ID, File: d.File, Path: c.Path + "/" + d.File,
				Format: "qcow2"})
		}
		return f
	}
	far := host
	far.ID, far.Name = "far", "gannet"
	all := []plan.ExportFacts{facts("tide-gauge", "one", host), facts("archive-db", "two", host),
		facts("buoy-ingest", "three", far)}
	req := plan.ExportRequest{File: "sea.ova", Place: "pc:/sea.ova", Called: "sea", TakeRecommended: true,
		Holds: plan.HandingRequest{For: plan.ForHandOut, Drop: []string{"CD drive 1"},
			Product: machine.Product{Name: "Sea"}}}
	p, err := plan.ExportTogether(all, req)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, []string{plan.KindFreeze, plan.KindFreeze, plan.KindHandOut, plan.KindRecord, plan.KindRecord,
		plan.KindRecord, plan.KindCommit, plan.KindCommit, plan.KindCommit}, kinds(p))
	freeze := p.Steps[0].Do.(*plan.Freeze)
	require.Len(t, freeze.Machines(), 2)
	require.Contains(t, p.Steps[0].What, "2 machines at one instant")
	do := p.Steps[2].Do.(*plan.HandOut)
	ids, nets := map[string]bool{}, map[string]bool{}
	for i, m := range do.Machines() {
		require.Equal(t, all[i].Copy.ID, m.Copy)
		require.True(t, m.Frozen)
		require.Equal(t, map[bool]string{true: "far", false: ""}[i == 2], m.FromHost)
		for k, d := range m.Disks {
			require.False(t, ids[d.ID], "%s is there twice", d.ID)
			ids[d.ID] = true
			require.Equal(t, all[i].Machine.Disks[k].ID, d.Own())
		}
		for _, n := range m.Handing.Of(all[i].Machine).NICs {
			nets[n.Network] = true
		}
	}
	require.Equal(t, map[string]bool{"net-1": true}, nets, "they are on one segment, whatever each calls it")
	require.Equal(t, "Sea", do.Product.Name)
	require.Len(t, do.Touches("x"), 1+len(ids))

	own := slices.Clone(all)
	for i, answers := range []plan.Answers{{"state.running": "stop"}, {}, {}} {
		own[i].Answers = answers
	}
	p, err = plan.ExportTogether(own, req)
	require.NoError(t, err)
	require.Equal(t, []string{plan.KindStop, plan.KindFreeze, plan.KindFreeze, plan.KindHandOut, plan.KindStart,
		plan.KindRecord, plan.KindRecord, plan.KindRecord, plan.KindCommit, plan.KindCommit}, kinds(p))

	for want, spoil := range map[string]func(all []plan.ExportFacts, req *plan.ExportRequest){
		"have one name": func(all []plan.ExportFacts, _ *plan.ExportRequest) {
			all[2].Machine.Name = "Tide-Gauge"
		},
		"a device \"flute\"": func(_ []plan.ExportFacts, r *plan.ExportRequest) { r.Holds.Drop = []string{"flute"} },
		"no snapshot":        func(_ []plan.ExportFacts, r *plan.ExportRequest) { r.Snapshot = "monday" },
	} {
		spoilt := []plan.ExportFacts{facts("tide-gauge", "one", host), facts("archive-db", "two", host),
			facts("buoy-ingest", "three", far)}
		other := req
		spoil(spoilt, &other)
		_, err := plan.ExportTogether(spoilt, other)
		require.ErrorContains(t, err, want)
	}
}

func kinds(p *plan.Plan) (all []string) {
	for _, s := range p.Steps {
		all = append(all, s.Kind)
	}
	return all
}

// power is the plan for all the copies.
func power(facts []plan.PowerFacts, req plan.PowerRequest) (*plan.Plan, error) {
	plans, err := plan.SetPower(facts, req)
	if err != nil {
		return nil, err
	}
	return plan.SideBySide(plans), nil
}

func TestPower(t *testing.T) {
	up := plan.HostFacts{Name: "gannet", State: "up"}
	twin := origin
	twin.ID, twin.Host, twin.State = "other", "petrel", "running"
	start := func(facts ...plan.PowerFacts) *plan.Plan {
		t.Helper()
		p, err := power(facts, plan.PowerRequest{Operation: plan.OpStart, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		return p
	}
	require.NotNil(t, finding(start(plan.PowerFacts{Copy: origin, Host: up, SameUUID: []lineage.Known{twin}}),
		"identity.collides"))
	require.True(t, start(plan.PowerFacts{Copy: origin, Host: up, SameUUID: []lineage.Known{twin},
		Isolated: true}).Runnable, "in quarantine nobody else sees it")
	twin.State = "stopped"
	facts := plan.PowerFacts{Copy: origin, Host: up, SameMAC: []lineage.Known{twin}}
	require.True(t, start(facts).Runnable, "a twin that rests collides with nobody")
	both := start(facts, plan.PowerFacts{Copy: twin, Host: up})
	require.Equal(t, plan.Blocked, both.Verdict, "the two together would")
}
