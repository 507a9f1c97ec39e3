package plan

import (
	"fmt"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// PowerFacts is what PowerOnOff is worked out from, for each copy.
type PowerFacts struct {
	Copy      lineage.Known
	HostState HostState
	Busy      string
	SameUUID  []lineage.Known // others with its machine UUID
	SameMAC   []lineage.Known // others with one of its MACs
	Isolated  bool            // all its NICs are in quarantine, or unplugged
}

// PowerOnOff plans the starting ("start") or stopping ("stop") of copies. A
// copy that would collide with one that runs, or with another that is started
// along with it, can't be started, except in quarantine.
func PowerOnOff(operation string, facts []PowerFacts, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	p := &Plan{Operation: operation, Subjects: []string{}}
	running := map[string]bool{}
	for _, f := range facts {
		running[f.Copy.ID] = !f.Isolated
	}
	for _, f := range facts {
		subject := f.Copy.Host + "/" + f.Copy.Name
		p.Subjects = append(p.Subjects, subject)
		b.tracked(f.Copy)
		if f.HostState == HostUnreachable {
			b.raise(fit.Raise("host.unreachable", f.Copy.Host, fmt.Sprintf("The agent on %s does not answer. Start "+
				"it, or "+
				"look at its log; then try again.", f.Copy.Host), nil), "")
		}
		b.busy(subject, f.Busy)
		if f.Copy.State == machine.Away {
			b.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now.", nil), "")
		}
		power := Power{Copy: f.Copy.ID, Folder: f.Copy.Path}
		step := stopStep(f.Copy.Host, subject, power)
		if operation == "start" {
			step.What, step.Do = "Start "+subject, &Start{power}
			for _, twin := range []struct {
				facet  string
				copies []lineage.Known
			}{{"machine UUID", f.SameUUID}, {"MAC", f.SameMAC}} {
				for _, o := range twin.copies {
					if f.Isolated { // nobody else sees it
						break
					}
					if o.State.Active() || running[o.ID] {
						b.raise(fit.Raise("identity.collides", subject, fmt.Sprintf("It has the %s of %s. Stop that "+
							"one first, renew "+
							"one of the two, or put all its NICs into quarantine.", twin.facet, place(o)),
							map[string]any{"twin": o.ID}), "")
						break
					}
				}
			}
		}
		if operation == "start" && f.Copy.State == machine.Running || operation == "stop" && down(f.Copy.State) {
			continue // it is so already
		}
		p.Steps = append(p.Steps, step)
	}
	return b.finish(p)
}

// down tells whether a machine is known to stand: one of which nothing is known is stopped all the same.
func down(s machine.State) bool { return s == machine.Stopped || s == machine.Suspended }
