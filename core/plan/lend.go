package plan

import "fmt"

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
		p.Steps = append(p.Steps, stopStep(h.Name, subject, power))
	}
	p.Steps = append(p.Steps, Step{Bytes: facts.Bytes, What: "Let " + facts.Peer + " read its disks",
		Do: &Lend{Copy: c.ID}})
	switch {
	case facts.Move:
		p.Steps = append(p.Steps,
			Step{Host: h.Name, What: fmt.Sprintf("Take it off the list of %s", h.Name), Do: &Unlist{Folder: c.Path}},
			Step{Host: h.Name, What: "Put its folder into the trash of its pool",
				Do: &TakeAway{Folder: c.Path, Files: asideOf(facts.Delist)}},
			Step{What: "Note that it was moved", Do: &Forget{Copy: c.ID}})
	case facts.Stop:
		p.Steps = append(p.Steps, againStep(h.Name, subject, power))
	}
	return b.finish(p)
}
