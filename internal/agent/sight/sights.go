package sight

import (
	"errors"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// sights remembers what was seen of disks until one of their layers changes.
type sights struct {
	a     *Sight
	mu    sync.Mutex
	known map[string]sight
}

type sight struct {
	a      *Sight
	disk   hostlink.SeenDisk
	layers []string
	stamps []any
}

func (s sight) fresh() bool {
	for i, l := range s.layers {
		if s.a.fileStamp(l) != s.stamps[i] {
			return false
		}
	}
	return true
}

// of tells about a disk, from memory when it has not changed.
func (s *sights) of(id, path, stated string) hostlink.SeenDisk {
	s.mu.Lock()
	old, ok := s.known[path]
	s.mu.Unlock()
	if ok && old.fresh() {
		old.disk.ID = id
		return old.disk
	}
	now := s.look(path, stated)
	s.mu.Lock()
	if s.known == nil {
		s.known = map[string]sight{}
	}
	s.known[path] = now
	s.mu.Unlock()
	now.disk.ID = id
	return now.disk
}

// changed tells whether a disk is not as it was when it was last looked at.
func (s *sights) changed(path string) bool {
	s.mu.Lock()
	old, ok := s.known[path]
	s.mu.Unlock()
	return !ok || !old.fresh()
}

func (s *sights) look(path, stated string) (out sight) {
	out = sight{a: s.a, disk: hostlink.SeenDisk{Path: path}, layers: []string{path}}
	defer func() {
		for _, l := range out.layers {
			out.stamps = append(out.stamps, s.a.fileStamp(l))
		}
	}()
	if _, err := s.a.Door.Stat(path); errors.Is(err, fs.ErrNotExist) {
		out.disk.Faults = []plan.DiskFault{{Code: "disk.missing", Path: path, Message: "the file is not there"}}
		return out
	}
	as, err := s.a.FormatOf(path, stated)
	var c *formats.Chain
	if err == nil {
		c, err = s.a.Door.Look(path, as)
	}
	if err != nil {
		out.disk.Faults = []plan.DiskFault{{Code: ground.CodeOf(err), Path: path, Message: err.Error()}}
		return out
	}
	defer c.Close()
	out.layers = c.Paths()
	top := c.Links[0].Image.Info()
	out.disk.ImageID, out.disk.VirtualBytes, out.disk.Layers = top.ID, c.Info().VirtualBytes, out.layers[1:]
	for _, f := range c.Faults {
		out.disk.Faults = append(out.disk.Faults, plan.DiskFault{Code: f.Code, Path: f.Subject, Message: f.Message,
			Candidate: f.Candidate})
		if ref := top.Parent; ref != nil && !filepath.IsAbs(ref.Path) {
			out.layers = append(out.layers, filepath.Join(filepath.Dir(path), ref.Path)) // it may come back
		} else if ref != nil {
			out.layers = append(out.layers, ref.Path)
		}
	}
	if st, err := s.a.Door.Stat(path); err == nil {
		out.disk.WrittenAt = st.ModTime().UTC().Truncate(time.Second)
	}
	if len(c.Faults) == 0 && !c.Info().Encrypted {
		if f, err := disk.TakeFingerprint(c); err == nil {
			out.disk.Samples = f.Samples
		}
	}
	return out
}

// seen tells about all disks of a machine.
func (s *sights) seen(folder string, m *machine.Machine) (list []hostlink.SeenDisk) {
	if m == nil {
		return nil
	}
	for _, d := range m.Disks {
		if d.File != "" {
			list = append(list, s.of(d.ID, filepath.Join(folder, d.File), d.Format))
		}
	}
	return list
}

// named are the folders that are known, and the files that their machines name, as
// disks or as layers.
func (s *sweep) named() (known, named map[string]bool) {
	known, named = map[string]bool{}, map[string]bool{}
	for _, f := range s.folders {
		known[f.Path] = true
		for _, d := range f.Disks {
			named[d.Path] = true
			for _, l := range d.Layers {
				named[l] = true
			}
		}
	}
	return known, named
}

// bareIn finds directories of a pool that hold disk images which no machine
// names, and no descriptor.
func (s *sweep) bareIn(p hostlink.Pool, known, named map[string]bool) []hostlink.BareFolder {
	list, ok := hastily(&s.hasty, p.Path, func() []hostlink.BareFolder { return s.a.bare(p, known, named) })
	if !ok { // as they were
		for _, b := range s.bareOnes {
			if b.Pool == p.ID {
				list = append(list, b)
			}
		}
	}
	return list
}

func (a *Sight) bare(p hostlink.Pool, known, named map[string]bool) (list []hostlink.BareFolder) {
	entries, err := a.Door.ReadDir(p.Path)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		path := filepath.Join(p.Path, e.Name())
		if !e.IsDir() || e.Name()[0] == '.' || known[path] {
			continue
		}
		b := hostlink.BareFolder{Path: path, Pool: p.ID}
		files, err := a.Door.ReadDir(path)
		if err != nil {
			continue
		}
		for _, f := range files {
			at := filepath.Join(path, f.Name())
			if !f.Type().IsRegular() || named[at] {
				continue
			}
			if isDisk, _ := a.images.read(at); isDisk {
				b.Disks = append(b.Disks, f.Name())
				if n, err := a.Allocated(at); err == nil {
					b.Bytes += n
				}
			}
		}
		if len(b.Disks) > 0 {
			list = append(list, b)
		}
	}
	return list
}
