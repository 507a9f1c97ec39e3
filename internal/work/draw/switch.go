package draw

import (
	"context"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "switch-add", Title: "Make the switch", Becomes: "with the switch",
		Command: "unvora switch add HOST SWITCH",
		New:     func() Request { return &SwitchAdd{} },
	})
	add(Operation{
		Name: "switch-drop", Title: "Take away the switch", Becomes: "without this switch",
		Command: "unvora switch drop HOST SWITCH",
		New:     func() Request { return &SwitchDrop{} },
	})
}

// SwitchAdd asks for a virtual switch of a host to be made.
type SwitchAdd struct {
	Asked
	Host   string         `json:"host"`
	Switch *wiring.Switch `json:"switch"`
}

// SwitchDrop asks for a virtual switch of a host to be taken away.
type SwitchDrop struct {
	Asked
	Host string `json:"host"`
	Name string `json:"name"`
}

func (r *SwitchAdd) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	if r.Switch == nil {
		return nil, inventory.Wrong("Name the host and the switch.")
	}
	h, facts, err := g.switches(ctx, r.Host, r.Switch.Name)
	if err != nil {
		return nil, err
	}
	p, err := plan.MakeASwitch(*facts, *r.Switch, r.Answers, r.TakeRecommended)
	return on(p, h, switchHold(h)), refused(err)
}

func (r *SwitchDrop) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	h, facts, err := g.switches(ctx, r.Host, r.Name)
	if err != nil {
		return nil, err
	}
	users, err := g.inv.OnSwitch(ctx, h.ID, r.Name)
	if err != nil {
		return nil, err
	}
	for _, c := range users {
		facts.Users = append(facts.Users, c.Name)
	}
	p, err := plan.DropASwitch(*facts, r.Name, r.Answers, r.TakeRecommended)
	return on(p, h, switchHold(h)), refused(err)
}

func (g *Gatherer) switches(ctx context.Context, host, name string) (*inventory.Host, *plan.SwitchFacts, error) {
	if host == "" || name == "" {
		return nil, nil, inventory.Wrong("Name the host and the switch.")
	}
	h, err := g.inv.Host(ctx, host)
	if err != nil {
		return nil, nil, err
	}
	facts, err := g.HostFacts(ctx, h)
	return h, &plan.SwitchFacts{Host: facts}, err
}

// switchHold keeps other jobs from the switches of a host.
func switchHold(h *inventory.Host) string { return "switches:" + h.ID.String() }
