package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
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
	if !isCopy(folder, p.Machine.Passport.Copy) { // else: placed before the agent was killed
		if err := assemble(stagingDir(p.Pool, t.spec.Job), folder, p); err != nil {
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
	if _, err := os.Lstat(from); errors.Is(err, fs.ErrNotExist) {
		return nil // moved before the agent was killed
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if err := renameNew(from, to); err != nil {
		return err
	}
	return errors.Join(syncDir(filepath.Dir(to)), syncDir(x.Pool))
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
	if _, err := os.Lstat(from); err == nil {
		return nil // it never was: what lies there is somebody else's
	}
	err = removeIfThere(to)
	os.Remove(filepath.Dir(to)) // only when it is empty
	return err
}

func assemble(staging, folder string, p hostlink.PlaceTask) error {
	if err := os.MkdirAll(staging, 0o755); err != nil { // a machine without disks has none yet
		return err
	}
	raw, err := describe(p.Descriptor, "", p.Number, p.Machine)
	if err != nil {
		return err
	}
	if v := p.Machine.Variables; v != "" { // the firmware fills it at the first start
		if _, err := os.Stat(filepath.Join(staging, v)); errors.Is(err, fs.ErrNotExist) {
			if err := writeSynced(filepath.Join(staging, v), nil); err != nil {
				return err
			}
		}
	}
	if err := writeSynced(filepath.Join(staging, p.Name+".ovf"), raw); err != nil {
		return err
	}
	if err := syncDir(staging); err != nil {
		return err
	}
	if err := renameNew(staging, folder); err != nil {
		return err
	}
	return syncDir(p.Pool)
}

func writeSynced(path string, raw []byte) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	return errors.Join(err, f.Sync(), f.Close())
}

// isCopy tells whether the folder holds the copy with that id.
func isCopy(folder, copyID string) bool {
	m, err := readFolderMachine(folder)
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
	if !isCopy(folder, p.Machine.Passport.Copy) {
		var errs []error
		for _, x := range p.Besides {
			errs = append(errs, t.a.takeBack(t, x))
		}
		return errors.Join(errs...)
	}
	if t.a.driver.State(folder) == "running" {
		return fmt.Errorf("%s runs; stop it first", p.Name)
	}
	errs := []error{t.a.store.delist(folder), os.RemoveAll(folder), syncDir(p.Pool)}
	for _, x := range p.Besides {
		errs = append(errs, t.a.takeBack(t, x))
	}
	return errors.Join(errs...)
}
