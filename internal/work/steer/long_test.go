//go:build long

package steer_test

import "unvora.example/unvora/internal/inventory/pgtest"

func waysAt(int) []pgtest.How { return ways }
