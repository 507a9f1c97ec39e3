package do

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path/filepath"
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

// takeAwayJournal is what was listed of what a task has taken away.
type takeAwayJournal struct {
	Listed map[string]ground.Registered `json:"listed"`
}

// doTakeAway moves a machine folder, and disks of it that lie elsewhere, to the
// trash of their pools.
func doTakeAway(ctx context.Context, t *run) (any, error) {
	j := takeAwayJournal{Listed: map[string]ground.Registered{}}
	if there, err := t.Journal(&j); err != nil {
		return nil, err
	} else if !there {
		listed := t.Records.Register()
		err := t.eachTaken(t, func(from, _ string) error {
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
	return nil, t.eachTaken(t, func(from, to string) error {
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
		if dir := filepath.Dir(from); strings.HasSuffix(dir, "-disks") {
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
	return t.eachTaken(t, func(from, to string) error {
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

func (w *Worker) eachTaken(t *run, move func(from, to string) error) error {
	var p plan.TakeAway
	if err := t.Params(&p); err != nil {
		return err
	}
	for _, from := range append([]string{p.Folder}, p.Files...) {
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
