// Package work plans operations from the facts of the inventory and carries the
// plans out as durable jobs: short River jobs that steer tasks at the agents.
package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Request asks for a plan, or for a job that carries it out.
type Request struct {
	Operation       string            `json:"operation"` // see draw
	Copies          []string          `json:"copies"`
	Destination     *Destination      `json:"destination"`
	Source          *Source           `json:"source"`
	Folders         []string          `json:"folders"` // to register: POOL/NAME, a copy, or a path of the host
	Files           string            `json:"files"`
	Host            string            `json:"host"`
	Manager         string            `json:"manager"` // that a machine is put back to; "" for the one that it came from
	Via             string            `json:"via"`     // host that reads and converts what a manager sends
	Pool            string            `json:"pool"`
	Disks           map[string]string `json:"disks"`
	Change          *Change           `json:"change"`
	KeepWiring      bool              `json:"keepWiring"` // switches that were chosen become rules
	Switch          *wiring.Switch    `json:"switch"`     // to make, or, by its name, to drop
	Addresses       map[string]string `json:"addresses"`  // NIC → give, or an address
	Owner           string            `json:"owner"`
	Name            string            `json:"name"`
	Identity        string            `json:"identity"`
	Facets          map[string]string `json:"facets"`
	Wire            map[string]string `json:"wire"`
	CPUs            int               `json:"cpus"`
	MemoryBytes     int64             `json:"memoryBytes"`
	Answers         map[string]string `json:"answers"`
	TakeRecommended bool              `json:"takeRecommended"`
	Note            string            `json:"note"`

	caller        string
	operator      bool
	administrator bool
}

// As says who asks.
func (req *Request) As(name string, operator, administrator bool) {
	req.caller, req.operator, req.administrator = name, operator, administrator
}

// Change is what is to be different about a copy; what is empty stays. CPUs,
// memory, name and wiring are those of the request.
type Change struct {
	Folder   bool     `json:"folder"` // it gets the new name too
	Guest    string   `json:"guest"`
	Boot     []string `json:"boot"`
	Add      []string `json:"add"`
	Drop     []string `json:"drop"`
	AddNICs  []string `json:"addNics"`
	DropNICs []string `json:"dropNics"`
	Unplug   []string `json:"unplug"`
	Renew    []string `json:"renew"`
	Attach   string   `json:"attach"`
	Replace  string   `json:"replace"`
	Detach   string   `json:"detach"`
	Trash    bool     `json:"trash"` // delisting: its files go there
}

// Destination of an export: a shelf, or a place on the caller's computer.
type Destination struct {
	Shelf string `json:"shelf"`
	File  string `json:"file"`  // name of the package
	Place string `json:"place"` // on the caller's computer, for people and records
	Piped bool   `json:"piped"` // it will be read front to back, as one package
}

// Source of an import: exactly one is set.
type Source struct {
	Upload  *ovf.Skeleton `json:"upload"`  // of a package on the caller's computer
	Package string        `json:"package"` // SHELF/FILE or id, POOL/PATH or a path of the host, or an http(s) address
	Disks   []string      `json:"disks"`   // bare images: POOL/PATH or paths of the host
}

// drawn is a plan with what its job will need.
type drawn struct {
	*plan.Plan
	hosts map[string]uuid.UUID // by name
	holds []string
}

func wrong(format string, args ...any) error {
	return &inventory.Error{Code: "wrong", Message: fmt.Sprintf(format, args...)}
}

// Plan works a request out. Nothing is changed.
func (w *Work) Plan(ctx context.Context, req *Request) (*plan.Plan, error) {
	d, err := w.draw(ctx, req)
	if err != nil {
		return nil, err
	}
	return d.Plan, nil
}

