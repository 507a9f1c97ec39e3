package work

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away/foreign"
	"unvora.example/unvora/internal/work/away/peer"
	"unvora.example/unvora/internal/work/reach"
)

// checkTime is how long all checks of a manager may take.
const checkTime = 4 * reach.CheckPatience

// CheckManager tells whether a manager can be used, each thing told apart.
func (w *Work) CheckManager(ctx context.Context, ref string) ([]reach.Check, error) {
	m, err := w.inv.Manager(ctx, ref)
	if err != nil {
		return nil, err
	}
	place, err := w.places.Of(m)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, checkTime)
	defer cancel()
	return place.Check(ctx), nil
}

// AddManager checks a foreign manager, takes it into the inventory and asks what it has.
func (w *Work) AddManager(ctx context.Context, e foreign.Entry, user string) (*inventory.Manager, error) {
	m, err := w.foreign.Add(ctx, e, user)
	if err != nil {
		return nil, err
	}
	if _, err := w.places.Survey(ctx, m); err != nil { // it is added all the same, and says why
		w.log.Warn("survey a manager that was added", "name", m.Name, "error", err)
	}
	return w.inv.Manager(ctx, m.ID.String())
}

// Pair adds another Unvora by a code that its people gave, and asks what it lets us see.
func (w *Work) Pair(ctx context.Context, e peer.Entry, user string) (*inventory.Manager, error) {
	m, err := w.Peers.Pair(ctx, e, user)
	if err != nil {
		return nil, err
	}
	if _, err := w.places.Survey(ctx, m); err != nil { // the other side has not paired yet, as a rule
		w.log.Info("paired with another Unvora", "name", m.Name, "says", err)
	}
	return w.inv.Manager(ctx, m.ID.String())
}

// lend begins a job that goes along with a reading by another Unvora.
func (w *Work) lend(ctx context.Context, m *inventory.Manager, c *inventory.Copy, q hostlink.PeerRead) (uuid.UUID,
	error) {
	id := inventory.NewID()
	at, h, err := w.places.Has(ctx, c)
	if err != nil {
		return id, err
	}
	if at != nil {
		return id, peer.Denied("%s is at another manager itself", c.Name)
	}
	d, err := w.gather.Lend(ctx, m, c, h, q)
	if err != nil {
		return id, err
	}
	if !d.Runnable {
		return id, peer.Denied("%s can't be read now: %s", c.Name, d.Findings[0].Message)
	}
	if c.State.Active() && !q.Stop {
		return id, peer.Denied("%s runs, and its disks change while they are read", c.Name)
	}
	j := &inventory.Job{ID: id, UserName: q.Who + "@" + m.Name, Note: "asked for by " + m.Name}
	err = w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.In(tx).AddJob(ctx, inventory.NewJob{Job: j, Plan: d.Plan, Hosts: d.Hosts,
			Holds: d.Holds, Request: map[string]any{}}); err != nil {
			return err
		}
		return inventory.In(tx).AddLent(ctx, id, m.ID, q.Job)
	})
	w.Steer.Tell()
	return id, err
}
