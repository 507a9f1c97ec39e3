package fit_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
)

func TestAnswers(t *testing.T) {
	f := fit.Raise("network.unmapped", "NIC 1", "No switch.", nil)
	require.True(t, f.Open())
	require.Empty(t, f.Recommendation())
	require.ErrorContains(t, f.Take("switch"), "needs a value")
	require.ErrorContains(t, f.Take("burn"), "it offers quarantine, switch, unplugged")
	require.NoError(t, f.Take("switch:lab"))
	require.Equal(t, "switch", f.Remedy())
	require.Equal(t, "lab", f.Value())
	require.False(t, f.Open())

	g := fit.Raise("cpu.too-many", "x", "Too many.", nil)
	g.Suggest("reduce", "Reduce them to 8", "8")
	require.Equal(t, "reduce", g.Recommendation())
	require.NoError(t, g.Take("reduce"))
	require.Equal(t, "8", g.Value(), "the suggestion")
	require.NoError(t, g.Take("reduce:4"))
	require.Equal(t, "4", g.Value())

	b := fit.Raise("package.bomb", "x", "Too much.", nil)
	require.ErrorContains(t, b.Take("anything"), "has no remedy")
	require.True(t, b.Open())
	require.Panics(t, func() { fit.Raise("no.such", "x", "x", nil) })
	raw, err := json.Marshal(fit.Raise("mac.in-use", "NIC 1", "In use.", nil))
	require.NoError(t, err)
	require.JSONEq(t, `{"code":"mac.in-use","severity":"choice","subject":"NIC 1","message":"In use.","detail":{},"answer":null,"remedies":[
		{"id":"renew","label":"Give it a new MAC","recommended":true,"explicit":false,"takes":null},
		{"id":"keep","label":"Keep it: the two can't both run","recommended":false,"explicit":true,"takes":null}]}`, string(raw))
}

func TestJudge(t *testing.T) {
	family, err := fit.FamilyByName("chalk")
	require.NoError(t, err)
	host := fit.Host{Name: "skua", CPUs: 200, MemoryBytes: 64 << 30, Family: family}
	codes := func(m *machine.Machine) (all []string) {
		for _, f := range fit.Judge(m, host) {
			all = append(all, f.Code)
		}
		return all
	}
	require.Empty(t, codes(&machine.Machine{CPUs: 128, MemoryBytes: 64 << 30, Firmware: "uefi", NICs: []machine.NIC{{Model: "VMXNET3"}, {}}}))
	require.Equal(t, []string{"cpu.too-many"}, codes(&machine.Machine{CPUs: 129, Firmware: "bios"}), "the family's limit, lower than the host's")
	require.Equal(t, []string{"memory.too-much", "firmware.unsupported", "nic.model"}, codes(&machine.Machine{CPUs: 1, MemoryBytes: 65 << 30, Firmware: "coreboot", NICs: []machine.NIC{{Name: "NIC 1", Model: "synthetic"}}}))
	_, err = fit.FamilyByName("marble")
	require.Error(t, err)
}

func TestSize(t *testing.T) {
	for bytes, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1 KiB", 1536: "1.5 KiB", 54 << 20: "54 MiB", 56617984: "54.0 MiB", 150<<30 + 1<<29: "150 GiB", 1 << 60: "1 EiB"} {
		require.Equal(t, want, fit.Size(bytes))
	}
}
