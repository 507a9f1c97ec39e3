package do

import (
	"context"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// doDelist takes a machine off the list. Its files are not touched.
func doDelist(_ context.Context, t *run) (any, error) {
	var p plan.Unlist
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if t.Driver.State(p.Folder) == machine.Running {
		return nil, ground.Refuse("state.running", "it runs; stop it first")
	}
	return nil, t.Records.Delist(p.Folder)
}

func undoDelist(t *run) error {
	var p plan.Unlist
	if err := t.Params(&p); err != nil {
		return err
	}
	return t.Records.List(p.Folder, ground.Registered{Since: time.Now()})
}
