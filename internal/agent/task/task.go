// Package task runs what an agent is asked to do: tasks that survive a restart, are asked for any number of times and
// run once, and are obeyed only when the newest owner of their job asks.
package task

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// Kind is how one kind of task is carried out.
type Kind struct {
	// Do is called again from the start after a restart of the agent, and finds out by itself how far it was.
	Do func(ctx context.Context, t *Task) (any, error)
	// Undo takes everything back, also what Do left half-done.
	Undo func(ctx context.Context, t *Task) error
}

// Task is a piece of work that was asked for.
type Task struct {
	Intake *Intake     // of bytes that the caller's computer sends
	Limit  *disk.Limit // that it reads disks at

	ground *ground.Ground
	spec   hostlink.TaskSpec
	cancel context.CancelFunc
	ended  chan struct{} // closed when Do has returned

	mu     sync.Mutex
	state  hostlink.Task
	change chan struct{} // closed and replaced at each change
}

// ID of the task; the service gives it.
func (t *Task) ID() string { return t.state.ID }

// Job that the task belongs to.
func (t *Task) Job() string { return t.spec.Job }

// Staging is where unfinished files of the task's machine lie in a pool.
func (t *Task) Staging(pool string) string { return ground.PartDir(pool, t.spec.Job, t.spec.Part) }

// Ended is closed when the task is over, or was stopped.
func (t *Task) Ended() <-chan struct{} { return t.ended }

// Journal reads what the task has noted to go on from; it reports whether there is anything.
func (t *Task) Journal(into any) (bool, error) { return t.ground.Records.Get("journals", t.ID(), into) }

// Note writes what the task needs to go on after a restart of the agent.
func (t *Task) Note(journal any) error { return t.ground.Records.Put("journals", t.ID(), journal) }

// Unnote drops what was noted: the task begins anew.
func (t *Task) Unnote() error { return t.ground.Records.Drop("journals", t.ID()) }

type taskRecord struct {
	Spec  hostlink.TaskSpec `json:"spec"`
	State hostlink.Task     `json:"state"`
}

// Update changes what is told of the task.
func (t *Task) Update(f func(s *hostlink.Task)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f(&t.state)
	close(t.change)
	t.change = make(chan struct{})
}

// Snapshot is what is told of the task, with a channel that is closed when that changes.
func (t *Task) Snapshot() (hostlink.Task, <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.state, t.change
}

// Params decodes what the task was asked with. What into has no place for is left out.
func (t *Task) Params(into any) error {
	if err := json.Unmarshal(t.spec.Params, into); err != nil {
		return fmt.Errorf("parameters of %s: %w", t.spec.Kind, err)
	}
	return nil
}

// AllParams is Params for who is to do all that was asked: what into has no place for is an error. A service that is
// newer may ask for more than this agent knows, and half of it done would pass for the whole.
func (t *Task) AllParams(into any) error {
	d := json.NewDecoder(bytes.NewReader(t.spec.Params))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return &hostlink.Fault{Code: hostlink.FaultWrong, Message: fmt.Sprintf("parameters of %s: %v. If this agent "+
			"is older than the service, bring it up to date", t.spec.Kind, err)}
	}
	return nil
}

// NewID is an id that is the same at each try of the task.
func (t *Task) NewID(name string) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, []byte(t.state.ID+" "+name)).String()
}

// Progress adds bytes to what is done.
func (t *Task) Progress(bytes int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.state.Done += bytes
}

func (t *Task) save() error {
	s, _ := t.Snapshot()
	return t.ground.Records.Put("tasks", s.ID, taskRecord{t.spec, s})
}

// Tasks of an agent.
type Tasks struct {
	*ground.Ground
	kinds map[string]Kind
	mu    sync.Mutex
	byID  map[string]*Task
	ctx   context.Context
	stop  context.CancelFunc
	wg    sync.WaitGroup
}

// New knows the kinds of tasks, and has none yet.
func New(g *ground.Ground, kinds map[string]Kind) *Tasks {
	ts := &Tasks{Ground: g, kinds: kinds, byID: map[string]*Task{}}
	ts.ctx, ts.stop = context.WithCancel(context.Background())
	return ts
}

