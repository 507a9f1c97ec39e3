// Package plan works out an operation before anything is changed: findings,
// choices and ordered steps. A plan is a pure function of facts that were
// gathered before; nothing is read or written here.
package plan

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

// Plan is everything an operation would do.
type Plan struct {
	Operation       string        `json:"operation"`
	Title           string        `json:"title"` // a sentence that says what is to be done
	Subjects        []string      `json:"subjects"`
	Target          string        `json:"target"`  // host, shelf or computer, for people
	Changes         []Difference  `json:"changes"` // what will be different about its machines
	Findings        []fit.Finding `json:"findings"`
	Steps           []Step        `json:"steps"`
	PointOfNoReturn *string       `json:"pointOfNoReturn"` // id of the step after which cancelling undoes nothing
	Jobs            int           `json:"jobs"`            // that it is carried out by: one, or one for each machine
	Bytes           int64         `json:"bytes"`
	Seconds         int64         `json:"seconds"`        // an estimate
	Back            string        `json:"back,omitempty"` // command that takes it back once it is done; "" for none
	Runnable        bool          `json:"runnable"`
	Verdict         Verdict       `json:"verdict"`
}

// Verdict is whether a plan can be carried out.
type Verdict string

// All verdicts.
const (
	Runnable Verdict = "runnable"
	Open     Verdict = "open"    // choices wait for an answer
	Blocked  Verdict = "blocked" // by a finding that nothing settles, or that was refused
)

// judge works the verdict out from the findings.
func (p *Plan) judge() {
	p.Verdict = Runnable
	for _, f := range p.Findings {
		switch {
		case f.Severity == fit.Blocker && f.Answer == "", f.Remedy() == "refuse":
			p.Verdict = Blocked
		case f.Open() && p.Verdict == Runnable:
			p.Verdict = Open
		}
	}
	p.Runnable = p.Verdict == Runnable
}

// NoReturn is the position of the step after which there is no way back; nil
// where every step can be taken back.
func (p *Plan) NoReturn() *int {
	for i, s := range p.Steps {
		if p.PointOfNoReturn != nil && s.ID == *p.PointOfNoReturn {
			return &i
		}
	}
	return nil
}

// Makes is how many copies are made.
func (p *Plan) Makes() (n int) {
	for _, s := range p.Steps {
		if rec, ok := s.Do.(*Record); ok && rec.Copy == "" {
			n++
		}
	}
	return n
}

// FirstFinal is the position of the first step that can't be taken back, of the
// kinds of a plan's steps in order; -1 where there is none.
func FirstFinal(kinds []string) int {
	return slices.IndexFunc(kinds, func(k string) bool { return Kinds[k].Final })
}

// number numbers the steps and finds the point of no return.
func (p *Plan) number() {
	p.PointOfNoReturn = nil
	for i := range p.Steps {
		p.Steps[i].ID, p.Steps[i].Kind = fmt.Sprintf("s%d", i+1), p.Steps[i].Do.Kind()
	}
	if first := slices.IndexFunc(p.Steps, func(s Step) bool { return Kinds[s.Kind].Final }); first >= 0 {
		p.PointOfNoReturn = &p.Steps[max(0, first-1)].ID
	}
}

// Answers settle findings: CODE or CODE/SUBJECT → REMEDY or REMEDY:VALUE. The one with a subject wins. For one of
// several machines: MACHINE:CODE or MACHINE:CODE/SUBJECT, which wins over what is answered for all.
type Answers map[string]string

// ParseAnswer reads [MACHINE:]CODE[/SUBJECT]=REMEDY[:VALUE].
func ParseAnswer(text string) (key, answer string, err error) {
	key, answer, ok := strings.Cut(text, "=")
	if !ok || key == "" || answer == "" {
		return "", "", fmt.Errorf("answer %q: want [MACHINE:]CODE[/SUBJECT]=REMEDY[:VALUE]", text)
	}
	if _, _, ok := answersTo(key); !ok {
		_, code, of := strings.Cut(key, ":")
		if !of {
			code = key
		}
		code, _, _ = strings.Cut(code, "/")
		return "", "", fmt.Errorf("answer %q: there is no finding with the code %s", text, code)
	}
	return key, answer, nil
}

// answersTo takes the machine, if any, off the key of an answer. False: it is an answer to nothing that there is.
func answersTo(key string) (machine, finding string, ok bool) {
	known := func(finding string) bool {
		code, _, _ := strings.Cut(finding, "/")
		return slices.Contains(fit.Codes(), code)
	}
	if known(key) {
		return "", key, true
	}
	for i, r := range key {
		if r == ':' && i > 0 && known(key[i+1:]) {
			return key[:i], key[i+1:], true
		}
	}
	return "", "", false
}

