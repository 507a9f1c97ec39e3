// Package carry copies a disk, its whole chain applied, to a new image file of
// any format: beside its final place first, with a journal, so that a copy that
// was killed goes on where it was; synced, read back where asked, and renamed
// into place last. A copy that fails or is stopped leaves nothing behind.
package carry

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
)

// Order says what is to be copied where.
type Order struct {
	Source  string // path of the top layer
	Options formats.Options
	Image   disk.Image // that is open already, when it is no file; Source is its name then
	Target  string     // path of the new image
	Format  *formats.Format
	Variant string // "" is the format's first
	ID      string // of the new disk; "" only where the format states none
	Linkage string // to be kept where layers hold on to it; "" means a new one
	Replace bool   // Target may be there and is replaced in the end
	Device  bool   // Target is a block device, and what is on it is given up
	Salvage bool   // pass over what can't be read
	Verify  bool   // read back what was written
	// Blanks finds what of the source is left out, since nobody needs it; nil: nothing is. It has to find the same in
	// the same source.
	Blanks func(source disk.Image) (*disk.Blanks, error)
	// Limit holds the copy to a rate; nil means as fast as it goes.
	Limit *disk.Limit
	// SaveEvery is how many guest bytes of data may pass between two saves of
	// the journal; 0 means as the pump has it.
	SaveEvery int64
	// Now is the clock by which the journal is saved every two seconds; nil: SaveEvery alone counts.
	Now func() time.Time
	// Progress is told of guest bytes of data, those of an earlier try included.
	Progress func(stage string, done, total int64)
}

// Stages that Progress tells.
const (
	Copying   = "copying"
	Verifying = "reading back"
)

// Result is what a copy did.
type Result struct {
	Target       string       `json:"target"`
	Format       string       `json:"format"`
	Variant      string       `json:"variant"`
	ID           string       `json:"id"`
	VirtualBytes int64        `json:"virtualBytes"`
	DataBytes    int64        `json:"dataBytes"`    // of the source, as its map tells
	LeftBytes    int64        `json:"leftBytes"`    // of data, left out as blanks
	FileBytes    int64        `json:"fileBytes"`    // that the new image takes
	ResumedBytes int64        `json:"resumedBytes"` // done by an earlier try
	Shared       bool         `json:"shared"`       // the file system shares the blocks; nothing was moved
	Verified     bool         `json:"verified"`
	Lost         []disk.Range `json:"-"` // what Salvage could not read, in ascending order
}

// files is how sources and target are reached.
func (o Order) files() disk.Files {
	if o.Options.Files == nil {
		return disk.OS
	}
	return o.Options.Files
}

// ErrChanged is returned when a file of the source was written while it was read.
var ErrChanged = errors.New("it changed while it was read; is a machine running on it?")

// copier is a copy at work.
type copier struct {
	Order
	chain  *formats.Chain
	source disk.Image
	rescue *rescue // nil unless Salvage
	spec   disk.Spec
	stamps []stamp
	part   *os.File
	file   *disk.OSFile
	second *disk.OSFile // of a format of two files
	name   string       // of the second
	result Result
}

// Copy carries the order out.
func Copy(ctx context.Context, o Order) (*Result, error) {
	if o.Replace { // the file itself, not a link to it
		real, err := o.files().Real(o.Target)
		if err != nil {
			return nil, err
		}
		o.Target = real
	}
	c := &copier{Order: o}
	if done, err := c.takeUp(); done || err != nil {
		return &c.result, err
	}
	if err := c.prepare(); err != nil {
		return nil, err
	}
	defer c.chain.Close()
	if o.Device {
		return c.toDevice(ctx)
	}
	if err := c.lock(); err != nil {
		return nil, err
	}
	err := c.run(ctx)
	if err == nil {
		err = c.place()
	}
	if err != nil {
		if changed := c.unchanged(); changed != nil { // whatever came of it
			err = changed
		}
		return nil, errors.Join(explain(err, o), c.abandon())
	}
	return &c.result, nil
}

