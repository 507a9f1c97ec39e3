package plan_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// BenchmarkRegister plans a machine with 8 disks and 8 NICs, all facts at hand.
func BenchmarkRegister(b *testing.B) {
	family, err := fit.FamilyByName("slate")
	require.NoError(b, err)
	m := &machine.Machine{Name: "archive-db", CPUs: 8, MemoryBytes: 16 << 30, Firmware: "uefi",
		Guest: "Debian GNU/Linux 12"}
	facts := plan.RegisterFacts{Where: "reef/archive-db", Folder: plan.Folder{Path: "/reef/archive-db", Pool: "p",
		Machine: m}}
	facts.Host = plan.HostFacts{ID: "h", Name: "gannet", State: "up", CPUs: 16, MemoryBytes: 64 << 30, Family: family,
		Pools: []plan.PoolFacts{{ID: "p", Name: "reef", Path: "/reef", State: "ready", FreeBytes: 1 << 40}}}
	facts.Origin = lineage.Origin{Status: "unknown"}
	for n := range 8 {
		id := fmt.Sprintf("disk%d", n)
		m.Disks = append(m.Disks, machine.Disk{ID: id, File: id + ".vmdk", Format: "vmdk", VirtualBytes: 1 << 40,
			Controller: "lsi-sas", Slot: n})
		facts.Folder.Disks = append(facts.Folder.Disks, plan.FolderDisk{ID: id, File: id + ".vmdk",
			Path: "/reef/archive-db/" + id + ".vmdk", Pool: "p", Format: "vmdk", VirtualBytes: 1 << 40,
			FileBytes:   1 << 30,
			SectorBytes: 512, Layers: 1})
		m.NICs = append(m.NICs, machine.NIC{Name: fmt.Sprint("NIC ", n), Model: "82574L",
			MAC: fmt.Sprintf("06:5c:00:00:00:%02x", n), Network: fmt.Sprint("net ", n)})
		facts.Host.Switches = append(facts.Host.Switches, wiring.Switch{Name: fmt.Sprint("switch ", n),
			Segment: fmt.Sprint("segment ", n), VLAN: n})
		facts.Rules = append(facts.Rules, wiring.Rule{ID: fmt.Sprint(n), Network: fmt.Sprintf("net %d", n),
			Segment: fmt.Sprint("segment ", n)})
	}
	for b.Loop() {
		p, err := plan.Register(facts, plan.BringRequest{Files: plan.Copy, TakeRecommended: true})
		require.NoError(b, err)
		require.NotEmpty(b, p.Findings)
	}
}
