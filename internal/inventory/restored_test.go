package inventory_test

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// TestRestored: behind a database that was brought back from a copy, a machine that was moved since is the copy that it
// was, whichever of its two hosts answers first; jobs that the copy has at work are held; MACs are passed over.
func TestRestored(t *testing.T) {
	inv := open(t)
	_, err := inv.Pool.Exec(t.Context(), `delete from services`)
	require.NoError(t, err)
	for _, newFirst := range []bool{true, false} {
		a, b := addHost(t, inv), addHost(t, inv)
		here, there := poolAt{uuid.NewString(), "/srv/a"}, poolAt{uuid.NewString(), "/srv/b"}
		id := uuid.NewString()
		apply(t, inv, a, here, true, nil, here.folder("goes", id, true))
		c, err := inv.Copy(t.Context(), a.Name+"/goes")
		require.NoError(t, err)
		_, err = inv.Restored(t.Context())
		require.NoError(t, err)
		a, err = inv.Host(t.Context(), a.Name)
		require.NoError(t, err)
		require.Empty(t, a.Revision, "it is read anew")
		moved := there.folder("goes", id, true)
		moved.Machine.Passport = &machine.Passport{Lineage: c.LineageID.String(), Copy: c.ID.String(), MadeBy: "move"}
		looks := []func(){func() { apply(t, inv, a, here, true, nil) }, func() {
			apply(t, inv, b, there, true, nil, moved)
		}}
		if newFirst {
			looks[0], looks[1] = looks[1], looks[0]
		}
		looks[0]()
		looks[1]()
		now, err := inv.Copy(t.Context(), b.Name+"/goes")
		require.NoError(t, err)
		require.Equal(t, c.ID, now.ID)
		_, err = inv.Copy(t.Context(), a.Name+"/goes")
		wantCode(t, err, inventory.CodeUnknown)
	}

	var before, after int64
	next := `select sum(next_mac) from sites`
	require.NoError(t, inv.Pool.QueryRow(t.Context(), next).Scan(&before))
	b := hatch(t, inv, nil, plan.Step{Do: &plan.GiveIDs{}})
	_, err = inv.Restored(t.Context())
	wantCode(t, err, inventory.CodeTaken)
	_, err = inv.Pool.Exec(t.Context(), `delete from services`)
	require.NoError(t, err)
	held, err := inv.Restored(t.Context())
	require.NoError(t, err)
	require.Positive(t, held)
	j := b.now()
	require.Equal(t, inventory.JobHeld, j.State)
	require.Contains(t, j.Children.HeldFor, "brought back from a copy")
	require.NoError(t, inv.Pool.QueryRow(t.Context(), next).Scan(&after))
	require.Greater(t, after, before)
}
