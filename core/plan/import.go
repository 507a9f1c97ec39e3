package plan

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
)

// ImportRequest is what the caller asks of Import.
type ImportRequest struct {
	Name            string
	Pool            string // name; "" for the host's first that is ready
	Identity        string // keep, renew, or "" to be asked
	Facets          map[identity.Facet]string
	Wire            map[string]string // NIC → switch
	CPUs            int               // 0: as in the package
	MemoryBytes     int64             // 0: likewise
	Answers         Answers
	TakeRecommended bool
}

// Import plans the making of a registered copy from a package.
func Import(facts ImportFacts, req ImportRequest) (*Plan, error) {
	b := &builder{answers: req.Answers, recommended: req.TakeRecommended}
	p := &Plan{Operation: "import", Subjects: []string{facts.Where}, Target: facts.Host.Name}
	if facts.Host.State != "up" {
		b.raise(fit.Raise("host.unreachable", facts.Host.Name, fmt.Sprintf("The agent on %s does not answer. Start it, or look at its log; then try again.", facts.Host.Name), nil), "")
	}
	if facts.Problem != nil {
		b.raise(fit.Raise(facts.Problem.Code, facts.Problem.Subject, sentence(facts.Problem.Error()), problemDetail(facts.Problem)), "")
		return b.finish(p)
	}
	pkg := facts.Package
	for _, d := range pkg.Deviations {
		b.raise(fit.Raise(d.Code, d.Subject, d.Message, nil), "")
	}
	if n := len(pkg.Envelope.Machines); n > 1 {
		b.raise(fit.Raise("descriptor.several-machines", pkg.Name, fmt.Sprintf("The package holds %d machines. Only packages with one machine are taken in.", n), nil), "")
		return b.finish(p)
	}
	m := pkg.Envelope.Machines[0].Clone()
	choice, err := b.identity(facts, req, m)
	if err != nil {
		return nil, err
	}
	b.name(facts, req, m)
	b.hardware(facts, req, m)
	if err := b.wiring(facts, req, m); err != nil {
		return nil, err
	}
	pool, err := b.pool(facts, req, m)
	if err != nil {
		return nil, err
	}
	choices := map[string]string{}
	for f, v := range choice {
		choices[string(f)] = v
	}
	p.Steps = []Step{{Kind: KindGiveIDs, What: giveWhat(choice), Do: &GiveIDs{Machine: m, Choice: choices, MACPrefix: facts.Host.MACPrefix}}}
	format := facts.Host.Family.Formats[0]
	for i := range m.Disks {
		d := &m.Disks[i]
		e, ok := pkg.Entry(d.File)
		if !ok {
			continue // package.file-missing was raised, or an empty disk
		}
		file := fmt.Sprintf("%s-%s.%s", m.Name, machine.CleanName(d.ID), format)
		p.Steps = append(p.Steps, Step{
			Kind: KindFetchDisk, Host: facts.Host.Name, Bytes: e.Size,
			What: fmt.Sprintf("Write disk %s (%s) as %s into the pool %s", d.ID, fit.Size(d.VirtualBytes), strings.ToUpper(format), pool.Name),
			Do: &FetchDisk{Source: facts.Source, Disk: d.ID, Entry: e, Digest: pkg.Sums[d.File], Pool: pool.Path, File: file,
				Format: format, VirtualBytes: d.VirtualBytes},
		})
		d.File, d.Format, d.FileBytes = file, format, 0
	}
	folder := path.Join(pool.Path, m.Name)
	p.Steps = append(p.Steps,
		Step{Kind: KindPlace, Host: facts.Host.Name, What: fmt.Sprintf("Put the folder %s into the pool %s and register it on %s", m.Name, pool.Name, facts.Host.Name),
			Do: &Place{Pool: pool.Path, PoolID: pool.ID, Name: m.Name, Descriptor: pkg.Descriptor}},
		Step{Kind: KindRecord, What: "Note the new copy in the inventory",
			Do: &Record{Form: "registered", Name: m.Name, Lineage: facts.Lineage, Parent: facts.Parent, Host: facts.Host.ID, Pool: pool.ID, Path: folder, Choice: choices, Machine: m}})
	return b.finish(p)
}

