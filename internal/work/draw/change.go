package draw

import (
	"context"
	"path/filepath"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "change", Title: "Change", Becomes: "changed", Command: "unvora change COPY",
		New: func() Request { return &Change{} },
	})
}

// Change asks for something to be different about a copy. What is left out stays.
type Change struct {
	Asked
	Copies
	Name        string            `json:"name,omitempty"`
	Folder      bool              `json:"folder,omitempty"` // the machine folder gets the new name too
	CPUs        int               `json:"cpus,omitempty"`
	MemoryBytes int64             `json:"memoryBytes,omitempty"`
	Guest       string            `json:"guest,omitempty"`
	Boot        []string          `json:"boot,omitempty"` // disk ids, NICs and devices, first to last
	Add         []string          `json:"add,omitempty"`  // devices: KIND or KIND=FILE
	Drop        []string          `json:"drop,omitempty"`
	AddNICs     []string          `json:"addNics,omitempty"` // switches; "" for one that is unplugged
	DropNICs    []string          `json:"dropNics,omitempty"`
	Wire        map[string]string `json:"wire,omitempty"` // NIC → switch
	Unplug      []string          `json:"unplug,omitempty"`
	Addresses   map[string]string `json:"addresses,omitempty"` // NIC → give, or an address
	// drive → POOL/PATH or a path of the host; "" takes out what is in it
	Media      map[string]string `json:"media,omitempty"`
	StandAlone bool              `json:"standAlone,omitempty"` // its disks no longer share layers with others
	// its guest has read what it was to be told at its first start
	FirstStartDone bool `json:"firstStartDone,omitempty"`
	StartOrder     *int `json:"startOrder,omitempty"` // its turn when its host starts; 0 for none
	StartPause     int  `json:"startPause,omitempty"` // seconds until the next one's turn
}

func (r *Change) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	c, err := r.one(ctx, g, lineage.Registered)
	if err != nil {
		return nil, err
	}
	facts, err := g.changing(ctx, c, &r.Asked, typed(r.Addresses), r.Name)
	if err != nil {
		return nil, err
	}
	if r.StandAlone {
		folder, err := g.folder(ctx, c)
		if err != nil {
			return nil, err
		}
		facts.Folder = *folder
	}
	media, err := r.media(ctx, g, c)
	if err != nil {
		return nil, err
	}
	return c.changed(*facts, plan.ChangeRequest{Operation: r.Operation, Name: r.Name, Folder: r.Folder, CPUs: r.CPUs,
		MemoryBytes: r.MemoryBytes, Guest: r.Guest, Boot: r.Boot, Add: r.Add, Drop: r.Drop, AddNICs: r.AddNICs,
		DropNICs: r.DropNICs, Wire: r.Wire, Unplug: r.Unplug, Addresses: r.Addresses, Media: media,
		StandAlone: r.StandAlone, FirstStartDone: r.FirstStartDone,
		StartOrder: r.StartOrder, StartPause: r.StartPause,
		Answers: r.Answers, TakeRecommended: r.TakeRecommended})
}

// media finds the files that are to be put into drives.
func (r *Change) media(ctx context.Context, g *Gatherer, c *subject) (map[string]string, error) {
	found := map[string]string{}
	for drive, file := range r.Media {
		if found[drive] = ""; file == "" {
			continue
		}
		at, err := g.Find(ctx, file, c.at, c.host)
		if err != nil {
			return nil, err
		}
		if at.Host.ID != c.at.ID {
			return nil, inventory.Wrong("%s lies at %s: only what %s sees can be put into a drive there.", file,
				at.Host.Name, c.at.Name)
		}
		if found[drive], err = filepath.Rel(c.Path, at.Path); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// changing gathers what a change of a copy is worked out from. name is the new one; "" for none.
func (g *Gatherer) changing(ctx context.Context, c *subject, a *Asked, wanted []string, name string) (*plan.ChangeFacts,
	error) {
	facts := &plan.ChangeFacts{Copy: c.Known(), Machine: c.Machine, Busy: c.busy}
	facts.Host, facts.Wanted = c.host, wanted
	self := c.ID.String()
	if err := g.arrive(ctx, &facts.Arrival, c.Machine, self); err != nil {
		return nil, err
	}
	facts.Lineage, facts.Parent = c.LineageID.String(), ""
	if c.Parent != nil {
		facts.Parent = c.Parent.String()
	}
	pool := uuid.Nil
	if c.PoolID != nil {
		pool = *c.PoolID
	}
	var err error
	facts.Names, err = g.names(ctx, c.at.ID, pool, uuid.Nil, a.Answers, name)
	return facts, err
}

// changed is the plan of a change.
func (s *subject) changed(facts plan.ChangeFacts, req plan.ChangeRequest) (*Drawn, error) {
	p, err := plan.Change(facts, req)
	return on(p, s.at, s.hold), refused(err)
}
