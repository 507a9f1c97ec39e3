package peer

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestGrants(t *testing.T) {
	for see, want := range map[string]struct {
		filter string
		ok     bool
	}{"": {"", false}, "all": {"", true}, "name~tide-*": {"name~tide-*", true}} {
		filter, ok := Grants{See: see}.selector()
		require.Equal(t, want.filter, filter)
		require.Equal(t, want.ok, ok)
	}
}
