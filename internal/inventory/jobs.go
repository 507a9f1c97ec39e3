package inventory

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/plan"
)

// Job is a record of a plan being carried out.
type Job struct {
	ID          uuid.UUID       `json:"id"`
	Operation   string          `json:"operation"`
	Subject     string          `json:"subject"`
	State       JobState        `json:"state"`
	Cancel      bool            `json:"cancelling" db:"cancel"`
	Epoch       int64           `json:"-"`
	Owner       *uuid.UUID      `json:"-"` // service that steers it
	Plan        json.RawMessage `json:"-"`
	NewCopy     *uuid.UUID      `json:"newCopy"`          // the first of those
	NewCopies   []uuid.UUID     `json:"newCopies" db:"-"` // that it makes
	UserName    string          `json:"user" db:"user_name"`
	Note        string          `json:"note"`
	Back        bool            `json:"-"` // it is being undone
	Hold        bool            `json:"-"` // it is to be held
	NoReturn    *int            `json:"-"` // position of the step after which there is no way back
	ErrorCode   string          `json:"-"` // why it is undone, or was
	Error       string          `json:"-"`
	HeldCode    string          `json:"-"` // why it could not go on
	HeldFor     string          `json:"-"`
	Tries       int             `json:"-"` // of the step that it is held at
	RetryAt     *time.Time      `json:"retryAt"`
	NeedsClient bool            `json:"-"`
	ClientAt    *time.Time      `json:"-"`
	Parent      *uuid.UUID      `json:"parent"`    // that it is one machine's part of
	Nth         int             `json:"-"`         // among its parent's children
	Parts       int             `json:"-"`         // children that it was made with
	GivenUp     bool            `json:"givenUp"`   // another child does its work anew
	StartAt     *time.Time      `json:"startAt"`   // it begins no sooner
	CutOverAt   *time.Time      `json:"cutOverAt"` // when somebody has it cut over; nil for as its plan says
	Rate        int64           `json:"rate"`      // bytes per second that each transfer may read; 0 for no limit
	WaitsFor    string          `json:"waitsFor"`  // what its next step waits for
	CreatedAt   time.Time       `json:"createdAt"`
	StartedAt   *time.Time      `json:"startedAt"`
	FinishedAt  *time.Time      `json:"finishedAt"`
	Steps       []Step          `json:"steps" db:"-"`
	Children    *Children       `json:"-" db:"-"` // of a parent
}

// Step of a job.
type Step struct {
	JobID      uuid.UUID       `json:"-"`
	Position   int             `json:"-"`
	Part       int             `json:"part"` // which of several machines it is about
	ID         string          `json:"id"`
	Kind       string          `json:"kind"`
	What       string          `json:"what"`
	HostID     *uuid.UUID      `json:"-"`
	Host       string          `json:"host"`
	Bytes      int64           `json:"bytes"`
	Done       int64           `json:"done"`
	State      StepState       `json:"state"`
	DoWhat     json.RawMessage `json:"-"`
	Result     json.RawMessage `json:"-"`
	StartedAt  *time.Time      `json:"startedAt"`
	FinishedAt *time.Time      `json:"finishedAt"`
}

// TaskID is the step's name at an agent.
func (s Step) TaskID() string { return s.JobID.String() + "." + s.ID }

const jobColumns = `id, operation, subject, state, cancel, epoch, owner, plan, new_copy, user_name, note, back, hold,
	no_return, error_code, error, held_code, held_for, tries, retry_at,
	needs_client, client_at, parent, nth, parts, given_up, start_at,
	rate, waits_for, cut_over_at, created_at, started_at, finished_at`

const jobSQL = `select ` + jobColumns + ` from jobs`
const stepSQL = `select job_id, position, part, id, kind, what, host_id, host, bytes, done, state, do_what, result,
	started_at, finished_at from steps`

// stateShown is the state of a job as people are told it: one that waits for transfers of others waits.
const stateShown = `case when state = 'working' and waits_for <> '' then 'waiting' else state end`

// Shown is the state of a job as people are told it.
func (j *Job) Shown() JobState {
	if j.State == JobWorking && j.WaitsFor != "" {
		return JobWaiting
	}
	return j.State
}

// Over tells whether a job has ended.
func (j *Job) Over() bool {
	return slices.Contains([]JobState{JobDone, JobPartly, JobFailed, JobCancelled}, j.State)
}

