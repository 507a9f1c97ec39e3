package do

import (
	"context"
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// contentsFile in a pool that was handed over lists what lies in it.
const contentsFile = "unvora-contents.json"

// contents is what lies in a pool.
type contents struct {
	Pool     string           `json:"pool"`
	At       time.Time        `json:"at"`
	By       string           `json:"by"`       // host
	Machines []contentMachine `json:"machines"` // folders with a descriptor
	Files    []string         `json:"files"`    // whatever else lies there, but for what is ours
}

type contentMachine struct {
	Folder  string `json:"folder"`
	Name    string `json:"name"`
	Lineage string `json:"lineage,omitempty"`
	Copy    string `json:"copy,omitempty"`
}

// poolJournal is the mark as it was.
type poolJournal struct {
	Was ground.Mark `json:"was"`
}

// remark writes the mark of a pool anew. How it was is noted before.
func (t *run) remark(id string, change func(c ground.PoolConfig, m *ground.Mark) error) (ground.PoolConfig,
	error) {
	c, m, err := t.PoolAt(id)
	if err != nil {
		return c, err
	}
	var j poolJournal
	there, err := t.Journal(&j)
	if err != nil {
		return c, err
	}
	if !there {
		if err := t.Note(poolJournal{m}); err != nil {
			return c, err
		}
	}
	if err := change(c, &m); err != nil {
		return c, err
	}
	return c, t.WriteMark(c, m)
}

// stillListed is a refusal while any host lists a machine in a pool.
func (t *run) stillListed(c ground.PoolConfig) error {
	for folder := range t.Records.Register() {
		if strings.HasPrefix(folder, filepath.Clean(c.Path)+"/") {
			return ground.Refuse("pool.in-use", "%s still lists %s", t.Config.Name, filepath.Base(folder))
		}
	}
	entries, err := t.Door.ReadDir(c.Path)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !e.IsDir() || e.Name()[0] == '.' {
			continue
		}
		h, err := t.HeldElsewhere(filepath.Join(c.Path, e.Name()))
		if err != nil {
			return err
		}
		if h != nil {
			return ground.Refuse("pool.in-use", "%s still lists %s, as a mark in its folder says", h.Name, e.Name())
		}
	}
	return nil
}

// doFreePool marks a pool as nobody's, once no host lists a machine there.
func doFreePool(_ context.Context, t *run) (any, error) {
	var p plan.FreePool
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	c, err := t.remark(p.ID, func(c ground.PoolConfig, m *ground.Mark) error {
		if err := t.stillListed(c); err != nil {
			return err
		}
		if m.Freed == nil {
			m.Owner, m.Freed = nil, &ground.Freed{Host: t.Config.Name, At: time.Now()}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	list, err := t.contents(c)
	if err != nil {
		return nil, err
	}
	raw, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return nil, err
	}
	path := filepath.Join(c.Path, contentsFile)
	if err := t.RemoveIfThere(path); err != nil {
		return nil, err
	}
	if err := t.WriteSynced(path, raw); err != nil {
		return nil, err
	}
	return nil, t.Settle(p.ID)
}

// contents lists what lies in a pool.
func (w *Worker) contents(c ground.PoolConfig) (*contents, error) {
	entries, err := w.Door.ReadDir(c.Path)
	if err != nil {
		return nil, err
	}
	list := &contents{Pool: c.Name, At: time.Now(), By: w.Config.Name, Machines: []contentMachine{}, Files: []string{}}
	for _, e := range entries {
		name := e.Name()
		if name[0] == '.' || name == contentsFile {
			continue
		}
		m, err := w.ReadMachine(filepath.Join(c.Path, name))
		if !e.IsDir() || err != nil {
			list.Files = append(list.Files, name)
			continue
		}
		one := contentMachine{Folder: name, Name: m.Name}
		if m.Passport != nil {
			one.Lineage, one.Copy = m.Passport.Lineage, m.Passport.Copy
		}
		list.Machines = append(list.Machines, one)
	}
	slices.SortFunc(list.Machines, func(a, b contentMachine) int { return strings.Compare(a.Folder, b.Folder) })
	slices.Sort(list.Files)
	return list, nil
}

// doTakePool marks a pool as this Unvora's. One that another has is taken only while that is silent.
func doTakePool(_ context.Context, t *run) (any, error) {
	var p plan.TakePool
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	own, err := t.Records.Unvora()
	if err == nil && own == "" {
		err = ground.Refuse("pool.foreign", "no service has told %s yet which Unvora it belongs to", t.Config.Name)
	}
	if err != nil {
		return nil, err
	}
	c, err := t.remark(p.ID, func(c ground.PoolConfig, m *ground.Mark) error {
		switch {
		case m.Owner == nil, m.Owner.ID == own:
		case m.Owner.ID != p.From:
			return ground.Refuse("pool.foreign", "the pool belongs to the Unvora of %s by now", m.Owner.Host)
		default:
			quiet, err := t.OwnerQuiet(c, m.Owner.ID)
			if err != nil {
				return err
			}
			if plan.Alive(quiet) {
				return ground.Refuse("pool.foreign", "the pool belongs to the Unvora of %s, which wrote to it %s ago",
					m.Owner.Host, quiet.Round(time.Second))
			}
		}
		m.Owner, m.Freed = &ground.Owner{ID: own, Host: t.Config.Name}, nil
		return nil
	})
	if err != nil {
		return nil, err
	}
	return nil, t.RemoveIfThere(filepath.Join(c.Path, contentsFile))
}

// undoPoolMark gives a pool the mark that it had.
func undoPoolMark(_ context.Context, t *run) error {
	var p struct{ ID string }
	var j poolJournal
	if err := t.Params(&p); err != nil {
		return err
	}
	if there, err := t.Journal(&j); !there || err != nil {
		return err
	}
	c, _, err := t.PoolAt(p.ID)
	if err != nil {
		return err
	}
	if j.Was.Freed == nil {
		if err := t.RemoveIfThere(filepath.Join(c.Path, contentsFile)); err != nil {
			return err
		}
	}
	return t.WriteMark(c, j.Was)
}
