package ovf_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

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
		"<Version>4<", `<Property ovf:key="a.unit" ovf:type="string" ovf:value="m"/>`,
		`<Property ovf:key="b.site" ovf:type="string" ovf:value="Quay"/>`, "</ProductSection>", "<EulaSection>",
		"<License>Take &lt; care<", "<VirtualHardwareSection>"} {
		next := strings.Index(string(raw)[at+1:], part)
		require.GreaterOrEqual(t, next, 0, "%s comes in its place in\n%s", part, raw)
		at += 1 + next
	}
	again, err := ovf.Parse("x.ovf", raw)
	require.NoError(t, err)
	require.Equal(t, []ovf.Deviation{{Code: "descriptor.eula", Subject: "tide-gauge", Message: "Take < care"}},
		again.Notes)

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