// explain tells what to do about errors of the system that say little.
func explain(err error, o Order) error {
	switch {
	case errors.Is(err, unix.ENOSPC), errors.Is(err, unix.EDQUOT):
		return fmt.Errorf("no room left for %s: %w", o.Target, err)
	case errors.Is(err, unix.EFBIG):
		return fmt.Errorf("%s grows larger than its file system takes: %w", o.Target, err)
	case errors.Is(err, unix.EIO):
		return fmt.Errorf("the storage reports an error; --salvage gets what can be read: %w", err)
	case errors.Is(err, disk.ErrDamaged):
		return fmt.Errorf("read %s: %w", o.Source, err)
	}
	return err
}

func (c *copier) prepare() error {
	st, err := c.files().Lstat(c.Target)
	switch {
	case c.Device:
		if err := c.isDevice(); err != nil {
			return err
		}
	case err == nil && st.Mode()&fs.ModeDevice != 0:
		return fmt.Errorf("%s is a device, and what is on it would be lost: --onto-device if that is meant", c.Target)
	case err == nil && st.IsDir():
		return fmt.Errorf("%s is a folder: name the file that is to be made in it", c.Target)
	case err == nil && !c.Replace:
		return fmt.Errorf("%s is there already, and nothing is ever written over: choose another name", c.Target)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if c.Variant, err = c.Format.Variant(c.Variant); err != nil {
		return err
	}
	if c.Image != nil {
		c.chain = &formats.Chain{Image: c.Image}
	} else if c.chain, err = formats.Look(c.Source, c.Options); err != nil {
		return err
	}
	if err := c.open(); err != nil {
		c.chain.Close()
		return err
	}
	return nil
}

func (c *copier) open() error {
	c.source = c.chain
	info := c.chain.Info()
	switch {
	case info.Encrypted:
		return fmt.Errorf("%s: %w: its contents can't be read without the key", c.Source, disk.ErrEncrypted)
	case c.Salvage:
		c.rescue = &rescue{Image: c.chain.Image}
		if len(c.chain.Faults) > 0 { // what the missing parent held is lost
			layers := make([]disk.Image, 0, len(c.chain.Links)+1)
			for _, l := range c.chain.Links {
				layers = append(layers, l.Image)
			}
			c.rescue.Image = disk.Chain(append(layers, absent(info.VirtualBytes))...)
		}
		c.source = c.rescue
	case len(c.chain.Faults) > 0:
		return &c.chain.Faults[0]
	}
	var err error
	if c.stamps, err = c.stampAll(); err != nil {
		return err
	}
	var left int64
	if c.Blanks != nil {
		blanks, err := c.Blanks(c.source)
		if err != nil {
			return err
		}
		if left, err = blanks.In(c.source); err != nil {
			return err
		}
		c.source = disk.Without(c.source, blanks)
	}
	c.spec = disk.Spec{
		VirtualBytes: info.VirtualBytes, Variant: c.Variant, ID: c.ID, Linkage: c.Linkage,
		SectorBytes: info.SectorBytes,
		Name:        filepath.Base(c.Target), Companion: c.companion, MadeAt: c.Options.MadeAt,
	}
	data, err := disk.DataBytes(c.source)
	if err != nil {
		return err
	}
	c.result = Result{Target: c.Target, Format: c.Format.Name, Variant: c.Variant, ID: c.ID,
		VirtualBytes: info.VirtualBytes, DataBytes: data, LeftBytes: left}
	return nil
}

func (c *copier) partPath() string { return hidden(c.Target, ".part") }
func (c *copier) secondPath() string {
	return hidden(filepath.Join(filepath.Dir(c.Target), c.name), ".part")
}
func (c *copier) journalPath() string { return hidden(c.Target, ".journal") }
func hidden(path, suffix string) string {
	return filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+suffix)
}

// lock opens the part file for this process alone.
func (c *copier) lock() error {
	mode := fs.FileMode(0o640)
	if st, err := c.files().Stat(c.Source); err == nil {
		mode = st.Mode().Perm() | 0o200
	}
	f, err := c.files().OpenFile(c.partPath(), os.O_RDWR|os.O_CREATE, mode)
	if err != nil {
		return err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return fmt.Errorf("another copy to %s is under way", c.Target)
	}
	c.part = f
	if st, err := c.files().Stat(c.Target); err == nil && c.Replace {
		if sys, ok := st.Sys().(*syscall.Stat_t); ok { // whoever ran the machine on the old file can on the new one
			_ = f.Chown(int(sys.Uid), int(sys.Gid))
		}
	}
	if c.file, err = disk.OpenFile(f); err != nil {
		f.Close()
	}
	return err
}

