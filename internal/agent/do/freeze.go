package do

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
)

// The descriptor always names what reads as the guest's disk. Before a freeze it is pointed at the new layers, which
// are empty then; after a commit, while the guest stands still or does not run, at what lies below, which holds the
// same then. So a crash at any point leaves a machine that starts with all that it has written.

// doFreeze puts layers on disks of machines, and has those write there that run: from one instant on, the same for all.
func doFreeze(ctx context.Context, t *run) (any, error) {
	var p plan.Freeze
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	machines := p.Machines()
	active := make([]bool, len(machines))
	freezing, able := t.Driver.(driver.Freezing)
	for i, m := range machines {
		now, err := t.Driver.State(ctx, m.Folder)
		if err != nil {
			return nil, err
		}
		active[i] = now.State.Active()
		if active[i] && !able {
			return nil, ground.Refuse("host.unable", "the hypervisor of %s can't freeze disks while a machine runs",
				t.Config.Name)
		}
		if now.State == machine.Suspended {
			return nil, ground.Refuse("state.held", "the machine in %s is suspended", m.Folder)
		}
	}
	var j freezeJournal
	there, err := t.Journal(&j)
	if err != nil {
		return nil, err
	}
	for _, m := range machines {
		switch {
		case !there:
			err = t.namesFree(m.Folder, m.Disks)
		case j.Freezing && len(machines) > 1: // some may be frozen already, at another instant than those to come
			err = t.thaw(ctx, m.Folder, m.Disks, m.SnapshotName())
		}
		if err != nil {
			return nil, err
		}
	}
	if err := t.Note(freezeJournal{Begun: true}); err != nil {
		return nil, err
	}
	var running []driver.ToFreeze
	for i, one := range machines {
		m, err := t.ontoLayers(one)
		if err != nil {
			return nil, err
		}
		if active[i] {
			running = append(running, driver.ToFreeze{Folder: one.Folder, Machine: m})
		}
	}
	if len(running) > 0 {
		if err := t.Note(freezeJournal{Begun: true, Freezing: true}); err != nil {
			return nil, err
		}
		if err := freezing.Freeze(ctx, running...); err != nil {
			return nil, err
		}
	}
	if !p.ForGood {
		return nil, nil
	}
	var errs []error
	for _, m := range machines {
		for _, d := range m.Disks {
			errs = append(errs, t.Door.Freeze(d.Path, true))
		}
	}
	return nil, errors.Join(errs...)
}

// ontoLayers makes the layers of a machine, and has its descriptor name them; and a snapshot of what lies below, where
// there is to be one.
func (t *run) ontoLayers(of plan.FrozenMachine) (*machine.Machine, error) {
	for _, d := range of.Disks {
		if err := t.layerOver(of.Folder, d); err != nil {
			return nil, err
		}
	}
	return t.redescribe(of.Folder, func(m *machine.Machine) bool {
		changed := point(m, of.Disks, above)
		if s := of.Snapshot; s != nil && m.SnapshotNamed(s.Name) == nil {
			m.Tree, m.Stands, changed = append(m.Tree, *s), s.Name, true
		}
		return changed
	})
}

// freezeJournal notes how far a task has come.
type freezeJournal struct {
	Begun    bool `json:"begun"`              // layers of these names are its own
	Freezing bool `json:"freezing,omitempty"` // the hypervisor was asked; machines may write to them
}

