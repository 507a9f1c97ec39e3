// Package ground is what every room of the agent stands on: its configuration, its records, the way to the files of
// pools and shelves, the hypervisor's driver.
package ground

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/hostlink"
)

// Ground is what every room of the agent stands on.
type Ground struct {
	Config  Config
	Family  fit.Family
	Driver  driver.Driver
	Door    *door.Door
	Records *Records
	Log     *slog.Logger

	still   still
	writing sync.Map // paths of pools that are written to just now: that this host is there
}

// Refusal is a failure with the code of a finding.
type Refusal struct{ Code, Message string }

func (e *Refusal) Error() string { return e.Message }

// Refuse makes a refusal.
func Refuse(code, format string, args ...any) error {
	return &Refusal{code, fmt.Sprintf(format, args...)}
}

// CodeOf finds the finding that an error is; "" when none fits.
func CodeOf(err error) string {
	var te *Refusal
	var p *ovf.Problem
	switch {
	case errors.As(err, &te):
		return te.Code
	case errors.As(err, &p):
		return p.Code
	case errors.Is(err, unix.ENOSPC), errors.Is(err, unix.EDQUOT):
		return "space.short"
	case errors.Is(err, unix.EROFS):
		return "pool.read-only"
	case errors.Is(err, disk.ErrOutside):
		return "file.outside"
	case errors.Is(err, disk.ErrSpecial):
		return "file.special"
	case errors.Is(err, disk.ErrDamaged):
		return "disk.damaged"
	case errors.Is(err, disk.ErrVariant), errors.Is(err, disk.ErrFormat):
		return "disk.format-unknown"
	case errors.Is(err, disk.ErrEncrypted):
		return "disk.encrypted"
	}
	return ""
}

// WorkDir in a pool holds what is not finished; jobs have directories in it.
const WorkDir = ".unvora"

// StagingDir is where a job's unfinished files lie in a pool.
func StagingDir(pool, job string) string { return filepath.Join(pool, WorkDir, job) }

// PartDir is where those of one of its machines lie; each has a directory, since that becomes its folder.
func PartDir(pool, job string, part int) string {
	if part == 0 {
		return StagingDir(pool, job)
	}
	return StagingDir(pool, job) + "." + strconv.Itoa(part)
}

// JobOf is the job whose files lie in a directory of that name in the working directory of a pool.
func JobOf(name string) string {
	job, _, _ := strings.Cut(name, ".")
	return job
}

// What is made in pools can be read by the group of the agent's account, and by
// nobody else.
const (
	FileMode = 0o640
	DirMode  = 0o750
)

// Within tells whether path lies in a pool or on a shelf of this host: the
// service may ask for nothing else.
func (g *Ground) Within(path string) error {
	if g.Door.Within(path) == nil {
		return nil
	}
	return Refuse("disk.outside-pool", "%s lies in no pool and on no shelf of %s", path, g.Config.Name)
}

// Allocated is the room that a file takes, in bytes.
func (g *Ground) Allocated(path string) (int64, error) { return disk.Room(g.Door, path) }

// WriteSynced makes a file that survives a crash.
func (g *Ground) WriteSynced(path string, raw []byte) error {
	return disk.WriteSynced(g.Door, path, raw, FileMode)
}

// RenameNew renames without writing over anything.
func (g *Ground) RenameNew(from, to string) error {
	err := g.Door.RenameNew(from, to)
	if os.IsExist(err) {
		return Refuse("name.taken", "%s exists already", to)
	}
	return err
}

// SyncDir writes a directory out to the drive.
func (g *Ground) SyncDir(path string) error { return disk.SyncDir(g.Door, path) }

// RemoveIfThere removes a file, if it is there.
func (g *Ground) RemoveIfThere(path string) error { return disk.RemoveIfThere(g.Door, path) }

// Ports lead out of the host; nil when the driver makes no switches.
func (g *Ground) Ports(ctx context.Context) []wiring.Port {
	n, ok := g.Driver.(driver.Network)
	if !ok {
		return nil
	}
	list, err := n.Ports(ctx)
	if err != nil {
		g.Log.Warn("list the ports of this host", "error", err)
	}
	return list
}

// Hello is what the agent says of itself and its host.
func (g *Ground) Hello() *hostlink.Hello {
	abilities := g.Config.Abilities
	if able, ok := g.Driver.(driver.Able); ok {
		abilities.NoAcceleration = able.NoAcceleration()
	}
	abilities.Can = driver.Can(g.Driver)
	abilities.ReturnSeconds = int(g.Config.ReturnAfter().Seconds())
	return &hostlink.Hello{
		Protocol: hostlink.Protocol, Name: g.Config.Name, Family: g.Config.Family, Driver: g.Config.Driver,
		Site: g.Config.Site,
		CPUs: g.Config.CPUs, MemoryBytes: g.Config.MemoryMB << 20, Time: time.Now(), Abilities: abilities,
	}
}