// JobOver is a job that has ended, and whose owner it had last.
type JobOver struct {
	ID    uuid.UUID
	Epoch int64
}

// JobsOver are those of the jobs that have ended. What is no id of a job of ours is left out.
func (inv *Inventory) JobsOver(ctx context.Context, ids []string) ([]JobOver, error) {
	ids = slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return uuid.Validate(id) != nil })
	return rows[JobOver](ctx, inv.Pool, `select id, epoch from jobs where id = any($1::uuid[])
		and state in ('done', 'failed', 'cancelled') limit 100`, ids)
}

// NewJob is a job that is to be written.
type NewJob struct {
	*Job
	Plan    *plan.Plan
	Hosts   map[string]uuid.UUID // that take part, by name
	Holds   []string             // what it keeps others from
	Key     string               // of idempotency; "" for none
	Request any                  // that it was started with

	Children []NewJob // of one over several machines, which has no steps and holds of its own
}

// AddJob writes jobs with their steps, their children with theirs, and takes their holds. A hold that another job has
// is an error that names it.
func (l Ledger) AddJob(ctx context.Context, jobs ...NewJob) error {
	by := map[string]uuid.UUID{}
	for _, n := range jobs {
		n.Parts = len(n.Children)
		if err := l.addJob(ctx, n, by); err != nil {
			return err
		}
		for i, c := range n.Children {
			c.Parent, c.Nth = &n.ID, i
			if err := l.addJob(ctx, c, by); err != nil {
				return err
			}
		}
	}
	return l.hold(ctx, by)
}