func (w *Work) draw(ctx context.Context, req *Request) (*drawn, error) {
	for key := range req.Answers {
		if _, _, err := plan.ParseAnswer(key + "=x"); err != nil {
			return nil, wrong("%v", err)
		}
	}
	switch req.Operation {
	case "export":
		return w.drawExport(ctx, req)
	case "import":
		return w.drawImport(ctx, req)
	case "register", "fetch-ahead":
		return w.drawRegister(ctx, req)
	case "put-back":
		return w.drawPutBack(ctx, req)
	case "change", "renew", "attach", "detach":
		return w.drawChange(ctx, req)
	case "delist":
		return w.drawDelist(ctx, req)
	case "start", "stop":
		return w.drawPower(ctx, req)
	case "rebuild":
		return w.drawRebuild(ctx, req)
	case "put-right":
		return w.drawPutRight(ctx, req)
	case "switch-add", "switch-drop":
		return w.drawSwitch(ctx, req)
	}
	return nil, wrong("Unknown operation %q: there are export, import, register, change, renew, attach, detach, delist, put-right, fetch-ahead, put-back, rebuild, start, stop, switch-add and switch-drop.", req.Operation)
}

// asNow looks at a host that did not answer last time: it may be back.
func (w *Work) asNow(ctx context.Context, h *inventory.Host) {
	if h.State != "unreachable" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, lookPatience)
	defer cancel()
	if _, err := w.Survey(ctx, h); err == nil {
		if h.State = "up"; h.Resting {
			h.State = "resting"
		}
	}
}

const lookPatience = 2 * time.Second

func (w *Work) hostFacts(ctx context.Context, h *inventory.Host) (plan.HostFacts, error) {
	if h.ManagerID != nil {
		return plan.HostFacts{}, wrong("%s is a host of the manager %s: a machine is given to it with unvora put-back COPY", h.Name, h.Manager)
	}
	w.asNow(ctx, h)
	f := plan.HostFacts{ID: h.ID.String(), Name: h.Name, State: h.State, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes, Abilities: h.Abilities,
		Protocol: h.Protocol, ClockOff: h.ClockOff, Ports: h.Ports, Reached: addressOf(ctx, h.Address)}
	if h.Protocol > 0 { // it was heard of since that is noted
		f.WantsProtocol = hostlink.Protocol
	}
	var err error
	if f.Family, err = fit.FamilyByName(h.Family); err != nil {
		return f, err
	}
	if f.MACPrefix, err = w.inv.MACPrefix(ctx, h.Site); err != nil {
		return f, err
	}
	pools, err := w.inv.HostPools(ctx, h.ID)
	if err != nil {
		return f, err
	}
	for _, p := range pools {
		f.Pools = append(f.Pools, plan.PoolFacts{ID: p.ID.String(), Name: p.Name, Path: p.Path, State: p.State, Removable: p.Removable, Labels: p.Labels, TotalBytes: p.TotalBytes, FreeBytes: p.FreeBytes,
			MaxFile: p.MaxFile, Ownerless: p.Ownerless, Foreign: p.Foreign, Slow: fit.Slow(p.Rate)})
	}
	switches, err := w.inv.Switches(ctx, h.ID)
	for _, s := range switches {
		f.Switches = append(f.Switches, s.Wiring())
	}
	return f, err
}

// addressOf is the address that a host's name stands for; "" when that can't be
// told.
func addressOf(ctx context.Context, hostport string) string {
	host, _, err := net.SplitHostPort(hostport)
	if err != nil || net.ParseIP(host) != nil {
		return host
	}
	ctx, cancel := context.WithTimeout(ctx, lookPatience)
	defer cancel()
	list, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil || len(list) == 0 {
		return ""
	}
	return list[0]
}

