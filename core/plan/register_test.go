package plan_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// lying is tide-gauge's folder in a pool of gannet.
func lying(t *testing.T) (plan.RegisterFacts, plan.BringRequest) {
	family, err := fit.FamilyByName("slate")
	require.NoError(t, err)
	m := tideGauge()
	m.Disks[0].File, m.Disks[0].Format = "d.qcow2", "qcow2"
	f := plan.RegisterFacts{Where: "reef/tide-gauge", Folder: plan.Folder{Path: "/reef/tide-gauge", Pool: "p1",
		State: "stopped", Machine: m, Files: []string{"d.qcow2", "tide-gauge.ovf"},
		Disks: []plan.FolderDisk{{ID: "disk1", File: "d.qcow2", Path: "/reef/tide-gauge/d.qcow2", Pool: "p1",
			Format: "qcow2",
			DiskID: "d-1", VirtualBytes: 4 << 30, FileBytes: 1 << 20, SectorBytes: 512, Layers: 1}}}}
	f.Host = plan.HostFacts{ID: "h", Name: "gannet", State: "up", CPUs: 16, MemoryBytes: 64 << 30, Family: family,
		MACPrefix: "02:5c:01",
		Pools: []plan.PoolFacts{{ID: "p1", Name: "reef", Path: "/reef", State: "ready", TotalBytes: 1 << 40,
			FreeBytes: 1 << 40}, {ID: "p2", Name: "harbour", Path: "/harbour", State: "ready", TotalBytes: 1 << 40,
			FreeBytes: 1 << 40}},
		Switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}, {Name: "quarantine", Segment: "quarantine"}}}
	f.Origin = lineage.Origin{Status: "gone", Copy: &origin}
	return f, plan.BringRequest{TakeRecommended: true}
}

