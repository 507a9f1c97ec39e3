package peer

import (
	"context"
	"encoding/json"

	"unvora.example/unvora/internal/inventory"
)

// Grants say what another Unvora may do here.
type Grants struct {
	See  string `json:"see"` // a selector of copies, or all; "" for none
	Take bool   `json:"take"`
}

// all is what See says for every copy.
const seeAll = "all"

// selector of the copies that are granted; ok is false for none.
func (g Grants) selector() (filter string, ok bool) {
	if g.See == seeAll {
		return "", true
	}
	return g.See, g.See != ""
}

// grantable checks that the selector of grants can be understood.
func (p *Peers) grantable(ctx context.Context, g Grants) (json.RawMessage, error) {
	if filter, ok := g.selector(); ok {
		if _, err := p.inv.Copies(ctx, inventory.Page{Limit: 1, Filter: filter}); err != nil {
			return nil, err
		}
	}
	return json.Marshal(g)
}

// Grant says what another Unvora may see and take.
func (p *Peers) Grant(ctx context.Context, ref string, g Grants, user string) (*inventory.Manager, error) {
	m, err := p.inv.Manager(ctx, ref)
	if err != nil {
		return nil, err
	}
	if m.Kind != inventory.ManagerUnvora {
		return nil, inventory.Wrong("%s is no Unvora: it asks for nothing here.", m.Name)
	}
	grants, err := p.grantable(ctx, g)
	if err != nil {
		return nil, err
	}
	if err := p.inv.GrantManager(ctx, m, grants, user); err != nil {
		return nil, err
	}
	return p.inv.Manager(ctx, m.ID.String())
}
