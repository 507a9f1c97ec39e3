package agent

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// lookFolder tells everything about a machine folder, or about one disk image,
// that a plan needs. Only headers and maps are read.
func (a *Agent) lookFolder(path string) (*plan.Folder, error) {
	path = filepath.Clean(path)
	if err := a.within(path); err != nil {
		return nil, err
	}
	st, err := a.door.Stat(path)
	if err != nil {
		return nil, err
	}
	held := a.heldDisks(path)
	if !st.IsDir() {
		f := &plan.Folder{Path: filepath.Dir(path), Pool: a.poolAt(path), Problem: "it is a disk image, which nothing describes", Disks: []plan.FolderDisk{}, Files: []string{}}
		f.Disks = append(f.Disks, a.lookDisk(diskID(path), filepath.Base(path), path, "", held))
		f.Guest = f.Disks[0].Guest
		return f, nil
	}
	_, registered := a.store.register()[path]
	f := &plan.Folder{Path: path, Pool: a.poolAt(path), Registered: registered, State: "stopped", Disks: []plan.FolderDisk{}, Files: []string{}}
	if registered {
		f.State = a.driver.State(path)
	}
	entries, err := a.door.ReadDir(path)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Type().IsRegular() {
			f.Files = append(f.Files, e.Name())
		}
	}
	d, err := a.folderDescriptor(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		f.Problem = "there is no descriptor in " + path
	case err != nil:
		f.Problem = fmt.Sprintf("the descriptor can't be read: %v", err)
	case len(d.Machines) != 1:
		f.Problem = fmt.Sprintf("the descriptor describes %d machines: it is a package, to be imported", len(d.Machines))
	default:
		raw, err := d.Encode(0)
		if err != nil {
			return nil, err
		}
		f.Machine, f.Descriptor = &d.Machines[0], string(raw)
		for i := range f.Machine.Disks {
			m := &f.Machine.Disks[i]
			fd := a.lookDisk(m.ID, m.File, filepath.Join(path, m.File), m.Format, held)
			m.FileBytes = fd.FileBytes
			f.Disks = append(f.Disks, fd)
		}
	}
	if f.Machine == nil {
		for _, name := range f.Files {
			at := filepath.Join(path, name)
			if a.looksLikeDisk(at) {
				f.Disks = append(f.Disks, a.lookDisk(diskID(at), name, at, "", held))
			}
		}
	}
	for _, fd := range f.Disks {
		if fd.Guest != nil && (f.Guest == nil || f.Guest.System == "") {
			f.Guest = fd.Guest
		}
	}
	return f, nil
}

// diskID makes the id of a disk in a descriptor from its file's name.
func diskID(path string) string {
	return machine.CleanName(strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)))
}

// looksLikeDisk tells an image by its content: a format's magic number, or the
// signature of a boot sector.
func (a *Agent) looksLikeDisk(path string) bool {
	as, err := a.door.Guess(path)
	if err != nil || as.Name() != "raw" {
		return err == nil
	}
	src, err := disk.OpenSource(a.door, path, 0)
	if err != nil {
		return false
	}
	defer src.Close()
	sector := make([]byte, 512)
	_, err = src.ReadAt(sector, 0)
	return err == nil && sector[510] == 0x55 && sector[511] == 0xaa
}

// poolAt is the id of the pool that a path lies in; "" outside all.
func (a *Agent) poolAt(path string) string {
	for _, p := range a.pools() {
		if strings.HasPrefix(path, filepath.Clean(p.Path)+"/") {
			return p.ID
		}
	}
	return ""
}

// heldDisk is a layer that a registered machine's disk consists of.
type heldDisk struct {
	machine string
	id      string
	top     bool
}

// heldDisks lists the layers of all registered machines but the one in folder,
// by path.
func (a *Agent) heldDisks(folder string) map[string][]heldDisk {
	held := map[string][]heldDisk{}
	for at := range a.store.register() {
		if at == folder {
			continue
		}
		m, err := a.machines.read(at)
		if err != nil {
			continue
		}
		for _, d := range m.Disks {
			path := filepath.Clean(filepath.Join(at, d.File))
			for n, l := range a.chains.read(image{path, d.Format}) {
				held[l.path] = append(held[l.path], heldDisk{m.Name, l.id, n == 0})
			}
		}
	}
	return held
}

