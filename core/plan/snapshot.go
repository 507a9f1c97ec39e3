package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// SnapshotFacts is what plans of snapshots are worked out from.
type SnapshotFacts struct {
	Copy   lineage.Known
	Host   HostFacts
	Folder Folder
	Busy   string
}

// SnapshotRequest is what the caller asks of them.
type SnapshotRequest struct {
	Operation       string
	Name            string
	Note            string
	At              time.Time // now
	Answers         Answers
	TakeRecommended bool
}

// The operations on snapshots.
const (
	OpSnapshot     = "snapshot"
	OpGoBack       = "go-back"
	OpDropSnapshot = "drop-snapshot"
)

// FrozenTogether makes one plan of those about snapshots of several machines. What is frozen at one host without being
// stopped for it is frozen at one instant.
func FrozenTogether(plans []*Plan) *Plan {
	all := Together(plans)
	if len(plans) == 1 {
		return all
	}
	stopped := map[int]bool{}     // parts
	first := map[string]*Freeze{} // by host
	var steps []Step
	for _, s := range all.Steps {
		do, freezes := s.Do.(*Freeze)
		if _, stops := s.Do.(*Stop); stops {
			stopped[s.Part] = true
		}
		if !freezes || !do.ForGood || stopped[s.Part] {
			steps = append(steps, s)
			continue
		}
		if f := first[s.Host]; f != nil {
			f.With = append(f.With, FrozenMachine{do.Folder, do.Disks, do.Snapshot})
			continue
		}
		one := *do
		s.Do, first[s.Host] = &one, &one
		steps = append(steps, s)
	}
	for i, s := range steps {
		if do, ok := s.Do.(*Freeze); ok && len(do.With) > 0 {
			steps[i].What = fmt.Sprintf("Freeze the disks of %d machines as %q at one instant, new layers above them",
				1+len(do.With), do.Snapshot.Name)
		}
	}
	all.Steps = steps
	all.number()
	return all
}

// snapshots is a plan about a machine's snapshots in the making.
type snapshots struct {
	*builder
	facts   SnapshotFacts
	req     SnapshotRequest
	m       *machine.Machine
	subject string
	power   Power
}

// Snapshots plans to make a snapshot, to go back to one, or to drop one.
func Snapshots(facts SnapshotFacts, req SnapshotRequest) (*Plan, error) {
	b := newBuilder(req.Answers, req.TakeRecommended)
	s := &snapshots{builder: b, facts: facts, req: req, m: facts.Folder.Machine,
		subject: facts.Copy.Host + "/" + facts.Copy.Name, power: Power{Copy: facts.Copy.ID, Folder: facts.Copy.Path}}
	if s.m == nil {
		return nil, fmt.Errorf("%s has no descriptor that can be read: %s", s.subject, facts.Folder.Problem)
	}
	b.reach(facts.Host)
	b.tracked(facts.Copy)
	b.busy(s.subject, facts.Busy)
	b.notSuspended(facts.Copy)
	p := &Plan{Operation: req.Operation, Subjects: []string{s.subject}, Target: facts.Host.Name}
	do := map[string]func(p *Plan) error{OpSnapshot: s.make, OpGoBack: s.back, OpDropSnapshot: s.drop}[req.Operation]
	if err := do(p); err != nil {
		return nil, err
	}
	return b.finish(p)
}

// make plans a new snapshot.
func (s *snapshots) make(p *Plan) error {
	if err := machine.CheckName(s.req.Name); err != nil {
		return fmt.Errorf("name of the snapshot: %w", err)
	}
	if s.m.SnapshotNamed(s.req.Name) != nil {
		return fmt.Errorf("%s has a snapshot %q already; it has %s", s.subject, s.req.Name, snapshotNames(s.m))
	}
	freeze, err := s.freeze(s.req.Name, s.req.Note, s.facts.Folder.Files)
	if err != nil {
		return err
	}
	live := s.facts.Copy.State.Active() && s.facts.Host.Does(fit.Freezes)
	if live {
		s.raise(fit.Raise("snapshot.moment", s.subject, "It runs: the snapshot is its disks at one moment, as after a "+
			"power cut. What its guest has in memory is not in it.", nil), "")
	}
	s.around(p, !live, freeze)
	return nil
}

// freeze is the step that makes a snapshot of what is there.
func (s *snapshots) freeze(name, note string, files []string) (Step, error) {
	layers, err := frozen(s.facts.Host, s.m, s.facts.Folder.Disks, files)
	if err != nil {
		return Step{}, err
	}
	taken := &machine.Snapshot{Name: name, Note: note, MadeAt: s.req.At, Parent: s.m.Stands}
	for _, d := range layers {
		taken.Disks = append(taken.Disks, machine.SnapshotDisk{Disk: d.Disk, File: d.Below, Format: d.BelowFormat})
	}
	return Step{Host: s.facts.Host.Name, What: fmt.Sprintf("Freeze the disks of %s as %q, new layers above them",
		s.subject, name), Do: &Freeze{Power: s.power, Disks: layers, ForGood: true, Snapshot: taken}}, nil
}

