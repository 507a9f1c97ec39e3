package inventory

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/plan"
)

// Job is a record of a plan being carried out.
type Job struct {
	ID         uuid.UUID       `json:"id"`
	Operation  string          `json:"operation"`
	Subject    string          `json:"subject"`
	State      string          `json:"state"`
	Cancel     bool            `json:"cancelling" db:"cancel"`
	Epoch      int64           `json:"-"`
	Plan       json.RawMessage `json:"-"`
	NewCopy    *uuid.UUID      `json:"newCopy"`
	UserName   string          `json:"user" db:"user_name"`
	Note       string          `json:"note"`
	ErrorCode  string          `json:"-"`
	Error      string          `json:"-"`
	CreatedAt  time.Time       `json:"createdAt"`
	StartedAt  *time.Time      `json:"startedAt"`
	FinishedAt *time.Time      `json:"finishedAt"`
	Steps      []Step          `json:"steps" db:"-"`
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
	State      string          `json:"state"`
	DoWhat     json.RawMessage `json:"-"`
	Result     json.RawMessage `json:"-"`
	StartedAt  *time.Time      `json:"startedAt"`
	FinishedAt *time.Time      `json:"finishedAt"`
}

// TaskID is the step's name at an agent.
func (s Step) TaskID() string { return s.JobID.String() + "." + s.ID }

const jobSQL = `select id, operation, subject, state, cancel, epoch, plan, new_copy, user_name, note, error_code, error, created_at, started_at, finished_at from jobs`
const stepSQL = `select job_id, position, part, id, kind, what, host_id, host, bytes, done, state, do_what, result, started_at, finished_at from steps`

// Over tells whether a job has ended.
func (j *Job) Over() bool { return j.State == "done" || j.State == "failed" || j.State == "cancelled" }

