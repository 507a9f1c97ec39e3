package plan

import (
	"fmt"
	"time"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
)

// Elsewhere is another host that lists a machine folder. Both see it, since their pools are one.
type Elsewhere struct {
	Host         HostFacts     // only its name where it is none of ours
	Ours         bool          // it is one of our hosts
	Sees         bool          // it answers, and has the pool
	Folder       string        // path of the folder there
	State        machine.State // of the machine there, as it was last known
	Mark         string        // id of its agent, as the mark in the folder has it; "" without
	QuietSeconds int64         // since it wrote to the pool that it is there; negative: it never did
}

// SilentAfter is how long a host has to write nothing to a pool until it may be taken for dead. It writes every quarter
// of that.
const SilentAfter = time.Minute

// Alive tells whether a host that wrote to a pool so long ago that it is there may be alive; negative: it never did.
func Alive(quiet time.Duration) bool { return quiet >= 0 && quiet < SilentAfter }

// elsewhere settles whether a machine may come onto the list of a host while another lists it. The steps see to it
// that the other starts it no more; they come before anything of it is changed.
func (b *builder) elsewhere(facts RegisterFacts, files string) []Step {
	e, m := facts.Elsewhere, facts.Folder.Machine
	if e == nil || m == nil {
		return nil
	}
	unlist := Step{Host: e.Host.Name, What: fmt.Sprintf("Take %s off the list of %s: nothing starts it there from "+
		"now on", facts.Where, e.Host.Name), Do: &Unlist{Folder: e.Folder}}
	fence := Step{Host: facts.Host.Name, What: fmt.Sprintf("Mark %s as of %s: %s starts it no more, also when it "+
		"comes back", facts.Where, facts.Host.Name, e.Host.Name),
		Do: &Fence{Folder: facts.Folder.Path, From: e.Mark}}
	detail := map[string]any{"host": e.Host.Name}
	power := Power{Copy: facts.Copy, Folder: e.Folder}
	switch {
	case files != Stay || e.Sees && !facts.Moves:
		b.raise(fit.Raise("copy.listed-elsewhere", m.Name, fmt.Sprintf("%s lists this very folder, in the same pool. "+
			"It comes to %s by a move, which copies nothing: unvora move %s/%s --host %s", e.Host.Name, facts.Host.Name,
			e.Host.Name, m.Name, facts.Host.Name), detail), "")
	case e.Sees:
		switch {
		case e.State == machine.Suspended:
			return []Step{{Host: e.Host.Name, What: "Drop the suspended state of " + facts.Where,
				Do: &Stop{Power: power, Manner: machine.Off}}, unlist}
		case e.State.Active():
			if b.running(m.Name, fmt.Sprintf("%s runs. Its files stay where they are: it is down for as long as it "+
				"takes to stop it, and to start it on %s.", facts.Where, facts.Host.Name), "") != stopped {
				return nil
			}
			return []Step{stopStep(e.Host.Name, facts.Where, power), unlist}
		}
		return []Step{unlist}
	case e.Ours && e.Host.State != HostUnreachable:
		b.raise(fit.Raise("copy.left-behind", m.Name, fmt.Sprintf("%s lists it, and has not got its pool now. It is "+
			"taken off the list there.", e.Host.Name), detail), "")
		return []Step{unlist, fence}
	case Alive(time.Duration(e.QuietSeconds) * time.Second):
		b.raise(fit.Raise("host.unheard", e.Host.Name, fmt.Sprintf("It lists %s, and it is alive: %d s ago it wrote "+
			"to the pool. Only the service can't reach it. Stop the machine there, or see to the network. A host that "+
			"is off counts as silent after %d s.", m.Name, e.QuietSeconds, int(SilentAfter.Seconds())), detail), "")
	default:
		last := "It has never written to the pool that it is there."
		if e.QuietSeconds >= 0 {
			last = fmt.Sprintf("It last wrote to the pool %s.", ago(e.QuietSeconds))
		}
		whose := ""
		if !e.Ours {
			whose = ", and is none of the hosts here"
		}
		f := b.raise(fit.Raise("host.silent", e.Host.Name, fmt.Sprintf("It lists %s, and does not answer%s. %s If it "+
			"still runs the machine, two hosts write to its disks and destroy them: make sure that it is off. When it "+
			"comes back it finds the mark in the folder, and does not start it.", m.Name, whose, last), detail), "")
		if f.Remedy() == "off" {
			return []Step{fence}
		}
	}
	return nil
}

// ago says in words when something was.
func ago(seconds int64) string {
	switch {
	case seconds < 2:
		return "just now"
	case seconds < 120:
		return fmt.Sprintf("%d s ago", seconds)
	case seconds < 2*3600:
		return fmt.Sprintf("%d min ago", seconds/60)
	case seconds < 48*3600:
		return fmt.Sprintf("%d h ago", seconds/3600)
	}
	return fmt.Sprintf("%d days ago", seconds/86400)
}
