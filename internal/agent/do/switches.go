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

// switchChange is one switch that is made, or dropped.
type switchChange struct {
	Make *wiring.Switch `json:"make"`
	Drop *wiring.Switch `json:"drop"`
}

func (c switchChange) inverse() switchChange { return switchChange{Make: c.Drop, Drop: c.Make} }

// switchChanges is what is different from how the host's switches are by themselves.
type switchChanges struct {
	Dropped []wiring.Switch `json:"dropped"`
	Made    []wiring.Switch `json:"made"`
}

// add notes a change.
func (c *switchChanges) add(change switchChange) {
	if s := change.Make; s != nil && !slices.Contains(c.Made, *s) {
		c.Made = append(c.Made, *s)
	}
	if s := change.Drop; s != nil {
		named := func(o wiring.Switch) bool { return o.Name == s.Name }
		if made := slices.DeleteFunc(slices.Clone(c.Made), named); len(made) < len(c.Made) {
			c.Made = made
		} else if !slices.ContainsFunc(c.Dropped, named) {
			c.Dropped = append(c.Dropped, *s)
		}
	}
}

// pendingSwitch is a change that is taken back at a time unless it is kept.
type pendingSwitch struct {
	Change   switchChange `json:"change"`
	Until    time.Time    `json:"until"`
	Returned bool         `json:"returned"`
}

// Keys in the bucket switches.
const (
	switchesChanged = "changed" // switchChanges
	switchesPending = "pending" // a pendingSwitch
)

var errNoSwitches = errors.New("the hypervisor of this host does not let others make or drop switches")

// restore makes and drops anew what was made and dropped, after a start.
func (s *switches) restore(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var all switchChanges
	if _, err := s.w.Records.Get("switches", switchesChanged, &all); err != nil {
		return err
	}
	var errs []error
	for _, one := range all.Dropped {
		errs = append(errs, s.set(ctx, switchChange{Drop: &one}))
	}
	for _, one := range all.Made {
		errs = append(errs, s.set(ctx, switchChange{Make: &one}))
	}
	if err := errors.Join(errs...); err != nil { // the host is of use all the same
		s.w.Log.Error("switches are not as they were made", "error", err)
	}
	var p pendingSwitch
	if there, err := s.w.Records.Get("switches", switchesPending, &p); !there || p.Returned {
		return err
	}
	s.schedule(p)
	return nil
}

// set has the driver carry out a change.
func (s *switches) set(ctx context.Context, c switchChange) (err error) {
	n, ok := s.w.Driver.(driver.Network)
	if !ok {
		return errNoSwitches
	}
	if c.Drop != nil {
		err = n.DropSwitch(ctx, *c.Drop)
	}
	if c.Make != nil && err == nil {
		err = n.MakeSwitch(ctx, *c.Make)
	}
	return err
}

// change makes or drops a switch; with again set, only until the time is over, unless the change is kept before.
func (s *switches) change(ctx context.Context, c switchChange, again bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if again {
		p := pendingSwitch{Change: c, Until: time.Now().Add(s.w.Config.ReturnAfter())}
		if err := s.w.Records.Put("switches", switchesPending, p); err != nil {
			return err
		}
		s.schedule(p)
	} else if err := s.w.Records.Drop("switches", switchesPending); err != nil {
		return err // what was to be taken back is undone, or made over
	}
	return s.note(ctx, c)
}

// note carries a change out, and keeps it for the next start.
func (s *switches) note(ctx context.Context, c switchChange) error {
	var all switchChanges
	if _, err := s.w.Records.Get("switches", switchesChanged, &all); err != nil {
		return err
	}
	if err := s.set(ctx, c); err != nil {
		return err
	}
	all.add(c)
	return s.w.Records.Put("switches", switchesChanged, all)
}

func (s *switches) schedule(p pendingSwitch) {
	if s.timer != nil {
		s.timer.Stop()
	}
	s.timer = time.AfterFunc(time.Until(p.Until), func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		var now pendingSwitch
		if there, err := s.w.Records.Get("switches", switchesPending, &now); !there || err != nil || now.Returned ||
			!now.Until.Equal(p.Until) {
			return // kept meanwhile
		}
		now.Returned = true
		err := errors.Join(s.note(context.Background(), now.Change.inverse()),
			s.w.Records.Put("switches", switchesPending, now))
		s.w.Log.Warn("nobody reached this host after its switches were changed: the change was taken back", "error",
			err)
	})
}

// keep ends the time of a change, or tells that it is over.
func (s *switches) keep() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var p pendingSwitch
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
	return nil, t.switches.change(ctx, switchChange{Make: &p.Switch}, p.Return)
}

func undoMakeSwitch(ctx context.Context, t *run) error {
	p, now, at, err := switchTask(ctx, t)
	if err != nil || at < 0 || now[at] != p.Switch {
		return err
	}
	if t.plugged(p.Switch.Name) != "" {
		return nil // another machine has come to need it meanwhile
	}
	return t.switches.change(ctx, switchChange{Drop: &p.Switch}, false)
}

// plugged names a NIC of a registered machine that is connected to a switch; "" when none is.
func (t *run) plugged(name string) string {
	for folder := range t.Records.Register() {
		m, err := t.Machine(folder)
		if err != nil {
			continue // hollow, or away
		}
		for _, n := range m.NICs {
			if n.Network == name {
				return n.Name + " of " + m.Name
			}
		}
	}
	return ""
}

func doDropSwitch(ctx context.Context, t *run) (any, error) {
	p, now, at, err := switchTask(ctx, t)
	if err != nil || at < 0 {
		return nil, err
	}
	if nic := t.plugged(p.Switch.Name); nic != "" {
		return nil, ground.Refuse("network.switch-in-use", "%s is connected to the switch %s", nic, p.Switch.Name)
	}
	return nil, t.switches.change(ctx, switchChange{Drop: &now[at]}, p.Return)
}

func undoDropSwitch(ctx context.Context, t *run) error {
	p, _, at, err := switchTask(ctx, t)
	if err != nil || at >= 0 {
		return err
	}
	return t.switches.change(ctx, switchChange{Make: &p.Switch}, false)
}

// doKeepSwitch is reached only by a service that reaches the host.
func doKeepSwitch(ctx context.Context, t *run) (any, error) { return nil, t.switches.keep() }
