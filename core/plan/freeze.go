package plan

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// committed are the formats that layers are committed into.
var committed = []string{"raw", "qcow2"}

// frozen are the disks of a machine with the layers that are to be put on them; an error names one that can't have one.
func frozen(h HostFacts, m *machine.Machine, disks []FolderDisk, files []string) ([]FrozenDisk, error) {
	var list []FrozenDisk
	for _, d := range m.Disks {
		at := slices.IndexFunc(disks, func(f FolderDisk) bool { return f.ID == d.ID })
		if at < 0 {
			return nil, fmt.Errorf("the host tells nothing of the disk %s", d.ID)
		}
		fd := disks[at]
		format := h.Family.LayerOn(fd.Format)
		if format == "" || fd.Layers+1 > h.Family.MaxLayers {
			return nil, fmt.Errorf("hosts of the family %s can't put another layer on %s", h.Family.Name, d.ID)
		}
		list = append(list, FrozenDisk{Disk: d.ID, Path: fd.Path, Below: d.File, BelowFormat: fd.Format,
			File: nextLayer(m.Name, d.ID, format, files), Format: format})
	}
	return list, nil
}

// nextLayer is a file name that nothing in the folder bears.
func nextLayer(name, disk, format string, taken []string) string {
	for n := 2; ; n++ {
		file := diskFile(name, fmt.Sprintf("%s-%d", disk, n), format)
		if !slices.Contains(taken, file) {
			return file
		}
	}
}

// atSnapshot is a machine with its disks as they were at a snapshot, and those disks as its host sees them.
func atSnapshot(m *machine.Machine, folder string, disks []FolderDisk, name string) (*machine.Machine, []FolderDisk,
	error) {
	s := m.SnapshotNamed(name)
	if s == nil {
		return nil, nil, fmt.Errorf("%s has no snapshot %q; it has %s", m.Name, name, snapshotNames(m))
	}
	then := m.Clone()
	then.Disks = nil
	var seen []FolderDisk
	for _, at := range s.Disks {
		d := slices.IndexFunc(m.Disks, func(d machine.Disk) bool { return d.ID == at.Disk })
		fd := slices.IndexFunc(disks, func(f FolderDisk) bool { return f.ID == at.Disk })
		if d < 0 || fd < 0 {
			return nil, nil, fmt.Errorf("the machine has no disk %s any more, which the snapshot %q has", at.Disk,
				s.Name)
		}
		is, was := m.Disks[d], disks[fd]
		is.File, is.Format = at.File, at.Format
		was.File, was.Format, was.Path = at.File, at.Format, path.Join(folder, at.File)
		was.TopEmpty, was.Faults, was.LayersOf = false, nil, nil
		if n := slices.Index(was.Chain, was.Path); n >= 0 {
			was.Chain, was.Layers = was.Chain[n:], was.Layers-n
		}
		then.Disks, seen = append(then.Disks, is), append(seen, was)
	}
	return then, seen, nil
}

// commitable tells whether what is written above disks can be brought back into them.
func commitable(disks []FolderDisk) bool {
	return !slices.ContainsFunc(disks, func(d FolderDisk) bool { return !slices.Contains(committed, d.Format) })
}

// How a machine that runs is dealt with while its disks are read.
const (
	asItStands = ""       // it does not run
	atAMoment  = "moment" // its disks are frozen at one instant, and it goes on
	followed   = "follow" // that too, and what it has written since is sent after them once it is stopped
	stopped    = "stop"
)

// whileRead decides what becomes of a machine that may run while its disks are read, or shared. live says that they can
// be frozen.
func (b *builder) whileRead(k lineage.Known, live bool, what string) string {
	if !k.State.Active() {
		return asItStands
	}
	says, instead := "It runs, and its disks change while they are "+what+".", ""
	if live {
		instead = atAMoment
		says = "It runs. Its disks can be " + what + " as they are at one moment, the same for all of them."
	}
	return b.running(k.Host+"/"+k.Name, says, instead)
}

// running raises that a machine runs, and returns what is to become of it: it is stopped, or what is better, if there
// is such a thing.
func (b *builder) running(subject, says, instead string) string {
	f := fit.Raise("state.running", subject, says, nil)
	f.Offer(stopped, instead)
	if instead != "" {
		f.Recommend(instead)
	}
	return b.raise(f, "").Remedy()
}

// freezeStep freezes disks, for good or until a commit.
func freezeStep(host, subject string, p Power, disks []FrozenDisk, good bool) Step {
	names := make([]string, len(disks))
	for n, d := range disks {
		names[n] = filepath.Base(d.Path)
	}
	return Step{Host: host, What: fmt.Sprintf("Freeze %s of %s, which writes to new layers from then on",
		strings.Join(names, ", "), path.Base(subject)), Do: &Freeze{Power: p, Disks: disks, ForGood: good}}
}

// commitStep takes such layers off again.
func commitStep(host, subject string, p Power, disks []FrozenDisk) Step {
	return Step{Host: host, What: "Commit what " + subject + " has written since, and take the layers off",
		Do: &Commit{Power: p, Disks: disks}}
}
