package draw

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "register", Title: "Register", To: "on", Becomes: "a registered copy",
		Command: "unvora register FOLDER --host HOST",
		New:     func() Request { return &Register{} },
	})
}

// Register asks for registered copies of machine folders, or of machines at a manager.
type Register struct {
	Asked
	Bringing
	Folders []string `json:"folders"`       // POOL/NAME, a copy, or a path of the host
	Via     string   `json:"via,omitempty"` // host that reads and converts what a foreign manager sends
	// Several folders are registered all or none, instead of each by itself.
	AllOrNothing bool `json:"allOrNothing,omitempty"`
}

func (*Register) takesSeveral() {}

func (r *Register) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	if len(r.Folders) == 0 || r.Host == "" {
		return nil, inventory.Wrong("To register needs a folder and a host.")
	}
	if len(r.Folders) == 1 { // given a package, it goes on with the right plan
		if c, err := g.inv.Copy(ctx, r.Folders[0], lineage.Package); err == nil && c != nil {
			return Named(&Import{Asked: r.Asked, Bringing: r.Bringing,
				Source: &Source{Package: c.ID.String()}}).draw(ctx, g)
		}
	}
	h, host, err := r.to(ctx, g)
	if err != nil {
		return nil, err
	}
	machines := make([][]string, len(r.Folders))
	for n, ref := range r.Folders {
		machines[n] = []string{ref, path.Base(ref)}
	}
	if err := answered(r.Answers, machines); err != nil {
		return nil, err
	}
	parts := make([]Part, len(r.Folders))
	for n, ref := range r.Folders {
		one := *r
		if one.Name = plan.Pattern(r.Name, path.Base(ref), n+1); len(r.Folders) > 1 && one.Name == r.Name &&
			r.Name != "" {
			return nil, inventory.Wrong("One name for %d folders: put {name}, {n} or {nn} into it, such as %s-{nn}.",
				len(r.Folders), r.Name)
		}
		one.Answers = r.Answers.For(machines[n]...)
		d := r.made(nil, h)
		if d.Plan, err = one.folder(ctx, g, ref, h, host, d); err != nil {
			return nil, err
		}
		d.holdPlaces()
		one.Folders, one.AllOrNothing = []string{ref}, false
		parts[n] = Part{d, &one}
	}
	return together(parts, r.AllOrNothing, plan.Together), nil
}

// folder plans one of the folders.
func (r *Register) folder(ctx context.Context, g *Gatherer, ref string, h *inventory.Host, host plan.HostFacts,
	all *Drawn) (*plan.Plan, error) {
	at, err := g.Find(ctx, ref, h, host, lineage.Stray, lineage.Registered)
	if err != nil {
		return nil, err
	}
	bring, err := r.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	several := len(r.Folders) > 1
	if at.Host.ManagerID != nil {
		return r.managed(ctx, g, at, h, host, bring, all)
	}
	look := &lying{Bringing: r.Bringing, ref: ref, at: at, host: h, arrival: r.arrival(&r.Asked, host),
		answers: r.Answers}
	if several {
		look.arrival.Of = path.Base(ref)
	}
	facts, err := look.facts(ctx, g, all)
	if err != nil {
		return nil, err
	}
	p, err := plan.Register(*facts, bring)
	return p, refused(err)
}

// managed plans the import of a machine at a manager.
func (r *Register) managed(ctx context.Context, g *Gatherer, at *Spot, h *inventory.Host, host plan.HostFacts,
	bring plan.BringRequest, all *Drawn) (*plan.Plan, error) {
	facts, err := g.fromManager(ctx, at, h, r.arrival(&r.Asked, host), r.Via, all)
	if err != nil {
		return nil, err
	}
	c := at.Copy
	if len(r.Folders) > 1 {
		facts.Of = c.Name
	}
	if r.Files == plan.Move && !facts.Manager.Peer {
		return nil, inventory.Wrong("A machine is copied from a foreign manager, and stays there: remove it there " +
			"once the copy here has run.")
	}
	self := ""
	if r.Files == plan.Move { // what is taken away does not collide
		self = c.ID.String()
	}
	if err := g.arrive(ctx, &facts.Arrival, c.Machine, self); err != nil {
		return nil, err
	}
	k := c.Known()
	facts.Parent, facts.Lineage = k.ID, k.Lineage
	if facts.Origin = lineage.FindOrigin(c.Machine, &k, facts.SameUUID); self != "" {
		facts.Origin = lineage.Origin{Status: "gone", Copy: &k}
	}
	if facts.Names, err = g.names(ctx, h.ID, poolFor(host, r.Pool), uuid.Nil, r.Answers, r.Name, c.Machine.Name,
		facts.Called); err != nil {
		return nil, err
	}
	if bring.Files = plan.Copy; r.Files == plan.Move {
		bring.Files = plan.Move
	}
	p, err := plan.Register(*facts, bring)
	return p, refused(err)
}

// lying is a machine folder that lies somewhere, to be made a registered copy of.
type lying struct {
	Bringing
	ref     string // as it was asked for
	at      *Spot
	host    *inventory.Host // that it is registered on
	arrival plan.Arrival
	answers plan.Answers
	moves   bool // it is registered where it is, and is to be so here instead
	count   int  // how many are made of it, each with a number in its name
}

