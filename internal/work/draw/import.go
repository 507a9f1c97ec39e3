package draw

import (
	"context"
	"errors"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

func init() {
	add(Operation{
		Name: "import", Title: "Import", To: "to",
		Becomes: "a registered copy", Command: "unvora import SOURCE --host HOST",
		New: func() Request { return &Import{} },
	})
}

// Import asks for registered copies from a package, or from bare disks.
type Import struct {
	Asked
	Bringing
	FirstStart
	Source     *Source           `json:"source"`
	Properties map[string]string `json:"properties,omitempty"` // of a package's products → value
}

// Source of an import: exactly one is set.
type Source struct {
	Upload *ovf.Skeleton `json:"upload,omitempty"` // of a package on the caller's computer
	// SHELF/FILE or id, POOL/PATH or a path of the host, or an http(s) address
	Package string   `json:"package,omitempty"`
	Disks   []string `json:"disks,omitempty"` // bare images: POOL/PATH or paths of the host
}

func (r *Import) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	if r.Source == nil || r.Host == "" {
		return nil, inventory.Wrong("An import needs a source and a host.")
	}
	h, host, err := r.to(ctx, g)
	if err != nil {
		return nil, err
	}
	if len(r.Source.Disks) > 0 {
		return r.disks(ctx, g, h, host)
	}
	facts := plan.ImportFacts{Arrival: r.arrival(&r.Asked, host)}
	d := r.made(nil, h)
	skeleton := r.Source.Upload
	if skeleton != nil {
		facts.Source, facts.Where = plan.PackageSource{Kind: "upload"}, skeleton.Name
	} else {
		var other Request
		if skeleton, other, err = r.find(ctx, g, h, &facts, d); err != nil {
			return nil, err
		}
		if other != nil {
			return other.draw(ctx, g)
		}
	}
	if facts.Problem == nil {
		facts.Package, err = skeleton.Open()
		if err != nil && !errors.As(err, &facts.Problem) {
			return nil, err
		}
	}
	bring, err := r.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	bring.Properties = r.Properties
	machines := 1
	if facts.Package != nil {
		machines = len(facts.Package.Envelope.Machines)
	}
	if err := r.FirstStart.into(&bring, &facts.Arrival, machines); err != nil {
		return nil, err
	}
	all, err := r.each(ctx, g, h, facts)
	if err != nil {
		return nil, err
	}
	if d.Plan, err = plan.ImportAll(all, bring); err != nil {
		return nil, refused(err)
	}
	d.holdPlaces()
	return d, nil
}

// each gathers what is to be known for each machine of a package.
func (r *Import) each(ctx context.Context, g *Gatherer, h *inventory.Host, facts plan.ImportFacts) ([]plan.ImportFacts,
	error) {
	if facts.Package == nil {
		return []plan.ImportFacts{facts}, nil
	}
	machines := facts.Package.Envelope.Machines
	all := make([]plan.ImportFacts, len(machines))
	parents, err := g.parents(ctx, facts.Parent)
	if err != nil {
		return nil, err
	}
	for n := range machines {
		one := facts
		if one.Machine = n; n < len(parents) {
			one.Parent = parents[n]
		}
		if err := g.arrive(ctx, &one.Arrival, &machines[n], ""); err != nil {
			return nil, err
		}
		wishes := []string{r.Name, machines[n].Name, one.Called}
		for k := range machines {
			wishes = append(wishes, plan.Pattern(r.Name, machines[n].Name, k+1))
		}
		one.Names, err = g.names(ctx, h.ID, poolFor(facts.Host, r.Pool), uuid.Nil, r.Answers, wishes...)
		if err != nil {
			return nil, err
		}
		all[n] = one
	}
	return all, nil
}

// parents are the copies that the machines of a package are, which is known by that of its first; nil for none.
func (g *Gatherer) parents(ctx context.Context, first string) (ids []string, err error) {
	if first == "" {
		return nil, nil
	}
	c, err := g.inv.CopyByID(ctx, first)
	if err != nil || c == nil {
		return nil, err
	}
	list, err := g.inv.Packed(ctx, c)
	for _, one := range list {
		ids = append(ids, one.ID.String())
	}
	return ids, err
}