// TestRegisterFindings: for each finding a case that raises it and, where it
// can be settled, answers that clear the way.
func TestRegisterFindings(t *testing.T) {
	disk := func(f *plan.RegisterFacts) *plan.FolderDisk { return &f.Folder.Disks[0] }
	for _, c := range []struct {
		code   string
		spoil  func(f *plan.RegisterFacts, req *plan.BringRequest)
		clears string // answer; "" when it blocks, or is a note or settled by its recommendation
		then   func(t *testing.T, p *plan.Plan)
	}{
		{"host.unreachable", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.State = "unreachable" }, "",
			nil},
		{"host.resting", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.State = "resting" }, "", nil},
		{"host.older", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.WantsProtocol = 2 }, "", nil},
		{"host.clock", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.ClockOff = 100 }, "", nil},
		{"busy.job", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Busy = "0199" }, "", nil},
		{"copy.already-here", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Folder.Registered = true }, "",
			nil},
		{"copy.hollow-here", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Hollow = &lineage.Known{ID: "x", Path: "/reef/old"}
		}, "copy.hollow-here=replace", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "/reef/old", do[plan.Unlist](t, p, plan.KindDelist).Folder)
		}},
		{"copy.newer-elsewhere", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Newer = &origin },
			"copy.newer-elsewhere=go-on", nil},
		{"descriptor.lost", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Record, f.Folder.Machine, f.Folder.Problem = f.Folder.Machine, nil, "there is no descriptor"
		}, "descriptor.lost=record", nil},
		{"descriptor.lost", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Folder.Machine, f.Folder.Problem = nil, "there is no descriptor"
		}, "", nil},
		{"pool.read-only", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.Pools[0].State = "read-only" },
			"", nil},
		{"pool.resting", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Pools[1].State, req.Files, req.Pool = "resting", plan.Copy, "harbour"
		}, "", nil},
		{"pool.foreign", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Pools[1].Foreign, req.Files, req.Pool = "mainland", plan.Copy, "harbour"
		}, "", nil},
		{"pool.slow", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.Pools[0].Slow = "12 MB/s" }, "", nil},
		{"pool.ownerless", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Pools[1].Ownerless, req.Files, req.Pool = true, plan.Copy, "harbour"
		}, "", nil},
		{"space.short", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Folder.Machine.Disks[0].FileBytes = 2 << 20
			f.Host.Pools[1].FreeBytes, req.Files, req.Pool = 1<<20, plan.Copy, "harbour"
		}, "", nil},
		{"space.short-later", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Pools[1].FreeBytes, req.Files, req.Pool = 1<<30, plan.Copy, "harbour"
		}, "", nil},
		{"space.file-limit", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Folder.Machine.Disks[0].FileBytes = 5 << 30
			f.Host.Pools[1].MaxFile, req.Files, req.Pool = 4<<30, plan.Copy, "harbour"
		}, "", nil},
		{"path.too-long", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Family.MaxPath, req.Files, req.Name = 100, plan.Copy, strings.Repeat("x", 90)
		}, "", nil},
		{"state.suspended", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Folder.Machine.Suspended = true },
			"state.suspended=drop", func(t *testing.T, p *plan.Plan) {
				require.False(t, do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.Suspended)
			}},
		{"snapshot.unportable", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Folder.Machine.Snapshots, f.Host.Family.KeepsSnapshots = []string{"before the storm"}, false
		}, "snapshot.unportable=merge", func(t *testing.T, p *plan.Plan) {
			require.NotNil(t,
				do[plan.Carry](t, p, plan.KindCarry))
		}},
		{"disk.missing", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Missing = true },
			"disk.missing=leave-out", nil},
		{"disk.format-unknown", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Problem, disk(f).ProblemCode = "no format known", "disk.format-unknown"
		}, "disk.format-unknown=leave-out", nil},
		{"disk.format-unknown", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Problem, disk(f).ProblemCode = "no format known", "disk.format-unknown"
		}, "disk.format-unknown=raw", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "raw", do[plan.Carry](t, p, plan.KindCarry).Read)
		}},
		{"disk.damaged", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			disk(f).Problem, req.Files = "its header contradicts itself", plan.Copy
			f.From = &plan.HostFacts{ID: "o", Name: "petrel", State: "up"}
		}, "disk.damaged=repair", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, plan.KindMend, p.Steps[0].Kind)
			require.Equal(t, "petrel", p.Steps[0].Host, "where it lies")
		}},
		{"disk.damaged", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Problem = "its header contradicts itself"
		}, "disk.damaged=repair", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "/reef/tide-gauge/d.qcow2", do[plan.Mend](t, p, plan.KindMend).Path)
		}},
		{"disk.damaged", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Problem = "its header contradicts itself"
		}, "disk.damaged=salvage", func(t *testing.T, p *plan.Plan) {
			require.True(t, do[plan.Carry](t, p, plan.KindCarry).Salvage)
		}},
		{"disk.unclean", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Unclean = true },
			"disk.unclean=replay",
			nil},
		{"disk.encrypted", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Encrypted = true },
			"disk.encrypted=carry", nil},
		{"disk.empty", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).VirtualBytes = 0 },
			"disk.empty=leave-out",
			nil},
		{"disk.empty", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).NoData = true }, "disk.empty=keep",
			nil},
		{"disk.size-mismatch", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).VirtualBytes = 5 << 30 },
			"disk.size-mismatch=image", func(t *testing.T, p *plan.Plan) {
				require.Equal(t, int64(5<<30), do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.Disks[0].VirtualBytes)
			}},
		{"disk.size-over", func(f *plan.RegisterFacts, _ *plan.BringRequest) { f.Host.Family.MaxDisk = 1 << 30 },
			"disk.size-over=leave-out", nil},
		{"disk.sector-size", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).SectorBytes = 520 },
			"disk.sector-size=convert", nil},
		{"disk.shared", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).SharedBy = []string{"tide-probe"} },
			"disk.shared=copy", func(t *testing.T, p *plan.Plan) {
				require.Equal(t, "/reef/tide-gauge", do[plan.Carry](t, p, plan.KindCarry).Into)
			}},
		{"disk.parent-of-others", func(f *plan.RegisterFacts,
			_ *plan.BringRequest) {
			disk(f).LayersOf = []string{"training-01"}
		}, "disk.parent-of-others=layer", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "/reef/tide-gauge/d.qcow2", do[plan.NewLayer](t, p, plan.KindLayer).Parent)
		}},
		{"disk.outside-pool", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Pool = "" },
			"disk.outside-pool=copy", nil},
		{"disk.format-foreign", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Format = "vhd" },
			"disk.format-foreign=convert", func(t *testing.T, p *plan.Plan) {
				require.Equal(t, "qcow2", do[plan.Carry](t, p, plan.KindCarry).Format)
			}},
		{"disk.id-repeated", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).IDOf = "tide-probe" },
			"disk.id-repeated=renew", func(t *testing.T, p *plan.Plan) {
				require.Equal(t, []string{"/reef/tide-gauge/d.qcow2"}, do[plan.Alter](t, p, plan.KindAlter).RenewIDs)
			}},
		{"disk.parent-missing", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Faults = []plan.DiskFault{{Code: "disk.parent-missing", Path: "/reef/tide-gauge/d.qcow2",
				Message: "the parent is not there: unvora disk reparent x", Candidate: "/reef/base.qcow2"}}
		}, "disk.parent-missing=found", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "/reef/base.qcow2", do[plan.Relink](t, p, plan.KindRelink).Parent)
			require.NotContains(t, finding(p, "disk.parent-missing").Message, "unvora")
		}},
		{"disk.parent-changed", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Faults = []plan.DiskFault{{Code: "disk.parent-changed", Path: "/reef/tide-gauge/d.qcow2",
				Message:   "changed",
				Candidate: "/reef/base.qcow2"}}
		}, "disk.parent-changed=reparent", func(t *testing.T, p *plan.Plan) {
			require.True(t, do[plan.Relink](t, p, plan.KindRelink).Force)
		}},
		{"disk.chain-loop", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Faults = []plan.DiskFault{{Code: "disk.chain-loop", Message: "it is its own ancestor"}}
		}, "", nil},
		{"disk.chain-deep", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Layers = 99 },
			"disk.chain-deep=merge", nil},
		{"disk.in-use", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			disk(f).Faults = []plan.DiskFault{{Code: "disk.in-use", Message: "open in another process"}}
		}, "", nil},
		{"disk.nothing-bootable", func(f *plan.RegisterFacts, _ *plan.BringRequest) { disk(f).Guest = &fit.Guest{} },
			"", nil},
		{"disk.leftover-reference", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Folder.Machine.Devices = []machine.Device{{Kind: "cd", Name: "CD", File: "gone.iso"}}
		}, "disk.leftover-reference=eject", nil},
		{"network.switch-absent", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Rules = []wiring.Rule{{ID: "1", Network: "lab", Segment: "storage"}}
		}, "network.switch-absent=switch:lab", nil},
		{"network.switch-absent", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Rules = []wiring.Rule{{ID: "1", Network: "lab", Segment: "storage"}}
			f.Host.Ports = []wiring.Port{{Name: "port1", Address: "192.0.2.1"}, {Name: "port2"}}
		}, "network.switch-absent=create", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, plan.KindMakeSwitch, p.Steps[0].Kind)
			require.Equal(t, wiring.Switch{Name: "storage", Segment: "storage", VLAN: 20, Uplink: "port2",
				Tagged: true},
				do[plan.MakeSwitch](t, p, plan.KindMakeSwitch).Switch)
			require.Equal(t, "storage", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.NICs[0].Network)
		}},
		{"name.from-snapshot", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Folder.Machine.Name, f.Called = "before the storm", "tide-gauge"
			f.Folder.Machine.Snapshots = []string{"before the storm"}
		}, "name.from-snapshot=rename", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "tide-gauge", do[plan.Record](t, p, plan.KindRecord).Name)
		}},
		{"owner.none", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Host.Owners, f.Caller = []string{"tides", "waves"}, "ines"
		}, "owner.none=give:waves", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "waves", do[plan.Record](t, p, plan.KindRecord).Owner)
		}},
		{"quota.exceeded", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Quotas, f.Usage = []fit.Quota{{Owner: "tides", Machines: 3}},
				map[string]plan.Usage{"tides": {Machines: 3}}
			req.Owner = "tides"
		}, "quota.exceeded=owner:waves", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "waves", do[plan.Record](t, p, plan.KindRecord).Owner)
		}},
		{"quota.exceeded", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Quotas, req.Owner = []fit.Quota{{Owner: "tides", MemoryBytes: 1 << 30}}, "tides"
		}, "", nil},
		{"address.given", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Ranges = map[string]plan.Range{"lab": {Free: netip.MustParseAddr("192.0.2.101")}}
			req.Addresses = map[string]string{"NIC 1": "give"}
		}, "", nil},
		{"address.none-free", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Ranges = map[string]plan.Range{"lab": {}}
			req.Addresses = map[string]string{"NIC 1": "give"}
		}, "", nil},
		{"address.static", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Folder.Machine.Static, f.Subnets = []string{"198.51.100.7"},
				map[string]netip.Prefix{"lab": netip.MustParsePrefix("192.0.2.0/24")}
			f.Ranges = map[string]plan.Range{"lab": {Free: netip.MustParseAddr("192.0.2.101")}}
		}, "address.static=give", func(t *testing.T, p *plan.Plan) {
			give := do[plan.GiveIDs](t, p, plan.KindGiveIDs)
			require.Equal(t, map[string]string{"NIC 1": "lab"}, give.Addresses)
			require.Empty(t, give.Machine.Static, "the new one comes when it is given out")
		}},
		{"place.by-rule", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Landing, req.Files = []landing.Rule{{ID: "r", Kind: landing.Machine, Pool: "harbour"}}, plan.Copy
		}, "", nil},
		{"network.segment-differs", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Host.Switches = append(f.Host.Switches, wiring.Switch{Name: "field", Segment: "field", VLAN: 30})
			req.Wire = map[string]string{"NIC 1": "field"}
		}, "network.segment-differs=keep", nil},
		{"address.static", func(f *plan.RegisterFacts, _ *plan.BringRequest) {
			f.Folder.Machine.Static, f.Subnets = []string{"198.51.100.7"},
				map[string]netip.Prefix{"lab": netip.MustParsePrefix("192.0.2.0/24")}
		}, "address.static=quarantine", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "quarantine", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.NICs[0].Network)
		}},
		{"identity.activation", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Bound, req.Identity = map[identity.Facet]string{identity.MachineUUID: "licence"}, "renew"
		}, "identity.activation=renew", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "renew", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Choice["uuid"])
		}},
		{"mac.licence-bound", func(f *plan.RegisterFacts, req *plan.BringRequest) {
			f.Bound, req.Identity = map[identity.Facet]string{identity.MAC: "reservation"}, "renew"
		}, "mac.licence-bound=keep", func(t *testing.T, p *plan.Plan) {
			require.Equal(t, "keep", do[plan.GiveIDs](t, p, plan.KindGiveIDs).Choice["mac"])
		}},
		{"identity.guest-inside", func(f *plan.RegisterFacts,
			_ *plan.BringRequest) {
			f.Guest = &fit.Guest{Name: "tide-gauge"}
		}, "", nil},
	} {
		t.Run(c.code+" "+c.clears, func(t *testing.T) {
			f, req := lying(t)
			c.spoil(&f, &req)
			p, err := plan.Register(f, req)
			require.NoError(t, err)
			keep(t, p)
			g := finding(p, c.code)
			require.NotNil(t, g, "%v", p.Findings)
			require.NotEmpty(t, g.Message)
			if c.clears == "" {
				require.Equal(t, g.Severity == fit.Blocker, !p.Runnable)
				return
			}
			req.Answers = plan.Answers{}
			key, answer, err := plan.ParseAnswer(c.clears)
			require.NoError(t, err)
			req.Answers[key] = answer
			p, err = plan.Register(f, req)
			require.NoError(t, err)
			keep(t, p)
			require.True(t, p.Runnable, "%v", p.Findings)
			if c.then != nil {
				c.then(t, p)
			}
		})
	}
}

