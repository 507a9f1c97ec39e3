package draw

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "move", Title: "Move", Becomes: "moved", Command: "unvora move COPY… --host HOST",
		New: func() Request { return &Move{} },
	})
}

// Move asks to take registered copies to another host, or to another pool of theirs.
type Move struct {
	Asked
	Copies
	Where      string            `json:"where,omitempty"`  // or those that a filter tells
	Host       string            `json:"host"`             // their own unless it is said
	Spread     bool              `json:"spread,omitempty"` // each to the host that has the most memory left
	Pool       string            `json:"pool,omitempty"`
	Disks      map[string]string `json:"disks,omitempty"` // disk → POOL, POOL:FORMAT or :FORMAT
	Wire       map[string]string `json:"wire,omitempty"`  // NIC → switch
	KeepWiring bool              `json:"keepWiring,omitempty"`
}

// Bounds of a move of several.
const (
	mostMoved = 200 // machines in one job
	mostTried = 8   // hosts for each
)

// movers are the plans of machines that move, in the making.
type movers struct {
	*Move
	g     *Gatherer
	all   *Drawn
	seats map[uuid.UUID]*seat
	many  bool
}

// seat is a host with what its plans need.
type seat struct {
	plan.Seat
	host *inventory.Host
}

func (r *Move) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	switch {
	case r.Spread && (r.Host != "" || r.Pool != "" || len(r.Disks)+len(r.Wire) > 0 || r.KeepWiring):
		return nil, inventory.Wrong("Either hosts are chosen (spread), or a host, a pool, disks or switches are named.")
	case len(r.Copies.Copies) == 0 && r.Where == "":
		return nil, inventory.Wrong("Name the copies that are to move, or say which they are: --where 'host=gannet'.")
	}
	copies, err := r.subjects(ctx, g)
	if err != nil {
		return nil, err
	}
	if len(copies) > 1 && (len(r.Disks)+len(r.Wire) > 0 || r.KeepWiring && r.Host == "") {
		return nil, inventory.Wrong("Disks and switches are named for one machine at a time.")
	}
	m := &movers{Move: r, g: g, all: &Drawn{Hosts: map[string]uuid.UUID{}}, seats: map[uuid.UUID]*seat{},
		many: len(copies) > 1}
	if r.Spread {
		if err := m.everySeat(ctx); err != nil {
			return nil, err
		}
	}
	var plans []*plan.Plan
	for _, c := range copies {
		p, err := m.one(ctx, c)
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	m.all.Plan = plan.MovedTogether(plans)
	m.all.holdPlaces()
	return m.all, nil
}

// subjects are the copies that are to move. Of those that a filter tells, the ones that are there already stay.
func (r *Move) subjects(ctx context.Context, g *Gatherer) (list []*subject, err error) {
	refs := r.Copies.Copies
	if r.Where != "" {
		page, err := g.inv.Copies(ctx, inventory.Page{Filter: r.Where + " form=registered", Limit: mostMoved + 1})
		if err != nil {
			return nil, err
		}
		for _, c := range page.Items {
			if !strings.EqualFold(c.Host, r.Host) || r.Pool != "" {
				refs = append(refs, c.ID.String())
			}
		}
	}
	seen := map[uuid.UUID]bool{}
	for _, ref := range refs {
		c, err := Copies{[]string{ref}}.one(ctx, g, lineage.Registered)
		if err != nil {
			return nil, err
		}
		if seen[c.ID] {
			continue
		}
		seen[c.ID] = true
		if !c.Tracked {
			return nil, inventory.Wrong("%s is left alone here. If it is to be looked after: unvora track %s", c.Ref(),
				c.Ref())
		}
		list = append(list, c)
	}
	switch {
	case len(list) == 0:
		return nil, inventory.Wrong("No registered copy fits %q, or all are where they are to go.", r.Where)
	case len(list) > mostMoved:
		return nil, inventory.Wrong("More than %d machines are asked for: move them in several jobs.", mostMoved)
	}
	return list, nil
}

// seat is a host, gathered once: plans that are made before speak for its room.
func (m *movers) seat(ctx context.Context, h *inventory.Host) (*seat, error) {
	if s := m.seats[h.ID]; s != nil {
		return s, nil
	}
	facts, err := m.g.HostFacts(ctx, h)
	if err != nil {
		return nil, err
	}
	s := &seat{Seat: plan.Seat{HostFacts: facts}, host: h}
	m.seats[h.ID] = s
	return s, nil
}

