package do

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/guest"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// pack writes machine folders as a package.
type pack struct {
	hostlink.PackTask
	t        *run
	room     int
	machines []*packed
	// laid is told how the file of a disk is laid out before anything of it is sent, and may refuse that.
	laid func(disk string, file *disk.Frame) error
}

// packed is a machine that goes into a package.
type packed struct {
	*plan.PackedMachine
	from  *hostlink.Remote                // where its folder is, when it is not here
	base  func() (*ovf.Descriptor, error) // reads that of the folder anew
	letGo func()                          // it is kept still meanwhile; nil: it need not be
}

// close lets the machines go.
func (p *pack) close() {
	for _, m := range p.machines {
		if m.letGo != nil {
			m.letGo()
		}
	}
}

func newPack(ctx context.Context, t *run) (_ *pack, err error) {
	p := &pack{t: t}
	if err := t.Params(&p.PackTask); err != nil {
		return nil, err
	}
	if ovf.NewHash(p.Algorithm()) == nil {
		return nil, &hostlink.Fault{Code: hostlink.FaultWrong, Message: fmt.Sprintf("there is no digest %q", p.Digest)}
	}
	defer func() {
		if err != nil {
			p.close()
		}
	}()
	for i, m := range p.Machines() {
		one := &packed{PackedMachine: m, from: p.From}
		if i > 0 {
			if one.from = nil; i <= len(p.FromOthers) {
				one.from = p.FromOthers[i-1]
			}
		}
		if err := one.ready(ctx, t); err != nil {
			return nil, err
		}
		p.machines = append(p.machines, one)
	}
	raw, err := p.descriptor(nil, 0)
	if err != nil {
		return nil, err
	}
	p.room = (len(raw) + 1024*(1+len(p.AllDisks())) + 4095) / 4096 * 4096 // sizes are still to come
	return p, nil
}

// ready finds the descriptor of a machine, and keeps the machine still where it lies here.
func (m *packed) ready(ctx context.Context, t *run) error {
	if m.from != nil {
		raw, err := t.Dialer().Host(m.from.Host, m.from.Address).FolderDescriptor(ctx, m.from.Ticket)
		if err != nil {
			return err
		}
		m.base = func() (*ovf.Descriptor, error) { return ovf.Parse(m.Folder, raw) }
		return nil
	}
	if err := t.Within(m.Folder + "/x"); err != nil {
		return err
	}
	m.base = func() (*ovf.Descriptor, error) { return t.Descriptor(m.Folder) }
	if m.Frozen {
		return nil
	}
	var err error
	m.letGo, err = t.KeepStill(ctx, m.Folder, readWhileRunning)
	return err
}

func (p *pack) descriptorName() string { return p.Stem() + ".ovf" }

// descriptor is that of the folder, with the package's files and passport; of several machines, one of all.
func (p *pack) descriptor(members []ovf.Member, room int) ([]byte, error) {
	sizes := map[string]int64{}
	for _, f := range members {
		sizes[f.Name] = f.Size
	}
	var all []ovf.Collected
	for _, m := range p.machines {
		c, err := m.collected(sizes)
		if err != nil {
			return nil, err
		}
		all = append(all, *c)
	}
	d := all[0].Descriptor
	if len(all) > 1 {
		var err error
		if d, err = ovf.Collect(p.Called, all, p.Product); err != nil {
			return nil, err
		}
	}
	if p.OVF != "" {
		if err := d.SetVersion(p.OVF); err != nil {
			return nil, err
		}
	}
	return d.Encode(room)
}

// collected is the machine as its receiver sees it. sizes are those of its disks' files, by their names.
func (m *packed) collected(sizes map[string]int64) (*ovf.Collected, error) {
	d, err := m.base()
	if err != nil {
		return nil, err
	}
	is := d.Machines[0].Clone()
	c := &ovf.Collected{Descriptor: d, Disks: map[string]string{}, Order: is.StartOrder, Pause: is.StartPause}
	is.Passport = m.Passport
	is = m.Handing.Of(is)
	is.Disks = slices.DeleteFunc(is.Disks, func(d machine.Disk) bool { // of a snapshot from before it had them
		return !slices.ContainsFunc(m.Disks, func(pd plan.PackDisk) bool { return pd.Own() == d.ID })
	})
	for _, pd := range m.Disks {
		for i := range is.Disks {
			if is.Disks[i].ID == pd.Own() {
				is.Disks[i].File, is.Disks[i].FileBytes = pd.File, sizes[pd.File]
				is.Disks[i].Format = cmp.Or(pd.Format, vmdk.Format)
			}
		}
		if pd.Of != "" {
			c.Disks[pd.Of] = pd.ID
		}
	}
	if err := d.SetMachine(0, is); err != nil {
		return nil, err
	}
	if m.Handing.Product != nil {
		return c, d.SetProduct(0, *m.Handing.Product)
	}
	return c, nil
}

