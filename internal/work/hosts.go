package work

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

// AddHost enrols an agent and looks at it for the first time.
func (w *Work) AddHost(ctx context.Context, address, code, user string) (*inventory.Host, error) {
	id := inventory.NewID()
	hello, err := w.enrol(ctx, "this host", address, code, id)
	if err != nil {
		return nil, err
	}
	if err := w.inv.AddHost(ctx, id, address, hello, user); err != nil {
		return nil, err
	}
	h, err := w.inv.Host(ctx, id.String())
	if err != nil {
		return nil, err
	}
	_, err = w.Survey(ctx, h)
	return h, err
}

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
	hello, err := w.enrol(ctx, h.Name, address, code, h.ID)
	if err != nil {
		return nil, err
	}
	if hello.Name != h.Name {
		return nil, inventory.Wrong("The agent at %s is that of %s, not of %s.", address, hello.Name, h.Name)
	}
	if err := w.inv.KeepHad(ctx, h, address, user); err != nil {
		return nil, err
	}
	w.hosts.Forget(h)
	if h, err = w.inv.Host(ctx, h.ID.String()); err != nil {
		return nil, err
	}
	_, err = w.Survey(ctx, h)
	return h, err
}

// enrol gives an agent a certificate as that of a host, which name stands for in messages.
func (w *Work) enrol(ctx context.Context, name, address, code string, id uuid.UUID) (*hostlink.Hello, error) {
	c, err := hostlink.ParseCode(code)
	if err != nil {
		return nil, inventory.Wrong("%v", err)
	}
	hello, err := w.hosts.Authority.Enrol(ctx, address, c, id.String())
	switch {
	case errors.Is(err, hostlink.ErrUnreachable):
		return nil, &reach.Unreachable{Host: name, Address: address, Err: err}
	case err != nil:
		return nil, inventory.Wrong("The agent at %s refuses: %v.", address, err)
	case hello.Protocol != hostlink.Protocol:
		return nil, inventory.Wrong("The agent at %s speaks protocol %d, this service %d: update the older one.",
			address, hello.Protocol, hostlink.Protocol)
	}
	if _, err := fit.FamilyByName(hello.Family); err != nil {
		return nil, inventory.Wrong("The agent at %s: %v.", address, err)
	}
	return hello, nil
}

// Survey asks one host what it holds.
func (w *Work) Survey(ctx context.Context, h *inventory.Host) ([]inventory.Change, error) {
	changed, changes, err := w.survey(ctx, h)
	if err == nil && !changed {
		err = w.inv.StillThere(ctx, []uuid.UUID{h.ID})
	}
	return changes, err
}

// survey leaves it to the caller to note that an unchanged host was seen.
func (w *Work) survey(ctx context.Context, h *inventory.Host) (bool, []inventory.Change, error) {
	if h.ManagerID == nil {
		return w.hosts.Survey(ctx, h)
	}
	m, err := w.inv.Manager(ctx, h.ManagerID.String())
	if err != nil {
		return false, nil, err
	}
	changes, err := w.places.Survey(ctx, m)
	return true, changes, err
}

// CheckHost tells whether a host can be used, each thing told apart.
func (w *Work) CheckHost(ctx context.Context, ref string) ([]reach.Check, error) {
	h, err := w.inv.Host(ctx, ref)
	if err != nil {
		return nil, err
	}
	return w.hosts.Check(ctx, h)
}
