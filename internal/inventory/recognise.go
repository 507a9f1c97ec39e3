package inventory

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
)

// CopyDisk is a disk of a copy as it was seen.
type CopyDisk struct {
	CopyID       uuid.UUID        `json:"copy" db:"copy_id"`
	Disk         string           `json:"disk"`
	Path         string           `json:"path"`
	ImageID      string           `json:"imageId" db:"image_id"`
	VirtualBytes int64            `json:"virtualBytes"`
	Layers       []string         `json:"layers"` // paths below the top one
	Faults       []plan.DiskFault `json:"faults"`
	Samples      []disk.Sample    `json:"-"`
	WrittenAt    *time.Time       `json:"writtenAt"`
}

const (
	copyDiskColumns = `d.copy_id, d.disk, d.path, d.image_id, d.virtual_bytes, d.layers, d.faults, d.samples,
		d.written_at`
	copyDiskSQL = `select ` + copyDiskColumns + ` from copy_disks d`
)

// DisksOf lists the disks of copies as they were last seen.
func (inv *Inventory) DisksOf(ctx context.Context, copies ...uuid.UUID) (map[uuid.UUID][]CopyDisk, error) {
	return disksOf(ctx, inv.Pool, copies)
}

func disksOf(ctx context.Context, q Querier, copies []uuid.UUID) (map[uuid.UUID][]CopyDisk, error) {
	list, err := rows[CopyDisk](ctx, q, copyDiskSQL+` where d.copy_id = any($1) order by d.copy_id, d.position`, copies)
	all := map[uuid.UUID][]CopyDisk{}
	for _, d := range list {
		all[d.CopyID] = append(all[d.CopyID], d)
	}
	return all, err
}

func signsOf(list []CopyDisk) (signs []lineage.DiskSigns) {
	for _, d := range list {
		signs = append(signs, lineage.DiskSigns{ImageID: d.ImageID, Samples: d.Samples})
	}
	return signs
}

// signs of a folder's disks, and when one of them was last written to.
func signs(seen []hostlink.SeenDisk) (list []lineage.DiskSigns, written time.Time) {
	for _, d := range seen {
		list = append(list, lineage.DiskSigns{ImageID: d.ImageID, Samples: d.Samples})
		if d.WrittenAt.After(written) {
			written = d.WrittenAt
		}
	}
	return list, written
}

