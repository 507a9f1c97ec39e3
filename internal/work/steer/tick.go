package steer

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

// steerArgs names a job and the epoch of the owner that steers it.
type steerArgs struct {
	Job   string `json:"job"`
	Epoch int64  `json:"epoch"`
}

func (steerArgs) Kind() string { return "steer" }

type worker struct {
	river.WorkerDefaults[steerArgs]
	s *Steerer
}

// Work is one tick: it moves the job on as far as that goes at once. What has to
// be waited for is waited for elsewhere, and queues the next tick.
func (w *worker) Work(ctx context.Context, r *river.Job[steerArgs]) error {
	id, err := uuid.Parse(r.Args.Job)
	if err != nil {
		return river.JobCancel(err)
	}
	if !w.s.desk.begin(id) {
		return nil // another tick of it is at work here
	}
	j, until, err := w.s.tick(ctx, id, r.Args.Epoch)
	switch {
	case errors.Is(err, inventory.ErrStale), isStale(err), err == nil && until == nil:
		w.s.desk.end(id)
		return nil
	case err != nil && j == nil: // the database is away: whoever finds the job without a tick queues one
		w.s.log.Warn("steer job", "job", id, "error", err)
		w.s.desk.leave(id, time.Now().Add(tickPause))
		return nil
	case err != nil:
		until = w.s.stuck(ctx, j, err)
	default:
		w.s.desk.moved(id)
	}
	w.s.later(j.ID, j.Epoch, until)
	return nil
}

func isStale(err error) bool {
	var fault *hostlink.Fault
	return errors.As(err, &fault) && fault.Code == hostlink.FaultStale
}

// tickPause is how long a job rests after an error that may pass; it doubles
// with every one that follows, up to mostTickPause. Something that does not pass
// within stuckAfter holds the job.
const (
	tickPause     = 500 * time.Millisecond
	mostTickPause = 15 * time.Second
	stuckAfter    = 10 * time.Minute
)

// stuck is called for an error that may pass: a host that is away, for one.
func (s *Steerer) stuck(ctx context.Context, j *inventory.Job, err error) wait {
	pause, since := s.desk.failed(j.ID)
	s.log.Warn("steer job", "job", j.ID, "error", err)
	if since > stuckAfter {
		code := ""
		if errors.Is(err, hostlink.ErrUnreachable) {
			code = "host.unreachable"
		}
		if e := s.inv.HoldStuck(ctx, j, code, err.Error()); e == nil {
			s.desk.end(j.ID)
			return nil
		}
	}
	return sleep(pause)
}

// tick moves a job on until it is over, held, or something has to be waited for.
// The job is nil when it could not be read; a nil wait: nothing more is to be done.
func (s *Steerer) tick(ctx context.Context, id uuid.UUID, epoch int64) (*inventory.Job, wait, error) {
	j, err := s.inv.TakeJob(ctx, id, epoch, s.id)
	if j == nil || err != nil {
		return nil, nil, err
	}
	for began := time.Now(); ; {
		if j.Back {
			return j, nil, s.undo(ctx, j)
		}
		if j.Hold {
			return j, nil, s.holdNow(ctx, j)
		}
		step := j.Next()
		if step == nil {
			return j, nil, s.done(ctx, j)
		}
		until, err := s.advance(ctx, j, step)
		var failed *away.Failure
		errors.As(err, &failed)
		if plan.Kinds[step.Kind].Transfer && (failed != nil || step.State == inventory.StepDone) {
			s.freed.tell()
		}
		switch {
		case failed != nil:
			if err := s.inv.FailStep(ctx, j, step, failed.Code, fmt.Sprintf("%s: %s", step.What, failed.Message),
				clean(j, step)); err != nil {
				return j, nil, err
			}
		case err != nil:
			return j, nil, err
		case until != nil:
			return j, until, nil
		case time.Since(began) > tickTime: // others wait for the worker
			return j, sleep(0), nil
		}
		if mine, err := s.inv.Reread(ctx, j); !mine || err != nil {
			return j, nil, err
		}
	}
}

// clean tells whether a step that was refused leaves everything as it was.
func clean(j *inventory.Job, s *inventory.Step) bool {
	kinds := make([]string, len(j.Steps))
	for i, k := range j.Steps {
		kinds[i] = k.Kind
	}
	return plan.Kinds[s.Kind].Atomic && plan.FirstFinal(kinds) == s.Position
}

// advance moves a step on. A wait asks to be called again after it.
func (s *Steerer) advance(ctx context.Context, j *inventory.Job, step *inventory.Step) (wait, error) {
	r := &run{Steerer: s, j: j, s: step, again: step.State == inventory.StepWorking}
	if !r.again {
		freed := s.freed.listen()
		begun, waitsFor, err := s.inv.BeginStep(ctx, j.Epoch, step)
		if waitsFor != "" {
			return freed.within(roomAgain), err
		}
		if !begun || err != nil {
			return nil, err
		}
	}
	if plan.Kinds[step.Kind].At == plan.AtService {
		return rows[step.Kind].service(ctx, r)
	}
	var err error
	if r.host, err = s.inv.Host(ctx, step.HostID.String()); err != nil {
		return nil, err
	}
	if r.host.ManagerID != nil {
		return r.atPlace(ctx)
	}
	return r.atHost(ctx)
}

// pause makes a wait of a time.
func pause(d time.Duration, err error) (wait, error) {
	if err != nil || d <= 0 {
		return nil, err
	}
	return sleep(d), nil
}
