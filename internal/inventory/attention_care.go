package inventory

import (
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
)

// What is to be cared for about machines that run: discs of first starts, room, snapshots.

// firstStarts are machines that were heard on their network with the disc of their first start still in the drive.
func (inv *Inventory) firstStarts(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null
		and c.machine -> 'devices' @> '[{"file": "first-start.iso"}]'
		and c.form = 'registered' and c.tracked and c.state = 'running' and cardinality(c.addresses) > 0
		order by c.name limit $1`, mostOfACause)
	var items []AttentionItem
	for _, c := range list {
		items = append(items, AttentionItem{ID: "first-start:" + c.ID.String(), Cause: CauseFirstStart,
			Subject: c.Host + "/" + c.Name, Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: fmt.Sprintf("It runs, and is heard at %s: it has read what it was told at its first start.",
				strings.Join(c.Addresses, ", ")),
			Recommended: "Put away the disc in its drive",
			Act:         &Act{Do: ActTold, Copies: []string{c.ID.String()}}})
	}
	return items, err
}

// poolsFilling are pools that machines run from, and that have less than a twentieth of their room left.
func (inv *Inventory) poolsFilling(ctx context.Context) ([]AttentionItem, error) {
	type line struct {
		ID                uuid.UUID
		Name, Host        string
		Total, Free       int64
		Running, Standing int
	}
	list, err := rows[line](ctx, inv.Pool, `select p.id, p.name, min(h.name) as host, p.total_bytes as total,
		p.free_bytes as free, count(*) filter (where c.state = 'running') as running,
		count(*) filter (where c.machine ? 'tree') as standing
		from pools p join copies c on c.pool_id = p.id and c.gone_at is null and c.form = 'registered'
		join hosts h on h.id = c.host_id
		where p.free_bytes < p.total_bytes / 20
		group by p.id, p.name, p.total_bytes, p.free_bytes
		having count(*) filter (where c.state = 'running') > 0 order by p.name limit $1`, mostOfACause)
	var items []AttentionItem
	for _, l := range list {
		i := AttentionItem{ID: "pool-filling:" + l.ID.String(), Cause: CausePoolFilling,
			Subject: l.Host + ":" + l.Name,
			Evidence: fmt.Sprintf("%s of %s are free, and %d of its machines run, and write.", fit.Size(l.Free),
				fit.Size(l.Total), l.Running),
			Recommended: "Make room before one of them stands still for want of it: empty the trash, take copies " +
				"elsewhere"}
		if l.Standing > 0 {
			i.Evidence += fmt.Sprintf(" %d stand on snapshots, whose layers grow.", l.Standing)
			i.Recommended += ", drop snapshots"
		}
		items = append(items, i)
	}
	return items, err
}

// oldSnapshots are machines that stand on a snapshot of long ago: the oldest comes first in a machine's tree.
func (inv *Inventory) oldSnapshots(ctx context.Context) ([]AttentionItem, error) {
	list, err := rows[Copy](ctx, inv.Pool, copySQL+` where c.gone_at is null and c.machine ? 'tree'
		and c.form = 'registered' and c.tracked
		and (c.machine #>> '{tree,0,madeAt}')::timestamptz between 'epoch' and now() - make_interval(secs => $2)
		order by c.name limit $1`, mostOfACause, oldSnapshot.Seconds())
	var items []AttentionItem
	for _, c := range list {
		s := c.Machine.Tree[0]
		items = append(items, AttentionItem{ID: "old-snapshot:" + c.ID.String() + "/" + s.Name, Cause: CauseOldSnapshot,
			Subject: c.Host + "/" + c.Name, Copies: []uuid.UUID{c.ID}, Since: since(s.MadeAt),
			Evidence: fmt.Sprintf("Its snapshot %s is of %s. What was written since lies in layers above it.", s.Name,
				s.MadeAt.Format("2 January 2006")),
			Recommended: "Drop it, if nobody wants to go back to it",
			Act:         &Act{Do: ActDropOld, Copies: []string{c.ID.String()}, Folder: s.Name}})
	}
	return items, err
}