// putDisks writes what was seen of a copy's disks, where it is different.
func putDisks(ctx context.Context, tx Querier, id uuid.UUID, seen []hostlink.SeenDisk) (changed bool, err error) {
	type known struct {
		Disk, Path, ImageID, Print string
		Layers                     []string
		Faults                     []plan.DiskFault
	}
	before, err := rows[known](ctx, tx, `select disk, path, image_id, print, layers, faults from copy_disks
		where copy_id = $1 order by position`, id)
	if err != nil {
		return false, err
	}
	same := len(before) == len(seen)
	prints := make([]string, len(seen))
	for i, d := range seen {
		if len(d.Samples) > 0 {
			prints[i] = disk.Fingerprint{VirtualBytes: d.VirtualBytes, Samples: d.Samples}.String()
		}
		same = same && before[i].Disk == d.ID && before[i].Path == d.Path && before[i].ImageID == d.ImageID &&
			before[i].Print == prints[i] && slices.Equal(before[i].Layers, d.Layers) &&
			slices.Equal(before[i].Faults, d.Faults)
	}
	if same {
		return false, nil
	}
	batch := &pgx.Batch{}
	batch.Queue(`delete from copy_disks where copy_id = $1`, id)
	batch.Queue(`delete from disk_samples where copy_id = $1`, id)
	for i, d := range seen {
		if d.Layers == nil {
			d.Layers = []string{}
		}
		if d.Faults == nil {
			d.Faults = []plan.DiskFault{}
		}
		if d.Samples == nil {
			d.Samples = []disk.Sample{}
		}
		batch.Queue(`insert into copy_disks (copy_id, position, disk, path, image_id, virtual_bytes, layers, faults,
			print, samples, written_at, tails) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
			id, i, d.ID, d.Path, d.ImageID, d.VirtualBytes, d.Layers, d.Faults, prints[i], d.Samples, d.WrittenAt,
			tails(d))
		hashes, cells := hashesOf(d.Samples)
		batch.Queue(`insert into disk_samples (hash, cell, copy_id) select w.hash, w.cell, $3 from unnest($1::bigint[],
			$2::bigint[]) w(hash, cell)`, hashes, cells, id)
	}
	return true, tx.SendBatch(ctx, batch).Close()
}

// tails are the last two parts of the paths of a disk's layers.
func tails(d hostlink.SeenDisk) []string {
	list := []string{}
	for _, p := range append([]string{d.Path}, d.Layers...) {
		list = append(list, path.Join(path.Base(path.Dir(p)), path.Base(p)))
	}
	return list
}

func hashesOf(samples []disk.Sample) (hashes, cells []int64) {
	for _, s := range samples {
		hashes, cells = append(hashes, int64(s.Hash)), append(cells, s.Cell)
	}
	return hashes, cells
}

// Of each sample, how many copies that have it are looked at; and how many of
// those that have most of them.
const (
	perSample   = 60
	mostAlike   = 8
	mostSamples = 48
)

// alike finds copies that a folder's disks, MACs and name could stem from.
func (a *applier) alike(f *hostlink.Folder) ([]Copy, error) {
	var hashes, cells []int64
	ids := []string{}
	for _, d := range f.Disks {
		h, c := hashesOf(d.Samples)
		hashes, cells = append(hashes, h...), append(cells, c...)
		if d.ImageID != "" {
			ids = append(ids, d.ImageID)
		}
	}
	if len(hashes) > mostSamples { // enough to find it by; it is weighed by all of them
		hashes, cells = hashes[:mostSamples], cells[:mostSamples]
	}
	macs := []string{}
	if f.Machine != nil {
		macs = f.Machine.MACs()
	}
	return rows[Copy](a.ctx, a.tx, copySQL+` where c.form <> 'package' and c.id in (
		(select copy_id from copy_disks where image_id = any($1) limit 20)
		union (select copy_id from nics where mac = any($2::macaddr[]) limit 20)
		union (select x.copy_id from (select s.copy_id, count(*) as n from unnest($3::bigint[], $4::bigint[]) w(hash,
		cell),
			lateral (select d.copy_id from disk_samples d where d.hash = w.hash
			and d.cell = w.cell limit `+fmt.Sprint(perSample)+`) s group by 1
			order by 2 desc limit `+fmt.Sprint(mostAlike)+`) x))
		order by c.gone_at nulls first, c.form = 'registered' desc, c.made_at`, ids, macs, hashes, cells)
}

// weigh recognises a folder by evidence, where neither its passport nor its place tell what it is. It is none of but.
func (a *applier) weigh(s lineage.Sighting, f *hostlink.Folder, known []Copy, but uuid.UUID) (lineage.Verdict, []Copy,
	error) {
	more, err := a.alike(f)
	if err != nil {
		return lineage.Verdict{}, known, err
	}
	for _, c := range more {
		if byID(known, c.ID.String()) == nil {
			known = append(known, c)
		}
	}
	known = slices.DeleteFunc(slices.Clone(known), func(k Copy) bool { return k.ID == but })
	ids := make([]uuid.UUID, len(known))
	for i, c := range known {
		ids[i] = c.ID
	}
	disks, err := disksOf(a.ctx, a.tx, ids)
	if err != nil {
		return lineage.Verdict{}, known, err
	}
	knowns := make([]lineage.Known, len(known))
	for i, c := range known {
		knowns[i] = a.here(c)
		knowns[i].MACs, knowns[i].Disks = c.MACs, signsOf(disks[c.ID])
	}
	s.Disks, s.WrittenAt = signs(f.Disks)
	return lineage.Recognise(s, knowns), known, nil
}

// stillComing tells whether a folder was found so short a time ago that it may still be copied by hand, and whether
// nobody has said what it is.
func stillComing(c *Copy, form lineage.Form) bool {
	return form == lineage.Stray && c.Form == lineage.Stray && c.GoneAt == nil && c.MadeBy == "survey" &&
		c.SettledBy == "" && c.Machine != nil && c.Machine.Passport == nil && time.Since(c.MadeAt) < copying
}

// anew recognises a folder once more, of which more is there than when it was found: the descriptor comes first, and
// its disks take a while. What speaks for the same, or for less, changes nothing; nor is one touched that others were
// found to be copies of.
func (a *applier) anew(c *Copy, s lineage.Sighting, f *hostlink.Folder, known []Copy) error {
	v, _, err := a.weigh(s, f, known, c.ID)
	if err != nil || v.Score <= c.Score || v.Copy != "" || v.Child != "" {
		return err
	}
	parent, candidate, id := OptionalID(v.Parent), OptionalID(v.Candidate), c.LineageID
	if parent != nil {
		if id, err = uuid.Parse(v.Lineage); err != nil {
			return fmt.Errorf("lineage of %s: %w", c.Name, err)
		}
	}
	tag, err := a.tx.Exec(a.ctx, `update copies set lineage_id = $2, parent_id = $3, evidence = $4, score = $5,
		candidate_id = $6, identity = case when $3::uuid is null then identity else 'keep' end
		where id = $1 and not exists (select 1 from copies k where k.parent_id = $1)`,
		c.ID, id, parent, v.Evidence, v.Score, candidate)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	if err := dropBare(a.ctx, a.tx, c.LineageID); err != nil {
		return err
	}
	a.note("changed", c.Form, c.Name, "%s, in %s: %s", c.Name, path.Dir(c.Path), v.Why)
	return In(a.tx).Emit(a.ctx, "copy", c.ID.String(), map[string]any{"name": c.Name, "lineage": id})
}

// dropBare forgets a lineage that no copy is of.
func dropBare(ctx context.Context, tx Querier, id uuid.UUID) error {
	_, err := tx.Exec(ctx, `delete from lineages l where l.id = $1 and not exists (select 1 from copies
		where lineage_id = l.id)`, id)
	return err
}

// Settle says what a copy that was found is: a copy of another one, one of a
// lineage, or the first of its own. It is kept, whatever surveys make of it.
func (inv *Inventory) Settle(ctx context.Context, c *Copy, parent *Copy, into *Lineage, who, why string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		lineageID, what := NewID(), "nothing known"
		var parentID *uuid.UUID
		switch {
		case parent != nil:
			if parent.ID == c.ID {
				return Wrong("%s can't be a copy of itself.", c.Name)
			}
			var below bool
			if err := tx.QueryRow(ctx, `with recursive up(id, parent_id) as (select id, parent_id from copies
				where id = $1
				union select c.id, c.parent_id from copies c join up on c.id = up.parent_id) select exists (select 1
				from up
				where id = $2)`, parent.ID, c.ID).Scan(&below); err != nil {
				return err
			}
			if below {
				return Wrong("%s descends from %s: it can't be its origin too.", parent.Ref(), c.Name)
			}
			lineageID, parentID, what = parent.LineageID, &parent.ID, parent.Ref()
		case into != nil:
			lineageID, what = into.ID, into.Name
		default:
			if err := In(tx).EnsureLineage(ctx, lineageID, c.Name); err != nil {
				return err
			}
		}
		// What descends from it goes along.
		if _, err := tx.Exec(ctx, `with recursive down(id) as (select $1::uuid union select c.id from copies c
			join down on c.parent_id = down.id)
			update copies set lineage_id = $2 where id in (select id from down)`, c.ID, lineageID); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update copies set parent_id = $2, candidate_id = null, settled_by = $3,
			settled_at = now(),
			identity = case when $2::uuid is null then 'original'
			when identity = 'original' then 'keep' else identity end
			where id = $1`, c.ID, parentID, who); err != nil {
			return err
		}
		if err := dropBare(ctx, tx, c.LineageID); err != nil {
			return err
		}
		if err := In(tx).Emit(ctx, "copy", c.ID.String(), map[string]any{"name": c.Name,
			"lineage": lineageID}); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "recognise", Subject: c.Name, CopyID: &c.ID,
			LineageID: &lineageID,
			Why:       why, Detail: map[string]any{"as": what}})
	})
}

