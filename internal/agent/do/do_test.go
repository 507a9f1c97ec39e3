package do

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/agent/sight"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
)

// hand is a worker with its tasks, as an agent has them.
type hand struct {
	*Worker
	tasks *task.Tasks
}

func handOf(t testing.TB, g *ground.Ground) *hand {
	w := New(g, sight.New(g), func() *hostlink.Dialer { return nil })
	h := &hand{w, task.New(g, w.Kinds())}
	require.NoError(t, w.Restore(t.Context()))
	require.NoError(t, h.tasks.Resume())
	t.Cleanup(func() { h.tasks.Close(); w.Close() })
	return h
}

// newAgent has one pool, a shelf and so many machines.
func newAgent(t testing.TB, machines int) (*hand, string) {
	t.Helper()
	g, pool := agenttest.New(t, machines, nil)
	return handOf(t, g), pool
}

// wiredAgent has ports, one of which it is reached by, and takes changes of switches back after a second.
func wiredAgent(t *testing.T) *hand {
	t.Helper()
	g, _ := agenttest.New(t, 0, func(c *ground.Config) {
		c.ReturnSeconds, c.Ports = 1, []wiring.Port{{Name: "port1", Address: "127.0.0.1"}, {Name: "port2"}}
	})
	return handOf(t, g)
}

// TestKinds: an agent does every kind of step that runs at a host, and no other.
func TestKinds(t *testing.T) {
	var want []string
	for kind, trait := range plan.Kinds {
		if trait.At == plan.AtHost {
			want = append(want, kind)
		}
	}
	require.ElementsMatch(t, want, slices.Collect(maps.Keys(rows)))
}
