package ovf_test

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

func tideGauge() *machine.Machine {
	return &machine.Machine{
		Name: "tide-gauge", UUID: "70126393-2a98-4856-90ac-efe4bba599b2",
		FirmwareUUID: "3f0d2c44-0d0b-4c6e-8c57-5f0c34f3b3a2", Serial: "SK-7",
		CPUs: 2, MemoryBytes: 2 << 30, Firmware: "uefi", Guest: "Debian GNU/Linux 12 (64-bit)", GuestID: 96,
		Disks: []machine.Disk{
			{ID: "disk1", File: "tide-gauge-disk1.vmdk", Format: "vmdk", VirtualBytes: 4 << 30, FileBytes: 1234,
				Controller: "virtio-scsi"},
			{ID: "disk2", File: "tide-gauge-disk2.vmdk", Format: "vmdk", VirtualBytes: 1 << 30, FileBytes: 99,
				Controller: "ahci", Slot: 1},
		},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: "06:5c:00:ea:c5:e4", Network: "lab", Segment: "lab",
			VLAN: 20}},
		Passport: &machine.Passport{Lineage: "01a20761-aded-7063-aff5-a8ed7322c044",
			Copy: "01a20761-aef5-7547-afa2-cc06ead9f2b4", Parent: "01a20761-aef5-7547-afa2-cc06ead9f2b5",
			MadeBy: "export", MadeAt: time.Unix(1700000000, 0).UTC(), Identity: "renew",
			Renewed: []string{"uuid", "mac"}},
	}
}

func encode(t testing.TB, m *machine.Machine) []byte {
	t.Helper()
	d, err := ovf.New(m)
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	return raw
}

func TestThereAndBack(t *testing.T) {
	want := tideGauge()
	d, err := ovf.Parse("x.ovf", encode(t, want))
	require.NoError(t, err)
	require.Equal(t, "1", d.Version)
	require.Empty(t, d.Notes)
	require.Equal(t, *want, d.Machines[0])
}

// foreign is a descriptor of OVF 2.0 by another writer: other prefixes, items
// of other kinds, things that we know nothing of.
const foreign = `<?xml version="1.0"?>
<o:Envelope xmlns:o="http://schemas.dmtf.org/ovf/envelope/2"
  xmlns:r="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
 xmlns:s="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_StorageAllocationSettingData.xsd"
   xmlns:e="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_EthernetPortAllocationSettingData.xsd"
     xmlns:other="urn:other">
 <o:References><o:File o:id="f1" o:href="a.vmdk" o:size="77"/><o:File o:id="iso" o:href="help.iso"/></o:References>
 <o:DiskSection><o:Info>disks</o:Info><o:Disk o:diskId="hd" o:fileRef="f1" o:capacity="20"
   o:capacityAllocationUnits="byte * 2^30"
     o:format="http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"/></o:DiskSection>
 <o:NetworkSection><o:Info>nets</o:Info><o:Network o:name="visitors"/></o:NetworkSection>
 <other:CoffeeSection o:required="false"><o:Info>kept</o:Info><other:Cup size="big"/></other:CoffeeSection>
 <o:VirtualSystem o:id="kiosk"><o:Info>vm</o:Info><o:Name>kiosk-visitor</o:Name>
  <o:OperatingSystemSection o:id="100"><o:Info>os</o:Info></o:OperatingSystemSection>
  <o:VirtualHardwareSection><o:Info>hw</o:Info>
   <o:Item><r:ElementName>cpu</r:ElementName><r:InstanceID>1</r:InstanceID><r:ResourceType>3</r:ResourceType>
     <r:VirtualQuantity>2</r:VirtualQuantity></o:Item>
   <o:Item><r:AllocationUnits>MegaBytes</r:AllocationUnits><r:ElementName>mem</r:ElementName>
     <r:InstanceID>2</r:InstanceID><r:ResourceType>4</r:ResourceType><r:VirtualQuantity>512</r:VirtualQuantity></o:Item>
   <o:Item><r:ElementName>scsi</r:ElementName><r:InstanceID>3</r:InstanceID>
     <r:ResourceSubType>LsiLogic</r:ResourceSubType><r:ResourceType>6</r:ResourceType></o:Item>
   <o:StorageItem><s:AddressOnParent>0</s:AddressOnParent><s:ElementName>hd</s:ElementName>
     <s:HostResource>ovf:/disk/hd</s:HostResource><s:InstanceID>4</s:InstanceID><s:Parent>3</s:Parent>
       <s:ResourceType>17</s:ResourceType></o:StorageItem>
   <o:EthernetPortItem><e:Address>0050560000AB</e:Address><e:Connection>visitors</e:Connection>
     <e:ElementName>eth0</e:ElementName><e:InstanceID>5</e:InstanceID><e:ResourceSubType>E1000</e:ResourceSubType>
       <e:ResourceType>10</e:ResourceType></o:EthernetPortItem>
   <o:Item><r:ElementName>sound</r:ElementName><r:InstanceID>6</r:InstanceID><r:ResourceType>24</r:ResourceType>
     </o:Item>
   <other:Firmware>strange</other:Firmware>
  </o:VirtualHardwareSection>
  <other:TeaSection><o:Info>must be understood</o:Info></other:TeaSection>
 </o:VirtualSystem>
</o:Envelope>`

