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
	mark        int     // in the folder that both see: the host that it names
}

// unmarked is a folder that names no host.
const unmarked = -1

const (
	source = 0
	target = 1
)

// protocol is the walk of a job through its steps, which agents carry out or refuse as they do in truth.
type protocol struct {
	kinds []string
	hosts []int // of each step
	ran   bool  // the machine ran before
	one   bool  // the folder stays where it is, and both hosts see it
	mute  bool  // the source can't be asked, and somebody has said that it is off
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
		return p.delist(w, h), true
	case plan.KindFence:
		if w.run[source] { // it has come back, and writes to the pool that it is there
			return w, false
		}
		w.mark = h
	case plan.KindPlace, plan.KindAlter:
		return p.list(w, h)
	case plan.KindStart:
		return p.start(w, h)
	}
	return w, true
}

// list puts the machine onto a host's list; false: the mark in its folder names another.
func (p *protocol) list(w world, h int) (world, bool) {
	if p.one && w.mark != h && w.mark != unmarked {
		return w, false
	}
	w.listed[h], w.mark = true, h
	return w, true
}

func (p *protocol) delist(w world, h int) world {
	w.listed[h] = false
	if w.mark == h {
		w.mark = unmarked
	}
	return w
}

// start runs the machine at a host; false: it does not list it, or the mark in its folder names another.
func (p *protocol) start(w world, h int) (world, bool) {
	if !w.listed[h] || p.one && w.mark != h && w.mark != unmarked {
		return w, false
	}
	w.run[h], w.mark = true, h
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
		return p.list(w, h)
	case plan.KindFence:
		if w.mark != source {
			w.mark = source
		}
	case plan.KindPlace, plan.KindAlter:
		if w.run[h] {
			return w, false
		}
		return p.delist(w, h), true
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
		if !w.run[h] {
			if n, ok := p.start(w, h); ok {
				list = append(list, n)
			}
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
		case w.listed[source] && w.listed[target] && !p.one:
			p.wrong = fmt.Sprintf("both could be started: %+v", w)
		case w.over && p.mute && (w.listed[target] == w.back || !w.back && w.mark != target):
			p.wrong = fmt.Sprintf("it ends where it is not listed, or not marked: %+v", w)
		case w.over && !p.mute && w.listed != lists:
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

// TestProtocolInPlace is the same walk for a folder that stays in a pool which both hosts see, also where the source
// can't be asked and comes back at any moment: the mark in the folder decides.
func TestProtocolInPlace(t *testing.T) {
	for name, c := range map[string]struct {
		state machine.State
		mute  bool
	}{"stopped": {machine.Stopped, false}, "running": {machine.Running, false}, "silent": {machine.Stopped, true}} {
		facts := shared(t)
		facts.Elsewhere.State = c.state
		req := plan.BringRequest{TakeRecommended: true}
		if c.mute {
			silent(&facts)
			req.Answers = plan.Answers{"host.silent": "off"}
		}
		p, err := plan.MoveMachine(facts, req)
		require.NoError(t, err)
		require.Equal(t, plan.Runnable, p.Verdict, name)
		walked := &protocol{ran: c.state == machine.Running, one: true, mute: c.mute}
		for _, s := range p.Steps {
			walked.kinds = append(walked.kinds, s.Kind)
			walked.hosts = append(walked.hosts, map[string]int{"petrel": source, "gannet": target}[s.Host])
		}
		begin := world{listed: [2]bool{true, false}, run: [2]bool{walked.ran, false}, mark: source}
		walked.walk(begin)
		require.Empty(t, walked.wrong, name)
		require.Greater(t, len(walked.seen), 30)

		fence := slices.Index(walked.kinds, plan.KindDelist)
		if c.mute {
			fence = slices.Index(walked.kinds, plan.KindFence)
		}
		without := &protocol{kinds: slices.Delete(slices.Clone(walked.kinds), fence, fence+1),
			hosts: slices.Delete(slices.Clone(walked.hosts), fence, fence+1), ran: walked.ran, one: true, mute: c.mute}
		unchecked := &protocol{kinds: without.kinds, hosts: without.hosts, ran: walked.ran}
		unchecked.walk(begin)
		require.NotEmpty(t, unchecked.wrong, "%s: without fence and mark, two could run", name)
		without.walk(begin)
		require.NotContains(t, without.wrong, "both run", "the mark alone keeps two from running")
	}
}
