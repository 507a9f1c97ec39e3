package draw

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "move", Title: "Move", To: "to", Becomes: "moved", Command: "unvora move COPY… --host HOST",
		New: func() Request { return &Move{} },
	})
}

// Move asks to take registered copies to another host, or to another pool of theirs.
type Move struct {
	Asked
	Many
	Host       string            `json:"host"`             // their own unless it is said
	Spread     bool              `json:"spread,omitempty"` // each to the host that has the most memory left
	Pool       string            `json:"pool,omitempty"`
	Disks      map[string]string `json:"disks,omitempty"` // disk → POOL, POOL:FORMAT or :FORMAT
	Wire       map[string]string `json:"wire,omitempty"`  // NIC → switch
	KeepWiring bool              `json:"keepWiring,omitempty"`
	// What can be copied while a machine runs is copied ahead, until somebody says so or until a time.
	CopyAhead    bool       `json:"copyAhead,omitempty"`
	CutOverAt    *time.Time `json:"cutOverAt,omitempty"`
	CutOverUntil *time.Time `json:"cutOverUntil,omitempty"` // what comes later is held
}

// cutOver is when the machines cut over; nil for as soon as they can.
func (r *Move) cutOver() (*plan.Await, error) {
	switch at, until := r.CutOverAt, r.CutOverUntil; {
	case at == nil && until != nil:
		return nil, inventory.Wrong("A time to cut over that has an end has a beginning too (cutOverAt).")
	case until != nil && !until.After(*at):
		return nil, inventory.Wrong("The time to cut over ends before it begins.")
	case at != nil && time.Until(*at) > inventory.MostAhead:
		return nil, inventory.Wrong("A job can cut over at most %d days from now.", inventory.MostAhead/(24*time.Hour))
	case at != nil || r.CopyAhead:
		return &plan.Await{At: at, Until: until}, nil
	}
	return nil, nil
}

// Bounds of a move of several.
const (
	mostMoved = 200 // machines
	mostTried = 8   // hosts for each
)

// movers are the plans of machines that move, in the making.
type movers struct {
	*Move
	g      *Gatherer
	copies []*subject
	seats  map[uuid.UUID]*seat
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
	}
	copies, err := r.all(ctx, g, func(c inventory.Copy) bool {
		return strings.EqualFold(c.Host, r.Host) && r.Pool == ""
	}, lineage.Registered)
	if err != nil {
		return nil, err
	}
	if len(copies) > 1 && (len(r.Disks)+len(r.Wire) > 0 || r.KeepWiring && r.Host == "") {
		return nil, inventory.Wrong("Disks and switches are named for one machine at a time.")
	}
	if len(copies) > mostMoved {
		return nil, inventory.Wrong("More than %d machines are asked for: move them in several jobs.", mostMoved)
	}
	for _, c := range copies {
		if !c.Tracked {
			return nil, inventory.Wrong("%s is left alone here. If it is to be looked after: unvora track %s", c.Ref(),
				c.Ref())
		}
	}
	m := &movers{Move: r, g: g, copies: copies, seats: map[uuid.UUID]*seat{}}
	if r.Spread {
		if err := m.everySeat(ctx); err != nil {
			return nil, err
		}
	}
	return r.each(r, copies, plan.MovedTogether, func(i int, a *Asked) (*Drawn, error) {
		return m.one(ctx, copies[i], a)
	})
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
func (m *movers) one(ctx context.Context, c *subject, a *Asked) (*Drawn, error) {
	if m.Spread {
		return m.spread(ctx, c, a)
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
	d, err := m.to(ctx, c, s, a)
	if err != nil {
		return nil, err
	}
	if m.KeepWiring {
		d.KeepWiring = s.Name
	}
	s.Take(d.Plan)
	return d, nil
}

// spread finds the host for a machine, and plans its move there.
func (m *movers) spread(ctx context.Context, c *subject, a *Asked) (*Drawn, error) {
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
		asked := *a
		asked.TakeRecommended = true
		tried, err := m.to(ctx, c, of[s.ID], &asked)
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
		d, err := m.to(ctx, c, of[s.ID], a)
		if err == nil {
			d.GoesTo(s, len(fitting))
			s.Take(d.Plan)
		}
		return d, err
	}
	return on(plan.Nowhere("move", c.Ref(), why.told()), c.at), nil
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
func (m *movers) to(ctx context.Context, c *subject, s *seat, asked *Asked) (*Drawn, error) {
	moving := Bringing{Files: plan.Move, Making: Making{Host: s.Name, Pool: m.Pool, Disks: m.Disks, Wire: m.Wire}}
	bring, err := moving.bring(asked)
	if err == nil {
		bring.CutOver, err = m.cutOver()
	}
	if err != nil {
		return nil, err
	}
	d := on(nil, s.host)
	d.Hosts[c.at.Name] = c.at.ID
	at := &Spot{Host: c.at, Path: c.Path, Copy: c.Copy}
	if here := sharedPath(s.HostFacts, c.Copy, m.Pool); here != "" && len(m.Disks) == 0 && c.at.ManagerID == nil {
		at.Host, at.Path = s.host, here
	}
	look := &lying{Bringing: moving, ref: c.Ref(), at: at, host: s.host,
		arrival: moving.arrival(asked, s.HostFacts), answers: asked.Answers, moves: true}
	if len(m.copies) > 1 {
		look.arrival.Of = called(c, m.copies)
	}
	facts, err := look.facts(ctx, m.g, d)
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
	if d.Plan, err = plan.MoveMachine(plan.MoveFacts{RegisterFacts: *facts, Pool: pool}, bring); err != nil {
		return nil, refused(err)
	}
	d.holdPlaces()
	return d, nil
}

// sharedPath is where a copy's folder lies as a host sees it that has its pool too, in which it is to stay; "" where
// that is not so.
func sharedPath(h plan.HostFacts, c *inventory.Copy, pool string) string {
	p, sees := poolOf(h, c)
	if !sees || c.HostID == nil || c.HostID.String() == h.ID || p.State != plan.PoolReady ||
		pool != "" && pool != p.Name {
		return ""
	}
	return path.Join(p.Path, path.Base(c.Path))
}
