package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
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

// managed settles how the disks of a machine at a manager are read, and tells
// whether it has to be stopped for that.
func (b *builder) managed(facts RegisterFacts, m *machine.Machine) (stop bool) {
	mg := facts.Manager
	switch {
	case !mg.May && mg.Peer:
		b.raise(fit.Raise("manager.rights", m.Name, fmt.Sprintf("%s lets you see it, and not take it. Ask its people for that: unvora manager grant", mg.Name), nil), "")
	case !mg.May:
		b.raise(fit.Raise("manager.rights", m.Name, fmt.Sprintf("The account at %s may not have images of its disks made. Ask for that right there, or name an account that has it: unvora manager check %s", mg.Name, mg.Name), nil), "")
	}
	if facts.Via != nil {
		b.reach(*facts.Via)
	}
	for _, d := range m.Disks {
		if a, ok := mg.Ahead[d.ID]; ok && facts.Via == nil {
			b.raise(fit.Raise("manager.ahead", d.ID, fmt.Sprintf("It was fetched ahead %s: only what has changed since is moved.", a.When), nil), "")
		}
	}
	if facts.Folder.State != "running" {
		return false
	}
	f := fit.Raise("manager.running", m.Name, fmt.Sprintf("It runs at %s, and its disks change while they are read.", mg.Name), nil)
	if !mg.Live {
		f.Withdraw("moment")
	}
	if !mg.Live && !mg.Peer {
		b.raise(fit.Raise("manager.stopped-only", m.Name, fmt.Sprintf("Where it runs, %s hands out the disks of stopped machines only.", mg.Name), nil), "")
	}
	return b.raise(f, "").Remedy() == "stop"
}

// peer tells whether the machine is at another Unvora.
func (facts RegisterFacts) peer() bool { return facts.Manager != nil && facts.Manager.Peer }

func takeImages(facts RegisterFacts, handled []*handling, stop, move bool) Step {
	do := &TakeImages{Machine: facts.Folder.Path, Volumes: map[string]string{}, Since: map[string]string{}, Stop: stop, Move: move}
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
	return Step{Kind: KindTakeImages, Host: facts.From.Name, What: what + " at " + facts.Manager.Name, Do: do}
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
	kind := KindDropImages
	if facts.Manager.Peer {
		kind, what = KindTellPeer, "Tell "+facts.Manager.Name+" that everything was read"
		if move {
			what += ", and have the copy there put into the trash"
		}
	}
	return []Step{{Kind: kind, Host: facts.From.Name, What: what, Do: do}}
}

// useAhead removes what was fetched ahead: the copy has it now.
func (mg *ManagerFacts) useAhead(facts RegisterFacts) []Step {
	steps := mg.removeStale(facts)
	do := &NoteAhead{Copy: facts.Parent}
	for _, a := range mg.Ahead {
		do.Files = append(do.Files, a.Path)
	}
	if slices.Sort(do.Files); len(do.Files) > 0 {
		steps = append(steps, Step{Kind: KindUseAhead, Host: facts.Host.Name, What: "Remove what was fetched ahead", Do: do})
	}
	if len(steps) == 0 {
		return nil
	}
	return append(steps, Step{Kind: KindNoteAhead, What: "Note that nothing is fetched ahead any more", Do: &NoteAhead{Copy: facts.Parent}})
}

