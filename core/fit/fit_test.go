package fit_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
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

	l := fit.Raise("disk.leftover-reference", "CD", "It is not here.", map[string]any{"file": "tides.iso"})
	require.ErrorContains(t, l.Take("file"), "needs a value", "what is told beside it is no value")
	require.NoError(t, l.Take("file:reef/tides.iso"))

	b := fit.Raise("package.bomb", "x", "Too much.", nil)
	require.ErrorContains(t, b.Take("anything"), "has no remedy")
	require.True(t, b.Open())
	require.Panics(t, func() { fit.Raise("no.such", "x", "x", nil) })
	raw, err := json.Marshal(fit.Raise("mac.in-use", "NIC 1", "In use.", nil))
	require.NoError(t, err)
	require.JSONEq(t,
		`{"code":"mac.in-use","severity":"choice","subject":"NIC 1","message":"In use.","detail":{},"answer":null,
			"remedies":[
		{"id":"renew","label":"Give it a new MAC","recommended":true,"explicit":false,"takes":null,"value":""},
		{"id":"keep","label":"Keep it: the two can't both run","recommended":false,
			"explicit":true,"takes":null,"value":""}]}`, string(raw))
}

// TestRules: for each rule a machine that raises it and, where it can be
// settled, that each remedy which changes the machine clears it.
func TestRules(t *testing.T) {
	family, err := fit.FamilyByName("chalk")
	require.NoError(t, err)
	_, err = fit.FamilyByName("marble")
	require.Error(t, err)
	plain := func() *machine.Machine {
		return &machine.Machine{Name: "wave-model", CPUs: 2, MemoryBytes: 2 << 30, Firmware: "bios",
			Guest: "Debian GNU/Linux 12",
			Disks: []machine.Disk{{ID: "disk1", Controller: "LSI-SAS"}},
			NICs:  []machine.NIC{{Name: "NIC 1", Model: "82574l"}, {Name: "NIC 2"}}}
	}
	host := func() fit.Host {
		return fit.Host{Name: "skua", CPUs: 200, MemoryBytes: 64 << 30, Family: family,
			Abilities: fit.Abilities{Features: []string{"aes"}, Keys: []string{"quay"}}}
	}
	require.Empty(t, fit.Judge(plain(), host(), nil), "models go by name in any case")
	type situation struct {
		m *machine.Machine
		h *fit.Host
		g *fit.Guest
	}
	seen := map[string]bool{}
	for _, c := range []struct {
		code   string
		spoil  func(s *situation)
		clears []string // remedies
		then   func(t *testing.T, m *machine.Machine)
	}{
		{"cpu.too-many", func(s *situation) { s.m.CPUs = 129 }, []string{"reduce", "reduce:64"}, nil},
		{"cpu.topology", func(s *situation) { s.m.CPUs, s.m.CoresPerSocket = 12, 5 }, []string{"nearest"},
			func(t *testing.T, m *machine.Machine) { require.Equal(t, 4, m.CoresPerSocket) }},
		{"cpu.architecture", func(s *situation) { s.m.Architecture = "aarch64" }, nil, nil},
		{"cpu.feature-missing", func(s *situation) { s.m.CPUFeatures = []string{"aes", "nested"} }, []string{"without"},
			func(t *testing.T, m *machine.Machine) { require.Equal(t, []string{"aes"}, m.CPUFeatures) }},
		{"memory.too-much", func(s *situation) { s.m.MemoryBytes = 65 << 30 }, []string{"reduce"}, nil},
		{"memory.too-much", func(s *situation) { s.h.FreeMemory = 1 << 30 }, []string{"reduce"},
			func(t *testing.T, m *machine.Machine) { require.Equal(t, int64(1<<30), m.MemoryBytes) }},
		{"memory.varying", func(s *situation) { s.m.MinMemoryBytes, s.m.Guest = 1<<30, "FreeBSD 14" }, []string{"fix"},
			nil},
		{"size.class", func(s *situation) {
			s.h.Classes = []fit.Class{{Name: "small", CPUs: 1, MemoryBytes: 1 << 30},
				{Name: "large", CPUs: 8, MemoryBytes: 32 << 30}, {Name: "middle", CPUs: 2, MemoryBytes: 4 << 30}}
		}, []string{"nearest"}, func(t *testing.T, m *machine.Machine) {
			require.Equal(t, int64(4<<30),
				m.MemoryBytes)
		}},
		{"firmware.unsupported", func(s *situation) { s.m.Firmware = "coreboot" }, nil, nil},
		{"firmware.unsupported", func(s *situation) { s.m.SecureBoot, s.h.Family.SecureBoot = true, false }, nil, nil},
		{"firmware.variables-missing", func(s *situation) { s.m.Firmware = "uefi" }, []string{"fresh"}, nil},
		{"hardware.newer", func(s *situation) { s.m.Hardware = 12 }, []string{"lower"}, nil},
		{"hardware.older", func(s *situation) { s.m.Hardware, s.h.Family.MinHardware = 1, 3 }, []string{"raise"}, nil},
		{"tpm.unsupported", func(s *situation) { s.m.TPM = "2.0" }, []string{"without"}, nil},
		{"tpm.key-missing", func(s *situation) { s.m.TPM, s.m.TPMKey, s.h.Family.TPM = "2.0", "northhead", true }, nil,
			nil},
		{"nic.model", func(s *situation) { s.m.NICs[0].Model = "virtio" }, []string{"replace", "replace:RTL8139"}, nil},
		{"controller.model", func(s *situation) { s.m.Disks[0].Controller = "virtio-scsi" }, []string{"replace"}, nil},
		{"device.needless", func(s *situation) {
			s.m.Devices = []machine.Device{{Kind: "sound",
				Name: "Sound card 1"}}
		},
			[]string{"remove"}, nil},
		{"device.passthrough", func(s *situation) {
			s.m.Devices = []machine.Device{{Kind: "passthrough", Name: "GPU", File: "0000:01:00.0"}}
		}, []string{"remove"}, nil},
		{"device.host-path", func(s *situation) {
			s.m.Devices = []machine.Device{{Kind: "serial", Name: "Serial 1", File: "/var/log/serial.log"}}
		}, []string{"remove", "elsewhere:serial.log"}, nil},
		{"device.limit", func(s *situation) { s.m.NICs = make([]machine.NIC, 14) }, []string{"first"},
			func(t *testing.T, m *machine.Machine) { require.Len(t, m.NICs, 12) }},
		{"device.limit", func(s *situation) {
			for n := range 5 {
				s.m.Devices = append(s.m.Devices, machine.Device{Kind: "cd", Name: fmt.Sprint("CD ", n)})
			}
		}, []string{"first"}, func(t *testing.T, m *machine.Machine) { require.Len(t, m.Devices, 3) }},
		{"guest.unknown", func(s *situation) {
			s.m.Guest, s.g = "Other (64-bit)", &fit.Guest{System: "Debian GNU/Linux 12 (bookworm)"}
		}, []string{"found", "choose:FreeBSD 14"}, nil},
		{"guest.stated-wrong", func(s *situation) { s.g = &fit.Guest{System: "Windows Server 2022"} },
			[]string{"found"},
			func(t *testing.T, m *machine.Machine) { require.Equal(t, 113, m.GuestID) }},
		{"guest.driver-missing", func(s *situation) { s.g = &fit.Guest{Drivers: []string{"ide"}} }, []string{"replace"},
			func(t *testing.T, m *machine.Machine) { require.Equal(t, "ide", m.Disks[0].Controller) }},
		{"key.no-backup", func(s *situation) {
			s.m.TPM, s.m.TPMKey, s.h.Keys, s.h.UnsavedKeys = "2.0", "desk", []string{"desk"}, []string{"desk"}
		}, nil, nil},
		{"host.no-acceleration", func(s *situation) { s.h.NoAcceleration = "switched off in the computer's firmware" },
			nil, nil},
	} {
		for n, answer := range append([]string{""}, c.clears...) {
			t.Run(fmt.Sprint(c.code, " ", answer, n), func(t *testing.T) {
				h := host()
				s := &situation{plain(), &h, nil}
				c.spoil(s)
				seen[c.code] = true
				raised := fit.Judge(s.m, *s.h, s.g)
				at := slices.IndexFunc(raised, func(f fit.Finding) bool { return f.Code == c.code })
				require.GreaterOrEqual(t, at, 0, "%v", raised)
				f := raised[at]
				require.NotEmpty(t, f.Message)
				if answer == "" {
					return
				}
				require.NoError(t, f.Take(answer))
				for _, r := range fit.Rules {
					if r.Code == c.code {
						require.NoError(t, r.Settle(s.m, f))
					}
				}
				for _, left := range fit.Judge(s.m, *s.h, s.g) {
					require.NotEqual(t, c.code, left.Code)
				}
				if c.then != nil && !strings.Contains(answer, ":") {
					c.then(t, s.m)
				}
			})
		}
	}
	for _, r := range fit.Rules {
		require.True(t, seen[r.Code], "no case raises %s", r.Code)
	}
	f := fit.Raise("cpu.too-many", "x", "", nil)
	require.NoError(t, f.Take("reduce:many"))
	for _, r := range fit.Rules {
		if r.Code == f.Code {
			require.ErrorContains(t, r.Settle(plain(), f), "is not a number")
		}
	}
}

func TestSize(t *testing.T) {
	for bytes, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1 KiB", 1536: "1.5 KiB",
		54 << 20: "54 MiB",
		56617984: "54.0 MiB", 150<<30 + 1<<29: "150 GiB", 1 << 60: "1 EiB"} {
		require.Equal(t, want, fit.Size(bytes))
	}
}
