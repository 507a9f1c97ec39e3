package ovf

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
)

// Skeleton is a package without its disks: all that a plan needs, and little
// enough to be sent along with a question.
type Skeleton struct {
	Name           string  `json:"name"` // of the file or folder
	Kind           string  `json:"kind"` // ova or folder
	DescriptorName string  `json:"descriptorName"`
	Descriptor     string  `json:"descriptor"`
	ManifestName   string  `json:"manifestName"` // "": there is none
	Manifest       string  `json:"manifest"`
	Certificate    string  `json:"certificate,omitempty"` // contents of the .cert file
	Packed         bool    `json:"packed,omitempty"`      // an archive is around it: offsets are not those of the file
	Entries        []Entry `json:"entries"`
}

// Package is a skeleton that was read and checked.
type Package struct {
	Skeleton
	Envelope   *Descriptor
	Sums       map[string]Digest
	Deviations []Deviation

	joined map[string]Entry // files that come in parts
}

const maxManifestBytes = 1 << 20

// ReadOVA reads the skeleton of an archive.
func ReadOVA(src disk.Source, name string) (*Skeleton, error) {
	entries, err := Index(src, name)
	if err != nil {
		return nil, err
	}
	return skeleton("ova", name, entries, func(e Entry, most int64) ([]byte, error) {
		raw := make([]byte, min(e.Size, most+1))
		_, err := src.ReadAt(raw, e.Offset)
		if err == io.EOF {
			err = nil
		}
		return raw, err
	})
}

// ReadFolder reads the skeleton of a directory that holds a descriptor.
func ReadFolder(files disk.Files, dir string) (*Skeleton, error) {
	s, _, err := readFolders(files, []string{dir})
	return s, err
}

// readFolders reads the skeleton of a package whose files lie in several directories, and in which each lies.
func readFolders(files disk.Files, dirs []string) (*Skeleton, map[string]string, error) {
	var entries []Entry
	in := map[string]string{}
	for _, dir := range dirs {
		list, err := files.ReadDir(dir)
		if err != nil {
			return nil, nil, err
		}
		for _, f := range list {
			info, err := f.Info()
			if err != nil || !f.Type().IsRegular() || f.Name()[0] == '.' {
				continue
			}
			if other, twice := in[f.Name()]; twice {
				return nil, nil, &Problem{Code: "package.entry-repeated", Subject: f.Name(), Offset: -1,
					Message: fmt.Sprintf("it is in %s and in %s", other, dir)}
			}
			in[f.Name()] = dir
			entries = append(entries, Entry{Name: f.Name(), Size: info.Size()})
		}
	}
	s, err := skeleton("folder", filepath.Base(dirs[0]), entries, func(e Entry, most int64) ([]byte, error) {
		f, err := disk.OpenRead(files, filepath.Join(in[e.Name], e.Name))
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return io.ReadAll(io.LimitReader(f, most+1))
	})
	return s, in, err
}

// OpenFolders opens a package whose files lie in several directories, such as those of two drives.
func OpenFolders(files disk.Files, dirs []string) (*Opened, error) {
	s, in, err := readFolders(files, dirs)
	if err != nil {
		return nil, err
	}
	return opened(s, &folder{files: files, in: in})
}

func skeleton(kind, name string, entries []Entry, read func(e Entry, most int64) ([]byte, error)) (*Skeleton, error) {
	s := &Skeleton{Name: name, Kind: kind, Entries: entries}
	for _, e := range entries {
		switch strings.ToLower(path.Ext(e.Name)) {
		case ".ovf":
			if s.DescriptorName != "" {
				return nil, &Problem{Code: "descriptor.malformed", Subject: e.Name, Offset: -1,
					Message: "there is a second descriptor beside " + s.DescriptorName}
			}
			raw, err := read(e, MaxDescriptorBytes)
			if err != nil {
				return nil, err
			}
			s.DescriptorName, s.Descriptor = e.Name, string(raw)
		case ".mf":
			raw, err := read(e, maxManifestBytes)
			if err != nil {
				return nil, err
			}
			if len(raw) > maxManifestBytes {
				return nil, &Problem{Code: "package.too-large", Subject: e.Name, Offset: -1,
					Message: fmt.Sprintf("the manifest has more than %d bytes", maxManifestBytes)}
			}
			s.ManifestName, s.Manifest = e.Name, string(raw)
		case ".cert":
			raw, err := read(e, maxManifestBytes)
			if err != nil {
				return nil, err
			}
			s.Certificate = string(raw)
		}
	}
	if s.DescriptorName == "" {
		return nil, &Problem{Code: "package.unknown", Subject: name, Offset: -1,
			Message: "there is no descriptor (.ovf) in it"}
	}
	return s, nil
}

