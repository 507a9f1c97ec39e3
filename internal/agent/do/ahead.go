package do

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// doUseAhead removes files that were fetched ahead, and their folder when it is empty.
func doUseAhead(_ context.Context, t *run) (any, error) {
	var p plan.UseAhead
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	for _, file := range p.Files {
		if err := t.Within(file); err != nil {
			return nil, err
		}
		if !strings.Contains(file, "/"+ground.WorkDir+"/ahead/") {
			return nil, fmt.Errorf("%s was not fetched ahead", file)
		}
		if err := t.RemoveIfThere(file); err != nil {
			return nil, err
		}
		dir := filepath.Dir(file)
		for range 3 { // the copy's, ahead, and the pool's working directory: those that are empty
			if t.Door.Remove(dir) != nil {
				break
			}
			dir = filepath.Dir(dir)
		}
	}
	return nil, nil
}
