package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/hostlink"
)

// pack writes a machine folder as a package.
type pack struct {
	hostlink.PackTask
	t    *task
	room int
	base func() (*ovf.Descriptor, error) // reads that of the folder anew
}

func newPack(ctx context.Context, t *task) (*pack, error) {
	p := &pack{t: t}
	if err := t.params(&p.PackTask); err != nil {
		return nil, err
	}
	if p.From != nil {
		raw, err := t.a.dialer.Host(p.From.Host, p.From.Address).FolderDescriptor(ctx, p.From.Ticket)
		if err != nil {
			return nil, err
		}
		p.base = func() (*ovf.Descriptor, error) { return ovf.Parse(p.Folder, raw) }
	} else {
		if err := t.a.within(p.Folder + "/x"); err != nil {
			return nil, err
		}
		if t.a.driver.State(p.Folder) == "running" {
			return nil, &taskError{"state.running", "the machine runs; its disks change while they are read"}
		}
		p.base = func() (*ovf.Descriptor, error) { return t.a.folderDescriptor(p.Folder) }
	}
	raw, err := p.descriptor(nil, 0)
	p.room = (len(raw) + 1024*(1+len(p.Disks)) + 4095) / 4096 * 4096 // sizes are still to come
	return p, err
}

func (p *pack) descriptorName() string { return p.Name + ".ovf" }

// descriptor is that of the folder, with the package's files and passport.
func (p *pack) descriptor(members []ovf.Member, room int) ([]byte, error) {
	d, err := p.base()
	if err != nil {
		return nil, err
	}
	m := d.Machines[0].Clone()
	m.Passport = p.Passport
	sizes := map[string]int64{}
	for _, f := range members {
		sizes[f.Name] = f.Size
	}
	for _, pd := range p.Disks {
		for i := range m.Disks {
			if m.Disks[i].ID == pd.ID {
				m.Disks[i].File, m.Disks[i].Format, m.Disks[i].FileBytes = pd.File, "vmdk", sizes[pd.File]
			}
		}
	}
	if err := d.SetMachine(0, m); err != nil {
		return nil, err
	}
	return d.Encode(room)
}

// open opens a disk with its whole chain.
func (p *pack) open(ctx context.Context, pd plan.PackDisk) (disk.Image, error) {
	if p.From != nil {
		img, err := p.t.a.dialer.OpenDisk(ctx, p.From.Host, p.From.Address, p.From.Ticket, pd.Source)
		if err != nil {
			return nil, fmt.Errorf("open disk %s at the host that has it: %w", pd.ID, err)
		}
		return img, nil
	}
	img, err := p.t.a.chain(pd.Source)
	if err != nil {
		return nil, fmt.Errorf("open disk %s: %w", pd.ID, err)
	}
	return img, nil
}

// spec of the new image. Its content id is settled by the copy and the disk, so
// that a try that goes on writes what the first one began.
func (p *pack) spec(pd plan.PackDisk, img disk.Image) disk.Spec {
	sum := sha256.Sum256([]byte(p.Passport.Copy + "/" + pd.ID))
	info := img.Info()
	return disk.Spec{VirtualBytes: info.VirtualBytes, ID: info.ID, Linkage: hex.EncodeToString(sum[:4]), Name: pd.File}
}

// packJournal is what a pack needs to go on.
type packJournal struct {
	Members []ovf.Member `json:"members"`
	Guest   int64        `json:"guest"` // of the disk after them
	State   []byte       `json:"state"`
	Hash    []byte       `json:"hash"`
	Done    int64        `json:"done"`
}

func (p *pack) partFile() string {
	return filepath.Join(filepath.Dir(p.File), "."+filepath.Base(p.File)+"."+p.t.spec.Job+".part")
}

