package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// steerArgs names a job and the epoch of the owner that steers it.
type steerArgs struct {
	Job   string `json:"job"`
	Epoch int64  `json:"epoch"`
}

func (steerArgs) Kind() string { return "steer" }

type steerer struct {
	river.WorkerDefaults[steerArgs]
	w *Work
}

// Work is one tick: it moves the job on as far as that goes at once. What has to
// be waited for is waited for elsewhere, and queues the next tick.
func (s *steerer) Work(ctx context.Context, r *river.Job[steerArgs]) error {
	id, err := uuid.Parse(r.Args.Job)
	if err != nil {
		return river.JobCancel(err)
	}
	if !s.w.desk.begin(id) {
		return nil // another tick of it is at work here
	}
	j, until, err := s.w.tick(ctx, id, r.Args.Epoch)
	switch {
	case errors.Is(err, inventory.ErrStale), isStale(err), err == nil && until == nil:
		s.w.desk.end(id)
		return nil
	case err != nil && j == nil: // the database is away: whoever finds the job without a tick queues one
		s.w.log.Warn("steer job", "job", id, "error", err)
		s.w.desk.leave(id, time.Now().Add(tickPause))
		return nil
	case err != nil:
		until = s.w.stuck(ctx, j, err)
	default:
		s.w.desk.moved(id)
	}
	s.w.later(j.ID, j.Epoch, until)
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
func (w *Work) stuck(ctx context.Context, j *inventory.Job, err error) wait {
	pause, since := w.desk.failed(j.ID)
	w.log.Warn("steer job", "job", j.ID, "error", err)
	if since > stuckAfter {
		code := ""
		if errors.Is(err, hostlink.ErrUnreachable) {
			code = "host.unreachable"
		}
		if e := w.inv.HoldStuck(ctx, j, code, err.Error()); e == nil {
			w.desk.end(j.ID)
			return nil
		}
	}
	return sleep(pause)
}

// tick moves a job on until it is over, held, or something has to be waited for.
// The job is nil when it could not be read; a nil wait: nothing more is to be done.
func (w *Work) tick(ctx context.Context, id uuid.UUID, epoch int64) (*inventory.Job, wait, error) {
	j, err := w.inv.TakeJob(ctx, id, epoch, w.id)
	if j == nil || err != nil {
		return nil, nil, err
	}
	for began := time.Now(); ; {
		if j.Back {
			return j, nil, w.undo(ctx, j)
		}
		if j.Hold {
			return j, nil, w.holdNow(ctx, j)
		}
		step := next(j)
		if step == nil {
			return j, nil, w.done(ctx, j)
		}
		until, err := w.advance(ctx, j, step)
		var failed *failure
		switch {
		case errors.As(err, &failed):
			if err := w.inv.FailStep(ctx, j, step, failed.code, fmt.Sprintf("%s: %s", step.What, failed.message), clean(j, step)); err != nil {
				return j, nil, err
			}
		case err != nil:
			return j, nil, err
		case until != nil:
			return j, until, nil
		case time.Since(began) > tickTime: // others wait for the worker
			return j, sleep(0), nil
		}
		if mine, err := w.inv.Reread(ctx, j); !mine || err != nil {
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

// failure ends a job; everything else is tried again.
type failure struct{ code, message string }

func (f *failure) Error() string { return f.message }

func next(j *inventory.Job) *inventory.Step {
	for i := range j.Steps {
		if s := j.Steps[i].State; s == "waiting" || s == "working" {
			return &j.Steps[i]
		}
	}
	return nil
}

// advance moves a step on. A wait asks to be called again after it.
func (w *Work) advance(ctx context.Context, j *inventory.Job, s *inventory.Step) (wait, error) {
	again := s.State == "working"
	if !again {
		begun, err := w.inv.BeginStep(ctx, j.Epoch, s)
		if !begun || err != nil {
			return nil, err
		}
	}
	switch s.Kind {
	case plan.KindGiveIDs:
		return nil, w.giveIDs(ctx, j, s)
	case plan.KindRecord:
		return nil, w.record(ctx, j, s)
	case plan.KindForget:
		return nil, w.forget(ctx, j, s)
	case plan.KindNoteAhead:
		return nil, w.noteAhead(ctx, j, s)
	case plan.KindLend:
		return pause(w.lending(ctx, j, s))
	}
	return w.steerTask(ctx, j, s, again)
}

// pause makes a wait of a time.
func pause(d time.Duration, err error) (wait, error) {
	if err != nil || d <= 0 {
		return nil, err
	}
	return sleep(d), nil
}

// steerTask starts the step's task unless it is there, looks at it and records.
// again: the step was begun before.
func (w *Work) steerTask(ctx context.Context, j *inventory.Job, s *inventory.Step, again bool) (wait, error) {
	h, err := w.inv.Host(ctx, s.HostID.String())
	if err != nil {
		return nil, err
	}
	if h.ManagerID != nil {
		return pause(w.managed(ctx, j, s, h, again))
	}
	params, err := w.taskParams(ctx, j, s, h)
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(params)
	if err != nil {
		return nil, err
	}
	agent := w.agent(h)
	t, err := agent.Start(ctx, s.TaskID(), hostlink.TaskSpec{Job: j.ID.String(), Epoch: j.Epoch, Kind: s.Kind, Params: raw, Try: j.Tries})
	if err == nil && t.State == hostlink.TaskRunning && t.Needs == nil {
		t, err = agent.Wait(ctx, s.TaskID(), atOnce) // a short one is over before the next tick would come
	}
	var fault *hostlink.Fault
	if errors.As(err, &fault) && fault.Code != hostlink.FaultStale {
		return nil, &failure{fault.Code, fault.Message}
	}
	if err != nil {
		return nil, err
	}
	return w.watchTask(ctx, j, s, agent, t)
}

const (
	lookEvery = time.Second
	atOnce    = 50 * time.Millisecond

	// clientPatience is how long nothing may be heard of the computer that a job
	// gives to, or takes from, until the job is undone.
	clientPatience = 10 * time.Minute
)

// watchTask records how far a task is.
func (w *Work) watchTask(ctx context.Context, j *inventory.Job, s *inventory.Step, agent *hostlink.Host, t *hostlink.Task) (wait, error) {
	if t.Note != "" && !strings.Contains(s.What, t.Note) {
		s.What += " (" + t.Note + ")"
	}
	switch t.State {
	case hostlink.TaskFailed:
		return nil, &failure{t.Code, t.Error}
	case hostlink.TaskDone:
		if _, err := w.inv.NeedClient(ctx, j, false); err != nil {
			return nil, err
		}
		return nil, w.taskDone(ctx, j, s, t)
	}
	if t.Done != s.Done {
		s.Done = t.Done
		s.Bytes = max(s.Bytes, t.Done)
		if err := w.inv.UpdateStep(ctx, j.Epoch, s); err != nil {
			return nil, err
		}
	}
	silent, err := w.inv.NeedClient(ctx, j, t.Needs != nil)
	if err != nil {
		return nil, err
	}
	if t.Needs == nil {
		return func(ctx context.Context) { agent.Wait(ctx, s.TaskID(), lookEvery) }, nil
	}
	if silent > clientPatience {
		return nil, &failure{"client.away", fmt.Sprintf("nothing was heard of the computer of %s for %s", j.UserName, clientPatience)}
	}
	return sleep(lookEvery / 2), nil // bytes come from elsewhere: nothing to hurry for
}

// taskDone records that a task is done, with what that says of the copy.
func (w *Work) taskDone(ctx context.Context, j *inventory.Job, s *inventory.Step, t *hostlink.Task) error {
	s.State, s.Result, s.Done = "done", t.Result, max(s.Bytes, t.Done)
	s.Bytes = max(s.Bytes, t.Done)
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.PutStep(ctx, tx, j.Epoch, s); err != nil {
			return err
		}
		return w.noteEffect(ctx, tx, s, false)
	})
}

// noteEffect records what a step has done, or with undone what was taken back, as
// far as the inventory shows it before the next survey: that a copy runs, or that a
// host has a switch.
func (w *Work) noteEffect(ctx context.Context, tx pgx.Tx, s *inventory.Step, undone bool) error {
	switch s.Kind {
	case plan.KindStart, plan.KindStop:
		do, err := decode[plan.Power](s)
		if err != nil {
			return err
		}
		state := "stopped"
		if (s.Kind == plan.KindStart) != undone {
			state = "running"
		}
		return inventory.SetState(ctx, tx, do.Copy, state)
	case plan.KindMakeSwitch, plan.KindDropSwitch:
		do, err := decode[plan.MakeSwitch](s)
		if err != nil {
			return err
		}
		return inventory.NoteSwitch(ctx, tx, *s.HostID, do.Switch, (s.Kind == plan.KindMakeSwitch) != undone)
	}
	return nil
}

// giveIDs renews identity facets, in one transaction with the step's record.
func (w *Work) giveIDs(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
		do, err := decode[plan.GiveIDs](s)
		if err != nil {
			return err
		}
		if err := identity.Apply(do.Machine, chosen(do.Choice), &inventory.Giver{Ctx: ctx, Tx: tx, Job: j.ID, Prefix: do.MACPrefix}); err != nil {
			return err
		}
		if err := w.giveAddresses(ctx, tx, j, s.Part, do); err != nil {
			return err
		}
		if s.Result, err = json.Marshal(given{do.Machine}); err != nil {
			return err
		}
		s.State = "done"
		return inventory.PutStep(ctx, tx, j.Epoch, s)
	})
}