// facts gathers what registering the folder is worked out from. Hosts and holds go to all.
func (l *lying) facts(ctx context.Context, g *Gatherer, all *Drawn) (*plan.RegisterFacts, error) {
	facts := &plan.RegisterFacts{Arrival: l.arrival, Where: l.ref}
	if err := l.whereListed(ctx, g); err != nil {
		return nil, err
	}
	folder, err := g.Look(ctx, l.at, l.ref)
	if err != nil {
		return nil, err
	}
	facts.Folder, facts.Guest = *folder, folder.Guest
	if folder.Machine != nil && l.at.Copy == nil { // it came a moment ago: what it is, is recognised first
		_, _, err := g.hosts.Survey(ctx, l.at.Host)
		if err != nil && !errors.Is(err, inventory.ErrOvertaken) { // jobs change so much there: it is as they left it
			return nil, err
		}
		l.at.Copy, err = g.inv.AtPlace(ctx, l.at.Host.ID, inventory.OptionalID(folder.Pool), folder.Path)
		if err != nil {
			return nil, err
		}
	}
	if folder.Machine == nil && l.at.Copy == nil { // its descriptor is lost, and it was taken for gone
		if l.at.Copy, err = g.inv.WasAt(ctx, l.at.Host.ID, inventory.OptionalID(folder.Pool), folder.Path); err != nil {
			return nil, err
		}
	}
	if len(folder.Disks) == 0 && folder.Machine == nil {
		return nil, inventory.Wrong("%s at %s holds neither a descriptor nor a disk image: %s.", l.at.Path,
			l.at.Host.Name, folder.Problem)
	}
	if _, err := uuid.Parse(l.ref); err == nil && l.at.Copy != nil { // an id says nothing to people
		facts.Where = path.Join(l.at.Copy.Pool, path.Base(l.at.Path))
	}
	if l.at.Host.ID != l.host.ID {
		from, err := g.HostFacts(ctx, l.at.Host)
		if err != nil {
			return nil, err
		}
		facts.From = &from
		all.Hosts[l.at.Host.Name] = l.at.Host.ID
	}
	if err := l.elsewhere(ctx, g, facts, all); err != nil {
		return nil, err
	}
	self, err := l.copy(ctx, g, facts, all)
	if err != nil {
		return nil, err
	}
	m := folder.Machine
	if m == nil && facts.Record != nil {
		m = facts.Record
	}
	if m == nil {
		m = plan.Around(path.Base(folder.Path), folder.Disks, facts.Host)
	}
	if err := g.arrive(ctx, &facts.Arrival, m, self); err != nil {
		return nil, err
	}
	return facts, l.relatives(ctx, g, facts, m, self)
}

// listedAt is the host that lists the machine by the records, where it is another than the one that is looked at; nil
// for none.
func (l *lying) listedAt() *uuid.UUID {
	c := l.at.Copy
	if c == nil || c.Form != lineage.Registered || c.HostID == nil || *c.HostID == l.at.Host.ID {
		return nil
	}
	return c.HostID
}

// whereListed has a machine that is copied be read at the host that lists it, though others see its pool.
func (l *lying) whereListed(ctx context.Context, g *Gatherer) error {
	id := l.listedAt()
	if id == nil || l.Files != plan.Copy {
		return nil
	}
	h, err := g.inv.Host(ctx, id.String())
	if err == nil {
		l.at = &Spot{Host: h, Path: l.at.Copy.Path, Copy: l.at.Copy}
	}
	return err
}

// elsewhere finds out what is to be known of another host that lists the folder: by the records, or by the mark in it.
func (l *lying) elsewhere(ctx context.Context, g *Gatherer, facts *plan.RegisterFacts, all *Drawn) error {
	id, by := l.listedAt(), facts.Folder.ListedBy
	if id == nil && by == nil {
		return nil
	}
	e := &plan.Elsewhere{QuietSeconds: -1, State: machine.Unknown}
	facts.Elsewhere = e
	if by != nil {
		e.Host.Name, e.Mark, e.QuietSeconds = by.Name, by.ID, by.QuietSeconds
	}
	h, err := l.lister(ctx, g, id, by)
	if h == nil || err != nil {
		return err
	}
	host, err := g.HostFacts(ctx, h)
	if err != nil {
		return err
	}
	there := &Spot{Host: h, Path: facts.Folder.Path}
	p, ready := host.Pool(facts.Folder.Pool)
	if ready {
		there.Path = path.Join(p.Path, path.Base(facts.Folder.Path))
	}
	if ready = ready && p.State != plan.PoolAway && host.State != plan.HostUnreachable; ready {
		seen, err := g.Look(ctx, there, l.ref)
		if err != nil {
			return err
		}
		if by != nil && seen.ListedBy != nil { // the mark is not its own: it is another host of this name
			return nil
		}
		if !seen.Registered { // the mark was left, or the records are behind
			facts.Elsewhere = nil
			return nil
		}
		e.State = seen.State
	} else if id == nil { // nor can it be told whether it is the one that the mark means
		return nil
	} else {
		e.State, there.Path = l.at.Copy.State, l.at.Copy.Path
	}
	e.Host, e.Ours, e.Sees, e.Folder = host, true, ready, there.Path
	all.Hosts[h.Name] = h.ID
	return nil
}

