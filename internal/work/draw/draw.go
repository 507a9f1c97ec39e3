// Package draw works operations out: it reads a request, gathers the facts that its plan is a function of, and asks
// core/plan for the plan. Nothing is changed here.
//
// Each operation is one file: its request, how its facts are gathered, and its words. The file puts a row into the
// table of operations, from which everybody else learns that there is such an operation.
package draw

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
)

// Operation is a row of the table of operations.
type Operation struct {
	Name string `json:"name"` // in requests, plans and records
	// begins a sentence that the subject ends: over the sheet that asks for it, on its button
	Title   string `json:"title"`
	To      string `json:"-"`       // leads from the subject to where it goes, in that sentence; empty: to nowhere else
	Counted bool   `json:"-"`       // one subject can become several copies, which the sentence counts
	Becomes string `json:"becomes"` // what its subject is afterwards, for a sheet that asks for nothing else
	Command string `json:"command"` // of the client that asks for it, without its options
	// New makes an empty request.
	New func() Request `json:"-"`
	// Ended does what is left when a job is carried out. Nil: nothing is.
	Ended func(ctx context.Context, inv *inventory.Inventory, j *inventory.Job) error `json:"-"`
}

// Request asks for a plan, or for a job that carries it out. There is one type for each operation.
type Request interface {
	asked() *Asked
	draw(ctx context.Context, g *Gatherer) (*Drawn, error)
}

// Asked is what every request has.
type Asked struct {
	Operation       string       `json:"operation"`
	Answers         plan.Answers `json:"answers,omitempty"` // by what they settle
	TakeRecommended bool         `json:"takeRecommended,omitempty"`
	Note            string       `json:"note,omitempty"`
	StartAt         *time.Time   `json:"startAt,omitempty"` // it begins no sooner
	Rate            int64        `json:"rate,omitempty"`    // bytes per second that each transfer may read

	by Caller
}

func (a *Asked) asked() *Asked { return a }

// Caller is who asks.
type Caller struct {
	Name                    string
	Operator, Administrator bool // roles
}

// operations is the table, filled by the file of each operation.
var operations = map[string]Operation{}

func add(op Operation) { operations[op.Name] = op }