// giveAddresses gives NICs the addresses that the plan says.
func (w *Work) giveAddresses(ctx context.Context, tx pgx.Tx, j *inventory.Job, part int, do *plan.GiveIDs) error {
	if len(do.Addresses) == 0 {
		return nil
	}
	rec, err := recordOf(j, part)
	if err != nil {
		return err
	}
	id := copyOf(rec)
	for _, n := range do.Machine.NICs {
		wish := do.Addresses[n.Name]
		if wish == "" {
			continue
		}
		address, err := inventory.GiveAddress(ctx, tx, wish, n.Segment, j.ID, &id)
		var e *inventory.Error
		if errors.As(err, &e) {
			return &failure{e.Code, e.Message}
		}
		if err != nil {
			return err
		}
		if !slices.Contains(do.Machine.Static, address) {
			do.Machine.Static = append(do.Machine.Static, address)
		}
	}
	return nil
}

// record writes the new copy, in one transaction with the step's record.
func (w *Work) record(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	do, err := decode[plan.Record](s)
	if err != nil {
		return err
	}
	lineageID, err := uuid.Parse(do.Lineage)
	if err != nil {
		return fmt.Errorf("lineage of the new copy: %w", err)
	}
	choice := chosen(do.Choice)
	c := &inventory.Copy{ID: copyOf(do), LineageID: lineageID, Name: do.Name, Form: do.Form, Path: do.Path, Machine: do.Machine,
		MadeBy: j.Operation, MadeUser: j.UserName, MadeAt: time.Now(), Identity: identityOf(choice), Renewed: choice.Renewed(), Owner: do.Owner}
	c.Parent, c.HostID, c.PoolID, c.ShelfID = optional(do.Parent), optional(do.Host), optional(do.Pool), optional(do.Shelf)
	if do.Change {
		was, err := w.inv.CopyByID(ctx, do.Copy)
		if err != nil {
			return err
		}
		if was == nil {
			return fmt.Errorf("the copy %s is not in the inventory any more", do.Copy)
		}
		c.MadeBy, c.MadeUser, c.MadeAt, c.Parent, c.Owner = was.MadeBy, was.MadeUser, was.MadeAt, was.Parent, was.Owner
		if len(c.Renewed) == 0 {
			c.Identity, c.Renewed = was.Identity, was.Renewed
		}
	}
	rel := ""
	if do.Form == "registered" {
		if c.Machine, err = madeMachine(j, s.Part); err != nil {
			return err
		}
		c.State, rel = "stopped", path.Base(do.Path)
		if n := s.Position; n > 0 && j.Steps[n-1].Kind == plan.KindStart {
			c.State = "running" // it was stopped for the change, and started again
		}
		c.SizeBytes = c.Machine.FileBytes()
	} else {
		c.State = "unknown"
		for _, st := range j.Steps {
			var r hostlink.PackResult
			if (st.Kind == plan.KindPack || st.Kind == plan.KindHandOut) && json.Unmarshal(st.Result, &r) == nil {
				c.SizeBytes = r.Bytes
			}
		}
	}
	c.UUID = c.Machine.UUID
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.EnsureLineage(ctx, tx, lineageID, do.Name); err != nil {
			return err
		}
		if err := inventory.RecordCopy(ctx, tx, c, rel, j.Operation, j.UserName, j.Note, j.ID.String()); err != nil {
			return err
		}
		s.State = "done"
		return inventory.PutStep(ctx, tx, j.Epoch, s)
	})
}

