package work

import (
	"context"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
)

// Waiting is an item of attention with the request that its recommended action is.
type Waiting struct {
	inventory.AttentionItem
	Request draw.Request `json:"request,omitempty"` // to be planned; none when the action is none that is planned
}

// Attention lists what waits for a decision, worst first. next leads to what comes behind; "" at the end.
func (w *Work) Attention(ctx context.Context, p inventory.AttentionPage) (list []Waiting, next string, err error) {
	items, next, err := w.inv.Attention(ctx, p)
	if err != nil {
		return nil, "", err
	}
	shelf, err := w.inv.RoomiestShelf(ctx)
	if err != nil {
		return nil, "", err
	}
	out := make([]Waiting, len(items))
	for i, item := range items {
		out[i].AttentionItem = item
		if item.Act == nil {
			continue
		}
		make, planned := remedies[item.Act.Do]
		if !planned {
			continue
		}
		if out[i].Request, err = make(ctx, w, item.Act, shelf); err != nil {
			return nil, "", err
		}
		if out[i].Request != nil {
			out[i].Request = draw.Named(out[i].Request)
		}
	}
	return out, next, nil
}

// remedies makes the request that a recommended action is. Actions that are no operation (to recognise a copy, to
// resume a job) are calls of their own, and have no row.
var remedies = map[inventory.Action]func(ctx context.Context, w *Work, act *inventory.Act, shelf string) (draw.Request,
	error){
	inventory.ActRegister: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return &draw.Register{Folders: []string{act.Folder},
			Bringing: draw.Bringing{Making: draw.Making{Host: act.Host}}}, nil
	},
	inventory.ActDelist: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return &draw.Delist{Many: draw.These(act.Copies...)}, nil
	},
	inventory.ActRenew: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return &draw.Renew{Many: draw.These(act.Copies...), Renew: act.Facets}, nil
	},
	inventory.ActDetach: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return &draw.Detach{Copies: draw.Copies{Copies: act.Copies}, Disk: act.Folder}, nil
	},
	inventory.ActDropOld: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return &draw.DropSnapshot{Many: draw.These(act.Copies...), Snapshot: act.Folder}, nil
	},
	inventory.ActTold: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return &draw.Change{Many: draw.These(act.Copies...), FirstStartDone: true}, nil
	},
	inventory.ActReparent: func(_ context.Context, _ *Work, act *inventory.Act, _ string) (draw.Request, error) {
		found := draw.Asked{Answers: plan.Answers{"disk.parent-missing": "found"}}
		return &draw.PutRight{Asked: found, Copies: draw.Copies{Copies: act.Copies}}, nil
	},
	inventory.ActExport: func(_ context.Context, _ *Work, act *inventory.Act, shelf string) (draw.Request, error) {
		if shelf == "" {
			return nil, nil
		}
		return &draw.Export{Copies: draw.Copies{Copies: act.Copies}, Destination: &draw.Destination{Shelf: shelf}}, nil
	},
	inventory.ActAgain: func(ctx context.Context, w *Work, act *inventory.Act, _ string) (draw.Request, error) {
		return w.Again(ctx, act.Copies[0])
	},
}

// Again is the request that a job was started with; nil where that job can't be started from here.
func (w *Work) Again(ctx context.Context, job string) (draw.Request, error) {
	raw, err := w.inv.RequestOf(ctx, job)
	if err != nil {
		return nil, err
	}
	req, err := draw.Parse(raw)
	if err != nil {
		return nil, nil // of an older version, or asked for by another Unvora
	}
	draw.Now(req)
	switch r := req.(type) {
	case *draw.Import:
		if r.Source != nil && r.Source.Upload != nil {
			return nil, nil // the bytes are on somebody's computer
		}
	case *draw.Export:
		if r.Destination != nil && r.Destination.Shelf == "" && r.Destination.Pool == "" {
			return nil, nil
		}
	}
	return req, nil
}
