package work

import (
	"context"

	"unvora.example/unvora/internal/inventory"
)

// Waiting is an item of attention with the request that its recommended action is.
type Waiting struct {
	inventory.Item
	Request *Request `json:"request"` // to be planned; null when there is none
}

// Attention lists what waits for a decision, worst first.
func (w *Work) Attention(ctx context.Context, cause string, left bool) ([]Waiting, error) {
	items, err := w.inv.Attention(ctx, cause, left)
	if err != nil {
		return nil, err
	}
	var shelf inventory.Shelf // the roomiest
	shelves, err := w.inv.Shelves(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range shelves {
		if s.FreeBytes > shelf.FreeBytes {
			shelf = s
		}
	}
	out := make([]Waiting, len(items))
	for i, item := range items {
		out[i].Item = item
		if out[i].Request, err = w.requestFor(ctx, item, shelf.Name); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (w *Work) requestFor(ctx context.Context, item inventory.Item, shelf string) (*Request, error) {
	act := item.Act
	if act == nil {
		return nil, nil
	}
	req := &Request{Operation: act.Do, Copies: act.Copies}
	switch act.Do {
	case "register":
		req.Copies, req.Folders, req.Host = nil, []string{act.Folder}, act.Host
	case "renew":
		req.Change = &Change{Renew: act.Facets}
	case "export":
		if shelf == "" {
			return nil, nil
		}
		req.Destination = &Destination{Shelf: shelf}
	case "detach":
		req.Change = &Change{Detach: act.Folder}
	case "reparent":
		req.Operation, req.Answers = "put-right", map[string]string{"disk.parent-missing": "found"}
	case "again":
		again := &Request{}
		if err := w.inv.RequestOf(ctx, act.Copies[0], again); err != nil {
			return nil, err
		}
		if again.Operation == "" || again.Source != nil && again.Source.Upload != nil || again.Destination != nil && again.Destination.Shelf == "" {
			return nil, nil // the bytes are on somebody's computer
		}
		return again, nil
	case "delist":
	default:
		return nil, nil
	}
	return req, nil
}
