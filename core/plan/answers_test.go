package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/plan"
)

// TestParseAnswer: an answer may be for one of several machines, whose name may have a colon or a stroke in it.
func TestParseAnswer(t *testing.T) {
	for text, want := range map[string][2]string{
		"network.unmapped=unplugged":                  {"network.unmapped", "unplugged"},
		"network.unmapped/NIC 1=switch:lab":           {"network.unmapped/NIC 1", "switch:lab"},
		"network.unmapped/tide: NIC 1=switch:a=b":     {"network.unmapped/tide: NIC 1", "switch:a=b"},
		"gannet/tide-gauge:state.running=stop":        {"gannet/tide-gauge:state.running", "stop"},
		"a:b:network.unmapped/NIC 1=switch:lab":       {"a:b:network.unmapped/NIC 1", "switch:lab"},
		"state.running/network.unmapped:x=stop":       {"state.running/network.unmapped:x", "stop"},
		"tide:source.last-copy=by-name:tide=weather:": {"tide:source.last-copy", "by-name:tide=weather:"},
	} {
		key, answer, err := plan.ParseAnswer(text)
		require.NoError(t, err, text)
		require.Equal(t, want, [2]string{key, answer})
	}
	for text, says := range map[string]string{"": "want", "state.running": "want", "=stop": "want",
		"state.running=": "want", "no.such=x": "the code no.such", "tide:no.such/NIC 1=x": "the code no.such",
		":state.running=stop": "the code state.running", "tide=stop": "the code tide"} {
		_, _, err := plan.ParseAnswer(text)
		require.ErrorContains(t, err, says, text)
	}
}

// TestAnswersFor: what is answered for one machine wins over what is answered for all.
func TestAnswersFor(t *testing.T) {
	given := plan.Answers{"state.running": "stop", "network.unmapped": "unplugged",
		"network.unmapped/NIC 1": "switch:lab", "tide:network.unmapped/NIC 2": "switch:field",
		"gannet/rain:network.unmapped": "switch:ops",
		"rain:state.running":           "follow", "network.unmapped/tide: NIC 3": "switch:quay"}
	require.Equal(t, []string{"gannet/rain", "rain", "tide"}, given.Machines())
	require.Equal(t, plan.Answers{"state.running": "stop", "network.unmapped": "unplugged",
		"network.unmapped/NIC 1": "switch:lab", "network.unmapped/NIC 2": "switch:field",
		"network.unmapped/NIC 3": "switch:quay", "network.unmapped/tide: NIC 3": "switch:quay"},
		given.For("gannet/tide", "tide"))
	require.Equal(t, plan.Answers{"state.running": "follow", "network.unmapped": "switch:ops"},
		given.For("gannet/rain", "rain"), "its own word for all of its NICs, too")
	require.Empty(t, plan.Answers{}.Machines())
	require.Empty(t, plan.Answers(nil).For("tide"))
}

// TestSideBySide: each of several machines is a job of its own, with a point of no return of its own.
func TestSideBySide(t *testing.T) {
	one := func(host string, findings ...fit.Finding) *plan.Plan {
		return plan.SideBySide([]*plan.Plan{{Operation: "put-back", Subjects: []string{host + "/tide"}, Target: host,
			Findings: findings, Bytes: 10, Seconds: 2, Jobs: 1, Verdict: plan.Runnable, Runnable: true,
			Steps: []plan.Step{{Host: host, Do: &plan.MakeThere{}}, {Host: host, Do: &plan.RemoveThere{}}}}})
	}
	away := fit.Raise("host.unreachable", "petrel", "It does not answer.", nil)
	p := plan.SideBySide([]*plan.Plan{one("gannet"), one("petrel", away), one("petrel", away)})
	require.Equal(t, "host.unreachable / make-there remove-there make-there remove-there make-there remove-there",
		outline(p), "one machine's steps after the other's; what is said of a host is said once")
	require.Nil(t, p.PointOfNoReturn)
	require.Equal(t, 3, p.Jobs)
	require.Equal(t, "gannet, petrel", p.Target)
	require.Equal(t, []string{"gannet/tide", "petrel/tide"}, p.Subjects)
	require.EqualValues(t, 30, p.Bytes)
	require.EqualValues(t, 6, p.Seconds)
	require.Equal(t, []int{0, 0, 1, 1, 2, 2}, []int{p.Steps[0].Part, p.Steps[1].Part, p.Steps[2].Part, p.Steps[3].Part,
		p.Steps[4].Part, p.Steps[5].Part})
	require.Equal(t, plan.Blocked, p.Verdict)
	require.False(t, p.Runnable)

	together := plan.Together([]*plan.Plan{one("gannet"), one("petrel")})
	require.Equal(t, " / make-there make-there remove-there remove-there", outline(together))
	require.Equal(t, 1, together.Jobs)
	require.Equal(t, "s2", *together.PointOfNoReturn)

	// The same that one has settled and another has not is told of both.
	open := fit.Raise("state.running", "tide", "It runs.", nil)
	settled := open
	settled.Answer = "stop"
	p = plan.SideBySide([]*plan.Plan{one("gannet", settled), one("petrel", open)})
	require.Len(t, p.Findings, 2)
	require.Equal(t, plan.Open, p.Verdict)
}

// TestBetween: a transfer goes between the hosts that read and write.
func TestBetween(t *testing.T) {
	require.Equal(t, []string{"a", "b"}, plan.Between(&plan.Carry{FromHost: "b"}, "a"))
	require.Equal(t, []string{"a"}, plan.Between(&plan.Carry{FromHost: "a"}, "a"))
	require.Equal(t, []string{"a"}, plan.Between(&plan.Carry{}, "a"))
	require.Equal(t, []string{"a"}, plan.Between(&plan.Pack{}, "a"))
	require.Nil(t, plan.Between(&plan.Follow{FromHost: "b"}, "a"), "a machine stands still meanwhile")
	require.Equal(t, []string{"a"}, plan.Between(&plan.Send{}, "a"), "to a manager")
	require.Nil(t, plan.Between(&plan.Place{}, "a"))
}
