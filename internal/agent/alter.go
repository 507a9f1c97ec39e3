package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
)

// alterJournal is how a machine folder was before a task altered it.
type alterJournal struct {
	Descriptor string            `json:"descriptor"` // file's name; "" when there was none
	Raw        []byte            `json:"raw"`
	IDs        map[string]string `json:"ids"` // path of a disk → the id it had
	Listed     *registered       `json:"listed"`
	Variables  string            `json:"variables"` // file that was made
}

// doAlter writes a machine folder's descriptor anew where it lies, gives its
// disks the ids that they are to have, and lists the machine.
func doAlter(_ context.Context, t *task) (any, error) {
	var p plan.Alter
	if err := t.params(&p); err != nil {
		return nil, err
	}
	if err := t.a.within(p.Folder); err != nil {
		return nil, err
	}
	if p.Machine == nil {
		return nil, errors.New("a folder is altered for a machine only")
	}
	folder := p.Folder
	if _, err := t.a.door.Stat(folder); errors.Is(err, fs.ErrNotExist) && p.Rename != "" { // renamed before the agent was killed
		folder = filepath.Join(filepath.Dir(folder), p.Rename)
	} else if err != nil {
		return nil, err
	}
	if t.a.driver.State(folder) == "running" {
		return nil, &taskError{"state.running", fmt.Sprintf("%s runs: its descriptor is not changed meanwhile", p.Name)}
	}
	j, err := t.a.alterJournal(t, p, folder)
	if err != nil {
		return nil, err
	}
	for path, id := range p.NewIDs {
		if rel, inside := strings.CutPrefix(path, p.Folder+"/"); inside {
			path = filepath.Join(folder, rel)
		}
		as, err := t.a.known(path)
		if err != nil {
			return nil, err
		}
		if err := t.a.door.Renew(path, as, id); err != nil {
			return nil, err
		}
	}
	if err := t.a.writeDescriptor(folder, p, j); err != nil {
		return nil, err
	}
	listed := registered{Since: time.Now()}
	if j.Listed != nil {
		listed = *j.Listed
	}
	if p.Rename != "" && filepath.Base(folder) != p.Rename {
		to := filepath.Join(filepath.Dir(folder), p.Rename)
		if err := t.a.renameNew(folder, to); err != nil {
			return nil, err
		}
		if err := errors.Join(t.a.syncDir(filepath.Dir(to)), t.a.store.delist(folder)); err != nil {
			return nil, err
		}
		folder = to
	}
	if p.List {
		return nil, t.a.store.list(folder, listed)
	}
	return nil, nil
}

// alterJournal keeps how the folder is, once.
func (a *Agent) alterJournal(t *task, p plan.Alter, folder string) (j alterJournal, err error) {
	if there, err := a.store.get("journals", t.state.ID, &j); there || err != nil {
		return j, err
	}
	if j.Descriptor = a.findDescriptor(folder); j.Descriptor != "" {
		if j.Raw, err = disk.ReadFile(a.door, filepath.Join(folder, j.Descriptor), ovf.MaxDescriptorBytes); err != nil {
			return j, err
		}
	}
	j.IDs = map[string]string{}
	for path := range p.NewIDs {
		c := a.layers(path)
		if len(c) > 0 {
			j.IDs[path] = c[0].id
		}
	}
	if r, ok := a.store.register()[folder]; ok {
		j.Listed = &r
	}
	if v := p.Machine.Variables; v != "" {
		if _, err := a.door.Stat(filepath.Join(folder, v)); errors.Is(err, fs.ErrNotExist) {
			j.Variables = v
		}
	}
	return j, a.store.put("journals", t.state.ID, j)
}

// writeDescriptor puts the machine into the descriptor, beside its final place
// first; one of another name goes.
func (a *Agent) writeDescriptor(folder string, p plan.Alter, j alterJournal) error {
	raw, err := describe(p.Descriptor, string(j.Raw), 0, p.Machine)
	if err != nil {
		return err
	}
	if j.Variables != "" { // the firmware fills it at the first start
		if err := a.writeSynced(filepath.Join(folder, j.Variables), nil); err != nil {
			return err
		}
	}
	name := machine.CleanName(p.Name) + ".ovf"
	next := filepath.Join(folder, "."+name+".next")
	if err := a.writeSynced(next, raw); err != nil {
		return errors.Join(err, a.removeIfThere(next))
	}
	if err := a.door.Rename(next, filepath.Join(folder, name)); err != nil {
		return err
	}
	if j.Descriptor != "" && j.Descriptor != name {
		if err := a.removeIfThere(filepath.Join(folder, j.Descriptor)); err != nil {
			return err
		}
	}
	return a.syncDir(folder)
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
func undoAlter(t *task) error {
	var p plan.Alter
	var j alterJournal
	if err := t.params(&p); err != nil {
		return err
	}
	there, err := t.a.store.get("journals", t.state.ID, &j)
	if !there || err != nil {
		return err
	}
	folder := p.Folder
	if p.Rename != "" {
		if _, err := t.a.door.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			if err := t.a.renameNew(filepath.Join(filepath.Dir(folder), p.Rename), folder); err != nil {
				return err
			}
			if err := t.a.store.delist(filepath.Join(filepath.Dir(folder), p.Rename)); err != nil {
				return err
			}
		}
	}
	var errs []error
	for path, id := range j.IDs {
		as, err := t.a.known(path)
		if err == nil {
			err = t.a.door.Renew(path, as, id)
		}
		errs = append(errs, err)
	}
	name := machine.CleanName(p.Name) + ".ovf"
	if j.Descriptor != name {
		errs = append(errs, t.a.removeIfThere(filepath.Join(folder, name)))
	}
	errs = append(errs, t.a.removeIfThere(filepath.Join(folder, "."+name+".next")))
	if j.Descriptor != "" {
		next := filepath.Join(folder, "."+j.Descriptor+".next")
		errs = append(errs, t.a.writeSynced(next, j.Raw), t.a.door.Rename(next, filepath.Join(folder, j.Descriptor)))
	}
	if j.Variables != "" {
		errs = append(errs, t.a.removeIfThere(filepath.Join(folder, j.Variables)))
	}
	if j.Listed != nil {
		errs = append(errs, t.a.store.list(folder, *j.Listed))
	} else {
		errs = append(errs, t.a.store.delist(folder))
	}
	return errors.Join(append(errs, t.a.syncDir(folder))...)
}