// find finds a package that is named: one of the inventory, on the web, or at a path of a host. Where that is a machine
// folder or a bare disk, the request that is the right one for it is returned instead.
func (r *Import) find(ctx context.Context, g *Gatherer, h *inventory.Host, facts *plan.ImportFacts,
	d *Drawn) (*ovf.Skeleton, Request, error) {
	ref := r.Source.Package
	facts.Where = ref
	at, file := h, ref
	if strings.HasPrefix(ref, "http://") || strings.HasPrefix(ref, "https://") {
		if !r.by.Operator {
			return nil, nil, &Denied{"operator", "have an agent fetch from the web"}
		}
		facts.Source = plan.PackageSource{Kind: "web", Host: h.ID.String(), Path: ref}
	} else {
		c, err := g.inv.Copy(ctx, ref, lineage.Package)
		var unknown *inventory.Error
		switch {
		case err == nil && c.HostID == nil:
			return nil, nil, inventory.Wrong("The package %s lies on somebody's computer (%s): bring the file itself.",
				c.Name, c.Path)
		case err == nil:
			if at, err = g.inv.Host(ctx, c.HostID.String()); err != nil {
				return nil, nil, err
			}
			facts.Where, facts.Parent, file = c.Ref(), c.ID.String(), c.Path
			d.Holds = append(d.Holds, inventory.CopyKey(c.ID.String()))
		case errors.As(err, &unknown) && unknown.Code == inventory.CodeUnknown && strings.Contains(ref, "/"):
			spot, e := g.Find(ctx, ref, h, facts.Host)
			if e != nil {
				return nil, nil, err // what is said of packages tells more
			}
			at, file = spot.Host, spot.Path
			if other := r.instead(ctx, g, spot); other != nil {
				return nil, other, nil
			}
		default:
			return nil, nil, err
		}
		facts.Source = plan.PackageSource{Kind: "file", Host: at.ID.String(), Path: file}
		d.Hosts[at.Name] = at.ID
	}
	skeleton, err := g.hosts.Agent(at).Look(ctx, file)
	var fault *hostlink.Fault
	switch {
	case errors.As(err, &fault):
		facts.Problem = &ovf.Problem{Code: known(fault.Code), Subject: facts.Where, Offset: -1, Message: fault.Message}
	case err != nil:
		return nil, nil, reach.Explain(at, err)
	case at.ID != h.ID && (skeleton.Packed || skeleton.Kind != "ova"):
		return nil, nil, inventory.Wrong("%s lies at %s: from another host only an OVA is read. Put it on a share "+
			"that %s "+
			"sees, or bring the file from your computer.",
			ref, at.Name, h.Name)
	}
	return skeleton, nil, nil
}

// instead is the request for what lies at a spot where it is no package; nil where it may be one.
func (r *Import) instead(ctx context.Context, g *Gatherer, at *Spot) Request {
	folder, err := g.Look(ctx, at, r.Source.Package)
	switch {
	case err != nil:
		return nil
	case folder.Machine != nil:
		return Named(&Register{Asked: r.Asked, Bringing: r.Bringing, Folders: []string{r.Source.Package}})
	case folder.Path != at.Path && folder.Disks[0].Format != "raw" && folder.Disks[0].Problem == "":
		one := *r
		one.Source = &Source{Disks: []string{r.Source.Package}}
		return &one
	}
	return nil
}

// known is a code of the catalogue of findings.
func known(code string) string {
	if s, _ := fit.Describe(code); s == "" {
		return "package.unknown"
	}
	return code
}

// disks plans a machine around bare disks of a host.
func (r *Import) disks(ctx context.Context, g *Gatherer, h *inventory.Host, host plan.HostFacts) (*Drawn, error) {
	if len(r.Properties) > 0 {
		return nil, inventory.Wrong("Properties are those of packages: bare disks have none.")
	}
	facts := plan.RegisterFacts{Arrival: r.arrival(&r.Asked, host), Where: strings.Join(r.Source.Disks, ", ")}
	for n, ref := range r.Source.Disks {
		at, err := g.Find(ctx, ref, h, host)
		if err != nil {
			return nil, err
		}
		f, err := g.Look(ctx, at, ref)
		if err != nil {
			return nil, err
		}
		if f.Path == at.Path || len(f.Disks) != 1 {
			return nil, inventory.Wrong("%s is a folder: name the disk images in it, or register it: unvora register "+
				"%s "+
				"--host %s", ref, ref, h.Name)
		}
		if at.Host.ID != h.ID {
			return nil, inventory.Wrong("%s lies at %s, in no pool that %s sees. Put it on a share, or bring the "+
				"file from "+
				"your computer.",
				ref, at.Host.Name, h.Name)
		}
		if n == 0 {
			facts.Folder = *f
		} else {
			facts.Folder.Disks = append(facts.Folder.Disks, f.Disks[0])
		}
		if facts.Guest == nil || facts.Guest.System == "" {
			facts.Guest = f.Guest
		}
	}
	bring, err := r.bring(&r.Asked)
	if err != nil {
		return nil, err
	}
	if err := r.FirstStart.into(&bring, &facts.Arrival, 1); err != nil {
		return nil, err
	}
	if err := g.surroundings(ctx, &facts.Arrival, &machine.Machine{}, ""); err != nil {
		return nil, err
	}
	if facts.Names, err = g.names(ctx, h.ID, poolFor(host, r.Pool), uuid.Nil, r.Answers, r.Name,
		facts.Folder.Disks[0].ID); err != nil {
		return nil, err
	}
	d := r.made(nil, h)
	if d.Plan, err = plan.Gather(facts, bring); err != nil {
		return nil, refused(err)
	}
	d.holdPlaces()
	return d, nil
}
