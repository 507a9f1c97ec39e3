package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
)

// Seat is a host that machines may go to, with what is spoken for there.
type Seat struct {
	HostFacts
	Used  int64    // bytes of memory, of machines that run there and of those that are to come
	Names []string // of machines that are to come
}

// Free is the memory that is left there, in bytes; below zero where more is promised than there is.
func (s *Seat) Free() int64 { return s.MemoryBytes - s.Used }

// Fitting are the seats that could take a machine: those of its family first, since little changes for it there, and of
// these the one with the most memory left.
func Fitting(seats []*Seat, m *machine.Machine, family string) []*Seat {
	fitting := slices.DeleteFunc(slices.Clone(seats), func(s *Seat) bool {
		return s.State != HostUp || s.Free() < m.MemoryBytes || s.CPUs < m.CPUs
	})
	slices.SortFunc(fitting, func(a, b *Seat) int {
		return cmp.Or(order(a.Family.Name != family)-order(b.Family.Name != family), cmp.Compare(b.Free(), a.Free()),
			strings.Compare(a.Name, b.Name))
	})
	return fitting
}

// Take speaks for what a plan brings to the seat: memory, room in its pools, names.
func (s *Seat) Take(p *Plan) {
	s.Pools = slices.Clone(s.Pools)
	for _, step := range p.Steps {
		switch do := step.Do.(type) {
		case *Carry:
			for i := range s.Pools {
				if s.Pools[i].Path == do.Pool {
					s.Pools[i].FreeBytes = max(0, s.Pools[i].FreeBytes-step.Bytes)
				}
			}
		case *Place:
			s.Names = append(s.Names, do.Name)
		case *Record:
			s.Used += do.Machine.MemoryBytes
		}
	}
}

// GoesTo notes why a machine goes to a seat.
func (p *Plan) GoesTo(s *Seat, of int) {
	p.Findings = append(p.Findings, fit.Raise("place.by-spread", strings.Join(p.Subjects, ", "), fmt.Sprintf("It goes "+
		"to %s, with %s of %s of memory left: the first of %s with room for it. Those of its family come first, then "+
		"those with the most memory left.", s.Name, fit.Size(s.Free()), fit.Size(s.MemoryBytes), count(of, "host")),
		map[string]any{"host": s.Name}))
}

// Nowhere is the plan of a machine that no host can take; why tells what keeps it from each.
func Nowhere(operation, subject string, why []string) *Plan {
	p := &Plan{Operation: operation, Subjects: []string{subject}, Steps: []Step{}, Jobs: 1}
	if len(why) == 0 {
		why = []string{"No other host is up that has the memory and the CPUs for it."}
	}
	p.Findings = []fit.Finding{fit.Raise("place.nowhere", subject, "No host can take it. "+strings.Join(why, " "), nil)}
	p.judge()
	return p
}

// MovedTogether makes one plan of those of several machines that move. All are copied first, as far as they may run
// meanwhile; then one after the other comes to its new place.
func MovedTogether(plans []*Plan) *Plan {
	all := Together(plans)
	if len(plans) == 1 {
		return all
	}
	cutsOver, carried := map[int]bool{}, map[int]bool{} // parts
	var ahead, after []Step
	for _, s := range all.Steps {
		switch s.Do.(type) {
		case *Carry:
			carried[s.Part] = true
		case *Freeze: // what was written since is sent, right before it is stopped
			cutsOver[s.Part] = cutsOver[s.Part] || carried[s.Part]
		case *Await, *Stop, *Unlist:
			cutsOver[s.Part] = true
		}
		if cutsOver[s.Part] {
			after = append(after, s)
		} else {
			ahead = append(ahead, s)
		}
	}
	slices.SortStableFunc(after, func(a, b Step) int { return a.Part - b.Part })
	all.Steps = append(ahead, after...)
	all.number()
	return all
}