// forget notes that a copy is no longer there, or no longer listed.
func (w *Work) forget(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	do, err := decode[plan.Forget](s)
	if err != nil {
		return err
	}
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.ForgetCopy(ctx, tx, do.Copy, do.Form, j.Operation, j.UserName, j.Note, j.ID.String()); err != nil {
			return err
		}
		s.State = "done"
		return inventory.PutStep(ctx, tx, j.Epoch, s)
	})
}

func optional(id string) *uuid.UUID {
	u, err := uuid.Parse(id)
	if err != nil {
		return nil
	}
	return &u
}

// holdNow stops the job's work where it is.
func (w *Work) holdNow(ctx context.Context, j *inventory.Job) error {
	if s := next(j); s != nil && s.State == "working" && plan.OnHost(s.Kind) {
		h, err := w.inv.Host(ctx, s.HostID.String())
		if err != nil {
			return err
		}
		if h.ManagerID == nil {
			if err := w.agent(h).Pause(ctx, s.TaskID(), hostlink.TaskSpec{Job: j.ID.String(), Epoch: j.Epoch, Kind: s.Kind}); err != nil {
				return err
			}
		}
	}
	return w.inv.HoldNow(ctx, j)
}

// undo takes the steps back, the last one first, then ends the job. Where a step
// can't be taken back, the job is held, and that is tried again.
func (w *Work) undo(ctx context.Context, j *inventory.Job) error {
	for i := len(j.Steps) - 1; i >= 0; i-- {
		s := &j.Steps[i]
		if s.State == "waiting" || s.State == "undone" {
			continue
		}
		err := w.undoStep(ctx, j, s)
		var fault *hostlink.Fault
		if errors.As(err, &fault) && fault.Code != hostlink.FaultStale {
			return w.inv.HoldStuck(ctx, j, fault.Code, fmt.Sprintf("%s: it can't be taken back: %s", s.What, fault.Message))
		}
		if err != nil {
			return err
		}
	}
	hosts := w.forgotten(ctx, j)
	state := "cancelled"
	if j.Error != "" {
		state = "failed"
	}
	if err := w.inv.EndJob(ctx, j, state, j.ErrorCode, j.Error); err != nil {
		return err
	}
	w.lookAgain(j, hosts)
	return nil
}

