package access

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/semaphore"
)

// Checking a password costs 64 MiB of memory and a core for a while. So few are
// checked at once, and whoever fails again and again has to wait, by the name
// that was tried and by the address that it came from.
const (
	hashesAtOnce = 2
	hashPatience = 5 * time.Second // that a call waits for its turn
	freeTries    = 3               // failures after which nobody has to wait yet
	firstWait    = time.Second     // after one more; it doubles with each that follows
	longestWait  = time.Minute
	forgotten    = 15 * time.Minute // that a failure counts
	mostTracked  = 10_000           // names and addresses
)

// Later is returned to somebody who has to wait before trying again.
type Later struct {
	Wait time.Duration
	Why  string
}

func (l *Later) Error() string {
	return fmt.Sprintf("%s: wait %s, then try again", l.Why, l.Wait.Round(time.Second))
}

// failures of one name or address.
type failures struct {
	n    int
	last time.Time
}

func (f failures) wait(now time.Time) time.Duration {
	if f.n <= freeTries || now.Sub(f.last) > forgotten {
		return 0
	}
	pause := min(longestWait, firstWait<<min(f.n-freeTries-1, 10))
	return max(0, pause-now.Sub(f.last))
}

type guard struct {
	hashes *semaphore.Weighted
	mu     sync.Mutex
	failed *lru.Cache[string, failures]
}

func newGuard() *guard {
	failed, err := lru.New[string, failures](mostTracked)
	if err != nil {
		panic(err) // a size that is none
	}
	return &guard{hashes: semaphore.NewWeighted(hashesAtOnce), failed: failed}
}

// let tells whether somebody may try now; each of keys has its own failures.
func (g *guard) let(keys ...string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	var wait time.Duration
	for _, k := range keys {
		if f, ok := g.failed.Get(k); ok {
			wait = max(wait, f.wait(time.Now()))
		}
	}
	if wait > 0 {
		return &Later{wait, "too many tries"}
	}
	return nil
}

// note remembers how a try ended.
func (g *guard) note(ok bool, keys ...string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, k := range keys {
		if ok {
			g.failed.Remove(k)
			continue
		}
		f, _ := g.failed.Get(k)
		if time.Since(f.last) > forgotten {
			f.n = 0
		}
		g.failed.Add(k, failures{f.n + 1, time.Now()})
	}
}

// hash runs f, which hashes a password, when it is its turn. The memory goes back
// to the system when nobody else needs it.
func (g *guard) hash(ctx context.Context, f func() error) error {
	turn, stop := context.WithTimeout(ctx, hashPatience)
	defer stop()
	if err := g.hashes.Acquire(turn, 1); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &Later{firstWait, "too many tries at once"}
	}
	err := f()
	g.hashes.Release(1)
	if g.hashes.TryAcquire(hashesAtOnce) { // nobody is at it
		debug.FreeOSMemory()
		g.hashes.Release(hashesAtOnce)
	}
	return err
}

var errWeak = errors.New("a password has 10 characters at least and 200 at most")

func checkPassword(p string) error {
	if len(p) < 10 || len(p) > 200 {
		return errWeak
	}
	return nil
}
