// Package formats is the table of disk image formats: it finds the one a file
// is in by its content, opens chains and finds parents that have gone astray,
// and makes new images and layers.
package formats

import (
	"fmt"
	"io"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/disk/raw"
	"unvora.example/unvora/core/disk/vhd"
	"unvora.example/unvora/core/disk/vhdx"
	"unvora.example/unvora/core/disk/vmdk"
)

// Format is one line of the table.
type Format struct {
	Name string
	// Extension of a file's name, with its dot. For people; never used to tell formats apart.
	Extension string
	// Variants that are written; the first is the usual one.
	Variants []string
	// Reads and Writes tell people what of the format is known, for the docs.
	Reads, Writes string
	// MostBytes of a disk; 0 means no bound that matters.
	MostBytes int64
	// SameParent: a layer's parent has to be of the format too. Layers: it has any.
	Layers, SameParent bool
	// Probe judges the first and the last 512 bytes of a file. Nil: taken when nothing else fits.
	Probe func(head, tail []byte) bool
	Open  func(src disk.Source, open disk.Opener) (disk.Image, error)
	// Create makes a target; Resume goes on with one, by the state that its Sync returned.
	Create func(f disk.File, s disk.Spec) (disk.Target, error)
	Resume func(f disk.File, s disk.Spec, state []byte) (disk.Target, error)
	// Check looks for what is inconsistent; nil where there is nothing to look at.
	Check func(src disk.Source, open disk.Opener) ([]disk.Problem, error)
	// SetID and Reparent change an image in place; nil where there is no place for it.
	SetID    func(f disk.File, id string) error
	Reparent func(f disk.File, p disk.ParentRef) error
}

// Table lists every format, those with a magic number first.
var Table = []Format{
	{
		Name: qcow2.Format, Extension: ".qcow2", Variants: []string{"v3", "v2"}, Layers: true,
		Reads: "versions 2 and 3, all cluster sizes, layers, compressed clusters (deflate, zstd), zero clusters, " +
			"extended L2 entries, internal snapshots, external data files; encrypted ones are recognised and refused",
		Writes: "64 KiB clusters; layers on a parent of any format",
		Probe:  func(head, _ []byte) bool { return qcow2.Probe(head) },
		Open:   func(s disk.Source, o disk.Opener) (disk.Image, error) { return orNil(qcow2.Open(s, o)) },
		Create: func(f disk.File, s disk.Spec) (disk.Target, error) { return orNoTarget(qcow2.Create(f, s)) },
		Resume: func(f disk.File, _ disk.Spec, _ []byte) (disk.Target, error) { return orNoTarget(qcow2.Resume(f)) },
		Check:  qcow2.Check, SetID: qcow2.SetID, Reparent: qcow2.Reparent,
	},
	{
		Name: vmdk.Format, Extension: ".vmdk", Variants: []string{"sparse", "stream", "flat"}, Layers: true,
		SameParent: true,
		Reads: "monolithic sparse, stream-optimized, flat, descriptors with several extents (sparse and flat), grain " +
			"directories redundant or not, layers by content id",
		Writes: "one file of sparse grains, or a stream of compressed " +
			"ones, or a descriptor and a flat file; layers on a VMDK",
		Probe:  func(head, _ []byte) bool { return vmdk.Probe(head) },
		Open:   func(s disk.Source, o disk.Opener) (disk.Image, error) { return orNil(vmdk.Open(s, o)) },
		Create: createVMDK, Resume: resumeVMDK,
		Check: vmdk.Check, SetID: vmdk.SetID, Reparent: vmdk.Reparent,
	},
	{
		Name: vhdx.Format, Extension: ".vhdx", Variants: []string{"dynamic", "fixed"}, Layers: true, SameParent: true,
		MostBytes: vhdx.MostBytes,
		Reads: "dynamic, fixed, differencing; logs that were not replayed; sectors of 512 and 4,096 bytes; either " +
			"header, either region table",
		Writes: "blocks of 2 MiB, beyond 1 TiB of 32 MiB; layers on a VHDX",
		Probe:  func(head, _ []byte) bool { return vhdx.Probe(head) },
		Open:   func(s disk.Source, _ disk.Opener) (disk.Image, error) { return orNil(vhdx.Open(s)) },
		Create: func(f disk.File, s disk.Spec) (disk.Target, error) { return orNoTarget(vhdx.Create(f, s)) },
		Resume: func(f disk.File, _ disk.Spec, _ []byte) (disk.Target, error) { return orNoTarget(vhdx.Resume(f)) },
		Check:  func(s disk.Source, _ disk.Opener) ([]disk.Problem, error) { return vhdx.Check(s) },
		SetID:  vhdx.SetID, Reparent: vhdx.Reparent,
	},
	{
		Name: vhd.Format, Extension: ".vhd", Variants: []string{"dynamic", "fixed"}, Layers: true, SameParent: true,
		MostBytes: vhd.MostBytes,
		Reads:     "fixed, dynamic, differencing; by the copy of the footer where the footer is damaged",
		Writes:    "blocks of 2 MiB; layers on a VHD",
		Probe:     vhd.Probe,
		Open:      func(s disk.Source, _ disk.Opener) (disk.Image, error) { return orNil(vhd.Open(s)) },
		Create:    func(f disk.File, s disk.Spec) (disk.Target, error) { return orNoTarget(vhd.Create(f, s)) },
		Resume: func(f disk.File, s disk.Spec, _ []byte) (disk.Target,
			error) {
			return orNoTarget(vhd.Resume(f, s))
		},
		Check: func(s disk.Source, _ disk.Opener) ([]disk.Problem, error) { return vhd.Check(s) },
		SetID: vhd.SetID, Reparent: vhd.Reparent,
	},
	{
		Name: raw.Format, Extension: ".img", Variants: []string{"sparse", "full"},
		Reads:  "files with holes or without, and block devices",
		Writes: "with holes, or with all its room taken; onto block devices",
		Open:   func(s disk.Source, _ disk.Opener) (disk.Image, error) { return orNil(raw.Open(s)) },
		Create: func(f disk.File, s disk.Spec) (disk.Target, error) { return orNoTarget(raw.Create(f, s)) },
		Resume: func(f disk.File, s disk.Spec, _ []byte) (disk.Target, error) { return orNoTarget(raw.Resume(f, s)) },
	},
}

