//go:build !long

package steer_test

import (
	"math/rand/v2"

	"unvora.example/unvora/internal/inventory/pgtest"
)

var from = rand.IntN(9)

// waysAt are the ways that a write goes wrong: every third write does, in one of them.
func waysAt(write int) []pgtest.How {
	if write%3 != from%3 {
		return nil
	}
	return ways[(write+from)/3%3:][:1]
}
