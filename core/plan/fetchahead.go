package plan

import (
	"fmt"
	"path"

	"unvora.example/unvora/core/fit"
)

// AheadDir is where disks that were fetched ahead of a copy lie in a pool.
func AheadDir(pool, copy string) string { return path.Join(pool, ".unvora", "ahead", copy) }

// FetchAhead plans to fetch the disks of a machine at a manager ahead of its
// import: the first time all of it, then what has changed since.
func FetchAhead(facts RegisterFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	p := &Plan{Operation: "fetch-ahead", Subjects: []string{facts.Where}, Target: facts.Host.Name}
	b.host(facts.Host)
	b.reach(*facts.From)
	b.of = facts.Of
	b.busy(facts.Where, facts.Busy)
	m := facts.Folder.Machine.Clone()
	stop := b.managed(facts, m)
	handled := b.disks(m, facts.Folder, facts.Host, false)
	to, err := b.land(facts.Arrival, req, m)
	if err != nil {
		return nil, err
	}
	power := Power{Copy: facts.Parent, Folder: facts.Folder.Path}
	if stop {
		p.Steps = append(p.Steps, stopStep(facts.From.Name, facts.Where, power))
	}
	p.Steps = append(p.Steps, takeImages(facts, handled, false, false))
	if stop {
		p.Steps = append(p.Steps, againStep(facts.From.Name, facts.Where, power))
	}
	note := &NoteAhead{Copy: facts.Parent, Host: facts.Host.ID, Pool: to.pool.ID, Paths: map[string]string{}}
	old, before := &DropImages{}, []string(nil)
	for _, x := range handled {
		dir := AheadDir(to.pool.Path, facts.Parent)
		step := x.carryStep(facts.Arrival, facts.From, facts.Folder.Path, to.pool, dir, m.Name,
			facts.Host.Family.Formats[0])
		do := step.Do.(*Carry)
		a, again := facts.Manager.Ahead[x.disk.ID]
		step.What = fmt.Sprintf("Fetch disk %s (%s) into the pool %s, read from %s", x.disk.ID,
			fit.Size(x.disk.VirtualBytes),
			to.pool.Name, facts.Manager.Name)
		if again {
			do.Ahead = a.Path
			before, old.Others = append(before, a.Path), append(old.Others, a.Image)
			step.Bytes = 0 // nobody knows yet
			step.What = fmt.Sprintf("Fetch what has changed on disk %s since it was fetched %s, read from %s",
				x.disk.ID, a.When,
				facts.Manager.Name)
			if path.Base(a.Path) == do.File { // the two lie beside each other for a while
				do.File = "again-" + do.File
			}
		}
		note.Paths[x.disk.ID] = path.Join(dir, do.File)
		p.Steps = append(p.Steps, step)
	}
	p.Steps = append(p.Steps, Step{What: "Note what was fetched ahead", Do: note})
	if len(before) > 0 {
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: "Remove what was fetched before",
			Do: &UseAhead{Copy: facts.Parent, Files: before}})
	}
	p.Steps = append(p.Steps, facts.Manager.removeStale(facts)...)
	for _, a := range facts.Manager.Stale {
		old.Others = append(old.Others, a.Image)
	}
	if len(old.Others) > 0 {
		p.Steps = append(p.Steps, Step{Host: facts.From.Name, What: "Have the images of then removed at " +
			facts.Manager.Name, Do: old})
	}
	return b.finish(p)
}