// each calls f for every disk of the package, in order.
func (p *pack) each(f func(m *packed, pd plan.PackDisk) error) error {
	for _, m := range p.machines {
		for _, pd := range m.Disks {
			if err := f(m, pd); err != nil {
				return err
			}
		}
	}
	return nil
}

// open opens a disk with its whole chain.
func (p *pack) open(ctx context.Context, m *packed, pd plan.PackDisk) (disk.Image, error) {
	if m.from != nil {
		img, err := p.t.Dialer().OpenDisk(ctx, m.from.Host, m.from.Address, m.from.Ticket,
			hostlink.DiskRequest{Path: pd.Source})
		if err != nil {
			return nil, fmt.Errorf("open disk %s at the host that has it: %w", pd.ID, err)
		}
		return m.compacted(ctx, img)
	}
	img, err := p.t.Chain(pd.Source)
	if err != nil {
		return nil, fmt.Errorf("open disk %s: %w", pd.ID, err)
	}
	return m.compacted(ctx, img)
}

// compacted is img without what its file systems mark as free, if that is asked for. It closes img when it fails.
func (m *packed) compacted(ctx context.Context, img disk.Image) (disk.Image, error) {
	if !m.Compact {
		return img, nil
	}
	blanks, _, err := guest.Free(ctx, img, img.Info().VirtualBytes)
	switch {
	case ctx.Err() != nil:
		return nil, errors.Join(ctx.Err(), img.Close())
	case err != nil:
		return img, nil // too large to be told, as the plan says: all of it is taken
	}
	return disk.Without(img, blanks), nil
}

// spec of the new image. Its content id is decided by the copy and the disk, so
// that a try that goes on writes what the first one began.
func (m *packed) spec(pd plan.PackDisk, img disk.Image) disk.Spec {
	sum := sha256.Sum256([]byte(m.Passport.Copy + "/" + pd.ID))
	info := img.Info()
	id := info.ID
	if _, err := uuid.Parse(id); m.Handing.DropIdentity || pd.Format != "" && err != nil { // a raw one has none
		id = uuid.NewSHA1(uuid.Nil, sum[:]).String()
	}
	return disk.Spec{VirtualBytes: info.VirtualBytes, ID: id, Linkage: hex.EncodeToString(sum[:4]), Name: pd.File}
}

// packPoint is a place of a disk's file in a package to go on from.
type packPoint struct {
	at    int64  // bytes of the file before it
	guest int64  // for streams: of the disk
	state []byte // of the target; nil at the beginning
}

// lengthAt tells how long the file of a disk is where its target had a state.
func lengthAt(pd plan.PackDisk, state []byte) (int64, error) {
	if pd.Format == "" {
		return vmdk.StreamLength(state)
	}
	return disk.InOrderLength(state)
}

// send writes the file of a disk from a point on: a stream of compressed blocks, or an image of the format that the
// package is to have. sync makes what was written last; nil where it can't be. It returns the file's length.
func (p *pack) send(ctx context.Context, out io.Writer, m *packed, pd plan.PackDisk, img disk.Image, from packPoint,
	sync func() error, o disk.Options) (int64, error) {
	spec := m.spec(pd, img)
	if pd.Format != "" {
		return p.sendFrame(ctx, out, spec, pd, img, from, sync, o)
	}
	var target *vmdk.StreamTarget
	var err error
	if from.state != nil {
		target, err = vmdk.ResumeStream(out, spec.VirtualBytes, from.state, sync)
	} else {
		target, err = vmdk.CreateStream(out, spec, sync)
	}
	if err == nil {
		err = disk.Pump(ctx, target, disk.ImageFeed(img, from.guest, target.BlockBytes()), o)
	}
	if err == nil {
		err = target.Finish()
	}
	if err != nil {
		return 0, err
	}
	return target.Length(), nil
}

