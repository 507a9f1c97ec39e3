package do

import (
	"context"
	"path/filepath"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// doMend repairs what needs no guess. Guest data is never changed, so that
// there is nothing to undo.
func doMend(_ context.Context, t *run) (any, error) {
	var p plan.Mend
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if err := t.Ours(filepath.Dir(p.Path)); err != nil {
		return nil, err
	}
	as, err := t.Known(p.Path)
	if err != nil {
		return nil, err
	}
	c, err := t.Door.Mend(p.Path, as)
	if err != nil {
		return nil, err
	}
	if !c.Sound() {
		return nil, ground.Refuse("disk.damaged", "%s can't be put in order without guessing: %s", p.Path,
			c.Problems[0].What)
	}
	return nil, nil
}