// addJob writes one, and notes what it is to hold.
func (l Ledger) addJob(ctx context.Context, n NewJob, by map[string]uuid.UUID) error {
	j, p := n.Job, n.Plan
	for _, h := range n.Holds {
		by[h] = j.ID
	}
	asked, err := json.Marshal(n.Request)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	var key *string
	if n.Key != "" {
		key = &n.Key
	}
	_, err = l.q.Exec(ctx, `insert into jobs (id, operation, subject, state, plan, new_copy, user_name, note,
		idempotency_key, request, no_return, parent, nth, parts, start_at, rate, taken_back_by)
		values ($1, $2, $3, 'waiting', $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16)`,
		j.ID, p.Operation, strings.Join(p.Subjects, ", "), raw, j.NewCopy, j.UserName, j.Note, key, asked, p.NoReturn(),
		j.Parent, j.Nth, j.Parts, j.StartAt, j.Rate, p.Back)
	if violates(err, "jobs_idempotency") {
		return Refuse(CodeTaken, "The idempotency key was used before.")
	}
	if err != nil {
		return err
	}
	steps := p.Steps
	if j.Parts > 0 {
		steps = nil
	}
	hostOf := func(name string) *uuid.UUID {
		if id, ok := n.Hosts[name]; ok {
			return &id
		}
		return nil
	}
	pools, err := poolsUsed(ctx, l.q, steps, hostOf)
	if err != nil {
		return err
	}
	for i, s := range steps {
		do, err := json.Marshal(s.Do)
		if err != nil {
			return err
		}
		host := hostOf(s.Host)
		if _, err := l.q.Exec(ctx, `insert into steps (job_id, position, id, kind, what, host_id, host, bytes, do_what,
			part, uses, pools)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
			j.ID, i, s.ID, s.Kind, s.What, host, s.Host, s.Bytes, do, s.Part, uses(s, host), pools); err != nil {
			return err
		}
	}
	return l.Emit(ctx, "job", j.ID.String(), map[string]any{"state": JobWaiting, "operation": p.Operation})
}

// hold takes holds for jobs, in one order, so that two that begin never wait for each other.
func (l Ledger) hold(ctx context.Context, by map[string]uuid.UUID) error {
	for _, h := range slices.Sorted(maps.Keys(by)) {
		tag, err := l.q.Exec(ctx, `insert into holds (key, job_id) values ($1, $2) on conflict do nothing`, h, by[h])
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			other, err := l.Holder(ctx, h)
			if err != nil {
				return err
			}
			return Refuse(CodeBusy, "The job %s is at work on it. Wait for it, or cancel it: unvora jobs cancel %s",
				other, other)
		}
	}
	return nil
}

// Holder is the job that has a hold; "" when none has.
func (l Ledger) Holder(ctx context.Context, key string) (job string, err error) {
	err = l.q.QueryRow(ctx, `select job_id::text from holds where key = $1`, key).Scan(&job)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return job, err
}

// JobByKey finds the job that an earlier call with the same key started.
func (inv *Inventory) JobByKey(ctx context.Context, user, key string) (*Job, error) {
	if key == "" {
		return nil, nil
	}
	j, err := one(rows[Job](ctx, inv.Pool, jobSQL+` where user_name = $1 and idempotency_key = $2`, user, key))
	if j == nil || err != nil {
		return nil, err
	}
	return inv.Job(ctx, j.ID.String())
}

// Job finds one with its steps, by its id or the beginning of it.
func (inv *Inventory) Job(ctx context.Context, ref string) (*Job, error) {
	cond := "id = $1::uuid"
	if _, err := uuid.Parse(ref); err != nil {
		cond = "id::text like $1 || '%'"
		if len(ref) < 4 || strings.Trim(strings.ToLower(ref), "0123456789abcdef-") != "" {
			return nil, Refuse(CodeUnknown, "There is no job %q. unvora jobs lists them.", ref)
		}
	}
	list, err := rows[Job](ctx, inv.Pool, jobSQL+" where "+cond+" limit 2", ref)
	if err != nil {
		return nil, err
	}
	switch len(list) {
	case 0:
		return nil, Refuse(CodeUnknown, "There is no job %q. unvora jobs lists them.", ref)
	case 2:
		return nil, Refuse(CodeAmbiguous, "%q begins the ids of several jobs. Give more of it.", ref)
	}
	j := &list[0]
	if err := inv.fill(ctx, list[:1]); err != nil || j.Children == nil {
		return j, err
	}
	return j, inv.nameChildren(ctx, j)
}

// JobsPage says which jobs are listed.
type JobsPage struct {
	State  JobState
	User   *string    // whose; nil for everybody's
	Parent *uuid.UUID // its children; nil for jobs that are nobody's child
	Limit  int
	Before string // id
}

// Jobs lists jobs, newest first, with their steps.
func (inv *Inventory) Jobs(ctx context.Context, p JobsPage) ([]Job, error) {
	if p.Before == "" {
		p.Before = uuid.Max.String()
	}
	if _, err := uuid.Parse(p.Before); err != nil {
		return nil, Wrong("%q is not the next of a page.", p.Before)
	}
	if p.State != "" && !slices.Contains(JobStates, p.State) {
		return nil, Wrong("There is no state %q of jobs; there are %s.", p.State, joined(JobStates, ", "))
	}
	if err := checkLimit(p.Limit); err != nil {
		return nil, err
	}
	of := `parent is null and $5::uuid is null`
	if p.Parent != nil {
		of = `parent = $5`
	}
	jobs, err := rows[Job](ctx, inv.Pool, jobSQL+` where ($1 = '' or `+stateShown+` = $1) and id < $2::uuid
		and ($4::text is null or user_name = $4) and `+of+` order by id desc limit $3`, p.State, p.Before, p.Limit,
		p.User, p.Parent)
	if err != nil {
		return nil, err
	}
	return jobs, inv.fill(ctx, jobs)
}

// fill brings in the steps of jobs, and what their children come to.
func (inv *Inventory) fill(ctx context.Context, jobs []Job) error {
	var ids, parents []uuid.UUID
	at := map[uuid.UUID]*Job{}
	for i := range jobs {
		j := &jobs[i]
		if at[j.ID] = j; j.Parts > 0 {
			parents = append(parents, j.ID)
			continue
		}
		ids = append(ids, j.ID)
	}
	if len(ids) > 0 {
		steps, err := rows[Step](ctx, inv.Pool, stepSQL+` where job_id = any($1) order by job_id, position`, ids)
		if err != nil {
			return err
		}
		for _, s := range steps {
			at[s.JobID].add(s)
		}
	}
	if len(parents) == 0 {
		return nil
	}
	return inv.fillChildren(ctx, parents, at)
}

// ErrStale is returned to somebody who steers a job that a newer owner has, or
// that is over or held.
var ErrStale = errors.New("a newer owner looks after this job")

// errBehind is returned for a step that is to begin or to be done while one
// before it is not.
var errBehind = errors.New("a step before this one is not done")

// own locks a job that is at work for its owner of that epoch, until the
// transaction ends. Whatever is written of a job or its steps begins with it.
func own(ctx context.Context, tx Querier, job uuid.UUID, epoch int64) (back, hold bool, err error) {
	err = tx.QueryRow(ctx, `select back, hold from jobs where id = $1 and epoch = $2
		and state = 'working' for no key update`, job, epoch).Scan(&back, &hold)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrStale
	}
	return back, hold, err
}

// BeginStep notes that a step is begun. False: it is not to be, since the job is to be undone or held, or there is no
// room yet for the transfer that it is, or that comes after it; then it is told what is waited for.
func (inv *Inventory) BeginStep(ctx context.Context, epoch int64, s *Step) (begun bool, waitsFor string, err error) {
	err = inv.InTx(ctx, func(tx pgx.Tx) error {
		back, hold, err := own(ctx, tx, s.JobID, epoch)
		if begun = err == nil && !back && !hold; !begun {
			return err
		}
		if s.Kind != plan.KindAwait { // it may rest for days
			if waitsFor, err = room(ctx, tx, s.JobID, s.Position); err != nil || waitsFor != "" {
				begun = false
				return err
			}
		}
		s.State = StepWorking
		return In(tx).PutStep(ctx, epoch, s)
	})
	return begun, waitsFor, err
}

// UpdateStep writes how far a step is, if the epoch is still the newest.
func (inv *Inventory) UpdateStep(ctx context.Context, epoch int64, s *Step) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error { return In(tx).PutStep(ctx, epoch, s) })
}

// PutStep is UpdateStep in a transaction of the caller's. A step is at work, or
// done, only when all before it are done.
func (l Ledger) PutStep(ctx context.Context, epoch int64, s *Step) error {
	if _, _, err := own(ctx, l.q, s.JobID, epoch); err != nil {
		return err
	}
	tag, err := l.q.Exec(ctx, `update steps set state = $3, done = $4, result = $5, bytes = $6, what = $7,
		started_at = coalesce(started_at, now()), finished_at = case when $3 in ('done', 'failed',
		'undone') then now() end
		where job_id = $1 and position = $2 and ($3 not in ('working', 'done') or state in ('waiting', 'working')
			and not exists (select 1 from steps b where b.job_id = $1 and b.position < $2
			and b.state <> 'done'))`, s.JobID, s.Position, s.State, s.Done, s.Result, s.Bytes, s.What)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		return fmt.Errorf("step %s of job %s can't be %s: %w", s.ID, s.JobID, s.State, errBehind)
	}
	if s.State == StepDone {
		if _, err := l.q.Exec(ctx, `update jobs set tries = 0, held_code = '', held_for = '' where id = $1
			and tries > 0`, s.JobID); err != nil {
			return err
		}
	}
	return l.Emit(ctx, "job", s.JobID.String(), map[string]any{"step": s.ID, "state": s.State, "done": s.Done,
		"bytes": s.Bytes})
}

// past tells whether a job is past its point of no return.
const past = `exists (select 1 from steps s where s.job_id = jobs.id and s.position = jobs.no_return
	and s.state = 'done')`

// FailStep writes that a step failed and what becomes of its job, in one: it is
// undone, or, past its point of no return, held and tried again later. clean:
// nothing was done of this step, nor of one that can't be taken back.
func (inv *Inventory) FailStep(ctx context.Context, j *Job, s *Step, code, message string, clean bool) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, _, err := own(ctx, tx, j.ID, j.Epoch); err != nil {
			return err
		}
		var gone bool
		if err := tx.QueryRow(ctx, `select `+past+` from jobs where id = $1`, j.ID).Scan(&gone); err != nil {
			return err
		}
		if gone && !clean {
			return putHeld(ctx, tx, j, code, message)
		}
		failed := *s
		failed.State = StepFailed
		if err := In(tx).PutStep(ctx, j.Epoch, &failed); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update jobs set back = true, error_code = $2, error = $3
			where id = $1`, j.ID, code, message)
		return err
	})
}

