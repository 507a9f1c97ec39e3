package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
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

// Work is one tick: it moves the job on for a few seconds at most and asks to
// be called again until the job is over.
func (s *steerer) Work(ctx context.Context, r *river.Job[steerArgs]) error {
	id, err := uuid.Parse(r.Args.Job)
	if err != nil {
		return river.JobCancel(err)
	}
	again, err := s.w.tick(ctx, id, r.Args.Epoch)
	if err != nil {
		var fault *hostlink.Fault
		if errors.As(err, &fault) && fault.Code == hostlink.FaultStale {
			return nil
		}
		s.w.log.Warn("steer job", "job", id, "error", err)
		again = 2 * time.Second // the database or an agent is away for a moment
	}
	if again > 0 {
		return river.JobSnooze(again)
	}
	return nil
}

// tick returns after how long it wants to be called again; 0: never.
func (w *Work) tick(ctx context.Context, id uuid.UUID, epoch int64) (time.Duration, error) {
	until := time.Now().Add(tickTime)
	j, err := w.inv.TakeJob(ctx, id, epoch)
	if j == nil || err != nil {
		return 0, err
	}
	for first := true; time.Now().Before(until); first = false {
		if !first {
			if mine, err := w.inv.KeepJob(ctx, j); !mine || err != nil {
				return 0, err
			}
		}
		if j.Cancel || j.ErrorCode != "" || j.Error != "" {
			return w.undo(ctx, j)
		}
		step := next(j)
		if step == nil {
			return 0, w.done(ctx, j)
		}
		pause, err := w.advance(ctx, j, step)
		var failed *failure
		switch {
		case errors.As(err, &failed):
			step.State = "failed"
			if err := w.inv.UpdateStep(ctx, j.Epoch, step); err != nil {
				return 0, err
			}
			if err := w.inv.FailWith(ctx, j, failed.code, fmt.Sprintf("%s: %s", step.What, failed.message)); err != nil {
				return 0, err
			}
		case err != nil:
			return 0, err
		case pause > 0:
			return pause, nil
		}
	}
	return time.Millisecond, nil
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

// advance moves a step on. A pause asks to be called again later.
func (w *Work) advance(ctx context.Context, j *inventory.Job, s *inventory.Step) (time.Duration, error) {
	if s.State == "waiting" {
		s.State = "working"
		if err := w.inv.UpdateStep(ctx, j.Epoch, s); err != nil {
			return 0, err
		}
	}
	switch s.Kind {
	case plan.KindGiveIDs:
		return 0, w.giveIDs(ctx, j, s)
	case plan.KindRecord:
		return 0, w.record(ctx, j, s)
	case plan.KindForget:
		return 0, w.forget(ctx, j, s)
	case plan.KindNoteAhead:
		return 0, w.noteAhead(ctx, j, s)
	case plan.KindLend:
		return w.lending(ctx, j, s)
	}
	return w.steerTask(ctx, j, s)
}

// steerTask starts the step's task unless it is there, looks at it and records.
func (w *Work) steerTask(ctx context.Context, j *inventory.Job, s *inventory.Step) (time.Duration, error) {
	h, err := w.inv.Host(ctx, s.HostID.String())
	if err != nil {
		return 0, err
	}
	if h.ManagerID != nil {
		return w.managed(ctx, j, s, h)
	}
	params, err := w.taskParams(ctx, j, s, h)
	if err != nil {
		return 0, err
	}
	raw, err := json.Marshal(params)
	if err != nil {
		return 0, err
	}
	agent := w.agent(h)
	_, err = agent.Start(ctx, s.TaskID(), hostlink.TaskSpec{Job: j.ID.String(), Epoch: j.Epoch, Kind: s.Kind, Params: raw})
	if err == nil {
		return w.watchTask(ctx, j, s, agent)
	}
	var fault *hostlink.Fault
	if errors.As(err, &fault) && fault.Code != hostlink.FaultStale {
		return 0, &failure{fault.Code, fault.Message}
	}
	return 0, err
}

const lookEvery = time.Second

func (w *Work) watchTask(ctx context.Context, j *inventory.Job, s *inventory.Step, agent *hostlink.Host) (time.Duration, error) {
	t, err := agent.Wait(ctx, s.TaskID(), lookEvery)
	if err != nil {
		return 0, err
	}
	switch t.State {
	case hostlink.TaskFailed:
		return 0, &failure{t.Code, t.Error}
	case hostlink.TaskDone:
		s.State, s.Result, s.Done = "done", t.Result, max(s.Bytes, t.Done)
		s.Bytes = max(s.Bytes, t.Done)
		return 0, w.inv.UpdateStep(ctx, j.Epoch, s)
	}
	if t.Done != s.Done {
		s.Done = t.Done
		s.Bytes = max(s.Bytes, t.Done)
		if err := w.inv.UpdateStep(ctx, j.Epoch, s); err != nil {
			return 0, err
		}
	}
	if t.Needs != nil { // bytes come from elsewhere: nothing to hurry for
		return lookEvery / 2, nil
	}
	return time.Millisecond, nil
}

// giveIDs renews identity facets, in one transaction with the step's record.
func (w *Work) giveIDs(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	do, err := decode[plan.GiveIDs](s)
	if err != nil {
		return err
	}
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
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

// undo takes the steps back, the last one first, then ends the job.
func (w *Work) undo(ctx context.Context, j *inventory.Job) (time.Duration, error) {
	for i := len(j.Steps) - 1; i >= 0; i-- {
		s := &j.Steps[i]
		if s.State == "waiting" || s.State == "undone" {
			continue
		}
		if plan.OnHost(s.Kind) {
			h, err := w.inv.Host(ctx, s.HostID.String())
			if err != nil {
				return 0, err
			}
			if h.ManagerID != nil {
				err = w.undoManaged(ctx, j, s, h)
			} else {
				err = w.agent(h).Undo(ctx, s.TaskID(), hostlink.TaskSpec{Job: j.ID.String(), Epoch: j.Epoch, Kind: s.Kind})
			}
			if err != nil {
				return 0, err
			}
		}
		if s.Kind == plan.KindLend {
			if err := w.undoLending(ctx, j, s); err != nil {
				return 0, err
			}
		}
		if s.Kind == plan.KindGiveIDs {
			if err := w.inv.InTx(ctx, func(tx pgx.Tx) error { return inventory.TakeAddressesBack(ctx, tx, j.ID) }); err != nil {
				return 0, err
			}
		}
		s.State = "undone"
		if err := w.inv.UpdateStep(ctx, j.Epoch, s); err != nil {
			return 0, err
		}
	}
	w.tidy(ctx, j)
	if j.Error != "" {
		return 0, w.inv.EndJob(ctx, j, "failed", j.ErrorCode, j.Error)
	}
	return 0, w.inv.EndJob(ctx, j, "cancelled", "", "")
}

// done ends a job that was carried out. What its last step has recorded is known
// already; for all else the hosts are asked first.
func (w *Work) done(ctx context.Context, j *inventory.Job) error {
	if last := len(j.Steps) - 1; last < 0 || j.Steps[last].Kind != plan.KindRecord && j.Steps[last].Kind != plan.KindForget {
		w.tidy(ctx, j)
		if err := w.rebuilt(ctx, j); err != nil {
			return err
		}
		return w.inv.EndJob(ctx, j, "done", "", "")
	}
	hosts := w.forgotten(ctx, j)
	if err := w.rebuilt(ctx, j); err != nil {
		return err
	}
	if err := w.inv.EndJob(ctx, j, "done", "", ""); err != nil {
		return err
	}
	w.lookAgain(ctx, j, hosts)
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

// tidy lets the agents forget the job, and looks at the hosts once more. An
// agent that is away keeps a note of the job, which does no harm.
func (w *Work) tidy(ctx context.Context, j *inventory.Job) {
	w.lookAgain(ctx, j, w.forgotten(ctx, j))
}

// forgotten lets the agents forget the job and returns the hosts that took part.
func (w *Work) forgotten(ctx context.Context, j *inventory.Job) (hosts []*inventory.Host) {
	seen := map[uuid.UUID]bool{}
	for _, s := range j.Steps {
		if s.HostID == nil || seen[*s.HostID] || s.State == "waiting" {
			continue
		}
		seen[*s.HostID] = true
		h, err := w.inv.Host(ctx, s.HostID.String())
		if err == nil {
			hosts = append(hosts, h)
		}
		if err == nil && h.ManagerID == nil {
			err = w.agent(h).Forget(ctx, j.ID.String(), j.Epoch)
		}
		if err != nil {
			w.log.Warn("tidy up after job", "job", j.ID, "host", s.Host, "error", err)
		}
	}
	return hosts
}

func (w *Work) lookAgain(ctx context.Context, j *inventory.Job, hosts []*inventory.Host) {
	for _, h := range hosts {
		if _, err := w.Survey(ctx, h); err != nil {
			w.log.Warn("look again after job", "job", j.ID, "host", h.Name, "error", err)
		}
	}
}

// lookoutArgs is the survey of all hosts that comes round by itself.
type lookoutArgs struct{}

func (lookoutArgs) Kind() string { return "lookout" }

type lookout struct {
	river.WorkerDefaults[lookoutArgs]
	w *Work
}

func (*lookout) Timeout(*river.Job[lookoutArgs]) time.Duration { return 10 * time.Minute }

func (l *lookout) Work(ctx context.Context, _ *river.Job[lookoutArgs]) error {
	if err := l.w.inv.PruneEvents(ctx, keepEvents); err != nil {
		return err
	}
	_, err := l.w.SurveyAll(ctx, nil, false)
	return err
}

// Surveyed is what became of one host's survey.
type Surveyed struct {
	Host    string             `json:"host"`
	Changes []inventory.Change `json:"changes"`
	Error   string             `json:"error"`
}

const surveysAtOnce = 32

// SurveyAll surveys the hosts named, or all. Hosts that don't answer are told,
// and are no error. tell is for somebody who asks: what has been noticed since
// the last time that somebody did is told, whoever noticed it.
func (w *Work) SurveyAll(ctx context.Context, names []string, tell bool) ([]Surveyed, error) {
	out := []Surveyed{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	var still, asked []uuid.UUID // still: nothing has changed there
	slots := make(chan struct{}, surveysAtOnce)
	look := func(h inventory.Host) error {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			s := Surveyed{Host: h.Name}
			changed, _, err := w.survey(ctx, &h)
			if err != nil {
				s.Error = err.Error()
			} else if !changed {
				mu.Lock()
				still = append(still, h.ID)
				mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			asked = append(asked, h.ID)
			if names == nil && s.Error == "" {
				return // of fifty thousand hosts, those with something to tell
			}
			s.Changes = []inventory.Change{}
			out = append(out, s)
		})
		return ctx.Err()
	}
	var err error
	var managers []Surveyed
	var managersErr error
	if names == nil {
		wg.Go(func() { managers, managersErr = w.surveyManagers(ctx) })
		err = w.inv.AllHosts(ctx, look)
	}
	for _, n := range names {
		if m, e := w.inv.Manager(ctx, n); e == nil {
			s := w.surveyOne(ctx, m)
			s.Changes = []inventory.Change{} // told below, with all the others
			managers = append(managers, s)
			hosts, e := w.inv.ManagedHosts(ctx, m)
			if err = e; err != nil {
				break
			}
			mu.Lock()
			for _, h := range hosts {
				asked = append(asked, h.ID)
			}
			mu.Unlock()
			continue
		}
		var h *inventory.Host
		if h, err = w.inv.Host(ctx, n); err != nil {
			break
		}
		if err = look(*h); err != nil {
			break
		}
	}
	wg.Wait()
	err = errors.Join(err, managersErr)
	for _, s := range managers {
		if s.Error != "" || names != nil {
			out = append(out, s)
		}
	}
	if len(still) > 0 {
		err = errors.Join(err, w.inv.StillThere(ctx, still))
	}
	if !tell || err != nil {
		return out, err
	}
	if names == nil {
		asked = nil // all
	}
	changes, err := w.inv.Tell(ctx, asked)
	for _, c := range changes {
		at := slices.IndexFunc(out, func(s Surveyed) bool { return s.Host == c.Host })
		if at < 0 {
			at = len(out)
			out = append(out, Surveyed{Host: c.Host})
		}
		out[at].Changes = append(out[at].Changes, c)
	}
	return out, err
}