// removeStale removes what was fetched ahead to hosts that it does not come to.
func (mg *ManagerFacts) removeStale(facts RegisterFacts) (steps []Step) {
	for _, a := range mg.Stale {
		steps = append(steps, Step{Kind: KindUseAhead, Host: a.Host, What: "Remove what was fetched ahead to " + a.Host, Do: &NoteAhead{Copy: facts.Parent, Files: []string{a.Path}}})
	}
	return steps
}

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
		p.Steps = append(p.Steps, Step{Kind: KindStop, What: "Stop " + facts.Where, Host: facts.From.Name, Do: power})
	}
	p.Steps = append(p.Steps, takeImages(facts, handled, false, false))
	if stop {
		p.Steps = append(p.Steps, Step{Kind: KindStart, What: "Start " + facts.Where + " again", Host: facts.From.Name, Do: power})
	}
	note := &NoteAhead{Copy: facts.Parent, Host: facts.Host.ID, Pool: to.pool.ID, Paths: map[string]string{}}
	old, before := &DropImages{}, []string(nil)
	for _, x := range handled {
		dir := AheadDir(to.pool.Path, facts.Parent)
		step := x.carryStep(facts.Arrival, facts.From, facts.Folder.Path, to.pool, dir, m.Name, facts.Host.Family.Formats[0])
		do := step.Do.(*Carry)
		a, again := facts.Manager.Ahead[x.disk.ID]
		step.What = fmt.Sprintf("Fetch disk %s (%s) into the pool %s, read from %s", x.disk.ID, fit.Size(x.disk.VirtualBytes), to.pool.Name, facts.Manager.Name)
		if again {
			do.Ahead = a.Path
			before, old.Others = append(before, a.Path), append(old.Others, a.Image)
			step.Bytes = 0 // nobody knows yet
			step.What = fmt.Sprintf("Fetch what has changed on disk %s since it was fetched %s, read from %s", x.disk.ID, a.When, facts.Manager.Name)
			if path.Base(a.Path) == do.File { // the two lie beside each other for a while
				do.File = "again-" + do.File
			}
		}
		note.Paths[x.disk.ID] = path.Join(dir, do.File)
		p.Steps = append(p.Steps, step)
	}
	p.Steps = append(p.Steps, Step{Kind: KindNoteAhead, What: "Note what was fetched ahead", Do: note})
	if len(before) > 0 {
		p.Steps = append(p.Steps, Step{Kind: KindUseAhead, Host: facts.Host.Name, What: "Remove what was fetched before", Do: &NoteAhead{Copy: facts.Parent, Files: before}})
	}
	p.Steps = append(p.Steps, facts.Manager.removeStale(facts)...)
	for _, a := range facts.Manager.Stale {
		old.Others = append(old.Others, a.Image)
	}
	if len(old.Others) > 0 {
		p.Steps = append(p.Steps, Step{Kind: KindDropImages, Host: facts.From.Name, What: "Have the images of then removed at " + facts.Manager.Name, Do: old})
	}
	return b.finish(p)
}

// PutBackFacts is what PutBack is worked out from.
type PutBackFacts struct {
	Copy    lineage.Known
	Machine *machine.Machine
	Host    HostFacts // that has the copy
	Pool    string    // state of its pool
	Manager string
	There   HostFacts      // the manager's host; its networks are switches
	Origin  *lineage.Known // the machine that is still there
	May     bool           // the account may make machines there
	Busy    string
	Taken   func(name string) bool // names at the manager
}

