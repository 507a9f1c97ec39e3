package steer

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

// holdNow stops the job's work where it is.
func (s *Steerer) holdNow(ctx context.Context, j *inventory.Job) error {
	if step := j.Next(); step != nil && step.State == inventory.StepWorking && plan.Kinds[step.Kind].At == plan.AtHost {
		h, err := s.inv.Host(ctx, step.HostID.String())
		if err != nil {
			return err
		}
		if h.ManagerID == nil {
			r := &run{Steerer: s, j: j, s: step, host: h}
			if err := s.hosts.Agent(h).Pause(ctx, step.TaskID(), r.spec()); err != nil {
				return err
			}
		}
	}
	return s.inv.HoldNow(ctx, j)
}

// undo takes the steps back, the last one first, then ends the job. Where a step
// can't be taken back, the job is held, and that is tried again.
func (s *Steerer) undo(ctx context.Context, j *inventory.Job) error {
	for i := len(j.Steps) - 1; i >= 0; i-- {
		step := &j.Steps[i]
		if step.State == inventory.StepWaiting || step.State == inventory.StepUndone {
			continue
		}
		err := (&run{Steerer: s, j: j, s: step}).undo(ctx)
		var fault *hostlink.Fault
		if errors.As(err, &fault) && fault.Code != hostlink.FaultStale {
			return s.inv.HoldStuck(ctx, j, fault.Code, fmt.Sprintf("%s: it can't be taken back: %s", step.What,
				fault.Message))
		}
		if err != nil {
			return err
		}
	}
	hosts := s.forgotten(ctx, j)
	state := inventory.JobCancelled
	if j.Error != "" {
		state = inventory.JobFailed
	}
	if err := s.inv.EndJob(ctx, j, state, j.ErrorCode, j.Error); err != nil {
		return err
	}
	s.lookAgain(j, hosts)
	return nil
}

// undo takes one step back, in one transaction with its record where it is
// one of the inventory's.
func (r *run) undo(ctx context.Context) error {
	trait, how := plan.Kinds[r.s.Kind], rows[r.s.Kind]
	if trait.At != plan.AtService && !trait.Final {
		if err := r.undoThere(ctx); err != nil {
			return err
		}
	}
	if how.release != nil {
		if err := how.release(ctx, r); err != nil {
			return err
		}
	}
	was := r.s.State
	r.s.State = inventory.StepUndone
	return r.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.In(tx).PutStep(ctx, r.j.Epoch, r.s); err != nil {
			return err
		}
		if how.effect != nil && (was == inventory.StepDone || how.unbegun) {
			return how.effect(ctx, tx, r, true)
		}
		return nil // a copy that was forgotten is found again by the survey
	})
}

// undoThere has the host, or the manager whose host it is, take the step back.
func (r *run) undoThere(ctx context.Context) (err error) {
	if r.host, err = r.inv.Host(ctx, r.s.HostID.String()); err != nil {
		return err
	}
	if r.host.ManagerID == nil {
		return r.hosts.Agent(r.host).Undo(ctx, r.s.TaskID(), r.spec())
	}
	place, err := r.away.OfHost(ctx, r.host)
	if err != nil {
		return err
	}
	return place.Undo(ctx, &away.Step{Job: r.j, Step: r.s, Again: true})
}

// done ends a job that was carried out. What was made at a manager is known only once the manager is looked at, so that
// is done before the end, within a bound; our own hosts are looked at behind it.
func (s *Steerer) done(ctx context.Context, j *inventory.Job) error {
	if err := s.inv.CloseWayBack(ctx, j); err != nil {
		return err
	}
	hosts := s.forgotten(ctx, j)
	looked := map[uuid.UUID]bool{} // all hosts of a manager are looked at together
	hosts = slices.DeleteFunc(hosts, func(h *inventory.Host) bool {
		if h.ManagerID == nil {
			return false
		}
		if !looked[*h.ManagerID] {
			looked[*h.ManagerID] = true
			s.look(ctx, j, h, managerTime)
		}
		return true
	})
	if err := s.Ended(ctx, j); err != nil {
		return err
	}
	if err := s.inv.EndJob(ctx, j, inventory.JobDone, "", ""); err != nil {
		return err
	}
	s.lookAgain(j, hosts)
	return nil
}

// Bounds of what is done at a job's end: it waits for the agents to forget it
// only so long, and for surveys of our own hosts not at all.
const (
	forgetTime  = 3 * time.Second
	managerTime = 20 * time.Second
	surveyTime  = time.Minute
)

// forgotten lets the agents forget the job and returns the hosts that took part.
// One that is away is told at the next survey.
func (s *Steerer) forgotten(ctx context.Context, j *inventory.Job) (hosts []*inventory.Host) {
	ctx, stop := context.WithTimeout(ctx, forgetTime)
	defer stop()
	seen := map[uuid.UUID]bool{}
	var all sync.WaitGroup
	for _, step := range j.Steps {
		if step.HostID == nil || seen[*step.HostID] || step.State == inventory.StepWaiting {
			continue
		}
		seen[*step.HostID] = true
		h, err := s.inv.Host(ctx, step.HostID.String())
		if err != nil {
			s.log.Warn("tidy up after job", "job", j.ID, "host", step.Host, "error", err)
			continue
		}
		if hosts = append(hosts, h); h.ManagerID != nil {
			continue
		}
		all.Go(func() {
			if err := s.hosts.Agent(h).Forget(ctx, j.ID.String(), j.Epoch); err != nil {
				s.log.Warn("tidy up after job", "job", j.ID, "host", h.Name, "error", err)
			}
		})
	}
	all.Wait()
	return hosts
}

// lookAgain surveys hosts behind a job's end. While one is surveyed, any number of jobs may end there: it is surveyed
// once more for all of them.
func (s *Steerer) lookAgain(j *inventory.Job, hosts []*inventory.Host) {
	for _, h := range hosts {
		if s.looks.begin(h.ID) {
			s.background(func(ctx context.Context) {
				for again := true; again; again = s.looks.again(h.ID) {
					s.look(ctx, j, h, surveyTime)
				}
			})
		}
	}
}

// look surveys a host. One that does not answer is found out about by the next survey of all.
func (s *Steerer) look(ctx context.Context, j *inventory.Job, h *inventory.Host, patience time.Duration) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	if err := s.Look(ctx, h); err != nil && ctx.Err() == nil {
		s.log.Warn("look again after job", "job", j.ID, "host", h.Name, "error", err)
	}
}
