package plan

import (
	"fmt"
	"path"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// PutBackFacts is what PutBack is worked out from.
type PutBackFacts struct {
	Copy    lineage.Known
	Machine *machine.Machine
	Host    HostFacts // that has the copy
	Pool    PoolState
	Manager string
	There   HostFacts      // the manager's host; its networks are switches
	Origin  *lineage.Known // the machine that is still there
	May     bool           // the account may make machines there
	Busy    string
	Names   []string // taken at the manager
}

// PutBack plans to give a machine back to the manager that it came from.
func PutBack(facts PutBackFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	subject := facts.Host.Name + "/" + facts.Copy.Name
	p := &Plan{Operation: "put-back", Subjects: []string{subject}, Target: facts.Manager}
	b.reach(facts.Host)
	b.reach(facts.There)
	b.busy(subject, facts.Busy)
	if facts.Pool == PoolAway {
		b.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now. Bring it back, or "+
			"put "+
			"another copy back.", nil), "")
	}
	if !facts.May {
		b.raise(fit.Raise("manager.rights", subject, fmt.Sprintf("The account at %s may not make machines there: "+
			"unvora "+
			"manager check %s", facts.Manager, facts.Manager), nil), "")
	}
	m := facts.Machine.Clone()
	if req.Name != "" {
		m.Name = req.Name
	}
	do := &MakeThere{Machine: m, Host: strings.TrimSuffix(facts.There.Name, "@"+facts.Manager)}
	choice := identity.Choice{}
	for _, f := range identity.Facets {
		choice[f] = identity.Keep
	}
	replace := "" // the machine in whose place it is put
	if o := facts.Origin; o != nil {
		free := freeName(m.Name, func(n string) bool { return hasName(facts.Names, n) })
		f := fit.Raise("manager.still-there", m.Name, fmt.Sprintf("%s still has the machine that it came from: %s.",
			facts.Manager, place(*o)), map[string]any{"origin": o.ID})
		f.Suggest("beside", "Put it beside as "+free+", with new MACs", free)
		switch f = b.raise(f, ""); f.Remedy() {
		case "beside":
			m.Name = f.Value()
			choice[identity.MAC], choice[identity.MachineUUID], choice[identity.FirmwareUUID] = identity.Renew,
				identity.Renew, identity.Renew
			do.Give = true
		case "replace":
			replace = o.Path
		}
	}
	stop := false
	if facts.Copy.State.Active() {
		b.tracked(facts.Copy)
		stop = b.running(subject, "It runs, and its disks change while they are read.", "") == stopped
	}
	if err := b.wiring(Arrival{Host: facts.There}, req, m); err != nil {
		return nil, err
	}
	if stop {
		p.Steps = append(p.Steps, stopStep(facts.Host.Name, subject,
			Power{Copy: facts.Copy.ID, Folder: facts.Copy.Path}))
	}
	if do.Give {
		p.Steps = append(p.Steps, Step{What: giveWhat(choice),
			Do: &GiveIDs{Machine: m, Choice: asText(choice), MACPrefix: facts.Host.MACPrefix}})
	}
	place := &MakeRoom{Name: m.Name, Disks: map[string]int64{}}
	p.Steps = append(p.Steps, Step{Host: facts.There.Name, What: fmt.Sprintf("Have room made for %s at %s",
		count(len(m.Disks), "disk"), facts.Manager), Do: place})
	for _, d := range m.Disks {
		place.Disks[d.ID] = d.VirtualBytes
		p.Steps = append(p.Steps, Step{Host: facts.Host.Name, Bytes: d.FileBytes,
			What: fmt.Sprintf("Send disk %s (%s) to %s", d.ID, fit.Size(d.VirtualBytes), facts.Manager),
			Do:   &Send{Disk: d.ID, Source: path.Join(facts.Copy.Path, d.File), Folder: facts.Copy.Path}})
	}
	what := fmt.Sprintf("Have the machine %s made of them at %s", m.Name, facts.There.Name)
	if replace != "" {
		what += ", to take the place of the one that is there"
		if o := facts.Origin; o.State == machine.Running { // no sooner than it has to
			p.Steps = append(p.Steps, stopStep(facts.There.Name, o.Host+"/"+o.Name, Power{Copy: o.ID, Folder: o.Path}))
		}
	}
	p.Steps = append(p.Steps, Step{Host: facts.There.Name, What: what, Do: do})
	if replace != "" {
		p.Steps = append(p.Steps, Step{Host: facts.There.Name, What: "Have the one removed that was there before",
			Do: &RemoveThere{Machine: replace}})
	}
	return b.finish(p)
}
