package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"unvora.example/unvora/core/disk"
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

// known is the format that is on record for an image: what the descriptor of the
// machine says that names it, or what was noted of it. An image that nobody has
// met before is looked at, once.
func (a *Agent) known(path string) (door.Known, error) {
	path = filepath.Clean(path)
	if err := a.within(path); err != nil {
		return door.Known{}, err
	}
	folder := filepath.Dir(path)
	if m, err := a.machines.read(folder); err == nil {
		for _, d := range m.Disks {
			if filepath.Join(folder, d.File) == path {
				return a.formatOf(path, d.Format)
			}
		}
	}
	return a.formatOf(path, a.sweep.statedAt(path))
}

// formatOf is the format that a descriptor states for an image; where it states
// none that is known here, the one that was noted.
func (a *Agent) formatOf(path, stated string) (door.Known, error) {
	if _, err := formats.ByName(stated); err == nil {
		return door.OnRecord(stated)
	}
	st, err := a.door.Stat(path)
	if err != nil {
		return door.Known{}, err
	}
	sys, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return door.Known{}, fmt.Errorf("%s: the system does not tell which file it is", path)
	}
	now := noted{Device: uint64(sys.Dev), Inode: sys.Ino}
	var n noted
	if there, err := a.store.get("formats", path, &n); err != nil {
		return door.Known{}, err
	} else if there && n.Device == now.Device && n.Inode == now.Inode {
		return door.OnRecord(n.Format)
	}
	k, err := a.door.Guess(path)
	if err != nil {
		return k, err
	}
	now.Format = k.Name()
	return k, a.store.put("formats", path, now)
}

// chain opens a disk with all its parents.
func (a *Agent) chain(path string) (*formats.Chain, error) {
	as, err := a.known(path)
	if err != nil {
		return nil, err
	}
	return a.door.Chain(path, as)
}

// allocated is the room that a file takes, in bytes.
func (a *Agent) allocated(path string) (int64, error) { return disk.Room(a.door, path) }

// writeSynced makes a file that survives a crash.
func (a *Agent) writeSynced(path string, raw []byte) error {
	return disk.WriteSynced(a.door, path, raw, fileMode)
}

// What is made in pools can be read by the group of the agent's account, and by
// nobody else.
const (
	fileMode = 0o640
	dirMode  = 0o750
)

// renameNew renames without writing over anything.
func (a *Agent) renameNew(from, to string) error {
	err := a.door.RenameNew(from, to)
	if os.IsExist(err) {
		return &taskError{"name.taken", fmt.Sprintf("%s exists already", to)}
	}
	return err
}

func (a *Agent) syncDir(path string) error       { return disk.SyncDir(a.door, path) }
func (a *Agent) removeIfThere(path string) error { return disk.RemoveIfThere(a.door, path) }