func sentence(s string) string { return strings.TrimSuffix(s, ".") + "." }

func problemDetail(p *ovf.Problem) map[string]any {
	d := map[string]any{}
	if p.Offset >= 0 {
		d["offset"] = p.Offset
	}
	if p.Line > 0 {
		d["line"] = p.Line
	}
	return d
}

func giveWhat(c identity.Choice) string {
	renewed := c.Renewed()
	if len(renewed) == 0 {
		return "Keep the identity; fill in what is not stated"
	}
	names := map[identity.Facet]string{identity.MachineUUID: "machine UUID", identity.FirmwareUUID: "firmware UUID", identity.MAC: "MACs", identity.DiskID: "disk ids"}
	for i, f := range renewed {
		renewed[i] = names[identity.Facet(f)]
	}
	return "Give out a new " + strings.Join(renewed, ", ")
}

// place names a copy and how it is, for a message.
func place(k lineage.Known) string {
	s := k.Name
	if k.Host != "" {
		s = k.Host + "/" + k.Name
	}
	if k.State != "" && k.State != "unknown" {
		s += " (" + k.State + ")"
	}
	return s
}

func (b *builder) identity(facts ImportFacts, req ImportRequest, m *machine.Machine) (identity.Choice, error) {
	var f fit.Finding
	switch o := facts.Origin; o.Status {
	case "alive":
		f = fit.Raise("identity.origin-alive", m.Name, fmt.Sprintf("It was made from %s, which could run beside it: with the same ids, the two would collide.", place(*o.Copy)),
			map[string]any{"origin": o.Copy.ID, "host": o.Copy.Host, "lastSeen": o.Copy.LastSeen})
	case "gone":
		f = fit.Raise("identity.origin-gone", m.Name, fmt.Sprintf("It was made from %s, which is gone: this copy can take its place.", place(*o.Copy)), map[string]any{"origin": o.Copy.ID})
	default:
		f = fit.Raise("identity.origin-unknown", m.Name, "Nothing is known of where it comes from.", nil)
		if len(facts.SameUUID) > 0 || len(facts.SameMAC) > 0 {
			f.Message += " Some of its ids are in use here."
			f.Recommend("renew")
		} else {
			f.Message += " None of its ids is in use here."
		}
	}
	f = b.raise(f, req.Identity)
	all := f.Remedy()
	if all == "" {
		all = identity.Renew // until it is answered, show what renewing would mean
	}
	choice, err := identity.Choose(all, req.Facets)
	if err != nil {
		return nil, err
	}
	answered := f.Answer != ""
	preset := func(facet identity.Facet) string {
		if answered && choice[facet] == identity.Renew || req.Facets[facet] != "" {
			return choice[facet]
		}
		return ""
	}
	if len(facts.SameUUID) > 0 && choice[identity.MachineUUID] == identity.Keep {
		u := b.raise(fit.Raise("identity.uuid-in-use", m.Name, fmt.Sprintf("Its machine UUID is that of %s.", place(facts.SameUUID[0])), map[string]any{"uuid": m.UUID}), preset(identity.MachineUUID))
		if u.Remedy() == "renew" {
			choice[identity.MachineUUID], choice[identity.FirmwareUUID] = identity.Renew, identity.Renew
		}
	}
	for _, n := range m.NICs {
		var g fit.Finding
		if holders := facts.SameMAC[n.MAC]; len(holders) > 0 {
			names := make([]string, len(holders))
			for i, h := range holders {
				names[i] = place(h)
			}
			g = fit.Raise("mac.in-use", n.Name, fmt.Sprintf("Its MAC %s belongs to %s.", n.MAC, strings.Join(names, " and ")), map[string]any{"mac": n.MAC})
		} else if n.MAC != "" && machine.CheckMAC(n.MAC) != nil {
			g = fit.Raise("mac.invalid", n.Name, sentence(machine.CheckMAC(n.MAC).Error()), map[string]any{"mac": n.MAC})
		} else {
			continue
		}
		if g = b.raise(g, preset(identity.MAC)); g.Remedy() != "" {
			choice[identity.MAC] = g.Remedy()
		}
	}
	return choice, nil
}

