package sight

import (
	"errors"
	"io/fs"
	"path/filepath"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
)

// lookDisk tells about a disk with its chain, of the machine in folder, beside what other machines hold.
func (a *Sight) lookDisk(folder, id, file, path, stated string) plan.FolderDisk {
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
	d.SharedBy, d.LayersOf = a.held.on(folder, path, isTop), a.held.on(folder, path, isLow)
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
	if who := a.held.bearing(folder, path, d.DiskID); d.DiskID != "" && len(who) > 0 {
		d.IDOf = who[0]
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