func (w *Work) drawExport(ctx context.Context, req *Request) (*drawn, error) {
	if len(req.Copies) != 1 || req.Destination == nil {
		return nil, wrong("An export needs one copy and a destination.")
	}
	c, err := w.inv.Copy(ctx, req.Copies[0], "registered")
	if err != nil {
		return nil, err
	}
	h, err := w.hostOf(ctx, c)
	if err != nil {
		return nil, err
	}
	facts := plan.ExportFacts{Copy: c.Known(), Machine: c.Machine}
	if facts.Host, err = w.hostFacts(ctx, h); err != nil {
		return nil, err
	}
	facts.PoolState = poolStateOf(facts.Host, c)
	if facts.Host.State != "unreachable" && facts.PoolState != "away" {
		folder, err := w.look(ctx, &place{host: h, path: c.Path}, c.Ref())
		if err != nil {
			return nil, err
		}
		facts.Disks = folder.Disks
	}
	if facts.Busy, err = inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(c.ID.String())); err != nil {
		return nil, err
	}
	dest := *req.Destination
	if dest.File == "" {
		dest.File = machine.CleanName(c.Name) + ".ova"
	}
	if err := machine.CheckName(dest.File); err != nil {
		return nil, wrong("Name of the package: %v.", err)
	}
	if !strings.HasSuffix(strings.ToLower(dest.File), ".ova") {
		dest.File += ".ova"
	}
	holds := []string{inventory.CopyKey(c.ID.String())}
	hosts := map[string]uuid.UUID{h.Name: h.ID}
	if dest.Shelf != "" {
		s, err := w.inv.Shelf(ctx, dest.Shelf)
		if err != nil {
			return nil, err
		}
		if s == nil {
			return nil, w.unknownShelf(ctx, dest.Shelf)
		}
		holder, err := w.inv.Host(ctx, s.HostID.String())
		if err != nil {
			return nil, err
		}
		hosts[holder.Name] = holder.ID
		w.asNow(ctx, holder)
		facts.Shelf = &plan.ShelfFacts{ID: s.ID.String(), Name: s.Name, Path: s.Path, HostID: s.HostID.String(), HostName: s.Host, HostState: holder.State, FreeBytes: s.FreeBytes, Taken: map[string]bool{}}
		if there, err := w.inv.Copy(ctx, s.Name+"/"+dest.File, "package"); err == nil && there != nil {
			facts.Shelf.Taken[dest.File] = true
		}
		holds = append(holds, "shelf:"+s.ID.String()+"/"+dest.File)
		dest.Place = s.Name + "/" + dest.File
	}
	if dest.Place == "" {
		dest.Place = dest.File
	}
	p, err := plan.Export(facts, plan.ExportRequest{File: dest.File, Place: dest.Place, Piped: dest.Piped, Answers: req.Answers, TakeRecommended: req.TakeRecommended})
	if err != nil {
		return nil, wrong("%v", err)
	}
	return &drawn{Plan: p, hosts: hosts, holds: holds}, nil
}

// poolStateOf is the state of the pool that a copy lies in, as its host sees it.
func poolStateOf(h plan.HostFacts, c *inventory.Copy) string {
	for _, p := range h.Pools {
		if c.PoolID != nil && p.ID == c.PoolID.String() {
			return p.State
		}
	}
	return ""
}

func (w *Work) unknownShelf(ctx context.Context, name string) error {
	shelves, err := w.inv.Shelves(ctx)
	if err != nil {
		return err
	}
	e := &inventory.Error{Code: "unknown", Message: fmt.Sprintf("There is no shelf %q.", name)}
	for _, s := range shelves {
		e.Likely = append(e.Likely, s.Name)
	}
	if len(e.Likely) > 0 {
		e.Message += " There are: " + strings.Join(e.Likely, ", ") + "."
	}
	return e
}

func (w *Work) drawImport(ctx context.Context, req *Request) (*drawn, error) {
	if req.Source == nil || req.Host == "" {
		return nil, wrong("An import needs a source and a host.")
	}
	h, err := w.inv.Host(ctx, req.Host)
	if err != nil {
		return nil, err
	}
	facts := plan.ImportFacts{}
	facts.Caller, facts.Wanted = req.caller, req.wanted()
	if facts.Host, err = w.hostFacts(ctx, h); err != nil {
		return nil, err
	}
	d := &drawn{hosts: map[string]uuid.UUID{h.Name: h.ID}}
	if len(req.Source.Disks) > 0 {
		return w.drawDisks(ctx, req, h, facts.Host, d)
	}
	skeleton := req.Source.Upload
	if skeleton != nil {
		facts.Source, facts.Where = plan.PackageSource{Kind: "upload"}, skeleton.Name
	} else {
		var other *drawn
		if skeleton, other, err = w.findPackage(ctx, req, h, &facts, d); other != nil || err != nil {
			return other, err
		}
	}
	if facts.Problem == nil {
		facts.Package, err = skeleton.Open()
		if err != nil && !errors.As(err, &facts.Problem) {
			return nil, err
		}
	}
	taken, lookup := w.taken(ctx, h, poolFor(facts.Host, req.Pool))
	facts.Taken = taken
	each := func(number int) (plan.ImportFacts, error) {
		of := facts
		of.Machine = number
		return of, w.arrive(ctx, &of.Arrival, h, &facts.Package.Envelope.Machines[number], "")
	}
	first := facts
	if facts.Package != nil {
		if first, err = each(0); err != nil {
			return nil, err
		}
	}
	bring, err := req.bring()
	if err != nil {
		return nil, err
	}
	if d.Plan, err = plan.ImportAll(first, bring, each); err != nil {
		return nil, wrong("%v", err)
	}
	d.holdPlaces()
	return d, *lookup
}

