package plan

import (
	"fmt"
	"slices"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
)

// MoveFacts is what MoveMachine is worked out from.
type MoveFacts struct {
	RegisterFacts        // of the machine at its new place: the folder is the one that it leaves
	Pool          string // name of the pool that it lies in, where that is one of the new host's too; "" for none
}

// MoveMachine plans to take a registered copy to another host, or to another pool of its host. It stays the copy that
// it is. Before it is listed there it is taken off the list here: at no moment could both be started. What it leaves
// goes to the trash of its pool.
func MoveMachine(facts MoveFacts, req BringRequest) (*Plan, error) {
	from := facts.Host
	if facts.From != nil {
		from = *facts.From
	} else if req.Pool == "" || req.Pool == facts.Pool {
		return nil, fmt.Errorf("%s is at %s already: name another host (--host), or another pool of this one (--pool)",
			facts.Where, facts.Host.Name)
	}
	ran, folder := facts.Folder.State.Active(), facts.Folder.Path
	req.Files, req.Identity = Move, identity.Keep
	facts.Moves = true
	facts.Folder.Registered = false // for what is asked of folders: that it is, is why it can be moved
	p, err := Register(facts.RegisterFacts, req)
	if err != nil {
		return nil, err
	}
	p.Operation = "move"
	at := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Kind == KindPlace })
	rec := recordOf(p)
	if at < 0 || rec == nil { // it is blocked
		return p, nil
	}
	fence := []Step{{Host: from.Name, What: fmt.Sprintf("Take %s off the list of %s: nothing starts it there from "+
		"now on", facts.Where, from.Name), Do: &Unlist{Folder: folder}}}
	if facts.Folder.State == machine.Suspended { // as late as can be: this alone does not come back
		fence = slices.Insert(fence, 0, Step{Host: from.Name, What: "Drop the suspended state of " + facts.Where,
			Do: &Stop{Power: Power{Copy: rec.Copy, Folder: folder}, Manner: machine.Off}})
	}
	p.Steps = slices.Insert(p.Steps, at, fence...)
	for i, s := range p.Steps {
		if s.Do == Params(rec) {
			p.Steps[i].What = "Note its new place in the inventory"
		}
	}
	if ran {
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: "Start " + facts.Host.Name + "/" + rec.Name,
			Do: &Start{Power: Power{Copy: rec.Copy, Folder: rec.Path}}})
	}
	p.number()
	return p, nil
}
