package foreign

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/cimi/standin"
	"unvora.example/unvora/internal/cimi/standintest"
)

func asked(t *testing.T, address, cert, account, password string) (*cimi.Client, *cimi.EntryPoint) {
	t.Helper()
	c, err := cimi.New("https://"+address+"/cimi", cimi.Account{Name: account, Password: password}, cert)
	require.NoError(t, err)
	e, _, err := c.EntryPoint(t.Context())
	require.NoError(t, err)
	return c, e
}

// TestManagerHolds: machines sorted by host, in our words; the revision of a host
// changes with what is on it and with nothing else.
func TestManagerHolds(t *testing.T) {
	passport := `{"lineage":"01a20a22-6a4d-73db-b0e9-e9c9071acee5","copy":"01a20a22-6a4d-73db-b0e9-e9c9071acee6",
		"madeBy":"put-back",
		"madeAt":"2026-11-03T12:00:00Z","identity":"keep"}`
	_, address, cert := standintest.Serve(t, func(s *standin.State) {
		s.Machines[0].Properties = map[string]string{"uuid": "70126393-2a98-4856-90ac-efe4bba599b2",
			"guest": "Debian GNU/Linux 12 (64-bit)", "firmware": "uefi", "unvora-passport": passport}
		s.Machines[1].Host, s.Machines[1].Name = "a/b", ""
		s.Machines[2].State = cimi.Suspended
		s.Machines[3].State = "MIGRATING"
		s.Machines[3].Volumes = append(s.Machines[3].Volumes, "gone")
	})
	c, _ := asked(t, address, cert, "skerrow", "low tide")
	hosts, version, err := managerHolds(t.Context(), c)
	require.NoError(t, err)
	require.Equal(t, "2.0.0", version)
	require.Len(t, hosts, 3)
	first := hosts["dunlin"].Machines[0]
	m := first.Machine
	require.EqualValues(t, "stopped", first.State)
	require.Equal(t, "70126393-2a98-4856-90ac-efe4bba599b2", m.UUID)
	require.Equal(t, "uefi", m.Firmware)
	require.Equal(t, int64(1<<30), m.MemoryBytes)
	require.Equal(t, "01a20a22-6a4d-73db-b0e9-e9c9071acee5", m.Passport.Lineage)
	require.Equal(t, "laboratory", m.NICs[0].Network)
	require.Equal(t, 20, m.NICs[0].VLAN)
	require.Equal(t, "/cimi/volumes/vm1", m.Disks[0].File)
	require.InDelta(t, 64<<20, m.Disks[0].VirtualBytes, 1000, "a capacity is told in thousands")
	odd := hosts["machines"].Machines[0].Machine // of a host whose name can't be one
	require.Equal(t, "m2", odd.Name)
	require.NotEmpty(t, odd.UUID)
	require.Equal(t, "bios", odd.Firmware)
	require.EqualValues(t, "suspended", hosts["knot"].Machines[0].State)
	require.EqualValues(t, "unknown", hosts["knot"].Machines[1].State)
	require.Len(t, hosts["knot"].Machines[1].Machine.Disks, 2)
	require.Equal(t, 20, hosts["knot"].Switches[0].VLAN)

	again, _, err := managerHolds(t.Context(), c)
	require.NoError(t, err)
	require.Equal(t, hosts["dunlin"].Revision, again["dunlin"].Revision)
	require.NoError(t, c.Act(t.Context(), "/cimi/machines/m1", cimi.RelStart))
	again, _, err = managerHolds(t.Context(), c)
	require.NoError(t, err)
	require.NotEqual(t, hosts["dunlin"].Revision, again["dunlin"].Revision)
	require.Equal(t, hosts["knot"].Revision, again["knot"].Revision)
}

func TestRights(t *testing.T) {
	_, address, cert := standintest.Serve(t, nil)
	c, e := asked(t, address, cert, "skerrow", "low tide")
	require.True(t, rights(t.Context(), c, e).OK)
	c, e = asked(t, address, cert, "visitor", "x")
	k := rights(t.Context(), c, e)
	require.False(t, k.OK)
	require.Contains(t, k.Says, "nothing can be imported")
	require.Contains(t, k.Says, "nothing can be put back")
}
