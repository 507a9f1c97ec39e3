package do

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// Each pool has a trash in its working directory, in which each job has a directory for what it took away from there.
// It is kept for a term. A note beside it tells where in the pool it lay: on another host a pool has another path.
const (
	trashDir  = "trash"
	takenNote = ".taken.json"
)

// taken is what the note tells of something, by its name.
type taken struct {
	Was string `json:"was"`          // path in the pool
	Of  string `json:"of,omitempty"` // machine folder that it is a disk of, by its name in the trash
}

const mostNote = 1 << 20 // bytes that are read of a note

// takenIn reads the note of a directory. What was taken away before there were notes lay in its pool.
func (w *Worker) takenIn(dir string) (map[string]taken, error) {
	all := map[string]taken{}
	f, err := w.Door.OpenFile(filepath.Join(dir, takenNote), os.O_RDONLY, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return all, err
	}
	defer f.Close()
	return all, json.NewDecoder(io.LimitReader(f, mostNote)).Decode(&all)
}

// noteTaken notes where something lay that is put into the trash of its pool.
func (w *Worker) noteTaken(from, to, of string) error {
	dir := filepath.Dir(to)
	was, err := filepath.Rel(filepath.Dir(filepath.Dir(filepath.Dir(dir))), from)
	if err != nil {
		return err
	}
	all, err := w.takenIn(dir)
	if err != nil {
		return err
	}
	all[filepath.Base(to)] = taken{was, of}
	raw, err := json.Marshal(all)
	if err != nil {
		return err
	}
	next := filepath.Join(dir, takenNote+".next")
	if err := w.WriteSynced(next, raw); err != nil {
		return errors.Join(err, w.RemoveIfThere(next))
	}
	return w.Door.Rename(next, filepath.Join(dir, takenNote))
}

// emptied removes a job's directory in a trash once nothing but the note is in it.
func (w *Worker) emptied(dir string) error {
	entries, err := w.Door.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), takenNote) {
			return nil
		}
	}
	return w.Door.RemoveAll(dir)
}

// lay is where something lay in a pool, as its note says. A note that says otherwise than ours do counts for nothing:
// it lay in the pool then, under its name.
func lay(pool, name string, note taken) string {
	first, _, _ := strings.Cut(note.Was, "/")
	if !filepath.IsLocal(note.Was) || filepath.Clean(note.Was) != note.Was || first == "." || first == ground.WorkDir {
		return filepath.Join(pool, name)
	}
	return filepath.Join(pool, note.Was)
}

// Trash lists what lies in the trash of the pools that are there.
func (w *Worker) Trash() (list []hostlink.Trashed, err error) {
	for _, p := range w.Pools() {
		if p.State == plan.PoolAway {
			continue
		}
		root := filepath.Join(filepath.Clean(p.Path), ground.WorkDir, trashDir)
		jobs, err := w.Door.ReadDir(root)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("trash of the pool %s: %w", p.Name, err)
		}
		for _, job := range jobs {
			info, err := job.Info()
			if err != nil || strings.HasPrefix(job.Name(), ".") {
				continue // its term has just ended
			}
			of, err := w.takenBy(filepath.Join(root, job.Name()), p)
			if errors.Is(err, fs.ErrNotExist) {
				continue // so has this one's
			}
			if err != nil {
				return nil, fmt.Errorf("trash of the pool %s: %w", p.Name, err)
			}
			for i := range of {
				of[i].Job, of[i].TakenAt, of[i].Until = job.Name(), info.ModTime(),
					info.ModTime().Add(w.Config.TrashTerm())
			}
			list = append(list, of...)
		}
	}
	return list, nil
}

// takenBy lists what one job has put into the trash of a pool.
func (w *Worker) takenBy(dir string, p hostlink.Pool) (list []hostlink.Trashed, err error) {
	notes, err := w.takenIn(dir)
	if err != nil {
		w.Log.Warn("note of the trash", "directory", dir, "error", err)
	}
	entries, err := w.Door.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name := e.Name()
		if strings.HasPrefix(name, takenNote) {
			continue
		}
		one := hostlink.Trashed{Name: name, Pool: p.Name, PoolID: p.ID, Path: filepath.Join(dir, name),
			Was: lay(filepath.Clean(p.Path), name, notes[name]), Of: notes[name].Of}
		if one.Bytes, err = w.takes(one.Path); err != nil {
			return nil, err
		}
		if m, err := w.ReadMachine(one.Path); err == nil && m.Passport != nil {
			one.Copy = m.Passport.Copy
		}
		list = append(list, one)
	}
	return list, nil
}

