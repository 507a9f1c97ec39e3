package qemu

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver"
)

// A suspended machine has two things: its state, a file in the machine folder that QEMU wrote to a descriptor it was
// given, and a note in the driver's own directory that this state is good. A state without the note is left over: of a
// suspending that was broken off, or of another host. It is removed when the machine starts.

const (
	savingFile    = "saving"    // a state is being written
	suspendedFile = "suspended" // the state in the machine folder is whole
)

const (
	saveRate = 16 << 20 // bytes a second of memory that are written at least
	savePoll = 20 * time.Millisecond
)

// Pause lets a machine stand still while it runs.
func (d *Driver) Pause(ctx context.Context, folder string) error {
	return ask(ctx, d.at(folder), "stop", nil, nil)
}

// Suspend writes what a machine has in memory to a file in its folder, and ends it. Where that fails it goes on.
func (d *Driver) Suspend(ctx context.Context, folder string) (err error) {
	dir := d.at(folder)
	var s spec
	if !dir.runs() || !dir.readJSON(specFile, &s) {
		return errors.New("it does not run")
	}
	path := filepath.Join(folder, driver.SuspendedFile)
	f, err := d.files.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := dir.write(savingFile, nil); err != nil {
		return err
	}
	stood, ends := false, false
	defer func() {
		after := context.WithoutCancel(ctx)
		if err != nil && !ends {
			err = errors.Join(err, d.files.Remove(path))
			if dir.runs() && !stood {
				err = errors.Join(err, ask(after, dir, "cont", nil, nil))
			}
		}
		err = errors.Join(err, dir.remove(savingFile))
	}()
	m, err := dialMonitor(ctx, dir)
	if err != nil {
		return err
	}
	defer m.close()
	var now struct{ Status string }
	if err := m.do(ctx, "query-status", nil, &now); err != nil {
		return err
	}
	stood = now.Status != "running"
	if err := m.do(ctx, "stop", nil, nil); err != nil { // so that memory is written once, not again and again
		return err
	}
	if err := m.save(ctx, f, s.MemoryBytes); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if err := errors.Join(dir.write(askedFile, nil), dir.write(suspendedFile, []byte(now.Status))); err != nil {
		return errors.Join(err, dir.remove(suspendedFile))
	}
	if err := m.do(ctx, "quit", nil, nil); err != nil && dir.runs() {
		return errors.Join(err, dir.remove(suspendedFile))
	}
	if !gone(ctx, dir, endTime) { // the state and its note stay, and count once it has ended: its guest does not go on
		ends = true
		return fmt.Errorf("QEMU was told to end, and did not within %s", endTime)
	}
	return nil
}

// settleSaving ends what an agent left half done that ended while it had a machine suspended.
func (d *Driver) settleSaving(dir runDir) error {
	saving, err := dir.has(savingFile)
	if !saving || err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(context.Background(), endTime)
	defer stop()
	whole, err := dir.has(suspendedFile)
	if err != nil {
		return err
	}
	if whole {
		if err := ask(ctx, dir, "quit", nil, nil); err != nil && dir.runs() {
			return err
		}
		if !gone(ctx, dir, endTime) {
			return errStillRuns
		}
		return dir.remove(savingFile)
	}
	_ = ask(ctx, dir, "migrate_cancel", nil, nil) // it may be over, or not have begun
	if err := ask(ctx, dir, "cont", nil, nil); err != nil && dir.runs() {
		return err
	}
	return dir.remove(savingFile)
}

// save has QEMU write its state to a file.
func (m *monitor) save(ctx context.Context, f *os.File, memory int64) error {
	if err := m.give(ctx, "state", f); err != nil {
		return err
	}
	for _, set := range []struct {
		command   string
		arguments any
	}{
		{"migrate-set-parameters", map[string]any{"max-bandwidth": 0}}, // nobody else waits for this pool
		{"migrate", map[string]any{"uri": "fd:state"}},
	} {
		if err := m.do(ctx, set.command, set.arguments, nil); err != nil {
			return err
		}
	}
	until := time.Now().Add(endTime + time.Duration(memory/saveRate)*time.Second)
	for {
		var how struct {
			Status    string `json:"status"`
			ErrorDesc string `json:"error-desc"`
		}
		if err := m.do(ctx, "query-migrate", nil, &how); err != nil {
			return err
		}
		switch {
		case how.Status == "completed":
			return nil
		case how.Status == "failed" || how.Status == "cancelled":
			return fmt.Errorf("QEMU could not write its state: %s", how.ErrorDesc)
		case ctx.Err() != nil || time.Now().After(until):
			_ = m.do(context.WithoutCancel(ctx), "migrate_cancel", nil, nil)
			return errors.Join(errors.New("writing its state took too long, and was given up"), ctx.Err())
		}
		time.Sleep(savePoll)
	}
}

// suspended tells whether a machine that does not run can go on where it was.
func (d *Driver) suspended(dir runDir, folder string) (bool, error) {
	noted, err := dir.has(suspendedFile)
	if !noted || err != nil {
		return false, err
	}
	_, err = d.files.Lstat(filepath.Join(folder, driver.SuspendedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// resumes lets a command go on with a suspended state, if there is one; a state that is left over is removed.
func (d *Driver) resumes(c *command, dir runDir, folder string) (bool, error) {
	path := filepath.Join(folder, driver.SuspendedFile)
	suspended, err := d.suspended(dir, folder)
	if err != nil {
		return false, err
	}
	if !suspended {
		return false, d.dropState(dir, folder)
	}
	if c.first != "" {
		return false, fmt.Errorf("it is suspended and goes on where it was, not from %s", c.first)
	}
	f, err := d.files.OpenFile(path, os.O_RDONLY, 0)
	if err != nil {
		return false, fmt.Errorf("its suspended state: %w", err)
	}
	c.add("-incoming", fmt.Sprintf("fd:%d", c.pass(f)))
	return true, nil
}

// goesOn waits until a machine has taken up its suspended state, which is used up then.
func (d *Driver) goesOn(ctx context.Context, dir runDir, folder string) error {
	var s spec
	dir.readJSON(specFile, &s)
	until := time.Now().Add(endTime + time.Duration(s.MemoryBytes/saveRate)*time.Second)
	for {
		var now struct{ Status string }
		if err := ask(ctx, dir, "query-status", nil, &now); err != nil {
			return err
		}
		if now.Status != "inmigrate" {
			break
		}
		if time.Now().After(until) {
			return errors.New("taking up its suspended state took too long")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(savePoll):
		}
	}
	// From here on its disks change, and the state fits them no more.
	if err := d.dropState(dir, folder); err != nil {
		return err
	}
	return goOn(ctx, dir)
}

// dropState removes a suspended state, if there is one.
func (d *Driver) dropState(dir runDir, folder string) error {
	if err := dir.remove(suspendedFile); err != nil {
		return err
	}
	err := d.files.Remove(filepath.Join(folder, driver.SuspendedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// memoryOf is how much memory a machine has.
func memoryOf(m *machine.Machine) int64 { return max(1, m.MemoryBytes>>20) << 20 }
