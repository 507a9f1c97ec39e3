package plan

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/landing"
	"unvora.example/unvora/core/machine"
)

// landed says where the files of a machine go: into its folder's pool, but for
// disks that a person or a rule sends elsewhere.
type landed struct {
	pool   PoolFacts
	of     map[string]PoolFacts // disk → another pool
	format map[string]string    // disk → format that was asked for
}

// of a disk, the pool.
func (l *landed) at(disk string) PoolFacts {
	if p, ok := l.of[disk]; ok {
		return p
	}
	return l.pool
}

// aside is the directory of disks that lie in another pool than their folder.
func aside(pool PoolFacts, name string) string { return path.Join(pool.Path, name+"-disks") }

// point points the machine's disk at where it will lie.
func (l *landed) point(d *machine.Disk, name string) {
	if p, ok := l.of[d.ID]; ok {
		d.File = besideOf(l.pool, p, name, d.File)
	}
}

// besideOf is a file aside in a pool, as seen from the machine's folder in another.
func besideOf(folder, pool PoolFacts, name, file string) string {
	rel, _ := filepath.Rel(path.Join(folder.Path, name), path.Join(aside(pool, name), file)) // both are absolute
	return rel
}

// mediaPool is where a medium lands: as a rule says, else beside the disks.
func (b *builder) mediaPool(a Arrival, req BringRequest, l *landed, file string) PoolFacts {
	name, rule, ok := landing.Choose(landing.File{Kind: landing.Media}, a.Host.Name, a.Host.landing(), a.Landing)
	if !ok || rule.Kind != landing.Media || req.Pool != "" {
		return l.pool
	}
	for _, p := range a.Host.Pools {
		if p.Name == name && p.ID != l.pool.ID {
			b.landedBy(file, name, rule)
			return p
		}
	}
	return l.pool
}

// usable tells whether files may land in a pool unasked.
func usable(p PoolFacts) bool { return p.State == PoolReady && !p.Removable && p.Foreign == "" }

// landing is the host's pools as the rules of landing see them.
func (h HostFacts) landing() []landing.Pool {
	pools := make([]landing.Pool, len(h.Pools))
	for i, p := range h.Pools {
		pools[i] = landing.Pool{Name: p.Name, Labels: p.Labels, FreeBytes: p.FreeBytes, Usable: usable(p)}
	}
	return pools
}

// PoolMeant is the host's pool that somebody means by a name, or by a label: the roomiest with that of those that can
// be used. False: there is none.
func (h HostFacts) PoolMeant(ref string) (best PoolFacts, found bool) {
	if at := slices.IndexFunc(h.Pools, func(p PoolFacts) bool { return strings.EqualFold(p.Name, ref) }); at >= 0 {
		return h.Pools[at], true
	}
	for _, p := range h.Pools {
		has := slices.ContainsFunc(p.Labels, func(l string) bool { return strings.EqualFold(l, ref) })
		if has && usable(p) && (!found || p.FreeBytes > best.FreeBytes) {
			best, found = p, true
		}
	}
	return best, found
}

// poolWords lists the host's pools: "reef (fast), kelp".
func (h HostFacts) poolWords() string {
	words := make([]string, len(h.Pools))
	for i, p := range h.Pools {
		words[i] = p.Name
		if len(p.Labels) > 0 {
			words[i] += " (" + strings.Join(p.Labels, ", ") + ")"
		}
	}
	return strings.Join(words, ", ")
}

