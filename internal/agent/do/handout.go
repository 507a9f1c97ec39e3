package do

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"sync"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
)

// handing is the state of a hand-out: the caller's computer asks for disks, or
// for the whole package, until it says that it has them.
type handing struct {
	mu     sync.Mutex
	p      *pack
	over   chan hostlink.PackResult
	resume map[string][]packPoint // by disk: the last few places to go on from
	sizes  map[string]int64       // by disk, of files that are laid out
	handJournal
}

// handJournal is what a hand-out has to know of what it sent before the agent was started anew.
type handJournal struct {
	Layouts map[string][]byte `json:"layouts"` // by disk, of files that are laid out
}

// laid remembers how a file is laid out whose bytes the caller will have. One that is laid out otherwise later does not
// go on from them.
func (h *handing) laid(disk string, file *disk.Frame) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	layout := file.Layout()
	h.sizes[disk] = file.Size()
	if was := h.Layouts[disk]; was != nil {
		if !bytes.Equal(was, layout) {
			return fmt.Errorf("disk %s can't be sent on: %w; begin the export anew", disk, errLaidOut)
		}
		return nil
	}
	h.Layouts[disk] = layout
	return h.p.t.Note(h.handJournal)
}

// handed is the hand-out that a task is.
func (w *Worker) handed(t *task.Task) *handing {
	h, _ := w.handings.Load(t.ID())
	known, ok := h.(*handing)
	if !ok {
		return &handing{} // not ready yet, or none at all
	}
	return known
}

// StreamDisk writes the image of a disk of a hand-out, from byte offset of it on.
func (w *Worker) StreamDisk(ctx context.Context, t *task.Task, out io.Writer, disk string, offset int64) error {
	return w.handed(t).streamDisk(ctx, out, disk, offset)
}

// StreamPackage writes the whole package of a hand-out front to back.
func (w *Worker) StreamPackage(ctx context.Context, t *task.Task, out io.Writer) error {
	return w.handed(t).streamPackage(ctx, out, w.Config.State)
}

// HandOutDescriptor is that of the package of a hand-out, its disks being as the caller has them.
func (w *Worker) HandOutDescriptor(t *task.Task, members []ovf.Member) ([]byte, error) {
	p, err := w.handed(t).pack()
	if err != nil {
		return nil, err
	}
	return p.descriptor(members, p.room)
}

// HandedOut notes that the caller has the package; it may say so again.
func (w *Worker) HandedOut(t *task.Task, result hostlink.PackResult) error {
	if s, _ := t.Snapshot(); s.State == hostlink.TaskDone {
		return nil
	}
	h := w.handed(t)
	if _, err := h.pack(); err != nil {
		return err
	}
	select {
	case h.over <- result:
	default: // said before
	}
	return nil
}

// handOutPatience is how long a hand-out waits for a caller that has gone.
const handOutPatience = 10 * time.Minute

func doHandOut(ctx context.Context, t *run) (any, error) {
	p, err := newPack(ctx, t)
	if err != nil {
		return nil, err
	}
	defer p.close()
	h := &handing{p: p, over: make(chan hostlink.PackResult, 1), resume: map[string][]packPoint{},
		sizes:       map[string]int64{},
		handJournal: handJournal{map[string][]byte{}}}
	if _, err := t.Journal(&h.handJournal); err != nil {
		return nil, err
	}
	p.laid = h.laid
	t.handings.Store(t.ID(), h)
	defer t.handings.Delete(t.ID())
	t.Update(func(s *hostlink.Task) { s.Needs = &hostlink.Need{} })
	last, _ := t.Snapshot()
	for {
		select {
		case r := <-h.over:
			return r, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(handOutPatience):
			now, _ := t.Snapshot()
			if now.Done == last.Done {
				return nil, fmt.Errorf("nobody has fetched the package for %s", handOutPatience)
			}
			last = now
		}
	}
}