// everySeat gathers all hosts of ours.
func (m *movers) everySeat(ctx context.Context) error {
	used, err := m.g.inv.MemoryInUse(ctx)
	if err != nil {
		return err
	}
	return m.g.inv.AllHosts(ctx, func(h inventory.Host) error {
		s, err := m.seat(ctx, &h)
		if err == nil {
			s.Used = used[h.ID]
		}
		return err
	})
}

// one plans the move of one machine, and speaks for its new place.
func (m *movers) one(ctx context.Context, c *subject) (*plan.Plan, error) {
	if m.Spread {
		return m.spread(ctx, c)
	}
	h := c.at
	if m.Host != "" {
		var err error
		if h, err = m.g.inv.Host(ctx, m.Host); err != nil {
			return nil, err
		}
	}
	s, err := m.seat(ctx, h)
	if err != nil {
		return nil, err
	}
	if m.KeepWiring {
		m.all.KeepWiring = s.Name
	}
	p, err := m.to(ctx, c, s, &m.Asked, m.all)
	if err == nil {
		s.Take(p)
	}
	return p, err
}

// spread finds the host for a machine, and plans its move there.
func (m *movers) spread(ctx context.Context, c *subject) (*plan.Plan, error) {
	var others []*plan.Seat
	of := map[string]*seat{}
	for _, s := range m.seats {
		if s.host.ID != c.at.ID && !s.host.Resting {
			others, of[s.ID] = append(others, &s.Seat), s
		}
	}
	if c.Machine == nil {
		return nil, inventory.Wrong("%s can't be moved: %s. Put that right first: unvora attention", c.Ref(), c.Problem)
	}
	fitting := plan.Fitting(others, c.Machine, c.at.Family)
	var why reasons
	for _, s := range fitting[:min(len(fitting), mostTried)] {
		asked := m.Asked
		asked.TakeRecommended = true
		tried, err := m.to(ctx, c, of[s.ID], &asked, &Drawn{Hosts: map[string]uuid.UUID{}})
		var known *inventory.Error
		if errors.As(err, &known) {
			why.add(s.Name, known.Message)
			continue
		}
		if err != nil {
			return nil, err
		}
		if tried.Verdict != plan.Runnable {
			for _, f := range tried.Findings {
				if f.Open() {
					why.add(s.Name, fmt.Sprintf("%s (%s)", f.Message, f.Code))
					break
				}
			}
			continue
		}
		p, err := m.to(ctx, c, of[s.ID], &m.Asked, m.all)
		if err == nil {
			p.GoesTo(s, len(fitting))
			s.Take(p)
		}
		return p, err
	}
	return plan.Nowhere("move", fmt.Sprint(c.Ref()), why.told()), nil
}

// reasons are what keeps a machine from hosts; the same of several is told once.
type reasons struct {
	of    map[string][]string
	order []string
}

func (r *reasons) add(host, why string) {
	if r.of == nil {
		r.of = map[string][]string{}
	}
	if r.of[why] == nil {
		r.order = append(r.order, why)
	}
	r.of[why] = append(r.of[why], host)
}

func (r *reasons) told() (list []string) {
	for _, why := range r.order {
		list = append(list, strings.Join(r.of[why], ", ")+": "+why)
	}
	return list
}

// to plans the move of a machine to a seat.
func (m *movers) to(ctx context.Context, c *subject, s *seat, asked *Asked, all *Drawn) (*plan.Plan, error) {
	moving := Bringing{Files: plan.Move, Making: Making{Host: s.Name, Pool: m.Pool, Disks: m.Disks, Wire: m.Wire}}
	bring, err := moving.bring(asked)
	if err != nil {
		return nil, err
	}
	all.Hosts[s.Name], all.Hosts[c.at.Name] = s.host.ID, c.at.ID
	look := &lying{Bringing: moving, ref: c.Ref(), at: &Spot{Host: c.at, Path: c.Path, Copy: c.Copy}, host: s.host,
		arrival: moving.arrival(asked, s.HostFacts), answers: asked.Answers, moves: true}
	if m.many {
		look.arrival.Of = c.Name
	}
	facts, err := look.facts(ctx, m.g, all)
	if err != nil {
		return nil, err
	}
	if facts.Folder.Machine == nil {
		return nil, inventory.Wrong("%s can't be moved: %s. Put that right first: unvora attention", c.Ref(),
			facts.Folder.Problem)
	}
	facts.Names = append(facts.Names, s.Names...)
	pool := ""
	if c.at.ID == s.host.ID {
		pool = poolNamed(c)
	}
	p, err := plan.MoveMachine(plan.MoveFacts{RegisterFacts: *facts, Pool: pool}, bring)
	return p, refused(err)
}