// land chooses the pools: as asked for, else by the landing rules, else the
// host's first that is ready and stays. It looks at their state and room.
func (b *builder) land(a Arrival, req BringRequest, m *machine.Machine) (*landed, error) {
	h := a.Host
	pools := h.landing()
	var now, capacity int64
	for _, d := range m.Disks {
		now, capacity = now+d.FileBytes, capacity+d.VirtualBytes
	}
	l := &landed{of: map[string]PoolFacts{}, format: map[string]string{}}
	found := false
	if req.Pool != "" {
		if l.pool, found = h.PoolMeant(req.Pool); !found {
			return nil, fmt.Errorf("%s has no pool of the name or label %q; it has %s", h.Name, req.Pool,
				h.poolWords())
		}
	} else if name, rule, ok := landing.Choose(landing.File{Kind: landing.Machine, Bytes: now, Capacity: capacity},
		h.Name, pools, a.Landing); ok {
		l.pool, found = h.PoolMeant(name)
		b.landedBy(m.Name, name, rule)
	} else if at := slices.IndexFunc(h.Pools, usable); at >= 0 {
		l.pool, found = h.Pools[at], true
	}
	if !found {
		return nil, fmt.Errorf("%s has no pool that is ready; it has %s", h.Name, h.poolWords())
	}
	for id := range req.Disks {
		if !slices.ContainsFunc(m.Disks, func(d machine.Disk) bool { return d.ID == id }) {
			return nil, fmt.Errorf("the machine has no disk %q; it has %s", id, diskNames(m))
		}
	}
	for _, d := range m.Disks {
		name, format, _ := strings.Cut(req.Disks[d.ID], ":")
		l.format[d.ID] = format
		to, ok := l.pool, true
		if name != "" {
			if to, ok = h.PoolMeant(name); !ok {
				return nil, fmt.Errorf("%s has no pool of the name or label %q for disk %s; it has %s", h.Name, name,
					d.ID, h.poolWords())
			}
		} else if name, rule, ok := landing.Choose(landing.File{Kind: landing.Disk, Bytes: d.FileBytes,
			Capacity: d.VirtualBytes}, h.Name, pools, a.Landing); ok && rule.Kind == landing.Disk && req.Pool == "" {
			to, _ = h.PoolMeant(name)
			b.landedBy(d.ID, name, rule)
		}
		if to.ID != l.pool.ID {
			l.of[d.ID] = to
		}
	}
	b.rooms(l, h, m)
	return l, nil
}

func (b *builder) landedBy(subject, pool string, rule landing.Rule) {
	b.raise(fit.Raise("place.by-rule", subject, fmt.Sprintf("It lands in the pool %s, by the rule “%s”.", pool,
		rule.Words(fit.Size)), map[string]any{"pool": pool, "rule": rule.ID}), "")
}

// rooms looks at the state and room of each pool that files go to.
func (b *builder) rooms(l *landed, h HostFacts, m *machine.Machine) {
	type need struct{ now, later int64 }
	needs := map[string]*need{l.pool.ID: {}}
	order := []PoolFacts{l.pool}
	for _, d := range m.Disks {
		p := l.at(d.ID)
		if needs[p.ID] == nil {
			needs[p.ID] = &need{}
			order = append(order, p)
		}
		needs[p.ID].now += d.FileBytes
		needs[p.ID].later += d.VirtualBytes
		if p.MaxFile > 0 && d.FileBytes > p.MaxFile {
			b.raise(fit.Raise("space.file-limit", d.ID, fmt.Sprintf("It takes %s; files in the pool %s have %s at "+
				"most. "+
				"Choose another pool: --disk %s=POOL", fit.Size(d.FileBytes), p.Name, fit.Size(p.MaxFile), d.ID), nil),
				"")
		}
	}
	for _, p := range order {
		b.poolState(p, h)
		n := needs[p.ID]
		if n.now > p.FreeBytes {
			b.raise(fit.Raise("space.short", p.Name, fmt.Sprintf("The pool %s has %s free; the disks need %s or "+
				"more. Choose "+
				"another pool, for all or for one disk (--disk ID=POOL), or make room.", p.Name, fit.Size(p.FreeBytes),
				fit.Size(n.now)), map[string]any{"freeBytes": p.FreeBytes, "needBytes": n.now}), "")
		} else if n.later > p.FreeBytes {
			b.raise(fit.Raise("space.short-later", p.Name, fmt.Sprintf("The pool %s has %s free; if the disks fill "+
				"up they "+
				"need %s.", p.Name, fit.Size(p.FreeBytes), fit.Size(n.later)), nil), "")
		}
	}
}

// formatOf is the format that a disk is written in: as asked for, else the
// family's own. ok is false where nothing was asked.
func (l *landed) formatOf(disk string, family fit.Family) (format string, asked bool, err error) {
	if format = l.format[disk]; format == "" {
		return family.Formats[0], false, nil
	}
	if !family.Runs(format) {
		return "", true, fmt.Errorf("hosts of the family %s run no disks of the format %q; they run %s", family.Name,
			format, strings.Join(family.Formats, ", "))
	}
	return format, true, nil
}

// besides lists the disks that lie elsewhere than their folder, to be put there
// when it is placed. file is the name under which each is staged.
func (l *landed) besides(m *machine.Machine, staged map[string]string) (list []Beside) {
	for _, d := range m.Disks {
		if p, ok := l.of[d.ID]; ok && staged[d.ID] != "" {
			list = append(list, Beside{Pool: p.Path, Dir: path.Base(aside(p, m.Name)), File: staged[d.ID]})
		}
	}
	return list
}
