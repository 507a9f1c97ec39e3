package plan_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
)

// full is a machine with something of everything that a package may keep back.
func full() *machine.Machine {
	return &machine.Machine{Name: "tide-gauge", UUID: "u", FirmwareUUID: "fu", Serial: "SKERROW-7", GenerationID: "g",
		CPUs: 6, CoresPerSocket: 3, MemoryBytes: 4 << 30, MinMemoryBytes: 2 << 30, Static: []string{"192.0.2.7"},
		Properties: []string{"password=skerrow"}, TPMKey: "skerrow", StartOrder: 2,
		Disks: []machine.Disk{{ID: "disk1", Serial: "S1"}, {ID: "disk2", Serial: "S2"}},
		NICs: []machine.NIC{{Name: "NIC 1", MAC: "06:5c:00:00:00:01", Network: "lab", Segment: "lab", VLAN: 20},
			{Name: "NIC 2", MAC: "06:5c:00:00:00:02", Network: "visitors"},
			{Name: "NIC 3", MAC: "06:5c:00:00:00:03", Network: "lab"}, {Name: "NIC 4"}},
		Devices: []machine.Device{{Kind: machine.DeviceCD, Name: "CD drive 1", File: "/isos/skerrow.iso"},
			{Kind: machine.DeviceShare, Name: "share 1", File: "/srv/skerrow"},
			{Kind: machine.DeviceCD, Name: firststart.Drive, File: firststart.File}},
		Boot:   []string{"CD drive 1", "disk2", "disk1"},
		Tree:   []machine.Snapshot{{Name: "before skerrow"}},
		Stands: "before skerrow",
		Passport: &machine.Passport{Lineage: "l", Copy: "c", Parent: "p", MadeBy: "export", Identity: "keep",
			MadeAt: time.Unix(1700000000, 0)}}
}

