package inventory_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/inventory"
)

// TestSearch: a machine is found by whatever it bears, and by what lies on the way to it.
func TestSearch(t *testing.T) {
	inv := open(t)
	h := addHost(t, inv)
	p := newPool()
	name := "sought-" + h.Name
	f := p.folder(name, uuid.NewString(), true)
	f.Machine.NICs = []machine.NIC{{Name: "NIC 1", Network: "lab", MAC: "06:5c:77:00:00:01"}}
	f.Machine.Static = []string{"203.0.113.77"}
	apply(t, inv, h, p, true, nil, f)
	one, err := inv.Copy(t.Context(), h.Name+"/"+name)
	require.NoError(t, err)
	kinds := func(text string) map[inventory.Kind][]string {
		t.Helper()
		list, err := inv.Search(t.Context(), text)
		require.NoError(t, err)
		by := map[inventory.Kind][]string{}
		for _, f := range list {
			by[f.Kind] = append(by[f.Kind], f.Name)
		}
		return by
	}
	full := h.Name + "/" + name
	for _, text := range []string{name, strings.ToUpper(name[2:]), full, one.Path, one.ID.String(), one.UUID,
		f.Machine.NICs[0].MAC, strings.ToUpper(f.Machine.NICs[0].MAC), f.Machine.Static[0], one.LineageID.String()} {
		require.Contains(t, kinds(text)[inventory.KindCopy], full, text)
	}
	require.Contains(t, kinds(name)[inventory.KindLineage], name)
	require.Empty(t, kinds(one.Path)[inventory.KindLineage], "a path is no name")
	require.Contains(t, kinds(h.Name)[inventory.KindHost], h.Name)
	kit := &inventory.Copy{ID: inventory.NewID(), LineageID: one.LineageID, Name: name, Form: lineage.Package,
		Path: "a-computer:/home/" + name + "-kit/", State: machine.Stopped, MadeBy: "export", MadeAt: time.Now(),
		Identity: "keep"}
	require.NoError(t, inv.InTx(t.Context(), func(tx pgx.Tx) error {
		return inventory.In(tx).RecordCopy(t.Context(), kit, "", "export", "ines", "", inventory.NewID().String())
	}))
	require.Contains(t, kinds(name)[inventory.KindCopy], name+"-kit/", "a folder on somebody's computer")
	require.Contains(t, kinds(h.ID.String())[inventory.KindHost], h.Name)
	require.NotEmpty(t, kinds("reef")[inventory.KindPool])
	require.Empty(t, kinds("nothing-of-the-kind"))
	require.Empty(t, kinds(`50%\_`), "what stands for itself")
	// What hangs on the host's switches and lies in its pools is told, whatever descriptors state.
	f.Machine.Disks = []machine.Disk{{ID: "disk1", VirtualBytes: 4 << 30, FileBytes: 1 << 30}}
	absurd, bare := p.folder("absurd-"+h.Name, uuid.NewString(), true), p.folder("bare-"+h.Name, uuid.NewString(), true)
	absurd.Machine.Disks = []machine.Disk{{ID: "disk1", VirtualBytes: math.MaxInt64, FileBytes: -1}}
	bare.Machine.Disks, bare.Machine.NICs = nil, nil
	apply(t, inv, h, p, false, nil, f, bare)
	promised, err := inv.Promised(t.Context(), h.ID)
	require.NoError(t, err)
	require.Len(t, promised, 1)
	require.EqualValues(t, 3<<30, promised[0].Bytes)
	on, err := inv.OnAllSwitches(t.Context(), h.ID)
	require.NoError(t, err)
	require.Equal(t, []inventory.OnSwitches{{Switch: "lab", Machines: []string{name}, Total: 1}}, on)
	apply(t, inv, h, p, false, nil, absurd)
	promised, err = inv.Promised(t.Context(), h.ID)
	require.NoError(t, err)
	require.EqualValues(t, 9e18, promised[0].Bytes)
	for _, bad := range []string{"", " x ", strings.Repeat("x", 201)} {
		_, err := inv.Search(t.Context(), bad)
		wantCode(t, err, "wrong")
	}
}
