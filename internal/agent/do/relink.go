package do

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/door"
)

// relinkJournal is where a layer's parent was said to be.
type relinkJournal struct {
	Parent string `json:"parent"`
}

func doRelink(_ context.Context, t *run) (any, error) {
	var p plan.Relink
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if err := errors.Join(t.Within(p.Layer), t.Within(p.Parent)); err != nil {
		return nil, err
	}
	if err := t.Ours(filepath.Dir(p.Layer)); err != nil {
		return nil, err
	}
	layer, err := t.Known(p.Layer)
	if err != nil {
		return nil, err
	}
	ref, err := t.Door.Parent(p.Layer, layer)
	if err != nil {
		return nil, err
	}
	if ref == nil {
		return nil, fmt.Errorf("%s is no layer", p.Layer)
	}
	var j relinkJournal
	if there, err := t.Journal(&j); err != nil {
		return nil, err
	} else if !there {
		if err := t.Note(relinkJournal{ref.Path}); err != nil {
			return nil, err
		}
	}
	return nil, t.reparent(p.Layer, layer, p.Parent, ref.Format, p.Force)
}

// reparent points a layer to its parent. stated is the parent's format as the
// layer says; a layer may leave it out.
func (w *Worker) reparent(layer string, as door.Known, parent, stated string, anyway bool) error {
	parentAs, err := door.OnRecord(stated)
	if err != nil {
		if parentAs, err = w.Known(parent); err != nil {
			return err
		}
	}
	return w.Door.Reparent(layer, as, parent, parentAs, anyway)
}

// undoRelink points the layer back, where a parent of it still is; a layer
// whose parent was missing before is left with the one that was found, which
// does no harm.
func undoRelink(ctx context.Context, t *run) error {
	var p plan.Relink
	var j relinkJournal
	if err := t.Params(&p); err != nil {
		return err
	}
	if there, err := t.Journal(&j); !there || err != nil {
		return err
	}
	at := j.Parent
	if !filepath.IsAbs(at) {
		at = filepath.Join(filepath.Dir(p.Layer), at)
	}
	if _, err := t.Door.Stat(at); err != nil {
		return nil
	}
	layer, err := t.Known(p.Layer)
	if err != nil {
		return err
	}
	ref, err := t.Door.Parent(p.Layer, layer)
	if err != nil || ref == nil {
		return err
	}
	return t.reparent(p.Layer, layer, at, ref.Format, true)
}
