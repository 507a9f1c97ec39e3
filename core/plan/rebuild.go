package plan

import (
	"fmt"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
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
	// Lost are the copies whose files are gone: id → another copy that it could be brought back from, or "".
	Lost map[string]string
	// Folders are what registering each machine is worked out from, by copy id. Their host is that of Rebuild.
	Folders map[string]RegisterFacts
}

// keepIDs answers what is asked of ids: the machines are the copies that they were.
var keepIDs = map[identity.Facet]string{identity.MachineUUID: identity.Keep, identity.MAC: identity.Keep}

// Rebuild plans to give a host back what it had: its switches, then each machine whose files are there.
func Rebuild(facts RebuildFacts, answers Answers, takeRecommended bool) (*Plan, error) {
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
			says += fmt.Sprintf(" It can be brought back from %s, as it was then: unvora import %s --host %s", from,
				from, h.Name)
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
		one := facts.Folders[m.Copy]
		one.Host = h // as it will be
		p, err := Register(one, BringRequest{Files: Stay, Identity: identity.Keep, Facets: keepIDs, Answers: answers,
			TakeRecommended: takeRecommended})
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(p.Findings, func(f fit.Finding) bool { return f.Code == "copy.already-here" }) {
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
			starts = append(starts, againStep(h.Name, h.Name+"/"+m.Name, Power{Copy: m.Copy, Folder: m.Folder}))
		}
	}
	all := Together(plans)
	all.Subjects = []string{h.Name}
	for _, s := range starts {
		s.Part = len(plans)
		all.Steps = append(all.Steps, s)
	}
	all.number()
	return all, nil
}