func TestForeign(t *testing.T) {
	d, err := ovf.Parse("kiosk.ovf", []byte(foreign))
	require.NoError(t, err)
	m := d.Machines[0]
	require.Equal(t, "kiosk-visitor", m.Name)
	require.Equal(t, int64(512<<20), m.MemoryBytes)
	require.Equal(t, machine.Disk{ID: "hd", File: "a.vmdk", Format: "vmdk", VirtualBytes: 20 << 30, FileBytes: 77,
		Controller: "lsilogic"}, m.Disks[0])
	require.Equal(t, "00:50:56:00:00:ab", m.NICs[0].MAC)
	require.Len(t, d.Notes, 1)
	require.Equal(t, "TeaSection", d.Notes[0].Subject)

	// Changed, it says the new things and keeps all the rest.
	m.Name, m.CPUs, m.NICs[0].MAC, m.NICs[0].Network = "kiosk-2", 4, "02:5c:01:00:00:09", "lab"
	m.Disks[0].File, m.Disks[0].Format = "kiosk.qcow2", "qcow2"
	m.UUID = "70126393-2a98-4856-90ac-efe4bba599b2"
	require.NoError(t, d.SetMachine(0, &m))
	raw, err := d.Encode(16 << 10)
	require.NoError(t, err)
	require.Len(t, raw, 16<<10)
	for _, kept := range []string{"CoffeeSection", `size="big"`, "strange", "sound", "TeaSection", "help.iso"} {
		require.Contains(t, string(raw), kept)
	}
	again, err := ovf.Parse("kiosk.ovf", raw)
	require.NoError(t, err)
	require.Equal(t, "2", again.Version)
	require.Equal(t, "kiosk-2", again.Machines[0].Name)
	require.Equal(t, 4, again.Machines[0].CPUs)
	require.Equal(t, "kiosk.qcow2", again.Machines[0].Disks[0].File)
	require.Equal(t, "lab", again.Machines[0].NICs[0].Network)
	require.Equal(t, m.UUID, again.Machines[0].UUID)
	require.NotContains(t, string(raw), "a.vmdk")
}

