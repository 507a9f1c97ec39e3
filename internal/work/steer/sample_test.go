//go:build !long

package steer_test

import (
	"math/rand/v2"

	"unvora.example/unvora/internal/inventory/pgtest"
)

var from = rand.IntN(3)

func waysAt(write int) []pgtest.How { return ways[(write+from)%3:][:1] }
