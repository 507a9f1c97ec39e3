package inventory

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
)

// What waits for a decision about machines, their folders, disks and packages.

// copiesOf are copies by their ids.
type copiesOf map[uuid.UUID]*Copy

// of is one of them; one without a name where it was forgotten while they were read.
func (by copiesOf) of(id uuid.UUID) *Copy {
	if c := by[id]; c != nil {
		return c
	}
	return &Copy{ID: id}
}

// copiesByID reads copies, those that are gone too.
func (inv *Inventory) copiesByID(ctx context.Context, ids []uuid.UUID) (copiesOf, error) {
	list, err := rows[Copy](ctx, inv.Pool, briefSQL+` where c.id = any($1)`, ids)
	by := copiesOf{}
	for i := range list {
		by[list[i].ID] = &list[i]
	}
	return by, err
}

// ledTo are the copies that some copies lead to.
func (inv *Inventory) ledTo(ctx context.Context, list []Copy, to func(*Copy) *uuid.UUID) (copiesOf, error) {
	var ids []uuid.UUID
	for i := range list {
		if id := to(&list[i]); id != nil {
			ids = append(ids, *id)
		}
	}
	return inv.copiesByID(ctx, ids)
}

// Where the files of a hollow entry were found again in another pool, that is what to take; else the entry has no use.
var findHollows = findsCopies(CauseHollow, "c.form = 'hollow' and c.tracked",
	func(ctx context.Context, inv *Inventory, list []Copy) ([]AttentionItem, error) {
		type again struct{ Entry, Folder uuid.UUID }
		ids := make([]uuid.UUID, len(list))
		for i := range list {
			ids[i] = list[i].ID
		}
		found, err := rows[again](ctx, inv.Pool, `select e.id as entry, f.id as folder from copies e
			cross join lateral (select x.id from copies x where x.form = 'stray' and x.gone_at is null and x.id in (
				select id from copies where uuid = e.uuid
				union select id from copies where parent_id = e.id
				union select id from copies where lineage_id = e.lineage_id)
			order by x.uuid = e.uuid desc nulls last, x.host_id = e.host_id desc limit 1) f where e.id = any($1)`, ids)
		if err != nil {
			return nil, err
		}
		var folders []uuid.UUID
		folderOf := map[uuid.UUID]uuid.UUID{}
		for _, a := range found {
			folders, folderOf[a.Entry] = append(folders, a.Folder), a.Folder
		}
		there, err := inv.copiesByID(ctx, folders)
		if err != nil {
			return nil, err
		}
		return itemsOf(list, func(c *Copy) AttentionItem {
			i := AttentionItem{ID: "hollow:" + c.ID.String(), Subject: c.Host + "/" + c.Name,
				Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
				Evidence: fmt.Sprintf("%s lists %s, whose folder %s is not there; its pool is.", c.Host, c.Name,
					c.Path),
				Recommended: "Take the entry off the list", Act: &Act{Do: ActDelist, Copies: []string{c.ID.String()}}}
			if f := there[folderOf[c.ID]]; f != nil {
				i.Copies = append(i.Copies, f.ID)
				i.Evidence += fmt.Sprintf(" A folder of the same machine lies at %s.", f.Host+":"+f.Path)
				i.Recommended, i.Act = "Register the folder that was found, in its place",
					&Act{Do: ActRegister, Folder: f.ID.String(), Host: c.Host}
			}
			return i
		}), nil
	})

// astray begins the item of a folder that no host lists.
func astray(c *Copy) AttentionItem {
	return AttentionItem{Subject: c.Host + ":" + c.Path, Copies: []uuid.UUID{c.ID}, Since: since(c.MadeAt),
		Recommended: "Register it", Act: &Act{Do: ActRegister, Folder: c.ID.String(), Host: c.Host}}
}

var findUnsure = findsCopies(CauseUnsure, "c.candidate_id is not null and c.form <> 'package'",
	func(ctx context.Context, inv *Inventory, list []Copy) ([]AttentionItem, error) {
		others, err := inv.ledTo(ctx, list, func(c *Copy) *uuid.UUID { return c.Candidate })
		return itemsOf(list, func(c *Copy) AttentionItem {
			other := others.of(*c.Candidate)
			i := astray(c)
			i.ID, i.Copies = "unsure:"+c.ID.String(), append(i.Copies, other.ID)
			i.Evidence = fmt.Sprintf("It may be a copy of %s: %s (%d of %d points).", other.Ref(),
				lineage.Words(c.Evidence), c.Score, lineage.Sure)
			i.Recommended, i.Act = "Say that it is a copy of "+other.Ref(),
				&Act{Do: ActRecognise, Copies: []string{c.ID.String()}, Candidate: other.ID.String()}
			return i
		}), err
	})