// Open parses descriptor and manifest and checks that they fit the entries.
func (s *Skeleton) Open() (*Package, error) {
	d, err := Parse(s.DescriptorName, []byte(s.Descriptor))
	if err != nil {
		return nil, err
	}
	p := &Package{Skeleton: *s, Envelope: d, Deviations: d.Notes, joined: map[string]Entry{}}
	note := func(code, subject, format string, args ...any) {
		p.Deviations = append(p.Deviations, Deviation{code, subject, fmt.Sprintf(format, args...)})
	}
	if s.ManifestName == "" {
		note("manifest.absent", s.Name, "There is no manifest: nothing says what the files should hold.")
	} else {
		if p.Sums, err = ParseManifest(s.ManifestName, []byte(s.Manifest)); err != nil {
			return nil, err
		}
		for _, sum := range p.Sums {
			if sum.Algorithm == "sha1" {
				note("manifest.algorithm-weak", s.ManifestName, "The manifest's digests are SHA-1, which can be "+
					"forged.")
				break
			}
		}
		if want, ok := p.Sums[s.DescriptorName]; ok {
			if got := digestOf(want.Algorithm, []byte(s.Descriptor)); got != want.Sum {
				note("manifest.mismatch", s.DescriptorName, "The descriptor's %s is %s, the manifest says %s.",
					want.Algorithm, got,
					want.Sum)
			}
		}
	}
	if s.Certificate != "" {
		cert, err := Signer([]byte(s.Certificate), []byte(s.Manifest))
		if err != nil {
			note("certificate.invalid", s.Name, "It is signed, but %v.", err)
		} else {
			note("certificate.untrusted", s.Name, "It is signed by %s, who is not known here. The signature is good, "+
				"from %s "+
				"to %s.", cert.Subject.CommonName, cert.NotBefore.Format("2006-01-02"),
				cert.NotAfter.Format("2006-01-02"))
		}
	}
	have := map[string]Entry{}
	for _, e := range s.Entries {
		have[strings.TrimPrefix(e.Name, "./")] = e
	}
	named := map[string]bool{s.DescriptorName: true, s.ManifestName: true}
	for _, f := range d.Files {
		named[f.Href] = true
		if err := CheckPath(f.Href); err != nil {
			return nil, &Problem{Code: "package.path-escape", Subject: f.Href, Offset: -1,
				Message: "the descriptor names a file that " + err.Error()}
		}
		e, ok := have[f.Href]
		if !ok && f.PartBytes > 0 {
			var problem *Deviation
			if e, problem = f.joined(have); problem != nil { // it is told once, and not of each part again
				p.Deviations = append(p.Deviations, *problem)
				for name := range have {
					named[name] = named[name] || isPart(f.Href, name)
				}
				for name := range p.Sums {
					named[name] = named[name] || isPart(f.Href, name)
				}
				continue
			}
			for n := range e.Parts {
				named[PartName(f.Href, n)] = true
			}
			ok, have[f.Href], p.joined[f.Href] = true, e, e
			if sum, all := partedDigest(e, p.Sums); all {
				p.Sums[f.Href] = sum
			}
		}
		switch {
		case !ok:
			note("package.file-missing", f.Href, "The descriptor names %s, which is not in the package.", f.Href)
		case s.ManifestName != "" && p.Sums[f.Href].Sum == "":
			note("manifest.incomplete", f.Href, "The manifest does not name %s: nothing says what it should hold.",
				f.Href)
		case f.SizeBytes != 0 && f.SizeBytes != e.Size:
			note("package.truncated", f.Href, "%s should have %d bytes and has %d.", f.Href, f.SizeBytes, e.Size)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Sums)) {
		if _, ok := have[name]; !ok && !named[name] {
			note("package.file-missing", name, "The manifest names %s, which is not in the package.", name)
		}
	}
	for _, e := range s.Entries {
		if !named[strings.TrimPrefix(e.Name, "./")] && !strings.HasSuffix(e.Name, ".cert") {
			note("package.file-unused", e.Name, "No part of the descriptor names %s.", e.Name)
		}
	}
	for m := range d.Machines {
		for k := range d.Machines[m].Disks {
			disk := &d.Machines[m].Disks[k]
			if e, ok := have[disk.File]; ok {
				disk.FileBytes = e.Size
			}
		}
	}
	return p, nil
}

// Entry finds a file of the package by the name that the descriptor uses.
func (s *Skeleton) Entry(href string) (Entry, bool) {
	for _, e := range s.Entries {
		if strings.TrimPrefix(e.Name, "./") == href {
			return e, true
		}
	}
	return Entry{}, false
}

