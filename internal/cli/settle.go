package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/plan"
)

// settling holds the options that every verb takes.
type settling struct {
	planOnly, yes, detach bool
	answers               []string
	typed                 map[string]string // answers that a person gave at the terminal
	note, start, rate     string
}

func (s *settling) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.BoolVar(&s.planOnly, "plan", false, "print the plan and stop")
	f.BoolVarP(&s.yes, "yes", "y", false, "take every recommendation")
	f.StringArrayVar(&s.answers, "answer", nil, "settle one finding: [MACHINE:]CODE[/SUBJECT]=REMEDY[:VALUE]")
	f.StringVar(&s.note, "note", "", "why; goes to history")
	f.BoolVar(&s.detach, "detach", false, "leave the job running and return")
	f.StringVar(&s.start, "start", "", "begin no sooner: 22:00, or 2026-12-01 22:00; the command returns at once")
}

// transfers are the options of a verb that copies disks.
func (s *settling) transfers(cmd *cobra.Command) {
	s.flags(cmd)
	cmd.Flags().StringVar(&s.rate, "rate", "", "read no more than this a second of each machine's disks, 20MiB say")
}

// leaves tells whether the command ends before its job does.
func (s *settling) leaves() bool { return s.detach || s.start != "" }

// body puts what every verb takes into a request, which is one of the contract's. Answers that the request has already
// stay, unless others are given.
func (s *settling) body(req any) (*openapi.Request, error) {
	given, err := s.given()
	if err != nil {
		return nil, err
	}
	fields := map[string]any{}
	if err := remake(req, &fields); err != nil {
		return nil, err
	}
	answers, _ := fields["answers"].(map[string]any)
	if answers == nil {
		answers = map[string]any{}
	}
	for key, answer := range given {
		answers[key] = answer
	}
	fields["answers"], fields["takeRecommended"], fields["note"] = answers, s.yes, s.note
	if s.rate != "" {
		n, err := rateOf(s.rate)
		if err != nil {
			return nil, err
		}
		fields["rate"] = n
	}
	if s.start != "" {
		at, err := startTime("--start", s.start, time.Now())
		if err != nil {
			return nil, err
		}
		fields["startAt"] = at
	}
	body := &openapi.Request{}
	return body, remake(fields, body)
}

// given are the answers of the command line, and those that were typed since.
func (s *settling) given() (map[string]string, error) {
	all := map[string]string{}
	for _, text := range s.answers {
		key, answer, err := plan.ParseAnswer(text)
		if err != nil {
			return nil, usage("--answer: %v", err)
		}
		all[key] = answer
	}
	for key, answer := range s.typed {
		all[key] = answer
	}
	return all, nil
}

// remake makes one value of another by the names of their fields.
func remake(from, into any) error {
	raw, err := json.Marshal(from)
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, into)
}

// settled is a plan that can run, with the request that it is of.
type settled struct {
	openapi.Plan
	body *openapi.Request
}

// settle plans, asks what is open where somebody can be asked, and returns
// the plan once it can run. With --plan it prints and returns nil.
func (a *app) settle(ctx context.Context, c *caller, req any, s *settling) (*settled, error) {
	s.typed = map[string]string{}
	shown := false
	for {
		body, err := s.body(req)
		if err != nil {
			return nil, err
		}
		res, err := c.MakePlan(ctx, *body)
		p, err := call[openapi.Plan](c, res, err)
		if err != nil {
			return nil, err
		}
		open, blocked := openChoices(p), p.Verdict == openapi.PlanVerdictBlocked
		if s.planOnly {
			if err := a.print(p, func() { a.showPlan(p) }); err != nil {
				return nil, err
			}
			switch {
			case blocked:
				return nil, &exit{statusBlocked, errors.New("")}
			case len(open) > 0:
				return nil, &exit{statusOpen, errors.New("")}
			}
			return nil, nil
		}
		if p.Runnable {
			if !shown && a.terminal() && !a.quiet && a.output == "table" { // so that one sees what is being done
				fmt.Fprintln(a.errOut, a.paint(bold, p.Title))
				a.changes(a.errOut, p.Changes, fewChanges)
			}
			return &settled{p, body}, nil
		}
		if !shown || blocked {
			if a.output == "table" {
				a.showPlan(p)
			} else if err := a.print(p, nil); err != nil {
				return nil, err
			}
			shown = true
		}
		if blocked {
			return nil, &exit{statusBlocked, errors.New("blocked: " + blockers(p) + wayOut(p))}
		}
		if !a.terminal() {
			how := "Take the recommendations with --yes, or answer"
			if s.yes {
				how = "Nothing is recommended there; answer"
			}
			return nil, &exit{statusOpen, fmt.Errorf("%s open. %s: --answer %s=%s",
				count(len(open), "choice"), how, open[0].Code, firstRemedy(open[0]))}
		}
		same := shared(open)[0]
		answer, err := a.ask(ctx, same)
		if err != nil {
			return nil, err
		}
		for _, f := range same {
			s.typed[f.Code+"/"+f.Subject] = answer
		}
	}
}

