package draw

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/raw"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

func init() {
	add(Operation{
		Name: "export", Title: "Export", To: "to", Becomes: "a package", Command: "unvora export COPY… DEST",
		New: func() Request { return &Export{} },
	})
}

// Export asks for packages of copies: one for each, or one of all.
type Export struct {
	Asked
	Copies
	Together    bool         `json:"together,omitempty"` // one package of all
	Where       string       `json:"where,omitempty"`    // or those that a filter tells
	Destination *Destination `json:"destination"`
	Snapshot    string       `json:"snapshot,omitempty"` // of the copy, that the package is of

	For         string           `json:"for,omitempty"`
	MACs        string           `json:"macs,omitempty"`
	Identity    string           `json:"identity,omitempty"`
	Media       string           `json:"media,omitempty"`
	LeaveOut    []string         `json:"leaveOut,omitempty"`
	Drop        []string         `json:"drop,omitempty"`
	Name        string           `json:"name,omitempty"`
	CPUs        int              `json:"cpus,omitempty"`
	MemoryBytes int64            `json:"memoryBytes,omitempty"`
	Product     *machine.Product `json:"product,omitempty"`
	Digest      string           `json:"digest,omitempty"`
	OVF         string           `json:"ovf,omitempty"`
	DiskFormat  string           `json:"diskFormat,omitempty"` // FORMAT or FORMAT:VARIANT; "" for a compressed stream
	Compact     bool             `json:"compact,omitempty"`    // without what file systems mark as free

	until time.Time // that hosts are asked what is free
}

// diskFile is what disks in the package are written as.
func (r *Export) diskFile() (f plan.DiskFile, err error) {
	name, variant, _ := strings.Cut(r.DiskFormat, ":")
	if name == "" || name == vmdk.Format && (variant == "" || variant == "stream") {
		return f, nil // what every reader of packages knows
	}
	if known := formats.InPackages(); !slices.Contains(known, r.DiskFormat) {
		return f, inventory.Wrong("Disks of a package are not written as %q: there are %s.", r.DiskFormat,
			strings.Join(known, ", "))
	}
	format, err := formats.ByName(name)
	if err == nil {
		variant, err = format.Variant(variant)
	}
	if err != nil {
		return f, err
	}
	return plan.DiskFile{Format: name, Variant: variant, Extension: format.Extension, MostBytes: format.MostBytes,
		Whole: name == raw.Format || variant == "fixed"}, nil
}

// holds is what the package is to hold.
func (r *Export) holds() plan.HandingRequest {
	h := plan.HandingRequest{For: r.For, MACs: r.MACs, Identity: r.Identity, Media: r.Media, LeaveOut: r.LeaveOut,
		Drop: r.Drop, Name: r.Name, CPUs: r.CPUs, MemoryBytes: r.MemoryBytes}
	if r.Product != nil {
		h.Product = *r.Product
	}
	return h
}

// Destination of an export: a shelf, a pool, or a place on the caller's computer.
type Destination struct {
	Shelf string `json:"shelf,omitempty"`
	Pool  string `json:"pool,omitempty"` // name, label or HOST:NAME; one that the copy's host sees comes first
	// Directory of the pool that the package lies in; "" for beside the machine folders.
	Directory string `json:"directory,omitempty"`
	File      string `json:"file,omitempty"` // name of the package
	// on the caller's computer, for people and records; of several packages with {name} in it
	Place string `json:"place,omitempty"`
	Piped bool   `json:"piped,omitempty"` // it will be read front to back, as one package
}

func (*Export) takesSeveral() {}

// placeName stands for the name of a package in the place of several.
const placeName = "{name}"

