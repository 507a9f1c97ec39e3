package work

import (
	"context"
	"errors"
	"maps"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Readmit takes the agent of a host that was wiped and installed anew into the
// inventory, as the host that it was. What the host had is kept first.
func (w *Work) Readmit(ctx context.Context, ref, address, code, user string) (*inventory.Host, error) {
	h, err := w.inv.Host(ctx, ref)
	if err != nil {
		return nil, err
	}
	if address == "" {
		address = h.Address
	}
	c, err := hostlink.ParseCode(code)
	if err != nil {
		return nil, wrong("%v", err)
	}
	hello, err := w.authority.Enrol(ctx, address, c, h.ID.String())
	switch {
	case errors.Is(err, hostlink.ErrUnreachable):
		return nil, &Unreachable{Host: h.Name, Address: address, Err: err}
	case err != nil:
		return nil, wrong("The agent at %s refuses: %v.", address, err)
	case hello.Name != h.Name:
		return nil, wrong("The agent at %s is that of %s, not of %s.", address, hello.Name, h.Name)
	case hello.Protocol != hostlink.Protocol:
		return nil, wrong("The agent at %s speaks protocol %d, this service %d: update the older one.", address, hello.Protocol, hostlink.Protocol)
	}
	if _, err := fit.FamilyByName(hello.Family); err != nil {
		return nil, wrong("The agent at %s: %v.", address, err)
	}
	if err := w.inv.KeepHad(ctx, h, address, user); err != nil {
		return nil, err
	}
	w.dialer.Forget(h.ID.String())
	if h, err = w.inv.Host(ctx, h.ID.String()); err != nil {
		return nil, err
	}
	_, err = w.Survey(ctx, h)
	return h, err
}

// drawRebuild plans to give a host back what it had.
func (w *Work) drawRebuild(ctx context.Context, req *Request) (*drawn, error) {
	h, err := w.inv.Host(ctx, req.Host)
	if err != nil {
		return nil, err
	}
	had, err := w.inv.Had(ctx, h.ID)
	if err != nil {
		return nil, err
	}
	if had == nil {
		return nil, wrong("Nothing is to be brought back to %s. Once it was wiped and its agent installed anew: unvora host rebuild %s --code CODE", h.Name, h.Name)
	}
	facts := plan.RebuildFacts{Had: *had, Lost: map[string]string{}}
	if facts.Host, err = w.hostFacts(ctx, h); err != nil {
		return nil, err
	}
	d := &drawn{hosts: map[string]uuid.UUID{h.Name: h.ID}}
	folders := map[string]bool{}
	for _, m := range had.Machines {
		_, err := w.agent(h).Folder(ctx, m.Folder)
		var fault *hostlink.Fault
		if err == nil {
			folders[m.Copy] = true
			continue
		}
		if !errors.As(err, &fault) {
			return nil, w.unreachable(h, err)
		}
		facts.Lost[m.Copy] = ""
		if c, err := w.inv.CopyByID(ctx, m.Copy); err == nil && c != nil {
			if other, err := w.inv.Elsewhere(ctx, c); err == nil && other != nil {
				facts.Lost[m.Copy] = other.Ref()
			}
		}
	}
	d.Plan, err = plan.Rebuild(facts, req.Answers, req.TakeRecommended, func(host plan.HostFacts, m plan.HadMachine) (*plan.Plan, error) {
		one := &Request{Operation: "register", Host: h.Name, Files: plan.Stay, Identity: "keep", Facets: map[string]string{"uuid": "keep", "mac": "keep"}, Answers: req.Answers, TakeRecommended: req.TakeRecommended, caller: req.caller, operator: req.operator, administrator: req.administrator}
		f, err := w.drawFolder(ctx, one, m.Folder, h, host, true)
		if err != nil {
			return nil, err
		}
		for _, x := range f.Findings {
			if x.Code == "copy.already-here" {
				return nil, nil
			}
		}
		maps.Copy(d.hosts, f.hosts)
		d.holds = append(d.holds, f.holds...)
		return f.Plan, nil
	})
	if err != nil {
		return nil, wrong("%v", err)
	}
	return d, nil
}