var findLost = findsCopies(CauseLostDescriptor, "c.form = 'stray' and c.problem <> '' and c.candidate_id is null",
	each(func(c *Copy) AttentionItem {
		i := astray(c)
		i.ID = "lost-descriptor:" + c.ID.String()
		i.Evidence = "Its descriptor can't be used: " + strings.TrimSuffix(c.Problem, ".") + "."
		i.Recommended = "Register it with a descriptor made anew"
		return i
	}))

var findStrays = findsCopies(CauseStray, "c.form = 'stray' and c.problem = '' and c.candidate_id is null",
	func(ctx context.Context, inv *Inventory, list []Copy) ([]AttentionItem, error) {
		ids := make([]uuid.UUID, len(list))
		for i := range list {
			ids[i] = list[i].ID
		}
		off, err := inv.TakenOff(ctx, ids...)
		if err != nil {
			return nil, err
		}
		parents, err := inv.ledTo(ctx, list, func(c *Copy) *uuid.UUID { return c.Parent })
		return itemsOf(list, func(c *Copy) AttentionItem {
			i := astray(c)
			i.ID = "stray:" + c.ID.String()
			switch e := off[c.ID]; {
			case e.What != "":
				i.Since = since(e.At)
				i.Evidence = fmt.Sprintf("%s listed it until %s took it off the list.", c.Host, e.Who)
				i.Recommended = "Register it again, as the copy that it is"
			case c.Parent != nil:
				i.Evidence = "It is a copy"
				if parent := parents[*c.Parent]; parent != nil {
					i.Evidence += " of " + parent.Ref()
					if parent.GoneAt == nil && parent.Form == lineage.Registered {
						i.Recommended = "Register it with a renewed identity"
					}
				}
				if words := lineage.Words(c.Evidence); words != "" {
					i.Evidence += ": " + words
				}
				i.Evidence += "."
			default:
				i.Evidence = "Nothing is known of where it comes from."
			}
			return i
		}), err
	})

// facetsFor is what has to be renewed where a facet is shared.
var facetsFor = map[string][]string{"MAC": {"mac"}, "machine UUID": {"uuid", "firmware-uuid", "mac", "disk-id",
	"generation-id"}}

// twins are copies that share a facet; Also is another facet that all of them share.
type twins struct {
	Value  string
	Copies []uuid.UUID
	Names  []string
	Since  time.Time
	Also   []string
}

// findTwins makes the finder of those that share what shared keeps of a kind. sharing are the copies that do, and by
// what.
func findTwins(kind, facet string, sharing [2]string) finder {
	return finds(finder{cause: CauseTwin, id: `'twin:' || x.copies[1] || '+' || x.copies[cardinality(x.copies)]`,
		from: `shared t cross join lateral (select array_agg(c.id order by c.made_at, c.id) as copies,
			array_agg(h.name || '/' || c.name order by c.made_at, c.id) as names, max(c.made_at) as since
			from ` + sharing[0] + ` join hosts h on h.id = c.host_id
			where c.form = 'registered' and c.gone_at is null and c.tracked and ` + sharing[1] + `) x
			where t.kind = '` + kind + `' and cardinality(x.copies) > 1`,
		order: [2]string{"t.kind", "t.value"}, kinds: [2]string{"text", "text"}},
		`t.value, x.copies, x.names, x.since, case when t.kind = 'uuid' then array(select n.mac::text from nics n
			where n.copy_id = any(x.copies) group by n.mac having count(distinct n.copy_id) = cardinality(x.copies)
			order by n.mac limit 5) else '{}' end as also`,
		func(l *twins) [2]string { return [2]string{kind, l.Value} }, each(func(l *twins) AttentionItem {
			last := len(l.Copies) - 1
			said := facet + " " + l.Value
			for _, mac := range l.Also {
				said += " and the MAC " + mac
			}
			return AttentionItem{ID: "twin:" + l.Copies[0].String() + "+" + l.Copies[last].String(),
				Subject: strings.Join(l.Names, ", "), Copies: l.Copies, Since: since(l.Since),
				Evidence:    fmt.Sprintf("They share the %s.", said),
				Recommended: "Renew " + l.Names[last], Act: &Act{Do: ActRenew,
					Copies: []string{l.Copies[last].String()}, Facets: facetsFor[facet]}}
		}))
}

