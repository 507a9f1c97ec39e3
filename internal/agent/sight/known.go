package sight

import (
	"fmt"
	"path/filepath"
	"syscall"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/agent/door"
)

// noted is the format of an image that no descriptor tells, as it was found out
// when it was first looked at. It counts for that very file.
type noted struct {
	Format string `json:"format"`
	Device uint64 `json:"device"`
	Inode  uint64 `json:"inode"`
}

// Known is the format that is on record for an image: what the descriptor of the
// machine says that names it, or what was noted of it. An image that nobody has
// met before is looked at, once.
func (a *Sight) Known(path string) (door.Known, error) {
	path = filepath.Clean(path)
	if err := a.Within(path); err != nil {
		return door.Known{}, err
	}
	folder := filepath.Dir(path)
	if m, err := a.Machine(folder); err == nil {
		for _, d := range m.Disks {
			if filepath.Join(folder, d.File) == path {
				return a.FormatOf(path, d.Format)
			}
		}
	}
	return a.FormatOf(path, a.sweep.statedAt(path))
}

// FormatOf is the format that a descriptor states for an image; where it states
// none that is known here, the one that was noted.
func (a *Sight) FormatOf(path, stated string) (door.Known, error) {
	if _, err := formats.ByName(stated); err == nil {
		return door.OnRecord(stated)
	}
	st, err := a.Door.Stat(path)
	if err != nil {
		return door.Known{}, err
	}
	sys, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return door.Known{}, fmt.Errorf("%s: the system does not tell which file it is", path)
	}
	now := noted{Device: uint64(sys.Dev), Inode: sys.Ino}
	var n noted
	if there, err := a.Records.Get("formats", path, &n); err != nil {
		return door.Known{}, err
	} else if there && n.Device == now.Device && n.Inode == now.Inode {
		return door.OnRecord(n.Format)
	}
	k, err := a.Door.Guess(path)
	if err != nil {
		return k, err
	}
	now.Format = k.Name()
	return k, a.Records.Put("formats", path, now)
}

// Chain opens a disk with all its parents.
func (a *Sight) Chain(path string) (*formats.Chain, error) {
	as, err := a.Known(path)
	if err != nil {
		return nil, err
	}
	return a.Door.Chain(path, as)
}