func TestHostileDescriptors(t *testing.T) {
	good := string(encode(t, tideGauge()))
	for name, c := range map[string]struct{ raw, code, says string }{
		"empty":            {"", "descriptor.malformed", "not an OVF Envelope"},
		"not XML":          {"hello", "descriptor.malformed", ""},
		"another document": {"<html/>", "descriptor.malformed", "not an OVF Envelope"},
		"cut short":        {good[:len(good)/2], "descriptor.malformed", "line"},
		"another namespace": {strings.ReplaceAll(good, "ovf/envelope/1", "soap/envelope"), "descriptor.malformed",
			"soap/envelope"},
		"entities": {`<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaa">
			<!ENTITY b "&a;&a;">]><Envelope>&b;</Envelope>`,
			"descriptor.malformed", "entities are not expanded"},
		"very deep": {strings.Repeat("<a>", 500), "descriptor.malformed", "nested more than"},
		"no machine": {`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"/>`, "descriptor.malformed",
			"no machine"},
		"a file not listed": {strings.ReplaceAll(good, `ovf:fileRef="file-disk1"`, `ovf:fileRef="file-none"`),
			"descriptor.malformed", "file-none"},
		"a disk not listed": {strings.ReplaceAll(good, "ovf:/disk/disk1", "ovf:/disk/none"), "descriptor.malformed",
			"none"},
		"an endless capacity": {strings.ReplaceAll(good, `ovf:capacity="4294967296"`,
			`ovf:capacity="99999999999999999999"`),
			"descriptor.malformed", "more than any machine has"},
		"a strange unit": {strings.ReplaceAll(good, `"byte"`, `"parsec"`), "descriptor.malformed", "parsec"},
		"a MAC that is none": {strings.ReplaceAll(good, "06:5c:00:ea:c5:e4", "06:5c"), "descriptor.malformed",
			"is not a MAC"},
		"no CPUs": {strings.ReplaceAll(good, "<rasd:VirtualQuantity>2</", "<rasd:VirtualQuantity>none</"),
			"descriptor.malformed", "number of CPUs"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ovf.Parse("x.ovf", []byte(c.raw))
			var p *ovf.Problem
			require.ErrorAs(t, err, &p)
			require.Equal(t, c.code, p.Code)
			require.Contains(t, err.Error(), c.says)
		})
	}
}

type member struct {
	name, data string
	link       bool
}

func archive(t testing.TB, members ...member) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, m := range members {
		h := &tar.Header{Name: m.name, Size: int64(len(m.data)), Mode: 0o644, Typeflag: tar.TypeReg}
		if m.link {
			h.Typeflag, h.Size, h.Linkname = tar.TypeSymlink, 0, "/etc/passwd"
		}
		require.NoError(t, w.WriteHeader(h))
		if !m.link {
			_, err := w.Write([]byte(m.data))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestHostileArchives(t *testing.T) {
	d := string(encode(t, tideGauge()))
	for name, c := range map[string]struct {
		raw  []byte
		code string
	}{
		"nothing": {nil, "package.truncated"},
		"text":    {[]byte(strings.Repeat("notes ", 300)), "package.unknown"},
		"leaves by dots": {archive(t, member{name: "x.ovf", data: d}, member{name: "../evil.vmdk", data: "x"}),
			"package.path-escape"},
		"absolute":         {archive(t, member{name: "/etc/cron.d/x", data: "x"}), "package.path-escape"},
		"another system's": {archive(t, member{name: `C:\x.ovf`, data: d}), "package.path-escape"},
		"a link":           {archive(t, member{name: "x.ovf", link: true}), "package.path-escape"},
		"twice": {archive(t, member{name: "x.ovf", data: d}, member{name: "x.ovf", data: d}),
			"package.entry-repeated"},
		"two descriptors": {archive(t, member{name: "x.ovf", data: d}, member{name: "y.ovf", data: d}),
			"descriptor.malformed"},
		"no descriptor":   {archive(t, member{name: "x.vmdk", data: "x"}), "package.unknown"},
		"cut in a member": {archive(t, member{name: "x.ovf", data: d})[:1000], "package.truncated"},
		"manifest that isn't": {archive(t, member{name: "x.ovf", data: d}, member{name: "x.mf", data: "SHA256(x)= zz"}),
			"manifest.mismatch"},
		"a file named outside": {archive(t, member{name: "x.ovf",
			data: strings.ReplaceAll(d, "tide-gauge-disk1.vmdk", "../../disk.vmdk")}), "package.path-escape"},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := ovf.ReadOVA(&disktest.Memory{Bytes: c.raw}, "x.ova")
			if err == nil {
				_, err = s.Open()
			}
			var p *ovf.Problem
			require.ErrorAs(t, err, &p)
			require.Equal(t, c.code, p.Code, err)
		})
	}
	// A header that lies about a size far beyond the archive.
	lying := archive(t, member{name: "x.ovf", data: d}, member{name: "a.vmdk", data: "x"})
	at := bytes.Index(lying, []byte("a.vmdk"))
	header, err := ovf.Header("a.vmdk", 1<<50, time.Unix(0, 0))
	require.NoError(t, err)
	copy(lying[at:], header)
	_, err = ovf.Index(&disktest.Memory{Bytes: lying}, "x.ova")
	require.ErrorContains(t, err, "ends after")
}