// TestFilesAndIdentity: the two questions are independent of each other.
func TestFilesAndIdentity(t *testing.T) {
	for _, files := range []string{"", plan.Stay, plan.Copy, plan.Move} {
		for _, id := range []string{"keep", "renew"} {
			f, req := lying(t)
			f.Copy = "01a20761-0000-7547-afa2-cc06ead9f2b5"
			req.Files, req.Identity, req.Pool = files, id, "harbour"
			p, err := plan.Register(f, req)
			require.NoError(t, err)
			keep(t, p)
			require.True(t, p.Runnable)
			kinds := []string{}
			for _, s := range p.Steps {
				kinds = append(kinds, s.Kind)
			}
			rec := do[plan.Record](t, p, plan.KindRecord)
			require.Equal(t, id, rec.Choice["uuid"])
			switch files {
			case plan.Copy:
				require.Equal(t, []string{"give-ids", "carry", "place", "record"}, kinds)
				require.Equal(t, f.Copy, rec.Parent, "another copy, made from this one")
				require.Empty(t, rec.Copy)
			case plan.Move:
				require.Equal(t, []string{"give-ids", "carry", "place", "take-away", "record"}, kinds)
				require.Equal(t, f.Copy, rec.Copy, "the same copy")
			default:
				require.Equal(t, []string{"give-ids", "alter", "record"}, kinds)
				require.Equal(t, f.Copy, rec.Copy)
				require.Equal(t, id == "renew", len(do[plan.Alter](t, p, plan.KindAlter).RenewIDs) == 1)
			}
		}
	}
	f, req := lying(t)
	f.From = &plan.HostFacts{ID: "o", Name: "petrel", State: "up"}
	req.Files = plan.Stay
	_, err := plan.Register(f, req)
	require.ErrorContains(t, err, "can be copied or moved, not stay")
	req.Files = "burn"
	_, err = plan.Register(f, req)
	require.ErrorContains(t, err, "stay, copy or move")
}

