package do

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/ground"
)

// forget takes a snapshot out of a machine; what stood on it stands on its parent. It reports whether it was there.
func forget(m *machine.Machine, name string) bool {
	at := slices.IndexFunc(m.Tree, func(s machine.Snapshot) bool { return strings.EqualFold(s.Name, name) })
	if at < 0 {
		return false
	}
	gone := m.Tree[at]
	m.Tree = slices.Delete(m.Tree, at, at+1)
	for i := range m.Tree {
		if m.Tree[i].Parent == gone.Name {
			m.Tree[i].Parent = gone.Parent
		}
	}
	if m.Stands == gone.Name {
		m.Stands = gone.Parent
	}
	return true
}

// backJournal is how a machine was before it went back.
type backJournal struct {
	Disks  []machine.Disk `json:"disks"`
	Stands string         `json:"stands"`
}

// doGoBack has a machine stand on a snapshot. What it was on stays where it is.
func doGoBack(ctx context.Context, t *run) (any, error) {
	var p plan.GoBack
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	letGo, err := t.KeepStopped(ctx, p.Folder, "its disks are changed meanwhile")
	if err != nil {
		return nil, err
	}
	defer letGo()
	m, err := t.ReadMachine(p.Folder)
	if err != nil {
		return nil, err
	}
	var j backJournal
	if there, err := t.Journal(&j); err != nil {
		return nil, err
	} else if !there {
		if err := t.namesFree(p.Folder, p.Disks); err != nil {
			return nil, err
		}
		if err := t.Note(backJournal{m.Disks, m.Stands}); err != nil {
			return nil, err
		}
	}
	for _, d := range p.Disks {
		if who := t.WrittenBy(p.Folder, d.Path); len(who) > 0 { // what a descriptor says came from outside
			return nil, ground.Refuse("disk.shared", "disk %s: %s is a disk of %s", d.Disk, d.Path,
				strings.Join(who, ", "))
		}
		if err := t.layerOver(p.Folder, d); err != nil {
			return nil, err
		}
	}
	_, err = t.redescribe(p.Folder, func(m *machine.Machine) bool {
		changed := point(m, p.Disks, above) || m.Stands != p.Snapshot
		m.Stands = p.Snapshot
		return changed
	})
	return nil, err
}

func undoGoBack(ctx context.Context, t *run) error {
	var p plan.GoBack
	if err := t.Params(&p); err != nil {
		return err
	}
	var j backJournal
	if there, err := t.Journal(&j); !there || err != nil {
		return err
	}
	letGo, err := t.KeepStopped(ctx, p.Folder, "its disks are changed meanwhile")
	if err != nil {
		return err
	}
	defer letGo()
	_, err = t.redescribe(p.Folder, func(m *machine.Machine) bool {
		m.Disks, m.Stands = j.Disks, j.Stands
		return true
	})
	errs := []error{err}
	for _, d := range p.Disks {
		if err == nil {
			errs = append(errs, t.RemoveIfThere(filepath.Join(p.Folder, d.File)))
		}
	}
	return errors.Join(errs...)
}

// doDropSnapshot takes a snapshot out of a descriptor.
func doDropSnapshot(_ context.Context, t *run) (any, error) {
	var p plan.DropSnapshot
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	m, err := t.ReadMachine(p.Folder)
	if err != nil {
		return nil, err
	}
	var before []machine.Snapshot
	if there, err := t.Journal(&before); err != nil {
		return nil, err
	} else if !there {
		if err := t.Note(m.Tree); err != nil {
			return nil, err
		}
	}
	_, err = t.redescribe(p.Folder, func(m *machine.Machine) bool { return forget(m, p.Snapshot) })
	return nil, err
}

func undoDropSnapshot(_ context.Context, t *run) error {
	var p plan.DropSnapshot
	var before []machine.Snapshot
	if err := t.Params(&p); err != nil {
		return err
	}
	if there, err := t.Journal(&before); !there || err != nil {
		return err
	}
	_, err := t.redescribe(p.Folder, func(m *machine.Machine) bool { m.Tree = before; return true })
	return err
}