// TestWriter: a package is written with sizes filled in afterwards, is taken up
// again after a cut, and is read by the standard library's tar.
func TestWriter(t *testing.T) {
	m := tideGauge()
	m.Disks[0].FileBytes, m.Disks[1].FileBytes = 700, 512
	descriptor, err := ovf.New(m)
	require.NoError(t, err)
	raw, err := descriptor.Encode(8000)
	require.NoError(t, err)
	f := &disktest.Memory{}
	one, two := disktest.Pattern(700, 1), disktest.Pattern(512, 2)
	w := ovf.NewWriter(f, "x.ovf", 8000, time.Unix(1700000000, 0), ovf.SHA256, nil)
	_, err = f.WriteAt(one, w.Begin())
	require.NoError(t, err)
	require.NoError(t, w.End(ovf.Member{Name: "tide-gauge-disk1.vmdk", Size: 700, Sum: strings.Repeat("0", 64)}))
	w = ovf.NewWriter(f, "x.ovf", 8000, time.Unix(1700000000, 0), ovf.SHA256, w.Members())
	_, err = f.WriteAt(two, w.Begin())
	require.NoError(t, err)
	require.NoError(t, w.End(ovf.Member{Name: "tide-gauge-disk2.vmdk", Size: 512, Sum: strings.Repeat("1", 64)}))
	total, err := w.Finish(raw)
	require.NoError(t, err)
	require.Equal(t, f.Size(), total)

	r := tar.NewReader(bytes.NewReader(f.Bytes))
	names := []string{}
	for {
		h, err := r.Next()
		if err != nil {
			break
		}
		names = append(names, h.Name)
	}
	require.Equal(t, []string{"x.ovf", "tide-gauge-disk1.vmdk", "tide-gauge-disk2.vmdk", "x.mf"}, names,
		"descriptor first, manifest last")
	s, err := ovf.ReadOVA(f, "x.ova")
	require.NoError(t, err)
	p, err := s.Open()
	require.NoError(t, err)
	require.Empty(t, p.Deviations)
	require.EqualValues(t, "ok", p.ManifestState())

	// Beyond USTAR's 8 GiB the size is written so that common readers take it.
	for _, size := range []int64{8<<30 - 1, 8 << 30, 1 << 43} {
		h, err := ovf.Header("big.vmdk", size, time.Unix(0, 0))
		require.NoError(t, err)
		got, err := tar.NewReader(bytes.NewReader(append(h, make([]byte, 1024)...))).Next()
		require.NoError(t, err)
		require.Equal(t, size, got.Size)
	}
	var pax bytes.Buffer
	pw := tar.NewWriter(&pax)
	require.NoError(t, pw.WriteHeader(&tar.Header{Name: "x.ovf", Size: int64(len(raw)), Format: tar.FormatPAX,
		PAXRecords: map[string]string{"comment": "the other way"}}))
	_, err = pw.Write(raw)
	require.NoError(t, err)
	require.NoError(t, pw.Close())
	_, err = ovf.ReadOVA(&disktest.Memory{Bytes: pax.Bytes()}, "pax.ova")
	require.NoError(t, err)
}