// sendFrame writes an image front to back whose file can't be written so: it is laid out first.
func (p *pack) sendFrame(ctx context.Context, out io.Writer, spec disk.Spec, pd plan.PackDisk, img disk.Image,
	from packPoint, sync func() error, o disk.Options) (int64, error) {
	format, err := formats.ByName(pd.Format)
	if err != nil {
		return 0, ground.Refuse("disk.format-foreign", "%s", err.Error())
	}
	spec.Variant = pd.Variant
	if pd.Format != vmdk.Format {
		spec.Linkage = "" // it comes from the id
	}
	layout, err := door.Unnamed(p.t.Config.State)
	if err != nil {
		return 0, err
	}
	defer layout.Close()
	rest, err := disk.OpenFile(layout)
	if err != nil {
		return 0, err
	}
	frame, err := disk.NewFrame(img, rest, func(f disk.File) (disk.Target, error) { return format.Create(f, spec) })
	if err != nil {
		return 0, fmt.Errorf("lay out disk %s as %s: %w", pd.ID, pd.Format, err)
	}
	if err := p.laid(pd.ID, frame); err != nil {
		return 0, err
	}
	return frame.Size(), disk.Pump(ctx, disk.InOrder(out, from.at, sync), frame.Feed(from.at), o)
}

// errLaidOut is that what there is of a file was laid out otherwise.
var errLaidOut = errors.New("its holes are told otherwise than when it was begun")

// packJournal is what a pack needs to go on.
type packJournal struct {
	Members []ovf.Member `json:"members"`
	Guest   int64        `json:"guest"` // of the disk after them, or of its file
	State   []byte       `json:"state"`
	Hash    []byte       `json:"hash"`
	Layout  []byte       `json:"layout,omitempty"` // of the file that is being written, where it is laid out
	Done    int64        `json:"done"`
	Made    bool         `json:"made,omitempty"` // the directory that the package lies in
}

func (p *pack) partFile() string {
	return filepath.Join(filepath.Dir(p.File), "."+filepath.Base(p.File)+"."+p.t.Job()+".part")
}

func doPack(ctx context.Context, t *run) (any, error) {
	p, err := newPack(ctx, t)
	if err != nil {
		return nil, err
	}
	defer p.close()
	if err := t.Within(p.File); err != nil {
		return nil, err
	}
	if o, err := t.Door.Package(p.File, ""); err == nil { // renamed before the agent was killed
		defer o.Close()
		if pp := o.Envelope.Machines[0].Passport; pp != nil && pp.Copy == p.Passport.Copy {
			st, err := t.Door.Stat(p.File)
			if err != nil {
				return nil, err
			}
			return hostlink.PackResult{Bytes: st.Size()}, nil
		}
	}
	var j packJournal
	if _, err := t.Journal(&j); err != nil {
		return nil, err
	}
	if err := p.directory(&j); err != nil {
		return nil, err
	}
	file, err := t.Door.OpenFile(p.partFile(), os.O_RDWR|os.O_CREATE, ground.FileMode)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	t.Update(func(s *hostlink.Task) { s.Done = j.Done })
	w := ovf.NewWriter(file, p.descriptorName(), p.room, p.Passport.MadeAt, p.Algorithm(), j.Members)
	there := len(j.Members)
	err = p.each(func(of *packed, pd plan.PackDisk) error {
		if there > 0 {
			there--
			return nil
		}
		m, err := p.writeDisk(ctx, file, w.Begin(), of, pd, &j)
		if err != nil {
			return err
		}
		if err := w.End(m); err != nil {
			return err
		}
		j = packJournal{Members: w.Members(), Done: j.Done, Made: j.Made}
		if err := file.Sync(); err != nil {
			return err
		}
		return t.Note(j)
	})
	if err != nil {
		return nil, err
	}
	raw, err := p.descriptor(w.Members(), p.room)
	if err != nil {
		return nil, err
	}
	total, err := w.Finish(raw)
	if err == nil {
		err = errors.Join(file.Truncate(total), file.Sync())
	}
	if err != nil {
		return nil, err
	}
	if err := t.RenameNew(p.partFile(), p.File); err != nil {
		return nil, err
	}
	return hostlink.PackResult{Bytes: total, Members: w.Members()}, t.SyncDir(filepath.Dir(p.File))
}