// TestHanding: what a package holds is as its purpose wants it, what is said otherwise comes first, and the machine
// itself stays as it is.
func TestHanding(t *testing.T) {
	host := plainCase(t).facts.Host
	export := func(r plan.HandingRequest) (*plan.Plan, plan.Handing, error) {
		facts := plan.ExportFacts{Copy: origin, Machine: full(), Host: host, PoolState: plan.PoolReady}
		p, err := plan.Export(facts, plan.ExportRequest{File: "x.ova", Holds: r})
		require.Equal(t, full(), facts.Machine)
		if err != nil {
			return nil, plan.Handing{}, err
		}
		return p, stepsOf[plan.HandOut](p)[0].Handing, nil
	}
	of := func(r plan.HandingRequest) *machine.Machine {
		t.Helper()
		p, h, err := export(r)
		require.NoError(t, err)
		got := h.Of(full())
		noted := stepsOf[plan.Record](p)[0].Machine
		require.Equal(t, got.Name, noted.Name, "the inventory notes what is in it")
		require.Equal(t, got.Name, stepsOf[plan.Record](p)[0].Name, "under the name for the receiver")
		require.Equal(t, got.MACs(), noted.MACs())
		return got
	}
	whole := full()
	whole.WithoutSnapshots()
	whole.Devices = whole.Devices[:2] // what it was told at its first start is nobody else's
	require.Equal(t, whole, of(plan.HandingRequest{}))
	require.Equal(t, whole, of(plan.HandingRequest{For: plan.ForRestore}))

	out := of(plan.HandingRequest{For: plan.ForHandOut})
	raw, err := json.Marshal(out)
	require.NoError(t, err)
	require.NotContains(t, string(raw), "skerrow", "nothing of the site")
	require.NotContains(t, string(raw), "SKERROW")
	require.Empty(t, out.UUID+out.FirmwareUUID+out.Serial+out.GenerationID+out.Disks[0].Serial)
	require.Empty(t, out.MACs())
	require.Empty(t, out.Static)
	require.Equal(t, []string{"net-1", "net-2", "net-1", ""}, []string{out.NICs[0].Network, out.NICs[1].Network,
		out.NICs[2].Network, out.NICs[3].Network}, "which are one network is still seen")
	require.Empty(t, out.NICs[0].Segment)
	require.Equal(t, &machine.Passport{Copy: "c", Identity: "keep", MadeAt: time.Unix(1700000000, 0)}, out.Passport)

	some := of(plan.HandingRequest{For: plan.ForHandOut, MACs: plan.Keep, Media: plan.MediaNamed})
	require.Equal(t, full().MACs(), some.MACs())
	require.Equal(t, "skerrow.iso", some.Devices[0].File, "where it lies here says nothing there")
	require.Empty(t, some.UUID)
	require.Empty(t, of(plan.HandingRequest{MACs: plan.Drop}).MACs())
	require.Equal(t, "u", of(plan.HandingRequest{MACs: plan.Drop}).UUID)
	require.Empty(t, of(plan.HandingRequest{Identity: plan.Drop}).UUID)
	require.Empty(t, of(plan.HandingRequest{Media: plan.MediaWithout}).Devices[0].File)

	less := of(plan.HandingRequest{LeaveOut: []string{"disk2"}, Drop: []string{"NIC 2", "CD drive 1"}, Name: "kit",
		CPUs: 4, MemoryBytes: 1 << 30})
	require.Equal(t, []string{"disk1"}, less.Boot)
	require.Len(t, less.Disks, 1)
	require.Len(t, less.NICs, 3)
	require.Len(t, less.Devices, 1)
	require.Equal(t, "kit", less.Name)
	require.Equal(t, 4, less.CPUs)
	require.Zero(t, less.CoresPerSocket, "four are not made of threes")
	require.EqualValues(t, 1<<30, less.MinMemoryBytes)

	p, h, err := export(plan.HandingRequest{For: plan.ForHandOut, LeaveOut: []string{"disk2"},
		Product: machine.Product{Name: "Tide gauge", Properties: map[string]string{"site": "x"}}})
	require.NoError(t, err)
	require.Equal(t, "Tide gauge", h.Product.Name)
	require.Equal(t, "The receiver does not get: MACs, ids, fixed addresses, names of networks, values of its "+
		"properties, what lies in CD drive 1, share 1, disk disk2.", finding(p, "package.holds").Message)
	require.Len(t, stepsOf[plan.HandOut](p)[0].Disks, 1)
	require.Equal(t, ovf.SHA256, stepsOf[plan.HandOut](p)[0].Algorithm())

	for says, r := range map[string]plan.HandingRequest{
		`no disk "disk3"; it has "disk1", "disk2"`: {LeaveOut: []string{"disk3"}},
		`no device "sound"; it has "CD drive 1"`:   {Drop: []string{"sound"}},
		"name for the receiver":                    {Name: "../x"},
		"1 MiB at least":                           {MemoryBytes: 4},
		"is no key":                                {Product: machine.Product{Properties: map[string]string{"": "x"}}},
	} {
		_, _, err := export(r)
		require.ErrorContains(t, err, says)
	}
	old, err := plan.Export(plan.ExportFacts{Copy: origin, Machine: full(), Host: host, PoolState: plan.PoolReady},
		plan.ExportRequest{File: "x.ova", OVF: "1", TakeRecommended: true})
	require.NoError(t, err)
	require.Contains(t, finding(old, "package.holds").Message, "what only 2.x has a place for is left out")
	require.Equal(t, "1", stepsOf[plan.HandOut](old)[0].OVF)
	weak, err := plan.Export(plan.ExportFacts{Copy: origin, Machine: full(), Host: host, PoolState: plan.PoolReady},
		plan.ExportRequest{File: "x.ova", Digest: ovf.SHA1,
			Holds: plan.HandingRequest{LeaveOut: []string{"disk1", "disk2"}}})
	require.NoError(t, err)
	keep(t, weak)
	require.NotNil(t, finding(weak, "package.weak-digest"))
	require.Contains(t, weak.Steps[0].What, "without disks")
}

