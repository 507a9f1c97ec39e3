package do

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

func (w *Worker) trashOf(folder, job string) (string, error) {
	for _, p := range w.Config.Pools {
		root := filepath.Clean(p.Path)
		if strings.HasPrefix(folder, root+"/") {
			return filepath.Join(root, ground.WorkDir, trashDir, job), nil
		}
	}
	return "", w.Within(folder)
}

// takeAwayJournal is what a task takes away, and what was listed of it.
type takeAwayJournal struct {
	Listed map[string]ground.Registered `json:"listed"`
	Below  []string                     `json:"below"` // what the disks that are taken stand on
}

// below lists what disks of a machine stand on, or have stood on at a snapshot, that lies in the directory of the
// machine's disks in another pool, and is not a disk of others as well. What they write to may lie in its folder.
func (w *Worker) below(folder string, files []string) (list []string) {
	tops, all := slices.Clone(files), []string{}
	if m, err := w.ReadMachine(folder); err == nil {
		for _, d := range m.Disks {
			tops = append(tops, filepath.Join(folder, d.File))
		}
		for _, s := range m.Tree {
			for _, d := range s.Disks {
				all = append(all, filepath.Join(folder, d.File))
			}
		}
	}
	for _, top := range tops {
		for _, l := range w.Layers(top) {
			all = append(all, l.Path)
		}
	}
	for _, path := range all {
		dir := filepath.Dir(path)
		if filepath.Base(dir) != filepath.Base(folder)+asideEnd || slices.Contains(files, path) ||
			slices.Contains(list, path) || len(w.StoodOn(folder, path)) > 0 {
			continue
		}
		if _, err := w.trashOf(path, ""); err != nil { // a descriptor may say anything
			continue
		}
		if st, err := w.Door.Stat(path); err == nil && st.Mode().IsRegular() {
			list = append(list, path)
		}
	}
	return list
}

// asideEnd ends the name of a directory of a machine's disks that lie in another pool than the machine.
const asideEnd = "-disks"

// doTakeAway moves a machine folder, and disks of it that lie elsewhere, to the
// trash of their pools.
func doTakeAway(ctx context.Context, t *run) (any, error) {
	j := takeAwayJournal{Listed: map[string]ground.Registered{}}
	if there, err := t.Journal(&j); err != nil {
		return nil, err
	} else if !there {
		var p plan.TakeAway
		if err := t.Params(&p); err != nil {
			return nil, err
		}
		j.Below = t.below(p.Folder, p.Files)
		listed := t.Records.Register()
		err := t.eachTaken(t, j.Below, func(from, _ string) error {
			if r, ok := listed[from]; ok {
				j.Listed[from] = r
			}
			return nil
		})
		if err := errors.Join(err, t.Note(j)); err != nil {
			return nil, err
		}
	}
	folder := ""
	return nil, t.eachTaken(t, j.Below, func(from, to string) error {
		folder = cmp.Or(folder, from) // it comes first
		if _, err := t.Door.Stat(from); errors.Is(err, fs.ErrNotExist) {
			return nil // taken away before the agent was killed
		}
		letGo, err := t.KeepStopped(ctx, from, "stop it first")
		if err != nil {
			return err
		}
		defer letGo()
		if who := t.StoodOn(from, from); len(who) > 0 {
			return ground.Refuse("copy.stood-on", "%s can't be taken away: disks of %s stand on it",
				filepath.Base(from), strings.Join(who, ", "))
		}
		if err := t.Door.MkdirAll(filepath.Dir(to), ground.DirMode); err != nil {
			return err
		}
		of := ""
		if from != folder {
			of = filepath.Base(folder)
		}
		if err := t.noteTaken(from, to, of); err != nil {
			return err
		}
		if err := t.RenameNew(from, to); err != nil {
			return err
		}
		if err := errors.Join(t.Delist(from), t.SyncDir(filepath.Dir(from)),
			t.SyncDir(filepath.Dir(to))); err != nil {
			return err
		}
		if dir := filepath.Dir(from); strings.HasSuffix(dir, asideEnd) {
			_ = t.Door.Remove(dir) // only when it is empty
		}
		return nil
	})
}

// undoTakeAway puts back what was taken away, listed as it was.
func undoTakeAway(ctx context.Context, t *run) error {
	var j takeAwayJournal
	if _, err := t.Journal(&j); err != nil {
		return err
	}
	return t.eachTaken(t, j.Below, func(from, to string) error {
		if _, err := t.Door.Stat(to); err == nil {
			if err := t.Door.MkdirAll(filepath.Dir(from), ground.DirMode); err != nil {
				return err
			}
			if err := t.RenameNew(to, from); err != nil {
				return err
			}
			if err := t.emptied(filepath.Dir(to)); err != nil {
				return err
			}
			if err := t.SyncDir(filepath.Dir(from)); err != nil {
				return err
			}
		}
		if r, ok := j.Listed[from]; ok {
			return t.List(from, r, "")
		}
		return nil
	})
}

// eachTaken goes through what a task takes away: the folder, the disks that lie elsewhere, and what is below these.
func (w *Worker) eachTaken(t *run, below []string, move func(from, to string) error) error {
	var p plan.TakeAway
	if err := t.Params(&p); err != nil {
		return err
	}
	for _, from := range slices.Concat([]string{p.Folder}, p.Files, below) {
		trash, err := w.trashOf(from, t.Job())
		if err != nil {
			return err
		}
		if err := move(from, filepath.Join(trash, filepath.Base(from))); err != nil {
			return err
		}
	}
	return nil
}
