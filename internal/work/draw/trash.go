package draw

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

func init() {
	add(Operation{
		Name: "restore", Title: "Restore", To: "on", Becomes: "out of the trash", Command: "unvora trash restore NAME",
		New: func() Request { return &Restore{} },
	})
}

// Restore asks for what lies in a trash to be given back.
type Restore struct {
	Asked
	Trash string `json:"trash"` // id, name or HOST/NAME
}

// Trashed is a machine folder, or a file, in the trash of a pool.
type Trashed struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Host    string    `json:"host"` // one that sees the pool
	Pool    string    `json:"pool"`
	Was     string    `json:"was"`   // path that it had, as on that host
	Bytes   int64     `json:"bytes"` // that it takes, with its disks that lay elsewhere
	TakenAt time.Time `json:"takenAt"`
	Until   time.Time `json:"until"` // it is kept
	Job     string    `json:"job"`   // that put it there

	copy  string
	pool  string // id
	host  *inventory.Host
	parts []plan.GivenBack
}

// Trash is what lies in the trash of hosts.
type Trash struct {
	Items  []Trashed `json:"items"`
	Silent []Silent  `json:"silent"` // the first of them
	Others int       `json:"others"` // that are silent too
}

// mostSilent is how many hosts that did not tell are named.
const mostSilent = 50

// Silent is a host that did not tell what lies in its trash, and why.
type Silent struct {
	Host string `json:"host"`
	Why  string `json:"why"`
}

// mostAsked is how many hosts are asked at once.
const mostAsked = 32

// Trash asks the hosts of ours what lies in their trash: one that is named, or all. Of all, those that don't tell are
// named, with the reason.
func (g *Gatherer) Trash(ctx context.Context, host string) (*Trash, error) {
	t := &Trash{Items: []Trashed{}, Silent: []Silent{}}
	if host != "" {
		h, err := g.inv.Host(ctx, host)
		if err != nil {
			return nil, err
		}
		if h.ManagerID != nil {
			return nil, inventory.Wrong("%s is of the manager %s, which has no trash that Unvora looks after.", h.Name,
				h.Manager)
		}
		list, err := g.hosts.Agent(h).Trash(ctx)
		if err != nil {
			return nil, reach.Explain(h, err)
		}
		t.Items = append(t.Items, trashOf(h, list)...)
		return t.inOrder(), nil
	}
	var mu sync.Mutex
	var all errgroup.Group
	all.SetLimit(mostAsked)
	err := g.inv.AllHosts(ctx, func(h inventory.Host) error {
		if says := h.LongSilent(); says != "" {
			mu.Lock()
			defer mu.Unlock()
			t.Silent = append(t.Silent, Silent{h.Name, says})
			return nil
		}
		all.Go(func() error {
			list, err := g.hosts.Agent(&h).Trash(ctx)
			mu.Lock()
			defer mu.Unlock()
			t.Items = append(t.Items, trashOf(&h, list)...)
			if err != nil {
				t.Silent = append(t.Silent, Silent{h.Name, reach.Explain(&h, err).Error()})
			}
			return nil
		})
		return nil
	})
	err = errors.Join(err, all.Wait(), ctx.Err())
	return t.inOrder(), err
}

// inOrder brings the latest first. What lies on a share is told by every host that sees it, and counts once: as the one
// tells it that sees most of its disks.
func (t *Trash) inOrder() *Trash {
	slices.SortFunc(t.Silent, func(a, b Silent) int { return strings.Compare(a.Host, b.Host) })
	slices.SortFunc(t.Items, func(a, b Trashed) int {
		return cmp.Or(b.TakenAt.Compare(a.TakenAt), strings.Compare(a.ID, b.ID),
			cmp.Compare(len(b.parts), len(a.parts)), strings.Compare(a.Host, b.Host))
	})
	t.Others = max(0, len(t.Silent)-mostSilent)
	t.Silent = t.Silent[:min(len(t.Silent), mostSilent)]
	t.Items = slices.CompactFunc(t.Items, func(a, b Trashed) bool { return a.ID == b.ID })
	return t
}

