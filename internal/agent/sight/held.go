package sight

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"sync"
	"time"
)

// heldDisk is a layer that a registered machine's disk consists of.
type heldDisk struct {
	folder  string // of the machine
	machine string
	path    string
	id      string
	top     bool // the machine writes to it; else its disk stands on it
}

// holdings are the layers of all registered machines' disks. They are kept from look to look, so that a look at one
// folder costs the same however many machines the host has.
type holdings struct {
	a *Sight

	mu      sync.Mutex
	of      map[string][]heldDisk      // by machine folder
	at      map[string][]heldDisk      // by path
	under   map[string]map[string]bool // the paths below a directory
	tops    map[string][]heldDisk      // top layers, by id
	checked time.Time                  // when each was last compared with its files
}

// trusted is how long a look for a plan trusts what is kept of a machine that was on the list before. What a task does
// to a disk is decided by what its files say at that moment.
const trusted = time.Second

// refresh brings the holdings up to date: machines that came or went at once, others when they were last compared
// longer ago than within. Files are read without the lock: what stands still holds up nobody else.
func (h *holdings) refresh(within time.Duration) {
	h.mu.Lock()
	listed, now := h.a.Records.Register(), time.Now()
	all := now.Sub(h.checked) >= within
	for folder := range h.of {
		if _, still := listed[folder]; !still {
			h.put(folder, nil)
		}
	}
	var look []string
	for folder := range listed {
		if _, known := h.of[folder]; !known || all {
			look = append(look, folder)
		}
	}
	h.mu.Unlock()
	for _, folder := range look {
		layers, err := h.a.layersOf(folder)
		h.mu.Lock()
		// What can't be read now holds what it was last known to hold.
		if _, still := h.a.Records.Listed(folder); still && (err == nil || h.of[folder] == nil) {
			h.put(folder, layers)
		}
		h.mu.Unlock()
	}
	if all {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.checked = now
	}
}

// Anew has a machine's disks read anew at the next look: a task may have changed them.
func (a *Sight) Anew(folder string) {
	a.held.mu.Lock()
	defer a.held.mu.Unlock()
	a.held.put(folder, nil)
}

// put replaces what a machine holds; nil: it is on the list no more.
func (h *holdings) put(folder string, list []heldDisk) {
	was, known := h.of[folder]
	if known && list != nil && slices.Equal(was, list) {
		return
	}
	mine := func(d heldDisk) bool { return d.folder == folder }
	for _, d := range was {
		if h.at[d.path] = slices.DeleteFunc(h.at[d.path], mine); len(h.at[d.path]) == 0 {
			delete(h.at, d.path)
			for dir := range ancestors(d.path) {
				if delete(h.under[dir], d.path); len(h.under[dir]) == 0 {
					delete(h.under, dir)
				}
			}
		}
		if h.tops[d.id] = slices.DeleteFunc(h.tops[d.id], mine); len(h.tops[d.id]) == 0 {
			delete(h.tops, d.id)
		}
	}
	if list == nil {
		delete(h.of, folder)
		return
	}
	h.of[folder] = list
	for _, d := range list {
		h.at[d.path] = append(h.at[d.path], d)
		for dir := range ancestors(d.path) {
			if h.under[dir] == nil {
				h.under[dir] = map[string]bool{}
			}
			h.under[dir][d.path] = true
		}
		if d.top && d.id != "" {
			h.tops[d.id] = append(h.tops[d.id], d)
		}
	}
}

// ancestors are the directories that a path lies in.
func ancestors(path string) func(yield func(dir string) bool) {
	return func(yield func(string) bool) {
		for dir := filepath.Dir(path); yield(dir) && dir != filepath.Dir(dir); {
			dir = filepath.Dir(dir)
		}
	}
}

// layersOf are the layers of a registered machine's disks, as far as they can be read.
func (a *Sight) layersOf(folder string) ([]heldDisk, error) {
	list := []heldDisk{}
	m, err := a.Machine(folder)
	if err != nil {
		return list, err
	}
	for _, d := range m.Disks {
		path := filepath.Clean(filepath.Join(folder, d.File))
		layers, e := a.chains.remembered.read(image{path, d.Format})
		if e != nil && !errors.Is(e, fs.ErrNotExist) { // a disk that is gone is held by nobody
			err = errors.Join(err, e)
		}
		for n, l := range layers {
			list = append(list, heldDisk{folder, m.Name, l.Path, l.ID, n == 0})
		}
	}
	return list, err
}

// names are the machines of those layers that how picks, without the one in folder, sorted.
func names(layers []heldDisk, folder string, how func(heldDisk) bool) []string {
	list := []string{}
	for _, d := range layers {
		if d.folder != folder && how(d) && !slices.Contains(list, d.machine) {
			list = append(list, d.machine)
		}
	}
	slices.Sort(list)
	return list
}

func isTop(d heldDisk) bool { return d.top }
func isLow(d heldDisk) bool { return !d.top }

// on are the machines, but for the one in folder, that hold a file in the way that how picks.
func (h *holdings) on(folder, path string, how func(heldDisk) bool) []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return names(h.at[path], folder, how)
}

// bearing are the machines, but for the one in folder, that write to another file than path of that id.
func (h *holdings) bearing(folder, path, id string) []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return names(h.tops[id], folder, func(d heldDisk) bool { return d.path != path })
}

// stood are the files below a directory that disks of others stand on, with whose.
func (h *holdings) stood(folder, dir string) map[string][]string {
	h.mu.Lock()
	defer h.mu.Unlock()
	by := map[string][]string{}
	for path := range h.under[dir] {
		if who := names(h.at[path], folder, isLow); len(who) > 0 {
			by[path] = who
		}
	}
	return by
}

// standing are the machines whose disks stand on files below a directory.
func (h *holdings) standing(folder, dir string) []string {
	all := []string{}
	for _, who := range h.stood(folder, dir) {
		all = append(all, who...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// StoodOn are the registered machines, but for the one in folder, whose layers rest on a file, or on one in a
// directory.
func (a *Sight) StoodOn(folder, path string) []string {
	a.held.refresh(0)
	return append(a.held.standing(folder, path), a.held.on(folder, path, isLow)...)
}

// HeldBy are the registered machines, but for the one in folder, that write to a file, or whose layers rest on it.
func (a *Sight) HeldBy(folder, path string) []string {
	a.held.refresh(0)
	return a.held.on(folder, filepath.Clean(path), func(heldDisk) bool { return true })
}

// WrittenBy are those of them that write to it.
func (a *Sight) WrittenBy(folder, path string) []string {
	a.held.refresh(0)
	return a.held.on(folder, filepath.Clean(path), isTop)
}
