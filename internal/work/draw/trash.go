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
		Name: "restore", Title: "Restore", Becomes: "out of the trash", Command: "unvora trash restore NAME",
		New: func() Request { return &Restore{} },
	})
}

// Restore asks for what lies in a trash to be given back.
type Restore struct {
	Asked
	Trash string `json:"trash"` // id, name or HOST/NAME
}

// Trashed is a machine folder, or a file, in the trash of a host.
type Trashed struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Host    string    `json:"host"`
	Pool    string    `json:"pool"`
	Was     string    `json:"was"`   // path that it had
	Bytes   int64     `json:"bytes"` // that it takes, with its disks that lay elsewhere
	TakenAt time.Time `json:"takenAt"`
	Until   time.Time `json:"until"` // it is kept
	Job     string    `json:"job"`   // that put it there

	copy  string
	host  *inventory.Host
	parts []plan.GivenBack
}

// Trash is what lies in the trash of hosts.
type Trash struct {
	Items  []Trashed `json:"items"`
	Silent []string  `json:"silent"` // hosts that did not tell
}

// All hosts are asked so many at once, each for so long.
const (
	mostAsked  = 32
	silentTime = 5 * time.Second
)

// Trash asks the hosts of ours what lies in their trash: one that is named, or all. Hosts that don't answer are named.
func (g *Gatherer) Trash(ctx context.Context, host string) (*Trash, error) {
	t := &Trash{Items: []Trashed{}, Silent: []string{}}
	var mu sync.Mutex
	var all errgroup.Group
	all.SetLimit(mostAsked)
	ask := func(h inventory.Host) error {
		all.Go(func() error {
			bounded, stop := ctx, func() {}
			if host == "" { // one that hangs is not waited for
				bounded, stop = context.WithTimeout(ctx, silentTime)
			}
			defer stop()
			list, err := g.hosts.Agent(&h).Trash(bounded)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				if host != "" || !errors.Is(err, hostlink.ErrUnreachable) && bounded.Err() == nil {
					return reach.Explain(&h, err)
				}
				t.Silent = append(t.Silent, h.Name)
				return nil
			}
			t.Items = append(t.Items, trashOf(&h, list)...)
			return nil
		})
		return nil
	}
	var err error
	if host == "" {
		err = g.inv.AllHosts(ctx, ask)
	} else if h, e := g.inv.Host(ctx, host); e != nil {
		err = e
	} else if h.ManagerID != nil {
		err = inventory.Wrong("%s is of the manager %s, which has no trash that Unvora looks after.", h.Name, h.Manager)
	} else {
		err = ask(*h)
	}
	if err = errors.Join(err, all.Wait()); err != nil {
		return nil, err
	}
	slices.Sort(t.Silent)
	slices.SortFunc(t.Items, func(a, b Trashed) int {
		return cmp.Or(b.TakenAt.Compare(a.TakenAt), strings.Compare(a.Host+a.Name, b.Host+b.Name))
	})
	return t, nil
}

// trashOf puts disks to the machine folders that they are of.
func trashOf(h *inventory.Host, list []hostlink.Trashed) (items []Trashed) {
	of := map[[2]string][]hostlink.Trashed{}
	for _, x := range list {
		if x.Of != "" {
			of[[2]string{x.Job, x.Of}] = append(of[[2]string{x.Job, x.Of}], x)
		}
	}
	for _, x := range list {
		if x.Of != "" {
			continue
		}
		sum := sha256.Sum256([]byte(h.ID.String() + " " + x.Path))
		item := Trashed{ID: hex.EncodeToString(sum[:4]), Name: x.Name, Host: h.Name, Pool: x.Pool, Was: x.Was,
			Bytes: x.Bytes, TakenAt: x.TakenAt, Until: x.Until, Job: x.Job, copy: x.Copy, host: h,
			parts: []plan.GivenBack{{From: x.Path, To: x.Was}}}
		for _, d := range of[[2]string{x.Job, x.Name}] {
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
	if len(t.Silent) > 0 {
		e.Message += " These hosts did not answer: " + strings.Join(t.Silent, ", ") + "."
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
	all, err := g.Trash(ctx, "")
	if err != nil {
		return nil, err
	}
	x, err := all.find(r.Trash)
	if err != nil {
		return nil, err
	}
	facts := plan.RestoreFacts{Item: plan.InTrash{Name: x.Name, Parts: x.parts}}
	if facts.Host, err = g.HostFacts(ctx, x.host); err != nil {
		return nil, err
	}
	pool := uuid.Nil
	for _, p := range facts.Host.Pools {
		if p.Path == path.Dir(x.Was) {
			pool = poolFor(facts.Host, p.Name)
		}
	}
	if pool != uuid.Nil {
		if facts.Taken, err = g.names(ctx, x.host, pool, uuid.Nil, r.Answers, path.Base(x.Was)); err != nil {
			return nil, err
		}
	}
	if facts.Now, err = g.now(ctx, x); err != nil {
		return nil, err
	}
	p, err := plan.Restore(facts, r.Answers, r.TakeRecommended)
	holds := []string{"trash:" + x.parts[0].From}
	if pool != uuid.Nil && p != nil {
		for _, s := range p.Steps {
			holds = append(holds, inventory.FolderKey(pool.String(), path.Base(s.Do.(*plan.GiveBack).Parts[0].To)))
		}
	}
	return on(p, x.host, holds...), refused(err)
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
