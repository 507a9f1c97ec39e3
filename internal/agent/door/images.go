package door

import (
	"context"
	"errors"
	"fmt"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/ovf"
)

// Known is a format that is on record for an image: a descriptor states it, or a
// plan, or it was found out once, when nobody knew it yet. It is never what the
// first bytes say now, which the machine's guest may have written.
type Known struct{ name string }

// OnRecord takes a format from a record.
func OnRecord(name string) (Known, error) {
	if _, err := formats.ByName(name); err != nil {
		return Known{}, err
	}
	return Known{name}, nil
}

// Name of the format; "" for the zero value, which opens nothing.
func (k Known) Name() string { return k.name }

// Guess tells a format by an image's first and last bytes. It is for images of
// which nothing is on record.
func (d *Door) Guess(path string) (Known, error) {
	src, err := disk.OpenSource(d, path, 0)
	if err != nil {
		return Known{}, err
	}
	defer src.Close()
	f, err := formats.Detect(src)
	if err != nil {
		return Known{}, err
	}
	return Known{f.Name}, nil
}

func (d *Door) options(as Known) formats.Options {
	return formats.Options{Files: d, Format: as.name, Wary: true, MadeAt: time.Now()}
}

func (k Known) check(path string) error {
	if k.name == "" {
		return fmt.Errorf("%w: nothing says in which format %s is", disk.ErrFormat, path)
	}
	return nil
}

// Look opens an image with its parents and tells what is wrong with the chain.
func (d *Door) Look(path string, as Known) (*formats.Chain, error) {
	if err := as.check(path); err != nil {
		return nil, err
	}
	return formats.Look(path, d.options(as))
}

// Chain opens an image with its parents; whatever is wrong with them is an error.
func (d *Door) Chain(path string, as Known) (*formats.Chain, error) {
	if err := as.check(path); err != nil {
		return nil, err
	}
	return formats.OpenChain(path, d.options(as))
}

// Copy carries an order out whose source, if it is a file, has a format on record.
func (d *Door) Copy(ctx context.Context, o carry.Order, as Known) (*carry.Result, error) {
	if o.Image == nil {
		if err := as.check(o.Source); err != nil {
			return nil, err
		}
	}
	o.Options, o.Now = d.options(as), time.Now
	return carry.Copy(ctx, o)
}

// Reparent points a layer to its parent's new place.
func (d *Door) Reparent(layer string, as Known, parent string, parentAs Known, anyway bool) error {
	for path, k := range map[string]Known{layer: as, parent: parentAs} {
		if err := k.check(path); err != nil {
			return err
		}
	}
	_, err := formats.Reparent(layer, parent, parentAs.name, anyway, d.options(as))
	return err
}

// NewLayer makes an empty layer on a parent.
func (d *Door) NewLayer(path string, format *formats.Format, id, parent string, parentAs Known) error {
	if err := parentAs.check(parent); err != nil {
		return err
	}
	return formats.NewLayer(path, parent, format, id, d.options(parentAs))
}

// NewLooseLayer makes an empty layer that does not remember how its parent is.
func (d *Door) NewLooseLayer(path string, format *formats.Format, id, parent string, parentAs Known) error {
	if err := parentAs.check(parent); err != nil {
		return err
	}
	o := d.options(parentAs)
	o.Loose = true
	return formats.NewLayer(path, parent, format, id, o)
}

// Commit writes what a layer holds into its parent.
func (d *Door) Commit(path string, as Known) error {
	if err := as.check(path); err != nil {
		return err
	}
	return formats.Commit(path, d.options(as))
}

// Pour writes what a layer holds of its own into an image of a format on record.
func (d *Door) Pour(ctx context.Context, from disk.Image, path string, as Known, progress func(int64)) error {
	if err := as.check(path); err != nil {
		return err
	}
	return formats.Pour(ctx, from, path, d.options(as), progress)
}

// Mend repairs what needs no guess, and tells what is left.
func (d *Door) Mend(path string, as Known) (*formats.Checked, error) {
	if err := as.check(path); err != nil {
		return nil, err
	}
	return formats.Check(path, true, func([]disk.Problem) {}, d.options(as))
}

// Renew gives an image another id.
func (d *Door) Renew(path string, as Known, id string) error {
	if err := as.check(path); err != nil {
		return err
	}
	_, err := formats.Renew(path, id, d.options(as))
	return err
}

// Parent is what a layer says of its parent; nil when it is no layer.
func (d *Door) Parent(layer string, as Known) (*disk.ParentRef, error) {
	if err := as.check(layer); err != nil {
		return nil, err
	}
	src, err := disk.OpenSource(d, layer, 0)
	if err != nil {
		return nil, err
	}
	f, err := formats.ByName(as.name)
	var img disk.Image
	if err == nil {
		img, err = f.Open(src, formats.Beside(layer, d.options(as), nil))
	}
	if err != nil {
		return nil, errors.Join(err, src.Close())
	}
	ref := img.Info().Parent
	return ref, img.Close()
}

// Package opens a package; temp is a directory for what has to be unpacked.
func (d *Door) Package(path, temp string) (*ovf.Opened, error) {
	return ovf.OpenPathIn(d, path, temp)
}
