package do

import (
	"context"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// doDelist takes a machine off the list. Its files are not touched.
func doDelist(ctx context.Context, t *run) (any, error) {
	var p plan.Unlist
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	letGo, err := t.KeepStopped(ctx, p.Folder, "stop it first")
	if err != nil {
		return nil, err
	}
	defer letGo()
	return nil, t.Delist(p.Folder)
}

func undoDelist(ctx context.Context, t *run) error {
	var p plan.Unlist
	if err := t.Params(&p); err != nil {
		return err
	}
	return t.List(p.Folder, ground.Registered{Since: time.Now()}, "")
}
