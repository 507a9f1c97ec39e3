package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/internal/hostlink"
)

// markFile in a pool's directory bears its id, so that one share that two
// hosts see is one pool.
const markFile = ".unvora-pool.json"

// workDir in a pool holds what is not finished; jobs have directories in it.
const workDir = ".unvora"

type mark struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// pools looks at every pool of the host as it is now.
func (a *Agent) pools() []hostlink.Pool {
	list := make([]hostlink.Pool, 0, len(a.config.Pools))
	for _, c := range a.config.Pools {
		p := hostlink.Pool{Name: c.Name, Path: c.Path, Removable: c.Removable, Labels: c.Labels, State: "away"}
		a.store.get("pools", c.Path, &p.ID) // as it was when last here
		id, err := readMark(c)
		if errors.Is(err, fs.ErrNotExist) && p.ID == "" {
			id, err = writeMark(c)
		}
		if err == nil {
			if id != p.ID {
				p.ID = id
				if err := a.store.put("pools", c.Path, id); err != nil {
					a.log.Warn("pool id not kept", "pool", c.Name, "error", err)
				}
			}
			p.State = "ready"
			if unix.Access(c.Path, unix.W_OK) != nil {
				p.State = "read-only"
			}
			p.TotalBytes, p.FreeBytes = room(c.Path)
		}
		list = append(list, p)
	}
	return list
}

func room(path string) (total, free int64) {
	var st unix.Statfs_t
	if unix.Statfs(path, &st) != nil {
		return 0, 0
	}
	return int64(st.Blocks) * st.Bsize, int64(st.Bavail) * st.Bsize
}

func readMark(c PoolConfig) (string, error) {
	raw, err := os.ReadFile(filepath.Join(c.Path, markFile))
	if err != nil {
		return "", err
	}
	var m mark
	if err := json.Unmarshal(raw, &m); err != nil || m.ID == "" {
		return "", fmt.Errorf("the mark of pool %s can't be read: %v", c.Name, err)
	}
	return m.ID, nil
}

// writeMark marks a directory that is seen for the first time. A directory
// that is not there is not made: it may be a mount point with nothing mounted.
func writeMark(c PoolConfig) (string, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return "", err
	}
	raw, err := json.Marshal(mark{id.String(), c.Name})
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(filepath.Join(c.Path, markFile), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) { // another host was quicker
		return readMark(c)
	}
	if err != nil {
		return "", err
	}
	_, err = f.Write(raw)
	return id.String(), errors.Join(err, f.Sync(), f.Close())
}
