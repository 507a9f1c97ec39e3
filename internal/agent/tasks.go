package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
)

// taskError is a failure with the code of a finding.
type taskError struct{ code, message string }

func (e *taskError) Error() string { return e.message }

// codeOf finds the finding that an error is; "" when none fits.
func codeOf(err error) string {
	var te *taskError
	var p *ovf.Problem
	switch {
	case errors.As(err, &te):
		return te.code
	case errors.As(err, &p):
		return p.Code
	case errors.Is(err, unix.ENOSPC), errors.Is(err, unix.EDQUOT):
		return "space.short"
	case errors.Is(err, unix.EROFS):
		return "pool.read-only"
	case errors.Is(err, disk.ErrOutside):
		return "file.outside"
	case errors.Is(err, disk.ErrSpecial):
		return "file.special"
	case errors.Is(err, disk.ErrDamaged):
		return "disk.damaged"
	case errors.Is(err, disk.ErrVariant), errors.Is(err, disk.ErrFormat):
		return "disk.format-unknown"
	case errors.Is(err, disk.ErrEncrypted):
		return "disk.encrypted"
	}
	return ""
}

// work is one kind of task: do is called again from the start after a restart
// of the agent and finds out by itself how far it was; undo takes everything
// back, also what do left half-done.
type work struct {
	do   func(ctx context.Context, t *task) (any, error)
	undo func(t *task) error
}

// task is a piece of work that was asked for.
type task struct {
	a       *Agent
	spec    hostlink.TaskSpec
	cancel  context.CancelFunc
	ended   chan struct{} // closed when do has returned
	intake  *intake
	handing handing

	mu     sync.Mutex
	state  hostlink.Task
	change chan struct{} // closed and replaced at each change
}

type taskRecord struct {
	Spec  hostlink.TaskSpec `json:"spec"`
	State hostlink.Task     `json:"state"`
}

func (t *task) update(f func(s *hostlink.Task)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f(&t.state)
	close(t.change)
	t.change = make(chan struct{})
}

func (t *task) snapshot() (hostlink.Task, <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.state, t.change
}

func (t *task) params(into any) error {
	if err := json.Unmarshal(t.spec.Params, into); err != nil {
		return fmt.Errorf("parameters of %s: %w", t.spec.Kind, err)
	}
	return nil
}

// newID is an id that is the same at each try of the task.
func (t *task) newID(name string) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, []byte(t.state.ID+" "+name)).String()
}

func (t *task) progress(bytes int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.state.Done += bytes
}

func (t *task) save() error {
	s, _ := t.snapshot()
	return t.a.store.put("tasks", s.ID, taskRecord{t.spec, s})
}

// tasks of an agent.
type tasks struct {
	a     *Agent
	kinds map[string]work
	mu    sync.Mutex
	byID  map[string]*task
	ctx   context.Context
	stop  context.CancelFunc
	wg    sync.WaitGroup
}

func newTasks(a *Agent) *tasks {
	ts := &tasks{a: a, byID: map[string]*task{}}
	ts.ctx, ts.stop = context.WithCancel(context.Background())
	ts.kinds = map[string]work{
		plan.KindStop:      {doStop, undoStop},
		plan.KindStart:     {doStart, undoStart},
		plan.KindFetchDisk: {doFetch, undoFetch},
		plan.KindPlace:     {doPlace, undoPlace},
		plan.KindPack:      {doPack, undoPack},
		plan.KindHandOut:   {doHandOut, func(*task) error { return nil }},
		plan.KindCarry:     {doCarry, undoCarry},
		plan.KindRelink:    {doRelink, undoRelink},
		plan.KindMend:      {doMend, func(*task) error { return nil }},
		plan.KindLayer:     {doLayer, undoLayer},
		plan.KindAlter:     {doAlter, undoAlter},
		plan.KindDelist:    {doDelist, undoDelist},
		plan.KindTakeAway:  {doTakeAway, undoTakeAway},
		plan.KindSend:      {doSend, func(*task) error { return nil }},
		plan.KindUseAhead:  {doUseAhead, func(*task) error { return nil }},

		plan.KindMakeSwitch: {doMakeSwitch, undoMakeSwitch},
		plan.KindDropSwitch: {doDropSwitch, undoDropSwitch},
		plan.KindKeepSwitch: {doKeepSwitch, func(*task) error { return nil }},
	}
	return ts
}

