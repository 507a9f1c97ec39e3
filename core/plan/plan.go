// Package plan works out an operation before anything is changed: findings,
// choices and ordered steps. A plan is a pure function of facts that were
// gathered before; nothing is read or written here.
package plan

import (
	"fmt"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/wiring"
)

// Plan is everything an operation would do.
type Plan struct {
	Operation       string        `json:"operation"`
	Subjects        []string      `json:"subjects"`
	Target          string        `json:"target"` // host, shelf or computer, for people
	Findings        []fit.Finding `json:"findings"`
	Steps           []Step        `json:"steps"`
	PointOfNoReturn *string       `json:"pointOfNoReturn"` // id of the step after which cancelling undoes nothing
	Bytes           int64         `json:"bytes"`
	Seconds         int64         `json:"seconds"` // an estimate
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

// Answers settle findings: CODE or CODE/SUBJECT → REMEDY or REMEDY:VALUE. The
// one with a subject wins.
type Answers map[string]string

// ParseAnswer reads CODE[/SUBJECT]=REMEDY[:VALUE].
func ParseAnswer(text string) (key, answer string, err error) {
	key, answer, ok := strings.Cut(text, "=")
	if !ok || key == "" || answer == "" {
		return "", "", fmt.Errorf("answer %q: want CODE=REMEDY, CODE/SUBJECT=REMEDY or CODE=REMEDY:VALUE", text)
	}
	code, _, _ := strings.Cut(key, "/")
	if !slices.Contains(fit.Codes(), code) {
		return "", "", fmt.Errorf("answer %q: there is no finding with the code %s", text, code)
	}
	return key, answer, nil
}

func (a Answers) to(f fit.Finding) string {
	if v := a[f.Code+"/"+f.Subject]; v != "" {
		return v
	}
	return a[f.Code]
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

// raise adds a finding. preset answers it when the caller gave no answer; it
// comes from an option or from the answer to another finding.
func (b *builder) raise(f fit.Finding, preset string) fit.Finding {
	shown := f
	if b.of != "" {
		shown.Subject = b.of + ": " + f.Subject
	}
	answer := b.answers.to(shown)
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
	p.number()
	for _, s := range p.Steps {
		p.Bytes += s.Bytes
	}
	const bytesPerSecond = 150 << 20 // of converting, on an ordinary host
	p.Seconds = p.Bytes/bytesPerSecond + 1
	return p, nil
}

// Together makes one plan of those for several machines, to be carried out one
// after the other; what can't be taken back is done when all else is. What is
// found about the host is told once.
func Together(plans []*Plan) *Plan {
	if len(plans) == 1 {
		return plans[0]
	}
	all := &Plan{Operation: plans[0].Operation, Target: plans[0].Target, Subjects: []string{},
		Findings: []fit.Finding{},
		Steps:    []Step{}}
	told := map[string]bool{}
	for n, p := range plans {
		for _, s := range p.Subjects {
			if !slices.Contains(all.Subjects, s) {
				all.Subjects = append(all.Subjects, s)
			}
		}
		for _, f := range p.Findings {
			if key := f.Code + "/" + f.Subject; !told[key] {
				told[key] = true
				all.Findings = append(all.Findings, f)
			}
		}
		for _, s := range p.Steps {
			if s.Part = n; !madeBefore(all.Steps, s) {
				all.Steps = append(all.Steps, s)
			}
		}
		all.Bytes, all.Seconds = all.Bytes+p.Bytes, all.Seconds+p.Seconds
	}
	slices.SortStableFunc(all.Findings, func(x,
		y fit.Finding) int {
		return graveness[x.Severity] - graveness[y.Severity]
	})
	slices.SortStableFunc(all.Steps, func(x,
		y Step) int {
		return order(Kinds[x.Do.Kind()].Final) - order(Kinds[y.Do.Kind()].Final)
	})
	all.number()
	all.judge()
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
