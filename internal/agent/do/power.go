package do

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

func doStart(ctx context.Context, t *run) (any, error) {
	var p plan.Start
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if p.Off {
		t.Update(func(s *hostlink.Task) { s.Note = "it was off before it was to be stopped, and stays off" })
	}
	return t.power(ctx, p.Folder, func(now machine.State) error {
		if now == machine.Running || p.Off {
			return nil
		}
		return t.begin(ctx, p.Folder, p.Boot)
	})
}

func doStop(ctx context.Context, t *run) (any, error) {
	var p plan.Stop
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	return t.power(ctx, p.Folder, func(now machine.State) error {
		if !now.Active() && p.Manner != machine.Off {
			return nil
		}
		return t.Driver.Stop(ctx, p.Folder, p.Manner)
	})
}

func doPause(ctx context.Context, t *run) (any, error) {
	var p plan.Pause
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	pausing, ok := t.Driver.(driver.Pausing)
	if !ok {
		return nil, ground.Refuse("host.unable", "the hypervisor of %s can't pause machines", t.Config.Name)
	}
	return t.power(ctx, p.Folder, func(now machine.State) error {
		if !now.Active() {
			return ground.Refuse("state.not-running", "the machine in %s is %s, and can't be paused", p.Folder, now)
		}
		return pausing.Pause(ctx, p.Folder)
	})
}

func doSuspend(ctx context.Context, t *run) (any, error) {
	var p plan.Suspend
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	suspending, ok := t.Driver.(driver.Suspending)
	if !ok {
		return nil, ground.Refuse("host.unable", "the hypervisor of %s can't suspend machines", t.Config.Name)
	}
	return t.power(ctx, p.Folder, func(now machine.State) error {
		switch {
		case now == machine.Suspended:
			return nil
		case !now.Active():
			return ground.Refuse("state.not-running", "the machine in %s is %s, and can't be suspended", p.Folder, now)
		}
		return suspending.Suspend(ctx, p.Folder)
	})
}

// powerJournal is how a machine stood before a task.
type powerJournal struct {
	State machine.State `json:"state"`
}

// power changes how a registered machine stands. What it was before is noted, to be gone back to.
func (r *run) power(ctx context.Context, folder string, change func(now machine.State) error) (any, error) {
	if _, there := r.Records.Listed(folder); !there {
		return nil, ground.Refuse("copy.unknown", "%s does not list a machine in %s", r.Config.Name, folder)
	}
	now, err := r.Driver.State(ctx, folder)
	if err != nil {
		return nil, err
	}
	before := powerJournal{now.State}
	if there, err := r.Journal(&before); err != nil {
		return nil, err
	} else if !there {
		if err := r.Note(before); err != nil {
			return nil, err
		}
	}
	if err := change(now.State); err != nil {
		return nil, err
	}
	is, err := r.noteRunning(ctx, folder)
	if err != nil {
		return nil, err
	}
	return hostlink.PowerResult{Was: before.State, Is: is}, nil
}

// noteRunning notes whether a machine runs, for an agent that has to start its machines again.
func (w *Worker) noteRunning(ctx context.Context, folder string) (machine.State, error) {
	now, err := w.Driver.State(ctx, folder)
	if err != nil {
		return "", err
	}
	return now.State, w.Records.Relist(folder, ground.Registered{Running: now.State.Active(), Since: time.Now()})
}

// begin starts a machine that the host lists, unless its disks are read or changed just now.
func (w *Worker) begin(ctx context.Context, folder, once string) error {
	started, err := w.Starting(ctx, folder)
	if err != nil {
		return err
	}
	defer started()
	now, err := w.Driver.State(ctx, folder) // somebody may have started it while it was waited for
	if err != nil || now.State == machine.Running {
		return err
	}
	if err := w.run(ctx, folder, once); err != nil {
		return err
	}
	if err := w.Ours(folder); err != nil { // it was taken over while it was being started
		return errors.Join(err, w.Driver.Stop(ctx, folder, machine.Off))
	}
	return nil
}

// undoPower lets a machine stand as it did before the task; what was lost by turning it off stays lost.
func undoPower(ctx context.Context, t *run) error {
	var p plan.Power
	if err := t.Params(&p); err != nil {
		return err
	}
	var before powerJournal
	if there, err := t.Journal(&before); !there || err != nil {
		return err // it did nothing
	}
	now, err := t.Driver.State(ctx, p.Folder)
	if err != nil || now.State == before.State {
		return err
	}
	switch before.State {
	case machine.Running:
		err = t.begin(ctx, p.Folder, "")
	case machine.Paused:
		if err = t.begin(ctx, p.Folder, ""); err == nil {
			err = t.Driver.(driver.Pausing).Pause(ctx, p.Folder)
		}
	case machine.Suspended:
		if now.State.Active() {
			err = t.Driver.(driver.Suspending).Suspend(ctx, p.Folder)
		}
	default:
		err = t.Driver.Stop(ctx, p.Folder, machine.CleanOrOff)
	}
	if err != nil {
		return err
	}
	_, err = t.noteRunning(ctx, p.Folder)
	return err
}

// doAdapt changes the devices of a machine that runs. Its descriptor is written afterwards, so that it says how the
// devices were until then.
func doAdapt(ctx context.Context, t *run) (any, error) {
	var p plan.Adapt
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if p.Machine == nil {
		return nil, errors.New("devices are changed for a machine only")
	}
	return nil, t.adapt(ctx, p.Folder, p.Machine)
}

func undoAdapt(ctx context.Context, t *run) error {
	var p plan.Adapt
	if err := t.Params(&p); err != nil {
		return err
	}
	now, err := t.Driver.State(ctx, p.Folder)
	if err != nil || !now.State.Active() {
		return err // its next start is as the descriptor says
	}
	m, err := t.ReadMachine(p.Folder)
	if err != nil {
		return err
	}
	return t.adapt(ctx, p.Folder, m)
}

func (w *Worker) adapt(ctx context.Context, folder string, m *machine.Machine) error {
	live, ok := w.Driver.(driver.Live)
	if !ok {
		return ground.Refuse("host.unable", "the hypervisor of %s changes no machine while it runs", w.Config.Name)
	}
	if err := w.formatted(folder, m); err != nil {
		return err
	}
	return live.Adapt(ctx, folder, m)
}

// formatted fills in the formats of a machine's disks that are on record.
func (w *Worker) formatted(folder string, m *machine.Machine) error {
	for i := range m.Disks {
		d := &m.Disks[i]
		as, err := w.FormatOf(filepath.Join(folder, d.File), d.Format)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.ID, err)
		}
		d.Format = as.Name()
		if who := w.StoodOn(folder, filepath.Clean(filepath.Join(folder, d.File))); len(who) > 0 {
			return ground.Refuse("disk.parent-of-others", "disk %s takes no writes: disks of %s stand on it", d.ID,
				strings.Join(who, ", "))
		}
	}
	return nil
}

// run has the driver start a machine, its disks in the formats on record; once, from something else than usual.
func (w *Worker) run(ctx context.Context, folder, once string) error {
	m, err := w.ReadMachine(folder)
	if err != nil {
		return err
	}
	if err := w.formatted(folder, m); err != nil {
		return err
	}
	if once == "" {
		return w.Driver.Start(ctx, folder, m)
	}
	booting, ok := w.Driver.(driver.Booting)
	if !ok {
		return ground.Refuse("host.unable", "the hypervisor of %s can't start a machine from %s", w.Config.Name, once)
	}
	return booting.StartFrom(ctx, folder, m, once)
}