// AddJob writes a job with its steps and takes its holds. A hold that another
// job has is an error that names it.
func AddJob(ctx context.Context, tx pgx.Tx, j *Job, p *plan.Plan, hosts map[string]uuid.UUID, idempotency string, holds []string, request any) error {
	asked, err := json.Marshal(request)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return err
	}
	var key *string
	if idempotency != "" {
		key = &idempotency
	}
	if _, err := tx.Exec(ctx, `insert into jobs (id, operation, subject, state, plan, new_copy, user_name, note, idempotency_key, request) values ($1, $2, $3, 'waiting', $4, $5, $6, $7, $8, $9)`,
		j.ID, p.Operation, strings.Join(p.Subjects, ", "), raw, j.NewCopy, j.UserName, j.Note, key, asked); err != nil {
		return err
	}
	for i, s := range p.Steps {
		do, err := json.Marshal(s.Do)
		if err != nil {
			return err
		}
		var host *uuid.UUID
		if id, ok := hosts[s.Host]; ok {
			host = &id
		}
		if _, err := tx.Exec(ctx, `insert into steps (job_id, position, id, kind, what, host_id, host, bytes, do_what, part) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
			j.ID, i, s.ID, s.Kind, s.What, host, s.Host, s.Bytes, do, s.Part); err != nil {
			return err
		}
	}
	for _, h := range holds {
		tag, err := tx.Exec(ctx, `insert into holds (key, job_id) values ($1, $2) on conflict do nothing`, h, j.ID)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			other, err := Holder(ctx, tx, h)
			if err != nil {
				return err
			}
			return fail("busy", "The job %s is at work on it. Wait for it, or cancel it: unvora jobs cancel %s", other, other)
		}
	}
	return Emit(ctx, tx, "job", j.ID.String(), map[string]any{"state": "waiting", "operation": p.Operation})
}

// Holder is the job that has a hold; "" when none has.
func Holder(ctx context.Context, q Querier, key string) (job string, err error) {
	err = q.QueryRow(ctx, `select job_id::text from holds where key = $1`, key).Scan(&job)
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
			return nil, fail("unknown", "There is no job %q. unvora jobs lists them.", ref)
		}
	}
	list, err := rows[Job](ctx, inv.Pool, jobSQL+" where "+cond+" limit 2", ref)
	if err != nil {
		return nil, err
	}
	switch len(list) {
	case 0:
		return nil, fail("unknown", "There is no job %q. unvora jobs lists them.", ref)
	case 2:
		return nil, fail("ambiguous", "%q begins the ids of several jobs. Give more of it.", ref)
	}
	j := &list[0]
	j.Steps, err = rows[Step](ctx, inv.Pool, stepSQL+` where job_id = $1 order by position`, j.ID)
	return j, err
}

// Jobs lists jobs, newest first, with their steps.
func (inv *Inventory) Jobs(ctx context.Context, state string, limit int, before string) ([]Job, error) {
	if before == "" {
		before = uuid.Max.String()
	}
	if _, err := uuid.Parse(before); err != nil {
		return nil, fail("wrong", "%q is not the next of a page", before)
	}
	jobs, err := rows[Job](ctx, inv.Pool, jobSQL+` where ($1 = '' or state = $1) and id < $2::uuid order by id desc limit $3`, state, before, min(max(limit, 1), 1000))
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(jobs))
	at := map[uuid.UUID]int{}
	for i, j := range jobs {
		ids[i], at[j.ID] = j.ID, i
	}
	steps, err := rows[Step](ctx, inv.Pool, stepSQL+` where job_id = any($1) order by job_id, position`, ids)
	for _, s := range steps {
		jobs[at[s.JobID]].Steps = append(jobs[at[s.JobID]].Steps, s)
	}
	return jobs, err
}

// TakeJob returns a job for its owner of that epoch to work on, and notes that
// the owner is alive. Nil: the job is over, or somebody newer has it.
func (inv *Inventory) TakeJob(ctx context.Context, id uuid.UUID, epoch int64) (*Job, error) {
	err := inv.InTx(ctx, func(tx pgx.Tx) error {
		var was string
		if err := tx.QueryRow(ctx, `update jobs set touched_at = now(), started_at = coalesce(started_at, now())
			where id = $1 and epoch = $2 and state in ('waiting', 'working') returning state`, id, epoch).Scan(&was); err != nil || was == "working" {
			return err
		}
		if _, err := tx.Exec(ctx, `update jobs set state = 'working' where id = $1`, id); err != nil {
			return err
		}
		return Emit(ctx, tx, "job", id.String(), map[string]any{"state": "working"})
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return inv.Job(ctx, id.String())
}

// KeepJob is TakeJob for an owner that has the job at hand already: it notes
// that the owner is alive and brings in what others may have changed. False: the
// job is over, or somebody newer has it.
func (inv *Inventory) KeepJob(ctx context.Context, j *Job) (bool, error) {
	err := inv.Pool.QueryRow(ctx, `update jobs set touched_at = now() where id = $1 and epoch = $2 and state = 'working' returning cancel, error_code, error`, j.ID, j.Epoch).Scan(&j.Cancel, &j.ErrorCode, &j.Error)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}

// Abandoned is a job whose owner has not been heard of; Epoch is that of the
// owner to come.
type Abandoned struct {
	ID    uuid.UUID
	Epoch int64
}

// TakeUp raises the epoch of jobs whose owner was silent for that long and
// hands each to f, which finds it a new owner in the same transaction.
func (inv *Inventory) TakeUp(ctx context.Context, silence time.Duration, f func(tx pgx.Tx, a Abandoned) error) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[Abandoned](ctx, tx, `update jobs set epoch = epoch + 1, touched_at = now() where id in (select id from jobs
			where state in ('waiting', 'working') and touched_at < now() - make_interval(secs => $1) order by touched_at limit 100 for update skip locked) returning id, epoch`, silence.Seconds())
		if err != nil {
			return err
		}
		for _, a := range list {
			if err := f(tx, a); err != nil {
				return err
			}
		}
		return nil
	})
}

// errStale is returned when a newer owner looks after the job.
var errStale = errors.New("a newer owner looks after this job")

// UpdateStep writes how far a step is, if the epoch is still the newest.
func (inv *Inventory) UpdateStep(ctx context.Context, epoch int64, s *Step) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error { return PutStep(ctx, tx, epoch, s) })
}

// PutStep is UpdateStep in a transaction of the caller's.
func PutStep(ctx context.Context, tx pgx.Tx, epoch int64, s *Step) error {
	tag, err := tx.Exec(ctx, `update steps set state = $3, done = $4, result = $5, bytes = $7,
		started_at = coalesce(started_at, now()), finished_at = case when $3 in ('done', 'failed', 'undone') then now() end
		where job_id = $1 and position = $2 and exists (select 1 from jobs where id = $1 and epoch = $6)`, s.JobID, s.Position, s.State, s.Done, s.Result, epoch, s.Bytes)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		return errStale
	}
	return Emit(ctx, tx, "job", s.JobID.String(), map[string]any{"step": s.ID, "state": s.State, "done": s.Done, "bytes": s.Bytes})
}

// EndJob writes how a job ended and lets its holds go.
func (inv *Inventory) EndJob(ctx context.Context, j *Job, state, code, message string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `update jobs set state = $2, error_code = $3, error = $4, finished_at = now() where id = $1 and epoch = $5`, j.ID, state, code, message, j.Epoch)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return errStale
		}
		if _, err := tx.Exec(ctx, `delete from holds where job_id = $1`, j.ID); err != nil {
			return err
		}
		if state != "done" { // nothing that was given out for it is in use
			if _, err := tx.Exec(ctx, `delete from given_macs where job_id = $1`, j.ID); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `delete from given_uuids where job_id = $1`, j.ID); err != nil {
				return err
			}
		}
		if state != "done" || j.NewCopy == nil { // a new copy has an entry of its own
			what := j.Operation
			if state != "done" {
				what += " " + state
			}
			if err := Audit(ctx, tx, Entry{Who: j.UserName, What: what, Subject: j.Subject, Why: j.Note, Detail: map[string]any{"job": j.ID, "error": message}}); err != nil {
				return err
			}
		}
		return Emit(ctx, tx, "job", j.ID.String(), map[string]any{"state": state})
	})
}

// AskCancel notes that a job is to be cancelled; one that is over is told so.
func (inv *Inventory) AskCancel(ctx context.Context, j *Job, who string) error {
	if j.Over() {
		return fail("wrong", "The job %s is %s already.", j.ID, j.State)
	}
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update jobs set cancel = true where id = $1`, j.ID); err != nil {
			return err
		}
		if err := Audit(ctx, tx, Entry{Who: who, What: "job cancel", Subject: j.Subject, Detail: map[string]any{"job": j.ID}}); err != nil {
			return err
		}
		return Emit(ctx, tx, "job", j.ID.String(), map[string]any{"cancelling": true})
	})
}

