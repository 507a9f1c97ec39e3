package inventory

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
)

// Change is one thing that a survey found different from the records.
type Change struct {
	Host string       `json:"host"`
	What string       `json:"what"` // found, back, gone, changed
	Form lineage.Form `json:"form"`
	Name string       `json:"name"`
	Text string       `json:"text"`
}

// StillThere notes that hosts answered and that nothing has changed there.
func (inv *Inventory) StillThere(ctx context.Context, hosts []uuid.UUID) error {
	type seen struct {
		ID   uuid.UUID
		Name string
		Was  plan.HostState
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[seen](ctx, tx, `with was as (select id, state from hosts where id = any($1) order by id
			for no key update)
			update hosts h set last_seen = now(), state = 'up' from was where h.id = was.id
			returning h.id, h.name, was.state as was`, hosts)
		for _, h := range list {
			if h.Was == plan.HostUnreachable && err == nil {
				err = In(tx).Emit(ctx, "host", h.ID.String(), map[string]any{"name": h.Name, "state": plan.HostUp})
			}
		}
		return err
	})
}

// ErrOvertaken is returned for a survey that was asked for before the records of its host were last changed: what it
// tells may be over. The host has to be asked again.
var ErrOvertaken = errors.New("the records of the host have changed since it was asked")

// Apply brings the records of a host up to date with what it holds, as told since h.Revision, and sets that. h is the
// record as it was when the host was asked.
func (inv *Inventory) Apply(ctx context.Context, h *Host, s *hostlink.Survey) (changes []Change, err error) {
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		// Surveys of one host follow each other; so do the two ends of a share.
		var now string
		var turn int64
		var state plan.HostState
		if err := tx.QueryRow(ctx, `select revision, turn, state from hosts where id = $1 for no key update`,
			h.ID).Scan(&now, &turn, &state); err != nil {
			return err
		}
		if now != h.Revision || turn != h.Turn {
			return fmt.Errorf("host %s: %w", h.Name, ErrOvertaken)
		}
		if state == plan.HostUnreachable {
			if err := In(tx).Emit(ctx, "host", h.ID.String(), map[string]any{"name": h.Name,
				"state": plan.HostUp}); err != nil {
				return err
			}
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
			if err := a.shelved(&s.Packages[i], poolPath(s.Pools, s.Packages[i].Pool)); err != nil {
				return err
			}
		}
		if err := a.gone(s, paths); err != nil {
			return err
		}
		changes = a.changes
		return notice(ctx, tx, h.ID, changes)
	})
	if err == nil {
		h.Revision = s.Revision
	}
	return changes, err
}

// notice keeps what was found different until somebody is told.
func notice(ctx context.Context, tx Querier, host uuid.UUID, changes []Change) error {
	batch := &pgx.Batch{}
	for _, c := range changes {
		batch.Queue(`insert into noticed (host_id, what, form, name, text) values ($1, $2, $3, $4,
			$5)`, host, c.What, c.Form, c.Name, c.Text)
	}
	if len(changes) == 0 {
		return nil
	}
	return tx.SendBatch(ctx, batch).Close()
}

// mostNoticed is how much is told at once.
const mostNoticed = 10_000