// Operations lists the table by name.
func Operations() []Operation {
	list := make([]Operation, 0, len(operations))
	for _, op := range operations {
		list = append(list, op)
	}
	slices.SortFunc(list, func(a, b Operation) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// New makes an empty request of an operation; nil where there is none of that name.
func New(operation string) Request {
	op, ok := operations[operation]
	if !ok {
		return nil
	}
	req := op.New()
	req.asked().Operation = operation
	return req
}

// Parse reads a request. Unknown operations and unknown fields are errors.
func Parse(raw []byte) (Request, error) {
	var head struct {
		Operation string `json:"operation"`
	}
	if err := json.Unmarshal(raw, &head); err != nil {
		return nil, inventory.Wrong("The request can't be read: %v.", err)
	}
	req := New(head.Operation)
	if req == nil {
		var names []string
		for _, op := range Operations() {
			names = append(names, op.Name)
		}
		return nil, inventory.Wrong("Unknown operation %q: there are %s.", head.Operation, strings.Join(names, ", "))
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(req); err != nil {
		return nil, inventory.Wrong("The request to %s can't be read: %v.", head.Operation, err)
	}
	return req, nil
}

// Named gives a request that was made in Go the name of its operation.
func Named(req Request) Request {
	for name, op := range operations {
		if reflect.TypeOf(op.New()) == reflect.TypeOf(req) {
			req.asked().Operation = name
		}
	}
	return req
}

// As says who asks.
func As(req Request, by Caller) { req.asked().by = by }

// CallerOf tells who asks.
func CallerOf(req Request) Caller { return req.asked().by }

// NoteOf is what is to go to history.
func NoteOf(req Request) string { return req.asked().Note }

// StartOf is when a job is to begin at the soonest; nil for at once.
func StartOf(req Request) *time.Time { return req.asked().StartAt }

// Now lets a request begin at once, whenever it was to begin.
func Now(req Request) { req.asked().StartAt = nil }

// RateOf is how fast transfers may be, in bytes per second; 0 for no limit.
func RateOf(req Request) int64 { return req.asked().Rate }

// Drawn is a plan with what its job will need.
type Drawn struct {
	*plan.Plan
	Hosts      map[string]uuid.UUID // that take part, by name
	Holds      []string             // what the job keeps others from
	KeepWiring string               // host for which the switches that were chosen become rules; "" for none
	Parts      []Part               // of several machines: the job of each; none where one job does all
}

// Begin fills in what only a job knows: ids of what is about to be made. It returns that of the first copy; nil when
// none is made.
func (d *Drawn) Begin(at time.Time) (first *uuid.UUID) {
	passports := map[string]*machine.Passport{} // by the copy that a package's machine is made of
	for _, s := range d.Steps {
		do, ok := s.Do.(*plan.Record)
		if !ok {
			continue
		}
		if _, err := uuid.Parse(do.Lineage); err != nil {
			do.Lineage = inventory.NewID().String()
		}
		if do.Copy == "" {
			id := inventory.NewID()
			do.Made = id.String()
			if first == nil {
				first = &id
			}
		}
		passports[do.Parent] = &machine.Passport{Copy: do.Made, Lineage: do.Lineage, Parent: do.Parent,
			MadeBy: d.Operation, MadeAt: at, Identity: identity.Keep}
	}
	for _, s := range d.Steps {
		var machines []*plan.PackedMachine
		switch do := s.Do.(type) {
		case *plan.Pack:
			machines = do.Machines()
		case *plan.HandOut:
			machines = do.Machines()
		}
		for _, m := range machines {
			m.Passport = passports[m.Copy]
		}
	}
	return first
}

// holdPlaces keeps others from the folders that the plan will make, or bring back.
func (d *Drawn) holdPlaces() {
	for _, s := range d.Steps {
		switch do := s.Do.(type) {
		case *plan.Place:
			d.Holds = append(d.Holds, inventory.FolderKey(do.PoolID, do.Name))
		case *plan.GiveBack:
			d.Holds = append(d.Holds, inventory.FolderKey(do.PoolID, path.Base(do.Parts[0].To)))
		case *plan.Alter:
			d.Holds = append(d.Holds, "path:"+s.Host+":"+do.Folder)
		}
	}
}

// Gatherer gathers the facts of plans.
type Gatherer struct {
	inv   *inventory.Inventory
	hosts *reach.Hosts
	away  *away.Places
}

// NewGatherer gathers from the inventory, from agents, and from places that are not ours.
func NewGatherer(inv *inventory.Inventory, hosts *reach.Hosts, places *away.Places) *Gatherer {
	return &Gatherer{inv, hosts, places}
}

// Draw works a request out.
func (g *Gatherer) Draw(ctx context.Context, req Request) (*Drawn, error) {
	a := req.asked()
	for key := range a.Answers {
		if _, _, err := plan.ParseAnswer(key + "=x"); err != nil {
			return nil, inventory.Wrong("%v", err)
		}
	}
	if m := a.Answers.Machines(); len(m) > 0 && !takesMany(req) {
		return nil, inventory.Wrong("This is about one machine: answer without %q before the code.", m[0]+":")
	}
	if a.StartAt != nil && time.Until(*a.StartAt) > inventory.MostAhead {
		return nil, inventory.Wrong("A job can begin at most %d days from now.", inventory.MostAhead/(24*time.Hour))
	}
	d, err := req.draw(ctx, g)
	if err != nil {
		return nil, err
	}
	d.Title = operations[a.Operation].Sentence(d.Subjects, d.Target, d.Makes())
	if d.Bytes == 0 {
		return d, nil
	}
	paces, err := g.inv.Paces(ctx, d.Steps, d.Hosts)
	if err != nil {
		return nil, err
	}
	limits, err := g.inv.Limits(ctx)
	if err != nil {
		return nil, err
	}
	d.Estimate(paces, a.Rate, min(limits.PerHost, limits.PerLink))
	return d, nil
}

// mostNamed is how many machines a sentence names before it counts them.
const mostNamed = 3

// TitleOf says what a job does, by its operation, its subject and how many copies it makes.
func TitleOf(operation, subject string, makes int) string {
	return operations[operation].Sentence(strings.Split(subject, ", "), "", makes)
}

// Sentence says what is to be done: "Move gannet/tide-gauge to petrel", "Clone gannet/training-01, 12 times".
func (o Operation) Sentence(subjects []string, target string, makes int) string {
	named := strings.Join(subjects[:min(len(subjects), mostNamed)], ", ")
	if more := len(subjects) - mostNamed; more > 0 {
		named += fmt.Sprintf(" and %d more", more)
	}
	said := strings.TrimSpace(o.Title + " " + named)
	if o.To != "" && target != "" {
		said += " " + o.To + " " + target
	}
	if o.Counted && len(subjects) == 1 && makes > 1 {
		said += fmt.Sprintf(", %d times", makes)
	}
	return said
}

// Ended lets the operation of a job do what is left when everything is carried out.
func (g *Gatherer) Ended(ctx context.Context, j *inventory.Job) error {
	if op := operations[j.Operation]; op.Ended != nil {
		return op.Ended(ctx, g.inv, j)
	}
	return nil
}

// Denied is returned for what needs a higher role than the call alone.
type Denied struct{ Role, What string }

func (d *Denied) Error() string { return "This needs the role " + d.Role + ": " + d.What + "." }

// CheckRole refuses a plan with steps that the caller may not have done.
func (d *Drawn) CheckRole(by Caller) error {
	for _, s := range d.Steps {
		if plan.Kinds[s.Kind].Administrator && !by.Administrator {
			return &Denied{"administrator", s.What}
		}
	}
	return nil
}

// refused makes an error for the caller of what a plan says about its request.
func refused(err error) error {
	var known *inventory.Error
	if err == nil || errors.As(err, &known) {
		return err
	}
	return inventory.Wrong("%v", err)
}

// on makes what a plan about one copy needs: its host, and a hold on it.
func on(p *plan.Plan, h *inventory.Host, holds ...string) *Drawn {
	return &Drawn{Plan: p, Hosts: map[string]uuid.UUID{h.Name: h.ID}, Holds: holds}
}

// Copies are the copies that a request is about: names, HOST/NAME or ids.
type Copies struct {
	Copies []string `json:"copies"`
}

// one is the copy that a request is about, in one of forms, with its host of ours.
func (c Copies) one(ctx context.Context, g *Gatherer, forms ...lineage.Form) (*subject, error) {
	if len(c.Copies) != 1 {
		return nil, inventory.Wrong("Name one copy.")
	}
	k, err := g.inv.Copy(ctx, c.Copies[0], forms...)
	if err != nil {
		return nil, err
	}
	return g.about(ctx, k, map[uuid.UUID]*subject{})
}

// about gathers what a plan about a copy needs. In hosts is what was gathered of hosts before, by way of a copy of
// each.
func (g *Gatherer) about(ctx context.Context, k *inventory.Copy, hosts map[uuid.UUID]*subject) (*subject, error) {
	s := &subject{Copy: k, hold: inventory.CopyKey(k.ID.String())}
	var err error
	if before := hosts[*k.HostID]; before != nil {
		s.at, s.host = before.at, before.host
	} else {
		if s.at, err = g.hostOf(ctx, k); err != nil {
			return nil, err
		}
		if s.host, err = g.HostFacts(ctx, s.at); err != nil {
			return nil, err
		}
		hosts[*k.HostID] = s
	}
	s.busy, err = g.inv.Holder(ctx, s.hold)
	return s, err
}

// subject is a copy that a plan is about.
type subject struct {
	*inventory.Copy
	at   *inventory.Host
	host plan.HostFacts
	busy string // job that is at work on it
	hold string
}

// pool is the state of the pool that the copy lies in, as its host sees it.
func (s *subject) pool() plan.PoolState {
	for _, p := range s.host.Pools {
		if s.PoolID != nil && p.ID == s.PoolID.String() {
			return p.State
		}
	}
	return ""
}

// hostOf is the host of ours that has a copy.
func (g *Gatherer) hostOf(ctx context.Context, c *inventory.Copy) (*inventory.Host, error) {
	h, err := g.inv.Host(ctx, c.HostID.String())
	if err == nil && h.ManagerID != nil {
		return nil, inventory.Wrong("%s is at the manager %s, which looks after it. Import it first: unvora import "+
			"--from "+
			"%s %s --host HOST",
			c.Name, h.Manager, h.Manager, c.Name)
	}
	return h, err
}

// folder is what the agent tells of a copy's folder.
func (g *Gatherer) folder(ctx context.Context, s *subject) (*plan.Folder, error) {
	return g.Look(ctx, &Spot{Host: s.at, Path: s.Path}, fmt.Sprint(s.Ref()))
}
