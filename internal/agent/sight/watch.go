package sight

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// watch notices by itself that something in pools or on shelves has changed.
// Shares and drives that report nothing are looked at by the service's surveys.
type watch struct {
	a       *Sight
	watcher *fsnotify.Watcher // nil: the system lets us watch nothing

	mu    sync.Mutex
	seen  map[string]bool
	dirty chan struct{} // closed and replaced at each change
	full  bool          // no more can be watched; it was said
}

// calm is how long nothing may happen before what happened is told: a folder
// that is being copied makes many events.
const calm = 150 * time.Millisecond

func newWatch(a *Sight) *watch {
	w := &watch{a: a, seen: map[string]bool{}, dirty: make(chan struct{})}
	var err error
	if w.watcher, err = fsnotify.NewWatcher(); err != nil {
		a.Log.Warn("pools are not watched: changes show with the next survey", "error", err)
	}
	return w
}

// follow watches the pools, their machine folders and the shelves.
func (w *watch) follow() {
	if w.watcher == nil {
		return
	}
	var all []string
	for _, p := range w.a.Config.Pools {
		all = append(all, filepath.Dir(filepath.Clean(p.Path)), p.Path) // a mount point changes with its own directory
		entries, _ := w.a.Door.ReadDir(p.Path)
		for _, e := range entries {
			if e.IsDir() && e.Name()[0] != '.' {
				all = append(all, filepath.Join(p.Path, e.Name()))
			}
		}
	}
	for _, s := range w.a.Config.Shelves {
		all = append(all, s.Path)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	still := map[string]bool{}
	for _, dir := range all {
		still[dir] = true
		if w.seen[dir] || w.full {
			continue
		}
		if err := w.watcher.Add(dir); err == nil {
			w.seen[dir] = true
		} else if !errors.Is(err, fs.ErrNotExist) {
			w.full = true
			w.a.Log.Warn("not all folders are watched: changes there show with the next survey", "folder", dir, "error",
				err)
		}
	}
	for dir := range w.seen {
		if !still[dir] {
			delete(w.seen, dir)
			_ = w.watcher.Remove(dir)
		}
	}
}

// run passes on what is noticed until ctx ends.
func (w *watch) run(ctx context.Context) {
	var events <-chan fsnotify.Event
	var lost <-chan error
	if w.watcher != nil {
		defer w.watcher.Close()
		events, lost = w.watcher.Events, w.watcher.Errors
	}
	var noticed <-chan struct{}
	if n, ok := w.a.Driver.(driver.Noticing); ok {
		noticed = n.Noticed()
	}
	timer := time.NewTimer(time.Hour)
	timer.Stop()
	for {
		select {
		case e, ok := <-events:
			if !ok {
				return
			}
			if matters(e) {
				timer.Reset(calm)
			}
		case err := <-lost:
			slog.Debug("changes were lost: the pools are looked at", "err", err)
			timer.Reset(calm)
		case <-noticed:
			w.wake()
		case <-timer.C:
			w.follow()
			w.wake()
		case <-ctx.Done():
			return
		}
	}
}

// matters passes over what running machines write all the time, and over our
// own working files.
func matters(e fsnotify.Event) bool {
	name := filepath.Base(e.Name)
	if name == ground.WorkDir || strings.HasPrefix(name, ground.MarkFile+".") {
		return false
	}
	if e.Op == fsnotify.Write || e.Op == fsnotify.Chmod {
		ext := strings.ToLower(filepath.Ext(name))
		return ext == ".ovf" || ext == ".ova"
	}
	return true
}

func (w *watch) wake() {
	w.mu.Lock()
	defer w.mu.Unlock()
	close(w.dirty)
	w.dirty = make(chan struct{})
}

func (w *watch) next() <-chan struct{} {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.dirty
}

// mostWait is how long a survey may wait for something to change.
const mostWait = 25 * time.Second

// Survey answers when something has changed since the revision, or after a while.
func (a *Sight) Survey(ctx context.Context, since string, wait time.Duration) *hostlink.Survey {
	timer := time.NewTimer(min(wait, mostWait))
	defer timer.Stop()
	for {
		dirty := a.watch.next()
		s := a.sweep.survey(since)
		if wait <= 0 || s.Changed || since == "" {
			return s
		}
		select {
		case <-dirty:
		case <-timer.C:
			return s
		case <-ctx.Done():
			return s
		}
	}
}