// findPackage finds a package that is named: one of the inventory, on the web,
// or at a path of a host. A machine folder or a bare disk there has a plan of
// its own, which is returned instead.
func (w *Work) findPackage(ctx context.Context, req *Request, h *inventory.Host, facts *plan.ImportFacts, d *drawn) (*ovf.Skeleton, *drawn, error) {
	ref := req.Source.Package
	facts.Where = ref
	at, file := h, ref
	if strings.HasPrefix(ref, "http://") || strings.HasPrefix(ref, "https://") {
		if !req.operator {
			return nil, nil, &Denied{"operator", "have an agent fetch from the web"}
		}
		facts.Source = plan.PackageSource{Kind: "web", Host: h.ID.String(), Path: ref}
	} else {
		c, err := w.inv.Copy(ctx, ref, "package")
		var unknown *inventory.Error
		switch {
		case err == nil && c.HostID == nil:
			return nil, nil, wrong("The package %s lies on somebody's computer (%s): bring the file itself.", c.Name, c.Path)
		case err == nil:
			if at, err = w.inv.Host(ctx, c.HostID.String()); err != nil {
				return nil, nil, err
			}
			facts.Where, facts.Parent, file = c.Ref(), c.ID.String(), c.Path
			d.holds = append(d.holds, inventory.CopyKey(c.ID.String()))
		case errors.As(err, &unknown) && unknown.Code == "unknown" && strings.Contains(ref, "/"):
			pl, e := w.find(ctx, ref, h, facts.Host)
			if e != nil {
				return nil, nil, err // what is said of packages tells more
			}
			at, file = pl.host, pl.path
			if folder, e := w.look(ctx, pl, ref); e == nil && folder.Machine != nil {
				one := *req
				one.Folders = []string{ref}
				other, err := w.drawRegister(ctx, &one)
				return nil, other, err
			} else if e == nil && folder.Path != pl.path && folder.Disks[0].Format != "raw" && folder.Disks[0].Problem == "" {
				one := *req
				one.Source = &Source{Disks: []string{ref}}
				other, err := w.drawImport(ctx, &one)
				return nil, other, err
			}
		default:
			return nil, nil, err
		}
		facts.Source = plan.PackageSource{Kind: "file", Host: at.ID.String(), Path: file}
		d.hosts[at.Name] = at.ID
	}
	skeleton, err := w.agent(at).Look(ctx, file)
	var fault *hostlink.Fault
	switch {
	case errors.As(err, &fault):
		facts.Problem = &ovf.Problem{Code: orUnknown(fault.Code), Subject: facts.Where, Offset: -1, Message: fault.Message}
	case err != nil:
		return nil, nil, w.unreachable(at, err)
	case at.ID != h.ID && (skeleton.Packed || skeleton.Kind != "ova"):
		return nil, nil, wrong("%s lies at %s: from another host only an OVA is read. Put it on a share that %s sees, or bring the file from your computer.", ref, at.Name, h.Name)
	}
	return skeleton, nil, nil
}

func orUnknown(code string) string {
	if s, _ := fit.Describe(code); s == "" {
		return "package.unknown"
	}
	return code
}

