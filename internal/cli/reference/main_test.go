package main

import (
	"cmp"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
)

// TestMeanings: each code of the catalogue is explained in two sentences, with an example; nothing else is.
func TestMeanings(t *testing.T) {
	plans, err := os.ReadFile(filepath.Join("..", "..", "..", keptPlans))
	require.NoError(t, err)
	said := examples(string(plans))
	for _, code := range fit.Codes() {
		m := fit.Meanings[code]
		sentences := strings.Count(m.Says, ". ") + strings.Count(m.Says, ": ") + strings.Count(m.Says, "; ") + 1
		require.GreaterOrEqual(t, sentences, 2, "%s: %s", code, m.Says)
		require.True(t, strings.HasSuffix(m.Says, "."), code)
		require.NotEmpty(t, cmp.Or(m.Example, said[code]), "%s has no example", code)
	}
	require.Len(t, fit.Meanings, len(fit.Codes()), "some are of no code")
}