// lister is the host that lists the folder; nil where it is none of ours.
func (l *lying) lister(ctx context.Context, g *Gatherer, id *uuid.UUID, by *plan.ListedBy) (*inventory.Host, error) {
	if id != nil {
		return g.inv.Host(ctx, id.String())
	}
	h, err := g.inv.Host(ctx, by.Name)
	var e *inventory.Error
	if errors.As(err, &e) && (e.Code == inventory.CodeUnknown || e.Code == inventory.CodeAmbiguous) {
		return nil, nil
	}
	return h, err
}

// copy settles which copy of the inventory the folder is, or is made from, and returns the id of the first.
func (l *lying) copy(ctx context.Context, g *Gatherer, facts *plan.RegisterFacts, all *Drawn) (self string, err error) {
	c, folder := l.at.Copy, &facts.Folder
	elsewhere := l.at.Host.ID != l.host.ID
	switch {
	case c == nil:
		return "", nil
	case l.moves: // it is the same copy
	// another copy is made of it
	case c.Form == lineage.Registered && folder.Registered && (elsewhere || l.Files == plan.Copy):
		if l.Files == plan.Move {
			return "", inventory.Wrong("%s is registered on %s: unvora move %s takes it here, "+
				"unvora clone makes another of it.", l.ref, l.at.Host.Name, c.Ref())
		}
		if !c.Tracked && folder.State.Active() {
			return "", inventory.Wrong("%s runs, and is left alone here: it can't be stopped to read its disks. If "+
				"it is to "+
				"be looked after: unvora track %s",
				c.Ref(), c.Ref())
		}
		folder.Registered = false
		facts.Parent, facts.Lineage = c.ID.String(), c.LineageID.String()
		all.Holds = append(all.Holds, inventory.CopyKey(c.ID.String()))
		return "", nil
	case path.Base(c.Path) != path.Base(folder.Path):
		return "", nil
	}
	self = c.ID.String()
	facts.Copy, facts.Lineage, facts.Record = self, c.LineageID.String(), c.Machine
	if c.Parent != nil {
		facts.Parent = c.Parent.String()
	}
	if c.Form == lineage.Stray {
		if facts.Was, err = g.was(ctx, c); err != nil {
			return "", err
		}
	}
	all.Holds = append(all.Holds, inventory.CopyKey(self))
	facts.Busy, err = g.inv.Holder(ctx, inventory.CopyKey(self))
	return self, err
}

// was is how a copy was registered that nobody lists now; nil where nobody here took it off a list.
func (g *Gatherer) was(ctx context.Context, c *inventory.Copy) (*plan.Was, error) {
	off, err := g.inv.TakenOff(ctx, c.ID)
	e, ok := off[c.ID]
	if !ok || err != nil {
		return nil, err
	}
	return &plan.Was{Host: c.Host, By: e.Who, SecondsAgo: int64(time.Since(e.At).Seconds())}, nil
}

// relatives finds the copies that the new one has to do with, and the names that are taken.
func (l *lying) relatives(ctx context.Context, g *Gatherer, facts *plan.RegisterFacts, m *machine.Machine,
	self string) error {
	if facts.Parent != "" && facts.Origin.Status == "unknown" { // a stray that was recognised
		c, err := g.inv.CopyByID(ctx, facts.Parent)
		if err != nil {
			return err
		}
		if c != nil {
			k := c.Known()
			facts.Origin = lineage.FindOrigin(m, &k, facts.SameUUID)
		}
	}
	if o := facts.Origin; o.Status == "alive" && o.Copy.State.Active() {
		facts.Newer = o.Copy
	}
	hollow, err := g.inv.HollowLike(ctx, l.host.ID, m.UUID, m.Name)
	if err != nil {
		return err
	}
	if hollow != nil && hollow.ID.String() != self {
		k := hollow.Known()
		facts.Hollow = &k
	}
	pool := poolFor(facts.Host, l.Pool)
	staying := facts.From == nil && (l.Files == "" || l.Files == plan.Stay)
	if staying {
		pool, _ = uuid.Parse(facts.Folder.Pool)
	}
	itself := uuid.Nil
	if l.moves {
		itself = l.at.Copy.ID
	}
	wishes := []string{l.Name, m.Name, facts.Called}
	for n := range l.count {
		wishes = append(wishes, plan.Pattern(l.Name, m.Name, n+1))
	}
	if facts.Names, err = g.names(ctx, l.host.ID, pool, itself, l.answers, wishes...); err != nil {
		return err
	}
	// Its own folder does not count, nor does the entry that it takes the place of.
	facts.Names = slices.DeleteFunc(facts.Names, func(name string) bool {
		return staying && strings.EqualFold(name, path.Base(facts.Folder.Path)) || facts.Hollow != nil &&
			strings.EqualFold(name, facts.Hollow.Name)
	})
	return nil
}