// poolFor is the pool that the plan will choose, for asking which names are taken.
func poolFor(h plan.HostFacts, name string) uuid.UUID {
	for _, p := range h.Pools {
		if name == p.Name || name == "" && p.State == "ready" && !p.Removable {
			id, _ := uuid.Parse(p.ID)
			return id
		}
	}
	return uuid.Nil
}

func (w *Work) drawPower(ctx context.Context, req *Request) (*drawn, error) {
	if len(req.Copies) == 0 {
		return nil, wrong("Name one or more copies.")
	}
	facts := []plan.PowerFacts{}
	d := &drawn{hosts: map[string]uuid.UUID{}}
	seen := map[string]bool{}
	for _, ref := range req.Copies {
		c, err := w.inv.Copy(ctx, ref, "registered")
		if err != nil {
			return nil, err
		}
		if seen[c.ID.String()] {
			continue
		}
		seen[c.ID.String()] = true
		h, err := w.hostOf(ctx, c)
		if err != nil {
			return nil, err
		}
		w.asNow(ctx, h)
		f := plan.PowerFacts{Copy: c.Known(), HostState: h.State, Isolated: isolated(c.Machine)}
		if f.Busy, err = inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(c.ID.String())); err != nil {
			return nil, err
		}
		if f.SameUUID, f.SameMAC, err = w.twins(ctx, c); err != nil {
			return nil, err
		}
		facts = append(facts, f)
		d.hosts[h.Name] = h.ID
		d.holds = append(d.holds, inventory.CopyKey(c.ID.String()))
	}
	p, err := plan.PowerOnOff(req.Operation, facts, req.Answers, req.TakeRecommended)
	if err != nil {
		return nil, wrong("%v", err)
	}
	d.Plan = p
	return d, nil
}

// isolated tells whether nobody on a network that leads anywhere sees the machine.
func isolated(m *machine.Machine) bool {
	return m != nil && !slices.ContainsFunc(m.NICs, func(n machine.NIC) bool { return n.Network != "" && n.Segment != wiring.Quarantine })
}

// twins finds the other copies with the copy's machine UUID, and with its MACs.
func (w *Work) twins(ctx context.Context, c *inventory.Copy) (uuids, macs []lineage.Known, err error) {
	others := func(list []inventory.Copy) (out []lineage.Known) {
		for _, o := range list {
			if o.ID != c.ID {
				out = append(out, o.Known())
			}
		}
		return out
	}
	list, err := w.inv.HoldersOfUUID(ctx, c.UUID)
	if err != nil {
		return nil, nil, err
	}
	uuids = others(list)
	for _, mac := range c.MACs {
		if list, err = w.inv.HoldersOfMAC(ctx, mac); err != nil {
			return nil, nil, err
		}
		macs = append(macs, others(list)...)
	}
	return uuids, macs, nil
}

// finish fills in what only a job knows: ids of what is about to be made. It
// returns that of the first copy; nil when none is made.
func (d *drawn) finish(at time.Time) (first *uuid.UUID) {
	passport := machine.Passport{MadeBy: d.Operation, MadeAt: at, Identity: identity.Keep}
	for i := range d.Steps {
		do, ok := d.Steps[i].Do.(*plan.Record)
		if !ok {
			continue
		}
		if _, err := uuid.Parse(do.Lineage); err != nil {
			do.Lineage = inventory.NewID().String()
		}
		if do.Copy == "" {
			id := inventory.NewID()
			do.Made = id.String()
			if first == nil {
				first = &id
			}
		}
		passport.Copy, passport.Lineage, passport.Parent = do.Made, do.Lineage, do.Parent
	}
	for i := range d.Steps {
		if do, ok := d.Steps[i].Do.(plan.Pack); ok {
			do.Passport = &passport
			d.Steps[i].Do = do
		}
	}
	return first
}

func decode[T any](s *inventory.Step) (*T, error) {
	var t T
	if err := json.Unmarshal(s.DoWhat, &t); err != nil {
		return nil, fmt.Errorf("step %s: %w", s.ID, err)
	}
	return &t, nil
}