// For are the answers that count for a machine of these names: those for all, and its own, which win.
func (a Answers) For(names ...string) Answers {
	all, own := Answers{}, Answers{}
	for key, answer := range a {
		switch machine, finding, _ := answersTo(key); {
		case machine == "":
			all[key] = answer
		case slices.Contains(names, machine):
			own[finding] = answer
		}
	}
	for key, answer := range a { // to what a plan for several calls by the machine
		if code, subject, ok := strings.Cut(key, "/"); ok && all[key] != "" {
			if name, what, ok := strings.Cut(subject, ": "); ok && slices.Contains(names, name) {
				all[code+"/"+what] = answer
			}
		}
	}
	for finding, answer := range own {
		all[finding] = answer
		for key := range all { // one for all that names the same thing does not win over it
			if code, _, sub := strings.Cut(key, "/"); sub && code == finding && own[key] == "" {
				delete(all, key)
			}
		}
	}
	return all
}

// Machines are those that answers are for, by the names that were given.
func (a Answers) Machines() (list []string) {
	for key := range a {
		if machine, _, _ := answersTo(key); machine != "" && !slices.Contains(list, machine) {
			list = append(list, machine)
		}
	}
	slices.Sort(list)
	return list
}

// to is the answer to a finding, which is about subject, and is shown with that of the finding.
func (a Answers) to(shown fit.Finding, subject string) string {
	return cmp.Or(a[shown.Code+"/"+shown.Subject], a[shown.Code+"/"+subject], a[shown.Code])
}

// builder gathers findings, answering each as it comes.
type builder struct {
	noLayers    bool   // there is no folder yet that a new layer could lie in
	of          string // machine of several, which its findings name
	findings    []fit.Finding
	answers     Answers
	recommended bool // take every recommendation
	err         error
	give        map[string]string // NIC → segment that gives it an address, or an address
	switches    []wiring.Switch   // to be made on the way
	who         string            // the machine's owner
	first       *FirstStart       // what the machine is told at its first start
	before      *machine.Machine  // as it is now; nil where no machine is made or changed
	stays       bool              // where it is
}

func newBuilder(answers Answers, takeRecommended bool) *builder {
	return &builder{answers: answers, recommended: takeRecommended, give: map[string]string{}}
}

