//go:build long

package steer_test

import "unvora.example/unvora/internal/inventory/pgtest"

func waysAt(int) []pgtest.How { return ways }

// late is how many of these may not come about, since a run may have two writes fewer than another.
const late = 2 * 3
