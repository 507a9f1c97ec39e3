package plan

import (
	"fmt"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// PowerFacts is what SetPower is worked out from, for each copy.
type PowerFacts struct {
	Copy     lineage.Known
	Machine  *machine.Machine
	Host     HostFacts
	Busy     string
	SameUUID []lineage.Known // others with its machine UUID
	SameMAC  []lineage.Known // others with one of its MACs
	Isolated bool            // all its NICs are in quarantine, or unplugged
}

// The operations of SetPower.
const (
	OpStart   = "start"
	OpStop    = "stop"
	OpPause   = "pause"
	OpSuspend = "suspend"
)

// PowerRequest is what the caller asks of SetPower.
type PowerRequest struct {
	Operation       string
	Manner          machine.Manner // of stopping
	Boot            string         // what a start is from, this once; "" for the machine's own order
	Answers         Answers
	TakeRecommended bool
}

// SetPower plans the starting, stopping, pausing or suspending of copies, a plan for each. A copy that would collide
// with one that runs, or with another that is started along with it, can't be started, except in quarantine.
func SetPower(facts []PowerFacts, req PowerRequest) (plans []*Plan, err error) {
	running := map[string]bool{}
	for _, f := range facts {
		running[f.Copy.ID] = !f.Isolated
	}
	room := map[string]int64{} // of pools, that states need
	for _, f := range facts {
		subject := f.Copy.Host + "/" + f.Copy.Name
		b := newBuilder(req.Answers.For(subject, f.Copy.Name, f.Copy.ID), req.TakeRecommended)
		p := &Plan{Operation: req.Operation, Subjects: []string{subject}}
		b.tracked(f.Copy)
		b.reach(f.Host)
		b.busy(subject, f.Busy)
		if f.Copy.State == machine.Away {
			b.raise(fit.Raise("pool.away", subject, "The pool that holds its files is not there now.", nil), "")
		}
		power := Power{Copy: f.Copy.ID, Folder: f.Copy.Path}
		step := Step{Host: f.Copy.Host}
		already := false
		switch req.Operation {
		case OpStart:
			already = f.Copy.State == machine.Running
			step.What, step.Do = "Start "+subject, &Start{Power: power, Boot: req.Boot}
			if f.Copy.State == machine.Paused || f.Copy.State == machine.Suspended {
				step.What = "Let " + subject + " go on where it was " + string(f.Copy.State)
			}
			b.collisions(f, subject, running)
			if err := b.bootOnce(f, subject, req.Boot, &step); err != nil {
				return nil, err
			}
		case OpStop:
			already = f.Copy.State == machine.Stopped
			b.stopping(f, subject, req.Manner, power, &step)
		case OpPause:
			already = f.Copy.State == machine.Paused
			step.What, step.Do = "Pause "+subject, &Pause{power}
			b.mustRun(f, subject, "paused", fit.Pauses, already)
		case OpSuspend:
			already = f.Copy.State == machine.Suspended
			step.What, step.Do = "Suspend "+subject+", its memory written beside its disks", &Suspend{power}
			if b.mustRun(f, subject, "suspended", fit.Suspends, already) {
				b.savable(f, subject, room)
			}
		}
		if !already {
			p.Steps = append(p.Steps, step)
		}
		if p, err = b.finish(p); err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	return plans, nil
}

// collisions holds a start against others that have its identity and could be met.
func (b *builder) collisions(f PowerFacts, subject string, running map[string]bool) {
	if f.Isolated { // nobody else sees it
		return
	}
	for _, twin := range []struct {
		facet  string
		copies []lineage.Known
	}{{"machine UUID", f.SameUUID}, {"MAC", f.SameMAC}} {
		at := slices.IndexFunc(twin.copies, func(o lineage.Known) bool { return o.State.Active() || running[o.ID] })
		if at >= 0 {
			b.raise(fit.Raise("identity.collides", subject, fmt.Sprintf("It has the %s of %s. Stop that one first, "+
				"renew one of the two, or put all its NICs into quarantine.", twin.facet, place(twin.copies[at])),
				map[string]any{"twin": twin.copies[at].ID}), "")
		}
	}
}

// bootOnce lets a start be from another device than usual.
func (b *builder) bootOnce(f PowerFacts, subject, from string, step *Step) error {
	if from == "" {
		return nil
	}
	if !f.Copy.State.Down() || f.Copy.State == machine.Suspended {
		b.raise(fit.Raise("state.underway", subject, fmt.Sprintf("It is %s, and does not start anew. Stop it first: "+
			"unvora power off %s", f.Copy.State, subject), nil), "")
		return nil
	}
	if !b.can(f.Host, fit.BootsOnce, "start a machine from another device than its own first") || f.Machine == nil {
		return nil
	}
	if names := BootNames(f.Machine); !slices.Contains(names, from) {
		return fmt.Errorf("%s has nothing called %q to start from; it has %s", subject, from, quoted(names))
	}
	step.What += " from " + from + ", this once"
	return nil
}

// BootNames are the things that a machine can start from, as its order of starting names them.
func BootNames(m *machine.Machine) (names []string) {
	for _, d := range m.Disks {
		names = append(names, d.ID)
	}
	names = append(names, driveNames(m)...)
	for _, n := range m.NICs {
		names = append(names, n.Name)
	}
	return names
}

// stopping says how a machine is stopped. A state that is suspended is lost by that, which somebody has to say.
func (b *builder) stopping(f PowerFacts, subject string, how machine.Manner, power Power, step *Step) {
	step.What, step.Do = "Stop "+subject, &Stop{Power: power, Manner: how}
	switch {
	case f.Copy.State == machine.Suspended:
		b.raise(fit.Raise("state.suspended", subject, "It is suspended: what its guest had in memory is in a file "+
			"beside its disks. To keep that, let it go on and stop it then: unvora power on "+subject, nil), "")
		step.What, step.Do = "Drop the suspended state of "+subject, &Stop{Power: power, Manner: machine.Off}
	case how == machine.Off:
		step.What = "Turn " + subject + " off"
		b.raise(fit.Raise("state.cut-off", subject, "It is turned off as by a power cut: what its guest has not "+
			"written to its disks is lost.", nil), "")
	case how == machine.CleanOnly:
		step.What = "Ask the guest of " + subject + " to shut down"
	}
}

// mustRun holds against what can be done only with a machine that runs; it reports whether that goes.
func (b *builder) mustRun(f PowerFacts, subject, how string, needs fit.Ability, already bool) bool {
	if already {
		return false
	}
	if f.Copy.State.Down() {
		b.raise(fit.Raise("state.not-running", subject, fmt.Sprintf("It is %s. Only a machine that runs can be %s.",
			f.Copy.State, how), nil), "")
		return false
	}
	return b.can(f.Host, needs, "have machines "+how) && f.Machine != nil
}

// can raises that a host's hypervisor can't do something.
func (b *builder) can(h HostFacts, needs fit.Ability, what string) bool {
	if h.Does(needs) {
		return true
	}
	b.raise(fit.Raise("host.unable", h.Name, fmt.Sprintf("The hypervisor of %s can't %s.", h.Name, what),
		map[string]any{"ability": needs}), "")
	return false
}

// savable holds against devices and formats whose state can't be saved, and against a pool without room for it.
func (b *builder) savable(f PowerFacts, subject string, room map[string]int64) {
	why := []string{}
	for _, d := range f.Machine.Disks {
		for _, what := range []string{strings.ToLower(d.Format), strings.ToLower(d.Controller)} {
			if slices.Contains(f.Host.Family.NotSaved, what) {
				why = append(why, fmt.Sprintf("%s (%s)", d.ID, what))
			}
		}
	}
	if len(why) > 0 {
		b.raise(fit.Raise("state.not-savable", subject, fmt.Sprintf("The hypervisor of %s can't save the state of %s. "+
			"Pause it instead, or stop it.", f.Host.Name, strings.Join(why, ", ")), nil), "")
	}
	at := slices.IndexFunc(f.Host.Pools, func(p PoolFacts) bool { return p.Name == f.Copy.Pool || p.ID == f.Copy.Pool })
	if at < 0 {
		return
	}
	pool := f.Host.Pools[at]
	if room[pool.ID] += f.Machine.MemoryBytes; room[pool.ID] > pool.FreeBytes {
		b.raise(fit.Raise("space.short", pool.Name, fmt.Sprintf("The pool %s has %s free; what is in memory may need "+
			"%s.", pool.Name, fit.Size(pool.FreeBytes), fit.Size(room[pool.ID])), nil), "")
	}
}

// notSuspended raises that a suspended machine can't be worked on: its state fits only its disks and devices as they
// are.
func (b *builder) notSuspended(k lineage.Known) {
	if k.State == machine.Suspended {
		name := k.Host + "/" + k.Name
		b.raise(fit.Raise("state.held", name, fmt.Sprintf("It is suspended, and its state fits only the disks and "+
			"devices that it has. Let it go on (unvora power on %[1]s), or drop its state (unvora power off %[1]s).",
			name), nil), "")
	}
}
