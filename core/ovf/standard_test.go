package ovf_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/ovf/ovftest"
)

// anyMachine is one with whatever a machine may have.
func anyMachine(r *rand.Rand) *machine.Machine {
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	m := &machine.Machine{Name: pick("tide-gauge", "öre & <Söhne>", "x\"y'"), CPUs: 1 + r.IntN(8),
		MemoryBytes: 1<<20 + r.Int64N(1<<34), Firmware: pick("bios", "uefi"), GuestID: r.IntN(120),
		Guest: pick("", "Debian GNU/Linux 12 (64-bit)"), Serial: pick("", "SK-7"), TPM: pick("", "2.0"),
		Properties: slices.Repeat([]string{"site=Wharf"}, r.IntN(2)), StartOrder: r.IntN(3),
		UUID: pick("", "70126393-2a98-4856-90ac-efe4bba599b2")}
	for n := range r.IntN(4) {
		d := machine.Disk{ID: "disk" + string(rune('1'+n)), Format: pick("vmdk", "qcow2", "raw", "vhd", "vhdx"),
			VirtualBytes: r.Int64N(1 << 40), FileBytes: r.Int64N(1 << 30), Slot: n,
			Serial:     pick("", "0123456789abcdef0123"),
			Controller: pick("", "virtio-scsi", "virtio-blk", "ahci", "ide", "nvme", "lsi-sas")}
		if r.IntN(4) > 0 {
			d.File = "it's-" + d.ID + ".img"
		}
		m.Disks = append(m.Disks, d)
	}
	for n := range r.IntN(4) {
		m.NICs = append(m.NICs, machine.NIC{Name: "NIC " + string(rune('1'+n)), VLAN: 20,
			Model: pick("virtio", "82574L", "RTL8139"), MAC: pick("", "06:5c:00:ea:c5:e4"),
			Network: pick("", "lab", "visitors"), Segment: pick("", "lab")})
	}
	for _, kind := range []string{machine.DeviceCD, machine.DeviceFloppy, machine.DeviceSerial, machine.DeviceParallel,
		machine.DeviceSound, machine.DeviceUSB, machine.DevicePassthrough, machine.DeviceShare} {
		if r.IntN(2) == 0 {
			m.Devices = append(m.Devices, machine.Device{Kind: kind, Name: kind + " 1",
				File: pick("", "reef/guide.iso")})
		}
	}
	if r.IntN(2) == 0 {
		m.Tree = []machine.Snapshot{{Name: "monday", MadeAt: time.Unix(1700000000, 0), Note: "before <it>",
			Disks: []machine.SnapshotDisk{{Disk: "disk1", File: "a", Format: "qcow2"}}}}
	}
	return m
}

// TestByTheStandard: what is written here keeps the rules of DSP0243, however often it is changed and said again.
func TestByTheStandard(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 300 {
		d, err := ovf.New(anyMachine(r))
		require.NoError(t, err)
		for range 3 {
			version := []string{"1", "2"}[r.IntN(2)]
			require.NoError(t, d.SetVersion(version))
			raw, err := d.Encode(0)
			require.NoError(t, err)
			require.Empty(t, ovftest.Breaches(raw), "%s", raw)
			require.Contains(t, string(raw), "ovf/envelope/"+version+`"`)
			before := d.Machines
			d, err = ovf.Parse("x.ovf", raw)
			require.NoError(t, err)
			require.Equal(t, version, d.Version)
			require.Equal(t, before[0].NICs, d.Machines[0].NICs)
			require.NoError(t, d.SetProduct(0, machine.Product{Name: "Gauge", Version: "3", Licence: "Take care",
				Properties: map[string]string{"site": "Quay", "net.host": "x", "net.mask": "24"}}))
			next := anyMachine(r)
			require.NoError(t, d.SetMachine(0, next))
			require.Equal(t, next.Disks, withFiles(d.Machines[0].Disks, next.Disks))
		}
	}
}

