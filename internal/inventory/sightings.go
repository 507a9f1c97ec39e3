package inventory

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/hostlink"
)

// Change is one thing that a survey found different from the records.
type Change struct {
	Host string `json:"host"`
	What string `json:"what"` // found, back, gone, changed
	Form string `json:"form"`
	Name string `json:"name"`
	Text string `json:"text"`
}

// Apply brings the records of a host up to date with what it holds.
func (inv *Inventory) Apply(ctx context.Context, h *Host, s *hostlink.Survey) (changes []Change, err error) {
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		// Surveys of one host follow each other; so do the two ends of a share.
		if _, err := tx.Exec(ctx, `select 1 from hosts where id = $1 for update`, h.ID); err != nil {
			return err
		}
		if err := applyHost(ctx, tx, h.ID, s); err != nil {
			return err
		}
		if !s.Changed {
			return nil
		}
		a := &applier{ctx, tx, h, nil}
		paths := []string{}
		for i := range s.Machines {
			paths = append(paths, s.Machines[i].Path)
			if err := a.folder(&s.Machines[i], poolPath(s.Pools, s.Machines[i].Pool)); err != nil {
				return err
			}
		}
		for i := range s.Packages {
			paths = append(paths, s.Packages[i].Path)
			if err := a.shelved(&s.Packages[i]); err != nil {
				return err
			}
		}
		if err := a.gone(s.Full, paths, s.Gone); err != nil {
			return err
		}
		changes = a.changes
		return nil
	})
	return changes, err
}

func poolPath(pools []hostlink.Pool, id string) string {
	for _, p := range pools {
		if p.ID == id {
			return p.Path
		}
	}
	return ""
}

type applier struct {
	ctx     context.Context
	tx      pgx.Tx
	host    *Host
	changes []Change
}

func (a *applier) note(what, form, name, format string, args ...any) {
	a.changes = append(a.changes, Change{a.host.Name, what, form, name, fmt.Sprintf(format, args...)})
}

// candidates are the copies that a machine at a place could be.
func (a *applier) candidates(m *machine.Machine, pool *uuid.UUID, rel string, shelf *uuid.UUID, at string) ([]Copy, error) {
	passport, lineageID := uuid.Nil.String(), uuid.Nil.String()
	if m.Passport != nil {
		passport, lineageID = asUUID(m.Passport.Copy), asUUID(m.Passport.Lineage)
	}
	return rows[Copy](a.ctx, a.tx, copySQL+` where c.id in (
		select id from copies where id = $1::uuid
		union select id from copies where pool_id = $2 and rel = $3 and gone_at is null and form <> 'package'
		union select id from copies where shelf_id = $4 and path = $5 and gone_at is null and form = 'package'
		union (select id from copies where uuid = $6::uuid and form <> 'package' order by gone_at nulls first, made_at limit 20)
		union (select id from copies where lineage_id = $7::uuid limit 1)) order by c.gone_at nulls first, c.form = 'registered' desc, c.made_at`,
		passport, pool, rel, shelf, at, asUUID(m.UUID), lineageID)
}

func asUUID(s string) string {
	if _, err := uuid.Parse(s); err != nil {
		return uuid.Nil.String()
	}
	return s
}

// folder records a machine folder, or an entry of the register.
func (a *applier) folder(f *hostlink.Folder, root string) error {
	rel := strings.TrimPrefix(strings.TrimPrefix(f.Path, root), "/")
	pool, err := uuid.Parse(f.Pool)
	poolID := &pool
	if err != nil {
		poolID = nil
	}
	m := f.Machine
	if m == nil {
		m = &machine.Machine{Name: path.Base(f.Path)}
	}
	known, err := a.candidates(m, poolID, rel, nil, "")
	if err != nil {
		return err
	}
	form := "stray"
	switch {
	case f.Registered && (f.FilesThere || !f.PoolThere):
		form = "registered"
	case f.Registered:
		form = "hollow"
	}
	for _, k := range known { // a share: the host that lists a folder speaks for it
		if form == "stray" && k.Form == "registered" && k.GoneAt == nil && k.PoolID != nil && *k.PoolID == pool && k.HostID != nil && *k.HostID != a.host.ID && path.Base(k.Path) == path.Base(f.Path) {
			return nil
		}
	}
	// Within the pool, places are compared as every host sees them.
	at := func(c Copy) lineage.Known {
		k := c.Known()
		k.Path = path.Base(c.Path)
		return k
	}
	knowns := make([]lineage.Known, len(known))
	for i, c := range known {
		knowns[i] = at(c)
	}
	v := lineage.Recognise(lineage.Sighting{Host: a.host.Name, Pool: f.Pool, Path: path.Base(f.Path), Registered: f.Registered, Machine: m}, knowns)
	c := &Copy{Name: m.Name, Form: form, HostID: &a.host.ID, Host: a.host.Name, PoolID: poolID, Path: f.Path, UUID: m.UUID,
		State: f.State, SizeBytes: f.Bytes, Machine: m, MadeBy: "survey", MadeAt: time.Now(), Identity: "original"}
	if err := a.settle(c, v, known); err != nil {
		return err
	}
	if err := putCopy(a.ctx, a.tx, c, rel); err != nil || v.Child == "" {
		return err
	}
	_, err = a.tx.Exec(a.ctx, `update copies set parent_id = $2, identity = 'keep' where id = $1::uuid and parent_id is null`, v.Child, c.ID)
	return err
}

