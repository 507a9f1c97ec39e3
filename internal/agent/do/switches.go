package do

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
)

// switches makes and drops the host's switches, and takes a change back that
// nobody could confirm.
type switches struct {
	w     *Worker
	mu    sync.Mutex
	timer *time.Timer
}

// pendingSwitches is a change that is taken back at a time unless it is kept.
type pendingSwitches struct {
	Before   []wiring.Switch `json:"before"`
	Until    time.Time       `json:"until"`
	Returned bool            `json:"returned"`
}

const (
	switchesNow     = "now"     // in the bucket switches: as they were made
	switchesPending = "pending" // likewise: a pendingSwitches
)

var errNoSwitches = errors.New("the hypervisor of this host does not let others make or drop switches")

// restore gives the driver the switches that were made, after a start.
func (s *switches) restore(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var now []wiring.Switch
	there, err := s.w.Records.Get("switches", switchesNow, &now)
	if err != nil || !there {
		return err
	}
	if err := s.w.Driver.(driver.Network).SetSwitches(ctx, now); err != nil {
		return err
	}
	var p pendingSwitches
	if there, err := s.w.Records.Get("switches", switchesPending, &p); !there || p.Returned {
		return err
	}
	s.schedule(p)
	return nil
}

func (s *switches) set(ctx context.Context, list []wiring.Switch) error {
	n, ok := s.w.Driver.(driver.Network)
	if !ok {
		return errNoSwitches
	}
	if err := s.w.Records.Put("switches", switchesNow, list); err != nil {
		return err
	}
	return n.SetSwitches(ctx, list)
}

// change makes the list the host's switches; with again set, only until the
// time is over, unless the change is kept before.
func (s *switches) change(ctx context.Context, list []wiring.Switch, again bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if again {
		before, err := s.w.Driver.Switches(ctx)
		if err != nil {
			return err
		}
		p := pendingSwitches{Before: before, Until: time.Now().Add(s.w.Config.ReturnAfter())}
		if err := s.w.Records.Put("switches", switchesPending, p); err != nil {
			return err
		}
		s.schedule(p)
	} else if err := s.w.Records.Drop("switches", switchesPending); err != nil {
		return err // what was to be taken back is undone, or made over
	}
	return s.set(ctx, list)
}

func (s *switches) schedule(p pendingSwitches) {
	if s.timer != nil {
		s.timer.Stop()
	}
	s.timer = time.AfterFunc(time.Until(p.Until), func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		var now pendingSwitches
		if there, err := s.w.Records.Get("switches", switchesPending, &now); !there || err != nil || now.Returned ||
			!now.Until.Equal(p.Until) {
			return // kept meanwhile
		}
		now.Returned = true
		err := errors.Join(s.set(context.Background(), now.Before), s.w.Records.Put("switches", switchesPending, now))
		s.w.Log.Warn("nobody reached this host after its switches were changed: the change was taken back", "error",
			err)
	})
}

// keep ends the time of a change, or tells that it is over.
func (s *switches) keep() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var p pendingSwitches
	there, err := s.w.Records.Get("switches", switchesPending, &p)
	if err != nil || !there {
		return err
	}
	if p.Returned {
		err = ground.Refuse("network.cuts-admin", "%s could not be reached for %s after the change, which was "+
			"therefore "+
			"taken back: all is as it was", s.w.Config.Name, s.w.Config.ReturnAfter())
	}
	return errors.Join(err, s.w.Records.Drop("switches", switchesPending))
}

func (s *switches) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.timer != nil {
		s.timer.Stop()
	}
}

func switchTask(ctx context.Context, t *run) (p plan.SwitchWork, now []wiring.Switch, at int, err error) {
	if err = t.Params(&p); err != nil {
		return p, nil, 0, err
	}
	if now, err = t.Driver.Switches(ctx); err != nil {
		return p, nil, 0, err
	}
	at = slices.IndexFunc(now, func(s wiring.Switch) bool { return s.Name == p.Switch.Name })
	return p, now, at, err
}

func doMakeSwitch(ctx context.Context, t *run) (any, error) {
	p, now, at, err := switchTask(ctx, t)
	if err != nil {
		return nil, err
	}
	if at >= 0 {
		if now[at] == p.Switch {
			return nil, nil // made before the agent was killed
		}
		return nil, ground.Refuse("name.taken", "%s has a switch %s already", t.Config.Name, p.Switch.Name)
	}
	return nil, t.switches.change(ctx, append(now, p.Switch), p.Return)
}

func undoMakeSwitch(ctx context.Context, t *run) error {
	p, now, at, err := switchTask(ctx, t)
	if err != nil || at < 0 || now[at] != p.Switch {
		return err
	}
	return t.switches.change(ctx, slices.Delete(now, at, at+1), false)
}

func doDropSwitch(ctx context.Context, t *run) (any, error) {
	p, now, at, err := switchTask(ctx, t)
	if err != nil || at < 0 {
		return nil, err
	}
	for folder := range t.Records.Register() {
		m, err := t.Machine(folder)
		if err != nil {
			continue // hollow, or away
		}
		for _, n := range m.NICs {
			if n.Network == p.Switch.Name {
				return nil, ground.Refuse("network.switch-in-use", "%s of %s is connected to the switch %s", n.Name,
					m.Name, n.Network)
			}
		}
	}
	return nil, t.switches.change(ctx, slices.Delete(now, at, at+1), p.Return)
}

func undoDropSwitch(ctx context.Context, t *run) error {
	p, now, at, err := switchTask(ctx, t)
	if err != nil || at >= 0 {
		return err
	}
	return t.switches.change(ctx, append(now, p.Switch), false)
}

// doKeepSwitch is reached only by a service that reaches the host.
func doKeepSwitch(ctx context.Context, t *run) (any, error) { return nil, t.switches.keep() }