func (h *handing) pack() (*pack, error) {
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
		case <-p.t.Ended():
			cancel()
		case <-ctx.Done():
		}
	}()
	var of *packed
	var pd plan.PackDisk
	_ = p.each(func(m *packed, is plan.PackDisk) error {
		if is.ID == id {
			of, pd = m, is
		}
		return nil
	})
	if of == nil {
		return &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "the package has no disk " + id}
	}
	img, err := p.open(ctx, of, pd)
	if err != nil {
		return err
	}
	defer img.Close()
	from := h.point(id, offset)
	_, err = p.send(ctx, &skipWriter{w, offset - from.at}, of, pd, img, from, nil, disk.Options{
		Now:       time.Now,
		Limit:     p.t.Limit,
		SaveEvery: 32 << 20,
		Progress:  p.t.Progress,
		Saved: func(guest int64, state []byte, _ any) error {
			at, err := lengthAt(pd, state)
			if err != nil {
				return err
			}
			h.mu.Lock()
			defer h.mu.Unlock()
			points := append(h.resume[id], packPoint{at, guest, state})
			h.resume[id] = points[max(0, len(points)-4):]
			return nil
		},
	})
	return err
}

// point is the last known place at or before a byte of the image.
func (h *handing) point(id string, offset int64) (best packPoint) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range h.resume[id] {
		if p.at <= offset && p.at > best.at {
			best = p
		}
	}
	return best
}

// streamPackage writes the whole package to a pipe. A header needs the size of what follows: a disk is spooled, one at
// a time, unless its file is laid out.
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
	err = p.each(func(_ *packed, pd plan.PackDisk) (err error) {
		var m ovf.Member
		if pd.Format == "" {
			m, err = h.spoolDisk(ctx, w, spoolDir, pd, made)
		} else {
			m, err = h.pipeDisk(ctx, w, pd, made)
		}
		members = append(members, m)
		return err
	})
	if err != nil {
		return err
	}
	manifest := ovf.ManifestOf(p.Algorithm(), p.descriptorName(), raw, members)
	if err := ovf.WriteMember(w, p.Stem()+".mf", int64(len(manifest)), made, bytes.NewReader(manifest)); err != nil {
		return err
	}
	_, err = w.Write(ovf.Trailer)
	return err
}

func (h *handing) spoolDisk(ctx context.Context, w io.Writer, spoolDir string, pd plan.PackDisk,
	made time.Time) (ovf.Member, error) {
	spool, err := door.Unnamed(spoolDir)
	if err != nil {
		return ovf.Member{}, err
	}
	defer spool.Close()
	out := &hashed{spool, ovf.NewHash(h.p.Algorithm())}
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
	m := ovf.Member{Name: pd.File, Size: size, Sum: hex.EncodeToString(out.hash.Sum(nil))}
	return m, ovf.WriteMember(w, m.Name, m.Size, made, spool)
}

// pipeDisk writes a disk whose file is laid out, and so has a size, to a pipe.
func (h *handing) pipeDisk(ctx context.Context, w io.Writer, pd plan.PackDisk, made time.Time) (ovf.Member, error) {
	m := ovf.Member{Name: pd.File}
	out := &hashed{hash: ovf.NewHash(h.p.Algorithm())}
	out.w = &headed{w: w, header: func() ([]byte, error) { // asked for once the file is laid out
		h.mu.Lock()
		m.Size = h.sizes[pd.ID]
		h.mu.Unlock()
		return ovf.Header(pd.File, m.Size, made)
	}}
	if err := h.streamDisk(ctx, out, pd.ID, 0); err != nil {
		return m, err
	}
	m.Sum = hex.EncodeToString(out.hash.Sum(nil))
	_, err := w.Write(make([]byte, ovf.Padding(m.Size)))
	return m, err
}

// headed writes a header before the first of what is written through it.
type headed struct {
	w      io.Writer
	header func() ([]byte, error)
}

func (h *headed) Write(p []byte) (int, error) {
	if h.header != nil {
		head, err := h.header()
		if err == nil {
			_, err = h.w.Write(head)
		}
		if err != nil {
			return 0, err
		}
		h.header = nil
	}
	return h.w.Write(p)
}