func (a *applier) shelved(p *hostlink.ShelvedPackage) error {
	m := p.Machine
	if m == nil {
		return nil // what can't be read is no copy of anything
	}
	var shelf uuid.UUID
	if err := a.tx.QueryRow(a.ctx, `select id from shelves where host_id = $1 and name = $2`, a.host.ID, p.Shelf).Scan(&shelf); err != nil {
		return err
	}
	known, err := a.candidates(m, nil, "", &shelf, p.Path)
	if err != nil {
		return err
	}
	var v lineage.Verdict
	for _, k := range known {
		if k.ShelfID != nil && *k.ShelfID == shelf && k.Path == p.Path {
			v.Copy = k.ID.String()
		}
	}
	if v.Copy == "" {
		knowns := make([]lineage.Known, len(known))
		for i, c := range known {
			knowns[i] = c.Known()
			knowns[i].Pool, knowns[i].Path = "", c.Path // a package is never where a folder is
		}
		v = lineage.Recognise(lineage.Sighting{Pool: "shelf", Path: p.Path, Machine: m}, knowns)
		if k := byID(known, v.Copy); k != nil && k.Form != "package" { // it is a package of that copy, not the copy
			v = lineage.Verdict{Lineage: k.LineageID.String(), Parent: k.ID.String(), Why: v.Why}
		}
	}
	c := &Copy{Name: m.Name, Form: "package", HostID: &a.host.ID, Host: a.host.Name, ShelfID: &shelf, Path: p.Path, UUID: m.UUID,
		State: "unknown", SizeBytes: p.Bytes, Machine: m, MadeBy: "survey", MadeAt: time.Now(), Identity: "original"}
	if m.Passport != nil && !m.Passport.MadeAt.IsZero() {
		c.MadeBy, c.MadeAt = m.Passport.MadeBy, m.Passport.MadeAt
	}
	if err := a.settle(c, v, known); err != nil {
		return err
	}
	return putCopy(a.ctx, a.tx, c, "")
}

func byID(list []Copy, id string) *Copy {
	for i := range list {
		if list[i].ID.String() == id {
			return &list[i]
		}
	}
	return nil
}

// settle gives the copy its id, lineage and parent, and notes what is new.
func (a *applier) settle(c *Copy, v lineage.Verdict, known []Copy) error {
	if old := byID(known, v.Copy); old != nil {
		c.ID, c.LineageID, c.Parent, c.MadeBy, c.MadeUser, c.MadeAt, c.Identity, c.Renewed = old.ID, old.LineageID, old.Parent, old.MadeBy, old.MadeUser, old.MadeAt, old.Identity, old.Renewed
		switch {
		case old.GoneAt != nil:
			a.note("back", c.Form, c.Name, "%s is back", c.Name)
		case old.Form != c.Form:
			a.note("changed", c.Form, c.Name, "%s was %s and is %s", c.Name, old.Form, c.Form)
		case old.State != c.State:
			a.note("changed", c.Form, c.Name, "%s was %s and is %s", c.Name, old.State, c.State)
		case old.Name != c.Name:
			a.note("changed", c.Form, c.Name, "%s is now called %s", old.Name, c.Name)
		}
		return nil
	}
	c.ID = NewID()
	if pp := c.Machine.Passport; pp != nil && v.Parent == "" {
		if id, err := uuid.Parse(pp.Copy); err == nil && byID(known, pp.Copy) == nil {
			c.ID = id // made elsewhere, with a passport: it keeps its id
		}
	}
	if id, err := uuid.Parse(v.Lineage); err == nil {
		c.LineageID = id
	} else {
		c.LineageID = NewID()
		if pp := c.Machine.Passport; pp != nil {
			if id, err := uuid.Parse(pp.Lineage); err == nil {
				c.LineageID = id
			}
		}
		if err := EnsureLineage(a.ctx, a.tx, c.LineageID, c.Name); err != nil {
			return err
		}
	}
	if id, err := uuid.Parse(v.Parent); err == nil {
		c.Parent = &id
		c.Identity = "keep"
	}
	a.note("found", c.Form, c.Name, "%s found in %s: %s", c.Name, path.Dir(c.Path), v.Why)
	return nil
}

// gone marks what is no longer where it was. A copy is never forgotten.
func (a *applier) gone(full bool, seen, gone []string) error {
	cond := "path = any($2)"
	list := gone
	if full {
		cond, list = "not path = any($2)", seen
	}
	r, err := a.tx.Query(a.ctx, `update copies set gone_at = now(), state = 'unknown' where host_id = $1 and gone_at is null and `+cond+` returning id, name, form`, a.host.ID, list)
	if err != nil {
		return err
	}
	type lost struct {
		ID         uuid.UUID
		Name, Form string
	}
	all, err := pgx.CollectRows(r, pgx.RowToStructByPos[lost])
	if err != nil {
		return err
	}
	for _, l := range all {
		a.note("gone", l.Form, l.Name, "%s is no longer there", l.Name)
		if err := Emit(a.ctx, a.tx, "copy", l.ID.String(), map[string]any{"name": l.Name, "gone": true}); err != nil {
			return err
		}
	}
	return nil
}