// twinFinders: what shares a MAC and no UUID comes behind what shares a UUID.
var twinFinders = []finder{
	findTwins("uuid", "machine UUID", [2]string{"copies c", "c.uuid = t.value::uuid"}),
	findTwins("mac", "MAC", [2]string{"copies c",
		"c.id in (select copy_id from nics where mac = t.value::macaddr)"}),
}

// faultFinders are of disks, as the hosts told them.
var faultFinders = []finder{
	findFaults(CauseParentlessLayer, "d.faults #>> '{0,code}' like 'disk.parent-%'"),
	findFaults(CauseDamagedDisk, "d.faults #>> '{0,code}' not like 'disk.parent-%'"),
}

// placedDisk is a disk with its place among those of its copy.
type placedDisk struct {
	CopyDisk
	Position int
}

func findFaults(cause Cause, which string) finder {
	return finds(finder{cause: cause, id: `'` + string(cause) + `:' || d.copy_id || '/' || d.disk`,
		from: `copy_disks d join copies c on c.id = d.copy_id where d.faults <> '[]' and c.gone_at is null and c.tracked
			and c.form in ('registered', 'stray') and ` + which,
		order: [2]string{"d.copy_id", "d.position"}, kinds: [2]string{"uuid", "integer"}},
		copyDiskColumns+", d.position",
		func(d *placedDisk) [2]string { return [2]string{d.CopyID.String(), fmt.Sprint(d.Position)} },
		func(ctx context.Context, inv *Inventory, list []placedDisk) ([]AttentionItem, error) {
			var ids []uuid.UUID
			for _, d := range list {
				ids = append(ids, d.CopyID)
			}
			copies, err := inv.copiesByID(ctx, ids)
			return itemsOf(list, func(d *placedDisk) AttentionItem {
				return fault(cause, copies.of(d.CopyID), &d.CopyDisk)
			}), err
		})
}

func fault(cause Cause, c *Copy, d *CopyDisk) AttentionItem {
	f := d.Faults[0]
	says, _, _ := strings.Cut(f.Message, ": unvora ")
	i := AttentionItem{ID: string(cause) + ":" + c.ID.String() + "/" + d.Disk, Subject: c.Ref() + " " + d.Disk,
		Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen), Evidence: Sentence(says)}
	if c.Form != lineage.Registered {
		i.Subject = c.Host + ":" + c.Path + " " + d.Disk
	}
	switch {
	case cause == CauseParentlessLayer && f.Candidate != "":
		i.Recommended, i.Act = "Take "+path.Base(f.Candidate)+" as its parent",
			&Act{Do: ActReparent, Copies: []string{c.ID.String()}, Folder: d.Path, Candidate: f.Candidate}
	case cause == CauseParentlessLayer:
		i.Recommended = "Find its parent; unvora disk reparent then tells the layer"
	case f.Code == "disk.missing":
		i.Recommended = "Bring the file back, or detach the disk"
		i.Act = &Act{Do: ActDetach, Copies: []string{c.ID.String()}, Folder: d.Disk}
	default:
		i.Recommended = "Check it: unvora disk check " + d.Path
	}
	return i
}

// sharedDisk is a file that several machines of a host name.
type sharedDisk struct {
	Value, Path, Host string
	Copies            []uuid.UUID
	Names             []string
}