// companion makes the second file of an image of two.
func (c *copier) companion(name string) (disk.File, error) {
	if filepath.Base(name) != name {
		return nil, fmt.Errorf("%q is no file name", name)
	}
	final := filepath.Join(filepath.Dir(c.Target), name)
	if _, err := c.files().Lstat(final); err == nil && !c.Replace {
		return nil, fmt.Errorf("%s is there already, and nothing is ever written over: choose another name", final)
	}
	c.name = name
	f, err := c.files().OpenFile(c.secondPath(), os.O_RDWR|os.O_CREATE, 0o640)
	if err != nil {
		return nil, err
	}
	c.second, err = disk.OpenFile(f)
	return c.second, err
}

func (c *copier) progress(stage string, done int64) {
	if c.Progress != nil {
		c.Progress(stage, done, c.result.DataBytes)
	}
}

func (c *copier) run(ctx context.Context) error {
	if c.share() {
		c.result.Shared = true
		c.progress(Copying, c.result.DataBytes)
	} else if err := c.move(ctx); err != nil {
		return err
	}
	if err := c.unchanged(); err != nil {
		return err
	}
	if c.rescue != nil {
		c.result.Lost = c.rescue.ranges()
	}
	return nil
}

// share lets the file system give the new file the blocks of the old one,
// where the one file is all there is and the new one is to be like it.
func (c *copier) share() bool {
	if len(c.chain.Links) != 1 || c.Salvage || c.Blanks != nil || c.Options.Snapshot != "" {
		return false
	}
	l := c.chain.Links[0]
	info := l.Image.Info()
	if l.Format != c.Format || info.Variant != c.Variant || len(l.Files) != 1 || info.Parent != nil || !info.Clean ||
		len(info.Snapshots) > 0 || c.Linkage != "" {
		return false
	}
	src, err := disk.OpenSource(c.files(), l.Path, os.O_RDONLY)
	if err != nil {
		return false
	}
	defer src.Close()
	if !c.file.Clone(src) {
		return false
	}
	return c.Format.SetID == nil || c.Format.SetID(c.file, c.ID) == nil
}

// move pumps what the source holds into the new image.
func (c *copier) move(ctx context.Context) error {
	target, j, err := c.resume()
	if err != nil {
		return err
	}
	if target == nil {
		if err := c.room(); err != nil {
			return err
		}
		j = &journal{Digest: disk.NewDigest(c.spec.VirtualBytes)}
		if target, err = c.Format.Create(c.file, c.spec); err != nil {
			return err
		}
	}
	c.result.ResumedBytes = j.Done
	done := j.Done
	c.progress(Copying, done)
	off, err := c.serverCopy(ctx, j)
	if err != nil {
		return err
	}
	options := disk.Options{
		Limit:     c.Limit,
		SaveEvery: c.SaveEvery,
		Now:       c.Now,
		Progress:  func(n int64) { done += n; c.progress(Copying, done) },
		Saved: func(off int64, state []byte, _ any) error {
			if err := c.unchanged(); err != nil {
				return err
			}
			return c.save(&journal{Offset: off, Done: done, State: state, Digest: j.Digest})
		},
	}
	if c.Verify {
		options.Digest = j.Digest
	}
	if err := disk.Pump(ctx, target, disk.ImageFeed(c.source, off, target.BlockBytes()), options); err != nil {
		return err
	}
	if err := target.Finish(); err != nil {
		return err
	}
	if c.Verify {
		return c.verify(ctx, j.Digest)
	}
	return nil
}

// room refuses early what can't fit.
func (c *copier) room() error {
	var fsInfo unix.Statfs_t
	if err := unix.Fstatfs(int(c.part.Fd()), &fsInfo); err != nil {
		return err
	}
	free := int64(fsInfo.Bavail) * fsInfo.Bsize
	need := c.result.DataBytes
	switch c.Variant {
	case "stream":
		return nil // nobody knows how far it compresses
	case "full", "fixed", "flat":
		need = c.result.VirtualBytes
	}
	if need > free {
		return fmt.Errorf("%s needs %d bytes, its file system has %d free: %w", c.Target, need, free, unix.ENOSPC)
	}
	return nil
}