// FailWith keeps why a job has to be undone, before the undoing begins.
func (inv *Inventory) FailWith(ctx context.Context, j *Job, code, message string) error {
	tag, err := inv.Pool.Exec(ctx, `update jobs set error_code = $2, error = $3 where id = $1 and epoch = $4`, j.ID, code, message, j.Epoch)
	if err == nil && tag.RowsAffected() == 0 {
		err = errStale
	}
	return err
}

// Giver gives out ids for a job, each once for all times, in its transaction.
type Giver struct {
	Ctx    context.Context
	Tx     pgx.Tx
	Job    uuid.UUID
	Prefix string
}

// UUID that nobody has.
func (g *Giver) UUID() (string, error) {
	id := uuid.New()
	_, err := g.Tx.Exec(g.Ctx, `insert into given_uuids (uuid, job_id) values ($1, $2)`, id, g.Job)
	return id.String(), err
}

// MAC from the site's range that was neither given out nor seen anywhere.
func (g *Giver) MAC() (string, error) {
	for {
		var n int64
		if err := g.Tx.QueryRow(g.Ctx, `update sites set next_mac = next_mac + 1 where mac_prefix = $1 returning next_mac - 1`, g.Prefix).Scan(&n); err != nil {
			return "", err
		}
		mac, err := identity.RangeMAC(g.Prefix, n)
		if err != nil {
			return "", err
		}
		tag, err := g.Tx.Exec(g.Ctx, `insert into given_macs (mac, job_id) select $1::macaddr, $2 where not exists (select 1 from nics where mac = $1::macaddr) on conflict do nothing`, mac, g.Job)
		if err != nil {
			return "", err
		}
		if tag.RowsAffected() == 1 {
			return mac, nil
		}
	}
}

// RequestOf is what a job was asked for.
func (inv *Inventory) RequestOf(ctx context.Context, job string, into any) error {
	id, err := uuid.Parse(job)
	if err != nil {
		return fail("unknown", "There is no job %q.", job)
	}
	var raw []byte
	if err := inv.Pool.QueryRow(ctx, `select request from jobs where id = $1`, id).Scan(&raw); err != nil {
		return err
	}
	return json.Unmarshal(raw, into)
}