// remembered keeps what was read of a file until the file changes.
type remembered[K comparable, T any] struct {
	look  func(what K) (T, error)
	stamp func(what K) any
	mu    sync.Mutex
	known map[K]recollection[T]
}

// image is a disk's top layer, with the format that a descriptor states; "" where
// none does.
type image struct{ path, stated string }

type recollection[T any] struct {
	stamp any
	value T
}

func (r *remembered[K, T]) read(path K) (T, error) {
	now := r.stamp(path)
	r.mu.Lock()
	old, ok := r.known[path]
	r.mu.Unlock()
	if ok && old.stamp == now {
		return old.value, nil
	}
	v, err := r.look(path)
	if err != nil {
		return v, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil {
		r.known = map[K]recollection[T]{}
	}
	r.known[path] = recollection[T]{now, v}
	return v, nil
}

func (a *Agent) fileStamp(path string) any {
	st, err := a.door.Stamp(path, true)
	if err != nil {
		return nil
	}
	return st
}

// layerOf is one layer of a chain.
type layerOf struct{ path, id string }

// chainMemory remembers the chains of disks.
type chainMemory struct{ remembered[image, []layerOf] }

func (c *chainMemory) read(of image) []layerOf {
	layers, err := c.remembered.read(of)
	if err != nil {
		return nil
	}
	return layers
}

func (a *Agent) readChain(of image) ([]layerOf, error) {
	as, err := a.formatOf(of.path, of.stated)
	if err != nil {
		return nil, err
	}
	c, err := a.door.Look(of.path, as)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	var layers []layerOf
	for _, l := range c.Links {
		layers = append(layers, layerOf{l.Path, l.Image.Info().ID})
	}
	return layers, nil
}

// layers of a disk, by the format on record; none where it can't be read.
func (a *Agent) layers(path string) []layerOf {
	as, err := a.known(path)
	if err != nil {
		return nil
	}
	return a.chains.read(image{path, as.Name()})
}

// lookDisk tells about a disk with its chain.
func (a *Agent) lookDisk(id, file, path, stated string, held map[string][]heldDisk) plan.FolderDisk {
	path = filepath.Clean(path)
	d := plan.FolderDisk{ID: id, File: file, Path: path, Chain: []string{}, Faults: []plan.DiskFault{}, SharedBy: []string{}, LayersOf: []string{}}
	if file == "" {
		d.Missing = true
		return d
	}
	if _, err := a.door.Stat(path); err != nil {
		d.Missing = errors.Is(err, fs.ErrNotExist)
		if !d.Missing {
			d.Problem, d.ProblemCode = err.Error(), codeOf(err)
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
	as, err := a.formatOf(path, stated)
	var c *formats.Chain
	if err == nil {
		c, err = a.door.Look(path, as)
	}
	if err != nil {
		d.Problem, d.ProblemCode = err.Error(), codeOf(err)
		return d
	}
	defer c.Close()
	info := c.Info()
	top := c.Links[0].Image.Info()
	d.Format, d.DiskID, d.VirtualBytes, d.SectorBytes = top.Format, top.ID, info.VirtualBytes, info.SectorBytes
	d.Encrypted, d.Unclean, d.Layers, d.Chain = info.Encrypted, !top.Clean, len(c.Links), c.Paths()
	for _, f := range c.Faults {
		d.Faults = append(d.Faults, plan.DiskFault{Code: f.Code, Path: f.Subject, Message: f.Message, Candidate: f.Candidate})
	}
	for _, l := range c.Links {
		for _, name := range l.Files {
			if b, err := a.allocated(name); err == nil {
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
	if !d.Encrypted && len(d.Faults) == 0 && d.VirtualBytes > 0 {
		if r, err := c.Map(0); err == nil && r.Kind != disk.Data && r.Length >= d.VirtualBytes {
			d.NoData = true
		}
		d.Guest, _ = a.guests.read(image{path, as.Name()})
	}
	return d
}

// lookInside looks for a guest's operating system on a disk.
func (a *Agent) lookInside(of image) (*fit.Guest, error) {
	as, err := a.formatOf(of.path, of.stated)
	if err != nil {
		return nil, err
	}
	c, err := a.door.Chain(of.path, as)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return guest.Look(c, c.Info().VirtualBytes), nil
}