// serverCopy lets a file server copy a raw image by itself, where both files
// lie on it; it returns how far the new image is done.
func (c *copier) serverCopy(ctx context.Context, j *journal) (int64, error) {
	if c.Image != nil || c.Blanks != nil {
		return j.Offset, nil
	}
	l := c.chain.Links[0]
	plain, ok := l.Image.(interface{ Source() disk.Source })
	if !ok || c.Format.Name != "raw" || c.Salvage || c.Verify || c.Limit != nil || j.Offset > 0 {
		return j.Offset, nil
	}
	src, ok := plain.Source().(*disk.OSFile)
	if !ok || !c.file.ServerCopies(src) {
		return j.Offset, nil
	}
	done := int64(0)
	for off := int64(0); off < c.spec.VirtualBytes; {
		r, err := l.Image.Map(off)
		if err != nil {
			return 0, err
		}
		for r.Kind == disk.Data && off < r.End() {
			if err := ctx.Err(); err != nil {
				return 0, err
			}
			n := min(r.End()-off, 64<<20)
			if err := c.file.CopyRange(src, off, n); err != nil {
				return off, nil // the pump goes on from here
			}
			off, done = off+n, done+n
			c.progress(Copying, done)
		}
		off = r.End()
	}
	return c.spec.VirtualBytes, nil
}

// verify opens the new image as a stranger would and reads it from where it is stored.
func (c *copier) verify(ctx context.Context, want *disk.Digest) error {
	for _, f := range []*disk.OSFile{c.file, c.second} {
		if f != nil {
			f.Forget()
		}
	}
	var src disk.Source = c.file
	if c.Device { // which may be larger
		src = disk.Section(src, 0, c.spec.VirtualBytes)
	}
	img, err := c.Format.Open(src, func(name string) (disk.Source, error) {
		if name != c.name || c.second == nil {
			return nil, fmt.Errorf("it names the file %q", name)
		}
		return c.second, nil
	})
	if err != nil {
		return fmt.Errorf("%w: %w", disk.ErrReadBack, err)
	}
	done := int64(0)
	err = disk.ReadBack(ctx, img, want, func(n int64) {
		done += n
		c.progress(Verifying,
			min(done, c.result.DataBytes))
	})
	c.result.Verified = err == nil
	return err
}

// place renames what was made into its final place, and closes it.
func (c *copier) place() error {
	if err := c.file.Sync(); err != nil {
		return err
	}
	st, err := c.part.Stat()
	if err != nil {
		return err
	}
	c.result.FileBytes = disk.Allocated(st)
	if c.second != nil {
		st, err := c.files().Stat(c.secondPath())
		if err != nil {
			return err
		}
		c.result.FileBytes += disk.Allocated(st)
	}
	// From here on it is only renamed, by this try or the next.
	if err := c.save(&journal{Finished: true}); err != nil {
		return err
	}
	return c.rename()
}

func (c *copier) rename() error {
	if c.name != "" {
		if err := c.put(c.secondPath(), filepath.Join(filepath.Dir(c.Target), c.name)); err != nil {
			return err
		}
	}
	if err := c.put(c.partPath(), c.Target); err != nil {
		return err
	}
	if err := disk.SyncDir(c.files(), filepath.Dir(c.Target)); err != nil {
		return err
	}
	c.close()
	return c.files().Remove(c.journalPath())
}

// put renames, and is content when that was done before.
func (c *copier) put(from, to string) error {
	err := c.files().Rename(from, to)
	if errors.Is(err, fs.ErrNotExist) {
		_, err = c.files().Stat(to)
	}
	return err
}

func (c *copier) close() {
	if c.second != nil {
		c.second.Close()
	}
	if c.part != nil {
		c.part.Close()
	}
}

// abandon leaves nothing behind.
func (c *copier) abandon() error {
	paths := []string{c.journalPath(), c.partPath()}
	if c.name != "" {
		paths = append(paths, c.secondPath())
	}
	var errs []error
	for _, p := range paths {
		errs = append(errs, disk.RemoveIfThere(c.files(), p))
	}
	c.close()
	return errors.Join(errs...)
}
