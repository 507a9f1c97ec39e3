package ground

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/plan"
)

// MarkFile in a pool's directory bears its id, so that one share that two hosts see is one pool. What begins with it
// and a dot is the agents' own.
const MarkFile = ".unvora-pool.json"

// mostMark is more than a mark has, in bytes.
const mostMark = 64 << 10

// Mark of a pool.
type Mark struct {
	ID     string   `json:"id"`
	Name   string   `json:"name"`
	Labels []string `json:"labels"` // null: those of the agent's file
	// Owner is the Unvora whose agents write to the pool; null where none has it yet.
	Owner *Owner `json:"owner,omitempty"`
	// Freed is when it was handed over, and not taken over since; null: it was not.
	Freed *Freed `json:"freed,omitempty"`
}

// Owner of a pool.
type Owner struct {
	ID   string `json:"id"`   // of the Unvora
	Host string `json:"host"` // a host of it
}

// Freed is who handed a pool over, and when.
type Freed struct {
	Host string    `json:"host"`
	At   time.Time `json:"at"`
}

// OwnPool makes the mark of a pool that is nobody's yet the one of this agent's Unvora. It tells whether the pool was
// handed over; foreign is a host of the Unvora that it belongs to instead, "" for none.
func (g *Ground) OwnPool(c PoolConfig, m Mark) (free bool, foreign string, err error) {
	own, err := g.Records.Unvora()
	switch {
	case err != nil:
		return false, "", err
	case m.Freed != nil:
		return true, "", nil
	case own == "":
		return false, "", nil
	case m.Owner == nil:
		if !g.Door.Writable(c.Path) {
			return false, "", nil
		}
		m.Owner = &Owner{ID: own, Host: g.Config.Name}
		return false, "", g.WriteMark(c, m)
	case m.Owner.ID != own:
		return false, m.Owner.Host, nil
	}
	return false, "", nil
}

// PoolAt is the pool of an id as it is there now.
func (g *Ground) PoolAt(id string) (c PoolConfig, m Mark, err error) {
	for _, c := range g.Config.Pools {
		if m, err := g.Mark(c); err == nil && m.ID == id {
			return c, m, nil
		}
	}
	return c, m, Refuse("pool.away", "the pool is not there now")
}

// PoolMark tells whose a pool is.
func (g *Ground) PoolMark(id string) (*plan.PoolMark, error) {
	c, m, err := g.PoolAt(id)
	if err != nil {
		return nil, err
	}
	own, err := g.Records.Unvora()
	if err != nil {
		return nil, err
	}
	p := &plan.PoolMark{QuietSeconds: -1}
	p.Free = m.Freed != nil
	if m.Owner != nil {
		p.Owner, p.OwnerHost, p.Ours = m.Owner.ID, m.Owner.Host, m.Owner.ID == own && own != ""
		quiet, err := g.ownerQuiet(c, m.Owner.ID, time.Now()) // nothing is written to what may be another's
		if err != nil {
			return nil, err
		}
		p.QuietSeconds = int64(quiet / time.Second)
	}
	return p, nil
}

// OwnerQuiet is how long ago any host of an Unvora wrote to a pool that it is there, by the clock of the pool's file
// system: for that something is written there. Negative where none ever did.
func (g *Ground) OwnerQuiet(c PoolConfig, owner string) (time.Duration, error) {
	return g.ownerQuiet(c, owner, g.clock(c))
}

func (g *Ground) ownerQuiet(c PoolConfig, owner string, now time.Time) (time.Duration, error) {
	least := time.Duration(never)
	entries, err := g.Door.ReadDir(c.Path)
	if err != nil {
		return least, err
	}
	for _, e := range entries {
		host, ok := strings.CutPrefix(e.Name(), filepath.Base(seenFile(c, "")))
		var s seen
		if !ok || g.readJSON(filepath.Join(c.Path, e.Name()), &s) != nil || s.Unvora != owner {
			continue
		}
		if q := g.quiet(c, host, now); q >= 0 && (least < 0 || q < least) {
			least = q
		}
	}
	return least, nil
}

// Mark reads the mark of a pool.
func (g *Ground) Mark(c PoolConfig) (m Mark, err error) {
	if err := g.readJSON(filepath.Join(c.Path, MarkFile), &m); err != nil {
		return m, err
	}
	if m.ID == "" {
		return m, fmt.Errorf("the mark of pool %s has no id", c.Name)
	}
	return m, nil
}