// Tell returns what was noticed at hosts since it was last told; of all hosts
// when none are named.
func (inv *Inventory) Tell(ctx context.Context, hosts []uuid.UUID) ([]Change, error) {
	return rows[Change](ctx, inv.Pool, `with told as (delete from noticed where $1::uuid[] is null or host_id = any($1)
		returning *)
		select h.name as host, what, form, t.name, text from told t join hosts h on h.id = t.host_id
		where at > now() - interval '7 days' order by h.name, t.id limit $2`, hosts, mostNoticed)
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

func (a *applier) note(what string, form lineage.Form, name, format string, args ...any) {
	a.changes = append(a.changes, Change{a.host.Name, what, form, name, fmt.Sprintf(format, args...)})
}

// atPlace is the copy that lies at a place, if it is beyond doubt: the same
// machine UUID, and its passport if there is one. That is what surveys see most.
func (a *applier) atPlace(m *machine.Machine, pool *uuid.UUID, rel string) ([]Copy, error) {
	if pool == nil || m.UUID == "" {
		return nil, nil
	}
	list, err := rows[Copy](a.ctx, a.tx, copySQL+` where c.pool_id = $1 and c.rel = $2 and c.gone_at is null
		and c.form <> 'package' and c.uuid = $3::uuid and c.host_id = $4`, pool, rel, asUUID(m.UUID), a.host.ID)
	if err != nil || len(list) != 1 || m.Passport != nil && m.Passport.Copy != list[0].ID.String() {
		return nil, err
	}
	return list, nil
}

// lostAt is the copy that lay where a folder is whose descriptor is lost.
func (a *applier) lostAt(pool *uuid.UUID, rel string) ([]Copy, error) {
	list, err := rows[Copy](a.ctx, a.tx, copySQL+` where c.pool_id = $1 and c.rel = $2 and c.gone_at is null
		and c.form <> 'package' and c.machine is not null limit 1`, pool, rel)
	if err != nil || len(list) == 0 || list[0].Machine == nil {
		return nil, err
	}
	return list, nil
}

// candidates are the copies that a machine at a place could be.
func (a *applier) candidates(m *machine.Machine, pool *uuid.UUID, rel string, shelf *uuid.UUID, at string) ([]Copy,
	error) {
	passport, lineageID := uuid.Nil.String(), uuid.Nil.String()
	if m.Passport != nil {
		passport, lineageID = asUUID(m.Passport.Copy), asUUID(m.Passport.Lineage)
	}
	return rows[Copy](a.ctx, a.tx, copySQL+` where c.id in (
		select id from copies where id = $1::uuid
		union select id from copies where pool_id = $2 and rel = $3 and gone_at is null and form <> 'package'
		union select id from copies where shelf_id = $4 and path = $5 and gone_at is null and form = 'package'
		union (select id from copies where uuid = $6::uuid and form <> 'package' order by gone_at nulls first,
		made_at limit 20)
		union (select id from copies where lineage_id = $7::uuid limit 1)) order by c.gone_at nulls first,
		c.form = 'registered' desc, c.made_at`,
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
	var known []Copy
	if m == nil { // its descriptor can't be read: what was recorded of it stays
		m = &machine.Machine{Name: path.Base(f.Path)}
		if known, err = a.lostAt(poolID, rel); len(known) > 0 {
			m = known[0].Machine
		}
	} else {
		known, err = a.atPlace(m, poolID, rel)
	}
	if err == nil && known == nil {
		known, err = a.candidates(m, poolID, rel, nil, "")
	}
	if err != nil {
		return err
	}
	form := lineage.Stray
	switch {
	case f.Registered && (f.FilesThere || !f.PoolThere):
		form = lineage.Registered
	case f.Registered:
		form = lineage.Hollow
	}
	for _, k := range known {
		if k.GoneAt != nil || k.PoolID == nil || *k.PoolID != pool || k.HostID == nil || *k.HostID == a.host.ID ||
			path.Base(k.Path) != path.Base(f.Path) {
			continue
		}
		switch { // the same folder, as another host sees it
		case form == lineage.Stray && k.Form == lineage.Registered && k.State != machine.Away:
			return a.contest(k, f) // a share: the host that lists a folder speaks for it
		case f.Registered && !f.PoolThere && k.Form == lineage.Stray:
			return nil // a drive that was pulled out here: the host that has it now speaks
		}
	}
	knowns := make([]lineage.Known, len(known))
	for i, c := range known {
		knowns[i] = a.here(c)
	}
	sighted := lineage.Sighting{Host: a.host.Name, Pool: f.Pool, Path: path.Base(f.Path), Registered: f.Registered,
		Machine: m}
	v := lineage.Recognise(sighted, knowns)
	if v.Copy == "" {
		if v, known, err = a.weigh(sighted, f, known, uuid.Nil); err != nil {
			return err
		}
	}
	c := &Copy{Name: m.Name, Form: form, HostID: &a.host.ID, Host: a.host.Name, PoolID: poolID, Path: f.Path,
		UUID:  m.UUID,
		State: f.State, StateWhy: f.Why, SizeBytes: f.Bytes, Machine: m, Addresses: f.Addresses, MadeBy: "survey",
		MadeAt:   time.Now(),
		Identity: "original"}
	if err := a.settle(c, v, known); err != nil {
		return err
	}
	c.Problem = f.Problem
	if f.Machine == nil && c.Problem == "" && f.FilesThere {
		c.Problem = "there is no descriptor"
	}
	if err := a.put(c, byID(known, c.ID.String()), rel); err != nil {
		return err
	}
	if f.FilesThere {
		changed, err := putDisks(a.ctx, a.tx, c.ID, f.Disks)
		if err != nil {
			return err
		}
		if was := byID(known, c.ID.String()); changed && was != nil && stillComing(was, form) {
			return a.anew(was, sighted, f, known)
		}
	}
	if v.Child == "" {
		return nil
	}
	_, err = a.tx.Exec(a.ctx, `update copies set parent_id = $2, identity = 'keep', evidence = $3, score = $4
		where id = $1::uuid and parent_id is null and settled_by = ''`, v.Child, c.ID, v.Evidence, v.Score)
	return err
}

// put writes what was found of a copy, unless its record is not the one that it was recognised by any more: a job, or
// the survey of another host, was quicker. Both may write of one copy, at the two ends of a move or of a share.
func (a *applier) put(c, was *Copy, rel string) error {
	over := "none"
	if was != nil {
		over = was.Version
	}
	return putCopy(a.ctx, a.tx, c, was, rel, over)
}

// contested begins the problem of a copy that a second host says it lists too, by whose name it goes on.
const contested = "listed twice, by "

// contest notes of a copy that the host says it lists it too, or that it does no more.
func (a *applier) contest(k Copy, f *hostlink.Folder) error {
	problem, mine := "", contested+a.host.Name+": "
	if f.Contested {
		problem = mine + f.Problem
	}
	if problem == k.Problem || problem == "" && !strings.HasPrefix(k.Problem, mine) {
		return nil
	}
	_, err := a.tx.Exec(a.ctx, `update copies set problem = $2 where id = $1`, k.ID, problem)
	return err
}

// here is a copy at its place within the pool, as every host sees it. Of one at another host that was not read since
// the records were brought back from a copy nobody knows whether it is still there: it is where it is seen.
func (a *applier) here(c Copy) lineage.Known {
	k := c.Known()
	k.Path = path.Base(c.Path)
	k.Present = k.Present && (!c.Unread || c.HostID != nil && *c.HostID == a.host.ID)
	return k
}

// shelved records a package: each machine in it is a copy of its own. root is the path of the pool that it lies in, if
// that is one.
func (a *applier) shelved(p *hostlink.ShelvedPackage, root string) error {
	rel := ""
	if p.Pool != "" {
		rel = strings.TrimPrefix(strings.TrimPrefix(p.Path, root), "/")
	}
	machines := []*machine.Machine{p.Machine}
	if p.Machine != nil {
		machines = append(machines, p.Others...)
	}
	for number, m := range machines {
		if err := a.packed(p, rel, number, m); err != nil {
			return err
		}
	}
	if p.Machine == nil {
		return nil
	}
	_, err := a.tx.Exec(a.ctx, `update copies set gone_at = now() where form = 'package' and gone_at is null
		and host_id = $1 and path = $2 and number >= $3`, a.host.ID, p.Path, len(machines))
	return err
}

// packed records a machine of a package; m is nil where the package can't be read.
func (a *applier) packed(p *hostlink.ShelvedPackage, rel string, number int, m *machine.Machine) error {
	there, shelf, pool, err := a.keptAt(p, rel, number)
	if err != nil {
		return err
	}
	if others, err := a.anothers(there, pool); err != nil || others {
		return err
	}
	if m == nil { // what can't be read is no copy of anything; one that could be before was changed
		if there == nil {
			return nil
		}
		_, err := a.tx.Exec(a.ctx, `update copies set problem = $2 where id = $1`, there.ID, unreadable+p.Problem)
		return err
	}
	known, err := a.candidates(m, nil, "", shelf, p.Path)
	if err != nil {
		return err
	}
	known = slices.DeleteFunc(known, func(c Copy) bool { // the others of the package are not this one
		return c.Form == lineage.Package && c.GoneAt == nil && c.Path == p.Path && c.HostID != nil &&
			*c.HostID == a.host.ID && c.Number != number
	})
	if there != nil && byID(known, there.ID.String()) == nil {
		known = append(known, *there)
	}
	var v lineage.Verdict
	problem := ""
	if k := there; k != nil {
		if v.Copy = k.ID.String(); !strings.HasPrefix(k.Problem, unreadable) && !strings.HasPrefix(k.Problem, altered) {
			problem = k.Problem
		}
		if written := k.MadeBy != "survey" || time.Since(k.MadeAt) > copying; written && k.SizeBytes != p.Bytes {
			problem = fmt.Sprintf("it has %d bytes now; it had %d when it was written", p.Bytes, k.SizeBytes)
		}
	} else {
		knowns := make([]lineage.Known, len(known))
		for i, c := range known {
			knowns[i] = c.Known()
			knowns[i].Pool, knowns[i].Path = "", c.Path // a package is never where a folder is
		}
		v = lineage.Recognise(lineage.Sighting{Pool: "shelf", Path: p.Path, Machine: m}, knowns)
		// it is a package of that copy, not the copy
		if k := byID(known, v.Copy); k != nil && k.Form != lineage.Package {
			v = lineage.Verdict{Lineage: k.LineageID.String(), Parent: k.ID.String(), Why: v.Why}
		}
	}
	if p.Problem != "" {
		problem = altered + p.Problem
	}
	c := &Copy{Name: m.Name, Form: lineage.Package, HostID: &a.host.ID, Host: a.host.Name, ShelfID: shelf,
		PoolID: pool, Path: p.Path, Number: number,
		UUID:  m.UUID,
		State: machine.Unknown, SizeBytes: p.Bytes, Machine: m, MadeBy: "survey", MadeAt: time.Now(),
		Identity: "original",
		Problem:  problem}
	if m.Passport != nil && !m.Passport.MadeAt.IsZero() {
		c.MadeBy, c.MadeAt = m.Passport.MadeBy, m.Passport.MadeAt
	}
	if err := a.settle(c, v, known); err != nil {
		return err
	}
	return a.put(c, byID(known, c.ID.String()), rel)
}

// anothers tells whether another host speaks for a package in a pool: of a share the one that told it first, as long as
// it sees the pool.
func (a *applier) anothers(there *Copy, pool *uuid.UUID) (others bool, err error) {
	if there == nil || pool == nil || there.HostID == nil || *there.HostID == a.host.ID {
		return false, nil
	}
	err = a.tx.QueryRow(a.ctx, `select exists (select 1 from pool_hosts where pool_id = $1 and host_id = $2
		and state <> 'away')`, pool, there.HostID).Scan(&others)
	return others, err
}

// keptAt is what is recorded of a machine of a package where that lies, if there is one, and the shelf or the pool that
// it lies in.
func (a *applier) keptAt(p *hostlink.ShelvedPackage, rel string, number int) (
	there *Copy, shelf, pool *uuid.UUID, err error) {
	var cond string
	var args []any
	if pool = OptionalID(p.Pool); pool != nil {
		cond, args = `c.pool_id = $1 and c.rel = $2`, []any{pool, rel}
	} else {
		shelf = new(uuid.UUID)
		if err := a.tx.QueryRow(a.ctx, `select id from shelves where host_id = $1 and name = $2`, a.host.ID,
			p.Shelf).Scan(shelf); err != nil {
			return nil, nil, nil, fmt.Errorf("shelf %s of %s: %w", p.Shelf, a.host.Name, err)
		}
		cond, args = `c.shelf_id = $1 and c.path = $2`, []any{shelf, p.Path}
	}
	list, err := rows[Copy](a.ctx, a.tx, copySQL+` where `+cond+` and c.form = 'package' and c.gone_at is null
		and c.number = $3 limit 1`, append(args, number)...)
	if err != nil || len(list) == 0 {
		return nil, shelf, pool, err
	}
	return &list[0], shelf, pool, nil
}

// What the host tells of a package, at each look anew.
const (
	unreadable = "it can't be read any more: "
	altered    = "it is not as it was written: "
)

// copying is how long a package that somebody puts onto a shelf may grow, or a folder that is put into a pool.
const copying = time.Hour

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
		c.ID, c.LineageID, c.Parent, c.MadeBy, c.MadeUser, c.MadeAt, c.Identity, c.Renewed = old.ID, old.LineageID,
			old.Parent, old.MadeBy, old.MadeUser, old.MadeAt, old.Identity, old.Renewed
		c.Evidence, c.Score, c.Candidate = old.Evidence, old.Score, old.Candidate
		switch {
		case old.GoneAt != nil:
			a.note("back", c.Form, c.Name, "%s is back", c.Name)
		case old.Form != c.Form:
			a.note("changed", c.Form, c.Name, "%s was %s and is %s", c.Name, old.Form, c.Form)
		case old.State != c.State:
			why := ""
			if c.StateWhy != "" {
				why = ": " + c.StateWhy
			}
			a.note("changed", c.Form, c.Name, "%s was %s and is %s%s", c.Name, old.State, c.State, why)
		case old.Name != c.Name:
			a.note("changed", c.Form, c.Name, "%s is now called %s", old.Name, c.Name)
		}
		return nil
	}
	c.ID, c.Evidence, c.Score = NewID(), v.Evidence, v.Score
	if id, err := uuid.Parse(v.Candidate); err == nil {
		c.Candidate = &id
	}
	if pp := c.Machine.Passport; pp != nil && v.Parent == "" {
		if id, err := uuid.Parse(pp.Copy); err == nil && byID(known, pp.Copy) == nil {
			c.ID = id // made elsewhere, with a passport: it keeps its id
			if parent, err := uuid.Parse(pp.Parent); err == nil {
				c.Parent = &parent
			}
			if pp.MadeBy != "" && !pp.MadeAt.IsZero() {
				c.MadeBy, c.MadeAt = pp.MadeBy, pp.MadeAt
			}
			if pp.Identity != "" {
				c.Identity = pp.Identity
			}
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
		if err := In(a.tx).EnsureLineage(a.ctx, c.LineageID, c.Name); err != nil {
			return err
		}
	}
	if id, err := uuid.Parse(v.Parent); err == nil {
		c.Parent = &id
		c.Identity = "keep"
	}
	var ours bool // a job is about to record it: that is no news
	if err := a.tx.QueryRow(a.ctx, `select exists (select 1 from jobs where new_copy = $1 and state in ('waiting',
		'working'))`, c.ID).Scan(&ours); err != nil || ours {
		return err
	}
	a.note("found", c.Form, c.Name, "%s found in %s: %s", c.Name, path.Dir(c.Path), v.Why)
	return nil
}

// gone marks what is no longer where it was. A copy is never forgotten. Of what could not be read nobody knows whether
// it is there: it stays as it was recorded.
func (a *applier) gone(s *hostlink.Survey, seen []string) error {
	if !s.Full && len(s.Gone) == 0 {
		return nil
	}
	cond, args := "path = any($2)", []any{a.host.ID, s.Gone}
	if s.Full {
		cond, args = `not path = any($2) and not exists (select 1 from unnest($3::text[]) as unread
			where path = unread or starts_with(path, unread || '/'))`, []any{a.host.ID, seen, s.Unread}
	}
	r, err := a.tx.Query(a.ctx, `update copies set gone_at = now(), state = 'unknown' where host_id = $1
		and gone_at is null and `+cond+` returning id, name, form`, args...)
	if err != nil {
		return err
	}
	type lost struct {
		ID   uuid.UUID
		Name string
		Form lineage.Form
	}
	all, err := pgx.CollectRows(r, pgx.RowToStructByPos[lost])
	if err != nil {
		return err
	}
	for _, l := range all {
		a.note("gone", l.Form, l.Name, "%s is no longer there", l.Name)
		if err := In(a.tx).Emit(a.ctx, "copy", l.ID.String(), map[string]any{"name": l.Name,
			"gone": true}); err != nil {
			return err
		}
	}
	return nil
}
