package do

import (
	"context"
	"errors"
	"path/filepath"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// layerJournal notes that a task has taken the right to write off a layer's parent.
type layerJournal struct {
	Frozen bool `json:"frozen"`
}

// layerAt is where a layer is to lie: at its place, or staged for a machine to come.
func layerAt(t *run, p plan.NewLayer) (string, error) {
	if p.Pool == "" {
		return p.Path, errors.Join(t.Within(p.Parent), t.Within(p.Path))
	}
	if filepath.Base(p.File) != p.File {
		return "", ground.Refuse("package.path-escape", "%q is no file name", p.File)
	}
	path := filepath.Join(t.Staging(p.Pool), p.File)
	return path, errors.Join(t.Within(p.Parent), t.Within(path))
}

func doLayer(_ context.Context, t *run) (any, error) {
	var p plan.NewLayer
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	path, err := layerAt(t, p)
	if err != nil {
		return nil, err
	}
	format, err := formats.ByName(p.Format)
	if err != nil {
		return nil, err
	}
	parent, err := t.Known(p.Parent)
	if err != nil {
		return nil, err
	}
	if p.Pool != "" {
		if err := t.Door.MkdirAll(filepath.Dir(path), ground.DirMode); err != nil {
			return nil, err
		}
	}
	if err := t.RemoveIfThere(path); err != nil { // of a try that was cut short
		return nil, err
	}
	if err := t.Door.NewLayer(path, format, t.NewID(path), p.Parent, parent); err != nil || !p.Freeze {
		return nil, err
	}
	return nil, t.freeze(p.Parent)
}

// freeze takes the right to write off a file, for good, and notes that this task did.
func (t *run) freeze(path string) error {
	frozen, err := t.Door.Frozen(path)
	if err != nil || frozen {
		return err
	}
	if err := t.Note(layerJournal{Frozen: true}); err != nil {
		return err
	}
	return t.Door.Freeze(path, true)
}

func undoLayer(_ context.Context, t *run) error {
	var p plan.NewLayer
	if err := t.Params(&p); err != nil {
		return err
	}
	path, err := layerAt(t, p)
	if err != nil {
		return nil // it was never begun
	}
	var j layerJournal
	if _, err := t.Journal(&j); err != nil {
		return err
	}
	if err := t.RemoveIfThere(path); err != nil || !j.Frozen {
		return err
	}
	return t.Door.Freeze(p.Parent, false)
}