func (b *builder) name(facts ImportFacts, req ImportRequest, m *machine.Machine) {
	if req.Name != "" {
		m.Name = req.Name
	}
	if err := machine.CheckName(m.Name); err != nil {
		f := fit.Raise("name.unfit", m.Name, sentence(err.Error()), nil)
		f.Suggest("rename", "Call it "+machine.CleanName(m.Name), machine.CleanName(m.Name))
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
		} else {
			m.Name = machine.CleanName(m.Name)
		}
	}
	if facts.Taken(m.Name) {
		free := freeName(m.Name, facts.Taken)
		f := fit.Raise("name.taken", m.Name, fmt.Sprintf("%s has a machine or a folder of that name.", facts.Host.Name), nil)
		f.Suggest("rename", "Call it "+free, free)
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
			switch {
			case machine.CheckName(m.Name) != nil:
				b.err = fmt.Errorf("name.taken: %w", machine.CheckName(m.Name))
			case facts.Taken(m.Name):
				b.err = fmt.Errorf("name.taken: %s is taken too", m.Name)
			}
		}
	}
}

func (b *builder) hardware(facts ImportFacts, req ImportRequest, m *machine.Machine) {
	if req.CPUs > 0 {
		m.CPUs = req.CPUs
	}
	if req.MemoryBytes > 0 {
		m.MemoryBytes = req.MemoryBytes
	}
	h := facts.Host
	for _, f := range fit.Judge(m, fit.Host{Name: h.Name, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes, Family: h.Family}) {
		f = b.raise(f, "")
		number, err := strconv.ParseInt(f.Value(), 10, 64)
		switch {
		case f.Code == "cpu.too-many" && f.Remedy() == "reduce" && err == nil:
			m.CPUs = int(number)
		case f.Code == "memory.too-much" && f.Remedy() == "reduce" && err == nil:
			m.MemoryBytes = number
		case f.Remedy() == "reduce":
			b.err = fmt.Errorf("%s: %q is not a number", f.Code, f.Value())
		case f.Code == "nic.model" && f.Remedy() == "replace":
			for i := range m.NICs {
				if m.NICs[i].Name == f.Subject {
					m.NICs[i].Model = f.Value()
				}
			}
		}
	}
}

func (b *builder) wiring(facts ImportFacts, req ImportRequest, m *machine.Machine) error {
	known := func(name string) *wiring.Switch {
		for i, s := range facts.Host.Switches {
			if s.Name == name {
				return &facts.Host.Switches[i]
			}
		}
		return nil
	}
	names := make([]string, len(facts.Host.Switches))
	for i, s := range facts.Host.Switches {
		names[i] = s.Name
	}
	for nic := range req.Wire {
		if !hasNIC(m, nic) {
			return fmt.Errorf("the machine has no NIC %q; it has %s", nic, nicNames(m))
		}
	}
	for i := range m.NICs {
		n := &m.NICs[i]
		match := wiring.Find(*n, facts.Host.Switches)
		to := req.Wire[n.Name]
		switch {
		case to != "":
		case match.Switch == "":
			f := fit.Raise("network.unmapped", n.Name, fmt.Sprintf("No switch of %s reaches the network %s.", facts.Host.Name, orNone(n.Network)), map[string]any{"network": n.Network, "switches": names})
			f.Recommend("unplugged")
			for _, s := range facts.Host.Switches {
				if s.Segment == wiring.Quarantine { // nothing is lost there, and nothing gets out
					f.Recommend("quarantine")
				}
			}
			f = b.raise(f, "")
			to = b.wired(f, facts.Host.Switches)
		case len(match.Likely) > 0:
			f := fit.Raise("network.ambiguous", n.Name, fmt.Sprintf("Several switches of %s fit the network %s %s.", facts.Host.Name, n.Network, match.Why), map[string]any{"network": n.Network, "switches": names})
			f.Suggest("switch", "Connect it to "+match.Switch, match.Switch)
			f.Recommend("switch")
			f = b.raise(f, "")
			to = b.wired(f, facts.Host.Switches)
		default:
			to = match.Switch
			b.raise(fit.Raise("network.mapped", n.Name, fmt.Sprintf("The network %s becomes the switch %s, %s.", orNone(n.Network), to, match.Why), map[string]any{"network": n.Network, "switch": to}), "")
		}
		n.Network, n.Segment, n.VLAN = "", "", 0
		if to == "" {
			continue
		}
		s := known(to)
		if s == nil {
			return fmt.Errorf("%s has no switch %q; it has %s", facts.Host.Name, to, strings.Join(names, ", "))
		}
		n.Network, n.Segment, n.VLAN = s.Name, s.Segment, s.VLAN
	}
	return nil
}

