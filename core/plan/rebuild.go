package plan

import (
	"fmt"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/wiring"
)

// Had is what a host had before it was wiped.
type Had struct {
	Switches []wiring.Switch `json:"switches"`
	Machines []HadMachine    `json:"machines"`
}

// HadMachine is a machine that the host listed.
type HadMachine struct {
	Copy    string `json:"copy"`
	Name    string `json:"name"`
	Folder  string `json:"folder"`
	Running bool   `json:"running"`
}

// RebuildFacts is what Rebuild is worked out from.
type RebuildFacts struct {
	Host HostFacts // as it is now
	Had  Had
	Lost map[string]string // copy id → another copy that it could be brought back from, or ""; those whose files are gone
}

// Rebuild plans to give a host back what it had. register plans one machine
// whose files are there, for the host as it will be.
func Rebuild(facts RebuildFacts, answers Answers, takeRecommended bool, register func(h HostFacts, m HadMachine) (*Plan, error)) (*Plan, error) {
	b := newBuilder(answers, takeRecommended)
	h := facts.Host
	head := &Plan{Operation: "rebuild", Subjects: []string{h.Name}, Target: h.Name}
	b.reach(h)
	for _, m := range facts.Had.Machines {
		from, lost := facts.Lost[m.Copy]
		if !lost {
			continue
		}
		says := fmt.Sprintf("Its folder %s is gone.", m.Folder)
		if from != "" {
			says += fmt.Sprintf(" It can be brought back from %s, as it was then: unvora import %s --host %s", from, from, h.Name)
		}
		b.raise(fit.Raise("rebuild.lost", m.Name, says, map[string]any{"copy": m.Copy}), "")
	}
	for _, s := range facts.Had.Switches {
		if _, there := h.switchOf(s.Name); there {
			continue
		}
		if err := checkSwitch(h, s); err != nil {
			b.raise(fit.Raise("rebuild.switch", s.Name, sentence("It can't be made again: "+err.Error()), nil), "")
			continue
		}
		head.Steps = append(head.Steps, makeSteps(h, s, false)...)
		h.Switches = append(slices.Clone(h.Switches), s)
	}
	head, err := b.finish(head)
	if err != nil {
		return nil, err
	}
	plans := []*Plan{head}
	var starts []Step
	for _, m := range facts.Had.Machines {
		if _, lost := facts.Lost[m.Copy]; lost {
			continue
		}
		p, err := register(h, m)
		if err != nil {
			return nil, err
		}
		if p == nil { // it is listed already
			continue
		}
		// It is the copy that it was, with the identity that it had.
		p.Findings = slices.DeleteFunc(p.Findings, func(f fit.Finding) bool {
			return f.Answer != "" && (strings.HasPrefix(f.Code, "identity.") || strings.HasPrefix(f.Code, "mac."))
		})
		for _, s := range p.Steps {
			if r, ok := s.Do.(*Record); ok {
				r.Change = r.Copy != ""
			}
		}
		plans = append(plans, p)
		if m.Running {
			starts = append(starts, Step{Kind: KindStart, Host: h.Name, What: fmt.Sprintf("Start %s/%s again", h.Name, m.Name), Do: Power{Copy: m.Copy, Folder: m.Folder}})
		}
	}
	all := Together(plans)
	all.Subjects = []string{h.Name}
	for _, s := range starts {
		s.ID, s.Part = fmt.Sprintf("s%d", len(all.Steps)+1), len(plans)
		all.Steps = append(all.Steps, s)
	}
	return all, nil
}