// blocked lists the blockers that are not settled.
func (b *builder) blocked() (codes []string) {
	for _, f := range b.findings {
		if f.Severity == fit.Blocker && f.Open() {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

// shown is what a finding is about, as people are told it.
func (b *builder) shown(subject string) string {
	if b.of != "" && subject != b.of && !strings.HasSuffix(subject, "/"+b.of) {
		return b.of + ": " + subject
	}
	return subject
}

// raise adds a finding. preset answers it when the caller gave no answer; it
// comes from an option or from the answer to another finding.
func (b *builder) raise(f fit.Finding, preset string) fit.Finding {
	shown := f
	shown.Subject = b.shown(f.Subject)
	answer := b.answers.to(shown, f.Subject)
	if answer == "" {
		answer = preset
	}
	if answer == "" && b.recommended && f.Severity == fit.Choice {
		answer = f.Recommendation()
	}
	if answer != "" && f.Severity != fit.Note {
		if err := shown.Take(answer); err != nil && b.err == nil {
			b.err = err
		}
	}
	b.findings = append(b.findings, shown)
	f.Answer = shown.Answer
	return f
}

var graveness = map[string]int{fit.Blocker: 0, fit.Choice: 1, fit.Note: 2}

// finish sorts the findings, numbers the steps and judges the whole.
func (b *builder) finish(p *Plan) (*Plan, error) {
	if b.err != nil {
		return nil, b.err
	}
	p.Findings = append([]fit.Finding{}, b.findings...)
	slices.SortStableFunc(p.Findings, func(x,
		y fit.Finding) int {
		return graveness[x.Severity] - graveness[y.Severity]
	})
	p.judge()
	if p.Steps == nil {
		p.Steps = []Step{}
	}
	p.Changes = b.changes(p.Steps)
	p.Jobs = 1
	p.number()
	for _, s := range p.Steps {
		p.Bytes += s.Bytes
	}
	p.Estimate(nil, 0, 1)
	return p, nil
}

// usualPace is of converting on an ordinary host, in bytes a second, until anything was measured there.
const usualPace = 150 << 20

// Estimate works out the seconds that the plan takes: by the pace that was measured for each of its steps, in bytes a
// second, 0 where none was; where none goes faster than most, 0 for no such limit; with so many of its jobs at once.
func (p *Plan) Estimate(paces []float64, most int64, atOnce int) {
	sum := 0.0
	for i, s := range p.Steps {
		pace := float64(usualPace)
		if i < len(paces) && paces[i] > 0 {
			pace = paces[i]
		}
		if most > 0 {
			pace = min(pace, float64(most))
		}
		sum += float64(s.Bytes) / pace
	}
	p.Seconds = max(1, int64(math.Round(sum/float64(max(1, min(atOnce, p.Jobs))))))
}

// Together makes one plan of those for several machines, to be carried out one
// after the other; what can't be taken back is done when all else is. What is
// found about the host is told once.
func Together(plans []*Plan) *Plan {
	if len(plans) == 1 {
		return plans[0]
	}
	all := gather(plans)
	steps := []Step{}
	for _, s := range all.Steps {
		if !madeBefore(steps, s) {
			steps = append(steps, s)
		}
	}
	all.Steps = steps
	slices.SortStableFunc(all.Steps, func(x,
		y Step) int {
		return order(Kinds[x.Do.Kind()].Final) - order(Kinds[y.Do.Kind()].Final)
	})
	all.number()
	return all
}

// SideBySide makes one plan of those for several machines, each to be carried out as a job of its own: what one can't
// do stops no other. Its steps are one machine's after the other's; each has a point of no return of its own.
func SideBySide(plans []*Plan) *Plan {
	if len(plans) == 1 {
		return plans[0]
	}
	all := gather(plans)
	all.number()
	all.PointOfNoReturn, all.Jobs = nil, len(plans)
	return all
}

// gather puts plans together, with their steps one plan's after the other's. What is found about the same thing is told
// once.
func gather(plans []*Plan) *Plan {
	all := &Plan{Operation: plans[0].Operation, Subjects: []string{}, Changes: []Difference{},
		Findings: []fit.Finding{}, Steps: []Step{}, Jobs: 1}
	told := map[string]bool{}
	var targets []string
	for n, p := range plans {
		for _, s := range p.Subjects {
			if !slices.Contains(all.Subjects, s) {
				all.Subjects = append(all.Subjects, s)
			}
		}
		of := strings.Join(p.Subjects, ", ")
		if at := slices.IndexFunc(p.Changes, func(c Difference) bool { return c.What == "name" }); at >= 0 {
			of = p.Changes[at].To // one of several that are made of the same
		}
		for _, c := range p.Changes {
			c.Of = cmp.Or(c.Of, of)
			all.Changes = append(all.Changes, c)
		}
		for _, f := range p.Findings {
			if key := f.Code + "/" + f.Subject + "=" + f.Answer; !told[key] {
				told[key] = true
				all.Findings = append(all.Findings, f)
			}
		}
		for _, s := range p.Steps {
			s.Part = n
			all.Steps = append(all.Steps, s)
		}
		if p.Target != "" && !slices.Contains(targets, p.Target) {
			targets = append(targets, p.Target)
		}
		all.Bytes, all.Seconds = all.Bytes+p.Bytes, all.Seconds+p.Seconds
	}
	all.Target = strings.Join(targets, ", ")
	all.judge()
	slices.SortStableFunc(all.Findings, func(x,
		y fit.Finding) int {
		return graveness[x.Severity] - graveness[y.Severity]
	})
	return all
}

// madeBefore tells of a switch that several machines need that a step before makes it.
func madeBefore(steps []Step, s Step) bool {
	do, ok := s.Do.(*MakeSwitch)
	return ok && slices.ContainsFunc(steps, func(b Step) bool {
		before, ok := b.Do.(*MakeSwitch)
		return ok && b.Host == s.Host && *before == *do
	})
}

func order(later bool) int {
	if later {
		return 1
	}
	return 0
}

// OpenChoices lists the findings that wait for an answer.
func (p *Plan) OpenChoices() []fit.Finding {
	var open []fit.Finding
	for _, f := range p.Findings {
		if f.Severity == fit.Choice && f.Answer == "" {
			open = append(open, f)
		}
	}
	return open
}

// freeName appends the first number that makes name free.
func freeName(name string, taken func(string) bool) string {
	for n := 2; ; n++ {
		if candidate := fmt.Sprintf("%s-%d", name, n); !taken(candidate) {
			return candidate
		}
	}
}
