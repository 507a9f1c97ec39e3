package draw

import (
	"context"
	"encoding/json"
	"slices"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// Many are the copies that a request is about. Each gets a job of its own, which stops no other when it fails, unless
// it is to be all or none.
type Many struct {
	Copies
	Where        string `json:"where,omitempty"` // or those that a filter tells
	AllOrNothing bool   `json:"allOrNothing,omitempty"`
}

// These are the copies of a request, by name.
func These(refs ...string) Many { return Many{Copies: Copies{refs}} }

func (m *Many) several() *Many { return m }
func (*Many) takesSeveral()    {}

// many is what requests have that are about several copies.
type many interface{ several() *Many }

// takesMany tells whether a request may be about several machines.
func takesMany(req Request) bool {
	_, ok := req.(interface{ takesSeveral() })
	return ok
}

// mostMany bounds how many machines one request is about.
const mostMany = 500

// Part is the work on one of several machines.
type Part struct {
	*Drawn
	Request Request // that asks for it alone
}

// all are the copies of a request, each once: named ones in any of forms, those that a filter tells in the first of
// them, but for the ones that stays says so of.
func (m *Many) all(ctx context.Context, g *Gatherer, stays func(inventory.Copy) bool, forms ...lineage.Form) (
	list []*subject, err error) {
	refs := m.Copies.Copies
	switch {
	case len(refs) == 0 && m.Where == "":
		return nil, inventory.Wrong("Name one or more copies, or say which they are: --where 'host=gannet'.")
	case m.Where != "":
		page, err := g.inv.Copies(ctx, inventory.Page{Filter: m.Where + " form=" + string(forms[0]), Limit: mostMany})
		if err != nil {
			return nil, err
		}
		if page.Next != "" { // else those behind it would stay unnoticed
			return nil, inventory.Wrong("More than %d copies fit %q: narrow it down, and do it in several jobs.",
				mostMany, m.Where)
		}
		for _, c := range page.Items {
			if stays == nil || !stays(c) {
				refs = append(refs, c.ID.String())
			}
		}
	}
	if len(refs) > mostMany {
		return nil, inventory.Wrong("More than %d machines are asked for: do it in several jobs.", mostMany)
	}
	seen, hosts := map[uuid.UUID]bool{}, map[uuid.UUID]*subject{}
	for _, ref := range refs {
		k, err := g.inv.Copy(ctx, ref, forms...)
		if err != nil {
			return nil, err
		}
		if seen[k.ID] {
			continue
		}
		seen[k.ID] = true
		c, err := g.about(ctx, k, hosts)
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return nil, inventory.Wrong("No %s copy fits %q, or all that do are as they are to be.", forms[0], m.Where)
	}
	return list, nil
}

// names are those that answers may call a copy by.
func (c *subject) names() []string { return []string{c.Ref(), c.Name, c.ID.String()} }

// answered refuses answers for a machine that is none of these, each with all of its names.
func answered(a plan.Answers, machines [][]string) error {
	for _, name := range a.Machines() {
		if !slices.ContainsFunc(machines, func(names []string) bool { return slices.Contains(names, name) }) {
			return inventory.Wrong("An answer is for %q, which is none of the machines that are asked for.", name)
		}
	}
	return nil
}

// answersOf are the answers for each of several copies; those for none of them are refused.
func answersOf(a plan.Answers, copies []*subject) ([]plan.Answers, error) {
	machines, own := make([][]string, len(copies)), make([]plan.Answers, len(copies))
	for i, c := range copies {
		machines[i] = c.names()
		own[i] = a.For(machines[i]...)
	}
	return own, answered(a, machines)
}

// called names a copy in the findings of a plan for several.
func called(c *subject, all []*subject) string {
	if slices.ContainsFunc(all, func(o *subject) bool { return o != c && o.Name == c.Name }) {
		return c.Ref()
	}
	return c.Name
}

// each draws a request for each of its copies. one is told which of them, and what was asked for it alone; all puts the
// plans together where one job is to do all.
func (m *Many) each(req Request, copies []*subject, all func([]*plan.Plan) *plan.Plan,
	one func(i int, a *Asked) (*Drawn, error)) (*Drawn, error) {
	asked := req.asked()
	own, err := answersOf(asked.Answers, copies)
	if err != nil {
		return nil, err
	}
	parts := make([]Part, len(copies))
	for i, c := range copies {
		a := *asked
		a.Answers = own[i]
		d, err := one(i, &a)
		if err != nil {
			return nil, err
		}
		if parts[i], err = alone(d, req, c, a.Answers); err != nil {
			return nil, err
		}
	}
	return together(parts, m.AllOrNothing, all), nil
}

// alone makes the part of one copy.
func alone(d *Drawn, req Request, c *subject, answers plan.Answers) (Part, error) {
	raw, err := json.Marshal(req)
	if err != nil {
		return Part{}, err
	}
	own := New(req.asked().Operation)
	if err := json.Unmarshal(raw, own); err != nil {
		return Part{}, err
	}
	own.asked().Answers, own.asked().by = answers, req.asked().by
	if m, ok := own.(many); ok {
		*m.several() = These(c.ID.String())
	}
	return Part{d, own}, nil
}

// together makes one of the parts. Where one job is to do all, all puts their plans together. One for which nothing is
// to be done gets no job.
func together(parts []Part, oneJob bool, all func([]*plan.Plan) *plan.Plan) *Drawn {
	if len(parts) == 1 {
		return parts[0].Drawn
	}
	d := &Drawn{Hosts: map[string]uuid.UUID{}}
	plans := make([]*plan.Plan, len(parts))
	for i, p := range parts {
		plans[i] = p.Plan
		for name, id := range p.Hosts {
			d.Hosts[name] = id
		}
		d.Holds = append(d.Holds, p.Holds...)
		if p.KeepWiring != "" {
			d.KeepWiring = p.KeepWiring
		}
	}
	if oneJob {
		d.Plan = all(plans)
		return d
	}
	d.Plan = plan.SideBySide(plans)
	d.Parts = slices.DeleteFunc(parts, func(p Part) bool { return p.Runnable && len(p.Steps) == 0 })
	d.Jobs = len(d.Parts)
	return d
}
