// Package lineage recognises copies: whether a machine that was seen somewhere
// is a copy known already, a new copy of a known lineage, or the first of its
// own; and it says what that means for the identity of a copy to be made.
package lineage

import (
	"fmt"
	"time"

	"unvora.example/unvora/core/machine"
)

// Form of a copy: what there is of it, and who knows of that.
type Form string

// All forms.
const (
	Registered Form = "registered" // a host lists it, and its files are there
	Stray      Form = "stray"      // a machine folder in a pool that no host lists
	Hollow     Form = "hollow"     // a host lists it, its pool is there, its files are gone
	Package    Form = "package"
)

// Forms are all of them.
var Forms = []Form{Registered, Stray, Hollow, Package}

// Sighting is a machine folder that was seen at a place.
type Sighting struct {
	Host, Pool, Path string
	Registered       bool // a host lists it
	Machine          *machine.Machine
	Disks            []DiskSigns
	WrittenAt        time.Time // last, to one of its disks
}

// Signs of the sighting.
func (s Sighting) Signs() Signs {
	return Signs{Name: s.Machine.Name, UUID: s.Machine.UUID, MACs: s.Machine.MACs(), Disks: s.Disks,
		WrittenAt: s.WrittenAt}
}

// Known is a copy of the inventory that the sighting could be.
type Known struct {
	ID, Lineage      string
	Name             string
	Host, Pool, Path string
	UUID             string
	State            machine.State
	Form             Form
	LastSeen         time.Time
	Present          bool // was still there when last looked for
	MACs             []string
	Disks            []DiskSigns
	Untracked        bool // registered, and to be left alone
}

// Signs of the copy.
func (k Known) Signs() Signs { return Signs{Name: k.Name, UUID: k.UUID, MACs: k.MACs, Disks: k.Disks} }

// Verdict of Recognise.
type Verdict struct {
	Copy    string // the known copy that it is; "" for a new one
	Lineage string // of a new copy; "" for a lineage of its own
	Parent  string // copy that a new one was made from; "" when unknown
	Child   string // known copy that was made from this one, it turns out
	Why     string

	Evidence  []Evidence // that it was recognised by; nil when a passport or its place has decided
	Score     int
	Candidate string // copy that it may have been made from, which somebody has to say
}

// Recognise matches a sighting with the copies that share its passport, its
// place or its machine UUID.
func Recognise(s Sighting, known []Known) Verdict {
	here := func(k Known) bool { return k.Pool == s.Pool && k.Path == s.Path }
	passport := s.Machine.Passport
	if passport != nil {
		for _, k := range known {
			if k.ID == passport.Copy && (here(k) || !k.Present) {
				return Verdict{Copy: k.ID, Why: "its passport says so"}
			}
		}
	}
	for _, k := range known {
		if here(k) && (k.UUID == s.Machine.UUID || k.UUID == "" || passport == nil) {
			return Verdict{Copy: k.ID, Why: "it lies where that copy lay"}
		}
	}
	if passport != nil {
		for _, k := range known {
			if k.ID == passport.Copy { // still at its own place: this one was copied by hand
				score, list := Weigh(s.Signs(), k.Signs())
				return Verdict{Lineage: k.Lineage, Parent: k.ID, Why: "it bears the passport of a " +
					"copy that is still elsewhere",
					Evidence: list, Score: score}
			}
		}
		for _, k := range known {
			if k.Lineage == passport.Lineage {
				return Verdict{Lineage: k.Lineage, Why: "its passport names the lineage"}
			}
		}
	}
	return weighed(s, known)
}

// weighed finds the copy that most speaks for.
func weighed(s Sighting, known []Known) Verdict {
	signs := s.Signs()
	var best *Known
	var list []Evidence
	score := 0
	for i := range known {
		n, e := Weigh(signs, known[i].Signs())
		if n > score {
			best, score, list = &known[i], n, e
		}
	}
	if best == nil || score < Unsure {
		return Verdict{Why: "nothing like it is known"}
	}
	after := ""
	if !s.WrittenAt.IsZero() {
		after = ", made after " + s.WrittenAt.UTC().Format("2 January 2006")
	}
	v := Verdict{Lineage: best.Lineage, Evidence: list, Score: score}
	switch {
	case score < Sure:
		v.Lineage, v.Candidate = "", best.ID
		v.Why = fmt.Sprintf("it may be a copy of %s%s: %s", best.Name, after, Words(list))
	case !best.Present && best.Form == Registered && best.UUID == s.Machine.UUID && best.UUID != "":
		v.Copy, v.Lineage = best.ID, ""
		v.Why = "it has the machine UUID of a copy that is gone from its place"
	case s.Registered && best.Present && best.Form == Stray:
		v.Child = best.ID
		v.Why = "a folder that was found before is a copy of it: " + Words(list)
	default:
		v.Parent = best.ID
		v.Why = fmt.Sprintf("copy of %s%s: %s", best.Name, after, Words(list))
	}
	return v
}

// Origin says what became of the copy that something was made from.
type Origin struct {
	Status string // alive, gone or unknown
	Copy   *Known
}

// FindOrigin picks the copy that matters for the identity of a new one: the
// parent where it could still run, else any registered copy that shares the
// machine UUID, else the parent that is gone.
func FindOrigin(m *machine.Machine, parent *Known, sameUUID []Known) Origin {
	if parent != nil && parent.Present && parent.Form == Registered {
		return Origin{"alive", parent}
	}
	for i := range sameUUID {
		if k := &sameUUID[i]; k.Present && k.Form == Registered && k.UUID == m.UUID {
			return Origin{"alive", k}
		}
	}
	if parent != nil {
		return Origin{"gone", parent}
	}
	return Origin{Status: "unknown"}
}