func (r *Export) draw(ctx context.Context, g *Gatherer) (*Drawn, error) {
	if r.Destination == nil {
		return nil, inventory.Wrong("An export needs copies and a destination.")
	}
	of := &Many{Copies: r.Copies, Where: r.Where}
	copies, err := of.all(ctx, g, nil, lineage.Registered)
	if err != nil {
		return nil, err
	}
	r.until = time.Now().Add(freePatience)
	if r.Together {
		return r.pack(ctx, g, copies)
	}
	several := len(copies) > 1 || strings.Contains(r.Destination.Place, placeName)
	if d := r.Destination; several {
		switch {
		case d.File != "" || d.Piped:
			return nil, inventory.Wrong("Each of %d machines gets a package of its own: name a directory, a shelf or "+
				"a pool; or all come into one package (together).", len(copies))
		case d.Shelf == "" && d.Pool == "" && !strings.Contains(d.Place, placeName):
			return nil, inventory.Wrong("The place of %d packages has %s in it.", len(copies), placeName)
		}
	}
	answers, err := answersOf(r.Answers, copies)
	if err != nil {
		return nil, err
	}
	parts := make([]Part, len(copies))
	for i, c := range copies {
		one := *r
		one.Where, one.Copies, one.Answers = "", Copies{[]string{c.ID.String()}}, answers[i]
		if several {
			dest := *r.Destination
			one.Destination = &dest
			if one.Name = plan.Pattern(r.Name, c.Name, i+1); r.Name != "" && one.Name == r.Name && len(copies) > 1 {
				return nil, inventory.Wrong("One name for %d machines: put {name}, {n} or {nn} into it, such as "+
					"%s-{nn}.", len(copies), r.Name)
			}
			stem := machine.CleanName(cmp.Or(one.Name, strings.ReplaceAll(called(c, copies), "/", "-")))
			dest.File, dest.Place = stem+".ova", strings.ReplaceAll(dest.Place, placeName, stem)
		}
		d, err := one.pack(ctx, g, []*subject{c})
		if err != nil {
			return nil, err
		}
		parts[i] = Part{d, &one}
	}
	return together(parts, false, plan.Together), nil
}

// pack plans one package of copies.
func (r *Export) pack(ctx context.Context, g *Gatherer, copies []*subject) (*Drawn, error) {
	name := copies[0].Name
	if r.Together && len(copies) > 1 {
		name = cmp.Or(r.Name, strings.TrimSuffix(strings.TrimSuffix(r.Destination.File, ".ova"), ".OVA"))
		if name == "" {
			return nil, inventory.Wrong("A package of %d machines has a name: say it (name), or that of the file.",
				len(copies))
		}
	}
	dest := *r.Destination
	if dest.File == "" {
		dest.File = machine.CleanName(name) + ".ova"
	}
	if err := machine.CheckName(dest.File); err != nil {
		return nil, inventory.Wrong("Name of the package: %v.", err)
	}
	if !strings.HasSuffix(strings.ToLower(dest.File), ".ova") {
		dest.File += ".ova"
	}
	answers, err := answersOf(r.Answers, copies)
	if err != nil {
		return nil, err
	}
	if dest.Directory != "" {
		if dest.Pool == "" {
			return nil, inventory.Wrong("Directories are those of pools: a shelf has none.")
		}
		if err := machine.CheckName(dest.Directory); err != nil {
			return nil, inventory.Wrong("Directory for the package: %v.", err)
		}
	}
	d := on(nil, copies[0].at)
	var all []plan.ExportFacts
	for i, c := range copies {
		facts, err := r.facts(ctx, g, c)
		if err != nil {
			return nil, err
		}
		facts.Answers = answers[i]
		d.Hosts[c.at.Name], d.Holds = c.at.ID, append(d.Holds, c.hold)
		all = append(all, *facts)
	}
	var shelf *plan.ShelfFacts
	switch {
	case dest.Shelf != "" && dest.Pool != "":
		return nil, inventory.Wrong("A package goes to a shelf, or into a pool.")
	case dest.Shelf != "":
		shelf, err = g.shelf(ctx, &dest, d)
	case dest.Pool != "":
		shelf, err = g.poolAsShelf(ctx, &dest, copies[0], d)
	}
	if err != nil {
		return nil, err
	}
	if dest.Place == "" {
		dest.Place = dest.File
	}
	for i := range all {
		all[i].Shelf = shelf
	}
	disks, err := r.diskFile()
	if err != nil {
		return nil, err
	}
	holds := r.holds()
	if len(all) > 1 {
		holds.Name = "" // it is that of the package
	}
	d.Plan, err = plan.ExportTogether(all, plan.ExportRequest{File: dest.File, Place: dest.Place, Piped: dest.Piped,
		Called: machine.CleanName(name), Snapshot: r.Snapshot, Holds: holds, Digest: r.Digest, OVF: r.OVF, Disks: disks,
		Compact: r.Compact, Answers: r.Answers, TakeRecommended: r.TakeRecommended})
	return d, refused(err)
}