func openChoices(p openapi.Plan) (open []openapi.Finding) {
	for _, f := range p.Findings {
		if f.Severity == openapi.FindingSeverityChoice && f.Answer == nil {
			open = append(open, f)
		}
	}
	return open
}

// blockers says what blocks a plan: of each kind the first, and how many more there are.
func blockers(p openapi.Plan) string {
	var first []openapi.Finding
	more := map[string]int{} // by code
	for _, f := range p.Findings {
		if f.Severity == openapi.FindingSeverityBlocker && f.Answer == nil || f.Answer != nil && *f.Answer == "refuse" {
			if more[f.Code]++; more[f.Code] == 1 {
				first = append(first, f)
			}
		}
	}
	var all []string
	for _, f := range first {
		all = append(all, f.Message)
		switch n := more[f.Code] - 1; {
		case n == 1:
			all = append(all, fmt.Sprintf("One more is blocked so (%s).", f.Code))
		case n > 1:
			all = append(all, fmt.Sprintf("%d more are blocked so (%s).", n, f.Code))
		}
	}
	return strings.Join(all, " ")
}

// wayOut names the answer to a blocker that has remedies of its own.
func wayOut(p openapi.Plan) string {
	for _, f := range p.Findings {
		if f.Severity == openapi.FindingSeverityBlocker && f.Answer == nil && len(f.Remedies) > 0 {
			answer := f.Remedies[0].Id
			if whole, ok := f.Detail["answer"].(string); ok {
				answer = whole
			}
			return fmt.Sprintf(" It can be settled: --answer %s=%s", f.Code, answer)
		}
	}
	return ""
}

func firstRemedy(f openapi.Finding) string {
	for _, r := range f.Remedies {
		if r.Recommended {
			return r.Id
		}
	}
	if len(f.Remedies) > 0 {
		return f.Remedies[0].Id
	}
	return "REMEDY"
}

// shared puts findings together that say the same of several machines.
func shared(findings []openapi.Finding) (groups [][]openapi.Finding) {
	at := map[string]int{}
	for _, f := range findings {
		said, err := json.Marshal([]any{f.Code, f.Message, f.Remedies, f.Answer})
		n, ok := at[string(said)]
		if !ok || err != nil {
			n = len(groups)
			groups, at[string(said)] = append(groups, nil), n
		}
		groups[n] = append(groups[n], f)
	}
	return groups
}

// mostNamed is how many machines are named that share a finding.
const mostNamed = 3

// subjects names what findings are about that say the same.
func subjects(same []openapi.Finding) string {
	var names []string
	for _, f := range same[:min(len(same), mostNamed)] {
		names = append(names, f.Subject)
	}
	if more := len(same) - mostNamed; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names, ", "), more)
	}
	return strings.Join(names, ", ")
}

