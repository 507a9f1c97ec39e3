package ground

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

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// HolderFile in a machine's folder names the host that lists it. A pool that several hosts see is so safe from two of
// them starting one machine, also while the service reaches neither.
const HolderFile = ".unvora-host.json"

// Holder is the host that lists a machine, as the mark in its folder says.
type Holder struct {
	ID       string    `json:"id"` // of its agent
	Name     string    `json:"name"`
	Computer string    `json:"computer"` // its name in the network
	Since    time.Time `json:"since"`
	// The place that it was written for: in a folder that was copied or renamed by hand it says nothing.
	Pool   string `json:"pool"` // id
	Folder string `json:"folder"`
	// From is the agent that the machine was taken from without its doing. It obeys once it comes back.
	From string `json:"from,omitempty"`
}

// holder reads the mark of a folder; nil where it has none that counts.
func (g *Ground) holder(folder string) (*Holder, *Mark, error) {
	c, rel, ok := g.poolOf(filepath.Clean(folder))
	if !ok {
		return nil, nil, nil
	}
	var h Holder
	err := g.readJSON(filepath.Join(folder, HolderFile), &h)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) {
		return nil, nil, nil
	}
	if err == nil && (uuid.Validate(h.ID) != nil || machine.CheckName(h.Name) != nil) { // others may have written it
		err = fmt.Errorf("%s in %s is no mark of a host", HolderFile, folder)
	}
	if err != nil {
		return nil, nil, err
	}
	m, err := g.Mark(c)
	if err != nil {
		return nil, nil, err
	}
	if h.Pool != m.ID || h.Folder != rel {
		return nil, &m, nil
	}
	return &h, &m, nil
}

// mine tells whether a mark is this host's, be it of an agent whose records were lost.
func (g *Ground) mine(h *Holder) (bool, error) {
	self, err := g.Records.Self()
	return h.ID == self || h.Name == g.Config.Name && h.Computer == computer(), err
}

// computer is the name of this computer in the network; "" where the system does not tell it.
func computer() string {
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	return name
}

// HeldElsewhere is the other host that lists the machine in a folder; nil for none.
func (g *Ground) HeldElsewhere(folder string) (*Holder, error) {
	h, _, err := g.holder(folder)
	if h == nil || err != nil {
		return nil, err
	}
	if mine, err := g.mine(h); mine || err != nil {
		return nil, err
	}
	return h, nil
}

// ListedBy is HeldElsewhere as plans are told it.
func (g *Ground) ListedBy(folder string) (*plan.ListedBy, error) {
	h, err := g.HeldElsewhere(folder)
	if h == nil || err != nil {
		return nil, err
	}
	c, _, _ := g.poolOf(filepath.Clean(folder))
	return &plan.ListedBy{ID: h.ID, Name: h.Name, QuietSeconds: int64(g.Quiet(c, h.ID) / time.Second)}, nil
}

// Ours is a refusal when another host lists the machine in a folder.
func (g *Ground) Ours(folder string) error {
	h, err := g.HeldElsewhere(folder)
	if err != nil {
		return err
	}
	if h != nil {
		return Refuse("copy.listed-elsewhere", "%s lists the machine in %s, as a mark in its folder says: only there "+
			"may it run or be changed", h.Name, filepath.Base(folder))
	}
	return nil
}

// List puts a machine folder on the list of the host. Its mark is written before. Where the mark names another host,
// that is a refusal, unless it is from, which it is taken from.
func (g *Ground) List(folder string, r Registered, from string) error {
	if err := g.claim(folder, from); err != nil {
		return err
	}
	return g.Records.list(folder, r)
}

// Delist takes a machine folder off the list of the host, and then its mark.
func (g *Ground) Delist(folder string) error {
	if err := g.Records.delist(folder); err != nil {
		return err
	}
	var h Holder
	path := filepath.Join(folder, HolderFile)
	if _, _, ok := g.poolOf(path); !ok || g.readJSON(path, &h) != nil {
		return nil // there is none, or it can't be read and counts for nobody
	}
	if mine, err := g.mine(&h); !mine || err != nil {
		return err
	}
	err := g.RemoveIfThere(path)
	if errors.Is(err, unix.EROFS) {
		return nil
	}
	return err
}

// Unclaim takes a mark of this host away where it lists no machine: it was killed after it had taken one off its list.
// One of a machine that was taken from another stays: it comes onto the list next.
func (g *Ground) Unclaim(folder string) {
	h, _, err := g.holder(folder)
	if h == nil || err != nil || h.From != "" {
		return
	}
	if mine, err := g.mine(h); !mine || err != nil {
		return
	}
	if _, listed := g.Records.Listed(folder); listed {
		return
	}
	if err := g.RemoveIfThere(filepath.Join(folder, HolderFile)); err != nil {
		g.Log.Warn("a mark of this host is left", "folder", folder, "error", err)
	}
}