// around puts steps between a stop and a start where they are for machines that don't run.
func (s *snapshots) around(p *Plan, standing bool, steps ...Step) {
	stop := false
	if standing && s.facts.Copy.State.Active() {
		stop = s.running(s.subject, "It runs, and its disks can be exchanged only while it is stopped.",
			"") == stopped
	}
	if stop {
		p.Steps = append(p.Steps, stopStep(s.facts.Host.Name, s.subject, s.power))
	}
	p.Steps = append(p.Steps, steps...)
	if stop {
		p.Steps = append(p.Steps, againStep(s.facts.Host.Name, s.subject, s.power))
	}
}

// named finds the snapshot that is asked for.
func (s *snapshots) named() (*machine.Snapshot, error) {
	if found := s.m.SnapshotNamed(s.req.Name); found != nil {
		return found, nil
	}
	return nil, fmt.Errorf("%s has no snapshot %q; it has %s", s.subject, s.req.Name, snapshotNames(s.m))
}

func snapshotNames(m *machine.Machine) string {
	names := []string{}
	for _, s := range m.Tree {
		names = append(names, s.Name)
	}
	return quoted(names)
}

// back plans to go back to a snapshot. What was written since is kept as one, or let go.
func (s *snapshots) back(p *Plan) error {
	to, err := s.named()
	if err != nil {
		return err
	}
	files := slices.Clone(s.facts.Folder.Files)
	var steps, after []Step
	if s.written() {
		free := freeName("before "+to.Name, func(name string) bool { return s.m.SnapshotNamed(name) != nil })
		if name := "before " + to.Name; s.m.SnapshotNamed(name) == nil {
			free = name
		}
		f := fit.Raise("snapshot.present", s.subject, fmt.Sprintf("It has written since the last snapshot. Going back "+
			"to %q, that is no longer what it stands on.", to.Name), nil)
		f.Suggest("keep", fmt.Sprintf("Keep it as a snapshot, %q, first", free), free)
		switch f = s.raise(f, ""); f.Remedy() {
		case "keep":
			freeze, err := s.freeze(f.Value(), "kept when going back to "+to.Name, files)
			if err != nil {
				return err
			}
			for _, d := range freeze.Do.(*Freeze).Disks {
				files = append(files, d.File)
			}
			steps = append(steps, freeze)
			after = s.away(freeze.Do.(*Freeze).Disks) // the layers above it are empty, and of no use
		case "let-go":
			after = s.tops()
		}
	} else {
		after = s.tops() // they are empty
	}
	var layers []FrozenDisk
	for _, d := range to.Disks {
		format := s.facts.Host.Family.LayerOn(d.Format)
		if format == "" {
			return fmt.Errorf("hosts of the family %s can't put a layer on %s", s.facts.Host.Family.Name, d.File)
		}
		layers = append(layers, FrozenDisk{Disk: d.Disk, Path: path.Join(s.facts.Copy.Path, d.File), Below: d.File,
			BelowFormat: d.Format, File: nextLayer(s.m.Name, d.Disk, format, files), Format: format})
	}
	steps = append(steps, Step{Host: s.facts.Host.Name, What: fmt.Sprintf("Go back to %q, on new layers", to.Name),
		Do: &GoBack{Power: s.power, Snapshot: to.Name, Disks: layers}})
	s.around(p, true, append(steps, after...)...)
	return nil
}

// written tells whether the machine holds something that no snapshot has.
func (s *snapshots) written() bool {
	return slices.ContainsFunc(s.facts.Folder.Disks, func(d FolderDisk) bool { return !d.TopEmpty })
}

// away puts layers of these names into the trash.
func (s *snapshots) away(disks []FrozenDisk) (steps []Step) {
	for _, d := range disks {
		steps = append(steps, s.trash(path.Join(s.facts.Copy.Path, d.File)))
	}
	return steps
}

// tops puts what the machine writes to now into the trash.
func (s *snapshots) tops() (steps []Step) {
	for _, d := range s.facts.Folder.Disks {
		if len(d.LayersOf) == 0 && strings.HasPrefix(d.Path, s.facts.Copy.Path+"/") {
			steps = append(steps, s.trash(d.Path))
		}
	}
	return steps
}

func (s *snapshots) trash(file string) Step {
	return Step{Host: s.facts.Host.Name, What: fmt.Sprintf("Put %s into the trash of its pool", path.Base(file)),
		Do: &TakeAway{Folder: file}}
}

