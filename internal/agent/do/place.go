package do

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// doPlace writes the descriptor beside the disks that were fetched, renames the
// whole into place and lists it.
func doPlace(_ context.Context, t *run) (any, error) {
	p, err := placeParams(t)
	if err != nil {
		return nil, err
	}
	if err := machine.CheckName(p.Name); err != nil {
		return nil, ground.Refuse("name.unfit", "%s", err.Error())
	}
	folder := filepath.Join(p.Pool, p.Name)
	if err := t.Within(folder); err != nil {
		return nil, err
	}
	for _, x := range p.Besides {
		if err := t.putBeside(t, x); err != nil {
			return nil, err
		}
	}
	if !t.isCopy(folder, p.Machine.Passport.Copy) { // else: placed before the agent was killed
		if err := t.assemble(t.Staging(p.Pool), folder, p); err != nil {
			return nil, err
		}
	}
	return nil, t.List(folder, ground.Registered{Since: time.Now()}, "")
}

// putBeside moves a staged disk to the directory in its own pool.
func (w *Worker) putBeside(t *run, x plan.Beside) error {
	from, to, err := w.besidePaths(t, x)
	if err != nil {
		return err
	}
	if _, err := w.Door.Lstat(from); errors.Is(err, fs.ErrNotExist) {
		return nil // moved before the agent was killed
	}
	if err := w.Door.MkdirAll(filepath.Dir(to), ground.DirMode); err != nil {
		return err
	}
	if err := w.RenameNew(from, to); err != nil {
		return err
	}
	return errors.Join(w.SyncDir(filepath.Dir(to)), w.SyncDir(x.Pool))
}

func (w *Worker) besidePaths(t *run, x plan.Beside) (from, to string, err error) {
	if filepath.Base(x.File) != x.File || filepath.Base(x.Dir) != x.Dir {
		return "", "", ground.Refuse("package.path-escape", "%q in %q is no file name", x.File, x.Dir)
	}
	from, to = filepath.Join(t.Staging(x.Pool), x.File), filepath.Join(x.Pool, x.Dir, x.File)
	return from, to, errors.Join(w.Within(from), w.Within(to))
}

// takeBack removes a disk that putBeside has moved.
func (w *Worker) takeBack(t *run, x plan.Beside) error {
	from, to, err := w.besidePaths(t, x)
	if err != nil {
		return err
	}
	if _, err := w.Door.Lstat(from); err == nil {
		return nil // it never was: what lies there is somebody else's
	}
	err = w.RemoveIfThere(to)
	_ = w.Door.Remove(filepath.Dir(to)) // only when it is empty
	return err
}

func (w *Worker) assemble(staging, folder string, p hostlink.PlaceTask) error {
	if err := w.Door.MkdirAll(staging, ground.DirMode); err != nil { // a machine without disks has none yet
		return err
	}
	for _, d := range p.Machine.Disks { // what lies elsewhere is named with a path
		if filepath.Base(d.File) != d.File {
			continue
		}
		if _, err := w.Door.Lstat(filepath.Join(staging, d.File)); err != nil {
			return ground.Refuse("disk.missing", "disk %s of %s was not brought here: %v", d.ID, p.Name, err)
		}
	}
	raw, err := describe(p.Descriptor, "", p.Number, p.Machine)
	if err != nil {
		return err
	}
	if v := p.Machine.Variables; v != "" { // the firmware fills it at the first start
		if _, err := w.Door.Stat(filepath.Join(staging, v)); errors.Is(err, fs.ErrNotExist) {
			if err := w.WriteSynced(filepath.Join(staging, v), nil); err != nil {
				return err
			}
		}
	}
	if p.Seed != nil {
		if err := w.WriteSynced(filepath.Join(staging, firststart.File), p.Seed.Disc()); err != nil {
			return err
		}
	}
	if err := w.WriteSynced(filepath.Join(staging, p.Name+".ovf"), raw); err != nil {
		return err
	}
	if err := w.SyncDir(staging); err != nil {
		return err
	}
	if err := w.RenameNew(staging, folder); err != nil {
		return err
	}
	return w.SyncDir(p.Pool)
}

// isCopy tells whether the folder holds the copy with that id.
func (w *Worker) isCopy(folder, copyID string) bool {
	m, err := w.ReadMachine(folder)
	return err == nil && m.Passport != nil && m.Passport.Copy == copyID
}

func placeParams(t *run) (p hostlink.PlaceTask, err error) {
	if err = t.Params(&p); err == nil && (p.Machine == nil || p.Machine.Passport == nil) {
		err = errors.New("a machine is placed with its passport only")
	}
	return p, err
}

func undoPlace(ctx context.Context, t *run) error {
	p, err := placeParams(t)
	if err != nil {
		return nil // it was never begun
	}
	folder := filepath.Join(p.Pool, p.Name)
	if !t.isCopy(folder, p.Machine.Passport.Copy) {
		var errs []error
		for _, x := range p.Besides {
			errs = append(errs, t.takeBack(t, x))
		}
		return errors.Join(errs...)
	}
	letGo, err := t.KeepStopped(ctx, folder, "stop it first")
	if err != nil {
		return err
	}
	defer letGo()
	errs := []error{t.Delist(folder), t.Door.RemoveAll(folder), t.SyncDir(p.Pool)}
	for _, x := range p.Besides {
		errs = append(errs, t.takeBack(t, x))
	}
	return errors.Join(errs...)
}