// TestExportCompact: what is left out as free is said before, with what it saves, and why where nothing is.
func TestExportCompact(t *testing.T) {
	is := sound(t)
	is.Machine.Disks[0].FileBytes = 100 << 20
	at := is.Folder.Disks[0].Path
	clean := plan.DiskFree{FreeSpace: fit.FreeSpace{DataBytes: 40 << 20, Systems: []fit.FileSystem{
		{Kind: "ext4", Bytes: 1 << 30, FreeBytes: 700 << 20}, {Kind: "ext4", Bytes: 1 << 30, FreeBytes: 300 << 20}}}}
	export := func(free plan.DiskFree, state machine.State, r plan.ExportRequest) (*plan.Plan, *plan.HandOut) {
		t.Helper()
		f := plan.ExportFacts{Copy: is.Copy, PoolState: plan.PoolReady, Machine: is.Machine, Host: is.Host,
			Disks: is.Folder.Disks, Files: is.Folder.Files, Free: map[string]plan.DiskFree{at: free}}
		f.Copy.State, f.Host.Can = state, []fit.Ability{fit.Freezes}
		r.File, r.Compact, r.TakeRecommended = "x.ova", true, true
		p, err := plan.Export(f, r)
		require.NoError(t, err)
		keep(t, p)
		return p, stepsOf[plan.HandOut](p)[0]
	}
	bytes := func(p *plan.Plan) (n int64) {
		for _, s := range p.Steps {
			n += s.Bytes
		}
		return n
	}
	p, does := export(clean, machine.Stopped, plan.ExportRequest{})
	require.True(t, does.Compact)
	require.EqualValues(t, 60<<20, bytes(p))
	require.Equal(t, "disk1: its ext4 has 1000 MiB free, and 40 MiB of data that lie in there are left out.",
		finding(p, "package.free-space").Message)

	p, does = export(clean, machine.Stopped, plan.ExportRequest{Disks: plan.DiskFile{Format: "raw", Whole: true}})
	require.True(t, does.Compact)
	require.Equal(t, max(is.Machine.Disks[0].VirtualBytes, 100<<20), bytes(p), "zeros take their room in such a file")

	empty := clean
	empty.DataBytes = 0
	p, _ = export(empty, machine.Stopped, plan.ExportRequest{})
	require.Equal(t, "disk1: its ext4 has 1000 MiB free, where no data lie: leaving it out saves nothing.",
		finding(p, "package.free-space").Message)

	odd := clean
	odd.Systems = append([]fit.FileSystem{{Kind: "NTFS", Bytes: 2 << 30, Kept: "it was not closed"}}, clean.Systems...)
	p, _ = export(odd, machine.Stopped, plan.ExportRequest{})
	require.Contains(t, finding(p, "package.free-space").Message,
		"are left out; nothing of its NTFS of 2 GiB is left out, since it was not closed.")
	p, _ = export(plan.DiskFree{FreeSpace: fit.FreeSpace{Systems: odd.Systems[:1]}}, machine.Stopped,
		plan.ExportRequest{})
	require.Equal(t, "disk1: nothing of its NTFS of 2 GiB is left out, since it was not closed.",
		finding(p, "package.free-space").Message)
	p, _ = export(plan.DiskFree{}, machine.Stopped, plan.ExportRequest{})
	require.Contains(t, finding(p, "package.free-space").Message, "no ext2 to ext4, XFS or NTFS is seen on it")
	p, does = export(plan.DiskFree{Unknown: "it has 65 TiB."}, machine.Stopped, plan.ExportRequest{})
	require.Contains(t, finding(p, "package.free-space").Message, "how much is left out: it has 65 TiB.")
	require.True(t, does.Compact)

	// One that runs has its file systems in use, whatever they say of themselves.
	p, does = export(plan.DiskFree{}, machine.Running, plan.ExportRequest{})
	require.True(t, does.Frozen)
	require.False(t, does.Compact)
	require.Contains(t, finding(p, "package.free-space").Message, "Stop it for the export")
	f := plan.ExportFacts{Copy: is.Copy, PoolState: plan.PoolReady, Machine: is.Machine, Host: is.Host,
		Disks: is.Folder.Disks}
	f.Copy.State = machine.Running
	p, err := plan.Export(f, plan.ExportRequest{File: "x.ova", Compact: true})
	require.NoError(t, err)
	require.Contains(t, finding(p, "package.free-space").Message, "Stop it for the export", "nobody has answered yet")
	p, does = export(plan.DiskFree{}, machine.Running,
		plan.ExportRequest{Answers: plan.Answers{"state.running": "stop"}})
	require.True(t, does.Compact)
	require.Contains(t, finding(p, "package.free-space").Message, "once it is stopped")
}
