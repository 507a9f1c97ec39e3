package plan

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// BringRequest is what the caller asks of an operation that makes a registered
// copy.
type BringRequest struct {
	Files           string // stay, copy or move; "" as is recommended
	Name            string
	Pool            string // name; "" for the host's first that is ready
	Identity        string // keep, renew, or "" to be asked
	Facets          map[identity.Facet]string
	Wire            map[string]string // NIC → switch
	Disks           map[string]string // disk → POOL, POOL:FORMAT or :FORMAT
	Addresses       map[string]string // NIC → "give" for one of its segment's range, or an address
	Owner           string
	CPUs            int               // 0: as it is
	MemoryBytes     int64             // 0: likewise
	FirstStart      *firststart.Data  // what it is told when it starts for the first time; nil for nothing
	filled          *firststart.Data  // the same, filled in for the machine
	Properties      map[string]string // of a package's products → value
	Number          int               // of the machine among those that are made together, from 1; 0 for a single one
	CutOver         *Await            // of a move: when it cuts over; nil for as soon as it can
	Answers         Answers
	TakeRecommended bool
}

// Import plans the making of a registered copy from a package.
func Import(facts ImportFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	p := &Plan{Operation: "import", Subjects: []string{facts.Where}, Target: facts.Host.Name}
	b.host(facts.Host)
	if facts.Problem != nil {
		b.raise(fit.Raise(facts.Problem.Code, facts.Problem.Subject, sentence(facts.Problem.Error()),
			problemDetail(facts.Problem)), "")
		return b.finish(p)
	}
	pkg := facts.Package
	b.of = ""                     // what is found about the package is told once
	accepted := map[string]bool{} // files whose digest is not compared
	left := map[string]bool{}     // files whose disks are left out
	values := maps.Clone(req.Properties)
	if values == nil {
		values = map[string]string{}
	}
	for _, d := range pkg.Deviations {
		if _, said := values[d.Subject]; said && d.Code == propertyMissing {
			continue
		}
		f := fit.Raise(d.Code, d.Subject, d.Message, nil)
		if d.Code == "descriptor.deployment-options" {
			f.Suggest("pick", "Take "+d.Subject, d.Subject)
		}
		f = b.raise(f, "")
		switch f.Remedy() {
		case "value":
			values[d.Subject] = f.Value()
		case "pick":
			if err := pkg.Envelope.Choose(f.Value()); err != nil {
				return nil, fmt.Errorf("%s: %w", f.Code, err)
			}
		case "accept":
			accepted[d.Subject] = true
		case "leave-out":
			left[d.Subject] = true
		}
	}
	b.of = facts.Of
	m := pkg.Envelope.Machines[facts.Machine].Clone()
	env, set, err := told(facts, values)
	if err != nil {
		return nil, err
	}
	m.Properties = append(m.Properties, set...)
	choice, err := b.identity(facts.Arrival, req, m)
	if err != nil {
		return nil, err
	}
	b.name(facts.Arrival, req, m)
	if err := req.fillFirstStart(m); err != nil {
		return nil, err
	}
	m.Disks = slices.DeleteFunc(m.Disks, func(d machine.Disk) bool { return left[d.File] })
	b.hardware(facts.Arrival, req, m)
	dropFirstStart(m)
	b.media(m, func(file string) bool { return false }) // media don't travel in packages yet
	if err := b.wiring(facts.Arrival, req, m); err != nil {
		return nil, err
	}
	if err := b.firstStart(facts.Arrival, req, m, env); err != nil {
		return nil, err
	}
	b.who = b.owner(facts.Arrival, req, m)
	to, err := b.land(facts.Arrival, req, m)
	if err != nil {
		return nil, err
	}
	choices := asText(choice)
	p.Steps = append(b.switchSteps(facts.Host), b.giveStep(facts.Arrival, m, choice))
	staged := map[string]string{}
	for i := range m.Disks {
		d := &m.Disks[i]
		e, ok := pkg.Entry(d.File)
		if !ok {
			continue // package.file-missing was raised, or an empty disk
		}
		format, _, err := to.formatOf(d.ID, facts.Host.Family)
		if err != nil {
			return nil, err
		}
		pool := to.at(d.ID)
		if d.VirtualBytes > facts.Host.Family.MaxDisk {
			b.raise(tooLarge(d.ID, d.VirtualBytes, facts.Host), "")
		}
		var sum ovf.Digest
		if !accepted[d.File] {
			sum = pkg.Sums[d.File]
		}
		file := diskFile(m.Name, d.ID, format)
		p.Steps = append(p.Steps, Step{
			Host: facts.Host.Name, Bytes: e.Size,
			What: fmt.Sprintf("Write disk %s (%s) as %s into the pool %s", d.ID, fit.Size(d.VirtualBytes),
				strings.ToUpper(format), pool.Name),
			Do: &FetchDisk{Source: facts.Source, Disk: d.ID, Entry: e, Digest: sum, Pool: pool.Path, File: file,
				Format: format, VirtualBytes: d.VirtualBytes, Raw: d.Format == "raw"},
		})
		d.File, d.Format, d.FileBytes = file, format, 0
		staged[d.ID] = file
		to.point(d, m.Name)
	}
	p.Steps = append(p.Steps, b.placing(facts.Arrival, to, staged, m, pkg.Descriptor, facts.Machine, choices)...)
	return b.finish(p)
}

