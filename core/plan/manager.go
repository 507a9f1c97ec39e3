package plan

import (
	"fmt"
	"slices"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
)

// ManagerFacts is what is known of the manager that has a machine.
type ManagerFacts struct {
	Name  string
	Live  bool                // images are made of a machine that runs, too
	May   bool                // the account may have images made
	Peer  bool                // it is another Unvora, whose agents send the disks by themselves
	Ahead map[string]AheadOne // disk → what was fetched of it before, at the host that it comes to
	Stale []StaleOne          // what was fetched ahead to others
}

// AheadOne is a disk that was fetched ahead.
type AheadOne struct {
	Path  string
	Image string // at the manager, from which the difference is told
	When  string // for people
}

// StaleOne is a disk that was fetched ahead to a host that it does not come to now.
type StaleOne struct{ Host, Path, Image string }

// managed decides how the disks of a machine at a manager are read, and tells
// whether it has to be stopped for that.
func (b *builder) managed(facts RegisterFacts, m *machine.Machine) (stop bool) {
	mg := facts.Manager
	switch {
	case !mg.May && mg.Peer:
		b.raise(fit.Raise("manager.rights", m.Name, fmt.Sprintf("%s lets you see it, and not take it. Ask its people "+
			"for "+
			"that: unvora manager grant", mg.Name), nil), "")
	case !mg.May:
		b.raise(fit.Raise("manager.rights", m.Name, fmt.Sprintf("The account at %s may not have images of its disks "+
			"made. "+
			"Ask for that right there, or name an account that has it: unvora manager check %s", mg.Name, mg.Name),
			nil), "")
	}
	if facts.Via != nil {
		b.reach(*facts.Via)
	}
	for _, d := range m.Disks {
		if a, ok := mg.Ahead[d.ID]; ok && facts.Via == nil {
			b.raise(fit.Raise("manager.ahead", d.ID, fmt.Sprintf("It was fetched ahead %s: only what has changed "+
				"since is "+
				"moved.", a.When), nil), "")
		}
	}
	if facts.Folder.State != machine.Running {
		return false
	}
	f := fit.Raise("manager.running", m.Name, fmt.Sprintf("It runs at %s, and its disks change while they are read.",
		mg.Name), nil)
	if !mg.Live {
		f.Withdraw("moment")
	}
	if !mg.Live && !mg.Peer {
		b.raise(fit.Raise("manager.stopped-only", m.Name, fmt.Sprintf("Where it runs, %s hands out the disks of "+
			"stopped "+
			"machines only.", mg.Name), nil), "")
	}
	return b.raise(f, "").Remedy() == "stop"
}

// peer tells whether the machine is at another Unvora.
func (facts RegisterFacts) peer() bool { return facts.Manager != nil && facts.Manager.Peer }

func takeImages(facts RegisterFacts, handled []*handling, stop, move bool) Step {
	do := &TakeImages{Machine: facts.Folder.Path, Volumes: map[string]string{}, Since: map[string]string{}, Stop: stop,
		Move: move}
	for _, x := range handled {
		do.Bytes += x.facts.FileBytes
		do.Volumes[x.disk.ID] = x.facts.Path
		if a, ok := facts.Manager.Ahead[x.disk.ID]; ok && facts.Via == nil {
			do.Since[x.disk.ID] = a.Image
		}
	}
	what := "Have an image made of " + count(len(handled), "disk")
	if facts.Manager.Peer {
		what = "Ask to be let read " + count(len(handled), "disk")
		if stop {
			what = "Have it stopped, and ask to be let read " + count(len(handled), "disk")
		}
	}
	return Step{Host: facts.From.Name, What: what + " at " + facts.Manager.Name, Do: do}
}

// dropImages lets the manager remove the images that were read.
func dropImages(facts RegisterFacts, move bool) []Step {
	do := &DropImages{Taken: true}
	for _, a := range facts.Manager.Ahead {
		do.Others = append(do.Others, a.Image)
	}
	for _, a := range facts.Manager.Stale {
		do.Others = append(do.Others, a.Image)
	}
	slices.Sort(do.Others)
	what := "Have the images removed at " + facts.Manager.Name
	step := Step{Host: facts.From.Name, What: what, Do: do}
	if facts.Manager.Peer {
		step.Do, step.What = &TellPeer{}, "Tell "+facts.Manager.Name+" that everything was read"
		if move {
			step.What += ", and have the copy there put into the trash"
		}
	}
	return []Step{step}
}

// useAhead removes what was fetched ahead: the copy has it now.
func (mg *ManagerFacts) useAhead(facts RegisterFacts) []Step {
	steps := mg.removeStale(facts)
	do := &UseAhead{Copy: facts.Parent}
	for _, a := range mg.Ahead {
		do.Files = append(do.Files, a.Path)
	}
	if slices.Sort(do.Files); len(do.Files) > 0 {
		steps = append(steps, Step{Host: facts.Host.Name, What: "Remove what was fetched ahead", Do: do})
	}
	if len(steps) == 0 {
		return nil
	}
	return append(steps, Step{What: "Note that nothing is fetched ahead any more", Do: &NoteAhead{Copy: facts.Parent}})
}

// removeStale removes what was fetched ahead to hosts that it does not come to.
func (mg *ManagerFacts) removeStale(facts RegisterFacts) (steps []Step) {
	for _, a := range mg.Stale {
		steps = append(steps, Step{Host: a.Host, What: "Remove what was fetched ahead to " + a.Host,
			Do: &UseAhead{Copy: facts.Parent, Files: []string{a.Path}}})
	}
	return steps
}
