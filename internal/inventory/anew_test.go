package inventory_test

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// TestRecognisedAnew: a folder is seen while it is still being copied by hand, its descriptor first. Once its disks are
// there it is recognised by them; what a person has said since stays.
func TestRecognisedAnew(t *testing.T) {
	inv := open(t)
	h, p := addHost(t, inv), newPool()
	seen := func(name string, registered bool, seed uint64, image string) hostlink.Folder {
		f := p.folder(name+"-"+h.Name, uuid.NewString(), registered)
		f.Machine.NICs = nil
		f.Disks = []hostlink.SeenDisk{{ID: "disk1", Path: f.Path + "/d", ImageID: image, VirtualBytes: 20 << 20}}
		if seed > 0 {
			f.Disks[0].Samples = samples(seed)
		}
		return f
	}
	image := uuid.NewString()
	apply(t, inv, h, p, true, nil, seen("origin", true, 6500, image))
	origin, err := inv.Copy(t.Context(), h.Name+"/origin-"+h.Name)
	require.NoError(t, err)
	coming := seen("coming", false, 0, "")
	is := func() *inventory.Copy {
		t.Helper()
		c, err := inv.Copy(t.Context(), h.Name+"/"+coming.Machine.Name)
		require.NoError(t, err)
		return c
	}
	apply(t, inv, h, p, false, nil, coming)
	alone := is()
	require.Nil(t, alone.Parent)
	require.NotEqual(t, origin.LineageID, alone.LineageID)

	coming.Disks[0].ImageID, coming.Disks[0].Samples = image, samples(6500)
	changes := apply(t, inv, h, p, false, nil, coming)
	require.Len(t, changes, 1)
	require.Contains(t, changes[0].Text, "copy of origin-"+h.Name)
	now := is()
	require.Equal(t, alone.ID, now.ID)
	require.Equal(t, origin.ID, *now.Parent)
	require.Equal(t, origin.LineageID, now.LineageID)
	require.Greater(t, now.Score, alone.Score)
	var left int
	require.NoError(t, inv.Pool.QueryRow(t.Context(), `select count(*) from lineages where id = $1`,
		alone.LineageID).Scan(&left))
	require.Zero(t, left, "the lineage that it had alone is gone")

	// What others were found to be copies of stays what it is, and nobody is told otherwise.
	apply(t, inv, h, p, false, nil, seen("other", true, 6600, image+"x"))
	young := seen("young", false, 0, "")
	apply(t, inv, h, p, false, nil, young)
	parent, err := inv.Copy(t.Context(), h.Name+"/"+young.Machine.Name)
	require.NoError(t, err)
	child := seen("child", false, 0, "")
	child.Machine.UUID = young.Machine.UUID
	apply(t, inv, h, p, false, nil, child)
	young.Disks[0].ImageID, young.Disks[0].Samples = image+"x", samples(6600)
	require.Empty(t, apply(t, inv, h, p, false, nil, young))
	still, err := inv.Copy(t.Context(), parent.ID.String())
	require.NoError(t, err)
	require.Equal(t, parent.LineageID, still.LineageID)

	require.NoError(t, inv.Settle(t.Context(), now, nil, nil, "robin", "another machine"))
	coming.Disks[0].Samples = samples(6501)
	apply(t, inv, h, p, false, nil, coming)
	coming.Disks[0].Samples = samples(6500)
	apply(t, inv, h, p, false, nil, coming)
	require.Nil(t, is().Parent, "somebody has said what it is")
}