// ImportAll plans the import of a package that may hold several machines. There are facts for each of them, in the
// package's order; of a package that can't be read, for one.
func ImportAll(facts []ImportFacts, req BringRequest) (*Plan, error) {
	first := facts[0]
	if len(facts) == 1 {
		return Import(first, req)
	}
	names := []string{}
	for _, m := range first.Package.Envelope.Machines {
		names = append(names, m.Name)
	}
	b := newBuilder(req.Answers, req.TakeRecommended)
	f := fit.Raise("descriptor.several-machines", first.Package.Name,
		fmt.Sprintf("The package holds %d machines: %s.", len(names), strings.Join(names, ", ")),
		map[string]any{"machines": names})
	f.Suggest("all", fmt.Sprintf("Bring in all %d", len(names)), "")
	f = b.raise(f, "")
	picked := names
	if f.Remedy() == "some" {
		picked = strings.Split(f.Value(), ",")
	}
	head, err := b.finish(&Plan{Operation: "import", Subjects: []string{first.Where}, Target: first.Host.Name})
	if err != nil {
		return nil, err
	}
	plans := []*Plan{head}
	for n, name := range picked {
		at := slices.Index(names, strings.TrimSpace(name))
		if at < 0 {
			return nil, fmt.Errorf("descriptor.several-machines: there is no machine %q in it; there are %s", name,
				strings.Join(names, ", "))
		}
		one := req
		one.Number = n + 1
		if req.Name != "" {
			if one.Name = Pattern(req.Name, names[at], n+1); one.Name == req.Name && len(picked) > 1 {
				return nil, fmt.Errorf("one name for %d machines: put {name}, {n} or {nn} into it, such as %s-{nn}",
					len(picked),
					req.Name)
			}
		}
		of := facts[at]
		of.Of = names[at]
		p, err := Import(of, one)
		if err != nil {
			return nil, err
		}
		for i := range p.Changes {
			p.Changes[i].Of = names[at]
		}
		plans = append(plans, p)
	}
	return Together(plans), nil
}

// Pattern fills a pattern of names in: {name}, {n} and {nn} for the number.
func Pattern(pattern, name string, n int) string {
	return strings.NewReplacer("{name}", name, "{nn}", fmt.Sprintf("%02d", n), "{n}", fmt.Sprint(n)).Replace(pattern)
}

// diskFile is the name of a disk's file in the folder of a machine.
func diskFile(name, disk, format string) string {
	return fmt.Sprintf("%s-%s.%s", name, machine.CleanName(disk), format)
}

func tooLarge(disk string, bytes int64, h HostFacts) fit.Finding {
	return fit.Raise("disk.size-over", disk, fmt.Sprintf("It has %s; disks of hosts of the family %s have %s at most.",
		fit.Size(bytes), h.Family.Name, fit.Size(h.Family.MaxDisk)), nil)
}

func asText(c identity.Choice) map[string]string {
	text := map[string]string{}
	for f, v := range c {
		text[string(f)] = v
	}
	return text
}

// giveStep gives the machine its identity, and addresses.
func (b *builder) giveStep(a Arrival, m *machine.Machine, choice identity.Choice) Step {
	return Step{What: giveWhat(choice), Do: &GiveIDs{Machine: m, Choice: asText(choice), MACPrefix: a.Host.MACPrefix,
		Addresses: b.give}}
}

// placing is the end of an operation whose disks lie staged in pools.
func (b *builder) placing(a Arrival, to *landed, staged map[string]string, m *machine.Machine, descriptor string,
	number int, choices map[string]string) []Step {
	pool := to.pool
	folder := path.Join(pool.Path, m.Name)
	b.pathLength(folder, m, a.Host)
	with := ""
	if b.first != nil {
		with = ", with what it is told at its first start,"
	}
	return []Step{
		{Host: a.Host.Name, What: fmt.Sprintf("Put the folder %s%s into the pool %s and register it on %s", m.Name,
			with, pool.Name, a.Host.Name),
			Do: &Place{Pool: pool.Path, PoolID: pool.ID, Name: m.Name, Descriptor: descriptor, Machine: number,
				Besides: to.besides(m, staged), FirstStart: b.first}},
		{What: "Note the new copy in the inventory",
			Do: &Record{Form: lineage.Registered, Name: m.Name, Lineage: a.Lineage, Parent: a.Parent, Host: a.Host.ID,
				Pool: pool.ID,
				Path: folder, Choice: choices, Machine: m, Owner: b.who}},
	}
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
