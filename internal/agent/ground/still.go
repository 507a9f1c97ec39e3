package ground

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"unvora.example/unvora/core/machine"
)

// still knows which machines must not be started now, since their disks are read or changed, or they are taken off the
// list; and which are being started. Whoever looks whether a machine stands holds it still by the same call: what was
// true when it was looked at is true until it is let go.
type still struct {
	mu   sync.Mutex
	held map[string]int // folder → by how many; starts for one that is being started
}

const starts = -1

// hold keeps a machine from being started; false where it is being started.
func (s *still) hold(folder string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held == nil {
		s.held = map[string]int{}
	}
	if s.held[folder] == starts {
		return false
	}
	s.held[folder]++
	return true
}

func (s *still) letGo(folder string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held[folder]--; s.held[folder] <= 0 {
		delete(s.held, folder)
	}
}

// start claims a machine for its start; false where somebody holds it, or starts it.
func (s *still) start(folder string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held == nil {
		s.held = map[string]int{}
	}
	if s.held[folder] != 0 {
		return false
	}
	s.held[folder] = starts
	return true
}

func (s *still) started(folder string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.held, folder)
}

// KeepStill is a refusal when the machine in a folder runs. Else it is not started until it is let go.
func (g *Ground) KeepStill(ctx context.Context, folder, doing string) (letGo func(), err error) {
	folder = filepath.Clean(folder)
	if !g.still.hold(folder) {
		return nil, Refuse("state.running", "the machine in %s is being started: %s", filepath.Base(folder), doing)
	}
	err = g.Ours(folder)
	if err == nil {
		err = g.standing(ctx, folder, doing)
	}
	if err != nil {
		g.still.letGo(folder)
		return nil, err
	}
	return sync.OnceFunc(func() { g.still.letGo(folder) }), nil
}

// KeepStopped is KeepStill for what a suspended machine would not outlive: its state fits only the disks and devices
// that were there when it was written.
func (g *Ground) KeepStopped(ctx context.Context, folder, doing string) (letGo func(), err error) {
	letGo, err = g.KeepStill(ctx, folder, doing)
	if err != nil {
		return nil, err
	}
	s, err := g.Driver.State(ctx, folder)
	if err == nil && s.State == machine.Suspended {
		err = Refuse("state.held", "the machine in %s is suspended: let it go on, or drop its state",
			filepath.Base(folder))
	}
	if err != nil {
		letGo()
		return nil, err
	}
	return letGo, nil
}

// Bounds of waiting for a machine that is held still.
const (
	stillTime = 15 * time.Second
	stillLook = 50 * time.Millisecond
)

// Starting claims a machine of the host's list for its start. One that is held still is waited for a little: a reader
// that was cut off is heard of late.
func (g *Ground) Starting(ctx context.Context, folder string) (started func(), err error) {
	folder = filepath.Clean(folder)
	ctx, stop := context.WithTimeout(ctx, stillTime)
	defer stop()
	for !g.still.start(folder) {
		select {
		case <-time.After(stillLook):
		case <-ctx.Done():
			return nil, Refuse("busy.job", "the machine in %s is not started now: its disks are read or changed",
				filepath.Base(folder))
		}
	}
	if _, listed := g.Records.Listed(folder); !listed {
		g.still.started(folder)
		return nil, Refuse("copy.unknown", "%s does not list a machine in %s", g.Config.Name, folder)
	}
	if err := g.claim(folder, ""); err != nil {
		g.still.started(folder)
		return nil, err
	}
	return sync.OnceFunc(func() { g.still.started(folder) }), nil
}

// standing is a refusal when the machine in a folder runs.
func (g *Ground) standing(ctx context.Context, folder, doing string) error {
	s, err := g.Driver.State(ctx, folder)
	if err != nil {
		return fmt.Errorf("whether the machine in %s runs: %w", folder, err)
	}
	if s.State.Active() {
		return Refuse("state.running", "the machine in %s is %s: %s", filepath.Base(folder), s.State, doing)
	}
	return nil
}
