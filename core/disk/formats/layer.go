package formats

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
)

// NewLayer makes an empty layer at path, which must be free, on the image at
// parent, whose format o tells. It takes milliseconds whatever the parent's size.
func NewLayer(path, parent string, format *Format, id string, o Options) (err error) {
	if !format.Layers {
		return fmt.Errorf("a %s image can't be a layer", format.Name)
	}
	ref, info, err := refer(path, parent, format, o)
	if err != nil {
		return err
	}
	f, err := o.files().OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o640)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, f.Close()); err != nil {
			_ = o.files().Remove(path)
		}
	}()
	file, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	target, err := format.Create(file, disk.Spec{VirtualBytes: info.VirtualBytes, SectorBytes: info.SectorBytes, ID: id,
		Parent: ref, Name: filepath.Base(path), MadeAt: o.MadeAt})
	if err != nil {
		return err
	}
	return target.Finish()
}

// refer makes what a layer at path, of a format, is to remember of a parent.
func refer(path, parent string, format *Format, o Options) (*disk.ParentRef, disk.Info, error) {
	c, err := OpenChain(parent, o)
	if err != nil {
		return nil, disk.Info{}, err
	}
	defer c.Close()
	for _, l := range c.Links {
		if disk.SameFile(o.files(), l.Path, path) {
			return nil, disk.Info{}, &Fault{Code: ChainLoop, Subject: path,
				Message: fmt.Sprintf("%s stands on %s: it can't be its parent", parent, path)}
		}
	}
	base := c.Links[0]
	info := base.Image.Info()
	if format.SameParent && base.Format.Name != format.Name {
		return nil, info, fmt.Errorf("the parent of a %s layer has to be %s too, and %s is %s: copy it to that format "+
			"first, or make the layer in QCOW2", format.Name, format.Name, parent, base.Format.Name)
	}
	ref := &disk.ParentRef{Path: stateAs(path, parent), Format: base.Format.Name, ID: info.Linkage}
	if o.Loose {
		return ref, info, nil
	}
	if !format.SameParent {
		f, err := disk.TakeFingerprint(c)
		if err != nil {
			return nil, info, fmt.Errorf("read %s: %w", parent, err)
		}
		ref.Fingerprint = f.String()
	}
	st, err := o.files().Stat(parent)
	if err != nil {
		return nil, info, err
	}
	ref.ModifiedAt = st.ModTime().Truncate(time.Second)
	return ref, info, nil
}

// stateAs is how a layer names its parent: from where it lies when that is
// in the same folder or below, so that the folder can be moved; else in full.
func stateAs(path, parent string) string {
	from, err1 := filepath.Abs(filepath.Dir(path))
	to, err2 := filepath.Abs(parent)
	if err1 != nil || err2 != nil {
		return parent
	}
	if rel, err := filepath.Rel(from, to); err == nil && !strings.HasPrefix(rel, "..") {
		return rel
	}
	return to
}

// Reparent points the layer at path to parent, its parent's new place. Only
// the layer's header is written. A parent that is not the one the layer was
// made on is refused as a *Fault, unless anyway is set. sure tells whether
// there was anything to compare. o tells how files are reached and the layer's
// format, parentFormat that of the parent; "" as its content tells.
func Reparent(path, parent, parentFormat string, anyway bool, o Options) (sure bool, err error) {
	layer, err := openLink(path, o.Format, o)
	if err != nil {
		return false, err
	}
	defer layer.Image.Close()
	old := layer.Image.Info().Parent
	if old == nil {
		return false, fmt.Errorf("%s is no layer: it has no parent to be pointed to", path)
	}
	on := o
	on.Format = parentFormat
	ref, info, err := refer(path, parent, layer.Format, on)
	if err != nil {
		return false, err
	}
	wrong := func(format string, args ...any) error {
		if anyway {
			return nil
		}
		return &Fault{Code: ParentChanged, Subject: path, Message: fmt.Sprintf("%s was not made on %s: ", path,
			parent) +
			fmt.Sprintf(format, args...)}
	}
	now := ref.Fingerprint
	if now == "" && old.ID == "" || now != "" && old.Fingerprint == "" {
		if old.Fingerprint, err = formerly(path, old, o); err != nil {
			return false, err
		}
	}
	switch {
	case old.ID != "" && old.ID != info.Linkage:
		err = wrong("it remembers the id %s, that one bears %s", old.ID, orNone(info.Linkage))
	case old.Fingerprint != "" && now != "" && old.Fingerprint != now:
		err = wrong("its contents differ from those of the parent that it had")
	}
	if err != nil {
		return true, err
	}
	sure = old.ID != "" || old.Fingerprint != ""
	file, err := disk.OpenSource(o.files(), path, os.O_RDWR)
	if err != nil {
		return sure, err
	}
	defer file.Close()
	if err := Unguarded(path, file); err != nil {
		return sure, err
	}
	return sure, layer.Format.Reparent(file, *ref)
}

// Unguarded refuses to write to a file that another process counts on.
func Unguarded(path string, f *disk.OSFile) error {
	if f.Guarded() {
		return &Fault{Code: InUse, Subject: path, Message: fmt.Sprintf("%s is open in another process that counts on "+
			"its "+
			"not being written: stop the machine that runs on it", path)}
	}
	return nil
}

// formerly is the fingerprint of the parent that the layer still states, ""
// when it can't be read.
func formerly(path string, ref *disk.ParentRef, o Options) (string, error) {
	at := ref.Path
	if !filepath.IsAbs(at) {
		at = filepath.Join(filepath.Dir(path), at)
	}
	o.Format = ""
	if f, err := ByName(ref.Format); err == nil {
		o.Format = f.Name
	}
	c, err := OpenChain(at, o)
	if err != nil {
		return "", nil // gone: there is nothing to compare with
	}
	defer c.Close()
	f, err := disk.TakeFingerprint(c)
	return f.String(), err
}
