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
}

// Step is one restartable unit.
type Step struct {
	ID    string `json:"id"`
	Kind  string `json:"kind"`
	What  string `json:"what"`
	Host  string `json:"host"`  // name; "" for the service's own steps
	Bytes int64  `json:"bytes"` // that it reads; 0 when that says nothing
	Part  int    `json:"part"`  // which of several machines it is about, from 0
	Do    any    `json:"-"`     // one of the parameter types below
}

// Kinds of steps. Those with a host are tasks of its agent.
const (
	KindStop      = "stop"
	KindStart     = "start"
	KindPack      = "pack"       // write a package to a shelf
	KindHandOut   = "hand-out"   // give a package's disks to the caller's computer
	KindGiveIDs   = "give-ids"   // new identity facets, unique in the inventory
	KindFetchDisk = "fetch-disk" // a package's disk into the host's own format
	KindPlace     = "place"      // descriptor, rename into place, register
	KindRecord    = "record"     // the new copy into the inventory
	KindCarry     = "carry"      // a disk, or another file of a machine folder, to a new place
	KindRelink    = "relink"     // a layer to where its parent is now
	KindMend      = "mend"       // what is inconsistent in an image and needs no guess
	KindLayer     = "layer"      // a new layer on a disk
	KindAlter     = "alter"      // a machine folder's descriptor, where it lies
	KindTakeAway  = "take-away"  // a machine folder to the trash
	KindDelist    = "delist"     // off the host's list
	KindForget    = "forget"     // a copy that is no longer there

	KindMakeSwitch = "make-switch" // a virtual switch
	KindKeepSwitch = "keep-switch" // the host is still reached: the switch needn't be taken back
	KindDropSwitch = "drop-switch"

	// What is asked of a manager, where the host is one of its own.
	KindTakeImages  = "take-images"  // of the volumes of a machine
	KindDropImages  = "drop-images"  // that are not needed any more
	KindTellPeer    = "tell-peer"    // another Unvora that everything was read
	KindMakeRoom    = "make-room"    // images that disks are sent into
	KindMakeThere   = "make-there"   // a machine of what was sent
	KindRemoveThere = "remove-there" // the machine in whose place it is

	KindSend      = "send"       // a disk into a manager's image
	KindNoteAhead = "note-ahead" // what was fetched ahead
	KindUseAhead  = "use-ahead"  // it is of no use any more
	KindLend      = "lend"       // another Unvora reads a copy from here
)

// Trait is what the steerer has to know of a kind of step.
type Trait struct {
	// Service: the service carries it out itself; all others are tasks of a host.
	Service bool
	// Final: what it does can't be taken back. The step before the first one of
	// these is the plan's point of no return.
	Final bool
	// Atomic: a refusal means that nothing of it was done.
	Atomic bool
}

// Kinds is the table of all kinds of steps.
var Kinds = map[string]Trait{
	KindStop: {}, KindStart: {}, KindPack: {}, KindHandOut: {}, KindFetchDisk: {}, KindPlace: {}, KindCarry: {}, KindRelink: {}, KindMend: {}, KindLayer: {},
	KindAlter: {}, KindTakeAway: {}, KindDelist: {}, KindMakeSwitch: {}, KindKeepSwitch: {}, KindDropSwitch: {},
	KindTakeImages: {}, KindMakeRoom: {}, KindMakeThere: {}, KindSend: {},
	KindGiveIDs: {Service: true}, KindRecord: {Service: true}, KindForget: {Service: true}, KindLend: {Service: true},
	KindNoteAhead: {Service: true, Final: true}, KindUseAhead: {Final: true}, KindDropImages: {Final: true}, KindRemoveThere: {Final: true}, KindTellPeer: {Final: true, Atomic: true},
}

// OnHost tells whether steps of the kind are carried out by a host.
func OnHost(kind string) bool { return !Kinds[kind].Service }

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

// settle numbers the steps and finds the point of no return.
func (p *Plan) settle() {
	p.PointOfNoReturn = nil
	for i := range p.Steps {
		p.Steps[i].ID = fmt.Sprintf("s%d", i+1)
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
	slices.SortStableFunc(p.Findings, func(x, y fit.Finding) int { return graveness[x.Severity] - graveness[y.Severity] })
	p.Runnable = true
	for _, f := range p.Findings {
		if f.Open() || f.Remedy() == "refuse" {
			p.Runnable = false
		}
	}
	if p.Steps == nil {
		p.Steps = []Step{}
	}
	p.settle()
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
	all := &Plan{Operation: plans[0].Operation, Target: plans[0].Target, Subjects: []string{}, Findings: []fit.Finding{}, Steps: []Step{}, Runnable: true}
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
			s.Part = n
			all.Steps = append(all.Steps, s)
		}
		all.Bytes, all.Seconds = all.Bytes+p.Bytes, all.Seconds+p.Seconds
		all.Runnable = all.Runnable && p.Runnable
	}
	slices.SortStableFunc(all.Findings, func(x, y fit.Finding) int { return graveness[x.Severity] - graveness[y.Severity] })
	slices.SortStableFunc(all.Steps, func(x, y Step) int { return order(Kinds[x.Kind].Final) - order(Kinds[y.Kind].Final) })
	all.settle()
	return all
}

func order(later bool) int {
	if later {
		return 1
	}
	return 0
}

// Blocked tells whether a plan has a blocker that is not settled, or was refused.
func (p *Plan) Blocked() bool {
	return slices.ContainsFunc(p.Findings, func(f fit.Finding) bool {
		return f.Severity == fit.Blocker && f.Answer == "" || f.Remedy() == "refuse"
	})
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