// TestRawIsRaw: a disk of which the descriptor says that it is raw is that, though its guest wrote an image to it.
func TestRawIsRaw(t *testing.T) {
	var inner bytes.Buffer
	target, err := vmdk.CreateStream(&inner, disk.Spec{VirtualBytes: 8 << 20, ID: "0badcafe"}, nil)
	require.NoError(t, err)
	require.NoError(t, target.Finish())
	for format, says := range map[string]string{"raw": "raw", "qcow2": "vmdk"} {
		dir := t.TempDir()
		m := tideGauge()
		m.Disks = m.Disks[:1]
		m.Disks[0].File, m.Disks[0].Format = "d.img", format
		m.Disks[0].FileBytes, m.Disks[0].VirtualBytes = int64(inner.Len()), int64(inner.Len())
		require.NoError(t, os.WriteFile(filepath.Join(dir, "x.ovf"), encode(t, m), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "d.img"), inner.Bytes(), 0o644))
		o, err := ovf.OpenPath(filepath.Join(dir, "x.ovf"))
		require.NoError(t, err)
		o.LookAtDisks()
		d := o.Envelope.Machines[0].Disks[0]
		require.Equal(t, says, d.Format, "of others the content is believed")
		require.Equal(t, format == "raw", d.VirtualBytes == int64(inner.Len()))
		require.NoError(t, o.Close())
	}
}

func TestFolderAndVerify(t *testing.T) {
	dir := t.TempDir()
	m := tideGauge()
	m.Disks = m.Disks[:1]
	m.Disks[0].FileBytes = 0
	raw := encode(t, m)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.ovf"), raw, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("hi"), 0o644))
	o, err := ovf.OpenPath(filepath.Join(dir, "x.ovf"))
	require.NoError(t, err)
	codes := map[string]bool{}
	for _, d := range o.Deviations {
		codes[d.Code] = true
	}
	require.Equal(t, map[string]bool{"package.file-missing": true, "package.file-unused": true,
		"manifest.absent": true},
		codes)
	require.NoError(t, o.Close())

	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide-gauge-disk1.vmdk"), []byte("not a disk at all"), 0o644))
	sum := "SHA256(tide-gauge-disk1.vmdk)= " + strings.Repeat("ab", 32) + "\nSHA1(x.ovf)= " + strings.Repeat("cd", 20) +
		"\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.mf"), []byte(sum), 0o644))
	o, err = ovf.OpenPath(dir)
	require.NoError(t, err)
	defer o.Close()
	require.NoError(t, o.Verify(t.Context(), nil))
	mismatches := 0
	for _, d := range o.Deviations {
		if d.Code == "manifest.mismatch" {
			mismatches++
		}
	}
	require.Equal(t, 2, mismatches, "the descriptor and the disk")
	require.EqualValues(t, "mismatch", o.ManifestState())
}

func FuzzParse(f *testing.F) {
	f.Add(encode(f, tideGauge()))
	f.Add([]byte(foreign))
	f.Add([]byte(gauges))
	f.Add([]byte(parted(20, 8)))
	f.Fuzz(func(t *testing.T, raw []byte) {
		d, err := ovf.Parse("x.ovf", raw)
		if err != nil {
			return
		}
		for n := range d.Machines {
			e, err := d.Environment(n)
			require.NoError(t, err)
			told(t, e)
		}
		(&ovf.Skeleton{DescriptorName: "x.ovf", Descriptor: string(raw), Entries: []ovf.Entry{{Name: "x.ovf"},
			{Name: "d.img.000000000", Size: 8}}}).Open()
		m := d.Machines[0].Clone()
		m.Name = "renamed"
		if d.SetMachine(0, m) == nil {
			out, err := d.Encode(0)
			if err == nil {
				_, err = ovf.Parse("again.ovf", out)
			}
			if err != nil {
				t.Fatalf("what was written can't be read: %v", err)
			}
		}
	})
}

func FuzzArchive(f *testing.F) {
	f.Add(archive(f, member{name: "x.ovf", data: string(encode(f, tideGauge()))},
		member{name: "x.mf", data: "SHA1(x.ovf)= " + strings.Repeat("cd", 20)}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if s, err := ovf.ReadOVA(&disktest.Memory{Bytes: raw}, "x.ova"); err == nil {
			s.Open()
		}
	})
}

func FuzzManifest(f *testing.F) {
	f.Add([]byte("SHA256(a b)= " + strings.Repeat("ab", 32) + "\n"))
	f.Fuzz(func(t *testing.T, raw []byte) { ovf.ParseManifest("x.mf", raw) })
}
