package agent

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
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/hostlink"
)

func carryTask(t *task) (p hostlink.CarryTask, target string, err error) {
	if err := t.params(&p); err != nil {
		return p, "", err
	}
	if filepath.Base(p.File) != p.File {
		return p, "", &taskError{"package.path-escape", fmt.Sprintf("%q is no file name", p.File)}
	}
	dir := p.Into
	if dir == "" {
		dir = stagingDir(p.Pool, t.spec.Job)
	}
	target = filepath.Join(dir, p.File)
	return p, target, t.a.within(target)
}

// doCarry copies a disk with its whole chain, or another file of a machine
// folder, to a new place, and reads back what it wrote.
func doCarry(ctx context.Context, t *task) (any, error) {
	p, target, err := carryTask(t)
	if err != nil {
		return nil, err
	}
	switch {
	case p.Web != nil && p.Ahead != "":
		err = t.a.within(p.Ahead)
	case p.Web == nil && p.From == nil:
		err = t.a.within(p.Source)
	}
	if err != nil {
		return nil, err
	}
	if err := t.a.door.MkdirAll(filepath.Dir(target), dirMode); err != nil {
		return nil, err
	}
	if bytes, err := t.a.allocated(target); err == nil { // renamed into place before the agent was killed
		return t.a.carried(target, bytes, p.Format)
	}
	if p.Format == "" {
		if err := t.a.copyFile(ctx, p.Source, target, t.progress); err != nil {
			return nil, err
		}
		bytes, err := t.a.allocated(target)
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
		as, err = t.a.known(p.Source)
	}
	if err != nil {
		return nil, err
	}
	order := carry.Order{Source: p.Source, Target: target, Format: format, ID: p.ID, Salvage: p.Salvage, Verify: true,
		Progress: func(_ string, done, _ int64) { t.update(func(s *hostlink.Task) { s.Done = done }) }}
	if p.From != nil && p.Web == nil {
		dialer := t.a.dialer
		if p.From.Authority != "" {
			if dialer, err = hostlink.ForeignDialer(p.From.Authority); err != nil {
				return nil, err
			}
		}
		img, err := dialer.OpenDisk(ctx, p.From.Host, p.From.Address, p.From.Ticket, p.Source)
		if err != nil {
			return nil, fmt.Errorf("open disk %s at the host that has it: %w", p.Disk, err)
		}
		defer img.Close()
		order.Image = img
	}
	if p.Web != nil {
		img, err := t.a.openImage(ctx, p)
		if err != nil {
			return nil, fmt.Errorf("open the image of disk %s: %w", p.Disk, err)
		}
		defer img.Close()
		order.Image = img
	}
	if p.KeepID && p.Web == nil {
		if c := t.a.layers(p.Source); p.From == nil && len(c) > 0 && keepable(c[0].id, format.Name) {
			order.ID = c[0].id
		}
	}
	r, err := t.a.door.Copy(ctx, order, as)
	if err != nil {
		return nil, err
	}
	return hostlink.FetchResult{FileBytes: r.FileBytes, VirtualBytes: r.VirtualBytes}, nil
}

func (a *Agent) carried(target string, bytes int64, format string) (any, error) {
	if format == "" { // not read as an image
		return hostlink.FetchResult{FileBytes: bytes}, nil
	}
	as, err := door.OnRecord(format)
	if err != nil {
		return nil, err
	}
	c, err := a.door.Chain(target, as)
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
func (a *Agent) copyFile(ctx context.Context, source, target string, progress func(int64)) (err error) {
	in, err := disk.OpenRead(a.door, source)
	if err != nil {
		return err
	}
	defer in.Close()
	part := filepath.Join(filepath.Dir(target), "."+filepath.Base(target)+".part")
	out, err := a.door.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, fileMode)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, a.removeIfThere(part))
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
	return a.renameNew(part, target)
}

// undoCarry removes what was written, whole or in part.
func undoCarry(t *task) error {
	p, target, err := carryTask(t)
	if err != nil {
		return nil // it was never begun
	}
	hidden := filepath.Join(filepath.Dir(target), "."+p.File)
	return errors.Join(t.a.removeIfThere(target), t.a.removeIfThere(hidden+".part"), t.a.removeIfThere(hidden+".journal"), t.a.removeIfThere(hidden+".journal.next"))
}

