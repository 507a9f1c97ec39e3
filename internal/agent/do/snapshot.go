package do

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
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
	if err := t.Settled(ctx, p.Folder, "its disks are changed meanwhile"); err != nil {
		return nil, err
	}
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
	if err := t.Settled(ctx, p.Folder, "its disks are changed meanwhile"); err != nil {
		return err
	}
	_, err := t.redescribe(p.Folder, func(m *machine.Machine) bool {
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