var findSharedDisks = finds(finder{cause: CauseSharedDisk, id: `'shared-disk:' || h.name || ':' || substr(t.value, 38)`,
	from: `shared t join hosts h on h.id = split_part(t.value, ':', 1)::uuid cross join lateral (
		select array_agg(c.id order by c.made_at, c.id) as copies, array_agg(c.name order by c.made_at, c.id) as names
		from (select distinct copy_id from copy_disks where path = substr(t.value, 38)) d
		join copies c on c.id = d.copy_id where c.host_id = h.id and c.form = 'registered' and c.gone_at is null) x
		where t.kind = 'path' and cardinality(x.copies) > 1`,
	order: [2]string{"t.kind", "t.value"}, kinds: [2]string{"text", "text"}},
	`t.value, substr(t.value, 38) as path, h.name as host, x.copies, x.names`,
	func(l *sharedDisk) [2]string { return [2]string{"path", l.Value} }, each(func(l *sharedDisk) AttentionItem {
		last := len(l.Copies) - 1
		return AttentionItem{ID: "shared-disk:" + l.Host + ":" + l.Path, Subject: l.Host + ":" + l.Path,
			Copies: l.Copies, Evidence: fmt.Sprintf("%s name the same file.", strings.Join(l.Names, " and ")),
			Recommended: fmt.Sprintf("Detach it from %s", l.Names[last]),
			Act:         &Act{Do: ActDetach, Copies: []string{l.Copies[last].String()}, Folder: l.Path}}
	}))

var findChangedPackages = findsCopies(CauseChangedPackage, "c.problem <> '' and c.form = 'package' and c.number = 0",
	each(func(c *Copy) AttentionItem {
		return AttentionItem{ID: "changed-package:" + c.ID.String(),
			Subject: c.Ref(), Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: Sentence(c.Problem), Recommended: "Look at it (unvora inspect --verify), " +
				"and export its machine again"}
	}))

// Machines of which a second host says that it lists them too.
var findListedTwice = findsCopies(CauseListedTwice, "c.problem <> '' and c.problem like '"+contested+"%'",
	each(func(c *Copy) AttentionItem {
		other, says, _ := strings.Cut(strings.TrimPrefix(c.Problem, contested), ": ")
		return AttentionItem{ID: "listed-twice:" + c.ID.String(),
			Subject: c.Ref() + ", " + other, Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: Sentence(says), Recommended: fmt.Sprintf("Turn it off at %s if it runs there, then move it "+
				"there and back: unvora move %s --host %s", other, c.Ref(), other)}
	}))

// Lineages that had more than one copy, and have a single one left that is no package on a shelf.
var findLastCopies = finds(finder{cause: CauseLastCopy, id: `'last-copy:' || c.id`,
	from: "last_copies t join " + strings.Replace(copyList.from, "copies c", "copies c on c.id = t.copy_id", 1) +
		" where c.gone_at is null and c.tracked and c.form in ('registered', 'stray')",
	order: [2]string{"t.lineage_id", "c.id"}, kinds: [2]string{"uuid", "uuid"}}, copyList.columns,
	func(c *Copy) [2]string { return [2]string{c.LineageID.String(), c.ID.String()} },
	each(func(c *Copy) AttentionItem {
		i := AttentionItem{ID: "last-copy:" + c.ID.String(), Subject: c.Host + "/" + c.Name,
			Copies: []uuid.UUID{c.ID}, Since: since(c.LastSeen),
			Evidence: "All other copies of it are gone.", Recommended: "Export it to a shelf"}
		if c.Form == lineage.Registered {
			i.Act = &Act{Do: ActExport, Copies: []string{c.ID.String()}}
		}
		return i
	}))

// unseen is a host that has been silent for long.
type unseen struct {
	ID       uuid.UUID
	Name     string
	LastSeen time.Time
	Copies   []uuid.UUID // the first of them
	Count    int
}

var findLongUnseen = finds(finder{cause: CauseLongUnseen, id: `'long-unseen:' || h.id`,
	from: fmt.Sprintf(`hosts h where h.state = 'unreachable' and h.last_seen < now() - make_interval(secs => %f)
		and exists (select 1 from copies c where c.host_id = h.id and c.gone_at is null)`, longUnseen.Seconds()),
	order: [2]string{"h.name", "h.id"}, kinds: [2]string{"text", "uuid"}},
	`h.id, h.name, h.last_seen, array(select c.id from copies c where c.host_id = h.id and c.gone_at is null
		order by c.name, c.id limit 100) as copies,
		(select count(*) from copies c where c.host_id = h.id and c.gone_at is null)::int as count`,
	func(u *unseen) [2]string { return [2]string{u.Name, u.ID.String()} }, each(func(u *unseen) AttentionItem {
		copies := "a copy"
		if u.Count > 1 {
			copies = fmt.Sprintf("%d copies", u.Count)
		}
		return AttentionItem{ID: "long-unseen:" + u.ID.String(), Subject: u.Name, Copies: u.Copies,
			Since: since(u.LastSeen),
			Evidence: fmt.Sprintf("It has not answered since %s. It had %s.", u.LastSeen.Format("2 January 2006"),
				copies),
			Recommended: "Start the agent there, or bring back what it had: unvora host rebuild " + u.Name}
	}))

