package steer

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

// giveIDs renews identity facets, in one transaction with the step's record.
func giveIDs(ctx context.Context, r *run) (wait, error) {
	do, err := inventory.DoOf[plan.GiveIDs](r.s)
	if err != nil {
		return nil, err
	}
	return nil, r.finish(ctx, func(tx pgx.Tx) error {
		giver := &inventory.Giver{Ctx: ctx, Tx: tx, Job: r.j.ID, Prefix: do.MACPrefix}
		if err := identity.Apply(do.Machine, chosen(do.Choice), giver); err != nil {
			return err
		}
		given, err := r.giveAddresses(ctx, tx, do)
		if err != nil {
			return err
		}
		r.s.Result, err = json.Marshal(plan.Given{Machine: do.Machine, Addresses: given})
		return err
	})
}

// giveAddresses gives NICs the addresses that the plan says; it tells them by NIC.
func (r *run) giveAddresses(ctx context.Context, tx pgx.Tx, do *plan.GiveIDs) (map[string]string, error) {
	if len(do.Addresses) == 0 {
		return nil, nil
	}
	rec, err := r.j.Recorded(r.s.Part)
	if err != nil {
		return nil, err
	}
	given := map[string]string{}
	id := inventory.RecordedCopy(rec)
	for _, n := range do.Machine.NICs {
		wish := do.Addresses[n.Name]
		if wish == "" {
			continue
		}
		address, err := inventory.In(tx).GiveAddress(ctx, wish, n.Segment, r.j.ID, &id)
		var e *inventory.Error
		if errors.As(err, &e) {
			return nil, &away.Failure{Code: string(e.Code), Message: e.Message}
		}
		if err != nil {
			return nil, err
		}
		given[n.Name] = address
		if !slices.Contains(do.Machine.Static, address) {
			do.Machine.Static = append(do.Machine.Static, address)
		}
	}
	return given, nil
}

// takeAddressesBack gives addresses free again that the job has given out.
func takeAddressesBack(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	if !undone {
		return nil
	}
	return inventory.In(tx).TakeAddressesBack(ctx, r.j.ID)
}

// record writes the copy that was made or changed, in one transaction with the step's record.
func record(ctx context.Context, r *run) (wait, error) {
	do, err := inventory.DoOf[plan.Record](r.s)
	if err != nil {
		return nil, err
	}
	lineageID, err := uuid.Parse(do.Lineage)
	if err != nil {
		return nil, fmt.Errorf("lineage of the new copy: %w", err)
	}
	choice := chosen(do.Choice)
	c := &inventory.Copy{ID: inventory.RecordedCopy(do), LineageID: lineageID, Name: do.Name, Form: do.Form,
		Path:    do.Path,
		Machine: do.Machine,
		MadeBy:  r.j.Operation, MadeUser: r.j.UserName, MadeAt: time.Now(), Identity: identityOf(choice),
		Renewed: choice.Renewed(), Owner: do.Owner, Number: do.Number}
	c.Parent, c.HostID = inventory.OptionalID(do.Parent), inventory.OptionalID(do.Host)
	c.PoolID, c.ShelfID = inventory.OptionalID(do.Pool), inventory.OptionalID(do.Shelf)
	rel := ""
	if do.Form == lineage.Registered {
		rel = path.Base(do.Path)
		err = r.recordRegistered(c)
	} else {
		if do.Pool != "" { // it lies in a pool, beside the machine folders
			rel = cmp.Or(do.Rel, path.Base(do.Path))
		}
		r.recordPackage(c)
	}
	if do.Change && err == nil {
		err = r.asBefore(ctx, c, do.Copy)
	}
	if err != nil {
		return nil, err
	}
	c.UUID = c.Machine.UUID
	return nil, r.finish(ctx, func(tx pgx.Tx) error {
		if err := inventory.In(tx).BehindSurvey(ctx, c.ID, c.HostID); err != nil {
			return err
		}
		if err := inventory.In(tx).EnsureLineage(ctx, lineageID, do.Name); err != nil {
			return err
		}
		return inventory.In(tx).RecordCopy(ctx, c, rel, r.j.Operation, r.j.UserName, r.j.Note, r.j.ID.String())
	})
}

// asBefore keeps what a change leaves as it was about a copy.
func (r *run) asBefore(ctx context.Context, c *inventory.Copy, id string) error {
	was, err := r.inv.CopyByID(ctx, id)
	if err != nil {
		return err
	}
	if was == nil {
		return fmt.Errorf("the copy %s is not in the inventory any more", id)
	}
	c.State = was.State // as the steps before have left it
	c.MadeBy, c.MadeUser, c.MadeAt, c.Parent, c.Owner = was.MadeBy, was.MadeUser, was.MadeAt, was.Parent, was.Owner
	if len(c.Renewed) == 0 {
		c.Identity, c.Renewed = was.Identity, was.Renewed
	}
	return nil
}

func (r *run) recordRegistered(c *inventory.Copy) (err error) {
	if c.Machine, err = madeMachine(r.j, r.s.Part); err != nil {
		return err
	}
	c.State = machine.Stopped
	c.SizeBytes = c.Machine.FileBytes()
	return nil
}

