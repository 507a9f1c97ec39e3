package inventory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
)

// steer changes what somebody wants of a job; f is told how the job is now, with
// its row locked, and returns the columns to set.
func (inv *Inventory) steer(ctx context.Context, j *Job, what, who string,
	f func(now *Job, gone bool) (set string, err error)) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		now, err := one(rows[Job](ctx, tx, jobSQL+` where id = $1 for no key update`, j.ID))
		if err != nil {
			return err
		}
		if now == nil {
			return Refuse(CodeUnknown, "There is no job %q. unvora jobs lists them.", j.ID)
		}
		if now.Over() {
			return Wrong("The job %s is %s already.", j.ID, now.State)
		}
		var gone bool
		if err := tx.QueryRow(ctx, `select `+past+` from jobs where id = $1`, j.ID).Scan(&gone); err != nil {
			return err
		}
		set, err := f(now, gone)
		if set == "" || err != nil {
			return err
		}
		var state string
		if err := tx.QueryRow(ctx, `update jobs set `+set+` where id = $1 returning state`,
			j.ID).Scan(&state); err != nil {
			return err
		}
		if err := In(tx).Audit(ctx, Entry{Who: who, What: "job " + what, Subject: j.Subject,
			Detail: map[string]any{"job": j.ID}}); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "job", j.ID.String(), map[string]any{"asked": what, "state": state})
	})
}

// AskCancel notes that a job is to be undone. Past its point of no return there
// is nothing to go back to: it is refused, and the job goes on to its end.
func (inv *Inventory) AskCancel(ctx context.Context, j *Job, who string) error {
	return inv.steer(ctx, j, "cancel", who, func(now *Job, gone bool) (string, error) {
		switch {
		case now.Back:
			return "", nil // it is being undone already
		case gone && now.State == JobHeld:
			return "", Refuse(CodePastReturn, "The job %s is past its point of no return: what it did can't be taken "+
				"back. It "+
				"can only go on to its end: unvora jobs resume %s", j.ID, j.ID)
		case gone:
			return "", Refuse(CodePastReturn, "The job %s is past its point of no return: what it did can't be taken "+
				"back. It "+
				"goes on to its end.", j.ID)
		}
		return `cancel = true, back = true, hold = false, retry_at = null, state = case
			when state = 'held' then 'waiting' else state end`, nil
	})
}

// AskHold notes that a job is to stop where it is, until somebody resumes it.
func (inv *Inventory) AskHold(ctx context.Context, j *Job, who string) error {
	return inv.steer(ctx, j, "hold", who, func(now *Job, _ bool) (string, error) {
		switch {
		case now.Back:
			return "", Wrong("The job %s is being undone, which is not held.", j.ID)
		case now.State == JobHeld && now.RetryAt == nil, now.Hold:
			return "", nil
		case now.State == JobWaiting, now.State == JobHeld:
			return `state = 'held', retry_at = null`, nil
		}
		return `hold = true`, nil
	})
}

// AskRate has the transfers of a job go on at another rate, in bytes per second; 0 for no limit.
func (inv *Inventory) AskRate(rate int64) func(ctx context.Context, j *Job, who string) error {
	return func(ctx context.Context, j *Job, who string) error {
		return inv.steer(ctx, j, "rate", who, func(*Job, bool) (string, error) {
			return fmt.Sprintf("rate = %d", rate), nil
		})
	}
}

// MostAhead is how far ahead the beginning of a job, or its cut-over, may be: until then its copies are held.
const MostAhead = 30 * 24 * time.Hour

// AskCutOver has a job cut over at a time, nil for as soon as it can: whatever was planned, also one that is held since
// it came too late for that.
func (inv *Inventory) AskCutOver(at *time.Time) func(ctx context.Context, j *Job, who string) error {
	return func(ctx context.Context, j *Job, who string) error {
		return inv.steer(ctx, j, "cut-over", who, func(now *Job, _ bool) (string, error) {
			waits := slices.ContainsFunc(j.Steps, func(s Step) bool {
				return s.Kind == plan.KindAwait && (s.State == StepWaiting || s.State == StepWorking)
			})
			if now.Back || !waits {
				return "", Wrong("The job %s does not wait for a cut-over.", j.ID)
			}
			if at != nil && time.Until(*at) > MostAhead {
				return "", Wrong("A job can cut over at most %d days from now.", MostAhead/(24*time.Hour))
			}
			set := "cut_over_at = now()"
			if at != nil {
				set = fmt.Sprintf("cut_over_at = to_timestamp(%f)", float64(at.UnixMilli())/1000)
			}
			if now.State == JobHeld {
				set += ", state = 'waiting', retry_at = null"
			}
			return set, nil
		})
	}
}

// AskResume lets a held job go on.
func (inv *Inventory) AskResume(ctx context.Context, j *Job, who string) error {
	return inv.steer(ctx, j, "resume", who, func(now *Job, _ bool) (string, error) {
		switch {
		case now.Hold:
			return `hold = false`, nil
		case now.State != JobHeld:
			return "", Wrong("The job %s is %s: there is nothing to resume.", j.ID, now.State)
		}
		// The number of tries stays: by it an agent knows that a task that failed is to be tried again.
		return `state = 'waiting', retry_at = null`, nil
	})
}

// HeardOfClient notes that the computer that a job gives to, or takes from, is there.
func (inv *Inventory) HeardOfClient(ctx context.Context, job uuid.UUID) error {
	_, err := inv.Pool.Exec(ctx, `update jobs set client_at = now() where id = $1 and (client_at is null
		or client_at < now() - interval '5 seconds')`, job)
	return err
}

// NeedClient notes whether a job waits for the computer of the one who began it,
// and tells since when nothing was heard of that one.
func (inv *Inventory) NeedClient(ctx context.Context, j *Job, needs bool) (silent time.Duration, err error) {
	if !needs && !j.NeedsClient {
		return 0, nil
	}
	var seconds float64
	err = inv.Pool.QueryRow(ctx, `update jobs set needs_client = $3, client_at = case
		when needs_client then coalesce(client_at, now()) else now() end
		where id = $1 and epoch = $2 and state = 'working' returning extract(epoch
		from now() - client_at)`, j.ID, j.Epoch, needs).Scan(&seconds)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrStale
	}
	j.NeedsClient = needs
	return time.Duration(seconds * float64(time.Second)), err
}
