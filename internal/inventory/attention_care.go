package inventory

import (
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
)

// What is to be cared for about machines that run: discs of first starts, room, snapshots.

// Machines that were heard on their network with the disc of their first start still in the drive.
var findFirstStarts = findsCopies(CauseFirstStart, `c.machine -> 'devices' @> '[{"file": "first-start.iso"}]'
	and c.form = 'registered' and c.tracked and c.state = 'running' and cardinality(c.addresses) > 0`,
	each(func(c *Copy) AttentionItem {
		return AttentionItem{ID: "first-start:" + c.ID.String(),
			Subject: c.Host + "/" + c.Name, Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: fmt.Sprintf("It runs, and is heard at %s: it has read what it was told at its first start.",
				strings.Join(c.Addresses, ", ")),
			Recommended: "Put away the disc in its drive",
			Act:         &Act{Do: ActTold, Copies: []string{c.ID.String()}}}
	}))

// filling is a pool with the machines that run from it, and those that stand on snapshots.
type filling struct {
	ID                uuid.UUID
	Name, Host        string
	Total, Free       int64
	Running, Standing int
}

// Pools that machines run from, and that have less than a twentieth of their room left.
var findPoolsFilling = finds(finder{cause: CausePoolFilling, id: `'pool-filling:' || p.id`,
	from: `pools p cross join lateral (select min(h.name) as host,
		count(*) filter (where c.state = 'running') as running,
		count(*) filter (where c.machine ? 'tree') as standing from copies c join hosts h on h.id = c.host_id
		where c.pool_id = p.id and c.gone_at is null and c.form = 'registered') x
		where p.free_bytes < p.total_bytes / 20 and x.running > 0`,
	order: [2]string{"p.name", "p.id"}, kinds: [2]string{"text", "uuid"}},
	`p.id, p.name, x.host, p.total_bytes as total, p.free_bytes as free, x.running, x.standing`,
	func(l *filling) [2]string { return [2]string{l.Name, l.ID.String()} }, each(func(l *filling) AttentionItem {
		i := AttentionItem{ID: "pool-filling:" + l.ID.String(), Subject: l.Host + ":" + l.Name,
			Evidence: fmt.Sprintf("%s of %s are free, and %d of its machines run, and write.", fit.Size(l.Free),
				fit.Size(l.Total), l.Running),
			Recommended: "Make room before one of them stands still for want of it: empty the trash, take copies " +
				"elsewhere"}
		if l.Standing > 0 {
			i.Evidence += fmt.Sprintf(" %d stand on snapshots, whose layers grow.", l.Standing)
			i.Recommended += ", drop snapshots"
		}
		return i
	}))

// Machines that stand on a snapshot of long ago: the oldest comes first in a machine's tree.
var findOldSnapshots = finds(finder{cause: CauseOldSnapshot,
	id: `'old-snapshot:' || c.id || '/' || (c.machine #>> '{tree,0,name}')`,
	from: copyList.from + fmt.Sprintf(` where c.gone_at is null and c.machine ? 'tree' and c.form = 'registered'
		and c.tracked and (c.machine #>> '{tree,0,madeAt}')::timestamptz
		between 'epoch' and now() - make_interval(secs => %f)`, oldSnapshot.Seconds()),
	order: [2]string{"c.name", "c.id"}, kinds: [2]string{"text", "uuid"}}, copyList.columns,
	func(c *Copy) [2]string { return [2]string{c.Name, c.ID.String()} }, each(func(c *Copy) AttentionItem {
		s := c.Machine.Tree[0]
		return AttentionItem{ID: "old-snapshot:" + c.ID.String() + "/" + s.Name,
			Subject: c.Host + "/" + c.Name, Copies: []uuid.UUID{c.ID}, Since: since(s.MadeAt),
			Evidence: fmt.Sprintf("Its snapshot %s is of %s. What was written since lies in layers above it.", s.Name,
				s.MadeAt.Format("2 January 2006")),
			Recommended: "Drop it, if nobody wants to go back to it",
			Act:         &Act{Do: ActDropOld, Copies: []string{c.ID.String()}, Folder: s.Name}}
	}))