// resume goes on with what was running when the agent ended.
func (ts *tasks) resume() error {
	kept, err := each(ts.a.store, "tasks", func(id string, err error) taskRecord {
		ts.a.log.Error("task not gone on with", "task", id, "error", err)
		job, _, _ := strings.Cut(id, ".")
		return taskRecord{Spec: hostlink.TaskSpec{Job: job}, State: hostlink.Task{ID: id, State: hostlink.TaskFailed, Error: err.Error()}}
	})
	if err != nil {
		return err
	}
	for id, r := range kept {
		t := ts.make(id, r.Spec)
		t.state = r.State
		ts.byID[id] = t
		if r.State.State != hostlink.TaskRunning {
			close(t.ended)
			continue
		}
		w, err := ts.kind(r.Spec.Kind)
		if err != nil { // of a newer agent, say: the others go on
			ts.a.log.Error("task not gone on with", "task", id, "error", err)
			t.state.State, t.state.Error = hostlink.TaskFailed, err.Error()
			close(t.ended)
			continue
		}
		ts.run(t, w)
	}
	return nil
}

func (ts *tasks) make(id string, spec hostlink.TaskSpec) *task {
	t := &task{a: ts.a, spec: spec, change: make(chan struct{}), ended: make(chan struct{})}
	t.state = hostlink.Task{ID: id, Kind: spec.Kind, State: hostlink.TaskRunning}
	t.intake = newIntake(t)
	return t
}

// kind is how tasks of a kind are carried out.
func (ts *tasks) kind(name string) (work, error) {
	w, ok := ts.kinds[name]
	if !ok {
		return w, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: fmt.Sprintf("this agent knows no task of the kind %q: update it", name)}
	}
	return w, nil
}

func (ts *tasks) run(t *task, w work) {
	ctx, cancel := context.WithCancel(ts.ctx)
	t.cancel = cancel
	ts.wg.Go(func() {
		defer close(t.ended)
		defer cancel()
		result, err := safely(ctx, t, w.do)
		if ctx.Err() != nil { // cancelled, or the agent ends: nothing is concluded
			return
		}
		var raw json.RawMessage
		if err == nil {
			raw, err = json.Marshal(result)
		}
		t.update(func(s *hostlink.Task) {
			s.Needs = nil
			if s.State, s.Result = hostlink.TaskDone, raw; err != nil {
				s.State, s.Error, s.Code = hostlink.TaskFailed, err.Error(), codeOf(err)
			}
		})
		if err := t.save(); err != nil {
			ts.a.log.Error("end of task not kept", "task", t.state.ID, "error", err)
		}
	})
}

// safely makes a failure of a panic: a mistake in one task must not take the
// agent down, and down again each time it takes the task up.
func safely(ctx context.Context, t *task, do func(context.Context, *task) (any, error)) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			t.a.log.Error("task panicked", "task", t.state.ID, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("the agent made a mistake in the task %s: %v; its log tells more", t.spec.Kind, p)
		}
	}()
	return do(ctx, t)
}

// owned refuses callers that somebody newer has replaced.
func (ts *tasks) owned(job string, epoch int64) error {
	ok, err := ts.a.store.epoch(job, epoch)
	if err == nil && !ok {
		err = &hostlink.Fault{Code: hostlink.FaultStale, Message: "a newer owner looks after this job"}
	}
	return err
}

// start begins a task, or returns the one that has that id; one that was paused
// goes on. The tasks of a job follow one another: none begins behind one that is
// not done.
func (ts *tasks) start(id string, spec hostlink.TaskSpec) (*task, error) {
	if !strings.HasPrefix(id, spec.Job+".") || strings.ContainsAny(id, "/\\") {
		return nil, &hostlink.Fault{Code: hostlink.FaultWrong, Message: "a task's id begins with that of its job"}
	}
	ts.mu.Lock()
	defer ts.mu.Unlock()
	if err := ts.owned(spec.Job, spec.Epoch); err != nil {
		return nil, err
	}
	w, err := ts.kind(spec.Kind)
	if err != nil {
		return nil, err
	}
	t := ts.byID[id]
	if t == nil {
		for other, o := range ts.byID {
			if s, _ := o.snapshot(); o.spec.Job == spec.Job && s.State != hostlink.TaskDone {
				return nil, &hostlink.Fault{Code: hostlink.FaultWrong, Message: fmt.Sprintf("the task %s of this job comes first, and is %s", other, s.State)}
			}
		}
		t = ts.make(id, spec)
	} else if s, _ := t.snapshot(); s.State == hostlink.TaskPaused || s.State == hostlink.TaskFailed && spec.Try > t.spec.Try {
		<-t.ended
		t = ts.make(id, spec) // its journal says how far it was
		t.state.Done = s.Done
	} else {
		return t, nil
	}
	if err := t.save(); err != nil {
		return nil, err
	}
	ts.byID[id] = t
	ts.run(t, w)
	return t, nil
}