// ClientSilence is how long nothing may be heard of the computer that a job
// waits for until somebody is told.
const ClientSilence = time.Minute

// hostPath is a place at a host that something is the matter with.
type hostPath struct {
	ID         uuid.UUID
	Host, Path string
	Since      *time.Time
	Disks      []string
}

var findUnreadFolders = finds(finder{cause: CauseUnreadFolder, id: `'unread-folder:' || h.name || ':' || path`,
	from:  `hosts h, unnest(h.unread) path where h.unread <> '{}' and h.state = 'up'`,
	order: [2]string{"h.name", "path"}, kinds: [2]string{"text", "text"}},
	`h.id, h.name as host, path, h.last_seen as since, '{}'::text[] as disks`,
	func(l *hostPath) [2]string { return [2]string{l.Host, l.Path} }, each(func(l *hostPath) AttentionItem {
		return AttentionItem{ID: "unread-folder:" + l.Host + ":" + l.Path,
			Subject: l.Host + ":" + l.Path, Copies: []uuid.UUID{}, Since: l.Since,
			Evidence: "It could not be read in time: its drive or its " +
				"server stands still. What was known of it stays.",
			Recommended: "Look at the drive or the share there; the next survey tries again"}
	}))

// Of a share, the host that was added first tells it.
var findBareFolders = finds(finder{cause: CauseLostDescriptor,
	id: `'lost-descriptor:' || h.name || ':' || (b ->> 'path')`,
	from: `(select * from hosts where bare <> '[]' offset 0) h cross join jsonb_array_elements(h.bare) b
		cross join lateral (select regexp_replace(b ->> 'path', '^.*/', '') as last) l
		where not exists (select 1 from pool_hosts x join hosts o on o.id = x.host_id
			where x.pool_id = (b ->> 'pool')::uuid and o.bare <> '[]' and (o.added_at, o.id) < (h.added_at, h.id)
			and exists (select 1 from jsonb_array_elements(o.bare) k where k ->> 'pool' = b ->> 'pool'
				and regexp_replace(k ->> 'path', '^.*/', '') = l.last))
		and not exists (select 1 from copy_disks d join copies c on c.id = d.copy_id where c.gone_at is null
			and c.form <> 'package'
			and d.tails && array(select l.last || '/' || jsonb_array_elements_text(b -> 'disks')))
		and not exists (select 1 from copies c join copy_disks d on d.copy_id = c.id and d.faults <> '[]',
			jsonb_array_elements(d.faults) f where c.host_id = h.id and f ->> 'candidate' like (b ->> 'path') || '/%')
		and not exists (select 1 from loose_disks d where d.host_id = h.id and d.path like (b ->> 'path') || '/%')`,
	order: [2]string{"h.name", "b ->> 'path'"}, kinds: [2]string{"text", "text"}},
	`h.id, h.name as host, b ->> 'path' as path, null::timestamptz as since,
		array(select jsonb_array_elements_text(b -> 'disks')) as disks`,
	func(l *hostPath) [2]string { return [2]string{l.Host, l.Path} }, each(func(l *hostPath) AttentionItem {
		return AttentionItem{ID: "lost-descriptor:" + l.Host + ":" + l.Path,
			Subject: l.Host + ":" + l.Path, Copies: []uuid.UUID{},
			Evidence: fmt.Sprintf("It holds %s, which no machine names, and no descriptor.",
				strings.Join(l.Disks, ", ")),
			Recommended: "Make a machine around them, or adopt them",
			Act:         &Act{Do: ActRegister, Folder: l.Path, Host: l.Host}}
	}))

// worstFirst orders finders as their causes are.
func worstFirst(lists ...[]finder) []finder {
	all := slices.Concat(lists...)
	slices.SortStableFunc(all, func(a, b finder) int { return cmp.Compare(rank(a.cause), rank(b.cause)) })
	return all
}
