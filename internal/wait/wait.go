// Package wait is how tests wait for what happens elsewhere: with one bound, that a machine with too much to do keeps.
// A bound says that something hangs, never that it is slow.
package wait

import (
	"context"
	"fmt"
	"testing"
	"time"
)

// Bound is how long a test waits for anything.
const Bound = 5 * time.Minute

// Until waits until something holds, in the test's own goroutine, and fails with what is said here (a format and its
// values) when it never does. What costs little is looked at often, what costs much seldom.
func Until(t testing.TB, holds func() bool, said ...any) {
	t.Helper()
	for began := time.Now(); ; {
		looked := time.Now()
		if holds() {
			return
		}
		if time.Since(began) > Bound {
			what := "what was waited for"
			if len(said) > 0 {
				what = fmt.Sprintf(said[0].(string), said[1:]...)
			}
			t.Fatalf("in %v it did not come about: %s", Bound, what)
		}
		time.Sleep(min(max(4*time.Since(looked), time.Millisecond), 500*time.Millisecond))
	}
}

// Context ends with the test, and after the bound.
func Context(t testing.TB) context.Context {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), Bound)
	t.Cleanup(cancel)
	return ctx
}