func TestGather(t *testing.T) {
	f, req := lying(t)
	f.Folder.Machine = nil
	f.Folder.Disks = append(f.Folder.Disks, plan.FolderDisk{ID: "boot", File: "boot.qcow2", Path: "/harbour/boot.qcow2",
		Pool: "p2", Format: "qcow2", VirtualBytes: 1 << 30, SectorBytes: 512, Layers: 1,
		Guest: &fit.Guest{Boot: "uefi", System: "Windows Server 2022", OSType: 113}})
	req.Name = "tides"
	p, err := plan.Gather(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable, "%v", p.Findings)
	m := do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine
	require.Equal(t, "boot", m.Disks[0].ID, "it starts from the disk that starts")
	require.Equal(t, "../../harbour/boot.qcow2", m.Disks[0].File)
	require.Equal(t, "uefi", m.Firmware)
	require.Equal(t, int64(4<<30), m.MemoryBytes)
	f.Folder.Disks[0].LayersOf, req.Answers = []string{"training-01"}, plan.Answers{"disk.parent-of-others": "layer"}
	p, err = plan.Gather(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, do[plan.Carry](t, p, plan.KindCarry), "there is no folder yet for a layer on it: it is copied")
	require.NotContains(t, kinds(p), plan.KindLayer)
	f.Folder.Disks[0].LayersOf = nil
	f.Folder.Disks[1].Guest = nil
	req.TakeRecommended = false
	p, err = plan.Gather(f, req)
	require.NoError(t, err)
	keep(t, p)
	require.NotNil(t, finding(p, "disk.boot-unclear"))
	req.Answers = plan.Answers{"disk.boot-unclear": "disk:nothing"}
	_, err = plan.Gather(f, req)
	require.ErrorContains(t, err, "there are disk1, boot")
	req.Files = plan.Move
	_, err = plan.Gather(f, req)
	require.Error(t, err)
}

func TestDelist(t *testing.T) {
	f, _ := lying(t)
	facts := plan.DelistFacts{Copy: origin, Host: f.Host, Last: true}
	p, err := plan.Delist(facts, false, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	require.Equal(t, lineage.Stray, do[plan.Forget](t, p, plan.KindForget).Form)
	p, err = plan.Delist(facts, true, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, plan.Blocked, p.Verdict, "the last copy")
	_, err = plan.Delist(facts, true, plan.Answers{"source.last-copy": "by-name:tide-probe"}, true)
	require.ErrorContains(t, err, "is not the name")
	p, err = plan.Delist(facts, true, plan.Answers{"source.last-copy": "by-name:tide-gauge"}, true)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable)
	facts.Copy.Form, facts.Copy.State = "hollow", "unknown"
	p, err = plan.Delist(facts, true, nil, true)
	require.NoError(t, err)
	keep(t, p)
	require.True(t, p.Runnable, "there is nothing left to be lost")
}

func TestPattern(t *testing.T) {
	require.Equal(t, "class-03", plan.Pattern("class-{nn}", "x", 3))
	require.Equal(t, "x-12", plan.Pattern("{name}-{n}", "x", 12))
}