// undoStep takes one step back, in one transaction with its record where it is
// one of the inventory's.
func (w *Work) undoStep(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	if plan.OnHost(s.Kind) && !plan.Kinds[s.Kind].Final {
		h, err := w.inv.Host(ctx, s.HostID.String())
		if err != nil {
			return err
		}
		if h.ManagerID != nil {
			err = w.undoManaged(ctx, j, s, h)
		} else {
			err = w.agent(h).Undo(ctx, s.TaskID(), hostlink.TaskSpec{Job: j.ID.String(), Epoch: j.Epoch, Kind: s.Kind})
		}
		if err != nil {
			return err
		}
	}
	if s.Kind == plan.KindLend {
		if err := w.undoLending(ctx, j, s); err != nil {
			return err
		}
	}
	was := s.State
	s.State = "undone"
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.PutStep(ctx, tx, j.Epoch, s); err != nil {
			return err
		}
		switch {
		case s.Kind == plan.KindGiveIDs:
			return inventory.TakeAddressesBack(ctx, tx, j.ID)
		case s.Kind == plan.KindRecord && was == "done":
			return w.unrecord(ctx, tx, j, s)
		case was == "done":
			return w.noteEffect(ctx, tx, s, true)
		}
		return nil // a copy that was forgotten is found again by the survey
	})
}

