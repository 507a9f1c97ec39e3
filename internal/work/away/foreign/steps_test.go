package foreign

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
)

// TestKinds: every kind of step that runs at a place can be asked of a foreign manager, but what only another Unvora
// understands; and nothing else but what a host of its own is asked.
func TestKinds(t *testing.T) {
	for kind, trait := range plan.Kinds {
		if trait.At == plan.AtPlace && kind != plan.KindTellPeer {
			require.Contains(t, steps, kind)
		}
	}
	for kind := range steps {
		trait, ok := plan.Kinds[kind]
		require.True(t, ok, kind)
		require.NotEqual(t, plan.AtService, trait.At, kind)
	}
}
