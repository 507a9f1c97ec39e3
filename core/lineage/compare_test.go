package lineage_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

func TestCompare(t *testing.T) {
	gib := func(n int64) string { return fmt.Sprint(n>>30, " GiB") }
	a := &machine.Machine{Name: "tide-gauge", UUID: "u", CPUs: 2, MemoryBytes: 2 << 30, Firmware: "bios",
		Guest: "Debian",
		Disks: []machine.Disk{{ID: "disk1", Format: "qcow2", VirtualBytes: 4 << 30, Controller: "virtio-scsi"}},
		NICs:  []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: "m", Network: "lab", Segment: "lab"}}}
	require.Empty(t, lineage.Compare(a, a.Clone(), gib))
	b := a.Clone()
	b.UUID, b.CPUs = "v", 4
	b.Disks = append(b.Disks, machine.Disk{ID: "disk2", Format: "raw", VirtualBytes: 1 << 30, Controller: "ahci"})
	b.NICs[0].Network, b.NICs[0].MAC = "labnet", "n"
	b.NICs = append(b.NICs, machine.NIC{Name: "NIC 2", Model: "virtio"})
	b.Devices = []machine.Device{{Kind: "cd", Name: "CD drive 1"}}
	b.Static = []string{"192.0.2.7"}
	require.Equal(t, []lineage.Difference{
		{Area: "hardware", What: "CPUs", A: "2", B: "4"},
		{Area: "hardware", What: "devices", A: "–", B: "CD drive 1"},
		{Area: "hardware", What: "disk2", A: "–", B: "1 GiB as RAW on ahci"},
		{Area: "wiring", What: "NIC 1", A: "lab", B: "labnet (segment lab)"},
		{Area: "identity", What: "MAC of NIC 1", A: "m", B: "n"},
		{Area: "wiring", What: "NIC 2", A: "–", B: "unplugged"},
		{Area: "wiring", What: "fixed addresses", A: "–", B: "192.0.2.7"},
		{Area: "identity", What: "machine UUID", A: "u", B: "v"},
	}, lineage.Compare(a, b, gib))
	back := lineage.Compare(b, a, gib)
	require.Len(t, back, len(lineage.Compare(a, b, gib)), "the same, whichever is asked first")
}