// doMergeSnapshot writes what a snapshot holds into the files of the one that it stands on, and takes that one out of
// the descriptor. Through every layer above, the guest's bytes are the same before, during and after: what is written
// below is what they see through the snapshot's own layer. So it can be begun again at any point.
func doMergeSnapshot(ctx context.Context, t *run) (any, error) {
	var p plan.MergeSnapshot
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	letGo, err := t.KeepStopped(ctx, p.Folder, "its disks are changed meanwhile")
	if err != nil {
		return nil, err
	}
	defer letGo()
	m, err := t.ReadMachine(p.Folder)
	if err != nil {
		return nil, err
	}
	if m.SnapshotNamed(p.Into) == nil {
		return nil, fmt.Errorf("the machine in %s has no snapshot %q any more", p.Folder, p.Into)
	}
	for _, d := range p.Disks {
		if err := t.mergeLayer(p.Folder, d); err != nil {
			return nil, fmt.Errorf("disk %s: %w", d.Disk, err)
		}
	}
	if _, err := t.redescribe(p.Folder, func(m *machine.Machine) bool {
		changed := forget(m, p.Snapshot)
		into := m.SnapshotNamed(p.Into)
		for _, d := range p.Disks {
			for i := range into.Disks {
				if is := &into.Disks[i]; is.Disk == d.Disk && is.File != d.Below {
					is.File, is.Format, changed = d.Below, d.BelowFormat, true
				}
			}
		}
		return changed
	}); err != nil {
		return nil, err
	}
	var errs []error
	for _, d := range p.Disks {
		errs = append(errs, t.RemoveIfThere(filepath.Join(p.Folder, d.File)))
	}
	return nil, errors.Join(append(errs, t.SyncDir(p.Folder))...)
}

// mergeLayer commits a layer into what lies below, and has what stands on it stand there.
func (t *run) mergeLayer(folder string, d plan.MergedLayer) error {
	below, layer := filepath.Join(folder, d.Below), filepath.Join(folder, d.File)
	if _, err := t.Door.Lstat(layer); errors.Is(err, fs.ErrNotExist) {
		return nil // it was merged before the agent was killed
	}
	touched := []string{below, layer}
	for _, name := range d.Above {
		touched = append(touched, filepath.Join(folder, name))
	}
	for _, path := range touched {
		if err := t.ownAlone(folder, path); err != nil {
			return err
		}
	}
	as, err := door.OnRecord(d.Format)
	if err != nil {
		return err
	}
	belowAs, err := door.OnRecord(d.BelowFormat)
	if err != nil {
		return err
	}
	c, err := t.Door.Chain(layer, as)
	if err != nil {
		return err
	}
	stands := c.Paths()
	if err := c.Close(); err != nil {
		return err
	}
	if len(stands) < 2 || stands[1] != below {
		return fmt.Errorf("%s does not stand on %s: nothing is merged", d.File, d.Below)
	}
	if err := t.Door.Freeze(below, false); err != nil {
		return err
	}
	err = t.Door.Commit(layer, as)
	for _, above := range touched[2:] {
		if err != nil {
			break
		}
		err = t.pointTo(above, below, belowAs)
	}
	return errors.Join(err, t.Door.Freeze(below, true))
}

// pointTo has a layer stand on another parent, which may be frozen itself.
func (t *run) pointTo(layer, parent string, parentAs door.Known) error {
	as, err := t.Known(layer)
	if err != nil {
		return err
	}
	frozen, err := t.Door.Frozen(layer)
	if err != nil {
		return err
	}
	if frozen {
		if err := t.Door.Freeze(layer, false); err != nil {
			return err
		}
	}
	err = t.Door.Reparent(layer, as, parent, parentAs, true)
	if frozen {
		err = errors.Join(err, t.Door.Freeze(layer, true))
	}
	return err
}