// MarkNew marks a directory that is seen for the first time. A directory that is not there is not made: it may be a
// mount point with nothing mounted.
func (g *Ground) MarkNew(c PoolConfig) (m Mark, err error) {
	id, err := uuid.NewV7()
	if err != nil {
		return m, err
	}
	m = Mark{ID: id.String(), Name: c.Name}
	raw, err := json.Marshal(m)
	if err != nil {
		return m, err
	}
	f, err := g.Door.OpenFile(filepath.Join(c.Path, MarkFile), os.O_CREATE|os.O_EXCL|os.O_WRONLY, FileMode)
	if errors.Is(err, fs.ErrExist) { // another host was quicker
		return g.Mark(c)
	}
	if err != nil {
		return m, err
	}
	_, err = f.Write(raw)
	return m, errors.Join(err, f.Sync(), f.Close())
}

// WriteMark writes the mark of a pool anew.
func (g *Ground) WriteMark(c PoolConfig, m Mark) error {
	return g.writeJSON(filepath.Join(c.Path, MarkFile), m)
}

// readJSON reads a small file of ours in a pool.
func (g *Ground) readJSON(path string, into any) error {
	raw, err := disk.ReadFile(g.Door, path, mostMark)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return fmt.Errorf("%s can't be read: %w", path, err)
	}
	return nil
}

// writeJSON writes a small file of ours in a pool, beside its place first.
func (g *Ground) writeJSON(path string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	self, err := g.Records.Self()
	if err != nil {
		return err
	}
	next := path + ".next-" + self // two hosts may write it at once
	if err := g.WriteSynced(next, raw); err != nil {
		return errors.Join(err, g.RemoveIfThere(next))
	}
	return errors.Join(g.Door.Rename(next, path), g.SyncDir(filepath.Dir(path)))
}

// poolOf finds the pool that a path lies in, and where in it.
func (g *Ground) poolOf(path string) (c PoolConfig, rel string, ok bool) {
	for _, c := range g.Config.Pools {
		if rel, ok := strings.CutPrefix(path, filepath.Clean(c.Path)+"/"); ok {
			return c, rel, true
		}
	}
	return c, "", false
}

// seenFile is the file of a pool that a host writes again and again, so that others can tell that it is alive.
func seenFile(c PoolConfig, host string) string { return filepath.Join(c.Path, MarkFile+".seen-"+host) }

// SeenEvery is how often a host writes to its pools that it is there.
const SeenEvery = plan.SilentAfter / 4

// seenTime is how long a pool gets to take it. One that takes longer holds up no other, and is left until it has.
const seenTime = 5 * time.Second

// Seen writes to each pool that this host is alive.
func (g *Ground) Seen() {
	self, err := g.Records.Self()
	if err != nil {
		g.Log.Error("this agent's id", "error", err)
		return
	}
	var all sync.WaitGroup
	for _, c := range g.Config.Pools {
		if _, busy := g.writing.LoadOrStore(c.Path, true); busy {
			continue
		}
		all.Go(func() {
			defer g.writing.Delete(c.Path)
			m, err := g.Mark(c) // none: nothing is mounted there
			if err == nil {
				if free, foreign, _ := g.OwnPool(c, m); free || foreign != "" {
					return
				}
				err = g.seen(c, self)
			}
			if err != nil {
				g.Log.Debug("not noted in the pool that this host is there", "pool", c.Name, "error", err)
			}
		})
	}
	InTime(seenTime, all.Wait)
}

// InTime calls f and waits for it for so long at most. It goes on by itself.
func InTime(most time.Duration, f func()) (done bool) {
	over := make(chan struct{})
	go func() { f(); close(over) }()
	select {
	case <-over:
		return true
	case <-time.After(most):
		return false
	}
}

func (g *Ground) seen(c PoolConfig, self string) error {
	own, err := g.Records.Unvora()
	if err != nil {
		return err
	}
	raw, err := json.Marshal(seen{g.Config.Name, own})
	if err != nil {
		return err
	}
	f, err := g.Door.OpenFile(seenFile(c, self), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, FileMode)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	return errors.Join(err, f.Close())
}

// seen is what a host writes to its pools: that it is there.
type seen struct {
	Host   string `json:"host"`
	Unvora string `json:"unvora"` // that it belongs to
}

// never is what Quiet says of a host that has written nothing.
const never = -time.Second

// Quiet is how long ago a host wrote to a pool that it is there, by the clock of the pool's file system; negative where
// it never did.
func (g *Ground) Quiet(c PoolConfig, host string) time.Duration { return g.quiet(c, host, g.clock(c)) }

func (g *Ground) quiet(c PoolConfig, host string, now time.Time) time.Duration {
	st, err := g.Door.Stat(seenFile(c, host))
	if err != nil {
		return never
	}
	return max(0, now.Sub(st.ModTime()))
}

// clock is the time by the file system of a pool, which a file that is written there tells; that of this computer where
// none can be written.
func (g *Ground) clock(c PoolConfig) time.Time {
	if self, err := g.Records.Self(); err == nil && g.seen(c, self) == nil {
		if own, err := g.Door.Stat(seenFile(c, self)); err == nil {
			return own.ModTime()
		}
	}
	return time.Now()
}
