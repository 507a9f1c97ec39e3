package plan

import (
	"fmt"
	"strings"
	"time"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// PoolMark is whose a pool is, as its mark says.
type PoolMark struct {
	Free         bool   `json:"free"`         // it was handed over, and is nobody's
	Owner        string `json:"owner"`        // id of the Unvora that it belongs to; "" for nobody
	OwnerHost    string `json:"ownerHost"`    // a host of that one
	Ours         bool   `json:"ours"`         // that is the agent's own
	QuietSeconds int64  `json:"quietSeconds"` // since a host of the owner wrote to it; negative: none ever did
}

// PoolMachine is a registered machine whose folder lies in a pool.
type PoolMachine struct {
	Copy lineage.Known
	Host HostFacts
	Busy string
	Away []string // disks of it that lie in other pools
}

// HandOverFacts is what HandOver is worked out from.
type HandOverFacts struct {
	Pool     PoolFacts
	Host     HostFacts // that writes the pool's mark
	Machines []PoolMachine
	Stands   []string // machines whose folders lie elsewhere, and that have disks in it
}

// HandOver plans to make a pool nobody's: its machines come off all lists, and its mark says that it is free. What lies
// in it stays. Whoever takes it over finds the machines there.
func HandOver(facts HandOverFacts, answers Answers, takeRecommended bool) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	pool := facts.Pool.Name
	p := &Plan{Operation: "hand-over", Subjects: []string{pool}, Target: facts.Host.Name}
	b.reach(facts.Host)
	switch facts.Pool.State {
	case PoolAway, PoolReadOnly:
		b.poolState(facts.Pool, facts.Host)
	case PoolFree:
		return nil, fmt.Errorf("the pool %s is nobody's already: unvora pool take-over %s makes it ours", pool, pool)
	}
	if len(facts.Stands) > 0 {
		b.raise(fit.Raise("pool.holds-disks", pool, fmt.Sprintf("Disks of %s lie in it, whose folders do not. Move "+
			"them first, or detach those disks.", strings.Join(facts.Stands, ", ")), nil), "")
	}
	reached := map[string]bool{facts.Host.Name: true}
	for _, m := range facts.Machines {
		subject := m.Copy.Host + "/" + m.Copy.Name
		if !reached[m.Host.Name] {
			b.reach(m.Host)
			reached[m.Host.Name] = true
		}
		b.busy(subject, m.Busy)
		if len(m.Away) > 0 {
			b.raise(fit.Raise("pool.disks-elsewhere", subject, fmt.Sprintf("%s of it lie in another pool, and are not "+
				"handed over with it.", strings.Join(m.Away, ", ")), nil), "")
		}
		power := Power{Copy: m.Copy.ID, Folder: m.Copy.Path}
		switch {
		case m.Copy.State == machine.Suspended:
			if b.raise(fit.Raise("state.suspended", subject, "It is suspended. What its guest has in memory can't be "+
				"handed over.", nil), "").Remedy() == "drop" {
				p.Steps = append(p.Steps, Step{Host: m.Host.Name, What: "Drop the suspended state of " + subject,
					Do: &Stop{Power: power, Manner: machine.Off}})
			}
		case m.Copy.State.Active():
			if b.raise(fit.Raise("pool.in-use", subject, fmt.Sprintf("It runs from the pool %s.", pool), nil),
				"").Remedy() == stopped {
				p.Steps = append(p.Steps, stopStep(m.Host.Name, subject, power))
			}
		}
		p.Steps = append(p.Steps, Step{Host: m.Host.Name, What: fmt.Sprintf("Take %s off the list of %s", subject,
			m.Host.Name), Do: &Unlist{Folder: m.Copy.Path}},
			Step{What: "Note that no host lists it", Do: &Forget{Copy: m.Copy.ID, Form: lineage.Stray}})
	}
	p.Steps = append(p.Steps, Step{Host: facts.Host.Name, What: fmt.Sprintf("Mark the pool %s as free, with a list of "+
		"what lies in it", pool), Do: &FreePool{ID: facts.Pool.ID}})
	return b.finish(p)
}

// TakeOverFacts is what TakeOver is worked out from.
type TakeOverFacts struct {
	Pool     PoolFacts
	Mark     PoolMark
	Host     HostFacts       // that takes it
	Machines []RegisterFacts // folders in it that are to be registered there
}

// TakeOver plans to make a pool ours, and to register machines that lie in it.
func TakeOver(facts TakeOverFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	pool, mark := facts.Pool.Name, facts.Mark
	p := &Plan{Operation: "take-over", Subjects: []string{pool}, Target: facts.Host.Name}
	b.host(facts.Host)
	whose := "another Unvora"
	if mark.OwnerHost != "" {
		whose = "the Unvora of " + mark.OwnerHost
	}
	switch {
	case facts.Pool.State == PoolAway:
		b.poolState(facts.Pool, facts.Host)
	case mark.Ours:
		return nil, fmt.Errorf("the pool %s is ours already: unvora register registers what lies in it", pool)
	case mark.Free || mark.Owner == "":
	case Alive(time.Duration(mark.QuietSeconds) * time.Second):
		b.raise(fit.Raise("pool.foreign", pool, fmt.Sprintf("It belongs to %s, which wrote to it %d s ago. There it "+
			"has to be handed over: unvora pool hand-over %s", whose, mark.QuietSeconds, pool), nil), "")
	default:
		last := "which has never written to it that it is there"
		if mark.QuietSeconds >= 0 {
			last = fmt.Sprintf("which last wrote to it %s", ago(mark.QuietSeconds))
		}
		b.raise(fit.Raise("pool.lease-silent", pool, fmt.Sprintf("It belongs to %s, %s. If machines still run from "+
			"it, what they write and what is written here destroy each other: make sure that they are off.", whose,
			last), nil), "")
	}
	p.Steps = []Step{{Host: facts.Host.Name, What: fmt.Sprintf("Mark the pool %s as ours", pool),
		Do: &TakePool{ID: facts.Pool.ID, From: mark.Owner}}}
	first, err := b.finish(p)
	if err != nil {
		return nil, err
	}
	plans := []*Plan{first}
	for _, m := range facts.Machines {
		one := req
		one.Files = Stay
		one.Answers = req.Answers.For(m.Of, m.Where)
		registered, err := Register(m, one)
		if err != nil {
			return nil, err
		}
		plans = append(plans, registered)
	}
	all := Together(plans)
	all.Operation, all.Subjects, all.Target = p.Operation, p.Subjects, p.Target
	return all, nil
}