func createVMDK(f disk.File, s disk.Spec) (disk.Target, error) {
	switch s.Variant {
	case "", "sparse":
		return orNoTarget(vmdk.CreateSparse(f, s))
	case "flat":
		return orNoTarget(vmdk.CreateFlat(f, s))
	case "stream":
		if err := f.Truncate(0); err != nil {
			return nil, err
		}
		return orNoTarget(vmdk.CreateStream(io.NewOffsetWriter(f, 0), s, f.Sync))
	}
	return nil, fmt.Errorf("%w: VMDK has no variant %q", disk.ErrVariant, s.Variant)
}

func resumeVMDK(f disk.File, s disk.Spec, state []byte) (disk.Target, error) {
	switch s.Variant {
	case "flat":
		return orNoTarget(vmdk.ResumeFlat(f, s))
	case "stream":
		at, err := vmdk.StreamLength(state)
		if err == nil {
			err = f.Truncate(at)
		}
		if err != nil {
			return nil, err
		}
		return orNoTarget(vmdk.ResumeStream(io.NewOffsetWriter(f, at), s.VirtualBytes, state, f.Sync))
	}
	return orNoTarget(vmdk.ResumeSparse(f))
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

// Names of the formats, as the table has them.
func Names() (names []string) {
	for _, f := range Table {
		names = append(names, f.Name)
	}
	return names
}

// ByName finds a line of the table.
func ByName(name string) (*Format, error) {
	for i := range Table {
		if Table[i].Name == name {
			return &Table[i], nil
		}
	}
	return nil, fmt.Errorf("unknown disk format %q: there are %s", name, listed(Names()))
}

func listed(names []string) (s string) {
	for n, name := range names {
		switch {
		case n > 0 && n == len(names)-1:
			s += " and "
		case n > 0:
			s += ", "
		}
		s += name
	}
	return s
}

// InPackages are the names, FORMAT and FORMAT:VARIANT, of what disks in packages may be: one file each. A raw disk is
// the same file in each of its variants there.
func InPackages() (names []string) {
	for _, f := range Table {
		names = append(names, f.Name)
		for _, v := range f.Variants {
			if f.Name != raw.Format && (f.Name != vmdk.Format || v != "flat") {
				names = append(names, f.Name+":"+v)
			}
		}
	}
	return names
}

// Variant checks that the format has a variant; "" is its first.
func (f *Format) Variant(name string) (string, error) {
	if name == "" {
		return f.Variants[0], nil
	}
	for _, v := range f.Variants {
		if v == name {
			return v, nil
		}
	}
	return "", fmt.Errorf("%s has no variant %q: there are %s", f.Name, name, listed(f.Variants))
}

// Detect tells the format of src by its first and last bytes.
func Detect(src disk.Source) (*Format, error) {
	n := min(512, src.Size())
	head, tail := make([]byte, n), make([]byte, n)
	if n > 0 {
		if _, err := src.ReadAt(head, 0); err != nil && err != io.EOF {
			return nil, err
		}
		if _, err := src.ReadAt(tail, src.Size()-n); err != nil && err != io.EOF {
			return nil, err
		}
	}
	for i := range Table {
		if Table[i].Probe == nil || Table[i].Probe(head, tail) {
			return &Table[i], nil
		}
	}
	return nil, disk.ErrFormat
}

// Open opens one layer, whatever its format. open is asked for further files
// that it is made of; nil refuses them.
func Open(src disk.Source, open disk.Opener) (disk.Image, error) {
	f, err := Detect(src)
	if err != nil {
		return nil, err
	}
	return f.Open(src, open)
}

// OpenAs opens one layer of which something states the format. That it is raw counts whatever its content looks like:
// a guest may have written to its disk what looks like an image. Of the rest the content is believed.
func OpenAs(stated string, src disk.Source, open disk.Opener) (disk.Image, error) {
	if stated == raw.Format {
		return orNil(raw.Open(src))
	}
	return Open(src, open)
}