// Resume goes on with what was running when the agent ended.
func (ts *Tasks) Resume() error {
	kept, err := ground.Each(ts.Records, "tasks", func(id string, err error) taskRecord {
		ts.Log.Error("task not gone on with", "task", id, "error", err)
		job, _, _ := strings.Cut(id, ".")
		return taskRecord{Spec: hostlink.TaskSpec{Job: job}, State: hostlink.Task{ID: id, State: hostlink.TaskFailed,
			Error: err.Error()}}
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
			ts.Log.Error("task not gone on with", "task", id, "error", err)
			t.state.State, t.state.Error = hostlink.TaskFailed, err.Error()
			close(t.ended)
			continue
		}
		ts.run(t, w)
	}
	return nil
}

func (ts *Tasks) make(id string, spec hostlink.TaskSpec) *Task {
	t := &Task{ground: ts.Ground, spec: spec, Limit: disk.NewLimit(spec.Rate), change: make(chan struct{}),
		ended: make(chan struct{})}
	t.state = hostlink.Task{ID: id, Kind: spec.Kind, State: hostlink.TaskRunning}
	t.Intake = newIntake(t)
	return t
}

// kind is how tasks of a kind are carried out.
func (ts *Tasks) kind(name string) (Kind, error) {
	w, ok := ts.kinds[name]
	if !ok {
		return w, &hostlink.Fault{Code: hostlink.FaultUnknown,
			Message: fmt.Sprintf("this agent knows no task of the kind %q: update it", name)}
	}
	return w, nil
}

func (ts *Tasks) run(t *Task, w Kind) {
	ctx, cancel := context.WithCancel(ts.ctx)
	t.cancel = cancel
	ts.wg.Go(func() {
		defer close(t.ended)
		defer cancel()
		result, err := safely(ctx, t, w.Do)
		if ctx.Err() != nil { // cancelled, or the agent ends: nothing is concluded
			return
		}
		var raw json.RawMessage
		if err == nil {
			raw, err = json.Marshal(result)
		}
		t.Update(func(s *hostlink.Task) {
			s.Needs = nil
			if s.State, s.Result = hostlink.TaskDone, raw; err != nil {
				s.State, s.Error, s.Code = hostlink.TaskFailed, err.Error(), ground.CodeOf(err)
			}
		})
		if err := t.save(); err != nil {
			ts.Log.Error("end of task not kept", "task", t.state.ID, "error", err)
		}
	})
}

// safely makes a failure of a panic: a mistake in one task must not take the
// agent down, and down again each time it takes the task up.
func safely(ctx context.Context, t *Task, do func(context.Context, *Task) (any, error)) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			t.ground.Log.Error("task panicked", "task", t.state.ID, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("the agent made a mistake in the task %s: %v; its log tells more", t.spec.Kind, p)
		}
	}()
	return do(ctx, t)
}

// owned refuses callers that somebody newer has replaced.
func (ts *Tasks) owned(job string, epoch int64) error {
	ok, err := ts.Records.Epoch(job, epoch)
	if err == nil && !ok {
		err = &hostlink.Fault{Code: hostlink.FaultStale, Message: "a newer owner looks after this job"}
	}
	return err
}

// Start begins a task, or returns the one that has that id; one that was paused
// goes on. The tasks of a job follow one another: none begins behind one that is
// not done.
func (ts *Tasks) Start(id string, spec hostlink.TaskSpec) (*Task, error) {
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
			if s, _ := o.Snapshot(); o.spec.Job == spec.Job && s.State != hostlink.TaskDone {
				return nil, &hostlink.Fault{Code: hostlink.FaultWrong,
					Message: fmt.Sprintf("the task %s of this job comes first, and is %s", other, s.State)}
			}
		}
		t = ts.make(id, spec)
	} else if s, _ := t.Snapshot(); s.State == hostlink.TaskPaused || s.State == hostlink.TaskFailed &&
		spec.Try > t.spec.Try {
		<-t.ended
		t = ts.make(id, spec) // its journal says how far it was
		t.state.Done = s.Done
	} else {
		t.Limit.Set(spec.Rate) // which may be another by now
		return t, nil
	}
	if err := t.save(); err != nil {
		return nil, err
	}
	ts.byID[id] = t
	ts.run(t, w)
	return t, nil
}