// drop plans that a snapshot is no more. What is written above it goes into its disks; a snapshot that nothing stands
// on goes as a whole.
func (s *snapshots) drop(p *Plan) error {
	gone, err := s.named()
	if err != nil {
		return err
	}
	var on []string
	var next *machine.Snapshot
	for i, o := range s.m.Tree {
		if o.Parent == gone.Name {
			on, next = append(on, fmt.Sprintf("%q", o.Name)), &s.m.Tree[i]
		}
	}
	current := s.m.Stands == gone.Name
	if clones := s.clonesOn(gone); len(clones) > 0 {
		s.raise(fit.Raise("copy.stood-on", s.subject, fmt.Sprintf("%s %s on its disks as they were at %q. Make those "+
			"stand alone first: unvora change COPY --stand-alone", listed(clones), verb(len(clones), "stands", "stand"),
			gone.Name), map[string]any{"copies": clones}), "")
		return nil
	}
	if current {
		on = append(on, "what it writes now")
	}
	switch {
	case len(on) > 1:
		s.raise(fit.Raise("snapshot.stood-on", s.subject, fmt.Sprintf("%s stand on %q, each with what it has written "+
			"since. Drop all but one of those first.", listed(on), gone.Name), nil), "")
		return nil
	case next != nil:
		return s.merge(p, gone, next)
	case !current:
		steps := []Step{{Host: s.facts.Host.Name, What: fmt.Sprintf("Take %q out of the descriptor", gone.Name),
			Do: &DropSnapshot{Power: s.power, Snapshot: gone.Name}}}
		for _, d := range gone.Disks {
			steps = append(steps, s.trash(path.Join(s.facts.Copy.Path, d.File)))
		}
		p.Steps = append(p.Steps, steps...)
		return nil
	}
	var layers []FrozenDisk
	for _, d := range gone.Disks {
		if !slices.Contains(committed, d.Format) {
			return fmt.Errorf("nothing can be written into %s, which is %s: make it stand alone instead (unvora "+
				"change %s --stand-alone)", d.File, strings.ToUpper(d.Format), s.subject)
		}
		for _, is := range s.m.Disks {
			if is.ID == d.Disk && is.File != d.File {
				layers = append(layers, FrozenDisk{Disk: d.Disk, Path: path.Join(s.facts.Copy.Path, d.File),
					Below: d.File, BelowFormat: d.Format, File: is.File, Format: is.Format})
			}
		}
	}
	commit := commitStep(s.facts.Host.Name, s.subject, s.power, layers)
	commit.What = fmt.Sprintf("Write what %s holds since %q into its disks, and take the layers off", s.subject,
		gone.Name)
	commit.Do.(*Commit).Snapshot = gone.Name
	s.around(p, !s.facts.Host.Does(fit.Freezes), commit)
	return nil
}

// merge plans that a snapshot is no more on which one other stands. What that holds is written into its files.
func (s *snapshots) merge(p *Plan, gone, next *machine.Snapshot) error {
	if clones := s.clonesOn(next); len(clones) > 0 {
		s.raise(fit.Raise("copy.stood-on", s.subject, fmt.Sprintf("%s %s on its disks as they were at %q, which would "+
			"be merged. Make those stand alone first: unvora change COPY --stand-alone", listed(clones),
			verb(len(clones), "stands", "stand"), next.Name), map[string]any{"copies": clones}), "")
		return nil
	}
	do := &MergeSnapshot{Power: s.power, Snapshot: gone.Name, Into: next.Name}
	var after []Step
	for _, d := range gone.Disks {
		at := slices.IndexFunc(next.Disks, func(n machine.SnapshotDisk) bool { return n.Disk == d.Disk })
		if at < 0 { // the machine has let it go since
			after = append(after, s.trash(path.Join(s.facts.Copy.Path, d.File)))
			continue
		}
		if !slices.Contains(committed, d.Format) {
			return fmt.Errorf("nothing can be written into %s, which is %s: make it stand alone instead (unvora "+
				"change %s --stand-alone)", d.File, strings.ToUpper(d.Format), s.subject)
		}
		merged := MergedLayer{Disk: d.Disk, Below: d.File, BelowFormat: d.Format, File: next.Disks[at].File,
			Format: next.Disks[at].Format, Above: []string{}}
		for _, o := range s.m.Tree {
			for _, x := range o.Disks {
				if o.Parent == next.Name && x.Disk == d.Disk && x.File != merged.File {
					merged.Above = append(merged.Above, x.File)
				}
			}
		}
		for _, is := range s.m.Disks {
			if s.m.Stands == next.Name && is.ID == d.Disk && is.File != merged.File {
				merged.Above = append(merged.Above, is.File)
			}
		}
		do.Disks = append(do.Disks, merged)
	}
	merge := Step{Host: s.facts.Host.Name, What: fmt.Sprintf("Write what was written between %q and %q into the disks "+
		"of %[1]q, which are those of %[2]q from then on", gone.Name, next.Name), Do: do}
	s.around(p, true, append([]Step{merge}, after...)...)
	return nil
}

// clonesOn are other machines whose layers rest on files of a snapshot.
func (s *snapshots) clonesOn(of *machine.Snapshot) (clones []string) {
	for _, d := range of.Disks {
		for _, who := range s.facts.Folder.Stood[path.Join(s.facts.Copy.Path, d.File)] {
			if !slices.Contains(clones, who) {
				clones = append(clones, who)
			}
		}
	}
	return clones
}