// doDelist takes a machine off the list. Its files are not touched.
func doDelist(_ context.Context, t *task) (any, error) {
	var p plan.Unlist
	if err := t.params(&p); err != nil {
		return nil, err
	}
	if t.a.driver.State(p.Folder) == "running" {
		return nil, &taskError{"state.running", "it runs; stop it first"}
	}
	return nil, t.a.store.delist(p.Folder)
}

func undoDelist(t *task) error {
	var p plan.Unlist
	if err := t.params(&p); err != nil {
		return err
	}
	return t.a.store.list(p.Folder, registered{Since: time.Now()})
}

// trashDir in a pool's working directory holds what was taken away, each in a
// directory of its own, until its term is over.
const trashDir = "trash"

func (a *Agent) trashOf(folder, job string) (string, error) {
	for _, p := range a.config.Pools {
		root := filepath.Clean(p.Path)
		if strings.HasPrefix(folder, root+"/") {
			return filepath.Join(root, workDir, trashDir, job), nil
		}
	}
	return "", a.within(folder)
}

// takeAwayJournal is what was listed of what a task has taken away.
type takeAwayJournal struct {
	Listed map[string]registered `json:"listed"`
}

// doTakeAway moves a machine folder, and disks of it that lie elsewhere, to the
// trash of their pools.
func doTakeAway(_ context.Context, t *task) (any, error) {
	j := takeAwayJournal{Listed: map[string]registered{}}
	if there, err := t.a.store.get("journals", t.state.ID, &j); err != nil {
		return nil, err
	} else if !there {
		listed := t.a.store.register()
		err := t.a.eachTaken(t, func(from, _ string) error {
			if r, ok := listed[from]; ok {
				j.Listed[from] = r
			}
			return nil
		})
		if err := errors.Join(err, t.a.store.put("journals", t.state.ID, j)); err != nil {
			return nil, err
		}
	}
	return nil, t.a.eachTaken(t, func(from, to string) error {
		if _, err := t.a.door.Stat(from); errors.Is(err, fs.ErrNotExist) {
			return nil // taken away before the agent was killed
		}
		if t.a.driver.State(from) == "running" {
			return &taskError{"state.running", "it runs; stop it first"}
		}
		if err := t.a.door.MkdirAll(filepath.Dir(to), dirMode); err != nil {
			return err
		}
		if err := t.a.renameNew(from, to); err != nil {
			return err
		}
		if err := errors.Join(t.a.store.delist(from), t.a.syncDir(filepath.Dir(from)), t.a.syncDir(filepath.Dir(to))); err != nil {
			return err
		}
		if dir := filepath.Dir(from); strings.HasSuffix(dir, "-disks") {
			t.a.door.Remove(dir) // only when it is empty
		}
		return nil
	})
}

// undoTakeAway puts back what was taken away, listed as it was.
func undoTakeAway(t *task) error {
	var j takeAwayJournal
	if _, err := t.a.store.get("journals", t.state.ID, &j); err != nil {
		return err
	}
	return t.a.eachTaken(t, func(from, to string) error {
		if _, err := t.a.door.Stat(to); err == nil {
			if err := t.a.door.MkdirAll(filepath.Dir(from), dirMode); err != nil {
				return err
			}
			if err := t.a.renameNew(to, from); err != nil {
				return err
			}
			t.a.door.Remove(filepath.Dir(to)) // only when it is empty
			if err := t.a.syncDir(filepath.Dir(from)); err != nil {
				return err
			}
		}
		if r, ok := j.Listed[from]; ok {
			return t.a.store.list(from, r)
		}
		return nil
	})
}

func (a *Agent) eachTaken(t *task, move func(from, to string) error) error {
	var p plan.TakeAway
	if err := t.params(&p); err != nil {
		return err
	}
	for _, from := range append([]string{p.Folder}, p.Files...) {
		trash, err := a.trashOf(from, t.spec.Job)
		if err != nil {
			return err
		}
		if err := move(from, filepath.Join(trash, filepath.Base(from))); err != nil {
			return err
		}
	}
	return nil
}

// emptyTrash removes what has lain in the trash of the pools for its term.
func (a *Agent) emptyTrash() {
	for _, p := range a.config.Pools {
		root := filepath.Join(p.Path, workDir, trashDir)
		entries, err := a.door.ReadDir(root)
		if err != nil {
			continue
		}
		for _, e := range entries {
			info, err := e.Info()
			if err != nil || time.Since(info.ModTime()) < a.config.trashTerm() {
				continue
			}
			if err := a.door.RemoveAll(filepath.Join(root, e.Name())); err != nil {
				a.log.Warn("trash not emptied", "pool", p.Name, "error", err)
			} else {
				a.log.Info("trash emptied", "pool", p.Name, "of", info.ModTime())
			}
		}
		a.door.Remove(root) // only when it is empty
	}
}
