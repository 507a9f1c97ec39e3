package agent

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/plan"
)

func doStart(_ context.Context, t *task) (any, error) {
	var p plan.Power
	if err := t.params(&p); err != nil {
		return nil, err
	}
	return nil, t.a.power(p.Folder, true)
}

func doStop(_ context.Context, t *task) (any, error) {
	var p plan.Power
	if err := t.params(&p); err != nil {
		return nil, err
	}
	return nil, t.a.power(p.Folder, false)
}

func undoStart(t *task) error {
	_, err := doStop(context.Background(), t)
	return err
}

func undoStop(t *task) error {
	_, err := doStart(context.Background(), t)
	return err
}

// power starts or stops a registered machine; one that is so already is left alone.
func (a *Agent) power(folder string, on bool) error {
	if _, there := a.store.register()[folder]; !there {
		return &taskError{"copy.unknown", fmt.Sprintf("%s does not list a machine in %s", a.config.Name, folder)}
	}
	running := a.driver.State(folder) == "running"
	switch {
	case on && !running:
		if err := a.run(folder); err != nil {
			return err
		}
	case !on && running:
		if err := a.driver.Stop(folder); err != nil {
			return err
		}
	}
	return a.store.list(folder, registered{Running: on, Since: time.Now()})
}

// run has the driver start a machine, its disks in the formats on record.
func (a *Agent) run(folder string) error {
	m, err := a.readMachine(folder)
	if err != nil {
		return err
	}
	for i := range m.Disks {
		d := &m.Disks[i]
		as, err := a.formatOf(filepath.Join(folder, d.File), d.Format)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.ID, err)
		}
		d.Format = as.Name()
	}
	return a.driver.Start(folder, m)
}
