package do

import (
	"context"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// fenceJournal is whose the machine was.
type fenceJournal struct {
	Was *ground.Holder `json:"was"`
}

// doFence marks a machine as this host's, which another lists that can't be asked.
func doFence(_ context.Context, t *run) (any, error) {
	var p plan.Fence
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if err := t.Within(p.Folder); err != nil {
		return nil, err
	}
	var j fenceJournal
	there, err := t.Journal(&j)
	if err != nil {
		return nil, err
	}
	if !there {
		if j.Was, err = t.HeldElsewhere(p.Folder); err != nil {
			return nil, err
		}
		if err := t.Note(j); err != nil {
			return nil, err
		}
	}
	return nil, t.Ground.Fence(p.Folder, p.From)
}

func undoFence(_ context.Context, t *run) error {
	var p plan.Fence
	var j fenceJournal
	if err := t.Params(&p); err != nil {
		return err
	}
	if there, err := t.Journal(&j); !there || err != nil {
		return err
	}
	return t.Unfence(p.Folder, j.Was)
}
