package disk

import (
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// OSFile is a file of the operating system that knows its own holes.
type OSFile struct {
	f        *os.File
	readOnly int64 // size at opening, for a file opened for reading; -1 otherwise
}

// OpenFile wraps f, which stays the caller's until Close.
func OpenFile(f *os.File) (*OSFile, error) {
	size, err := f.Seek(0, io.SeekEnd) // also right for a block device, where Stat says 0
	if err != nil {
		return nil, fmt.Errorf("size of %s: %w", f.Name(), err)
	}
	flags, err := unix.FcntlInt(f.Fd(), unix.F_GETFL, 0)
	if err != nil || flags&unix.O_ACCMODE != unix.O_RDONLY {
		size = -1
	}
	return &OSFile{f: f, readOnly: size}, nil
}

func (o *OSFile) ReadAt(p []byte, off int64) (int, error)  { return o.f.ReadAt(p, off) }
func (o *OSFile) WriteAt(p []byte, off int64) (int, error) { return o.f.WriteAt(p, off) }
func (o *OSFile) Truncate(size int64) error                { return o.f.Truncate(size) }
func (o *OSFile) Sync() error                              { return unix.Fdatasync(int(o.f.Fd())) }
func (o *OSFile) Close() error                             { return o.f.Close() }
func (o *OSFile) Name() string                             { return o.f.Name() }

// Size in bytes, now.
func (o *OSFile) Size() int64 {
	if o.readOnly >= 0 {
		return o.readOnly
	}
	st, err := o.f.Stat()
	if err != nil {
		return 0
	}
	return st.Size()
}

// NextData asks the file system with SEEK_DATA and SEEK_HOLE (lseek(2)).
func (o *OSFile) NextData(off int64) (start, end int64, err error) {
	fd := int(o.f.Fd())
	start, err = unix.Seek(fd, off, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		return 0, 0, io.EOF
	}
	if err != nil { // a file system or device that can't tell: all of it is data
		if size := o.Size(); off < size {
			return off, size, nil
		}
		return 0, 0, io.EOF
	}
	end, err = unix.Seek(fd, start, unix.SEEK_HOLE)
	if err != nil {
		return 0, 0, fmt.Errorf("find hole after byte %d of %s: %w", start, o.f.Name(), err)
	}
	return start, end, nil
}

// Section is a part of a source, such as a disk inside an archive.
func Section(src Source, off, length int64) Source {
	return section{io.NewSectionReader(src, off, length)}
}

type section struct{ *io.SectionReader }

func (s section) Size() int64 { return s.SectionReader.Size() }