// HoldStuck holds a job that can't go on, or can't be undone, for now. It is
// tried again by itself, later each time.
func (inv *Inventory) HoldStuck(ctx context.Context, j *Job, code, message string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, _, err := own(ctx, tx, j.ID, j.Epoch); err != nil {
			return err
		}
		return putHeld(ctx, tx, j, code, message)
	})
}

// HoldFor holds a job until somebody lets it go on; message says why.
func (inv *Inventory) HoldFor(ctx context.Context, j *Job, message string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, _, err := own(ctx, tx, j.ID, j.Epoch); err != nil {
			return err
		}
		if err := putHeld(ctx, tx, j, "", message); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `update jobs set retry_at = null, tries = 0 where id = $1`, j.ID)
		return err
	})
}

// Pauses before a held job is tried again: the first, and the longest.
const (
	firstRetry = 10 * time.Second
	lastRetry  = 10 * time.Minute
)

func putHeld(ctx context.Context, tx Querier, j *Job, code, message string) error {
	_, err := tx.Exec(ctx, `update jobs set state = 'held', owner = null, hold = false, needs_client = false,
		waits_for = '', held_code = $2, held_for = $3, tries = tries + 1,
		retry_at = now() + make_interval(secs => least($4 * power(2, least(tries, 20)), $5))
		where id = $1`, j.ID, code, message, firstRetry.Seconds(), lastRetry.Seconds())
	if err != nil {
		return err
	}
	return In(tx).Emit(ctx, "job", j.ID.String(), map[string]any{"state": JobHeld})
}