// claim writes the mark of this host into a machine's folder.
func (g *Ground) claim(folder, from string) error {
	self, err := g.Records.Self()
	if err != nil {
		return err
	}
	c, rel, ok := g.poolOf(filepath.Clean(folder))
	if !ok {
		return nil
	}
	if _, err := g.Door.Stat(folder); err != nil {
		return nil // its pool is not there now, or its files are gone: it is claimed when it starts
	}
	h, m, err := g.holder(folder)
	if err != nil {
		return err
	}
	if h != nil && h.ID == self {
		return nil
	}
	if h != nil && (from == "" || h.ID != from) {
		if err := g.Ours(folder); err != nil {
			return err
		}
	}
	void := m != nil // a mark lies there that says nothing, or names whom it is taken from, or this host as it was
	if m == nil {
		var mark Mark
		if mark, err = g.Mark(c); errors.Is(err, fs.ErrNotExist) {
			mark, err = g.MarkNew(c)
		}
		if err != nil {
			return err
		}
		m = &mark
	}
	if free, foreign, err := g.OwnPool(c, *m); err != nil || free || foreign != "" {
		if err != nil {
			return err
		}
		return Refuse("pool.foreign", "the pool %s is not this Unvora's: it has to be taken over first", c.Name)
	}
	// Whoever is named by a mark has a sign of life beside it, from the first moment on.
	if err := g.seen(c, self); err != nil && !errors.Is(err, unix.EROFS) {
		return err
	}
	path := filepath.Join(folder, HolderFile)
	mine := Holder{ID: self, Name: g.Config.Name, Computer: computer(), Since: time.Now(), Pool: m.ID, Folder: rel,
		From: from}
	if void {
		return g.writeJSON(path, mine)
	}
	raw, err := json.Marshal(mine)
	if err != nil {
		return err
	}
	next := path + "." + self
	if err = g.WriteSynced(next, raw); err == nil {
		if err = g.Door.RenameNew(next, path); errors.Is(err, fs.ErrExist) { // another host was quicker
			return errors.Join(g.RemoveIfThere(next), g.claim(folder, from))
		}
	}
	if errors.Is(err, unix.EROFS) {
		return nil // nothing can be started from it
	}
	if err != nil {
		return errors.Join(err, g.RemoveIfThere(next))
	}
	return g.SyncDir(folder)
}

// Fence marks a machine as this host's that from lists, which can't be asked: it obeys the mark once it comes back. The
// mark is written first, and then it is looked whether the other is alive. The other writes first that it is, and looks
// at the mark then: one of them sees what the other has written.
func (g *Ground) Fence(folder, from string) error {
	h, err := g.HeldElsewhere(folder)
	if err == nil && h != nil && h.ID != from {
		err = g.Ours(folder)
	}
	if err != nil {
		return err
	}
	if err := g.claim(folder, from); err != nil || h == nil {
		return err
	}
	c, _, _ := g.poolOf(filepath.Clean(folder))
	if quiet := g.Quiet(c, from); plan.Alive(quiet) {
		return errors.Join(g.Unfence(folder, h), Refuse("host.unheard", "%s wrote to the pool %s ago: it is alive, "+
			"and has to be asked", h.Name, quiet.Round(time.Second)))
	}
	return nil
}

// Unfence gives a machine's mark back to whom it was taken from; nil: it had none.
func (g *Ground) Unfence(folder string, was *Holder) error {
	if h, err := g.HeldElsewhere(folder); h != nil || err != nil {
		return err // it has it, or somebody else
	}
	path := filepath.Join(folder, HolderFile)
	if was == nil {
		return g.RemoveIfThere(path)
	}
	return g.writeJSON(path, was)
}

// Obey takes machines off the list that were taken from this host while nobody could ask it, and marks those that have
// no mark yet. Machines are started only afterwards.
func (g *Ground) Obey(ctx context.Context) {
	for folder := range g.Records.Register() {
		listed, wrong := g.Obeys(ctx, folder)
		if wrong != "" {
			g.Log.Error(wrong, "folder", folder)
		}
		if !listed {
			continue
		}
		if err := g.claim(folder, ""); err != nil {
			g.Log.Warn("machine not marked as this host's", "folder", folder, "error", err)
		}
	}
}

// Obeys takes a machine off the list that was taken from this host meanwhile. One that runs here is turned off:
// somebody has said that it does not run, and each of its writes damages what the other host writes. wrong is why
// another host counts as the one that lists it, though this one does too.
func (g *Ground) Obeys(ctx context.Context, folder string) (listed bool, wrong string) {
	h, err := g.HeldElsewhere(folder)
	if err != nil {
		return true, err.Error()
	}
	if h == nil {
		return true, ""
	}
	self, err := g.Records.Self()
	if err != nil {
		return true, err.Error()
	}
	if h.From != self {
		return false, fmt.Sprintf("%s lists it too, as a mark in its folder says, since %s. It is not started here: "+
			"take it off the list of one of them", h.Name, h.Since.Format(time.DateTime))
	}
	s, err := g.Driver.State(ctx, folder)
	if err == nil && s.State.Active() {
		err = g.Driver.Stop(ctx, folder, machine.Off)
	}
	if err == nil {
		err = g.Records.delist(folder)
	}
	if err != nil {
		return false, fmt.Sprintf("%s has taken it over, and here it can't be ended: %v", h.Name, err)
	}
	g.Log.Warn("the machine was taken over by another host meanwhile: it is not on the list here any more",
		"folder", folder, "host", h.Name, "was", s.State)
	return false, ""
}