// namesFree sees that nothing bears the names of the layers to come.
func (t *run) namesFree(folder string, disks []plan.FrozenDisk) error {
	for _, d := range disks {
		if filepath.Base(d.File) != d.File {
			return ground.Refuse("package.path-escape", "%q is no file name", d.File)
		}
		path := filepath.Join(folder, d.File)
		if _, err := t.Door.Lstat(path); err == nil {
			return ground.Refuse("name.taken", "%s exists already", path)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// layerOver makes the layer of a disk, unless the descriptor names it already: it may hold something then.
func (t *run) layerOver(folder string, d plan.FrozenDisk) error {
	path := filepath.Join(folder, d.File)
	if err := errors.Join(t.Within(d.Path), t.Within(path)); err != nil {
		return err
	}
	m, err := t.ReadMachine(folder)
	if err != nil {
		return err
	}
	for _, is := range m.Disks {
		if is.ID == d.Disk && is.File == d.File {
			return nil
		}
	}
	format, err := formats.ByName(d.Format)
	if err != nil {
		return err
	}
	below, err := t.Known(d.Path)
	if err != nil {
		return err
	}
	if err := t.RemoveIfThere(path); err != nil { // of a try that was cut short
		return err
	}
	return t.Door.NewLooseLayer(path, format, t.NewID(path), d.Path, below)
}

// redescribe writes a descriptor anew with what change makes of its machine, and returns that, the formats of its disks
// filled in. change tells whether it did anything.
func (w *Worker) redescribe(folder string, change func(m *machine.Machine) bool) (*machine.Machine, error) {
	d, err := w.Descriptor(folder)
	if err != nil {
		return nil, err
	}
	m := d.Machines[0].Clone()
	if change(m) {
		if err := d.SetMachine(0, m); err != nil {
			return nil, err
		}
		raw, err := d.Encode(0)
		if err != nil {
			return nil, err
		}
		name, err := w.FindDescriptor(folder)
		if err != nil {
			return nil, err
		}
		next := filepath.Join(folder, "."+name+".next")
		if err := w.WriteSynced(next, raw); err != nil {
			return nil, errors.Join(err, w.RemoveIfThere(next))
		}
		if err := errors.Join(w.Door.Rename(next, filepath.Join(folder, name)), w.SyncDir(folder)); err != nil {
			return nil, err
		}
	}
	return m, w.formatted(folder, m)
}

// point has disks of a machine name other files; it reports whether one did not.
func point(m *machine.Machine, disks []plan.FrozenDisk,
	at func(d plan.FrozenDisk) (file, format string)) (changed bool) {
	for _, f := range disks {
		file, format := at(f)
		for i := range m.Disks {
			if is := &m.Disks[i]; is.ID == f.Disk && is.File != file {
				is.File, is.Format, changed = file, format, true
			}
		}
	}
	return changed
}

// Where a frozen disk's machine writes: above it, or to itself again.
func above(d plan.FrozenDisk) (string, string)   { return d.File, d.Format }
func beneath(d plan.FrozenDisk) (string, string) { return d.Below, d.BelowFormat }

// undoFreeze commits what was written since into what was frozen.
func undoFreeze(ctx context.Context, t *run) error {
	var p plan.Freeze
	if err := t.Params(&p); err != nil {
		return err
	}
	var j freezeJournal
	if there, err := t.Journal(&j); !there || err != nil {
		return err // it was never begun: files of these names are somebody else's
	}
	var errs []error
	for _, m := range p.Machines() {
		errs = append(errs, t.thaw(ctx, m.Folder, m.Disks, m.SnapshotName()))
	}
	return errors.Join(errs...)
}

func doCommit(ctx context.Context, t *run) (any, error) {
	var p plan.Commit
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	return nil, t.thaw(ctx, p.Folder, p.Disks, p.Snapshot)
}

// thaw writes what layers hold into what lies below, and takes them off; the snapshot that they were put on is no more
// then. Each part finds out by itself whether it was done before.
func (t *run) thaw(ctx context.Context, folder string, disks []plan.FrozenDisk, snapshot string) error {
	var there []plan.FrozenDisk
	for _, d := range disks {
		if _, err := t.Door.Lstat(filepath.Join(folder, d.File)); errors.Is(err, fs.ErrNotExist) {
			continue // it was never made, or is gone again
		} else if err != nil {
			return err
		}
		if err := t.ownAlone(folder, d.Path); err != nil {
			return fmt.Errorf("disk %s: %w", d.Disk, err)
		}
		there = append(there, d)
		if err := t.Door.Freeze(d.Path, false); err != nil {
			return err
		}
	}
	if len(there) == 0 {
		return nil
	}
	settle := func() error {
		_, err := t.redescribe(folder, func(m *machine.Machine) bool {
			forgotten := forget(m, snapshot)
			return point(m, there, beneath) || forgotten
		})
		return err
	}
	now, err := t.Driver.State(ctx, folder)
	if err != nil {
		return err
	}
	switch {
	case now.State == machine.Suspended:
		return ground.Refuse("state.held", "the machine in %s is suspended: its layers are taken off once it goes on",
			folder)
	case now.State.Active():
		err = t.commitLive(ctx, folder, there, settle)
	default:
		err = t.commitStanding(folder, there)
		if err == nil {
			err = settle()
		}
	}
	if err != nil {
		return err
	}
	var errs []error
	for _, d := range there {
		errs = append(errs, t.RemoveIfThere(filepath.Join(folder, d.File)))
	}
	return errors.Join(append(errs, t.SyncDir(folder))...)
}

// ownAlone refuses a file that is another machine's too: it writes to it, or its layers rest on it. What a descriptor
// says of snapshots came from outside.
func (t *run) ownAlone(folder, path string) error {
	if err := t.Within(path); err != nil {
		return err
	}
	if who := t.HeldBy(folder, path); len(who) > 0 {
		return ground.Refuse("disk.parent-of-others", "%s takes no writes: it is a disk of %s, or one stands on it",
			path, strings.Join(who, ", "))
	}
	return nil
}

// commitLive has the hypervisor commit what a running machine's layers hold.
func (t *run) commitLive(ctx context.Context, folder string, disks []plan.FrozenDisk, settle func() error) error {
	freezing, ok := t.Driver.(driver.Freezing)
	if !ok {
		return ground.Refuse("host.unable", "the hypervisor of %s can't commit layers while a machine runs",
			t.Config.Name)
	}
	m, err := t.ReadMachine(folder)
	if err != nil {
		return err
	}
	for _, d := range disks {
		for i := range m.Disks {
			if m.Disks[i].ID == d.Disk {
				m.Disks[i].File, m.Disks[i].Format = d.Below, d.BelowFormat
			}
		}
	}
	if err := t.formatted(folder, m); err != nil {
		return err
	}
	return freezing.Commit(ctx, folder, m, settle)
}

// commitStanding commits layers of a machine that does not run, as far as its descriptor names them.
func (t *run) commitStanding(folder string, disks []plan.FrozenDisk) error {
	m, err := t.ReadMachine(folder)
	if err != nil {
		return err
	}
	for _, d := range disks {
		for _, is := range m.Disks {
			if is.ID != d.Disk || is.File != d.File {
				continue
			}
			path := filepath.Join(folder, d.File)
			as, err := t.Known(path)
			if err != nil {
				return err
			}
			if err := t.Door.Commit(path, as); err != nil {
				return fmt.Errorf("disk %s: %w", d.Disk, err)
			}
		}
	}
	return nil
}