// trashOf puts disks to the machine folders that they are of.
func trashOf(h *inventory.Host, list []hostlink.Trashed) (items []Trashed) {
	type folder struct{ job, name string }
	of := map[folder][]hostlink.Trashed{}
	for _, x := range list {
		if x.Of != "" {
			of[folder{x.Job, x.Of}] = append(of[folder{x.Job, x.Of}], x)
		}
	}
	for _, x := range list {
		if x.Of != "" {
			continue
		}
		sum := sha256.Sum256([]byte(x.PoolID + "/" + x.Job + "/" + x.Name))
		item := Trashed{ID: hex.EncodeToString(sum[:4]), Name: x.Name, Host: h.Name, Pool: x.Pool, Was: x.Was,
			Bytes: x.Bytes, TakenAt: x.TakenAt, Until: x.Until, Job: x.Job, copy: x.Copy, pool: x.PoolID, host: h,
			parts: []plan.GivenBack{{From: x.Path, To: x.Was}}}
		for _, d := range of[folder{x.Job, x.Name}] {
			item.Bytes += d.Bytes
			item.parts = append(item.parts, plan.GivenBack{From: d.Path, To: d.Was, Of: x.Name})
		}
		items = append(items, item)
	}
	return items
}

// find finds what is meant: an id, a name, or HOST/NAME. Of several of a name none is taken.
func (t *Trash) find(ref string) (*Trashed, error) {
	var found []Trashed
	for _, x := range t.Items {
		if strings.EqualFold(ref, x.ID) {
			return &x, nil
		}
		if strings.EqualFold(ref, x.Name) || strings.EqualFold(ref, x.Host+"/"+x.Name) {
			found = append(found, x)
		}
	}
	if len(found) == 1 {
		return &found[0], nil
	}
	e := &inventory.Error{Code: inventory.CodeUnknown, Message: "Nothing in the trash is called " + ref +
		". What is there: unvora trash list."}
	for _, h := range t.Silent {
		e.Message += fmt.Sprintf(" What %s has is not known: %s", h.Host, h.Why)
	}
	if len(found) > 1 {
		e = &inventory.Error{Code: inventory.CodeAmbiguous}
		for _, x := range found {
			e.Likely = append(e.Likely, x.ID)
		}
		e.Message = fmt.Sprintf("The trash has several that are called %s: say which by its id, the latest first: %s.",
			ref, strings.Join(e.Likely, ", "))
	}
	return nil, e
}

func (r *Restore) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	if r.Trash == "" {
		return nil, inventory.Wrong("Name what is to come out of the trash: unvora trash list.")
	}
	host, _, named := strings.Cut(r.Trash, "/")
	if !named {
		host = ""
	}
	all, err := g.Trash(ctx, host)
	if err != nil {
		return nil, err
	}
	x, err := all.find(r.Trash)
	if err != nil {
		return nil, err
	}
	facts := plan.RestoreFacts{Item: plan.InTrash{Name: x.Name, Pool: x.pool, Parts: x.parts}}
	if facts.Host, err = g.HostFacts(ctx, x.host); err != nil {
		return nil, err
	}
	pool, err := uuid.Parse(x.pool)
	if err != nil {
		return nil, fmt.Errorf("pool of %s in the trash of %s: %w", x.Name, x.Host, err)
	}
	for _, p := range facts.Host.Pools {
		if p.ID != x.pool || path.Clean(p.Path) != path.Dir(x.Was) {
			continue
		}
		facts.Taken, err = g.names(ctx, uuid.Nil, pool, uuid.Nil, r.Answers, path.Base(x.Was))
		if err != nil {
			return nil, err
		}
	}
	if facts.Now, err = g.now(ctx, x); err != nil {
		return nil, err
	}
	p, err := plan.Restore(facts, r.Answers, r.TakeRecommended)
	if err != nil {
		return nil, refused(err)
	}
	d := on(p, x.host, "trash:"+x.ID)
	d.holdPlaces()
	return d, nil
}

// now is where the copy is that a machine folder in the trash was; nil when it is nowhere. Its passport tells which
// that is, or the job that moved it.
func (g *Gatherer) now(ctx context.Context, x *Trashed) (*lineage.Known, error) {
	id := x.copy
	if id == "" {
		j, err := g.inv.Job(ctx, x.Job)
		var none *inventory.Error
		if errors.As(err, &none) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		for _, s := range j.Steps {
			do, err := inventory.DoOf[plan.Record](&s)
			if err == nil && s.Kind == plan.KindRecord && do.Name == x.Name {
				id = do.Copy
			}
		}
	}
	c, err := g.inv.CopyByID(ctx, id)
	if err != nil || c == nil || c.GoneAt != nil {
		return nil, err
	}
	k := c.Known()
	return &k, nil
}
