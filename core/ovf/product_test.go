package ovf_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
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

// TestProduct: what is said of a product stands where the standard wants it, beside what was said before.
func TestProduct(t *testing.T) {
	m := &machine.Machine{Name: "tide-gauge", CPUs: 2, MemoryBytes: 1 << 30, Firmware: "bios"}
	d, err := ovf.New(m)
	require.NoError(t, err)
	require.NoError(t, d.SetProduct(0, machine.Product{}))
	raw, err := d.Encode(0)
	require.NoError(t, err)
	require.NotContains(t, string(raw), "Product")
	require.Error(t, d.SetProduct(1, machine.Product{Name: "x"}))

	require.NoError(t, d.SetProduct(0, machine.Product{Name: "Tide gauge", Version: "3", Licence: "Take < care",
		Properties: map[string]string{"b.site": "Wharf", "a.unit": "m"}}))
	require.NoError(t, d.SetProduct(0, machine.Product{Vendor: "Skerrow", Version: "4",
		Properties: map[string]string{"b.site": "Quay"}}), "again, with more and with other things")
	raw, err = d.Encode(0)
	require.NoError(t, err)
	at := -1
	for _, part := range []string{"<ProductSection>", "<Info>", "<Product>Tide gauge<", "<Vendor>Skerrow<",
		"<Version>4<", `<ProductSection ovf:class="a">`, `<Property ovf:key="unit" ovf:type="string" ovf:value="m"/>`,
		`<ProductSection ovf:class="b">`, `<Property ovf:key="site" ovf:type="string" ovf:value="Quay"/>`,
		"</ProductSection>", "<EulaSection>",
		"<License>Take &lt; care<", "<VirtualHardwareSection>"} {
		next := strings.Index(string(raw)[at+1:], part)
		require.GreaterOrEqual(t, next, 0, "%s comes in its place in\n%s", part, raw)
		at += 1 + next
	}
	again, err := ovf.Parse("x.ovf", raw)
	require.NoError(t, err)
	require.Equal(t, []ovf.Deviation{{Code: "descriptor.eula", Subject: "tide-gauge", Message: "Take < care"}},
		again.Notes)

	bare, err := ovf.Parse("x.ovf", bytes.ReplaceAll(raw, []byte("<Info>What is in the machine</Info>"), nil))
	require.NoError(t, err)
	require.NoError(t, bare.SetProduct(0, machine.Product{Vendor: "Quay"}), "somebody else's section, without Info")
	of, err := bare.Encode(0)
	require.NoError(t, err)
	require.Regexp(t, `<ProductSection>\s*<Info>.*</Info>\s*<Product>`, string(of))

	m.CPUs, m.MemoryBytes = 5, 3<<30
	require.NoError(t, again.SetMachine(0, m))
	raw, err = again.Encode(0)
	require.NoError(t, err)
	require.Contains(t, string(raw), ">5 virtual CPUs<", "the name of an item stays true")
	require.Contains(t, string(raw), ">3072 MiB of memory<")
}

// TestDigests: the manifest of a package has the digests that were asked for, and a reader checks them.
func TestDigests(t *testing.T) {
	for _, algorithm := range []string{ovf.SHA1, ovf.SHA256, ovf.SHA512} {
		d, err := ovf.New(&machine.Machine{Name: "tide-gauge", CPUs: 2, MemoryBytes: 1 << 30, Firmware: "bios"})
		require.NoError(t, err)
		raw, err := d.Encode(0)
		require.NoError(t, err)
		dir := t.TempDir()
		manifest := ovf.ManifestOf(algorithm, "x.ovf", raw, nil)
		require.True(t, strings.HasPrefix(string(manifest), strings.ToUpper(algorithm)+"(x.ovf)= "))
		require.NoError(t, os.WriteFile(dir+"/x.ovf", raw, 0o600))
		require.NoError(t, os.WriteFile(dir+"/x.mf", manifest, 0o600))
		o, err := ovf.OpenPath(dir)
		require.NoError(t, err)
		require.NoError(t, o.Verify(t.Context(), nil))
		require.Equal(t, "ok", o.ManifestState())
		require.NoError(t, o.Close())
		require.NoError(t, os.WriteFile(dir+"/x.ovf", append(raw, '\n'), 0o600))
		o, err = ovf.OpenPath(dir)
		require.NoError(t, err)
		require.Equal(t, "mismatch", o.ManifestState())
		require.NoError(t, o.Close())
	}
}

// TestWhere: of a disk that is not as it was written, it is told where that is to be seen.
func TestWhere(t *testing.T) {
	const size = 4 << 20
	img := disktest.Plain(disktest.Pattern(size, 7))
	var image bytes.Buffer
	target, err := vmdk.CreateStream(&image, disk.Spec{VirtualBytes: size, Name: "x.vmdk", Linkage: "01020304"}, nil)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(img, 0, target.BlockBytes()),
		disk.Options{Now: time.Now}))
	require.NoError(t, target.Finish())
	d, err := ovf.New(&machine.Machine{Name: "x", CPUs: 1, MemoryBytes: 1 << 20, Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: "x.vmdk", Format: "vmdk", VirtualBytes: size}}})
	require.NoError(t, err)
	descriptor, err := d.Encode(0)
	require.NoError(t, err)
	found := func(change func(image []byte)) string {
		t.Helper()
		dir := t.TempDir()
		is := bytes.Clone(image.Bytes())
		sum := sha256.Sum256(is)
		change(is)
		manifest := ovf.ManifestOf(ovf.SHA256, "x.ovf", descriptor, []ovf.Member{{Name: "x.vmdk",
			Sum: hex.EncodeToString(sum[:])}})
		for name, b := range map[string][]byte{"x.ovf": descriptor, "x.mf": manifest, "x.vmdk": is} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o600))
		}
		o, err := ovf.OpenPath(dir)
		require.NoError(t, err)
		defer o.Close()
		read := int64(0)
		require.NoError(t, o.Verify(t.Context(), func(n int64) { read += n }))
		require.EqualValues(t, len(is), read)
		for _, d := range o.Deviations {
			if d.Subject == "x.vmdk" {
				return d.Message
			}
		}
		return ""
	}
	require.Empty(t, found(func([]byte) {}))
	require.Regexp(t, `it goes wrong at byte [1-9]\d{6} of the 4194304 of the disk, or soon after: .*grain of sector`,
		found(func(is []byte) { is[len(is)/2] ^= 1 }))
	require.Contains(t, found(func(is []byte) { is[len(is)-100] ^= 1 }), "it can be read to its end")
	require.Contains(t, found(func(is []byte) { is[20] ^= 1 }), "can't be opened") // a grain of 129 sectors
}
