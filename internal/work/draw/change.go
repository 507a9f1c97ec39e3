package draw

import (
	"context"
	"path"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "change", Title: "Change", Becomes: "changed", Command: "unvora change COPY…",
		New: func() Request { return &Change{} },
	})
}

// Change asks for something to be different about copies. What is left out stays.
type Change struct {
	Asked
	Many
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
	copies, err := r.all(ctx, g, nil, lineage.Registered)
	if err != nil {
		return nil, err
	}
	if len(copies) > 1 && r.Name != "" {
		return nil, inventory.Wrong("A name is given to one machine at a time.")
	}
	return r.each(r, copies, plan.Together, func(i int, a *Asked) (*Drawn, error) {
		of := ""
		if len(copies) > 1 {
			of = called(copies[i], copies)
		}
		return r.change(ctx, g, copies[i], a, of)
	})
}

// change plans it for one of the copies; of names that in findings, where there are others.
func (r *Change) change(ctx context.Context, g *Gatherer, c *subject, a *Asked, of string) (*Drawn, error) {
	facts, err := g.changing(ctx, c, a, typed(r.Addresses), r.Name)
	if err != nil {
		return nil, err
	}
	facts.Of = of
	if r.StandAlone {
		folder, err := g.folder(ctx, c)
		if err != nil {
			return nil, err
		}
		facts.Folder = *folder
	}
	media, add := map[string]string{}, []string{}
	for drive, file := range r.Media {
		if media[drive], err = g.medium(ctx, c, file); err != nil {
			return nil, err
		}
	}
	for _, device := range r.Add {
		kind, file, holds := strings.Cut(device, "=")
		if holds && (kind == machine.DeviceCD || kind == machine.DeviceFloppy) {
			if file, err = g.medium(ctx, c, file); err != nil {
				return nil, err
			}
			device = kind + "=" + file
		}
		add = append(add, device)
	}
	return c.changed(*facts, plan.ChangeRequest{Operation: r.Operation, Name: r.Name, Folder: r.Folder, CPUs: r.CPUs,
		MemoryBytes: r.MemoryBytes, Guest: r.Guest, Boot: r.Boot, Add: add, Drop: r.Drop, AddNICs: r.AddNICs,
		DropNICs: r.DropNICs, Wire: r.Wire, Unplug: r.Unplug, Addresses: r.Addresses, Media: media,
		StandAlone: r.StandAlone, FirstStartDone: r.FirstStartDone,
		StartOrder: r.StartOrder, StartPause: r.StartPause,
		Answers: a.Answers, TakeRecommended: a.TakeRecommended})
}

// medium finds a file that is to be put into a drive of a copy: POOL/PATH, a path of the host, or a name in the
// machine's folder. It is returned relative to that; "" for none.
func (g *Gatherer) medium(ctx context.Context, c *subject, file string) (string, error) {
	if file == "" {
		return "", nil
	}
	at := &Spot{Host: c.at, Path: path.Join(c.Path, file)}
	if strings.ContainsAny(file, "/:") {
		var err error
		if at, err = g.Find(ctx, file, c.at, c.host); err != nil {
			return "", err
		}
	}
	if at.Host.ID != c.at.ID {
		return "", inventory.Wrong("%s lies at %s: only what %s sees can be put into a drive there.", file,
			at.Host.Name, c.at.Name)
	}
	found, err := g.Look(ctx, at, file)
	if err != nil {
		return "", err
	}
	if found.Path == at.Path {
		return "", inventory.Wrong("%s is a folder: name the image in it.", file)
	}
	return filepath.Rel(c.Path, at.Path)
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
	facts.Names, err = g.names(ctx, c.at.ID, pool, c.ID, a.Answers, name) // its own may be had again
	return facts, err
}

// changed is the plan of a change.
func (s *subject) changed(facts plan.ChangeFacts, req plan.ChangeRequest) (*Drawn, error) {
	p, err := plan.Change(facts, req)
	return on(p, s.at, s.hold), refused(err)
}
