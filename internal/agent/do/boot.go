package do

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
)

// StartWithHost starts the machines that are marked for it, in their order, when the computer was started since the
// agent ran last. It returns when all were started, or ctx ends.
func (w *Worker) StartWithHost(ctx context.Context) {
	if _, lasts := w.Driver.(driver.Lasting); !lasts {
		return // what ran was started again already
	}
	boot, err := door.Boot()
	if err != nil {
		w.Log.Error("whether the computer was started anew is not known: no machines are started with it", "error", err)
		return
	}
	w.startWithHost(ctx, boot)
}

// marked is a machine that starts with its host.
type marked struct {
	folder string
	m      *machine.Machine
}

func (w *Worker) startWithHost(ctx context.Context, boot string) {
	var last string
	if _, err := w.Records.Get("boot", "id", &last); err != nil {
		w.Log.Error("which start of the computer was the last is not known", "error", err)
	}
	if err := w.Records.Put("boot", "id", boot); err != nil {
		w.Log.Error("this start of the computer could not be noted: no machines are started with it", "error", err)
		return // else they would be started with each start of the agent
	}
	if last == boot || last == "" { // nobody has marked one before the agent's first start
		return
	}
	for left := w.marked(); len(left) > 0 && ctx.Err() == nil; {
		held := slices.DeleteFunc(left, func(k marked) bool { return !w.startMarked(ctx, k) })
		if left = held; len(left) > 0 {
			rest(ctx, heldAgain)
		}
	}
}

// heldAgain is when a machine is looked at again that was held still when it was to start.
const heldAgain = 2 * time.Second

func rest(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// startMarked starts a machine with its host. It reports whether a job keeps it still now, so that it is to be tried
// again.
func (w *Worker) startMarked(ctx context.Context, k marked) (held bool) {
	if ctx.Err() != nil {
		return false
	}
	now, err := w.Driver.State(ctx, k.folder)
	if err == nil && now.State.Active() {
		return false
	}
	if err == nil {
		err = w.begin(ctx, k.folder, "")
	}
	if err == nil {
		_, err = w.noteRunning(ctx, k.folder)
	}
	if ground.CodeOf(err) == "busy.job" {
		w.Log.Info("a machine starts with the host later", "folder", k.folder, "since", err)
		return true
	}
	if err != nil {
		w.Log.Error("a machine did not start with the host", "folder", k.folder, "error", err)
		return false
	}
	w.Log.Info("a machine was started with the host", "folder", k.folder)
	rest(ctx, time.Duration(k.m.StartPause)*time.Second)
	return false
}

// marked are the machines that start with the host, in their order.
func (w *Worker) marked() (list []marked) {
	for _, folder := range slices.Sorted(maps.Keys(w.Records.Register())) {
		m, err := w.ReadMachine(folder)
		if err == nil && m.StartOrder > 0 {
			list = append(list, marked{folder, m})
		}
	}
	slices.SortStableFunc(list, func(a, b marked) int { return cmp.Compare(a.m.StartOrder, b.m.StartOrder) })
	return list
}
