// Package formats is the table of disk image formats: it finds the one a file
// is in by its content, opens chains, and makes new images.
package formats

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/disk/raw"
	"unvora.example/unvora/core/disk/vmdk"
)

// Format is one line of the table.
type Format struct {
	Name string
	// Extension of a file's name, with its dot. For people; never used to tell formats apart.
	Extension string
	// Probe judges the first bytes of a file. Nil: taken when nothing else fits.
	Probe func(head []byte) bool
	Open  func(disk.Source) (disk.Image, error)
	// Create and Resume make a target that random access is needed for; nil
	// when the format is only read, or only written as a stream.
	Create func(f disk.File, virtualBytes int64, id string) (disk.Target, error)
	Resume func(f disk.File, virtualBytes int64) (disk.Target, error)
}

// Table lists every format, those with a magic number first.
var Table = []Format{
	{
		Name: qcow2.Format, Extension: ".qcow2", Probe: qcow2.Probe,
		Open: func(s disk.Source) (disk.Image, error) { return orNil(qcow2.Open(s)) },
		Create: func(f disk.File, n int64, id string) (disk.Target, error) {
			return orNoTarget(qcow2.Create(f, n, qcow2.Options{ID: id}))
		},
		Resume: func(f disk.File, n int64) (disk.Target, error) { return orNoTarget(qcow2.OpenWrite(f, nil)) },
	},
	{
		Name: vmdk.Format, Extension: ".vmdk", Probe: vmdk.Probe,
		Open: func(s disk.Source) (disk.Image, error) { return orNil(vmdk.Open(s)) },
	},
	{
		Name: raw.Format, Extension: ".img",
		Open:   func(s disk.Source) (disk.Image, error) { return orNil(raw.Open(s)) },
		Create: func(f disk.File, n int64, _ string) (disk.Target, error) { return orNoTarget(raw.Create(f, n)) },
		Resume: func(f disk.File, n int64) (disk.Target, error) { return orNoTarget(raw.Resume(f, n)) },
	},
}

// A nil pointer in an interface is not nil.
func orNil[T disk.Image](i T, err error) (disk.Image, error) {
	if err != nil {
		return nil, err
	}
	return i, nil
}

func orNoTarget[T disk.Target](t T, err error) (disk.Target, error) {
	if err != nil {
		return nil, err
	}
	return t, nil
}

// ByName finds a line of the table.
func ByName(name string) (*Format, error) {
	for i := range Table {
		if Table[i].Name == name {
			return &Table[i], nil
		}
	}
	return nil, fmt.Errorf("unknown disk format %q", name)
}

// Detect tells the format of src by its first bytes.
func Detect(src disk.Source) (*Format, error) {
	head := make([]byte, min(512, src.Size()))
	if _, err := src.ReadAt(head, 0); err != nil && len(head) > 0 {
		return nil, err
	}
	for i := range Table {
		if Table[i].Probe == nil || Table[i].Probe(head) {
			return &Table[i], nil
		}
	}
	return nil, disk.ErrFormat
}

// Open opens one layer, whatever its format.
func Open(src disk.Source) (disk.Image, error) {
	f, err := Detect(src)
	if err != nil {
		return nil, err
	}
	return f.Open(src)
}

// maxChain is deeper than any family allows, and shallow enough to stop at.
const maxChain = 256

// ErrParent is returned when a layer's parent is missing or the chain loops.
var ErrParent = errors.New("parent not found")

// OpenChain opens the image at path with all its parents, each looked for at
// the place the layer above states. paths are those of the layers, base last.
func OpenChain(path string) (img disk.Image, paths []string, err error) {
	var layers []disk.Image
	defer func() {
		if err != nil {
			for _, l := range layers {
				l.Close()
			}
		}
	}()
	seen := map[string]bool{}
	for next, as := path, ""; next != ""; {
		real, err := filepath.EvalSymlinks(next)
		if err != nil {
			if len(layers) > 0 {
				return nil, paths, fmt.Errorf("%w: %s, named by %s: %v", ErrParent, next, paths[len(paths)-1], err)
			}
			return nil, nil, err
		}
		if seen[real] {
			return nil, paths, fmt.Errorf("%w: the chain comes back to %s", ErrParent, real)
		}
		if seen[real] = true; len(seen) > maxChain {
			return nil, paths, fmt.Errorf("%w: the chain has more than %d layers", ErrParent, maxChain)
		}
		layer, err := openFile(real, as)
		if err != nil {
			return nil, paths, fmt.Errorf("open layer %d, %s: %w", len(layers)+1, next, err)
		}
		layers, paths = append(layers, layer), append(paths, next)
		parent := layer.Info().Parent
		if parent == nil {
			break
		}
		if next, as = parent.Path, parent.Format; !filepath.IsAbs(next) {
			next = filepath.Join(filepath.Dir(real), next)
		}
	}
	return disk.Chain(layers...), paths, nil
}

// openFile opens a file as the format named, or as its content tells.
func openFile(path, as string) (disk.Image, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	src, err := disk.OpenFile(f)
	if err != nil {
		f.Close()
		return nil, err
	}
	var img disk.Image
	if format, e := ByName(as); as != "" && e == nil {
		img, err = format.Open(src)
	} else {
		img, err = Open(src)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return img, nil
}