// wired is the switch that an answer leads to; "" is unplugged or undecided.
func (b *builder) wired(f fit.Finding, switches []wiring.Switch) string {
	switch f.Remedy() {
	case "switch":
		return f.Value()
	case "quarantine":
		for _, s := range switches {
			if s.Segment == wiring.Quarantine {
				return s.Name
			}
		}
		b.err = fmt.Errorf("%s: the host has no switch into quarantine", f.Code)
	}
	return ""
}

func orNone(s string) string {
	if s == "" {
		return "(none stated)"
	}
	return s
}

func hasNIC(m *machine.Machine, name string) bool {
	for _, n := range m.NICs {
		if n.Name == name {
			return true
		}
	}
	return false
}

func nicNames(m *machine.Machine) string {
	names := make([]string, len(m.NICs))
	for i, n := range m.NICs {
		names[i] = fmt.Sprintf("%q", n.Name)
	}
	return strings.Join(names, ", ")
}

// pool picks the pool asked for, or the first one that is ready and stays.
func (b *builder) pool(facts ImportFacts, req ImportRequest, m *machine.Machine) (PoolFacts, error) {
	var pool *PoolFacts
	var names []string
	for i, p := range facts.Host.Pools {
		names = append(names, p.Name)
		if req.Pool == p.Name || req.Pool == "" && pool == nil && p.State == "ready" && !p.Removable {
			pool = &facts.Host.Pools[i]
		}
	}
	if pool == nil {
		if req.Pool == "" {
			return PoolFacts{}, fmt.Errorf("%s has no pool that is ready; it has %s", facts.Host.Name, strings.Join(names, ", "))
		}
		return PoolFacts{}, fmt.Errorf("%s has no pool %q; it has %s", facts.Host.Name, req.Pool, strings.Join(names, ", "))
	}
	if pool.State != "ready" {
		b.raise(fit.Raise("pool.away", pool.Name, fmt.Sprintf("The pool %s of %s is %s now. Bring it back, or choose another pool.", pool.Name, facts.Host.Name, pool.State), nil), "")
	}
	var now, later int64
	for _, d := range m.Disks {
		now += d.FileBytes
		later += d.VirtualBytes
	}
	if now > pool.FreeBytes {
		b.raise(fit.Raise("space.short", pool.Name, fmt.Sprintf("The pool %s has %s free; the disks need %s or more. Choose another pool, or make room.", pool.Name, fit.Size(pool.FreeBytes), fit.Size(now)), map[string]any{"freeBytes": pool.FreeBytes, "needBytes": now}), "")
	} else if later > pool.FreeBytes {
		b.raise(fit.Raise("space.short-later", pool.Name, fmt.Sprintf("The pool %s has %s free; if the disks fill up they need %s.", pool.Name, fit.Size(pool.FreeBytes), fit.Size(later)), nil), "")
	}
	return *pool, nil
}
