package inventory_test

import (
	"cmp"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// TestOrders: a list is read page by page in each of its orders, and each way: all of it, nothing twice.
func TestOrders(t *testing.T) {
	inv := open(t)
	h, p := addHost(t, inv), newPool()
	id := func() string { return uuid.NewString() }
	folders := []hostlink.Folder{}
	for n, bytes := range []int64{4 << 20, 1 << 40, 0, 4 << 20, 7} {
		f := p.folder("size-"+string(rune('a'+n))+"-"+h.Name, id(), true)
		f.Bytes = bytes
		folders = append(folders, f)
	}
	apply(t, inv, h, p, true, nil, folders...)
	for _, c := range []struct {
		order string
		by    func(a, b inventory.Copy) int
	}{
		{"", func(a, b inventory.Copy) int { return cmp.Compare(a.Name, b.Name) }},
		{"-name", func(a, b inventory.Copy) int { return cmp.Compare(b.Name, a.Name) }},
		{"size", func(a, b inventory.Copy) int { return cmp.Compare(a.SizeBytes, b.SizeBytes) }},
		{"-size", func(a, b inventory.Copy) int { return cmp.Compare(b.SizeBytes, a.SizeBytes) }},
		{"made", func(a, b inventory.Copy) int { return a.MadeAt.Compare(b.MadeAt) }},
		{"-made", func(a, b inventory.Copy) int { return b.MadeAt.Compare(a.MadeAt) }},
	} {
		var all []inventory.Copy
		after := ""
		for {
			l, err := inv.Copies(t.Context(), inventory.Page{Limit: 2, Filter: "host=" + h.Name, Order: c.order,
				After: after})
			require.NoError(t, err, c.order)
			all = append(all, l.Items...)
			if after = l.Next; after == "" {
				break
			}
		}
		require.Len(t, all, len(folders), c.order)
		require.True(t, slices.IsSortedFunc(all, c.by), "%s: %v", c.order, all)
		ids := map[string]bool{}
		for _, k := range all {
			ids[k.ID.String()] = true
		}
		require.Len(t, ids, len(folders), c.order)
	}
	_, err := inv.Copies(t.Context(), inventory.Page{Order: "weight"})
	wantCode(t, err, "wrong")
	for order, after := range map[string]string{"size": "many~", "made": "yesterday~", "": "name"} {
		_, err = inv.Copies(t.Context(), inventory.Page{Order: order, After: after + id()})
		wantCode(t, err, "wrong")
	}
}