// withFiles leaves out what a descriptor can't say of a disk without a file.
func withFiles(got, want []machine.Disk) []machine.Disk {
	for i := range got {
		if i < len(want) && want[i].File == "" {
			got[i].FileBytes = want[i].FileBytes
		}
		if i < len(want) && want[i].Controller == "" {
			got[i].Controller, got[i].Slot = "", want[i].Slot
		}
		if i < len(want) {
			got[i].Format = want[i].Format
		}
	}
	return got
}

// TestForeignByTheStandard: what is changed in somebody else's descriptor breaks no rule that it did not break before.
func TestForeignByTheStandard(t *testing.T) {
	for _, raw := range []string{foreign, strings.ReplaceAll(foreign, "<o:OperatingSystemSection o:id=\"100\">"+
		"<o:Info>os</o:Info></o:OperatingSystemSection>", ""),
		strings.ReplaceAll(strings.ReplaceAll(foreign, "xmlns:other", "xmlns:unvora"), "other:", "unvora:")} {
		before := ovftest.Breaches([]byte(raw))
		d, err := ovf.Parse("kiosk.ovf", []byte(raw))
		require.NoError(t, err)
		m := d.Machines[0].Clone()
		m.Guest, m.Serial, m.Firmware = "Debian GNU/Linux 12 (64-bit)", "SK-7", "uefi"
		m.Disks = append(m.Disks, machine.Disk{ID: "disk2", File: "more.vmdk", Format: "vmdk", VirtualBytes: 1 << 30,
			Controller: "nvme"})
		m.NICs = append(m.NICs, machine.NIC{Name: "NIC 2", Model: "virtio", Network: "lab", Segment: "lab", VLAN: 20})
		m.Devices = append(m.Devices, machine.Device{Kind: machine.DeviceCD, Name: "CD drive 1"})
		require.NoError(t, d.SetMachine(0, m))
		require.NoError(t, d.SetProduct(0, machine.Product{Name: "Kiosk", Properties: map[string]string{"a.b": "c"}}))
		out, err := d.Encode(0)
		require.NoError(t, err)
		require.Subset(t, before, ovftest.Breaches(out), "%s", out)
		again, err := ovf.Parse("kiosk.ovf", out)
		require.NoError(t, err)
		require.Equal(t, m.Serial, again.Machines[0].Serial)

		// As version 1, in which there is one kind of items, and which has no sections that came later.
		later := "<o:PlacementSection o:group=\"g\"><o:Info>together</o:Info></o:PlacementSection>" +
			"<other:PlacementSection xmlns:other=\"urn:other\" o:required=\"false\"><o:Info>kept</o:Info>" +
			"</other:PlacementSection>"
		again, err = ovf.Parse("kiosk.ovf", []byte(strings.Replace(string(out), "</o:VirtualSystem>",
			later+"</o:VirtualSystem>", 1)))
		require.NoError(t, err)
		require.Error(t, again.SetVersion("3"))
		require.NoError(t, again.SetVersion("1"))
		if out, err = again.Encode(0); err == nil {
			again, err = ovf.Parse("kiosk.ovf", out)
		}
		require.NoError(t, err)
		require.Subset(t, before, ovftest.Breaches(out), "%s", out)
		require.NotContains(t, string(out), "PortItem")
		require.NotContains(t, string(out), "envelope/2")
		require.NotContains(t, string(out), "o:PlacementSection")
		require.Contains(t, string(out), "other:PlacementSection")
		require.Equal(t, d.Machines[0].Disks, again.Machines[0].Disks)
		require.Equal(t, d.Machines[0].NICs, again.Machines[0].NICs)
		require.Equal(t, m.Guest, again.Machines[0].Guest)
		require.Len(t, again.Machines[0].Disks, 2)
		require.Equal(t, "lab", again.Machines[0].NICs[1].Segment)
	}
}