func (r *run) recordPackage(c *inventory.Copy) {
	c.State = machine.Unknown
	for _, st := range r.j.Steps {
		var p hostlink.PackResult
		if (st.Kind == plan.KindPack || st.Kind == plan.KindHandOut) && json.Unmarshal(st.Result, &p) == nil {
			c.SizeBytes = p.Bytes
		}
	}
}

// unrecord takes a copy that the job has made out of the inventory. One that it
// has changed or moved is read anew, with all that its hosts hold, once the job has ended.
func unrecord(ctx context.Context, tx pgx.Tx, r *run, undone bool) error {
	do, err := inventory.DoOf[plan.Record](r.s)
	if err != nil || !undone || do.Copy != "" {
		return err
	}
	return inventory.In(tx).ForgetCopy(ctx, inventory.RecordedCopy(do).String(), "", r.j.Operation+" undone",
		r.j.UserName, r.j.Note, r.j.ID.String())
}

// forget notes that a copy is no longer there, or no longer listed.
func forget(ctx context.Context, r *run) (wait, error) {
	do, err := inventory.DoOf[plan.Forget](r.s)
	if err != nil {
		return nil, err
	}
	return nil, r.finish(ctx, func(tx pgx.Tx) error {
		return inventory.In(tx).ForgetCopy(ctx, do.Copy, do.Form, r.j.Operation, r.j.UserName, r.j.Note,
			r.j.ID.String())
	})
}

// noteAhead records what was fetched ahead, or that it is of no use any more.
func noteAhead(ctx context.Context, r *run) (wait, error) {
	do, err := inventory.DoOf[plan.NoteAhead](r.s)
	if err != nil {
		return nil, err
	}
	copyID, err := uuid.Parse(do.Copy)
	if err != nil {
		return nil, err
	}
	return nil, r.finish(ctx, func(tx pgx.Tx) error {
		if len(do.Paths) == 0 {
			return inventory.In(tx).ForgetAhead(ctx, do.Copy)
		}
		t, err := inventory.ResultOf[plan.Taken](r.j, r.s.Part, plan.KindTakeImages)
		if err != nil {
			return err
		}
		host, pool := inventory.OptionalID(do.Host), inventory.OptionalID(do.Pool)
		if host == nil || pool == nil {
			return fmt.Errorf("step %s: it does not say where the disks were fetched to", r.s.ID)
		}
		for disk, path := range do.Paths {
			a := inventory.Ahead{CopyID: copyID, HostID: *host, PoolID: *pool, Disk: disk, Path: path,
				Image: t.Images[disk]}
			if err := inventory.In(tx).NoteAhead(ctx, a); err != nil {
				return err
			}
		}
		return nil
	})
}

// madeMachine is a machine of the job as its steps so far have made it.
func madeMachine(j *inventory.Job, part int) (*machine.Machine, error) {
	g, err := inventory.ResultOf[plan.Given](j, part, plan.KindGiveIDs)
	if err != nil {
		return nil, err
	}
	if g.Machine == nil {
		return nil, errors.New("the machine has no ids yet")
	}
	if err := measure(j, part, g.Machine); err != nil {
		return nil, err
	}
	rec, err := j.Recorded(part)
	if err != nil {
		return nil, err
	}
	choice := chosen(rec.Choice)
	if rec.Change && g.Machine.Passport != nil { // it stays the copy that it is
		pp := g.Machine.Passport
		for _, f := range choice.Renewed() {
			if pp.Identity = identity.Renew; !slices.Contains(pp.Renewed, f) {
				pp.Renewed = append(pp.Renewed, f)
			}
		}
		return g.Machine, nil
	}
	g.Machine.Passport = &machine.Passport{Lineage: rec.Lineage, Copy: inventory.RecordedCopy(rec).String(),
		Parent: rec.Parent,
		MadeBy: j.Operation, MadeAt: j.CreatedAt, Identity: identityOf(choice), Renewed: choice.Renewed()}
	return g.Machine, nil
}

// written are the kinds of steps that write disks, and tell how large they became.
var written = []string{plan.KindFetchDisk, plan.KindCarry, plan.KindFollow}

// measure fills in how large the disks of a machine became that were written.
func measure(j *inventory.Job, part int, m *machine.Machine) error {
	for i := range j.Steps {
		s := &j.Steps[i]
		if s.Part != part || s.State != inventory.StepDone || !slices.Contains(written, s.Kind) {
			continue
		}
		do, err := inventory.DoOf[struct{ Disk string }](s)
		if err != nil {
			return err
		}
		var r hostlink.FetchResult
		if err := json.Unmarshal(s.Result, &r); err != nil {
			return fmt.Errorf("result of step %s: %w", s.ID, err)
		}
		for k := range m.Disks {
			if d := &m.Disks[k]; d.ID == do.Disk {
				d.FileBytes = r.FileBytes
				if r.VirtualBytes > 0 {
					d.VirtualBytes = r.VirtualBytes
				}
			}
		}
	}
	return nil
}

func chosen(raw map[string]string) identity.Choice {
	c := identity.Choice{}
	for f, v := range raw {
		c[identity.Facet(f)] = v
	}
	return c
}

func identityOf(c identity.Choice) string {
	if len(c.Renewed()) > 0 {
		return identity.Renew
	}
	return identity.Keep
}
