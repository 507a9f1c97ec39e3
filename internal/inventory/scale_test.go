//go:build long

package inventory_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/inventory"
)

// TestScale: with two hundred thousand copies every list and filter is read
// through an index, never by going through the table.
func TestScale(t *testing.T) {
	inv := open(t)
	ctx := t.Context()
	h := addHost(t, inv)
	_, err := inv.Pool.Exec(ctx, `with l as (insert into lineages (id, name) select gen_random_uuid(), 'class-' || n
		from generate_series(1, 50000) n returning id, name)
		insert into copies (id, lineage_id, name, form, host_id, path, rel, uuid, state, made_by, made_at, last_seen,
		machine)
		select gen_random_uuid(), l.id, l.name, (array['registered','stray','package','registered'])[k], $1,
		'/x/' || l.name || k, l.name || k, gen_random_uuid(), (array['running','stopped'])[1 + k % 2], 'survey', now(),
		now(),
		'{}' from l, generate_series(1, 4) k`, h.ID)
	require.NoError(t, err)
	_, err = inv.Pool.Exec(ctx, "analyze")
	require.NoError(t, err)
	for _, filter := range []string{"", "host=" + h.Name, "form=stray", "state=running", "name=class-777",
		"name~class-4242*", "name~*-4242", "uuid=" + uuid.NewString(), "mac=06:5c:00:00:00:77"} {
		began := time.Now()
		l, err := inv.Copies(ctx, inventory.Page{Limit: 50, Filter: filter})
		require.NoError(t, err, filter)
		if l.Next != "" {
			_, err = inv.Copies(ctx, inventory.Page{Limit: 50, Filter: filter, After: l.Next})
			require.NoError(t, err)
		}
		require.LessOrEqual(t, l.Count, inventory.CountCap+1)
		t.Logf("%-40q %4d of %d in %s", filter, len(l.Items), l.Count, time.Since(began))
	}
	for _, filter := range []string{"", "name=class-777", "name~class-42*", "host=" + h.Name} {
		began := time.Now()
		l, err := inv.Lineages(ctx, inventory.Page{Limit: 50, Filter: filter})
		require.NoError(t, err)
		require.NotEmpty(t, l.Items)
		t.Logf("lineages %-31q %4d of %d in %s", filter, len(l.Items), l.Count, time.Since(began))
	}
}
