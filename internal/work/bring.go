package work

import (
	"context"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// bring is the request as plans want it.
func (req *Request) bring() (plan.BringRequest, error) {
	if req.Identity != "" && req.Identity != identity.Keep && req.Identity != identity.Renew {
		return plan.BringRequest{}, wrong("Identity %q: keep or renew.", req.Identity)
	}
	facets := map[identity.Facet]string{}
	for f, v := range req.Facets {
		facets[identity.Facet(f)] = v
	}
	return plan.BringRequest{Files: req.Files, Name: req.Name, Pool: req.Pool, Identity: req.Identity, Facets: facets, Wire: req.Wire, Disks: req.Disks, Addresses: req.Addresses, Owner: req.Owner,
		CPUs: req.CPUs, MemoryBytes: req.MemoryBytes, Answers: req.Answers, TakeRecommended: req.TakeRecommended}, nil
}

// wanted lists the addresses that were typed.
func (req *Request) wanted() (list []string) {
	for _, a := range req.Addresses {
		list = append(list, a)
	}
	return list
}

// taken asks whether names are taken on a host and in a pool. What goes wrong
// meanwhile is kept for the caller to look at.
func (w *Work) taken(ctx context.Context, h *inventory.Host, pool uuid.UUID) (func(string) bool, *error) {
	var failed error
	return func(name string) bool {
		taken, err := w.inv.NameTaken(ctx, h.ID, pool, name)
		if err != nil {
			failed = err
		}
		return taken
	}, &failed
}

// arrive gathers what an operation that makes a registered copy of m on a host
// has to know: what m was made from, who has its ids, the rules of wiring. self
// is the copy that m is, which does not collide with itself.
func (w *Work) arrive(ctx context.Context, a *plan.Arrival, h *inventory.Host, m *machine.Machine, self string) (err error) {
	if err := w.ancestry(ctx, a, m, self); err != nil {
		return err
	}
	a.Bound = map[identity.Facet]string{}
	if id, err := uuid.Parse(a.Lineage); err == nil {
		marks, err := w.inv.Marks(ctx, id)
		if err != nil {
			return err
		}
		for _, k := range marks {
			a.Bound[identity.Facet(k.Facet)] = k.Kind
		}
	}
	if id, err := uuid.Parse(a.Lineage); err == nil && len(m.Snapshots) > 0 {
		if l, err := w.inv.LineageOf(ctx, id.String()); err == nil {
			a.Called = l.Name
		}
	}
	if m.TPM != "" {
		a.Bound[identity.TPM] = "TPM"
	}
	return w.surroundings(ctx, a, m, self)
}

// surroundings are the rules, subnets and addresses, and what owners have.
func (w *Work) surroundings(ctx context.Context, a *plan.Arrival, m *machine.Machine, self string) (err error) {
	if a.Landing, err = w.inv.LandingRules(ctx); err != nil {
		return err
	}
	if a.Ranges, err = w.inv.Ranges(ctx); err != nil {
		return err
	}
	if id, err := uuid.Parse(a.Host.ID); err == nil && len(a.Host.Quotas) > 0 {
		if a.Usage, err = w.inv.Usage(ctx, id); err != nil {
			return err
		}
	}
	if a.Rules, err = w.inv.Rules(ctx); err != nil {
		return err
	}
	if a.Subnets, err = w.inv.Subnets(ctx); err != nil {
		return err
	}
	a.AddressOf, err = w.inv.AddressHolders(ctx, append(slices.Clone(m.Static), a.Wanted...), self)
	return err
}

// ancestry finds what a machine was made from, and who else has its ids.
func (w *Work) ancestry(ctx context.Context, a *plan.Arrival, m *machine.Machine, self string) error {
	var origin *lineage.Known
	if pp := m.Passport; pp != nil {
		a.Lineage = pp.Lineage
		if c, err := w.inv.CopyByID(ctx, pp.Copy); err != nil {
			return err
		} else if c != nil {
			a.Lineage = c.LineageID.String()
			if a.Parent == "" && pp.Copy != self {
				a.Parent = c.ID.String()
			}
		}
		// The origin is the registered copy that it descends from.
		above, err := w.inv.Ancestors(ctx, pp.Parent)
		if err != nil {
			return err
		}
		for _, c := range above {
			a.Lineage = c.LineageID.String()
			if a.Parent == "" {
				a.Parent = c.ID.String()
			}
			if c.Form != "package" {
				k := c.Known()
				origin = &k
				break
			}
		}
	}
	others := func(list []inventory.Copy) (known []lineage.Known) {
		for _, c := range list {
			if c.ID.String() != self {
				known = append(known, c.Known())
			}
		}
		return known
	}
	same, err := w.inv.HoldersOfUUID(ctx, m.UUID)
	if err != nil {
		return err
	}
	a.SameUUID = others(same)
	if len(a.SameUUID) > 0 && a.Lineage == "" {
		a.Lineage = a.SameUUID[0].Lineage
	}
	a.SameMAC = map[string][]lineage.Known{}
	for _, mac := range m.MACs() {
		holders, err := w.inv.HoldersOfMAC(ctx, mac)
		if err != nil {
			return err
		}
		if list := others(holders); len(list) > 0 {
			a.SameMAC[mac] = list
		}
	}
	a.Origin = lineage.FindOrigin(m, origin, a.SameUUID)
	return nil
}

// place is a path at a host.
type place struct {
	host *inventory.Host
	path string
	copy *inventory.Copy // that is there; nil for none
}

// find resolves what a person calls a folder or file: a path of the host,
// POOL/PATH, or a copy of the inventory in one of forms.
func (w *Work) find(ctx context.Context, ref string, h *inventory.Host, facts plan.HostFacts, forms ...string) (*place, error) {
	pl := &place{host: h}
	if name, at, ok := strings.Cut(ref, ":/"); ok { // of another host
		other, err := w.inv.Host(ctx, name)
		if err != nil {
			return nil, err
		}
		pl.host, pl.path = other, path.Clean("/"+at)
	} else if strings.HasPrefix(ref, "/") {
		pl.path = path.Clean(ref)
	} else if pool, rest, ok := strings.Cut(ref, "/"); ok {
		for _, p := range facts.Pools {
			if strings.EqualFold(p.Name, pool) {
				pl.path = path.Join(p.Path, rest)
			}
		}
		if pl.path == "" {
			if err := w.elsewhere(ctx, pl, pool, rest); err != nil {
				return nil, err
			}
		}
	}
	if pl.path == "" {
		c, err := w.inv.Copy(ctx, ref, forms...)
		if err != nil {
			var e *inventory.Error
			if errors.As(err, &e) && e.Code == "unknown" {
				names := []string{}
				for _, p := range facts.Pools {
					names = append(names, p.Name)
				}
				e.Message += " A folder is named by its path on the host, as POOL/NAME (pools of " + h.Name + ": " + strings.Join(names, ", ") + "), or as a copy of the inventory."
			}
			return nil, err
		}
		pl.copy, pl.path = c, c.Path
		if c.HostID == nil || *c.HostID == h.ID {
			return pl, nil
		}
		for _, p := range facts.Pools { // a share that both see
			if c.PoolID != nil && p.ID == c.PoolID.String() && p.State != "away" {
				pl.path = path.Join(p.Path, path.Base(c.Path))
				return pl, nil
			}
		}
		pl.host, err = w.inv.Host(ctx, c.HostID.String())
		return pl, err
	}
	var poolID *uuid.UUID
	for _, p := range facts.Pools {
		if pl.host == h && strings.HasPrefix(pl.path, p.Path+"/") {
			if id, err := uuid.Parse(p.ID); err == nil {
				poolID = &id
			}
		}
	}
	var err error
	pl.copy, err = w.inv.AtPlace(ctx, pl.host.ID, poolID, pl.path)
	return pl, err
}

// elsewhere finds a pool that only other hosts see.
func (w *Work) elsewhere(ctx context.Context, pl *place, pool, rest string) error {
	pools, err := w.inv.PoolsNamed(ctx, pool)
	if err != nil || len(pools) == 0 {
		return err
	}
	hosts := []string{}
	for _, p := range pools {
		h, err := w.inv.Host(ctx, p.Host.String())
		if err != nil {
			return err
		}
		hosts = append(hosts, h.Name)
		pl.host, pl.path = h, path.Join(p.Path, rest)
	}
	if len(hosts) > 1 {
		return wrong("Several hosts have a pool %q: %s. Name the folder as HOST:/PATH.", pool, strings.Join(hosts, ", "))
	}
	return nil
}

// look asks the agent what is at the place.
func (w *Work) look(ctx context.Context, pl *place, what string) (*plan.Folder, error) {
	f, err := w.agent(pl.host).Folder(ctx, pl.path)
	var fault *hostlink.Fault
	if errors.As(err, &fault) {
		return nil, wrong("%s at %s: %s.", what, pl.host.Name, strings.TrimSuffix(fault.Message, "."))
	}
	if err != nil {
		return nil, w.unreachable(pl.host, err)
	}
	return f, nil
}

func (w *Work) drawRegister(ctx context.Context, req *Request) (*drawn, error) {
	if len(req.Folders) == 0 || req.Host == "" {
		return nil, wrong("To register needs a folder and a host.")
	}
	if len(req.Folders) == 1 { // given a package, it goes on with the right plan
		if c, err := w.inv.Copy(ctx, req.Folders[0], "package"); err == nil && c != nil {
			one := *req
			one.Operation, one.Source = "import", &Source{Package: c.ID.String()}
			return w.drawImport(ctx, &one)
		}
	}
	h, err := w.inv.Host(ctx, req.Host)
	if err != nil {
		return nil, err
	}
	host, err := w.hostFacts(ctx, h)
	if err != nil {
		return nil, err
	}
	all := &drawn{hosts: map[string]uuid.UUID{h.Name: h.ID}}
	var plans []*plan.Plan
	for n, ref := range req.Folders {
		one := *req
		if one.Name = plan.Pattern(req.Name, path.Base(ref), n+1); len(req.Folders) > 1 && one.Name == req.Name && req.Name != "" {
			return nil, wrong("One name for %d folders: put {name}, {n} or {nn} into it, such as %s-{nn}.", len(req.Folders), req.Name)
		}
		d, err := w.drawFolder(ctx, &one, ref, h, host, len(req.Folders) > 1)
		if err != nil {
			return nil, err
		}
		plans = append(plans, d.Plan)
		maps.Copy(all.hosts, d.hosts)
		all.holds = append(all.holds, d.holds...)
	}
	all.Plan = plan.Together(plans)
	return all, nil
}

// drawDisks plans a machine around bare disks of a host.
func (w *Work) drawDisks(ctx context.Context, req *Request, h *inventory.Host, host plan.HostFacts, d *drawn) (*drawn, error) {
	facts := plan.RegisterFacts{Where: strings.Join(req.Source.Disks, ", ")}
	facts.Host, facts.Caller, facts.Wanted = host, req.caller, req.wanted()
	for n, ref := range req.Source.Disks {
		pl, err := w.find(ctx, ref, h, host)
		if err != nil {
			return nil, err
		}
		f, err := w.look(ctx, pl, ref)
		if err != nil {
			return nil, err
		}
		if f.Path == pl.path || len(f.Disks) != 1 {
			return nil, wrong("%s is a folder: name the disk images in it, or register it: unvora register %s --host %s", ref, ref, h.Name)
		}
		if pl.host.ID != h.ID {
			return nil, wrong("%s lies at %s, in no pool that %s sees. Put it on a share, or bring the file from your computer.", ref, pl.host.Name, h.Name)
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
	m := &machine.Machine{}
	if err := w.surroundings(ctx, &facts.Arrival, m, ""); err != nil {
		return nil, err
	}
	taken, lookup := w.taken(ctx, h, poolFor(host, req.Pool))
	facts.Taken = taken
	bring, err := req.bring()
	if err != nil {
		return nil, err
	}
	if d.Plan, err = plan.Gather(facts, bring); err != nil {
		return nil, wrong("%v", err)
	}
	d.holdPlaces()
	return d, *lookup
}

// drawFolder plans the registering of one folder.
func (w *Work) drawFolder(ctx context.Context, req *Request, ref string, h *inventory.Host, host plan.HostFacts, several bool) (*drawn, error) {
	facts := plan.RegisterFacts{Where: ref}
	facts.Host, facts.Caller, facts.Wanted = host, req.caller, req.wanted()
	if several {
		facts.Of = path.Base(ref)
	}
	pl, err := w.find(ctx, ref, h, facts.Host, "stray", "registered")
	if err != nil {
		return nil, err
	}
	switch {
	case pl.host.ManagerID != nil:
		m, err := w.inv.Manager(ctx, pl.host.ManagerID.String())
		if err != nil {
			return nil, err
		}
		return w.drawManaged(ctx, req, pl.copy, m, pl.host, h, host, several)
	case req.Operation == "fetch-ahead":
		return nil, wrong("%s is at no manager: only machines of managers are fetched ahead.", ref)
	}
	folder, err := w.look(ctx, pl, ref)
	if err != nil {
		return nil, err
	}
	facts.Folder = *folder
	if folder.Machine == nil && pl.copy == nil { // its descriptor is lost, and it was taken for gone
		poolID, err := uuid.Parse(folder.Pool)
		at := &poolID
		if err != nil {
			at = nil
		}
		if pl.copy, err = w.inv.WasAt(ctx, pl.host.ID, at, folder.Path); err != nil {
			return nil, err
		}
	}
	if len(folder.Disks) == 0 && folder.Machine == nil {
		return nil, wrong("%s at %s holds neither a descriptor nor a disk image: %s.", pl.path, pl.host.Name, folder.Problem)
	}
	if _, err := uuid.Parse(ref); err == nil && pl.copy != nil { // an id says nothing to people
		facts.Where = path.Join(pl.copy.Pool, path.Base(pl.path))
	}
	d := &drawn{hosts: map[string]uuid.UUID{h.Name: h.ID}}
	if pl.host.ID != h.ID {
		from, err := w.hostFacts(ctx, pl.host)
		if err != nil {
			return nil, err
		}
		facts.From = &from
		d.hosts[pl.host.Name] = pl.host.ID
	}
	m, self := folder.Machine, ""
	if c := pl.copy; c != nil && c.Form == "registered" && folder.Registered && (pl.host.ID != h.ID || req.Files == plan.Copy) { // another copy is made of it
		if req.Files == plan.Move {
			return nil, wrong("%s is registered on %s: delist it there first, then its folder can be moved (unvora delist %s), or copy it.", ref, pl.host.Name, c.Ref())
		}
		if !c.Tracked && folder.State == "running" {
			return nil, wrong("%s runs, and is left alone here: it can't be stopped to read its disks. If it is to be looked after: unvora track %s", c.Ref(), c.Ref())
		}
		facts.Folder.Registered = false
		facts.Parent, facts.Lineage = c.ID.String(), c.LineageID.String()
		d.holds = append(d.holds, inventory.CopyKey(c.ID.String()))
	} else if c != nil && pl.path == path.Clean(pl.path) && path.Base(c.Path) == path.Base(folder.Path) {
		self = c.ID.String()
		facts.Copy, facts.Lineage, facts.Record = self, c.LineageID.String(), c.Machine
		if c.Parent != nil {
			facts.Parent = c.Parent.String()
		}
		if facts.Busy, err = inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(self)); err != nil {
			return nil, err
		}
		d.holds = append(d.holds, inventory.CopyKey(self))
	}
	if m == nil && facts.Record != nil {
		m = facts.Record
	}
	if m == nil {
		m = plan.Around(path.Base(folder.Path), folder.Disks, facts.Host)
	}
	if err := w.arrive(ctx, &facts.Arrival, h, m, self); err != nil {
		return nil, err
	}
	facts.Guest = folder.Guest
	if facts.Parent != "" && facts.Origin.Status == "unknown" { // a stray that was recognised
		c, err := w.inv.CopyByID(ctx, facts.Parent)
		if err != nil {
			return nil, err
		}
		if c != nil {
			k := c.Known()
			facts.Origin = lineage.FindOrigin(m, &k, facts.SameUUID)
		}
	}
	if o := facts.Origin; o.Status == "alive" && o.Copy.State == "running" {
		facts.Newer = o.Copy
	}
	hollow, err := w.inv.HollowLike(ctx, h.ID, m.UUID, m.Name)
	if err != nil {
		return nil, err
	}
	if hollow != nil && hollow.ID.String() != self {
		k := hollow.Known()
		facts.Hollow = &k
	}
	poolID, _ := uuid.Parse(folder.Pool)
	staying := facts.From == nil && (req.Files == "" || req.Files == plan.Stay)
	if !staying {
		poolID = poolFor(facts.Host, req.Pool)
	}
	taken, failed := w.taken(ctx, h, poolID)
	facts.Taken = func(name string) bool {
		if staying && strings.EqualFold(name, path.Base(folder.Path)) || facts.Hollow != nil && strings.EqualFold(name, facts.Hollow.Name) {
			return false // its own folder, and the entry that it takes the place of
		}
		return taken(name)
	}
	bring, err := req.bring()
	if err != nil {
		return nil, err
	}
	p, err := plan.Register(facts, bring)
	if err != nil {
		return nil, wrong("%v", err)
	}
	d.Plan = p
	d.holdPlaces()
	return d, *failed
}

// holdPlaces keeps others from the folders that the plan will make.
func (d *drawn) holdPlaces() {
	for _, s := range d.Steps {
		switch do := s.Do.(type) {
		case *plan.Place:
			d.holds = append(d.holds, inventory.FolderKey(do.PoolID, do.Name))
		case *plan.Alter:
			d.holds = append(d.holds, "path:"+s.Host+":"+do.Folder)
		}
	}
}