// Track lets Unvora look after copies, or leave them alone.
func (inv *Inventory) Track(ctx context.Context, list []Copy, tracked bool, who, why string) error {
	what := "untrack"
	if tracked {
		what = "track"
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		for _, c := range list {
			if place, manager, ok := strings.Cut(c.Host, "@"); ok && tracked {
				return Wrong("%s is at %s of the manager %s, which looks after it. Import it, and look after "+
					"that.", c.Name,
					place, manager)
			}
			if _, err := tx.Exec(ctx, `update copies set tracked = $2 where id = $1`, c.ID, tracked); err != nil {
				return err
			}
			if err := In(tx).Emit(ctx, "copy", c.ID.String(), map[string]any{"name": c.Name,
				"tracked": tracked}); err != nil {
				return err
			}
			if err := In(tx).Audit(ctx, Entry{Who: who, What: what, Subject: c.Name, CopyID: &c.ID,
				LineageID: &c.LineageID,
				Why:       why}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Ancestor is the last copy that both descend from; "" when none is known.
func (inv *Inventory) Ancestor(ctx context.Context, a, b uuid.UUID) (id string, err error) {
	err = inv.Pool.QueryRow(ctx, `with recursive up(id, parent_id, depth) as (select id, parent_id, 0 from copies
		where id = $1 union all select c.id, c.parent_id, depth + 1 from copies c join up on c.id = up.parent_id
		where depth < 1000),
		other(id, parent_id, depth) as (select id, parent_id, 0 from copies where id = $2 union all select c.id,
		c.parent_id, depth + 1 from copies c join other on c.id = other.parent_id where depth < 1000)
		select coalesce((select up.id::text from up join other on other.id = up.id order by up.depth limit 1),
		'')`, a, b).Scan(&id)
	return id, err
}

// mostSelected is how many copies one call is about at most.
const mostSelected = 1000

// Selected finds copies by name, and those that a filter tells.
func (inv *Inventory) Selected(ctx context.Context, names []string, filter string, form lineage.Form) ([]Copy, error) {
	var list []Copy
	for _, n := range names {
		c, err := inv.Copy(ctx, n, form)
		if err != nil {
			return nil, err
		}
		list = append(list, *c)
	}
	if filter != "" {
		l, err := inv.Copies(ctx, Page{Limit: mostSelected, Filter: filter + " form=" + string(form)})
		if err != nil {
			return nil, err
		}
		if l.Count > mostSelected {
			return nil, Wrong("The filter tells more than %d copies: narrow it.", mostSelected)
		}
		list = append(list, l.Items...)
	}
	if len(list) == 0 {
		return nil, Refuse(CodeUnknown, "No copy is meant: name them, or give a filter that tells some.")
	}
	return list, nil
}
