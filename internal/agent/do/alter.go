package do

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// alterJournal is how a machine folder was before a task altered it.
type alterJournal struct {
	Descriptor string             `json:"descriptor"` // file's name; "" when there was none
	Raw        []byte             `json:"raw"`
	IDs        map[string]string  `json:"ids"` // path of a disk → the id it had
	Listed     *ground.Registered `json:"listed"`
	Variables  string             `json:"variables"` // file that was made
}

// doAlter writes a machine folder's descriptor anew where it lies, gives its
// disks the ids that they are to have, and lists the machine.
func doAlter(ctx context.Context, t *run) (any, error) {
	var p plan.Alter
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if err := t.Within(p.Folder); err != nil {
		return nil, err
	}
	if p.Machine == nil {
		return nil, errors.New("a folder is altered for a machine only")
	}
	folder := p.Folder
	// renamed before the agent was killed
	if _, err := t.Door.Stat(folder); errors.Is(err, fs.ErrNotExist) && p.Rename != "" {
		folder = filepath.Join(filepath.Dir(folder), p.Rename)
	} else if err != nil {
		return nil, err
	}
	if !p.Live {
		letGo, err := t.KeepStopped(ctx, folder, "its descriptor is not changed meanwhile")
		if err != nil {
			return nil, err
		}
		defer letGo()
	}
	j, err := t.alterJournal(t, p, folder)
	if err != nil {
		return nil, err
	}
	for path, id := range p.NewIDs {
		if rel, inside := strings.CutPrefix(path, p.Folder+"/"); inside {
			path = filepath.Join(folder, rel)
		}
		as, err := t.Known(path)
		if err != nil {
			return nil, err
		}
		if err := t.Door.Renew(path, as, id); err != nil {
			return nil, err
		}
	}
	if err := t.writeDescriptor(folder, p, j); err != nil {
		return nil, err
	}
	listed := ground.Registered{Since: time.Now()}
	if j.Listed != nil {
		listed = *j.Listed
	}
	if p.Rename != "" && filepath.Base(folder) != p.Rename {
		to := filepath.Join(filepath.Dir(folder), p.Rename)
		if err := t.RenameNew(folder, to); err != nil {
			return nil, err
		}
		if err := errors.Join(t.SyncDir(filepath.Dir(to)), t.Delist(folder)); err != nil {
			return nil, err
		}
		folder = to
	}
	if p.List {
		return nil, t.List(folder, listed, "")
	}
	return nil, nil
}

// alterJournal keeps how the folder is, once.
func (w *Worker) alterJournal(t *run, p plan.Alter, folder string) (j alterJournal, err error) {
	if there, err := w.Records.Get("journals", t.ID(), &j); there || err != nil {
		return j, err
	}
	if j.Descriptor, err = w.FindDescriptor(folder); err != nil {
		return j, err
	}
	if j.Descriptor != "" {
		if j.Raw, err = disk.ReadFile(w.Door, filepath.Join(folder, j.Descriptor), ovf.MaxDescriptorBytes); err != nil {
			return j, err
		}
	}
	j.IDs = map[string]string{}
	for path := range p.NewIDs {
		c := w.Layers(path)
		if len(c) > 0 {
			j.IDs[path] = c[0].ID
		}
	}
	if r, ok := w.Records.Listed(folder); ok {
		j.Listed = &r
	}
	if v := p.Machine.Variables; v != "" {
		if _, err := w.Door.Stat(filepath.Join(folder, v)); errors.Is(err, fs.ErrNotExist) {
			j.Variables = v
		}
	}
	return j, w.Records.Put("journals", t.ID(), j)
}

// writeDescriptor puts the machine into the descriptor, beside its final place
// first; one of another name goes.
func (w *Worker) writeDescriptor(folder string, p plan.Alter, j alterJournal) error {
	raw, err := describe(p.Descriptor, string(j.Raw), 0, p.Machine)
	if err != nil {
		return err
	}
	if j.Variables != "" { // the firmware fills it at the first start
		if err := w.WriteSynced(filepath.Join(folder, j.Variables), nil); err != nil {
			return err
		}
	}
	name := machine.CleanName(p.Name) + ".ovf"
	next := filepath.Join(folder, "."+name+".next")
	if err := w.WriteSynced(next, raw); err != nil {
		return errors.Join(err, w.RemoveIfThere(next))
	}
	if err := w.Door.Rename(next, filepath.Join(folder, name)); err != nil {
		return err
	}
	if j.Descriptor != "" && j.Descriptor != name {
		if err := w.RemoveIfThere(filepath.Join(folder, j.Descriptor)); err != nil {
			return err
		}
	}
	return w.SyncDir(folder)
}

// describe encodes a machine's descriptor, starting from the first text that is
// one: what we don't understand in it stays.
func describe(first, second string, number int, m *machine.Machine) ([]byte, error) {
	for _, text := range []string{first, second} {
		d, err := ovf.Parse("descriptor", []byte(text))
		if err != nil {
			continue
		}
		if err := d.Only(number); err != nil {
			return nil, err
		}
		if err := d.SetMachine(0, m); err != nil {
			return nil, err
		}
		return d.Encode(0)
	}
	d, err := ovf.New(m)
	if err != nil {
		return nil, err
	}
	return d.Encode(0)
}

// undoAlter puts the folder back as its journal has it.
func undoAlter(ctx context.Context, t *run) error {
	var p plan.Alter
	var j alterJournal
	if err := t.Params(&p); err != nil {
		return err
	}
	there, err := t.Journal(&j)
	if !there || err != nil {
		return err
	}
	folder := p.Folder
	if p.Rename != "" {
		if _, err := t.Door.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			if err := t.RenameNew(filepath.Join(filepath.Dir(folder), p.Rename), folder); err != nil {
				return err
			}
			if err := t.Delist(filepath.Join(filepath.Dir(folder), p.Rename)); err != nil {
				return err
			}
		}
	}
	var errs []error
	for path, id := range j.IDs {
		as, err := t.Known(path)
		if err == nil {
			err = t.Door.Renew(path, as, id)
		}
		errs = append(errs, err)
	}
	name := machine.CleanName(p.Name) + ".ovf"
	if j.Descriptor != name {
		errs = append(errs, t.RemoveIfThere(filepath.Join(folder, name)))
	}
	errs = append(errs, t.RemoveIfThere(filepath.Join(folder, "."+name+".next")))
	if j.Descriptor != "" {
		next := filepath.Join(folder, "."+j.Descriptor+".next")
		errs = append(errs, t.WriteSynced(next, j.Raw), t.Door.Rename(next, filepath.Join(folder, j.Descriptor)))
	}
	if j.Variables != "" {
		errs = append(errs, t.RemoveIfThere(filepath.Join(folder, j.Variables)))
	}
	if j.Listed != nil {
		errs = append(errs, t.List(folder, *j.Listed, ""))
	} else {
		errs = append(errs, t.Delist(folder))
	}
	return errors.Join(append(errs, t.SyncDir(folder))...)
}