// takes is how many bytes a file takes, or the files of a folder.
func (w *Worker) takes(path string) (bytes int64, err error) {
	st, err := w.Door.Lstat(path)
	if err != nil {
		return 0, err
	}
	if !st.IsDir() {
		return w.Allocated(path)
	}
	entries, err := w.Door.ReadDir(path)
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		if e.Type().IsRegular() {
			n, err := w.Allocated(filepath.Join(path, e.Name()))
			if err != nil {
				return 0, err
			}
			bytes += n
		}
	}
	return bytes, nil
}

// givenBack are the parts that a task gives back.
func givenBack(t *run) ([]plan.GivenBack, error) {
	var p plan.GiveBack
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	for _, part := range p.Parts {
		if err := errors.Join(t.Within(part.From), t.Within(part.To)); err != nil {
			return nil, err
		}
		if filepath.Base(filepath.Dir(filepath.Dir(part.From))) != trashDir {
			return nil, ground.Refuse("file.outside", "%s lies in no trash", part.From)
		}
	}
	return p.Parts, nil
}

// doGiveBack gives back what lies in the trash. A machine folder is not listed again by that.
func doGiveBack(_ context.Context, t *run) (any, error) {
	parts, err := givenBack(t)
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		if _, err := t.Door.Lstat(part.From); errors.Is(err, fs.ErrNotExist) {
			if _, err := t.Door.Lstat(part.To); err == nil {
				continue // given back before the agent was killed
			}
			return nil, ground.Refuse("trash.gone", "%s is no longer in the trash: its term is over", part.From)
		}
		if err := t.putTo(part.From, part.To); err != nil {
			return nil, err
		}
		if err := t.emptied(filepath.Dir(part.From)); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

// undoGiveBack puts it into the trash again, with a new note.
func undoGiveBack(_ context.Context, t *run) error {
	parts, err := givenBack(t)
	if err != nil {
		return nil // it was never begun
	}
	for _, part := range parts {
		_, in := t.Door.Lstat(part.From)
		_, out := t.Door.Lstat(part.To)
		if in == nil || errors.Is(out, fs.ErrNotExist) || errors.Is(out, disk.ErrOutside) {
			continue // it was not given back
		}
		if err := t.Door.MkdirAll(filepath.Dir(part.From), ground.DirMode); err != nil { // for the note
			return err
		}
		if err := t.noteTaken(part.To, part.From, part.Of); err != nil {
			return err
		}
		if err := t.putTo(part.To, part.From); err != nil {
			return err
		}
	}
	return nil
}

// putTo renames, to where nothing is.
func (t *run) putTo(from, to string) error {
	if err := t.Door.MkdirAll(filepath.Dir(to), ground.DirMode); err != nil {
		return err
	}
	if err := t.RenameNew(from, to); err != nil {
		return err
	}
	return errors.Join(t.SyncDir(filepath.Dir(from)), t.SyncDir(filepath.Dir(to)))
}

// EmptyTrash removes what has lain in the trash of the pools for its term.
func (w *Worker) EmptyTrash() {
	for _, p := range w.Config.Pools {
		root := filepath.Join(p.Path, ground.WorkDir, trashDir)
		entries, err := w.Door.ReadDir(root)
		if err != nil {
			continue
		}
		for _, e := range entries {
			info, err := e.Info()
			if err != nil {
				continue
			}
			over := filepath.Join(root, e.Name())
			if !strings.HasPrefix(e.Name(), ".") { // else begun before, and broken off
				if time.Since(info.ModTime()) < w.Config.TrashTerm() {
					continue
				}
				// All of it goes at once: nobody is given back what is half gone.
				over = filepath.Join(root, "."+e.Name())
				if err := w.Door.Rename(filepath.Join(root, e.Name()), over); err != nil {
					w.Log.Warn("trash not emptied", "pool", p.Name, "error", err)
					continue
				}
			}
			if err := w.Door.RemoveAll(over); err != nil {
				w.Log.Warn("trash not emptied", "pool", p.Name, "error", err)
			} else {
				w.Log.Info("trash emptied", "pool", p.Name, "of", info.ModTime())
			}
		}
		_ = w.Door.Remove(root) // only when it is empty
	}
}
