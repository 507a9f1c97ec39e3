package sight

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
)

// stamp changes when files come or go, or the descriptor is written. A disk
// that a running machine writes to does not count.
type stamp struct{ folder, descriptor, size int64 }

func (a *Sight) folderStamp(path string, known *seenFolder) (s stamp) {
	name := ""
	if known != nil {
		name = known.descriptor
	}
	folder, file, err := a.Door.FolderStamp(path, name)
	if err != nil {
		return s
	}
	return stamp{folder.Written, file.Written, file.Size}
}

// FindDescriptor is the name of the descriptor in a machine's folder; "" where there is none.
func (a *Sight) FindDescriptor(folder string) (string, error) {
	entries, err := a.Door.ReadDir(folder)
	for _, e := range entries {
		if e.Type().IsRegular() && strings.EqualFold(filepath.Ext(e.Name()), ".ovf") {
			return e.Name(), nil
		}
	}
	return "", err
}

// Descriptor reads and parses the descriptor of a machine folder.
func (a *Sight) Descriptor(folder string) (*ovf.Descriptor, error) {
	name, err := a.FindDescriptor(folder)
	if err != nil {
		return nil, err
	}
	if name == "" {
		return nil, fmt.Errorf("there is no descriptor in %s: %w", folder, fs.ErrNotExist)
	}
	raw, err := disk.ReadFile(a.Door, filepath.Join(folder, name), ovf.MaxDescriptorBytes)
	if err != nil {
		return nil, err
	}
	return ovf.Parse(filepath.Join(folder, name), raw)
}

func (a *Sight) ReadMachine(folder string) (*machine.Machine, error) {
	d, err := a.Descriptor(folder)
	if err != nil {
		return nil, err
	}
	m := &d.Machines[0]
	for i := range m.Disks {
		if b, err := a.Allocated(filepath.Join(folder, m.Disks[i].File)); err == nil {
			m.Disks[i].FileBytes = b
		}
	}
	return m, nil
}

// asideBytes is what the machine's disks take that lie outside its folder.
func asideBytes(m *machine.Machine) (sum int64) {
	if m == nil {
		return 0
	}
	for _, d := range m.Disks {
		if strings.HasPrefix(d.File, "../") {
			sum += d.FileBytes
		}
	}
	return sum
}

func (a *Sight) folderBytes(folder string) (sum int64) {
	entries, _ := a.Door.ReadDir(folder)
	for _, e := range entries {
		if !e.Type().IsRegular() {
			continue
		}
		if b, err := a.Allocated(filepath.Join(folder, e.Name())); err == nil {
			sum += b
		}
	}
	return sum
}

// Folder tells everything about a machine folder, or about one disk image,
// that a plan needs. Only headers and maps are read.
func (a *Sight) Folder(path string) (*plan.Folder, error) {
	path = filepath.Clean(path)
	if err := a.Within(path); err != nil {
		return nil, err
	}
	st, err := a.Door.Stat(path)
	if err != nil {
		return nil, err
	}
	a.held.refresh(trusted)
	if !st.IsDir() {
		f := &plan.Folder{Path: filepath.Dir(path), Pool: a.poolAt(path),
			Problem: "it is a disk image, which nothing describes", Disks: []plan.FolderDisk{}, Files: []string{}}
		f.Disks = append(f.Disks, a.lookDisk(path, diskID(path), filepath.Base(path), path, ""))
		f.Guest = f.Disks[0].Guest
		return f, nil
	}
	_, registered := a.Records.Listed(path)
	f := &plan.Folder{Path: path, Pool: a.poolAt(path), Registered: registered, State: machine.Stopped,
		Disks: []plan.FolderDisk{}, Files: []string{},
		StoodOn: a.held.standing(path, path), Stood: a.held.stood(path, path)}
	if registered {
		now, _ := a.standing(path)
		f.State = now.State
	}
	entries, err := a.Door.ReadDir(path)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Type().IsRegular() && e.Name() != ground.HolderFile {
			f.Files = append(f.Files, e.Name())
		}
	}
	if !registered {
		a.Unclaim(path)
	}
	if f.ListedBy, err = a.ListedBy(path); err != nil {
		return nil, err
	}
	d, err := a.Descriptor(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		f.Problem = "there is no descriptor in " + path
	case err != nil:
		f.Problem = fmt.Sprintf("the descriptor can't be read: %v", err)
	case len(d.Machines) != 1:
		f.Problem = fmt.Sprintf("the descriptor describes %d machines: it is a package, to be imported",
			len(d.Machines))
	default:
		raw, err := d.Encode(0)
		if err != nil {
			return nil, err
		}
		f.Machine, f.Descriptor = &d.Machines[0], string(raw)
		if slices.Contains(f.Files, driver.SuspendedFile) {
			f.Machine.Suspended = true
		}
		for i := range f.Machine.Disks {
			m := &f.Machine.Disks[i]
			fd := a.lookDisk(path, m.ID, m.File, filepath.Join(path, m.File), m.Format)
			if f.State.Active() { // it is this machine that has it open
				fd.Faults = slices.DeleteFunc(fd.Faults, func(x plan.DiskFault) bool { return x.Code == formats.InUse })
			}
			m.FileBytes = fd.FileBytes
			f.Disks = append(f.Disks, fd)
		}
	}
	if f.Machine == nil {
		for _, name := range f.Files {
			at := filepath.Join(path, name)
			if a.looksLikeDisk(at) {
				f.Disks = append(f.Disks, a.lookDisk(path, diskID(at), name, at, ""))
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
func (a *Sight) looksLikeDisk(path string) bool {
	as, err := a.Door.Guess(path)
	if err != nil || as.Name() != "raw" {
		return err == nil
	}
	src, err := disk.OpenSource(a.Door, path, 0)
	if err != nil {
		return false
	}
	defer src.Close()
	sector := make([]byte, 512)
	_, err = src.ReadAt(sector, 0)
	return err == nil && sector[510] == 0x55 && sector[511] == 0xaa
}

// poolAt is the id of the pool that a path lies in; "" outside all.
func (a *Sight) poolAt(path string) string {
	for _, p := range a.Pools() {
		if strings.HasPrefix(path, filepath.Clean(p.Path)+"/") {
			return p.ID
		}
	}
	return ""
}