// facts are what is to be known of a copy.
func (r *Export) facts(ctx context.Context, g *Gatherer, c *subject) (*plan.ExportFacts, error) {
	facts := &plan.ExportFacts{Copy: c.Known(), Machine: c.Machine, Host: c.host, PoolState: c.pool(), Busy: c.busy}
	if c.host.State != plan.HostUnreachable && facts.PoolState != plan.PoolAway {
		folder, err := g.folder(ctx, c)
		if err != nil {
			return nil, err
		}
		facts.Disks, facts.Files = folder.Disks, folder.Files
		if folder.Machine != nil {
			facts.Machine = folder.Machine // as it is now
		}
		if r.Compact && (r.Snapshot != "" || !facts.Copy.State.Active()) {
			facts.Free = g.free(ctx, c, r.read(facts), r.until)
		}
	}
	return facts, nil
}

// read are the paths of the disks that are read.
func (r *Export) read(facts *plan.ExportFacts) (paths []string) {
	put := func(disk, file string) {
		if !slices.Contains(r.LeaveOut, disk) {
			paths = append(paths, path.Join(facts.Copy.Path, file))
		}
	}
	if r.Snapshot == "" {
		for _, d := range facts.Machine.Disks {
			put(d.ID, d.File)
		}
	} else if s := facts.Machine.SnapshotNamed(r.Snapshot); s != nil {
		for _, d := range s.Disks {
			put(d.Disk, d.File)
		}
	}
	return paths
}

// freePatience is how long a plan may wait in all for what is free on disks: it can do without.
const freePatience = 20 * time.Second

// free asks a copy's host what file systems mark as free on disks, until a time.
func (g *Gatherer) free(ctx context.Context, c *subject, paths []string, until time.Time) map[string]plan.DiskFree {
	ctx, stop := context.WithDeadline(ctx, until)
	defer stop()
	of := map[string]plan.DiskFree{}
	for _, p := range paths {
		switch free, err := g.hosts.Agent(c.at).Free(ctx, hostlink.FreeRequest{Path: p}); {
		case ctx.Err() != nil:
			of[p] = plan.DiskFree{Unknown: fmt.Sprintf("looking takes longer than %s", freePatience)}
		case err != nil:
			of[p] = plan.DiskFree{Unknown: err.Error()}
		default:
			of[p] = plan.DiskFree{FreeSpace: *free}
		}
	}
	return of
}

// shelf is what is needed to write to the shelf of a destination, whose place it states.
func (g *Gatherer) shelf(ctx context.Context, dest *Destination, d *Drawn) (*plan.ShelfFacts, error) {
	s, err := g.inv.Shelf(ctx, dest.Shelf)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, g.unknownShelf(ctx, dest.Shelf)
	}
	holder, err := g.inv.Host(ctx, s.HostID.String())
	if err != nil {
		return nil, err
	}
	g.hosts.AsNow(ctx, holder)
	return g.kept(ctx, &plan.ShelfFacts{ID: s.ID.String(), Name: s.Name, Path: s.Path, HostID: s.HostID.String(),
		HostName: s.Host, HostState: holder.State, Protocol: holder.Protocol, WantsProtocol: wants(holder),
		FreeBytes: s.FreeBytes}, s.ID, s.HostID, dest, d)
}

