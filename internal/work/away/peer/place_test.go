package peer

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
)

// TestKinds: what can be asked of another Unvora are kinds of steps that run at a place, and all that are its alone.
func TestKinds(t *testing.T) {
	for kind := range steps {
		require.Equal(t, plan.AtPlace, plan.Kinds[kind].At, kind)
	}
	require.Contains(t, steps, plan.KindTellPeer)
}
