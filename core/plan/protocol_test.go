package plan_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// world is all that decides which of two copies of a moving machine could run.
type world struct {
	at          int  // step that is next; at its undoing, the one that is taken back next
	begun       bool // its task was asked for: what it does may have happened
	back, over  bool
	listed, run [2]bool // at the source, at the target
}

const (
	source = 0
	target = 1
)

// protocol is the walk of a job through its steps, which agents carry out or refuse as they do in truth.
type protocol struct {
	kinds []string
	hosts []int // of each step
	ran   bool  // the machine ran before
	seen  map[world]bool
	wrong string
}

// do is what a step changes; false: its agent refuses.
func (p *protocol) do(w world) (world, bool) {
	h := p.hosts[w.at]
	switch p.kinds[w.at] {
	case plan.KindStop:
		w.run[h] = false
	case plan.KindDelist, plan.KindTakeAway:
		if w.run[h] {
			return w, false
		}
		w.listed[h] = false
	case plan.KindPlace:
		w.listed[h] = true
	case plan.KindStart:
		if !w.listed[h] {
			return w, false
		}
		w.run[h] = true
	}
	return w, true
}

// undo takes a step back; false: its agent refuses, and the job is held.
func (p *protocol) undo(w world) (world, bool) {
	h := p.hosts[w.at]
	switch p.kinds[w.at] {
	case plan.KindStop:
		if p.ran && !w.listed[h] {
			return w, false
		}
		w.run[h] = p.ran
	case plan.KindDelist:
		w.listed[h] = true
	case plan.KindPlace:
		if w.run[h] {
			return w, false
		}
		w.listed[h] = false
	case plan.KindStart:
		w.run[h] = false
	}
	return w, true
}

// next are all worlds that may follow: what the job does, whether it is recorded or whoever did it is killed before;
// that a step fails, or somebody cancels; and that anybody starts or stops a machine that a host lists.
func (p *protocol) next(w world) (list []world) {
	with := func(change func(w *world)) {
		n := w
		change(&n)
		list = append(list, n)
	}
	for h := range 2 {
		if w.listed[h] && !w.run[h] {
			with(func(w *world) { w.run[h] = true })
		}
		if w.run[h] {
			with(func(w *world) { w.run[h] = false })
		}
	}
	switch {
	case w.over:
	case !w.back && w.at == len(p.kinds):
		with(func(w *world) { w.over = true })
		with(func(w *world) { w.back, w.at = true, w.at-1 }) // cancelled at the last moment
	case !w.back && !w.begun:
		with(func(w *world) { w.begun = true })
		with(func(w *world) { w.back, w.at = true, w.at-1 })
	case !w.back:
		if done, ok := p.do(w); ok {
			list = append(list, done) // and not recorded: it is done again
			done.at, done.begun = done.at+1, false
			list = append(list, done)
		}
		with(func(w *world) { w.back = true }) // it failed, or was cancelled, before or behind what it does
	case w.at < 0:
		with(func(w *world) { w.over = true })
	default:
		if undone, ok := p.undo(w); ok {
			list = append(list, undone)
			undone.at, undone.begun = undone.at-1, false
			list = append(list, undone)
		}
	}
	return list
}

// walk visits every world that there may be.
func (p *protocol) walk(from world) {
	p.seen = map[world]bool{}
	for left := []world{from}; len(left) > 0 && p.wrong == ""; {
		w := left[len(left)-1]
		left = left[:len(left)-1]
		if p.seen[w] {
			continue
		}
		p.seen[w] = true
		lists := [2]bool{true, false}
		if !w.back {
			lists = [2]bool{false, true}
		}
		switch {
		case w.run[source] && w.run[target]:
			p.wrong = fmt.Sprintf("both run: %+v", w)
		case w.listed[source] && w.listed[target]:
			p.wrong = fmt.Sprintf("both could be started: %+v", w)
		case w.over && w.listed != lists:
			p.wrong = fmt.Sprintf("it ends where it is not listed, or listed twice: %+v", w)
		}
		left = append(left, p.next(w)...)
	}
}

// TestProtocolOfMoves walks every interleaving of a move's steps with crashes, failures, cancels, and people who start
// and stop whatever a host lists: two never run, both are never listed, and at its end exactly one is. The steps are
// those of the plan. Were they in another order, the walk would find what is wrong with it.
func TestProtocolOfMoves(t *testing.T) {
	for _, state := range []machine.State{machine.Stopped, machine.Running} {
		facts := moving(t)
		facts.Folder.State, facts.From.Can = state, freezing
		p, err := plan.MoveMachine(facts, plan.BringRequest{TakeRecommended: true})
		require.NoError(t, err)
		require.Equal(t, plan.Runnable, p.Verdict)
		walked := &protocol{ran: state == machine.Running}
		for _, s := range p.Steps {
			walked.kinds = append(walked.kinds, s.Kind)
			at := map[string]int{facts.From.Name: source, facts.Host.Name: target}[s.Host]
			walked.hosts = append(walked.hosts, at)
		}
		begin := world{listed: [2]bool{true, false}, run: [2]bool{walked.ran, false}}
		walked.walk(begin)
		require.Empty(t, walked.wrong)
		require.Greater(t, len(walked.seen), 50)

		// Not one of the steps that matter can come elsewhere.
		place, delist := slices.Index(walked.kinds, plan.KindPlace), slices.Index(walked.kinds, plan.KindDelist)
		swapped := &protocol{kinds: slices.Clone(walked.kinds), hosts: slices.Clone(walked.hosts), ran: walked.ran}
		swapped.kinds[place], swapped.kinds[delist] = swapped.kinds[delist], swapped.kinds[place]
		swapped.hosts[place], swapped.hosts[delist] = swapped.hosts[delist], swapped.hosts[place]
		swapped.walk(begin)
		require.Contains(t, swapped.wrong, "both could be started")
		without := &protocol{kinds: slices.Delete(slices.Clone(walked.kinds), delist, delist+1),
			hosts: slices.Delete(slices.Clone(walked.hosts), delist, delist+1), ran: walked.ran}
		without.walk(begin)
		require.NotEmpty(t, without.wrong)
	}
}