// ask puts an open choice, which several machines may share, the recommendation first.
func (a *app) ask(ctx context.Context, same []openapi.Finding) (string, error) {
	f := same[0]
	remedies := make([]openapi.Remedy, 0, len(f.Remedies))
	for _, r := range f.Remedies {
		if r.Recommended {
			remedies = append([]openapi.Remedy{r}, remedies...)
		} else {
			remedies = append(remedies, r)
		}
	}
	fmt.Fprintf(a.errOut, "\n%s  %s\n", a.paint(bold, subjects(same)), a.paint(faint, f.Code))
	a.hung(a.errOut, "", f.Message)
	for i, r := range remedies {
		note := ""
		switch {
		case r.Recommended:
			note = a.paint(green, "  (recommended: press Enter)")
		case r.Explicit:
			note = a.paint(red, "  (type it in full)")
		}
		fmt.Fprintf(a.errOut, "  %d  %-12s %s%s\n", i+1, r.Id, r.Label, note)
	}
	for {
		line, err := a.asked(ctx, "? ")
		if err != nil {
			return "", err
		}
		var picked *openapi.Remedy
		if n, err := strconv.Atoi(line); err == nil && n >= 1 && n <= len(remedies) && !remedies[n-1].Explicit {
			picked = &remedies[n-1]
		}
		id, value, _ := strings.Cut(line, ":")
		for i := range remedies {
			if remedies[i].Id == id || line == "" && remedies[i].Recommended {
				picked = &remedies[i]
			}
		}
		if picked == nil {
			fmt.Fprintln(a.errOut, "Type the number or the name of a remedy.")
			continue
		}
		if picked.Takes != nil && value == "" && picked.Value == "" {
			if value, err = a.asked(ctx, string(*picked.Takes)+"? "); err != nil {
				return "", err
			}
		}
		if value != "" {
			return picked.Id + ":" + value, nil
		}
		return picked.Id, nil
	}
}

// asked puts a question and reads the line that is typed.
func (a *app) asked(ctx context.Context, question string) (string, error) {
	return answered(ctx, a.errOut, question, func() (string, error) {
		line, err := a.lines.ReadString('\n')
		if err != nil {
			return "", &exit{statusOpen, errors.New("no answer")}
		}
		return strings.TrimSpace(line), nil
	}, func() {})
}

// answered puts a question and reads the answer. Ctrl-C ends it at once: nothing has begun. leave undoes then what the
// question did to the terminal.
func answered(ctx context.Context, w io.Writer, question string, read func() (string, error),
	leave func()) (string, error) {
	fmt.Fprint(w, question)
	type answer struct {
		text string
		err  error
	}
	typed := make(chan answer, 1)
	go func() {
		text, err := read()
		typed <- answer{text, err}
	}()
	select {
	case <-ctx.Done():
		leave()
		fmt.Fprintln(w)
		return "", &exit{statusCancelled, errors.New("cancelled; nothing was begun")}
	case t := <-typed:
		return t.text, t.err
	}
}

// showPlan prints a plan for people.
func (a *app) showPlan(p openapi.Plan) {
	a.hung(a.out, "", a.paint(bold, p.Title))
	a.changes(a.out, p.Changes, len(p.Changes))
	for _, same := range shared(p.Findings) {
		f := same[0]
		answer := ""
		switch {
		case f.Answer != nil:
			answer = a.paint(green, "→ "+labelOf(f))
		case len(f.Remedies) > 0:
			var labels []string
			for _, r := range f.Remedies {
				l := fmt.Sprintf("? %-12s %s", r.Id, r.Label)
				if r.Recommended {
					l += " (recommended)"
				}
				labels = append(labels, a.paint(yellow, l))
			}
			answer = strings.Join(labels, "\n")
		}
		severity := string(f.Severity)
		fmt.Fprintf(a.out, "\n  %s  %s  %s\n", strings.Replace(fmt.Sprintf("%-7s", severity), severity,
			a.state(severity), 1), a.paint(bold, subjects(same)), a.paint(faint, f.Code))
		a.hung(a.out, findingIndent, f.Message)
		if answer != "" {
			a.hung(a.out, findingIndent, answer)
		}
	}
	if len(p.Steps) > 0 {
		fmt.Fprintln(a.out)
	}
	for _, s := range p.Steps {
		bytes := ""
		if s.Bytes > 0 {
			bytes = a.paint(faint, "  "+size(s.Bytes))
		}
		a.hung(a.out, fmt.Sprintf("  %-3s  ", s.Id), s.What+bytes)
	}
	if p.Jobs > 1 {
		fmt.Fprintf(a.out, "\n  %d jobs, one for each machine: what one can't do stops no other.\n", p.Jobs)
	}
	if p.Bytes > 0 && p.Jobs > 1 {
		fmt.Fprintf(a.out, "  %s to read, about %s.\n", size(p.Bytes), seconds(float64(p.Seconds)))
	}
	if p.Bytes > 0 && p.Jobs == 1 {
		until := "the end"
		if p.PointOfNoReturn != nil {
			until = *p.PointOfNoReturn + " is done"
		}
		fmt.Fprintf(a.out, "\n  %s to read, about %s. Until %s, cancelling undoes everything.\n", size(p.Bytes),
			seconds(float64(p.Seconds)), until)
	}
}

