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
	if !isCopy(folder, p.Machine.Passport.Copy) { // else: placed before the agent was killed
		if err := assemble(stagingDir(p.Pool, t.spec.Job), folder, p); err != nil {
			return nil, err
		}
	}
	return nil, t.a.store.list(folder, registered{Since: time.Now()})
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
		return nil
	}
	if t.a.driver.State(folder) == "running" {
		return fmt.Errorf("%s runs; stop it first", p.Name)
	}
	return errors.Join(t.a.store.delist(folder), os.RemoveAll(folder), syncDir(p.Pool))
}
