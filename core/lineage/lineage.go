// Package lineage recognises copies: whether a machine that was seen somewhere
// is a copy known already, a new copy of a known lineage, or the first of its
// own; and it says what that means for the identity of a copy to be made.
package lineage

import (
	"time"

	"unvora.example/unvora/core/machine"
)

// Sighting is a machine folder that was seen at a place.
type Sighting struct {
	Host, Pool, Path string
	Registered       bool // a host lists it
	Machine          *machine.Machine
}

// Known is a copy of the inventory that the sighting could be.
type Known struct {
	ID, Lineage      string
	Name             string
	Host, Pool, Path string
	UUID             string
	State            string // running, stopped, …
	Form             string
	LastSeen         time.Time
	Present          bool // was still there when last looked for
}

// Verdict of Recognise.
type Verdict struct {
	Copy    string // the known copy that it is; "" for a new one
	Lineage string // of a new copy; "" for a lineage of its own
	Parent  string // copy that a new one was made from; "" when unknown
	Child   string // known copy that was made from this one, it turns out
	Why     string
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
				return Verdict{Lineage: k.Lineage, Parent: k.ID, Why: "it bears the passport of a copy that is still elsewhere"}
			}
		}
		for _, k := range known {
			if k.Lineage == passport.Lineage {
				return Verdict{Lineage: k.Lineage, Why: "its passport names the lineage"}
			}
		}
	}
	for _, k := range known {
		if k.UUID != "" && k.UUID == s.Machine.UUID {
			if !k.Present && k.Form == "registered" {
				return Verdict{Copy: k.ID, Why: "it has the machine UUID of a copy that is gone from its place"}
			}
			if s.Registered && k.Present && k.Form == "stray" {
				return Verdict{Lineage: k.Lineage, Child: k.ID, Why: "a folder that was found before has its machine UUID: that one is a copy of it"}
			}
			return Verdict{Lineage: k.Lineage, Parent: k.ID, Why: "it has the machine UUID of a copy that is still elsewhere"}
		}
	}
	return Verdict{Why: "nothing like it is known"}
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
	if parent != nil && parent.Present && parent.Form == "registered" {
		return Origin{"alive", parent}
	}
	for i := range sameUUID {
		if k := &sameUUID[i]; k.Present && k.Form == "registered" && k.UUID == m.UUID {
			return Origin{"alive", k}
		}
	}
	if parent != nil {
		return Origin{"gone", parent}
	}
	return Origin{Status: "unknown"}
}
