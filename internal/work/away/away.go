// Package away is for places that are not ours: foreign managers, and other Unvoras. What is done there is asked of
// them, because nobody of ours is there. Each kind of place is a package below this one.
package away

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

// Place is a manager and what it has.
type Place interface {
	// Survey asks what the place has, sorted by its hosts, and which version it speaks.
	Survey(ctx context.Context) (hosts map[string]*hostlink.Survey, version string, err error)
	// Check tries by itself each thing that has to hold.
	Check(ctx context.Context) []reach.Check
	// Look tells how a machine there stands.
	Look(ctx context.Context, c *inventory.Copy) (*Standing, error)
	// Do carries a step on. A pause asks to be called again after it; none means that the step is done.
	Do(ctx context.Context, s *Step) (pause time.Duration, err error)
	// Undo takes back what a step has done.
	Undo(ctx context.Context, s *Step) error
	// Source is where an agent reads a disk of a machine there. It is asked for at every look at the step.
	Source(ctx context.Context, s *Step, disk string) (*Source, error)
}

// Receiver is a place that machines can be given to.
type Receiver interface {
	Place
	// Receives tells what a machine that is given to the place would meet there.
	Receives(ctx context.Context) (*Receiving, error)
	// Target is where an agent sends a disk to.
	Target(ctx context.Context, s *Step, disk string) (*hostlink.WebDisk, error)
}

// Standing is how a machine at a place stands.
type Standing struct {
	Unreachable bool
	State       machine.State
	Live        bool              // images are made of it while it runs, too
	May         bool              // it may be read
	Peer        bool              // the place is another Unvora, whose agents send the disks by themselves
	Paths       map[string]string // disk → by what it is read
}

// Receiving is what a machine that is given to a place would meet there.
type Receiving struct {
	Unreachable bool
	May         bool     // machines may be made there
	Names       []string // that are taken
}

// Source is where an agent reads a disk: one of the two is set.
type Source struct {
	Agent *hostlink.Remote  // of the other Unvora
	Web   *hostlink.WebDisk // an image at a foreign manager
}

// Step is a step of a job that is carried out at a place.
type Step struct {
	Job   *inventory.Job
	Step  *inventory.Step
	Again bool // it was begun before
}

// Failure is an error that trying again does not help against.
type Failure struct{ Code, Message string }

func (f *Failure) Error() string { return f.Message }

// Opener makes the place that a manager is.
type Opener func(m *inventory.Manager) (Place, error)

// Places are all managers of the inventory.
type Places struct {
	inv   *inventory.Inventory
	kinds map[string]Opener
}

// NewPlaces knows the kinds of managers.
func NewPlaces(inv *inventory.Inventory, kinds map[string]Opener) *Places { return &Places{inv, kinds} }

// Of is the place that a manager is.
func (p *Places) Of(m *inventory.Manager) (Place, error) {
	open := p.kinds[m.Kind]
	if open == nil {
		return nil, fmt.Errorf("the manager %s is of the kind %q, which this service does not know: update it", m.Name,
			m.Kind)
	}
	return open(m)
}

// OfHost is the place that has a host of its own.
func (p *Places) OfHost(ctx context.Context, h *inventory.Host) (Place, error) {
	m, err := p.inv.Manager(ctx, h.ManagerID.String())
	if err != nil {
		return nil, err
	}
	return p.Of(m)
}

// Has is the manager that has a copy, and the copy's host. The manager is nil for a copy at a host of ours; so is the
// host for one that lies at none.
func (p *Places) Has(ctx context.Context, c *inventory.Copy) (*inventory.Manager, *inventory.Host, error) {
	if c.HostID == nil {
		return nil, nil, nil
	}
	h, err := p.inv.Host(ctx, c.HostID.String())
	if err != nil || h.ManagerID == nil {
		return nil, h, err
	}
	m, err := p.inv.Manager(ctx, h.ManagerID.String())
	return m, h, err
}

// Survey asks a manager what it has. What is said in an error is noted.
func (p *Places) Survey(ctx context.Context, m *inventory.Manager) ([]inventory.Change, error) {
	place, err := p.Of(m)
	if err != nil {
		return nil, err
	}
	known, err := p.inv.ManagedHosts(ctx, m)
	if err != nil {
		return nil, err
	}
	hosts, version, err := place.Survey(ctx)
	if err != nil {
		return nil, errors.Join(err, p.inv.ManagerState(ctx, m, plan.HostUnreachable, err.Error(), version))
	}
	asked := map[uuid.UUID]inventory.Host{}
	for _, h := range known {
		asked[h.ID] = h
		name := strings.TrimSuffix(h.Name, "@"+m.Name)
		if hosts[name] == nil { // it has nothing any more
			hosts[name] = &hostlink.Survey{Revision: "gone", Full: true, Changed: true}
		}
	}
	var changes []inventory.Change
	for name, s := range hosts {
		hello := s.Hello
		if hello == nil {
			hello = &hostlink.Hello{Driver: m.Kind}
		}
		h, err := p.inv.ManagedHost(ctx, m, name, hello)
		if err != nil {
			return changes, err
		}
		if was, ok := asked[h.ID]; ok {
			h.Revision, h.Turn = was.Revision, was.Turn
		}
		if h.Revision == s.Revision {
			if err := p.inv.StillThere(ctx, []uuid.UUID{h.ID}); err != nil {
				return changes, err
			}
			continue
		}
		more, err := p.inv.Apply(ctx, h, s)
		if errors.Is(err, inventory.ErrOvertaken) {
			continue // another survey has just told of it
		}
		if err != nil {
			return changes, err
		}
		changes = append(changes, more...)
	}
	return changes, p.inv.ManagerState(ctx, m, plan.HostUp, "", version)
}

// Number gives surveys a revision that changes with what is told.
func Number(hosts map[string]*hostlink.Survey) error {
	for _, s := range hosts {
		slices.SortFunc(s.Machines, func(a, b hostlink.Folder) int { return strings.Compare(a.Path, b.Path) })
		sum := fnv.New64a()
		if err := json.NewEncoder(sum).Encode([]any{s.Machines, s.Switches}); err != nil {
			return err
		}
		s.Revision = fmt.Sprintf("%x", sum.Sum64())
	}
	return nil
}
