package plan

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
)

// Gather plans the making of a machine around bare disks, where they lie or
// copied. facts.Folder lists the disks; it has no machine.
func Gather(facts RegisterFacts, req BringRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	b.noLayers = true
	p := &Plan{Operation: "import", Subjects: []string{facts.Where}, Target: facts.Host.Name}
	b.host(facts.Host)
	if req.Files == Move {
		return nil, fmt.Errorf("bare disks stay or are copied; to move them, import a copy and put the old ones away")
	}
	files, err := b.files(facts, req)
	if err != nil {
		return nil, err
	}
	name := req.Name
	if name == "" {
		name = facts.Folder.Disks[0].ID
	}
	m := Around(name, facts.Folder.Disks, facts.Host)
	b.startsFrom(m, facts.Folder.Disks)
	choice, err := identity.Choose(identity.Renew, nil)
	if err != nil {
		return nil, err
	}
	if files == Stay {
		choice[identity.DiskID] = identity.Keep // they are the disks that they were
	}
	b.name(facts.Arrival, BringRequest{Name: m.Name}, m)
	if err := req.fillFirstStart(m); err != nil {
		return nil, err
	}
	handled := b.disks(m, facts.Folder, facts.Host, files == Stay)
	b.hardware(facts.Arrival, req, m)
	if err := b.wiring(facts.Arrival, req, m); err != nil {
		return nil, err
	}
	if err := b.firstStart(facts.Arrival, req, m, nil); err != nil {
		return nil, err
	}
	wish := req.Pool
	for _, q := range facts.Host.Pools {
		if wish == "" && files == Stay && q.ID == facts.Folder.Pool && q.State == PoolReady {
			wish = q.Name // beside its first disk
		}
	}
	sized := m.Clone()
	for i := range sized.Disks { // those that stay need no room
		if x := handled[i]; !x.carry {
			sized.Disks[i].FileBytes, sized.Disks[i].VirtualBytes = 0, 0
		}
	}
	req.Pool = wish
	b.who = b.owner(facts.Arrival, req, m)
	to, err := b.land(facts.Arrival, req, sized)
	if err != nil {
		return nil, err
	}
	p.Steps = append(prepare(handled, facts.Host), b.switchSteps(facts.Host)...)
	give := b.giveStep(facts.Arrival, m, choice)
	give.What = "Give it ids of its own"
	p.Steps = append(p.Steps, give)
	staged := map[string]string{}
	for _, x := range handled {
		if !x.carry {
			if x.disk.File, err = filepath.Rel(path.Join(to.pool.Path, m.Name), x.facts.Path); err != nil {
				return nil, err
			}
			continue
		}
		format, asked, err := to.formatOf(x.disk.ID, facts.Host.Family)
		if err != nil {
			return nil, err
		}
		if !asked && facts.Host.Family.Runs(x.facts.Format) {
			format = x.facts.Format
		}
		p.Steps = append(p.Steps, x.carryStep(facts.Arrival, facts.From, path.Dir(x.facts.Path), to.at(x.disk.ID), "",
			m.Name, format))
		staged[x.disk.ID] = x.disk.File
		to.point(x.disk, m.Name)
	}
	p.Steps = append(p.Steps, b.placing(facts.Arrival, to, staged, m, "", 0, asText(choice))...)
	return b.finish(p)
}

// startsFrom decides which of several disks a machine starts from; it becomes
// the first.
func (b *builder) startsFrom(m *machine.Machine, disks []FolderDisk) {
	if len(m.Disks) < 2 {
		return
	}
	var starts, all []string
	for _, d := range disks {
		all = append(all, d.ID)
		if d.Guest != nil && d.Guest.Boot != "" {
			starts = append(starts, d.ID)
		}
	}
	if len(starts) == 1 {
		return
	}
	says := "None of its disks has a boot record or an EFI partition."
	if len(starts) > 1 {
		says = fmt.Sprintf("Several of its disks have a boot record or an EFI partition: %s.",
			strings.Join(starts, ", "))
	}
	f := fit.Raise("disk.boot-unclear", m.Name, says, map[string]any{"disks": all})
	f.Suggest("disk", "Start from "+m.Disks[0].ID, m.Disks[0].ID)
	f = b.raise(f, "")
	at := slices.IndexFunc(m.Disks, func(d machine.Disk) bool { return d.ID == f.Value() })
	if f.Remedy() == "" {
		return
	}
	if at < 0 {
		b.err = fmt.Errorf("disk.boot-unclear: there is no disk %q; there are %s", f.Value(), strings.Join(all, ", "))
		return
	}
	first := m.Disks[at]
	m.Disks = slices.Insert(slices.Delete(m.Disks, at, at+1), 0, first)
	for i := range m.Disks {
		m.Disks[i].Slot = i
	}
}