func doPack(ctx context.Context, t *task) (any, error) {
	p, err := newPack(ctx, t)
	if err != nil {
		return nil, err
	}
	if err := t.a.within(p.File); err != nil {
		return nil, err
	}
	if o, err := t.a.door.Package(p.File, ""); err == nil { // renamed before the agent was killed
		defer o.Close()
		if pp := o.Envelope.Machines[0].Passport; pp != nil && pp.Copy == p.Passport.Copy {
			st, err := t.a.door.Stat(p.File)
			if err != nil {
				return nil, err
			}
			return hostlink.PackResult{Bytes: st.Size()}, nil
		}
	}
	file, err := t.a.door.OpenFile(p.partFile(), os.O_RDWR|os.O_CREATE, fileMode)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var j packJournal
	if _, err := t.a.store.get("journals", t.state.ID, &j); err != nil {
		return nil, err
	}
	t.update(func(s *hostlink.Task) { s.Done = j.Done })
	w := ovf.NewWriter(file, p.descriptorName(), p.room, p.Passport.MadeAt, j.Members)
	for _, pd := range p.Disks[len(j.Members):] {
		m, err := p.writeDisk(ctx, file, w.Begin(), pd, &j)
		if err != nil {
			return nil, err
		}
		if err := w.End(m); err != nil {
			return nil, err
		}
		j = packJournal{Members: w.Members(), Done: j.Done}
		if err := file.Sync(); err != nil {
			return nil, err
		}
		if err := t.a.store.put("journals", t.state.ID, j); err != nil {
			return nil, err
		}
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
	if err := t.a.renameNew(p.partFile(), p.File); err != nil {
		return nil, err
	}
	return hostlink.PackResult{Bytes: total, Members: w.Members()}, t.a.syncDir(filepath.Dir(p.File))
}

func undoPack(t *task) error {
	p := &pack{t: t}
	if err := t.params(&p.PackTask); err != nil {
		return err
	}
	if err := t.a.removeIfThere(p.partFile()); err != nil {
		return err
	}
	o, err := t.a.door.Package(p.File, "")
	if err != nil {
		return nil
	}
	defer o.Close()
	if pp := o.Envelope.Machines[0].Passport; pp != nil && pp.Copy == p.Passport.Copy {
		return t.a.door.Remove(p.File)
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
func (p *pack) writeDisk(ctx context.Context, file *os.File, start int64, pd plan.PackDisk, j *packJournal) (ovf.Member, error) {
	img, err := p.open(ctx, pd)
	if err != nil {
		return ovf.Member{}, err
	}
	defer img.Close()
	size := img.Info().VirtualBytes
	out := &hashed{hash: sha256.New()}
	var target *vmdk.StreamTarget
	if j.State != nil {
		at, err := vmdk.StreamLength(j.State)
		if err == nil {
			err = out.hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(j.Hash)
		}
		if err != nil {
			return ovf.Member{}, err
		}
		out.w = io.NewOffsetWriter(file, start+at)
		target, err = vmdk.ResumeStream(out, size, j.State, file.Sync)
		if err != nil {
			return ovf.Member{}, err
		}
	} else {
		out.w = io.NewOffsetWriter(file, start)
		if target, err = vmdk.CreateStream(out, p.spec(pd, img), file.Sync); err != nil {
			return ovf.Member{}, err
		}
	}
	done := j.Done
	err = disk.Pump(ctx, target, disk.ImageFeed(img, j.Guest, target.BlockBytes()), disk.Options{
		Now:      time.Now,
		Progress: func(n int64) { done += n; p.t.progress(n) },
		Saved: func(off int64, state []byte, _ any) error {
			h, err := out.hash.(encoding.BinaryMarshaler).MarshalBinary()
			if err != nil {
				return err
			}
			return p.t.a.store.put("journals", p.t.state.ID, packJournal{j.Members, off, state, h, done})
		},
	})
	if err != nil {
		return ovf.Member{}, err
	}
	if err := target.Finish(); err != nil {
		return ovf.Member{}, err
	}
	j.Done = done
	return ovf.Member{Name: pd.File, Size: target.Length(), SHA256: hex.EncodeToString(out.hash.Sum(nil))}, nil
}

// handing is the state of a hand-out: the caller's computer asks for disks, or
// for the whole package, until it says that it has them.
type handing struct {
	mu     sync.Mutex
	p      *pack
	over   chan hostlink.PackResult
	resume map[string][]streamPoint // by disk: the last few places to go on from
}

type streamPoint struct {
	at, guest int64
	state     []byte
}

// handOutPatience is how long a hand-out waits for a caller that has gone.
const handOutPatience = 10 * time.Minute

func doHandOut(ctx context.Context, t *task) (any, error) {
	p, err := newPack(ctx, t)
	if err != nil {
		return nil, err
	}
	h := &t.handing
	h.mu.Lock()
	h.p, h.over, h.resume = p, make(chan hostlink.PackResult, 1), map[string][]streamPoint{}
	h.mu.Unlock()
	t.update(func(s *hostlink.Task) { s.Needs = &hostlink.Need{} })
	last, _ := t.snapshot()
	for {
		select {
		case r := <-h.over:
			return r, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(handOutPatience):
			now, _ := t.snapshot()
			if now.Done == last.Done {
				return nil, fmt.Errorf("nobody has fetched the package for %s", handOutPatience)
			}
			last = now
		}
	}
}

func (h *handing) pack() (*pack, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.p == nil {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "the package is not ready yet"}
	}
	return h.p, nil
}

// skipWriter drops the first bytes, which the caller has.
type skipWriter struct {
	w    io.Writer
	skip int64
}

func (s *skipWriter) Write(p []byte) (int, error) {
	n := int(min(s.skip, int64(len(p))))
	s.skip -= int64(n)
	if n == len(p) {
		return n, nil
	}
	m, err := s.w.Write(p[n:])
	return n + m, err
}

// streamDisk writes the image of a disk to w, from byte offset of it on.
func (h *handing) streamDisk(ctx context.Context, w io.Writer, id string, offset int64) error {
	p, err := h.pack()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { // a cancelled job gives nothing more
		select {
		case <-p.t.ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	for _, pd := range p.Disks {
		if pd.ID != id {
			continue
		}
		img, err := p.open(ctx, pd)
		if err != nil {
			return err
		}
		defer img.Close()
		size := img.Info().VirtualBytes
		from := h.point(id, offset)
		var target *vmdk.StreamTarget
		out := &skipWriter{w, offset - from.at}
		if from.state != nil {
			target, err = vmdk.ResumeStream(out, size, from.state, nil)
		} else {
			target, err = vmdk.CreateStream(out, p.spec(pd, img), nil)
		}
		if err != nil {
			return err
		}
		err = disk.Pump(ctx, target, disk.ImageFeed(img, from.guest, target.BlockBytes()), disk.Options{
			Now:       time.Now,
			SaveEvery: 32 << 20,
			Progress:  p.t.progress,
			Saved: func(guest int64, state []byte, _ any) error {
				h.mu.Lock()
				defer h.mu.Unlock()
				points := append(h.resume[id], streamPoint{target.Length(), guest, state})
				h.resume[id] = points[max(0, len(points)-4):]
				return nil
			},
		})
		if err != nil {
			return err
		}
		return target.Finish()
	}
	return &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "the package has no disk " + id}
}

// point is the last known place at or before a byte of the image.
func (h *handing) point(id string, offset int64) (best streamPoint) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range h.resume[id] {
		if p.at <= offset && p.at > best.at {
			best = p
		}
	}
	return best
}

// streamPackage writes the whole package to a pipe: each disk is spooled, one
// at a time, since its header needs its size.
func (h *handing) streamPackage(ctx context.Context, w io.Writer, spoolDir string) error {
	p, err := h.pack()
	if err != nil {
		return err
	}
	raw, err := p.descriptor(nil, p.room)
	if err != nil {
		return err
	}
	made := p.Passport.MadeAt
	if err := ovf.WriteMember(w, p.descriptorName(), int64(len(raw)), made, bytes.NewReader(raw)); err != nil {
		return err
	}
	var members []ovf.Member
	for _, pd := range p.Disks {
		m, err := h.spoolDisk(ctx, w, spoolDir, pd, made)
		if err != nil {
			return err
		}
		members = append(members, m)
	}
	manifest := ovf.ManifestOf(p.descriptorName(), raw, members)
	if err := ovf.WriteMember(w, p.Name+".mf", int64(len(manifest)), made, bytes.NewReader(manifest)); err != nil {
		return err
	}
	_, err = w.Write(ovf.Trailer)
	return err
}

func (h *handing) spoolDisk(ctx context.Context, w io.Writer, spoolDir string, pd plan.PackDisk, made time.Time) (ovf.Member, error) {
	spool, err := door.Unnamed(spoolDir)
	if err != nil {
		return ovf.Member{}, err
	}
	defer spool.Close()
	out := &hashed{spool, sha256.New()}
	if err := h.streamDisk(ctx, out, pd.ID, 0); err != nil {
		return ovf.Member{}, err
	}
	size, err := spool.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = spool.Seek(0, io.SeekStart)
	}
	if err != nil {
		return ovf.Member{}, err
	}
	m := ovf.Member{Name: pd.File, Size: size, SHA256: hex.EncodeToString(out.hash.Sum(nil))}
	return m, ovf.WriteMember(w, m.Name, m.Size, made, spool)
}
