package agent

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// Network is a driver that lets switches be made and taken away.
type Network interface {
	// Ports of the host that lead out.
	Ports() []wiring.Port
	// SetSwitches makes these, and no others, the switches of the host.
	SetSwitches([]wiring.Switch) error
}

// switches makes and drops the host's switches, and takes a change back that
// nobody could confirm.
type switches struct {
	a     *Agent
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

func (c Config) returnAfter() time.Duration {
	if c.ReturnSeconds == 0 {
		return time.Minute
	}
	return time.Duration(c.ReturnSeconds) * time.Second
}

// ports is nil when the driver makes no switches.
func (a *Agent) ports() []wiring.Port {
	if n, ok := a.driver.(Network); ok {
		return append([]wiring.Port{}, n.Ports()...)
	}
	return nil
}

// restore gives the driver the switches that were made, after a start.
func (s *switches) restore() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var now []wiring.Switch
	there, err := s.a.store.get("switches", switchesNow, &now)
	if err != nil || !there {
		return err
	}
	if err := s.a.driver.(Network).SetSwitches(now); err != nil {
		return err
	}
	var p pendingSwitches
	if there, err := s.a.store.get("switches", switchesPending, &p); !there || p.Returned {
		return err
	}
	s.schedule(p)
	return nil
}

func (s *switches) set(list []wiring.Switch) error {
	n, ok := s.a.driver.(Network)
	if !ok {
		return errNoSwitches
	}
	if err := s.a.store.put("switches", switchesNow, list); err != nil {
		return err
	}
	return n.SetSwitches(list)
}

// change makes the list the host's switches; with again set, only until the
// time is over, unless the change is kept before.
func (s *switches) change(list []wiring.Switch, again bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if again {
		p := pendingSwitches{Before: s.a.driver.Switches(), Until: time.Now().Add(s.a.config.returnAfter())}
		if err := s.a.store.put("switches", switchesPending, p); err != nil {
			return err
		}
		s.schedule(p)
	} else if err := s.a.store.drop("switches", switchesPending); err != nil {
		return err // what was to be taken back is undone, or made over
	}
	return s.set(list)
}

func (s *switches) schedule(p pendingSwitches) {
	if s.timer != nil {
		s.timer.Stop()
	}
	s.timer = time.AfterFunc(time.Until(p.Until), func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		var now pendingSwitches
		if there, err := s.a.store.get("switches", switchesPending, &now); !there || err != nil || now.Returned || !now.Until.Equal(p.Until) {
			return // kept meanwhile
		}
		now.Returned = true
		err := errors.Join(s.set(now.Before), s.a.store.put("switches", switchesPending, now))
		s.a.log.Warn("nobody reached this host after its switches were changed: the change was taken back", "error", err)
	})
}

// keep ends the time of a change, or tells that it is over.
func (s *switches) keep() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var p pendingSwitches
	there, err := s.a.store.get("switches", switchesPending, &p)
	if err != nil || !there {
		return err
	}
	if p.Returned {
		err = &taskError{"network.cuts-admin", fmt.Sprintf("%s could not be reached for %s after the change, which was therefore taken back: all is as it was", s.a.config.Name, s.a.config.returnAfter())}
	}
	return errors.Join(err, s.a.store.drop("switches", switchesPending))
}

func (s *switches) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.timer != nil {
		s.timer.Stop()
	}
}

func switchTask(t *task) (p plan.SwitchWork, now []wiring.Switch, at int, err error) {
	err = t.params(&p)
	now = slices.Clone(t.a.driver.Switches())
	at = slices.IndexFunc(now, func(s wiring.Switch) bool { return s.Name == p.Switch.Name })
	return p, now, at, err
}

func doMakeSwitch(_ context.Context, t *task) (any, error) {
	p, now, at, err := switchTask(t)
	if err != nil {
		return nil, err
	}
	if at >= 0 {
		if now[at] == p.Switch {
			return nil, nil // made before the agent was killed
		}
		return nil, &taskError{"name.taken", fmt.Sprintf("%s has a switch %s already", t.a.config.Name, p.Switch.Name)}
	}
	return nil, t.a.switches.change(append(now, p.Switch), p.Return)
}

func undoMakeSwitch(t *task) error {
	p, now, at, err := switchTask(t)
	if err != nil || at < 0 || now[at] != p.Switch {
		return err
	}
	return t.a.switches.change(slices.Delete(now, at, at+1), false)
}

func doDropSwitch(_ context.Context, t *task) (any, error) {
	p, now, at, err := switchTask(t)
	if err != nil || at < 0 {
		return nil, err
	}
	for folder := range t.a.store.register() {
		m, err := t.a.machines.read(folder)
		if err != nil {
			continue // hollow, or away
		}
		for _, n := range m.NICs {
			if n.Network == p.Switch.Name {
				return nil, &taskError{"network.switch-in-use", fmt.Sprintf("%s of %s is connected to the switch %s", n.Name, m.Name, n.Network)}
			}
		}
	}
	return nil, t.a.switches.change(slices.Delete(now, at, at+1), p.Return)
}

func undoDropSwitch(t *task) error {
	p, now, at, err := switchTask(t)
	if err != nil || at >= 0 {
		return err
	}
	return t.a.switches.change(append(now, p.Switch), false)
}

// doKeepSwitch is reached only by a service that reaches the host.
func doKeepSwitch(_ context.Context, t *task) (any, error) { return nil, t.a.switches.keep() }
