package lineage_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

func TestRecognise(t *testing.T) {
	at := func(id, pool, path string, form lineage.Form, present bool) lineage.Known {
		return lineage.Known{ID: id, Lineage: "l", Pool: pool, Path: path, UUID: "u", Form: form, Present: present}
	}
	m := func(uuid, copyID, lin string) *machine.Machine {
		m := &machine.Machine{UUID: uuid}
		if copyID != "" {
			m.Passport = &machine.Passport{Copy: copyID, Lineage: lin}
		}
		return m
	}
	for name, c := range map[string]struct {
		s     lineage.Sighting
		known []lineage.Known
		want  lineage.Verdict
	}{
		"nobody knows it": {lineage.Sighting{Pool: "p", Path: "a", Machine: m("x", "", "")}, nil,
			lineage.Verdict{}},
		"where it was": {lineage.Sighting{Pool: "p", Path: "a", Machine: m("u", "", "")},
			[]lineage.Known{at("1", "p", "a", "registered", true)}, lineage.Verdict{Copy: "1"}},
		"its passport, moved": {lineage.Sighting{Pool: "q", Path: "b", Machine: m("u", "1", "l")},
			[]lineage.Known{at("1", "p", "a", "registered", false)}, lineage.Verdict{Copy: "1"}},
		"its passport, and it is still there": {lineage.Sighting{Pool: "q", Path: "b", Machine: m("u", "1", "l")},
			[]lineage.Known{at("1", "p", "a", "registered", true)}, lineage.Verdict{Lineage: "l", Parent: "1"}},
		"a copy by hand, without passport": {lineage.Sighting{Pool: "q", Path: "b", Machine: m("u", "", "")},
			[]lineage.Known{at("1", "p", "a", "registered", true)}, lineage.Verdict{Lineage: "l", Parent: "1"}},
		"the copy by hand was found first": {lineage.Sighting{Pool: "q", Path: "b", Registered: true,
			Machine: m("u", "", "")}, []lineage.Known{at("1", "p", "a", "stray", true)},
			lineage.Verdict{Lineage: "l", Child: "1"}},
		"moved by hand": {lineage.Sighting{Pool: "q", Path: "b", Machine: m("u", "", "")},
			[]lineage.Known{at("1", "p", "a", "registered", false)}, lineage.Verdict{Copy: "1"}},
		"only the lineage is known": {lineage.Sighting{Pool: "q", Path: "b", Machine: m("v", "9", "l")},
			[]lineage.Known{at("1", "p", "a", "package", true)}, lineage.Verdict{Lineage: "l"}},
	} {
		t.Run(name, func(t *testing.T) {
			got := lineage.Recognise(c.s, c.known)
			require.NotEmpty(t, got.Why)
			got.Why, got.Evidence, got.Score = "", nil, 0
			require.Equal(t, c.want, got)
		})
	}
}

func TestFindOrigin(t *testing.T) {
	m := &machine.Machine{UUID: "u"}
	alive := lineage.Known{ID: "1", UUID: "u", Form: "registered", Present: true}
	gone := lineage.Known{ID: "2", UUID: "u", Form: "registered"}
	require.Equal(t, "alive", lineage.FindOrigin(m, &alive, nil).Status)
	require.Equal(t, "gone", lineage.FindOrigin(m, &gone, nil).Status)
	require.Equal(t, "1", lineage.FindOrigin(m, &gone, []lineage.Known{alive}).Copy.ID,
		"another that could run counts more")
	require.Equal(t, "unknown", lineage.FindOrigin(m, nil, nil).Status)
}
