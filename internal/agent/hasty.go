package agent

import (
	"sync"
	"time"
)

// A share whose server is gone lets whoever reads it stand still, for hours. What a
// survey reads is therefore given a time, by the path that it is about.
const (
	pathTime  = 10 * time.Second // that one folder, package or pool gets
	sweepTime = 30 * time.Second // that a whole survey spends on waiting for such
)

// hasty reads with a bound. A reading that was given up goes on by itself; until it
// ends, nothing else is read of its path.
type hasty struct {
	most  time.Duration // that one path gets
	mu    sync.Mutex
	busy  map[string]bool
	left  time.Duration
	given []string // up on, since begin
	tick  *time.Ticker
}

// tickTime is how exactly time is kept: a timer for each path would cost more than
// what is read of it.
const tickTime = 10 * time.Millisecond

// begin starts a survey anew.
func (h *hasty) begin() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.left, h.given = sweepTime, nil
	if h.tick == nil {
		h.tick = time.NewTicker(tickTime)
	}
}

// finish ends a survey.
func (h *hasty) finish() {
	h.tick.Stop()
	h.tick = nil
}

// givenUp are the paths that could not be read since begin.
func (h *hasty) givenUp() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.given
}

// start takes a path, and tells for how long it may be waited for.
func (h *hasty) start(path string) (most time.Duration, ok bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.busy == nil {
		h.busy = map[string]bool{}
	}
	if most = min(h.most, h.left); h.busy[path] || most <= 0 {
		h.given = append(h.given, path)
		return 0, false
	}
	h.busy[path] = true
	return most, true
}

func (h *hasty) end(path string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.busy, path)
}

func (h *hasty) giveUp(path string, after time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.given = append(h.given, path)
	h.left -= after
}

// hastily reads something of a path; it is not ok when that took too long. What read
// returns is all that it may touch: nobody knows how late it comes.
func hastily[T any](h *hasty, path string, read func() T) (got T, ok bool) {
	most, ok := h.start(path)
	if !ok {
		return got, false
	}
	done := make(chan T, 1)
	go func() {
		value := read()
		h.end(path) // before it is known: the next reading may follow at once
		done <- value
	}()
	for began := time.Now(); ; {
		select {
		case got = <-done:
			return got, true
		case <-h.tick.C:
			if time.Since(began) >= most {
				h.giveUp(path, most)
				return got, false
			}
		}
	}
}
