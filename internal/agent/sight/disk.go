package sight

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// heldDisk is a layer that a registered machine's disk consists of.
type heldDisk struct {
	machine string
	id      string
	top     bool
}

// heldDisks lists the layers of all registered machines but the one in folder,
// by path.
func (a *Sight) heldDisks(folder string) map[string][]heldDisk {
	held := map[string][]heldDisk{}
	for at := range a.Records.Register() {
		if at == folder {
			continue
		}
		m, err := a.Machine(at)
		if err != nil {
			continue
		}
		for _, d := range m.Disks {
			path := filepath.Clean(filepath.Join(at, d.File))
			for n, l := range a.chains.read(image{path, d.Format}) {
				held[l.Path] = append(held[l.Path], heldDisk{m.Name, l.ID, n == 0})
			}
		}
	}
	return held
}

// lookDisk tells about a disk with its chain.
func (a *Sight) lookDisk(id, file, path, stated string, held map[string][]heldDisk) plan.FolderDisk {
	path = filepath.Clean(path)
	d := plan.FolderDisk{ID: id, File: file, Path: path, Chain: []string{}, Faults: []plan.DiskFault{},
		SharedBy: []string{}, LayersOf: []string{}}
	if file == "" {
		d.Missing = true
		return d
	}
	if _, err := a.Door.Stat(path); err != nil {
		d.Missing = errors.Is(err, fs.ErrNotExist)
		if !d.Missing {
			d.Problem, d.ProblemCode = err.Error(), ground.CodeOf(err)
		}
		return d
	}
	d.Pool = a.poolAt(path)
	for _, h := range held[path] {
		if h.top && !slices.Contains(d.SharedBy, h.machine) {
			d.SharedBy = append(d.SharedBy, h.machine)
		}
		if !h.top && !slices.Contains(d.LayersOf, h.machine) {
			d.LayersOf = append(d.LayersOf, h.machine)
		}
	}
	slices.Sort(d.SharedBy)
	slices.Sort(d.LayersOf)
	as, err := a.FormatOf(path, stated)
	var c *formats.Chain
	if err == nil {
		c, err = a.Door.Look(path, as)
	}
	if err != nil {
		d.Problem, d.ProblemCode = err.Error(), ground.CodeOf(err)
		return d
	}
	defer c.Close()
	info := c.Info()
	top := c.Links[0].Image.Info()
	d.Format, d.DiskID, d.VirtualBytes, d.SectorBytes = top.Format, top.ID, info.VirtualBytes, info.SectorBytes
	d.Encrypted, d.Unclean, d.Layers, d.Chain = info.Encrypted, !top.Clean, len(c.Links), c.Paths()
	for _, f := range c.Faults {
		d.Faults = append(d.Faults, plan.DiskFault{Code: f.Code, Path: f.Subject, Message: f.Message,
			Candidate: f.Candidate})
	}
	for _, l := range c.Links {
		for _, name := range l.Files {
			if b, err := a.Allocated(name); err == nil {
				d.FileBytes += b
			}
		}
	}
	for at, list := range held {
		for _, h := range list {
			if h.id == d.DiskID && d.DiskID != "" && at != path && h.top {
				d.IDOf = h.machine
			}
		}
	}
	if len(c.Links) > 1 && len(d.Faults) == 0 {
		own, err := disk.Held([]disk.Image{c.Links[0].Image}, d.VirtualBytes)
		d.TopEmpty = err == nil && len(own) == 0
	}
	if !d.Encrypted && len(d.Faults) == 0 && d.VirtualBytes > 0 {
		if r, err := c.Map(0); err == nil && r.Kind != disk.Data && r.Length >= d.VirtualBytes {
			d.NoData = true
		}
		d.Guest, _ = a.guests.read(image{path, as.Name()})
	}
	return d
}

// lookInside looks for a guest's operating system on a disk.
func (a *Sight) lookInside(of image) (*fit.Guest, error) {
	as, err := a.FormatOf(of.path, of.stated)
	if err != nil {
		return nil, err
	}
	c, err := a.Door.Chain(of.path, as)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return guest.Look(c, c.Info().VirtualBytes), nil
}
