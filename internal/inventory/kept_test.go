package inventory_test

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// TestPackagesOnShares: a package in a pool that two hosts see is one, told by the one that saw it first; when that one
// has lost the pool, the other one speaks for it.
func TestPackagesOnShares(t *testing.T) {
	inv := open(t)
	p := newPool()
	first, second := addHost(t, inv), addHost(t, inv)
	name := "kept-" + first.Name
	m := &machine.Machine{Name: name, UUID: uuid.NewString()}
	tells := func(h *inventory.Host, state plan.PoolState, there bool, problem string) {
		s := &hostlink.Survey{Revision: "r", Full: true, Changed: true, Hello: &hostlink.Hello{Family: "slate",
			Driver: "standin", CPUs: 4}, Pools: []hostlink.Pool{{ID: p.id, Name: "reef-" + first.Name,
			Path: "/at/" + h.Name, State: state, TotalBytes: 10, FreeBytes: 5}}}
		if there {
			k := hostlink.ShelvedPackage{Path: "/at/" + h.Name + "/x.ova", Pool: p.id, Bytes: 7, Machine: m,
				Problem: problem}
			if problem != "" {
				k.Machine = nil
			}
			s.Packages = append(s.Packages, k)
		}
		_, err := inv.Apply(t.Context(), h, s)
		require.NoError(t, err)
	}
	at := func() *inventory.Copy {
		l, err := inv.Copies(t.Context(), inventory.Page{Filter: "name=" + name})
		require.NoError(t, err)
		if len(l.Items) == 0 {
			return nil
		}
		require.Len(t, l.Items, 1)
		return &l.Items[0]
	}
	tells(first, plan.PoolReady, true, "")
	tells(second, plan.PoolReady, true, "")
	tells(first, plan.PoolReady, true, "")
	found := at()
	require.Equal(t, first.Name, found.Host)
	require.Equal(t, "/at/"+first.Name+"/x.ova", found.Path)
	require.Equal(t, "reef-"+first.Name+"/x.ova", found.Ref())
	byName, err := inv.Copy(t.Context(), found.Ref())
	require.NoError(t, err)
	require.Equal(t, found.ID, byName.ID)

	tells(second, plan.PoolReady, true, "cut off")
	require.Empty(t, at().Problem, "it is not that one's to say")
	tells(first, plan.PoolReady, true, "cut off")
	require.Contains(t, at().Problem, "cut off")
	tells(second, plan.PoolReady, false, "")
	require.NotNil(t, at(), "nor that it is gone")

	tells(first, plan.PoolAway, true, "")
	tells(second, plan.PoolReady, true, "")
	require.Equal(t, second.Name, at().Host, "the first has lost the pool")
	require.Equal(t, found.ID, at().ID)
	tells(second, plan.PoolReady, false, "")
	require.Nil(t, at())
}
