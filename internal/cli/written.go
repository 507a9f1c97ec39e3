package cli

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/ovf"
)

// written is a package that is being written on this computer, beside its place until it is whole.
type written interface {
	// begin opens a member for writing, end says what became of it
	begin(file string) (io.WriterAt, error)
	end(m ovf.Member) error
	members() []ovf.Member
	// finish writes the rest, and gives the package its place; the length of the whole is returned
	finish(descriptor []byte) (int64, error)
	// abandon removes what is there of it, unless it has its place
	abandon()
}

// archiveOut is an OVA.
type archiveOut struct {
	*ovf.Writer
	f    *os.File
	part string
	file string
}

func newArchiveOut(file, descriptor string, room int, algorithm string, signs *ovf.SigningKey) (*archiveOut,
	error) {
	part := filepath.Join(filepath.Dir(file), "."+filepath.Base(file)+".part")
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o640)
	if err != nil {
		return nil, fmt.Errorf("%w: is there a right to write there?", err)
	}
	w := ovf.NewWriter(f, descriptor, room, time.Now(), algorithm, nil)
	w.Signs = signs
	return &archiveOut{w, f, part, file}, nil
}

func (o *archiveOut) begin(string) (io.WriterAt, error) {
	return io.NewOffsetWriter(o.f, o.Begin()), nil
}
func (o *archiveOut) end(m ovf.Member) error { return o.End(m) }
func (o *archiveOut) members() []ovf.Member  { return o.Members() }

func (o *archiveOut) finish(descriptor []byte) (int64, error) {
	total, err := o.Finish(descriptor)
	if err == nil {
		err = errors.Join(o.f.Truncate(total), o.f.Sync())
	}
	if err == nil {
		err = os.Link(o.part, o.file) // fails where the name was taken meanwhile
	}
	return total, err
}

func (o *archiveOut) abandon() {
	_ = o.f.Close()
	_ = os.Remove(o.part)
}

// folderOut is a directory with a descriptor, a manifest and disks.
type folderOut struct {
	dir, part, descriptor, algorithm string
	signs                            *ovf.SigningKey // nil: nobody does
	parts                            int64           // that files come in, in bytes; 0: each is one
	open                             io.Closer
	list                             []ovf.Member
	sums                             []ovf.Member    // what the manifest has of them: parts one by one
	cut                              map[string]bool // files that come in parts
}

// newFolderOut begins one anew; what an earlier try of the same job has left is removed.
func newFolderOut(l *local, descriptor, algorithm, job string) (*folderOut, error) {
	o := &folderOut{dir: l.path, descriptor: descriptor, algorithm: algorithm, signs: l.signs, parts: l.parts,
		part: filepath.Join(filepath.Dir(l.path), "."+filepath.Base(l.path)+"."+job+".part"), cut: map[string]bool{}}
	if err := os.RemoveAll(o.part); err != nil {
		return nil, err
	}
	if err := os.Mkdir(o.part, 0o750); err != nil {
		return nil, fmt.Errorf("%w: is there a right to write there?", err)
	}
	return o, nil
}

func (o *folderOut) begin(file string) (io.WriterAt, error) { return o.beginIn(file, o.parts) }

func (o *folderOut) beginIn(file string, parts int64) (io.WriterAt, error) {
	if err := ovf.CheckPath(file); err != nil || strings.Contains(file, "/") {
		return nil, fmt.Errorf("the service names a file %q, which is no name of a file in a package", file)
	}
	w := &partsOut{o: o, file: file, parts: parts}
	o.open = w
	return w, w.next()
}

func (o *folderOut) end(m ovf.Member) error {
	w := o.open.(*partsOut)
	o.open = nil
	if err := w.Close(); err != nil {
		return err
	}
	o.list = append(o.list, m)
	if len(w.list) == 1 { // it is whole
		if w.parts > 0 {
			if err := os.Rename(filepath.Join(o.part, w.list[0].Name), filepath.Join(o.part, m.Name)); err != nil {
				return err
			}
		}
		o.sums = append(o.sums, m)
		return nil
	}
	o.cut[m.Name], o.sums = true, append(o.sums, w.list...)
	return nil
}

// partsOut is a file that is written front to back, in parts where it is to be cut.
type partsOut struct {
	o     *folderOut
	file  string
	parts int64
	f     *os.File
	hash  hash.Hash // of the part
	at    int64     // bytes that are written
	in    int64     // of them in the part
	list  []ovf.Member
}

// next ends the part that is written, if there is one, and begins the one behind it.
func (w *partsOut) next() (err error) {
	if err := w.Close(); err != nil {
		return err
	}
	name := w.file
	if w.parts > 0 {
		name = ovf.PartName(w.file, len(w.list))
	}
	w.f, err = os.OpenFile(filepath.Join(w.o.part, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640)
	w.hash, w.in = ovf.NewHash(w.o.algorithm), 0
	return err
}

// Close ends the part that is written.
func (w *partsOut) Close() error {
	if w.f == nil {
		return nil
	}
	err := errors.Join(w.f.Sync(), w.f.Close())
	w.list = append(w.list, ovf.Member{Name: filepath.Base(w.f.Name()), Size: w.in,
		Sum: hex.EncodeToString(w.hash.Sum(nil))})
	w.f = nil
	return err
}

func (w *partsOut) WriteAt(p []byte, at int64) (n int, err error) {
	if at != w.at {
		return 0, fmt.Errorf("%s is written at byte %d, and has %d", w.file, at, w.at)
	}
	for n < len(p) {
		part := p[n:]
		if size := w.parts; size > 0 {
			if w.in == size {
				if err := w.next(); err != nil {
					return n, err
				}
			}
			part = part[:min(int64(len(part)), size-w.in)]
			w.hash.Write(part)
		}
		m, err := w.f.Write(part)
		n, w.at, w.in = n+m, w.at+int64(m), w.in+int64(m)
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

func (o *folderOut) members() []ovf.Member { return o.list }

func (o *folderOut) finish(descriptor []byte) (total int64, err error) {
	descriptor = append(bytes.TrimRight(descriptor, " \n"), '\n') // an archive sets room aside, a folder needs none
	if len(o.cut) > 0 {
		d, err := ovf.Parse(o.descriptor, descriptor)
		if err != nil {
			return 0, fmt.Errorf("the descriptor of the service: %w", err)
		}
		d.SetParts(o.parts, o.cut)
		if descriptor, err = d.Encode(0); err != nil {
			return 0, err
		}
	}
	manifest := ovf.ManifestOf(o.algorithm, o.descriptor, descriptor, o.sums)
	type file struct {
		file string
		data []byte
	}
	files := []file{{o.descriptor, descriptor}, {ovf.ManifestName(o.descriptor), manifest}}
	if o.signs != nil {
		signed, err := o.signs.Sign(ovf.ManifestName(o.descriptor), o.algorithm, manifest)
		if err != nil {
			return 0, err
		}
		files = append(files, file{ovf.CertificateName(o.descriptor), signed})
	}
	for _, f := range files {
		w, err := o.beginIn(f.file, 0) // whoever reads it looks for these by name
		if err == nil {
			_, err = w.WriteAt(f.data, 0)
		}
		if err == nil {
			err = o.end(ovf.Member{Name: f.file, Size: int64(len(f.data))})
		}
		if err != nil {
			return 0, err
		}
	}
	for _, m := range o.list {
		total += m.Size
	}
	return total, os.Rename(o.part, o.dir) // fails where something was put there meanwhile
}

func (o *folderOut) abandon() {
	if o.open != nil {
		_ = o.open.Close()
	}
	_ = os.RemoveAll(o.part)
}
