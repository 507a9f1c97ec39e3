package cli

import (
	"bytes"
	"errors"
	"fmt"
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
	open                             *os.File
	list                             []ovf.Member
}

// newFolderOut begins one anew; what an earlier try of the same job has left is removed.
func newFolderOut(dir, descriptor, algorithm, job string, signs *ovf.SigningKey) (*folderOut, error) {
	o := &folderOut{dir: dir, part: filepath.Join(filepath.Dir(dir), "."+filepath.Base(dir)+"."+job+".part"),
		descriptor: descriptor, algorithm: algorithm, signs: signs}
	if err := os.RemoveAll(o.part); err != nil {
		return nil, err
	}
	if err := os.Mkdir(o.part, 0o750); err != nil {
		return nil, fmt.Errorf("%w: is there a right to write there?", err)
	}
	return o, nil
}

func (o *folderOut) begin(file string) (io.WriterAt, error) {
	if err := ovf.CheckPath(file); err != nil || strings.Contains(file, "/") {
		return nil, fmt.Errorf("the service names a file %q, which is no name of a file in a package", file)
	}
	var err error
	o.open, err = os.OpenFile(filepath.Join(o.part, file), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640)
	return o.open, err
}

func (o *folderOut) end(m ovf.Member) error {
	o.list = append(o.list, m)
	return errors.Join(o.open.Sync(), o.open.Close())
}

func (o *folderOut) members() []ovf.Member { return o.list }

func (o *folderOut) finish(descriptor []byte) (total int64, err error) {
	descriptor = append(bytes.TrimRight(descriptor, " \n"), '\n') // an archive sets room aside, a folder needs none
	manifest := ovf.ManifestOf(o.algorithm, o.descriptor, descriptor, o.list)
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
		w, err := o.begin(f.file)
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