// relinkJournal is where a layer's parent was said to be.
type relinkJournal struct {
	Parent string `json:"parent"`
}

func doRelink(_ context.Context, t *task) (any, error) {
	var p plan.Relink
	if err := t.params(&p); err != nil {
		return nil, err
	}
	if err := errors.Join(t.a.within(p.Layer), t.a.within(p.Parent)); err != nil {
		return nil, err
	}
	layer, err := t.a.known(p.Layer)
	if err != nil {
		return nil, err
	}
	ref, err := t.a.door.Parent(p.Layer, layer)
	if err != nil {
		return nil, err
	}
	if ref == nil {
		return nil, fmt.Errorf("%s is no layer", p.Layer)
	}
	var j relinkJournal
	if there, err := t.a.store.get("journals", t.state.ID, &j); err != nil {
		return nil, err
	} else if !there {
		if err := t.a.store.put("journals", t.state.ID, relinkJournal{ref.Path}); err != nil {
			return nil, err
		}
	}
	return nil, t.a.reparent(p.Layer, layer, p.Parent, ref.Format, p.Force)
}

// reparent points a layer to its parent. stated is the parent's format as the
// layer says; a layer may leave it out.
func (a *Agent) reparent(layer string, as door.Known, parent, stated string, anyway bool) error {
	parentAs, err := door.OnRecord(stated)
	if err != nil {
		if parentAs, err = a.known(parent); err != nil {
			return err
		}
	}
	return a.door.Reparent(layer, as, parent, parentAs, anyway)
}

// undoRelink points the layer back, where a parent of it still is; a layer
// whose parent was missing before is left with the one that was found, which
// does no harm.
func undoRelink(t *task) error {
	var p plan.Relink
	var j relinkJournal
	if err := t.params(&p); err != nil {
		return err
	}
	if there, err := t.a.store.get("journals", t.state.ID, &j); !there || err != nil {
		return err
	}
	at := j.Parent
	if !filepath.IsAbs(at) {
		at = filepath.Join(filepath.Dir(p.Layer), at)
	}
	if _, err := t.a.door.Stat(at); err != nil {
		return nil
	}
	layer, err := t.a.known(p.Layer)
	if err != nil {
		return err
	}
	ref, err := t.a.door.Parent(p.Layer, layer)
	if err != nil || ref == nil {
		return err
	}
	return t.a.reparent(p.Layer, layer, at, ref.Format, true)
}

// doMend repairs what needs no guess. Guest data is never changed, so that
// there is nothing to undo.
func doMend(_ context.Context, t *task) (any, error) {
	var p plan.Mend
	if err := t.params(&p); err != nil {
		return nil, err
	}
	as, err := t.a.known(p.Path)
	if err != nil {
		return nil, err
	}
	c, err := t.a.door.Mend(p.Path, as)
	if err != nil {
		return nil, err
	}
	if !c.Sound() {
		return nil, &taskError{"disk.damaged", fmt.Sprintf("%s can't be put in order without guessing: %s", p.Path, c.Problems[0].What)}
	}
	return nil, nil
}

func doLayer(_ context.Context, t *task) (any, error) {
	var p plan.NewLayer
	if err := t.params(&p); err != nil {
		return nil, err
	}
	if err := errors.Join(t.a.within(p.Parent), t.a.within(p.Path)); err != nil {
		return nil, err
	}
	format, err := formats.ByName(p.Format)
	if err != nil {
		return nil, err
	}
	parent, err := t.a.known(p.Parent)
	if err != nil {
		return nil, err
	}
	if err := t.a.removeIfThere(p.Path); err != nil { // of a try that was cut short
		return nil, err
	}
	return nil, t.a.door.NewLayer(p.Path, format, t.newID(p.Path), p.Parent, parent)
}

func undoLayer(t *task) error {
	var p plan.NewLayer
	if err := t.params(&p); err != nil {
		return err
	}
	return t.a.removeIfThere(p.Path)
}