// pause stops a task where it is. One that has ended, or was never heard of, is
// left as it is.
func (ts *tasks) pause(id string, spec hostlink.TaskSpec) error {
	ts.mu.Lock()
	err := ts.owned(spec.Job, spec.Epoch)
	t := ts.byID[id]
	ts.mu.Unlock()
	if err != nil || t == nil || t.cancel == nil {
		return err
	}
	t.cancel()
	t.intake.close()
	if err := t.over(); err != nil {
		return err
	}
	if s, _ := t.snapshot(); s.State != hostlink.TaskRunning {
		return nil
	}
	t.update(func(s *hostlink.Task) { s.State, s.Needs = hostlink.TaskPaused, nil })
	return t.save()
}

// stopTime is how long a task may take to notice that it is to stop.
const stopTime = 20 * time.Second

// over waits until do has returned.
func (t *task) over() error {
	select {
	case <-t.ended:
		return nil
	case <-time.After(stopTime):
		return &hostlink.Fault{Code: "busy", Message: fmt.Sprintf("the task %s does not stop: something that it reads or writes does not answer", t.state.ID)}
	}
}

func (ts *tasks) get(id string) (*task, error) {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	if t := ts.byID[id]; t != nil {
		return t, nil
	}
	return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "there is no task " + id}
}

// undo stops a task and takes back what it did. One that was never heard of
// is undone by doing nothing.
func (ts *tasks) undo(id string, spec hostlink.TaskSpec) error {
	ts.mu.Lock()
	err := ts.owned(spec.Job, spec.Epoch)
	t := ts.byID[id]
	ts.mu.Unlock()
	if err != nil || t == nil {
		return err
	}
	if t.cancel != nil {
		t.cancel()
	}
	t.intake.close()
	if err := t.over(); err != nil {
		return err
	}
	if w, err := ts.kind(t.spec.Kind); err == nil { // one of an unknown kind has done nothing
		undo := func(context.Context, *task) (any, error) { return nil, w.undo(t) }
		if _, err := safely(context.Background(), t, undo); err != nil {
			return fmt.Errorf("undo %s: %w", t.spec.Kind, err)
		}
	}
	ts.mu.Lock()
	defer ts.mu.Unlock()
	delete(ts.byID, id)
	return errors.Join(ts.a.store.drop("tasks", id), ts.a.store.drop("journals", id))
}

// forget drops all notes of a job that is over, and its working directories.
func (ts *tasks) forget(job string, epoch int64) error {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	if err := ts.owned(job, epoch); err != nil {
		return err
	}
	var errs []error
	for id, t := range ts.byID {
		if t.spec.Job == job {
			if t.cancel != nil {
				t.cancel()
			}
			delete(ts.byID, id)
			errs = append(errs, ts.a.store.drop("tasks", id), ts.a.store.drop("journals", id))
		}
	}
	for _, p := range ts.a.config.Pools {
		errs = append(errs, ts.a.door.RemoveAll(stagingDir(p.Path, job)))
		ts.a.door.Remove(filepath.Join(p.Path, workDir)) // only when it is empty
	}
	return errors.Join(append(errs, ts.a.store.drop("epochs", job))...)
}

// wait returns when the task has ended, needs bytes, or after most.
func (t *task) wait(ctx context.Context, most time.Duration) hostlink.Task {
	timer := time.NewTimer(most)
	defer timer.Stop()
	for {
		s, change := t.snapshot()
		if s.State != hostlink.TaskRunning || s.Needs != nil {
			return s
		}
		select {
		case <-change:
		case <-timer.C:
			return s
		case <-ctx.Done():
			return s
		}
	}
}

func (ts *tasks) close() {
	ts.stop()
	ts.mu.Lock()
	for _, t := range ts.byID {
		t.intake.close()
	}
	ts.mu.Unlock()
	ts.wg.Wait()
}

// stagingDir is where a job's unfinished files lie in a pool.
func stagingDir(pool, job string) string { return filepath.Join(pool, workDir, job) }
