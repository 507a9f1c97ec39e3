package do

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

func carryTask(t *run) (p hostlink.CarryTask, target string, err error) {
	if err := t.Params(&p); err != nil {
		return p, "", err
	}
	if filepath.Base(p.File) != p.File {
		return p, "", ground.Refuse("package.path-escape", "%q is no file name", p.File)
	}
	dir := p.Into
	if dir == "" {
		dir = t.Staging(p.Pool)
	}
	target = filepath.Join(dir, p.File)
	return p, target, t.Within(target)
}

// doCarry copies a disk with its whole chain, or another file of a machine
// folder, to a new place, and reads back what it wrote.
func doCarry(ctx context.Context, t *run) (any, error) {
	p, target, err := carryTask(t)
	if err != nil {
		return nil, err
	}
	switch {
	case p.Web != nil && p.Ahead != "":
		err = t.Within(p.Ahead)
	case p.Web == nil && p.From == nil:
		err = t.Within(p.Source)
	}
	if err != nil {
		return nil, err
	}
	if err := t.Door.MkdirAll(filepath.Dir(target), ground.DirMode); err != nil {
		return nil, err
	}
	if bytes, err := t.Allocated(target); err == nil { // renamed into place before the agent was killed
		return t.carried(target, bytes, p.Format)
	}
	if p.Format == "" {
		if err := t.copyFile(ctx, p.Source, target, t.Progress); err != nil {
			return nil, err
		}
		bytes, err := t.Allocated(target)
		return hostlink.FetchResult{FileBytes: bytes}, err
	}
	format, err := formats.ByName(p.Format)
	if err != nil {
		return nil, err
	}
	var as door.Known
	switch {
	case p.Web != nil || p.From != nil:
	case p.Read != "": // somebody has said so
		as, err = door.OnRecord(p.Read)
	default:
		as, err = t.Known(p.Source)
	}
	if err != nil {
		return nil, err
	}
	order := carry.Order{Source: p.Source, Target: target, Format: format, ID: p.ID, Salvage: p.Salvage, Verify: true,
		Limit:    t.Limit,
		Progress: func(_ string, done, _ int64) { t.Update(func(s *hostlink.Task) { s.Done = done }) }}
	if p.From != nil && p.Web == nil {
		dialer := t.Dialer()
		if p.From.Authority != "" {
			if dialer, err = hostlink.ForeignDialer(p.From.Authority); err != nil {
				return nil, err
			}
		}
		img, err := dialer.OpenDisk(ctx, p.From.Host, p.From.Address, p.From.Ticket,
			hostlink.DiskRequest{Path: p.Source})
		if err != nil {
			return nil, fmt.Errorf("open disk %s at the host that has it: %w", p.Disk, err)
		}
		defer img.Close()
		order.Image = img
	}
	if p.Web != nil {
		img, err := t.OpenImage(ctx, p)
		if err != nil {
			return nil, fmt.Errorf("open the image of disk %s: %w", p.Disk, err)
		}
		defer img.Close()
		order.Image = img
	}
	if p.KeepID && p.Web == nil {
		if c := t.Layers(p.Source); p.From == nil && len(c) > 0 && keepable(c[0].ID, format.Name) {
			order.ID = c[0].ID
		}
	}
	r, err := t.Door.Copy(ctx, order, as)
	if err != nil {
		return nil, err
	}
	return hostlink.FetchResult{FileBytes: r.FileBytes, VirtualBytes: r.VirtualBytes}, nil
}

func (w *Worker) carried(target string, bytes int64, format string) (any, error) {
	if format == "" { // not read as an image
		return hostlink.FetchResult{FileBytes: bytes}, nil
	}
	as, err := door.OnRecord(format)
	if err != nil {
		return nil, err
	}
	c, err := w.Door.Chain(target, as)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return hostlink.FetchResult{FileBytes: bytes, VirtualBytes: c.Info().VirtualBytes}, nil
}

// keepable tells whether a format can have an id that another image states: most
// have UUIDs; a VMDK may state a content id of eight digits alone.
func keepable(id, format string) bool {
	_, err := uuid.Parse(id)
	return err == nil || id != "" && format == "vmdk"
}

// copyFile copies bytes as they are, beside the target first.
func (w *Worker) copyFile(ctx context.Context, source, target string, progress func(int64)) (err error) {
	in, err := disk.OpenRead(w.Door, source)
	if err != nil {
		return err
	}
	defer in.Close()
	part := filepath.Join(filepath.Dir(target), "."+filepath.Base(target)+".part")
	out, err := w.Door.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, ground.FileMode)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, w.RemoveIfThere(part))
		}
	}()
	buf := make([]byte, 1<<20)
	for {
		n, e := in.Read(buf)
		if _, w := out.Write(buf[:n]); w != nil {
			e = w
		}
		progress(int64(n))
		if e == nil {
			e = ctx.Err()
		}
		if e == io.EOF {
			break
		}
		if e != nil {
			return errors.Join(e, out.Close())
		}
	}
	if err := errors.Join(out.Sync(), out.Close()); err != nil {
		return err
	}
	return w.RenameNew(part, target)
}

// undoCarry removes what was written, whole or in part.
func undoCarry(ctx context.Context, t *run) error {
	p, target, err := carryTask(t)
	if err != nil {
		return nil // it was never begun
	}
	hidden := filepath.Join(filepath.Dir(target), "."+p.File)
	return errors.Join(t.RemoveIfThere(target), t.RemoveIfThere(hidden+".part"), t.RemoveIfThere(hidden+".journal"),
		t.RemoveIfThere(hidden+".journal.next"))
}
