package machine_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
)

func TestNames(t *testing.T) {
	for name, bad := range map[string]bool{"tide-gauge": false, "Tide gauge 2 (copy)": false, "Gezeiten-Möwe": false,
		"": true, ".hidden": true, "a/b": true, `a\b`: true, "a:b": true,
		" a": true, "a\n": true, "..": true, strings.Repeat("x", 201): true} {
		require.Equal(t, bad, machine.CheckName(name) != nil, "%q", name)
		require.NoError(t, machine.CheckName(machine.CleanName(name)), "%q", name)
	}
}

func TestMACs(t *testing.T) {
	for text, want := range map[string]string{"06:5C:00:EA:C5:E4": "06:5c:00:ea:c5:e4",
		"06-5c-00-ea-c5-e4": "06:5c:00:ea:c5:e4", "065C00EAC5E4": "06:5c:00:ea:c5:e4",
		"065c.00ea.c5e4": "06:5c:00:ea:c5:e4"} {
		got, err := machine.ParseMAC(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, bad := range []string{"", "06:5c", "06:5c:00:ea:c5:e4:00:01", "zz5C00EAC5E4"} {
		_, err := machine.ParseMAC(bad)
		require.Error(t, err, bad)
	}
	require.Error(t, machine.CheckMAC("01:00:5e:00:00:01"))
	require.Error(t, machine.CheckMAC("00:00:00:00:00:00"))
	require.NoError(t, machine.CheckMAC("02:5c:01:00:00:01"))
}