// Pause stops a task where it is. One that has ended, or was never heard of, is
// left as it is.
func (ts *Tasks) Pause(id string, spec hostlink.TaskSpec) error {
	ts.mu.Lock()
	err := ts.owned(spec.Job, spec.Epoch)
	t := ts.byID[id]
	ts.mu.Unlock()
	if err != nil || t == nil || t.cancel == nil {
		return err
	}
	t.cancel()
	t.Intake.close()
	if err := t.over(); err != nil {
		return err
	}
	if s, _ := t.Snapshot(); s.State != hostlink.TaskRunning {
		return nil
	}
	t.Update(func(s *hostlink.Task) { s.State, s.Needs = hostlink.TaskPaused, nil })
	return t.save()
}

// stopTime is how long a task may take to notice that it is to stop.
const stopTime = 20 * time.Second

// over waits until do has returned.
func (t *Task) over() error {
	select {
	case <-t.ended:
		return nil
	case <-time.After(stopTime):
		return &hostlink.Fault{Code: "busy", Message: fmt.Sprintf("the task %s does not stop: something that it "+
			"reads or "+
			"writes does not answer", t.state.ID)}
	}
}

// Get finds a task.
func (ts *Tasks) Get(id string) (*Task, error) {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	if t := ts.byID[id]; t != nil {
		return t, nil
	}
	return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "there is no task " + id}
}

// Undo stops a task and takes back what it did. One that was never heard of
// is undone by doing nothing.
func (ts *Tasks) Undo(id string, spec hostlink.TaskSpec) error {
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
	t.Intake.close()
	if err := t.over(); err != nil {
		return err
	}
	if w, err := ts.kind(t.spec.Kind); err == nil { // one of an unknown kind has done nothing
		undo := func(ctx context.Context, t *Task) (any, error) { return nil, w.Undo(ctx, t) }
		if _, err := safely(context.Background(), t, undo); err != nil {
			return fmt.Errorf("undo %s: %w", t.spec.Kind, err)
		}
	}
	ts.mu.Lock()
	defer ts.mu.Unlock()
	delete(ts.byID, id)
	return errors.Join(ts.Records.Drop("tasks", id), ts.Records.Drop("journals", id))
}

// Forget drops all notes of a job that is over, and its working directories. What still runs of it ends first: it would
// write both again.
func (ts *Tasks) Forget(job string, epoch int64) error {
	ts.mu.Lock()
	err := ts.owned(job, epoch)
	of := map[string]*Task{}
	for id, t := range ts.byID {
		if t.spec.Job == job {
			of[id] = t
		}
	}
	ts.mu.Unlock()
	if err != nil {
		return err
	}
	for _, t := range of {
		if t.cancel != nil {
			t.cancel()
		}
		t.Intake.close()
	}
	for _, t := range of {
		if err := t.over(); err != nil {
			return err
		}
	}
	ts.mu.Lock()
	defer ts.mu.Unlock()
	var errs []error
	for id := range of {
		delete(ts.byID, id)
		errs = append(errs, ts.Records.Drop("tasks", id), ts.Records.Drop("journals", id))
	}
	for _, p := range ts.Config.Pools {
		errs = append(errs, ts.clear(filepath.Join(p.Path, ground.WorkDir), job))
		_ = ts.Door.Remove(filepath.Join(p.Path, ground.WorkDir)) // only when it is empty
	}
	return errors.Join(append(errs, ts.Records.Drop("epochs", job))...)
}

// clear removes what a job has left in a working directory.
func (ts *Tasks) clear(dir, job string) error {
	entries, err := ts.Door.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // or the pool is away: a survey tells of it once it is back
	}
	if err != nil {
		return err
	}
	var errs []error
	for _, e := range entries {
		if ground.JobOf(e.Name()) == job {
			errs = append(errs, ts.Door.RemoveAll(filepath.Join(dir, e.Name())))
		}
	}
	return errors.Join(errs...)
}

// Wait returns when the task has ended, needs bytes, or after most.
func (t *Task) Wait(ctx context.Context, most time.Duration) hostlink.Task {
	timer := time.NewTimer(most)
	defer timer.Stop()
	for {
		s, change := t.Snapshot()
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

// Close stops all tasks where they are; they go on at the next start.
func (ts *Tasks) Close() {
	ts.stop()
	ts.mu.Lock()
	for _, t := range ts.byID {
		t.Intake.close()
	}
	ts.mu.Unlock()
	ts.wg.Wait()
}