// Entry finds a file of the package by the name that the descriptor uses: one that comes in parts too.
func (p *Package) Entry(href string) (Entry, bool) {
	if e, ok := p.joined[href]; ok {
		return e, true
	}
	return p.Skeleton.Entry(href)
}

// NewHash makes the hash of a manifest's algorithm; nil for an unknown one.
func NewHash(algorithm string) hash.Hash {
	switch algorithm {
	case "sha1":
		return sha1.New()
	case "sha256":
		return sha256.New()
	case "sha512":
		return sha512.New()
	}
	return nil
}

func digestOf(algorithm string, p []byte) string {
	h := NewHash(algorithm)
	h.Write(p)
	return hex.EncodeToString(h.Sum(nil))
}

// Opened is a package whose files can be read.
type Opened struct {
	*Package
	// Source opens a file of the package.
	Source func(e Entry) (disk.Source, error)
	Shut   func() error // frees what it holds; nil when there is nothing
}

// Close frees what the package holds open.
func (o *Opened) Close() error {
	if o.Shut == nil {
		return nil
	}
	return o.Shut()
}

// OpenPath opens an OVA file, a folder, a descriptor in a folder, or an archive
// around any of these.
func OpenPath(file string) (*Opened, error) { return OpenPathIn(disk.OS, file, "") }