// TestBreaches: what is against the standard is found.
func TestBreaches(t *testing.T) {
	m := anyMachine(rand.New(rand.NewPCG(1, 1)))
	m.Name, m.Disks = "kiosk", []machine.Disk{{ID: "disk1", File: "a.vmdk", Format: "vmdk", VirtualBytes: 1 << 30,
		FileBytes: 5, Controller: "ahci"}}
	m.NICs = []machine.NIC{{Name: "NIC 1", Model: "virtio", Network: "lab"}}
	d, err := ovf.New(m)
	require.NoError(t, err)
	require.NoError(t, d.SetProduct(0, machine.Product{Name: "Gauge", Version: "3", Licence: "Take care",
		Properties: map[string]string{"site": "Quay"}}))
	raw, err := d.Encode(0)
	require.NoError(t, err)
	good := string(raw)
	require.Empty(t, ovftest.Breaches(raw))
	for _, c := range [][3]string{
		{`<Info>The disks of the machine</Info>`, ``, "DiskSection holds Info 0 times"},
		{`ovf:href="a.vmdk"`, `ovf:href="../a.vmdk"`, "leads out of the package"},
		{`ovf:href="a.vmdk"`, ``, `File "file-disk1" has no href`},
		{`ovf:size="5"`, `ovf:size="five"`, `size is "five"`},
		{`ovf:fileRef="file-disk1"`, `ovf:fileRef="file-2"`, `there is no file "file-2"`},
		{`ovf:capacity="1073741824"`, ``, "has no capacity"},
		{`capacityAllocationUnits="byte"`, `capacityAllocationUnits="GB"`, "no programmatic unit"},
		{`<rasd:HostResource>ovf:/disk/disk1<`, `<rasd:HostResource>ovf:/disk/disk7<`, "leads nowhere"},
		{`<rasd:Connection>lab<`, `<rasd:Connection>wharf<`, `there is no network "wharf"`},
		{`<rasd:InstanceID>2<`, `<rasd:InstanceID>1<`, "is there twice"},
		{`<rasd:Parent>3<`, `<rasd:Parent>77<`, `there is no item "77"`},
		{`<rasd:ResourceType>10<`, `<rasd:ResourceType>35<`, `ResourceType is "35"`},
		{`<rasd:ResourceType>4</rasd:ResourceType>`, ``, `ResourceType is ""`},
		{`<vssd:InstanceID>0</vssd:InstanceID>`, ``, "System has no InstanceID"},
		{`<vssd:ElementName>`, `<vssd:Zone>1</vssd:Zone><vssd:ElementName>`, "there is no Zone"},
		{`<rasd:ElementName>NIC 1`, `<rasd:Weight>1</rasd:Weight><rasd:ElementName>NIC 1`, "stands behind Weight"},
		{`<VirtualSystem ovf:id="kiosk">`, `<VirtualSystem>`, "has no id"},
		{`<EulaSection>`, `<Strings/><EulaSection>`, "may not hold Strings"},
		{`<License>Take care</License>`, ``, "holds License 0 times"},
		{`<Version>3</Version>`, `<Version>3</Version><Vendor>Quay</Vendor>`, "Vendor stands behind"},
		{`ovf:key="site"`, `ovf:key="net.site"`, "neither . nor :"},
		{`ovf:type="string"`, `ovf:type="text"`, `there is no type "text"`},
		{`<NetworkSection>`, `<DiskSection><Info/></DiskSection><NetworkSection>`, `"DiskSection" is there twice`},
		{`</Envelope>`, `<References/></Envelope>`, "References stands behind"},
		{`ovf/envelope/1`, `ovf/envelope/9`, "the root is"},
	} {
		spoilt := strings.Replace(good, c[0], c[1], 1)
		require.NotEqual(t, good, spoilt, c[0])
		require.Contains(t, strings.Join(ovftest.Breaches([]byte(spoilt)), "\n"), c[2])
	}
}
