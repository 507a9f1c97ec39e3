package do

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

func doStart(ctx context.Context, t *run) (any, error) {
	var p plan.Power
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	return nil, t.power(ctx, p.Folder, true)
}

func doStop(ctx context.Context, t *run) (any, error) {
	var p plan.Power
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	return nil, t.power(ctx, p.Folder, false)
}

func undoStart(ctx context.Context, t *run) error {
	_, err := doStop(ctx, t)
	return err
}

func undoStop(ctx context.Context, t *run) error {
	_, err := doStart(ctx, t)
	return err
}

// power starts or stops a registered machine; one that is so already is left alone.
func (w *Worker) power(ctx context.Context, folder string, on bool) error {
	if _, there := w.Records.Register()[folder]; !there {
		return ground.Refuse("copy.unknown", "%s does not list a machine in %s", w.Config.Name, folder)
	}
	now, err := w.Driver.State(ctx, folder)
	if err != nil {
		return err
	}
	switch {
	case on && now.State != machine.Running:
		if err := w.run(ctx, folder); err != nil {
			return err
		}
	case !on && now.State.Active():
		if err := w.Driver.Stop(ctx, folder); err != nil {
			return err
		}
	}
	return w.Records.List(folder, ground.Registered{Running: on, Since: time.Now()})
}

// run has the driver start a machine, its disks in the formats on record.
func (w *Worker) run(ctx context.Context, folder string) error {
	m, err := w.ReadMachine(folder)
	if err != nil {
		return err
	}
	for i := range m.Disks {
		d := &m.Disks[i]
		as, err := w.FormatOf(filepath.Join(folder, d.File), d.Format)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.ID, err)
		}
		d.Format = as.Name()
	}
	return w.Driver.Start(ctx, folder, m)
}