// OpenPathIn is OpenPath by a way to reach files, with a directory for what has to
// be unpacked; "" is the system's.
func OpenPathIn(files disk.Files, file, temp string) (*Opened, error) {
	st, err := files.Stat(file)
	if err != nil {
		return nil, err
	}
	if !st.IsDir() && strings.EqualFold(filepath.Ext(file), ".ovf") {
		file, st = filepath.Dir(file), nil
	}
	if st == nil || st.IsDir() {
		return OpenFolders(files, []string{file})
	}
	src, err := disk.OpenSource(files, file, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	head := make([]byte, blockBytes)
	n, _ := src.ReadAt(head, 0)
	if what := kind(head[:n]); what == "zip" || what == "gzip" || what == "zstd" || what == "tar" &&
		around(src, filepath.Base(file)) {
		o, err := openParcel(files, file, temp, src.Size())
		return o, errors.Join(err, src.Close())
	}
	return OpenSource(src, filepath.Base(file), src.Close)
}

// around tells whether a tar archive is no package itself but has one in it.
func around(src disk.Source, name string) bool {
	entries, err := Index(src, name)
	if err != nil {
		return false
	}
	for _, e := range entries {
		if strings.EqualFold(path.Ext(e.Name), ".ovf") && !strings.Contains(strings.TrimPrefix(e.Name, "./"), "/") {
			return false
		}
	}
	return true
}

// OpenSource opens an OVA that lies anywhere.
func OpenSource(src disk.Source, name string, closer func() error) (*Opened, error) {
	s, err := ReadOVA(src, name)
	if err != nil {
		_ = closer()
		return nil, err
	}
	return opened(s, &archive{src, closer})
}

type contents interface {
	source(e Entry) (disk.Source, error)
	close() error
}

type archive struct {
	src    disk.Source
	closer func() error
}

func (a *archive) source(e Entry) (disk.Source, error) {
	return disk.Section(a.src, e.Offset, e.Size), nil
}
func (a *archive) close() error { return a.closer() }

type folder struct {
	files disk.Files
	in    map[string]string // directory that each lies in
	open  []*disk.OSFile
}

func (d *folder) source(e Entry) (disk.Source, error) {
	dir, is := d.in[strings.TrimPrefix(e.Name, "./")]
	if !is {
		return nil, &fs.PathError{Op: "open", Path: e.Name, Err: fs.ErrNotExist}
	}
	f, err := disk.OpenSource(d.files, filepath.Join(dir, e.Name), os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	d.open = append(d.open, f)
	return f, nil
}

func (d *folder) close() error {
	var errs []error
	for _, f := range d.open {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}

func opened(s *Skeleton, f contents) (*Opened, error) {
	p, err := s.Open()
	if err != nil {
		_ = f.close()
		return nil, err
	}
	source := func(e Entry) (disk.Source, error) { return partsOf(e, f.source) }
	return &Opened{Package: p, Source: source, Shut: f.close}, nil
}

// LookAtDisks opens every disk file: its own word on format and size replaces
// the descriptor's, and differences become deviations.
func (o *Opened) LookAtDisks() {
	for m := range o.Envelope.Machines {
		for k := range o.Envelope.Machines[m].Disks {
			d := &o.Envelope.Machines[m].Disks[k]
			e, ok := o.Entry(d.File)
			if !ok {
				continue
			}
			src, err := o.Source(e)
			if err == nil {
				var img disk.Image
				if img, err = formats.OpenAs(d.Format, src, nil); err == nil {
					info := img.Info()
					d.Format = info.Format
					if d.VirtualBytes != info.VirtualBytes && info.VirtualBytes > 0 {
						o.Deviations = append(o.Deviations, Deviation{"disk.size-mismatch", d.ID,
							fmt.Sprintf("The descriptor says %d bytes, the image %d.", d.VirtualBytes,
								info.VirtualBytes)})
						d.VirtualBytes = max(d.VirtualBytes, info.VirtualBytes)
					}
				}
			}
			if err != nil {
				o.Deviations = append(o.Deviations, Deviation{codeOf(err), d.ID, fmt.Sprintf("%s: %v.", d.File, err)})
			}
		}
	}
}

func codeOf(err error) string {
	switch {
	case errors.Is(err, disk.ErrFormat):
		return "disk.format-unknown"
	case errors.Is(err, disk.ErrEncrypted):
		return "disk.encrypted"
	case errors.Is(err, fs.ErrNotExist):
		return "package.file-missing"
	}
	return "disk.damaged"
}

// diskAs tells whether a file is the image of a disk of one of the machines, and which format the descriptor states.
func (p *Package) diskAs(name string) (format string, is bool) {
	for _, m := range p.Envelope.Machines {
		if at := slices.IndexFunc(m.Disks, func(d machine.Disk) bool { return d.File == name }); at >= 0 {
			return m.Disks[at].Format, true
		}
	}
	return "", false
}

// damage says where a file that is a disk image goes wrong, as far as its format's own checks tell.
func damage(ctx context.Context, format string, src disk.Source) string {
	img, err := formats.OpenAs(format, src, nil)
	if err != nil {
		return fmt.Sprintf("As a disk image it can't be opened: %v.", err)
	}
	size := img.Info().VirtualBytes
	buf := []byte{}
	for feed := disk.ImageFeed(img, 0, 1); ; {
		p, err := feed.Next()
		if err == io.EOF {
			return "As a disk image it can be read to its end, so that it is the data of the guest that is another."
		}
		if err == nil {
			if p.Length > len(buf) {
				buf = make([]byte, p.Length)
			}
			err = p.Load(buf[:p.Length])
		}
		if err != nil {
			return fmt.Sprintf("As a disk image it goes wrong at byte %d of the %d of the disk, or soon after: %v.",
				p.Offset, size, err)
		}
		if ctx.Err() != nil {
			return "Where, was not looked for to the end."
		}
	}
}

// Verify reads every file that the manifest names and compares its digest. Of a disk that is not as it was written it
// tells where, as far as that is to be seen.
func (o *Opened) Verify(ctx context.Context, progress func(bytes int64)) error {
	names := make([]string, 0, len(o.Sums))
	for n := range o.Sums {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, name := range names {
		want := o.Sums[name]
		e, ok := o.Entry(name)
		if !ok {
			continue // Open has told it
		}
		if name == o.DescriptorName || len(want.Parts) > 0 {
			continue // Open has compared it; parts are compared each by itself
		}
		src, err := o.Source(e)
		if err != nil {
			return err
		}
		h := NewHash(want.Algorithm)
		buf := make([]byte, 1<<20)
		for off := int64(0); off < e.Size; {
			if err := ctx.Err(); err != nil {
				return err
			}
			n, err := src.ReadAt(buf[:min(int64(len(buf)), e.Size-off)], off)
			if err != nil && err != io.EOF || n == 0 {
				return fmt.Errorf("read %s at byte %d: %w", name, off, orShort(err))
			}
			h.Write(buf[:n])
			off += int64(n)
			if progress != nil {
				progress(int64(n))
			}
		}
		if got := hex.EncodeToString(h.Sum(nil)); got != want.Sum {
			says := fmt.Sprintf("%s was changed or damaged after it was written: its %s is %s, the manifest says %s.",
				name, want.Algorithm, got, want.Sum)
			if format, is := o.diskAs(name); is {
				says += " " + damage(ctx, format, src)
			}
			o.Deviations = append(o.Deviations, Deviation{"manifest.mismatch", name, says})
		}
	}
	return nil
}

// ManifestState is ok, absent or mismatch, as far as was looked.
func (p *Package) ManifestState() string {
	if p.ManifestName == "" {
		return "absent"
	}
	for _, d := range p.Deviations {
		if d.Code == "manifest.mismatch" {
			return "mismatch"
		}
	}
	return "ok"
}
