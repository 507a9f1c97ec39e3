package identity_test

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
)

type counter struct{ n int }

func (c *counter) UUID() (string, error) { c.n++; return fmt.Sprint("uuid-", c.n), nil }
func (c *counter) MAC() (string, error) {
	if c.n++; c.n > 50 {
		return "", errors.New("the range is used up")
	}
	return fmt.Sprint("mac-", c.n), nil
}

func TestApply(t *testing.T) {
	m := &machine.Machine{UUID: "old", FirmwareUUID: "old", NICs: []machine.NIC{{MAC: "a"}, {MAC: "b"}}}
	all, err := identity.Choose(identity.Keep, map[identity.Facet]string{identity.MAC: identity.Renew})
	require.NoError(t, err)
	require.Equal(t, []string{"mac"}, all.Renewed())
	require.NoError(t, identity.Apply(m, all, &counter{}))
	require.Equal(t, "old", m.UUID)
	require.Equal(t, "mac-1", m.NICs[0].MAC)
	require.Equal(t, "mac-2", m.NICs[1].MAC)
	bare := &machine.Machine{NICs: []machine.NIC{{}}}
	require.NoError(t, identity.Apply(bare, identity.Choice{}, &counter{}))
	require.NotEmpty(t, bare.UUID, "what is not stated is given")
	require.NotEmpty(t, bare.NICs[0].MAC)
	require.Error(t, identity.Apply(m, all, &counter{n: 50}))
}

func TestRangeMAC(t *testing.T) {
	mac, err := identity.RangeMAC("02:5c:01", 0x01020a)
	require.NoError(t, err)
	require.Equal(t, "02:5c:01:01:02:0a", mac)
	for _, bad := range []struct {
		prefix string
		n      int64
	}{{"00:5c:01", 1}, {"03:5c:01", 1}, {"02:5c", 1}, {"02:5c:01", 1 << 24}, {"02:5c:01", -1}} {
		_, err := identity.RangeMAC(bad.prefix, bad.n)
		require.Error(t, err, bad)
	}
}