// unrecord takes a copy that the job has made out of the inventory. One that it
// has changed or moved is read anew by the survey.
func (w *Work) unrecord(ctx context.Context, tx pgx.Tx, j *inventory.Job, s *inventory.Step) error {
	do, err := decode[plan.Record](s)
	if err != nil || do.Copy != "" {
		return err
	}
	return inventory.ForgetCopy(ctx, tx, copyOf(do).String(), "", j.Operation+" undone", j.UserName, j.Note, j.ID.String())
}

// done ends a job that was carried out; the hosts are looked at behind it.
func (w *Work) done(ctx context.Context, j *inventory.Job) error {
	hosts := w.forgotten(ctx, j)
	if err := w.rebuilt(ctx, j); err != nil {
		return err
	}
	if err := w.inv.EndJob(ctx, j, "done", "", ""); err != nil {
		return err
	}
	w.lookAgain(j, hosts)
	return nil
}

// rebuilt notes that a host has again what it had.
func (w *Work) rebuilt(ctx context.Context, j *inventory.Job) error {
	if j.Operation != "rebuild" {
		return nil
	}
	h, err := w.inv.Host(ctx, j.Subject)
	if err != nil {
		return err
	}
	return w.inv.InTx(ctx, func(tx pgx.Tx) error { return inventory.ForgetHad(ctx, tx, h.ID.String()) })
}

// Bounds of what is done at a job's end: it waits for the agents to forget it
// only so long, and for surveys not at all.
const (
	forgetTime = 3 * time.Second
	surveyTime = time.Minute
)

// forgotten lets the agents forget the job and returns the hosts that took part.
// An agent that is away keeps a note of the job, which does no harm.
func (w *Work) forgotten(ctx context.Context, j *inventory.Job) (hosts []*inventory.Host) {
	ctx, stop := context.WithTimeout(ctx, forgetTime)
	defer stop()
	seen := map[uuid.UUID]bool{}
	var all sync.WaitGroup
	for _, s := range j.Steps {
		if s.HostID == nil || seen[*s.HostID] || s.State == "waiting" {
			continue
		}
		seen[*s.HostID] = true
		h, err := w.inv.Host(ctx, s.HostID.String())
		if err != nil {
			w.log.Warn("tidy up after job", "job", j.ID, "host", s.Host, "error", err)
			continue
		}
		if hosts = append(hosts, h); h.ManagerID != nil {
			continue
		}
		all.Go(func() {
			if err := w.agent(h).Forget(ctx, j.ID.String(), j.Epoch); err != nil {
				w.log.Warn("tidy up after job", "job", j.ID, "host", h.Name, "error", err)
			}
		})
	}
	all.Wait()
	return hosts
}

// lookAgain surveys hosts behind a job's end.
func (w *Work) lookAgain(j *inventory.Job, hosts []*inventory.Host) {
	for _, h := range hosts {
		w.background(func(ctx context.Context) {
			ctx, stop := context.WithTimeout(ctx, surveyTime)
			defer stop()
			if _, err := w.Survey(ctx, h); err != nil && ctx.Err() == nil {
				w.log.Warn("look again after job", "job", j.ID, "host", h.Name, "error", err)
			}
		})
	}
}
