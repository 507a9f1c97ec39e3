// Package do carries out what an agent is asked to do, one file for each kind of task. A task finds out by itself how
// far it was before a restart, and takes back what it did, also where that is half done.
package do

import (
	"context"
	"sync"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/agent/sight"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
)

// Worker carries tasks out.
type Worker struct {
	*ground.Ground
	*sight.Sight
	// Dialer reaches other agents.
	Dialer func() *hostlink.Dialer

	switches switches
	handings sync.Map // id of a task → *handing
}

// New makes a worker that sees with sight.
func New(g *ground.Ground, s *sight.Sight, dialer func() *hostlink.Dialer) *Worker {
	w := &Worker{Ground: g, Sight: s, Dialer: dialer}
	w.switches.w = w
	return w
}

// Restore gives the hypervisor back what was made at this host and it has forgotten: switches, and the machines that
// ran, which are started again.
func (w *Worker) Restore(ctx context.Context) error {
	if err := w.switches.restore(ctx); err != nil {
		return err
	}
	if _, last := w.Driver.(driver.Lasting); last {
		return nil // what ran goes on, and what has ended meanwhile did so by itself
	}
	for folder, e := range w.Records.Register() {
		if e.Running {
			if err := w.begin(ctx, folder, ""); err != nil {
				w.Log.Warn("machine could not be started again", "folder", folder, "error", err)
			}
		}
	}
	return nil
}

// Close ends what waits.
func (w *Worker) Close() { w.switches.close() }

// readWhileRunning is why a machine that runs is not read.
const readWhileRunning = "its disks change while they are read"

// run is a task with the worker that carries it out.
type run struct {
	*Worker
	*task.Task
	undoes bool
}

// Params are all that the task was asked with, where it is to be done; what this agent knows of that, where it is
// undone: the rest it has not done.
func (t *run) Params(into any) error {
	if t.undoes {
		return t.Task.Params(into)
	}
	return t.AllParams(into)
}

// row is how a kind of task is carried out.
type row struct {
	do   func(ctx context.Context, t *run) (any, error)
	undo func(ctx context.Context, t *run) error
}

func nothing(context.Context, *run) error { return nil }

// rows is the table of the kinds of tasks.
var rows = map[string]row{
	plan.KindStop:    {doStop, undoPower},
	plan.KindStart:   {doStart, undoPower},
	plan.KindPause:   {doPause, undoPower},
	plan.KindSuspend: {doSuspend, undoPower},
	plan.KindAdapt:   {doAdapt, undoAdapt},
	plan.KindFreeze:  {doFreeze, undoFreeze},
	plan.KindCommit:  {doCommit, nothing},
	plan.KindGoBack:  {doGoBack, undoGoBack},

	plan.KindDropSnapshot:  {doDropSnapshot, undoDropSnapshot},
	plan.KindMergeSnapshot: {doMergeSnapshot, nothing},
	plan.KindFetchDisk:     {doFetch, undoFetch},
	plan.KindPlace:         {doPlace, undoPlace},
	plan.KindPack:          {doPack, undoPack},
	plan.KindHandOut:       {doHandOut, nothing},
	plan.KindCarry:         {doCarry, undoCarry},
	plan.KindFollow:        {doFollow, nothing},
	plan.KindRelink:        {doRelink, undoRelink},
	plan.KindMend:          {doMend, nothing},
	plan.KindLayer:         {doLayer, undoLayer},
	plan.KindAlter:         {doAlter, undoAlter},
	plan.KindDelist:        {doDelist, undoDelist},
	plan.KindFence:         {doFence, undoFence},
	plan.KindFreePool:      {doFreePool, undoPoolMark},
	plan.KindTakePool:      {doTakePool, undoPoolMark},
	plan.KindTakeAway:      {doTakeAway, undoTakeAway},
	plan.KindGiveBack:      {doGiveBack, undoGiveBack},
	plan.KindSend:          {doSend, nothing},
	plan.KindUseAhead:      {doUseAhead, nothing},

	plan.KindMakeSwitch: {doMakeSwitch, undoMakeSwitch},
	plan.KindDropSwitch: {doDropSwitch, undoDropSwitch},
	plan.KindKeepSwitch: {doKeepSwitch, nothing},
}

// Kinds are the kinds of tasks that the worker carries out.
func (w *Worker) Kinds() map[string]task.Kind {
	kinds := map[string]task.Kind{}
	for name, r := range rows {
		kinds[name] = task.Kind{
			Do: func(ctx context.Context, t *task.Task) (any, error) {
				defer w.seenAnew(t)
				return r.do(ctx, &run{Worker: w, Task: t})
			},
			Undo: func(ctx context.Context, t *task.Task) error {
				defer w.seenAnew(t)
				return r.undo(ctx, &run{Worker: w, Task: t, undoes: true})
			},
		}
	}
	return kinds
}

// seenAnew has the machines that a task is about read anew at the next look.
func (w *Worker) seenAnew(t *task.Task) {
	type folder struct{ Folder string }
	var about struct {
		folder
		With []folder
	}
	if t.Params(&about) != nil {
		return
	}
	for _, f := range append(about.With, about.folder) {
		if f.Folder != "" {
			w.Anew(f.Folder)
		}
	}
}