// HoldNow holds a job whose work has been stopped since somebody asked for that.
func (inv *Inventory) HoldNow(ctx context.Context, j *Job) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, _, err := own(ctx, tx, j.ID, j.Epoch); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `update jobs set state = 'held', owner = null, hold = false, needs_client = false,
			waits_for = '' where id = $1`, j.ID); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "job", j.ID.String(), map[string]any{"state": JobHeld})
	})
}

// CloseWayBack notes that a job whose steps are all done can't be undone any more: from now on its agents forget what
// they did. A job that is to be undone is not closed.
func (inv *Inventory) CloseWayBack(ctx context.Context, j *Job) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		back, _, err := own(ctx, tx, j.ID, j.Epoch)
		if err != nil {
			return err
		}
		if back || j.Next() != nil {
			return fmt.Errorf("job %s can't end: %w", j.ID, errBehind)
		}
		_, err = tx.Exec(ctx, `update jobs set no_return = (select max(position) from steps where job_id = $1)
			where id = $1`, j.ID)
		return err
	})
}

// EndJob writes how a job ended and lets its holds go. One is done only when all
// of its steps are; one that is being undone can only have failed or be cancelled.
func (inv *Inventory) EndJob(ctx context.Context, j *Job, state JobState, code, message string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, _, err := own(ctx, tx, j.ID, j.Epoch); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `update jobs set state = $2, owner = null, needs_client = false,
			waits_for = '', error_code = $3, error = $4,
			finished_at = now() where id = $1
			and case when $2 = 'done' then not back and not exists (select 1 from steps where job_id = $1
			and state <> 'done')
			else back and not exists (select 1 from steps where job_id = $1 and state not in ('waiting',
			'undone')) end`, j.ID, state, code, message)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return fmt.Errorf("job %s can't end as %s: %w", j.ID, state, errBehind)
		}
		copyID, lineageID, err := heldCopy(ctx, tx, j.ID)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from holds where job_id = $1`, j.ID); err != nil {
			return err
		}
		if state != JobDone {
			// Hosts that are as they were have nothing new to tell, but the records may be as the job has left them:
			// all is read anew.
			if _, err := tx.Exec(ctx, `update hosts set revision = $2 where revision <> '' and id in (
				select host_id from steps where job_id = $1)`, j.ID, "after "+j.ID.String()); err != nil {
				return err
			}
			// Nothing that was given out for it is in use.
			if _, err := tx.Exec(ctx, `delete from given_macs where job_id = $1`, j.ID); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `delete from given_uuids where job_id = $1`, j.ID); err != nil {
				return err
			}
		}
		if err := In(tx).auditEnd(ctx, j, state, message, copyID, lineageID); err != nil {
			return err
		}
		return In(tx).Emit(ctx, "job", j.ID.String(), map[string]any{"state": state})
	})
}

// RequestOf is the request that a job was started with.
func (inv *Inventory) RequestOf(ctx context.Context, job string) (raw json.RawMessage, err error) {
	id, err := uuid.Parse(job)
	if err != nil {
		return nil, Refuse(CodeUnknown, "There is no job %q.", job)
	}
	err = inv.Pool.QueryRow(ctx, `select request from jobs where id = $1`, id).Scan(&raw)
	return raw, err
}
