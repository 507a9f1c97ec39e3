package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// InTrash is a machine folder, or a file, that lies in the trash of a pool.
type InTrash struct {
	Name  string
	Pool  string      // id
	Parts []GivenBack // itself, then its disks that lay elsewhere; To is where each lay
}

// RestoreFacts is what Restore is worked out from.
type RestoreFacts struct {
	Host  HostFacts
	Item  InTrash
	Taken []string       // names of folders in the pool, as far as it may run into them; none where it lay in a folder
	Now   *lineage.Known // where the copy that it was is now; nil when it is nowhere
}

// Restore plans to give back what was put into the trash. A machine folder is a stray then, that no host lists.
func Restore(facts RestoreFacts, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	subject := facts.Host.Name + "/" + facts.Item.Name
	p := &Plan{Operation: "restore", Subjects: []string{subject}, Target: facts.Host.Name}
	b.reach(facts.Host)
	for _, pool := range facts.Host.Pools {
		if pool.ID == facts.Item.Pool {
			b.poolState(pool, facts.Host)
		}
	}
	if k := facts.Now; k != nil && k.Present {
		b.raise(fit.Raise("trash.copy-elsewhere", subject, fmt.Sprintf("It is what %s left behind, as it was then. "+
			"Both have the same identity: renew it when you register this one, or leave it off every list.", place(*k)),
			map[string]any{"copy": k.ID}), "")
	}
	parts := slices.Clone(facts.Item.Parts)
	to := parts[0].To
	taken := func(name string) bool {
		return slices.ContainsFunc(facts.Taken, func(t string) bool { return strings.EqualFold(t, name) })
	}
	if name := path.Base(to); taken(name) {
		f := fit.Raise("name.taken", subject, fmt.Sprintf("Where it lay, %s is something else by now.", to), nil)
		free := freeName(name, taken)
		f.Suggest("rename", "Call its folder "+free, free)
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			if err := machine.CheckName(f.Value()); err != nil {
				return nil, fmt.Errorf("name.taken: %w", err)
			}
			if taken(f.Value()) {
				return nil, fmt.Errorf("name.taken: %s is taken too", f.Value())
			}
			parts[0].To = path.Join(path.Dir(to), f.Value())
		}
	}
	what := "Take it out of the trash, to " + parts[0].To
	for _, disk := range parts[1:] {
		what += ", and its disk to " + disk.To
	}
	p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: what,
		Do: &GiveBack{PoolID: facts.Item.Pool, Parts: parts}})
	return b.finish(p)
}
