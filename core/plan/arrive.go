package plan

import (
	"fmt"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// What every operation that makes a registered copy works out in the same way:
// identity, name, hardware, wiring and place.

func giveWhat(c identity.Choice) string {
	renewed := c.Renewed()
	if len(renewed) == 0 {
		return "Keep the identity; fill in what is not stated"
	}
	for i, f := range renewed {
		renewed[i] = identity.Facet(f).Words()
	}
	return "Give out a new " + strings.Join(renewed, ", ")
}

// place names a copy and how it is, for a message.
func place(k lineage.Known) string {
	s := k.Name
	if k.Host != "" {
		s = k.Host + "/" + k.Name
	}
	if k.State != "" && k.State != machine.Unknown {
		s += " (" + string(k.State) + ")"
	}
	return s
}

func (b *builder) identity(facts Arrival, req BringRequest, m *machine.Machine) (identity.Choice, error) {
	b.before = m.Clone()
	all, answered := identity.Keep, true
	if !facts.Moves {
		all, answered = b.origin(facts, req, m)
	}
	choice, err := identity.Choose(all, req.Facets)
	if err != nil {
		return nil, err
	}
	if all == identity.Renew { // another machine, of which nobody has said so
		m.StartOrder, m.StartPause = 0, 0
	}
	told := b.bound(facts, req, m, choice)
	preset := func(facet identity.Facet) string {
		if answered && choice[facet] == identity.Renew || req.Facets[facet] != "" || facts.Was != nil {
			return choice[facet]
		}
		return ""
	}
	// One that moves stays what it is, and has its twins where it comes from too: attention tells them.
	if len(facts.SameUUID) > 0 && choice[identity.MachineUUID] == identity.Keep && !facts.Moves {
		u := fit.Raise("identity.uuid-in-use", m.Name,
			fmt.Sprintf("Its machine UUID is that of %s.", place(facts.SameUUID[0])), map[string]any{"uuid": m.UUID})
		if b.saidKeep(req, m) {
			u.Recommend("")
		}
		if u = b.raise(u, preset(identity.MachineUUID)); u.Remedy() == "renew" {
			choice[identity.MachineUUID], choice[identity.FirmwareUUID] = identity.Renew, identity.Renew
		}
	}
	for _, n := range m.NICs {
		var g fit.Finding
		if holders := facts.SameMAC[n.MAC]; len(holders) > 0 && !facts.Moves {
			names := make([]string, len(holders))
			for i, h := range holders {
				names[i] = place(h)
			}
			g = fit.Raise("mac.in-use", n.Name, fmt.Sprintf("Its MAC %s belongs to %s.", n.MAC, listed(names)),
				map[string]any{"mac": n.MAC})
		} else if n.MAC != "" && machine.CheckMAC(n.MAC) != nil {
			g = fit.Raise("mac.invalid", n.Name, sentence(machine.CheckMAC(n.MAC).Error()),
				map[string]any{"mac": n.MAC})
		} else {
			continue
		}
		kept := facts.Bound[identity.MAC]
		if kept != "" && told[identity.MAC] {
			continue // it was asked already
		}
		if kept != "" {
			g.Message += fmt.Sprintf(" A %s is bound to it.", kept)
		}
		switch {
		case kept != "":
			g.Prefer(identity.Keep)
		case g.Code == "mac.in-use" && b.saidKeep(req, m):
			g.Recommend("") // it is asked: neither is meant for sure
		}
		if g = b.raise(g, preset(identity.MAC)); g.Remedy() != "" {
			choice[identity.MAC] = g.Remedy()
		}
	}
	renamed := req.FirstStart != nil && req.FirstStart.HostName != ""
	if g := facts.Guest; g != nil && g.Name != "" && !facts.Moves && !(renamed && g.Initialiser != "") {
		b.raise(fit.Raise("identity.guest-inside", m.Name, fmt.Sprintf("Inside, the guest goes on calling itself %s, "+
			"with "+
			"the machine-id and host keys that it has.", g.Name), map[string]any{"name": g.Name}), "")
	}
	return choice, nil
}

// saidKeep tells whether somebody has said that the identity is kept: what collides then is not renewed unasked.
func (b *builder) saidKeep(req BringRequest, m *machine.Machine) bool {
	if req.Identity == identity.Keep {
		return true
	}
	for _, f := range b.findings {
		if strings.HasPrefix(f.Code, "identity.origin-") && f.Subject == b.shown(m.Name) &&
			b.answers.to(f, m.Name) == identity.Keep {
			return true
		}
	}
	return false
}

// origin asks whether a machine keeps the identity of what it was made from. Until that is answered, it shows what
// renewing would mean.
func (b *builder) origin(facts Arrival, req BringRequest, m *machine.Machine) (choice string, answered bool) {
	if w := facts.Was; w != nil && req.Identity == "" {
		b.raise(fit.Raise("identity.same-copy", m.Name, fmt.Sprintf("It is the copy that %s listed until %s took it "+
			"off the list, %s. It stays that copy, with its ids.", w.Host, w.By, ago(w.SecondsAgo)), nil), "")
		return identity.Keep, true
	}
	var f fit.Finding
	switch o := facts.Origin; o.Status {
	case "alive":
		f = fit.Raise("identity.origin-alive", m.Name, fmt.Sprintf("It was made from %s, which could run beside it: "+
			"with "+
			"the same ids, the two would collide.", place(*o.Copy)),
			map[string]any{"origin": o.Copy.ID, "host": o.Copy.Host, "lastSeen": o.Copy.LastSeen})
	case "gone":
		f = fit.Raise("identity.origin-gone", m.Name, fmt.Sprintf("It was made from %s, which is gone: this copy can "+
			"take "+
			"its place.", place(*o.Copy)), map[string]any{"origin": o.Copy.ID})
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
	if f.Remedy() == "" {
		return identity.Renew, f.Answer != ""
	}
	return f.Remedy(), f.Answer != ""
}

// bound keeps facets to which a licence, a reservation or a TPM is bound, and
// tells about which of them it asked.
func (b *builder) bound(facts Arrival, req BringRequest, m *machine.Machine,
	choice identity.Choice) map[identity.Facet]bool {
	told := map[identity.Facet]bool{}
	for _, facet := range identity.Facets {
		kind := facts.Bound[facet]
		if kind == "" || choice[facet] != identity.Renew || b.stays && facts.heldElsewhere(facet, m) {
			continue
		}
		code, what := "identity.activation", facet.Words()
		if facet == identity.MAC {
			code = "mac.licence-bound"
		}
		f := fit.Raise(code, m.Name, fmt.Sprintf("A %s is bound to its %s, which would be renewed.", kind, what),
			map[string]any{"facet": string(facet), "bound": kind})
		if o := facts.Origin; o.Status == "alive" && facet != identity.TPM {
			f.Message += fmt.Sprintf(" Kept, the two can't both run, until %s is given its own: %s.", place(*o.Copy),
				commandLine("renew", o.Copy.Host+"/"+o.Copy.Name, "--facet", string(facet)))
		}
		told[facet] = true
		choice[facet] = identity.Keep
		if f = b.raise(f, req.Facets[facet]); f.Remedy() != "" {
			choice[facet] = f.Remedy()
		}
	}
	return told
}

// heldElsewhere tells whether another copy of the lineage has a facet too: what is bound to it goes on with that one.
func (a *Arrival) heldElsewhere(facet identity.Facet, m *machine.Machine) bool {
	held := func(by []lineage.Known) bool {
		return slices.ContainsFunc(by, func(k lineage.Known) bool { return k.Lineage == a.Lineage })
	}
	switch facet {
	case identity.MachineUUID:
		return held(a.SameUUID)
	case identity.MAC:
		alone := func(n machine.NIC) bool { return !held(a.SameMAC[n.MAC]) }
		return len(m.NICs) > 0 && !slices.ContainsFunc(m.NICs, alone)
	}
	return false
}

func (b *builder) name(facts Arrival, req BringRequest, m *machine.Machine) {
	if req.Name != "" {
		m.Name = req.Name
	} else if slices.Contains(m.Snapshots, m.Name) && facts.Called != "" && facts.Called != m.Name {
		f := fit.Raise("name.from-snapshot", m.Name, fmt.Sprintf("It bears the name of a snapshot that it was made "+
			"from; "+
			"the machine is called %s.", facts.Called), nil)
		f.Suggest("rename", "Call it "+facts.Called, facts.Called)
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
		}
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
	if facts.taken(m.Name) {
		free := freeName(m.Name, facts.taken)
		f := fit.Raise("name.taken", m.Name, fmt.Sprintf("%s has a machine or a folder of that name.", facts.Host.Name),
			nil)
		f.Suggest("rename", "Call it "+free, free)
		if f = b.raise(f, ""); f.Remedy() == "rename" {
			m.Name = f.Value()
			switch {
			case machine.CheckName(m.Name) != nil:
				b.err = fmt.Errorf("name.taken: %w", machine.CheckName(m.Name))
			case facts.taken(m.Name):
				b.err = fmt.Errorf("name.taken: %s is taken too", m.Name)
			}
		}
	}
}

func (b *builder) hardware(facts Arrival, req BringRequest, m *machine.Machine) {
	if req.CPUs > 0 {
		m.CPUs = req.CPUs
	}
	if req.MemoryBytes > 0 {
		m.MemoryBytes = req.MemoryBytes
	}
	b.judge(facts.Host, facts.Guest, m)
}

// judge goes through the rules of hardware, settling each before the next.
func (b *builder) judge(h HostFacts, g *fit.Guest, m *machine.Machine) {
	for _, r := range fit.Rules {
		for _, f := range r.Look(m, h.fit(), g) {
			f = b.raise(f, "")
			if r.Settle == nil || f.Remedy() == "" {
				continue
			}
			if err := r.Settle(m, f); err != nil && b.err == nil {
				b.err = err
			}
		}
	}
}

// owner decides whose the machine is, and whether there is room for it in that
// one's share of the host.
func (b *builder) owner(facts Arrival, req BringRequest, m *machine.Machine) string {
	owner := req.Owner
	if h := facts.Host; owner == "" && len(h.Owners) > 0 {
		f := fit.Raise("owner.none", m.Name, fmt.Sprintf("On %s a machine must be somebody's: %s.", h.Name,
			strings.Join(h.Owners, ", ")), map[string]any{"owners": h.Owners})
		f.Suggest("caller", "Make it "+facts.Caller+"'s", facts.Caller)
		if f = b.raise(f, ""); f.Remedy() != "" {
			owner = f.Value()
		}
	}
	for range facts.Host.Quotas { // another one's share may be used up too
		q := slices.IndexFunc(facts.Host.Quotas, func(q fit.Quota) bool { return q.Owner == owner })
		if q < 0 {
			break
		}
		share, used := facts.Host.Quotas[q], facts.Usage[owner]
		var says string
		switch {
		case share.Machines > 0 && used.Machines+1 > share.Machines:
			says = fmt.Sprintf("%s may have %s on %s and has %d.", owner, count(share.Machines, "machine"),
				facts.Host.Name, used.Machines)
		case share.MemoryBytes > 0 && used.MemoryBytes+m.MemoryBytes > share.MemoryBytes:
			says = fmt.Sprintf("The machines of %s may have %s of memory on %s; they have %s, and this one wants %s.",
				owner,
				fit.Size(share.MemoryBytes), facts.Host.Name, fit.Size(used.MemoryBytes), fit.Size(m.MemoryBytes))
		default:
			return owner
		}
		f := b.raise(fit.Raise("quota.exceeded", owner, says, nil), "")
		if f.Remedy() != "owner" {
			break
		}
		owner = f.Value()
	}
	return owner
}

// host raises what keeps a host from taking something new.
func (b *builder) host(h HostFacts) {
	if h.State == HostResting {
		b.raise(fit.Raise("host.resting", h.Name, fmt.Sprintf("%s is set to rest and takes nothing new. Choose "+
			"another "+
			"host, or wake it: unvora host wake %s", h.Name, h.Name), nil), "")
	}
	b.reach(h)
}

// busy raises that a job is at work on the subject; "" for none.
func (b *builder) busy(subject, job string) {
	if job != "" {
		b.raise(fit.Raise("busy.job", subject, fmt.Sprintf("The job %s is at work on it. Wait for it, or cancel it: "+
			"unvora "+
			"jobs cancel %s", job, job), map[string]any{"job": job}), "")
	}
}

// reach raises what keeps a host from working on what it has.
func (b *builder) reach(h HostFacts) {
	if h.State == HostUnreachable {
		b.raise(fit.Raise("host.unreachable", h.Name, fmt.Sprintf("The agent on %s does not answer. Start it, or "+
			"look at "+
			"its log; then try again.", h.Name), nil), "")
	}
	b.older(h.Name, h.Protocol, h.WantsProtocol)
	if h.ClockOff > 60 || h.ClockOff < -60 {
		b.raise(fit.Raise("host.clock", h.Name, fmt.Sprintf("The clock of %s is off by %d s.", h.Name, h.ClockOff),
			map[string]any{"seconds": h.ClockOff}), "")
	}
}

// pathLength raises paths that the host can't take.
func (b *builder) pathLength(folder string, m *machine.Machine, h HostFacts) {
	longest := len(folder) + len("/") + len(m.Name) + len(".ovf")
	for _, d := range m.Disks {
		longest = max(longest, len(folder)+len("/")+len(d.File))
	}
	if most := h.Family.MaxPath; most > 0 && longest > most {
		b.raise(fit.Raise("path.too-long", m.Name, fmt.Sprintf("Its longest path would have %d bytes; hosts of the "+
			"family "+
			"%s take %d. Give it a shorter name: --name", longest, h.Family.Name, most), nil), "")
	}
}

// media decides what lies in removable drives: there tells whether a file is here.
func (b *builder) media(m *machine.Machine, there func(file string) bool) {
	for i := range m.Devices {
		d := &m.Devices[i]
		if d.File == "" || d.Kind != machine.DeviceCD && d.Kind != machine.DeviceFloppy || there(d.File) {
			continue
		}
		f := b.raise(fit.Raise("disk.leftover-reference", d.Name,
			fmt.Sprintf("%s lies in it, and is not here.", d.File),
			map[string]any{"file": d.File}), "")
		switch f.Remedy() {
		case "eject":
			d.File = ""
		case "file":
			d.File = f.Value()
		}
	}
}

// poolState raises what keeps a pool from being written to.
func (b *builder) poolState(p PoolFacts, h HostFacts) {
	another := "Choose another pool."
	switch {
	case p.State == PoolAway:
		b.raise(fit.Raise("pool.away", p.Name, fmt.Sprintf("The pool %s of %s is away now. Bring it back, or choose "+
			"another pool.", p.Name, h.Name), nil), "")
	case p.State == PoolResting:
		b.raise(fit.Raise("pool.resting", p.Name, fmt.Sprintf("The pool %s is set to rest and takes nothing new. %s",
			p.Name, another), nil), "")
	case p.State == PoolFree:
		b.raise(fit.Raise("pool.handed-over", p.Name, fmt.Sprintf("The pool %s was handed over, and is nobody's. "+
			"unvora pool take-over %s makes it ours. %s", p.Name, p.Name, another), nil), "")
	case p.Owner != "":
		b.raise(fit.Raise("pool.foreign", p.Name, fmt.Sprintf("The pool %s belongs to the Unvora of %s. Once that has "+
			"handed it over, or is gone: unvora pool take-over %s. %s", p.Name, p.Owner, p.Name, another), nil), "")
	case p.State == PoolReadOnly:
		b.raise(fit.Raise("pool.read-only", p.Name, fmt.Sprintf("The pool %s of %s can't be written. %s", p.Name,
			h.Name, another), nil), "")
	}
	if p.Foreign != "" {
		b.raise(fit.Raise("pool.foreign", p.Name, fmt.Sprintf("The pool %s belongs to the manager %s. %s", p.Name,
			p.Foreign, another), nil), "")
	}
	if p.Ownerless {
		b.raise(fit.Raise("pool.ownerless", p.Name, fmt.Sprintf("The file system of the pool %s keeps no owners of "+
			"files: "+
			"whoever reaches the drive reads the disks.", p.Name), nil), "")
	}
	if p.Slow != "" {
		b.raise(fit.Raise("pool.slow", p.Name, fmt.Sprintf("Machines run slowly from the pool %s: %s.", p.Name, p.Slow),
			nil),
			"")
	}
}

// older raises that an agent would misunderstand what it is asked.
func (b *builder) older(host string, protocol, wants int) {
	if wants > 0 && protocol < wants {
		b.raise(fit.Raise("host.older", host, fmt.Sprintf("The agent on %s speaks protocol %d, the service %d. "+
			"Update it.", host, protocol, wants), nil), "")
	}
}