// PutBack plans to give a machine back to the manager that it came from.
func PutBack(facts PutBackFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	subject := facts.Host.Name + "/" + facts.Copy.Name
	p := &Plan{Operation: "put-back", Subjects: []string{subject}, Target: facts.Manager}
	b.reach(facts.Host)
	b.reach(facts.There)
	b.busy(subject, facts.Busy)
	if facts.Pool == "away" {
		b.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now. Bring it back, or put another copy back.", nil), "")
	}
	if !facts.May {
		b.raise(fit.Raise("manager.rights", subject, fmt.Sprintf("The account at %s may not make machines there: unvora manager check %s", facts.Manager, facts.Manager), nil), "")
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
		free := freeName(m.Name, facts.Taken)
		f := fit.Raise("manager.still-there", m.Name, fmt.Sprintf("%s still has the machine that it came from: %s.", facts.Manager, place(*o)), map[string]any{"origin": o.ID})
		f.Suggest("beside", "Put it beside as "+free+", with new MACs", free)
		switch f = b.raise(f, ""); f.Remedy() {
		case "beside":
			m.Name = f.Value()
			choice[identity.MAC], choice[identity.MachineUUID], choice[identity.FirmwareUUID] = identity.Renew, identity.Renew, identity.Renew
			do.Give = true
		case "replace":
			replace = o.Path
		}
	}
	stop := false
	if facts.Copy.State == "running" {
		b.tracked(facts.Copy)
		stop = b.raise(fit.Raise("state.running", subject, "It runs, and its disks change while they are read.", nil), "").Remedy() == "stop"
	}
	if err := b.wiring(Arrival{Host: facts.There}, req, m); err != nil {
		return nil, err
	}
	if stop {
		p.Steps = append(p.Steps, Step{Kind: KindStop, What: "Stop " + subject, Host: facts.Host.Name, Do: Power{Copy: facts.Copy.ID, Folder: facts.Copy.Path}})
	}
	if do.Give {
		p.Steps = append(p.Steps, Step{Kind: KindGiveIDs, What: giveWhat(choice), Do: &GiveIDs{Machine: m, Choice: asText(choice), MACPrefix: facts.Host.MACPrefix}})
	}
	place := &MakeRoom{Name: m.Name, Disks: map[string]int64{}}
	p.Steps = append(p.Steps, Step{Kind: KindMakeRoom, Host: facts.There.Name, What: fmt.Sprintf("Have room made for %s at %s", count(len(m.Disks), "disk"), facts.Manager), Do: place})
	for _, d := range m.Disks {
		place.Disks[d.ID] = d.VirtualBytes
		p.Steps = append(p.Steps, Step{Kind: KindSend, Host: facts.Host.Name, Bytes: d.FileBytes, What: fmt.Sprintf("Send disk %s (%s) to %s", d.ID, fit.Size(d.VirtualBytes), facts.Manager),
			Do: &Send{Disk: d.ID, Source: path.Join(facts.Copy.Path, d.File), Folder: facts.Copy.Path}})
	}
	what := fmt.Sprintf("Have the machine %s made of them at %s", m.Name, facts.There.Name)
	if replace != "" {
		what += ", to take the place of the one that is there"
		if o := facts.Origin; o.State == "running" { // no sooner than it has to
			p.Steps = append(p.Steps, Step{Kind: KindStop, What: "Stop " + o.Host + "/" + o.Name, Host: facts.There.Name, Do: Power{Copy: o.ID, Folder: o.Path}})
		}
	}
	p.Steps = append(p.Steps, Step{Kind: KindMakeThere, Host: facts.There.Name, What: what, Do: do})
	if replace != "" {
		p.Steps = append(p.Steps, Step{Kind: KindRemoveThere, Host: facts.There.Name, What: "Have the one removed that was there before", Do: &RemoveThere{Machine: replace}})
	}
	return b.finish(p)
}

// LendFacts is what LendOut is worked out from.
type LendFacts struct {
	Delist DelistFacts
	Peer   string // name of the other Unvora
	Stop   bool   // the copy is stopped for as long as it is read
	Move   bool   // the other has the copy from then on
	Bytes  int64  // that will be read
}

// LendOut plans what is done here while another Unvora reads a copy.
func LendOut(facts LendFacts) (*Plan, error) {
	c, h := facts.Delist.Copy, facts.Delist.Host
	b := newBuilder(nil, false)
	subject := h.Name + "/" + c.Name
	p := &Plan{Operation: "lend", Subjects: []string{subject}, Target: facts.Peer}
	b.reach(h)
	b.tracked(c)
	b.busy(subject, facts.Delist.Busy)
	power := Power{Copy: c.ID, Folder: c.Path}
	if facts.Stop {
		p.Steps = append(p.Steps, Step{Kind: KindStop, What: "Stop " + subject, Host: h.Name, Do: power})
	}
	p.Steps = append(p.Steps, Step{Kind: KindLend, Bytes: facts.Bytes, What: "Let " + facts.Peer + " read its disks", Do: &Lend{Copy: c.ID}})
	switch {
	case facts.Move:
		p.Steps = append(p.Steps,
			Step{Kind: KindDelist, Host: h.Name, What: fmt.Sprintf("Take it off the list of %s", h.Name), Do: &Unlist{Folder: c.Path}},
			Step{Kind: KindTakeAway, Host: h.Name, What: "Put its folder into the trash of its pool", Do: &TakeAway{Folder: c.Path, Files: asideOf(facts.Delist)}},
			Step{Kind: KindForget, What: "Note that it was moved", Do: &Forget{Copy: c.ID}})
	case facts.Stop:
		p.Steps = append(p.Steps, Step{Kind: KindStart, What: "Start " + subject + " again", Host: h.Name, Do: power})
	}
	return b.finish(p)
}