// directory makes the one that the package is to lie in, unless it is there. A machine's folder is none.
func (p *pack) directory(j *packJournal) error {
	if p.Directory == "" {
		return nil
	}
	dir := filepath.Dir(p.File)
	if err := p.t.Within(dir); err != nil {
		return err
	}
	switch _, err := p.t.Door.Lstat(dir); {
	case errors.Is(err, fs.ErrNotExist):
		j.Made = true
		if err := p.t.Note(*j); err != nil {
			return err
		}
		return p.t.Door.MkdirAll(dir, ground.DirMode)
	case err != nil:
		return err
	}
	name, err := p.t.FindDescriptor(dir)
	if err == nil && name != "" {
		err = ground.Refuse("place.taken", "%s is a machine's folder: packages lie elsewhere", dir)
	}
	return err
}

func undoPack(ctx context.Context, t *run) error {
	p := &pack{t: t}
	if err := t.Params(&p.PackTask); err != nil {
		return err
	}
	if err := t.RemoveIfThere(p.partFile()); err != nil {
		return err
	}
	if o, err := t.Door.Package(p.File, ""); err == nil {
		defer o.Close()
		if pp := o.Envelope.Machines[0].Passport; pp != nil && pp.Copy == p.Passport.Copy {
			if err := t.Door.Remove(p.File); err != nil {
				return err
			}
		}
	}
	var j packJournal
	if _, err := t.Journal(&j); err != nil || !j.Made {
		return err
	}
	if err := t.Door.Remove(filepath.Dir(p.File)); err != nil && !errors.Is(err, fs.ErrNotExist) &&
		!errors.Is(err, unix.ENOTEMPTY) { // somebody has put something there since
		return err
	}
	return nil
}

// hashed counts and digests what is written through it.
type hashed struct {
	w    io.Writer
	hash hash.Hash
}

func (h *hashed) Write(p []byte) (int, error) {
	n, err := h.w.Write(p)
	h.hash.Write(p[:n])
	return n, err
}

// writeDisk writes one disk at byte start of the package and goes on where the
// journal says.
func (p *pack) writeDisk(ctx context.Context, file *os.File, start int64, m *packed, pd plan.PackDisk,
	j *packJournal) (ovf.Member, error) {
	img, err := p.open(ctx, m, pd)
	if err != nil {
		return ovf.Member{}, err
	}
	defer img.Close()
	out := &hashed{hash: ovf.NewHash(p.Algorithm())}
	from := packPoint{guest: j.Guest, state: j.State}
	if j.State != nil {
		if from.at, err = lengthAt(pd, from.state); err == nil {
			err = out.hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(j.Hash)
		}
		if err != nil {
			return ovf.Member{}, err
		}
	}
	out.w = io.NewOffsetWriter(file, start+from.at)
	done, layout := j.Done, j.Layout
	p.laid = func(_ string, file *disk.Frame) error {
		is := file.Layout()
		if from.state != nil && !bytes.Equal(is, layout) {
			return errLaidOut
		}
		layout = is
		return nil
	}
	length, err := p.send(ctx, out, m, pd, img, from, file.Sync, disk.Options{
		Now:      time.Now,
		Limit:    p.t.Limit,
		Progress: func(n int64) { done += n; p.t.Progress(n) },
		Saved: func(off int64, state []byte, _ any) error {
			h, err := out.hash.(encoding.BinaryMarshaler).MarshalBinary()
			if err != nil {
				return err
			}
			return p.t.Note(packJournal{Members: j.Members, Guest: off, State: state, Hash: h, Layout: layout,
				Done: done, Made: j.Made})
		},
	})
	if errors.Is(err, errLaidOut) { // its file is written anew
		j.Guest, j.State, j.Hash, j.Layout = 0, nil, nil, nil
		return p.writeDisk(ctx, file, start, m, pd, j)
	}
	if err != nil {
		return ovf.Member{}, err
	}
	j.Done = done
	return ovf.Member{Name: pd.File, Size: length, Sum: hex.EncodeToString(out.hash.Sum(nil))}, nil
}