// kept puts down what a package is to be called that comes to a shelf or a pool, at a host, and whether that name is
// taken.
func (g *Gatherer) kept(ctx context.Context, s *plan.ShelfFacts, place, host uuid.UUID, dest *Destination,
	d *Drawn) (*plan.ShelfFacts, error) {
	rel := path.Join(dest.Directory, dest.File)
	there, err := g.inv.PackageAt(ctx, place, rel)
	if err != nil {
		return nil, err
	}
	if s.Directory = dest.Directory; s.Directory != "" {
		if s.OfMachine, err = g.inv.FolderAt(ctx, place, s.Directory); err != nil {
			return nil, err
		}
	}
	s.Taken = map[string]bool{dest.File: there}
	d.Hosts[s.HostName] = host
	d.Holds = append(d.Holds, "shelf:"+s.ID+"/"+rel)
	dest.Place = s.Name + "/" + rel
	return s, nil
}

// poolAsShelf is what is needed to write into the pool of a destination: at the copy's own host, if that sees it.
func (g *Gatherer) poolAsShelf(ctx context.Context, dest *Destination, c *subject, d *Drawn) (*plan.ShelfFacts, error) {
	host, at, name := c.host, c.at, dest.Pool
	on, pool, placed := strings.Cut(dest.Pool, ":")
	if placed && strings.EqualFold(on, host.Name) {
		name = pool
	}
	p, seen := host.PoolMeant(name)
	if !seen {
		ref := dest.Pool
		if placed {
			ref = on + "/" + pool
		}
		of, err := g.inv.PoolOf(ctx, ref)
		if e := (*inventory.Error)(nil); errors.As(err, &e) && e.Code == inventory.CodeAmbiguous {
			for i, one := range e.Likely { // as destinations are written
				e.Likely[i] = strings.Replace(one, "/", ":", 1)
			}
			e.Message = "Several pools have that name. Say which: " + strings.Join(e.Likely, " or ") + "."
		}
		if err != nil {
			return nil, err
		}
		if at, err = g.inv.Host(ctx, of.Host); err != nil {
			return nil, err
		}
		if host, err = g.HostFacts(ctx, at); err != nil {
			return nil, err
		}
		if p, seen = host.Pool(of.ID.String()); !seen {
			return nil, fmt.Errorf("pool %s is not among those of %s", of.ID, host.Name)
		}
	}
	id, err := uuid.Parse(p.ID)
	if err != nil {
		return nil, fmt.Errorf("pool %s of %s: %w", p.Name, host.Name, err)
	}
	return g.kept(ctx, &plan.ShelfFacts{Pool: &p, ID: p.ID, Name: p.Name, Path: p.Path, HostID: host.ID,
		HostName: host.Name, HostState: host.State, Protocol: host.Protocol, WantsProtocol: host.WantsProtocol,
		FreeBytes: p.FreeBytes}, id, at.ID, dest, d)
}

func (g *Gatherer) unknownShelf(ctx context.Context, name string) error {
	shelves, more, err := g.inv.Shelves(ctx, "", shelvesNamed)
	if err != nil {
		return err
	}
	e := &inventory.Error{Code: inventory.CodeUnknown, Message: fmt.Sprintf("There is no shelf %q.", name)}
	for _, s := range shelves {
		e.Likely = append(e.Likely, s.Name)
	}
	if len(e.Likely) > 0 {
		e.Message += " There are: " + strings.Join(e.Likely, ", ")
		if more != "" {
			e.Message += ", and more"
		}
		e.Message += "."
	}
	return e
}

// shelvesNamed is how many shelves an error names.
const shelvesNamed = 12
