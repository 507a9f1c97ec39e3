package sight

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

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
	m, err := a.Mark(c)
	if errors.Is(err, fs.ErrNotExist) && p.ID == "" {
		m, err = a.MarkNew(c)
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
		free, foreign, err := a.OwnPool(c, m)
		if err != nil {
			a.Log.Warn("whose a pool is", "pool", c.Name, "error", err)
		}
		switch p.Owner = foreign; {
		case free:
			p.State = plan.PoolFree
		case foreign != "" || !a.Door.Writable(c.Path):
			p.State = plan.PoolReadOnly
		}
		p.TotalBytes, p.FreeBytes = a.room(c.Path)
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
		rate, err := a.writeRate(filepath.Join(p.Path, ground.MarkFile+".rate"), piece)
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

// Label writes a pool's labels into its mark, so that every host sees them.
func (a *Sight) Label(pool string, labels []string) error {
	for _, c := range a.Config.Pools {
		m, err := a.Mark(c)
		if err != nil || m.ID != pool {
			continue
		}
		m.Labels = append([]string{}, labels...)
		return a.WriteMark(c, m)
	}
	return &hostlink.Fault{Code: "pool.away", Message: "the pool is not there now"}
}

// Settle writes out what the pool's file system still holds in memory, so that
// a drive can be pulled out.
func (a *Sight) Settle(pool string) error {
	for _, c := range a.Config.Pools {
		if m, err := a.Mark(c); err != nil || m.ID != pool {
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