// findingIndent is before what is said of a finding.
const findingIndent = "           "

// Changes that are shown where they are not what was asked for: of a plan that asks nothing, and behind a result.
const (
	fewChanges  = 4
	mostChanges = 24
)

// changes says what will be different about machines, the first of them.
func (a *app) changes(w io.Writer, changes []openapi.PlanChange, most int) {
	if len(changes) == 0 {
		return
	}
	t := a.tableTo(w)
	of := ""
	if first := changes[0].Of; first != nil && !slices.ContainsFunc(changes, func(c openapi.PlanChange) bool {
		return c.Of == nil || *c.Of != *first
	}) {
		of = *first // all are of the one that the title names
	}
	for _, c := range changes[:min(len(changes), most)] {
		if c.Of != nil && *c.Of != of {
			of = *c.Of
			t.AppendRow([]any{"  " + of})
		}
		t.AppendRow([]any{"  " + c.What, c.From + " → " + c.To})
	}
	t.Render()
	if more := len(changes) - most; more > 0 {
		fmt.Fprintf(w, "  and %d more: with --plan they are told, and in the plan of the job\n", more)
	}
}

func labelOf(f openapi.Finding) string {
	id, value, has := strings.Cut(*f.Answer, ":")
	for _, r := range f.Remedies {
		if r.Id == id {
			if has {
				return r.Label + ": " + value
			}
			return r.Label
		}
	}
	return *f.Answer
}

// perform settles a request, carries it out and says how it ended:
// with the copy that was made, else in the words of done.
func (a *app) perform(ctx context.Context, req any, s *settling, done string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	p, err := a.settle(ctx, c, req, s)
	if p == nil || err != nil {
		return err
	}
	if len(p.Steps) == 0 {
		return a.print(p.Plan, func() { fmt.Fprintf(a.out, "%s: %s already.\n", strings.Join(p.Subjects, ", "), done) })
	}
	j, err := a.start(ctx, c, p.body)
	if err != nil {
		return err
	}
	if s.leaves() {
		return a.detached(j)
	}
	j, err = a.follow(ctx, c, j, nil)
	several := j != nil && j.ChildStates != nil
	switch {
	case several && (err != nil || j.NewCopies == nil):
		return a.each(ctx, c, j, err, done)
	case err != nil:
		return err
	case j.NewCopy != nil || several:
		return a.registered(ctx, c, j)
	}
	return a.print(j, func() {
		stood := ""
		if j.DownSeconds != nil {
			stood = fmt.Sprintf(" It stood for %s.", seconds(*j.DownSeconds))
			if len(p.Subjects) > 1 {
				stood = fmt.Sprintf(" Together they stood for %s.", seconds(*j.DownSeconds))
			}
		}
		fmt.Fprintf(a.out, "%s: %s%s.%s\n", strings.Join(p.Subjects, ", "), done, took(j), stood)
		if !a.terminal() { // there it was said before
			a.changes(a.out, p.Changes, mostChanges)
		}
		if p.Back != nil {
			fmt.Fprintf(a.out, "To take it back: %s\n", *p.Back) // one line, to be pasted
		}
	})
}

// start makes a job of a settled request. The key makes a repeated call harmless.
func (a *app) start(ctx context.Context, c *caller, req *openapi.Request) (*openapi.Job, error) {
	key := uuid.NewString()
	j, err := patiently(ctx, func() (openapi.Job, error) {
		res, err := c.StartJob(ctx, &openapi.StartJobParams{IdempotencyKey: &key}, *req)
		return call[openapi.Job](c, res, err)
	})
	return &j, err
}

// patiently asks again for a while when the service does not answer: it may be on its way back.
func patiently[T any](ctx context.Context, ask func() (T, error)) (T, error) {
	return backoff.Retry(ctx, func() (T, error) {
		answer, err := ask()
		return answer, passing(err)
	}, backoff.WithBackOff(backoff.NewConstantBackOff(time.Second)), backoff.WithMaxTries(6))
}

// passing lets what fails be tried again while the service is away; all else is final.
func passing(err error) error {
	var u *unreachable
	if err == nil || errors.As(err, &u) {
		return err
	}
	return backoff.Permanent(err)
}

func (a *app) say(w io.Writer, format string, args ...any) {
	if !a.quiet && a.output == "table" {
		fmt.Fprintf(w, format+"\n", args...)
	}
}
