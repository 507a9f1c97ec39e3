package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
)

// doPlace writes the descriptor beside the disks that were fetched, renames the
// whole into place and lists it.
func doPlace(_ context.Context, t *task) (any, error) {
	p, err := placeParams(t)
	if err != nil {
		return nil, err
	}
	if err := machine.CheckName(p.Name); err != nil {
		return nil, &taskError{"name.unfit", err.Error()}
	}
	folder := filepath.Join(p.Pool, p.Name)
	if err := t.a.within(folder); err != nil {
		return nil, err
	}
	for _, x := range p.Besides {
		if err := t.a.putBeside(t, x); err != nil {
			return nil, err
		}
	}
	if !t.a.isCopy(folder, p.Machine.Passport.Copy) { // else: placed before the agent was killed
		if err := t.a.assemble(stagingDir(p.Pool, t.spec.Job), folder, p); err != nil {
			return nil, err
		}
	}
	return nil, t.a.store.list(folder, registered{Since: time.Now()})
}

// putBeside moves a staged disk to the directory in its own pool.
func (a *Agent) putBeside(t *task, x plan.Beside) error {
	from, to, err := a.besidePaths(t, x)
	if err != nil {
		return err
	}
	if _, err := a.door.Lstat(from); errors.Is(err, fs.ErrNotExist) {
		return nil // moved before the agent was killed
	}
	if err := a.door.MkdirAll(filepath.Dir(to), dirMode); err != nil {
		return err
	}
	if err := a.renameNew(from, to); err != nil {
		return err
	}
	return errors.Join(a.syncDir(filepath.Dir(to)), a.syncDir(x.Pool))
}

func (a *Agent) besidePaths(t *task, x plan.Beside) (from, to string, err error) {
	if filepath.Base(x.File) != x.File || filepath.Base(x.Dir) != x.Dir {
		return "", "", &taskError{"package.path-escape", fmt.Sprintf("%q in %q is no file name", x.File, x.Dir)}
	}
	from, to = filepath.Join(stagingDir(x.Pool, t.spec.Job), x.File), filepath.Join(x.Pool, x.Dir, x.File)
	return from, to, errors.Join(a.within(from), a.within(to))
}

// takeBack removes a disk that putBeside has moved.
func (a *Agent) takeBack(t *task, x plan.Beside) error {
	from, to, err := a.besidePaths(t, x)
	if err != nil {
		return err
	}
	if _, err := a.door.Lstat(from); err == nil {
		return nil // it never was: what lies there is somebody else's
	}
	err = a.removeIfThere(to)
	a.door.Remove(filepath.Dir(to)) // only when it is empty
	return err
}

func (a *Agent) assemble(staging, folder string, p hostlink.PlaceTask) error {
	if err := a.door.MkdirAll(staging, dirMode); err != nil { // a machine without disks has none yet
		return err
	}
	raw, err := describe(p.Descriptor, "", p.Number, p.Machine)
	if err != nil {
		return err
	}
	if v := p.Machine.Variables; v != "" { // the firmware fills it at the first start
		if _, err := a.door.Stat(filepath.Join(staging, v)); errors.Is(err, fs.ErrNotExist) {
			if err := a.writeSynced(filepath.Join(staging, v), nil); err != nil {
				return err
			}
		}
	}
	if err := a.writeSynced(filepath.Join(staging, p.Name+".ovf"), raw); err != nil {
		return err
	}
	if err := a.syncDir(staging); err != nil {
		return err
	}
	if err := a.renameNew(staging, folder); err != nil {
		return err
	}
	return a.syncDir(p.Pool)
}

// isCopy tells whether the folder holds the copy with that id.
func (a *Agent) isCopy(folder, copyID string) bool {
	m, err := a.readMachine(folder)
	return err == nil && m.Passport != nil && m.Passport.Copy == copyID
}

func placeParams(t *task) (p hostlink.PlaceTask, err error) {
	if err = t.params(&p); err == nil && (p.Machine == nil || p.Machine.Passport == nil) {
		err = errors.New("a machine is placed with its passport only")
	}
	return p, err
}

func undoPlace(t *task) error {
	p, err := placeParams(t)
	if err != nil {
		return nil // it was never begun
	}
	folder := filepath.Join(p.Pool, p.Name)
	if !t.a.isCopy(folder, p.Machine.Passport.Copy) {
		var errs []error
		for _, x := range p.Besides {
			errs = append(errs, t.a.takeBack(t, x))
		}
		return errors.Join(errs...)
	}
	if t.a.driver.State(folder) == "running" {
		return fmt.Errorf("%s runs; stop it first", p.Name)
	}
	errs := []error{t.a.store.delist(folder), t.a.door.RemoveAll(folder), t.a.syncDir(p.Pool)}
	for _, x := range p.Besides {
		errs = append(errs, t.a.takeBack(t, x))
	}
	return errors.Join(errs...)
}
