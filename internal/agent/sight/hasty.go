package sight

import (
	"errors"
	"io/fs"
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

// fail notes a path that can't be read.
func (h *hasty) fail(path string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.given = append(h.given, path)
}

// begins tells whether a path may be read now; one that may not counts as given up.
func (h *hasty) begins(path string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.busy[path] || h.left <= 0 {
		h.given = append(h.given, path)
		return false
	}
	return true
}

func (h *hasty) end(path string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.busy, path)
}

// giveUp leaves a path to the one who reads it.
func (h *hasty) giveUp(path string, after time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.busy == nil {
		h.busy = map[string]bool{}
	}
	h.busy[path] = true
	h.given = append(h.given, path)
	h.left -= after
}

// hastily reads something of a path; it is not ok when that took too long. What read
// returns is all that it may touch: nobody knows how late it comes.
func hastily[T any](h *hasty, path string, read func() T) (T, bool) {
	return hastilyRead(h, path, func() (T, error) { return read(), nil })
}

// hastilyRead is hastily for what may fail: then it is not ok either, but where the path is not there.
func hastilyRead[T any](h *hasty, path string, read func() (T, error)) (T, bool) {
	values, ok := hastilyEach(h, []string{path}, func(int) (T, error) { return read() })
	return values[0], ok[0]
}

// hastilyEach reads something of each path, one after the other: what stands still is
// left to itself, and the others are gone on with.
func hastilyEach[T any](h *hasty, paths []string, read func(n int) (T, error)) (values []T, ok []bool) {
	values, ok = make([]T, len(paths)), make([]bool, len(paths))
	for at := 0; at < len(paths); {
		w := &walk[T]{h: h, paths: paths, read: read, values: values, ok: ok, at: at, ended: make(chan struct{})}
		go w.run(at)
		at = w.wait()
	}
	return values, ok
}

// walk reads paths until one of them stands still.
type walk[T any] struct {
	h      *hasty
	paths  []string
	read   func(n int) (T, error)
	values []T
	ok     []bool
	ended  chan struct{}

	mu      sync.Mutex
	at      int
	began   time.Time
	reading bool
	left    bool // by the one who waits; from then on nothing of it is touched
}

func (w *walk[T]) run(from int) {
	defer close(w.ended)
	for n := from; n < len(w.paths); n++ {
		if !w.h.begins(w.paths[n]) {
			continue
		}
		w.mu.Lock()
		w.at, w.began, w.reading = n, time.Now(), true
		w.mu.Unlock()
		value, err := w.read(n)
		w.mu.Lock()
		if w.left {
			w.mu.Unlock()
			w.h.end(w.paths[n])
			return
		}
		w.values[n], w.ok[n], w.reading = value, err == nil || errors.Is(err, fs.ErrNotExist), false
		if !w.ok[n] {
			w.h.fail(w.paths[n])
		}
		w.mu.Unlock()
	}
}

// wait returns the number of the path to go on with.
func (w *walk[T]) wait() int {
	for {
		select {
		case <-w.ended:
			return len(w.paths)
		case <-w.h.tick.C:
			if next, stuck := w.leave(); stuck {
				return next
			}
		}
	}
}

func (w *walk[T]) leave() (next int, stuck bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	most := min(w.h.most, w.h.left)
	if !w.reading || time.Since(w.began) < most {
		return 0, false
	}
	w.left = true
	w.h.giveUp(w.paths[w.at], most)
	return w.at + 1, true
}
