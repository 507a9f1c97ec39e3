package sight

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// markFile in a pool's directory bears its id, so that one share that two
// hosts see is one pool.
const markFile = ".unvora-pool.json"

// mostMark is more than a mark has, in bytes.
const mostMark = 64 << 10

type mark struct {
	ID     string   `json:"id"`
	Name   string   `json:"name"`
	Labels []string `json:"labels"` // null: those of the agent's file
}

// Pools looks at every pool of the host as it is now.
func (a *Sight) Pools() []hostlink.Pool {
	list := make([]hostlink.Pool, 0, len(a.Config.Pools))
	for _, c := range a.Config.Pools {
		list = append(list, a.pool(c))
	}
	return list
}

// awayPool is what is known of a pool without looking at it.
func (a *Sight) awayPool(c ground.PoolConfig) hostlink.Pool {
	p := hostlink.Pool{Name: c.Name, Path: c.Path, Removable: c.Removable, Labels: c.Labels, State: plan.PoolAway,
		Foreign: c.Manager, MaxFile: c.MaxFile, Rate: c.Rate}
	_, _ = a.Records.Get("pools", c.Path, &p.ID) // as it was when last here
	return p
}

func (a *Sight) pool(c ground.PoolConfig) hostlink.Pool {
	p := a.awayPool(c)
	m, err := a.readMark(c)
	if errors.Is(err, fs.ErrNotExist) && p.ID == "" {
		m, err = a.writeMark(c)
	}
	if err == nil {
		if m.Labels != nil {
			p.Labels = m.Labels
		}
		if m.ID != p.ID {
			p.ID = m.ID
			if err := a.Records.Put("pools", c.Path, m.ID); err != nil {
				a.Log.Warn("pool id not kept", "pool", c.Name, "error", err)
			}
		}
		p.State = plan.PoolReady
		if !a.Door.Writable(c.Path) {
			p.State = plan.PoolReadOnly
		}
		p.TotalBytes, p.FreeBytes = room(c.Path)
		of := kindOf(c.Path)
		p.Ownerless = of.ownerless
		if p.MaxFile == 0 {
			p.MaxFile = of.maxFile
		}
		if rate, ok := a.rates.Load(p.ID); ok && p.Rate == 0 {
			p.Rate = rate.(int64)
		}
	}
	return p
}

func room(path string) (total, free int64) {
	var st unix.Statfs_t
	if unix.Statfs(path, &st) != nil {
		return 0, 0
	}
	return int64(st.Blocks) * st.Bsize, int64(st.Bavail) * st.Bsize
}

// fileSystem is what the kind of a file system says of the files on it.
type fileSystem struct {
	maxFile   int64 // bytes that a file has at most; 0: no bound known
	ownerless bool  // it keeps no owners: rights are what the mount says, for all alike
}

// fileSystems by their magic number (statfs(2)); what is not here has owners and no
// bound that matters.
var fileSystems = map[int64]fileSystem{
	unix.MSDOS_SUPER_MAGIC: {4<<30 - 1, true},
	unix.EXFAT_SUPER_MAGIC: {0, true},
	0x5346544e:             {0, true}, // NTFS
	0x7366746e:             {0, true}, // NTFS3
}

func kindOf(path string) fileSystem {
	var st unix.Statfs_t
	if unix.Statfs(path, &st) != nil {
		return fileSystem{}
	}
	return fileSystems[int64(st.Type)]
}

// measured is how much is written to find out how fast a pool is.
const measured = 8 << 20

// measure finds out how fast each pool is written to, where nobody has said so.
func (a *Sight) measure(ctx context.Context) {
	piece := make([]byte, 1<<20)
	for i := range piece { // nothing that compresses well
		piece[i] = byte(i*i>>7) ^ byte(i)
	}
	for _, p := range a.Pools() {
		if p.State != plan.PoolReady || p.Rate != 0 || p.FreeBytes < 16*measured || ctx.Err() != nil {
			continue
		}
		rate, err := a.writeRate(filepath.Join(p.Path, markFile+".rate"), piece)
		if err != nil {
			a.Log.Warn("speed of pool not measured", "pool", p.Name, "error", err)
			continue
		}
		a.rates.Store(p.ID, rate)
	}
}

// writeRate is bytes a second that a new file is written with, down to the drive.
func (a *Sight) writeRate(path string, piece []byte) (int64, error) {
	f, err := a.Door.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, ground.FileMode)
	if err != nil {
		return 0, err
	}
	defer func() { _ = a.RemoveIfThere(path) }()
	began := time.Now()
	for range measured / len(piece) {
		if _, err := f.Write(piece); err != nil {
			return 0, errors.Join(err, f.Close())
		}
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return 0, err
	}
	return int64(float64(measured) / max(time.Since(began).Seconds(), 1e-3)), nil
}

func (a *Sight) readMark(c ground.PoolConfig) (m mark, err error) {
	raw, err := disk.ReadFile(a.Door, filepath.Join(c.Path, markFile), mostMark)
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(raw, &m); err != nil || m.ID == "" {
		return m, fmt.Errorf("the mark of pool %s can't be read: %v", c.Name, err)
	}
	return m, nil
}

// Label writes a pool's labels into its mark, so that every host sees them.
func (a *Sight) Label(pool string, labels []string) error {
	for _, c := range a.Config.Pools {
		m, err := a.readMark(c)
		if err != nil || m.ID != pool {
			continue
		}
		m.Labels = append([]string{}, labels...)
		raw, err := json.Marshal(m)
		if err != nil {
			return err
		}
		next := filepath.Join(c.Path, markFile+".next")
		if err := a.WriteSynced(next, raw); err != nil {
			return errors.Join(err, a.RemoveIfThere(next))
		}
		return errors.Join(a.Door.Rename(next, filepath.Join(c.Path, markFile)), a.SyncDir(c.Path))
	}
	return &hostlink.Fault{Code: "pool.away", Message: "the pool is not there now"}
}

// Settle writes out what the pool's file system still holds in memory, so that
// a drive can be pulled out.
func (a *Sight) Settle(pool string) error {
	for _, c := range a.Config.Pools {
		if m, err := a.readMark(c); err != nil || m.ID != pool {
			continue
		}
		dir, err := disk.OpenRead(a.Door, c.Path)
		if err != nil {
			return err
		}
		return errors.Join(unix.Syncfs(int(dir.Fd())), dir.Close())
	}
	return &hostlink.Fault{Code: "pool.away", Message: "the pool is not there now"}
}

// writeMark marks a directory that is seen for the first time. A directory
// that is not there is not made: it may be a mount point with nothing mounted.
func (a *Sight) writeMark(c ground.PoolConfig) (m mark, err error) {
	id, err := uuid.NewV7()
	if err != nil {
		return m, err
	}
	m = mark{ID: id.String(), Name: c.Name}
	raw, err := json.Marshal(m)
	if err != nil {
		return m, err
	}
	f, err := a.Door.OpenFile(filepath.Join(c.Path, markFile), os.O_CREATE|os.O_EXCL|os.O_WRONLY, ground.FileMode)
	if errors.Is(err, fs.ErrExist) { // another host was quicker
		return a.readMark(c)
	}
	if err != nil {
		return m, err
	}
	_, err = f.Write(raw)
	return m, errors.Join(err, f.Sync(), f.Close())
}
