package steer

import (
	"context"
	"fmt"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/away/peer"
)

// lentSilence is how long nothing may be heard of a reading until it is given up.
const lentSilence = 15 * time.Minute

// lend goes along with a reading by another Unvora.
func lend(ctx context.Context, r *run) (wait, error) {
	l, err := r.inv.LentBy(ctx, r.j.ID)
	if err != nil {
		return nil, err
	}
	if l.Done != r.s.Done {
		r.s.Done = l.Done
		r.s.Bytes = max(r.s.Bytes, l.Done)
	}
	switch {
	case l.State == "failed":
		return nil, &away.Failure{Message: l.Error}
	case l.State == inventory.JobDone:
		r.s.State, r.s.Done = inventory.StepDone, r.s.Bytes
	case time.Since(l.At) > lentSilence:
		return nil, &away.Failure{Code: "host.unreachable", Message: fmt.Sprintf("nothing was heard of the reader "+
			"for %s",
			lentSilence)}
	}
	if err := r.inv.UpdateStep(ctx, r.j.Epoch, r.s); err != nil || r.s.State == inventory.StepDone {
		return nil, err
	}
	return sleep(lookEvery), nil
}

// endLease takes the leave to read back.
func endLease(ctx context.Context, r *run) error {
	do, err := inventory.DoOf[plan.Lend](r.s)
	if err != nil {
		return err
	}
	c, err := r.inv.CopyByID(ctx, do.Copy)
	if err != nil || c == nil || c.HostID == nil {
		return err
	}
	h, err := r.inv.Host(ctx, c.HostID.String())
	if err != nil {
		return err
	}
	_, err = peer.Ticket(ctx, r.hosts, r.j.ID, h, c.Path, time.Now())
	return err
}
