package do

import (
	"context"
	"errors"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/plan"
)

func doLayer(_ context.Context, t *run) (any, error) {
	var p plan.NewLayer
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if err := errors.Join(t.Within(p.Parent), t.Within(p.Path)); err != nil {
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
	if err := t.RemoveIfThere(p.Path); err != nil { // of a try that was cut short
		return nil, err
	}
	return nil, t.Door.NewLayer(p.Path, format, t.NewID(p.Path), p.Parent, parent)
}

func undoLayer(ctx context.Context, t *run) error {
	var p plan.NewLayer
	if err := t.Params(&p); err != nil {
		return err
	}
	return t.RemoveIfThere(p.Path)
}
