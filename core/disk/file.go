package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"
)

// OSFile is a file of the operating system that knows its own holes.
type OSFile struct {
	f     *os.File
	fixed int64 // size at opening, of a device or a file opened for reading; -1 otherwise
}

// OpenFile wraps f, which stays the caller's until Close.
func OpenFile(f *os.File) (*OSFile, error) {
	size, err := f.Seek(0, io.SeekEnd) // also right for a block device, where Stat says 0
	if err != nil {
		return nil, fmt.Errorf("size of %s: %w", f.Name(), err)
	}
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	flags, err := unix.FcntlInt(f.Fd(), unix.F_GETFL, 0)
	if st.Mode().IsRegular() && (err != nil || flags&unix.O_ACCMODE != unix.O_RDONLY) {
		size = -1
	}
	return &OSFile{f: f, fixed: size}, nil
}

func (o *OSFile) ReadAt(p []byte, off int64) (int, error)  { return o.f.ReadAt(p, off) }
func (o *OSFile) WriteAt(p []byte, off int64) (int, error) { return o.f.WriteAt(p, off) }
func (o *OSFile) Truncate(size int64) error                { return o.f.Truncate(size) }
func (o *OSFile) Sync() error                              { return unix.Fdatasync(int(o.f.Fd())) }
func (o *OSFile) Close() error                             { return o.f.Close() }
func (o *OSFile) Name() string                             { return o.f.Name() }

// Size in bytes, now.
func (o *OSFile) Size() int64 {
	if o.fixed >= 0 {
		return o.fixed
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

// MapPlain tells what lies at guest byte off of a disk of size bytes that src
// holds byte by byte from byte at on, asking the file system for holes.
func MapPlain(src Source, at, off, size int64) (Range, error) {
	if off < 0 || off >= size {
		return Range{}, ErrRange
	}
	x, ok := src.(Extents)
	if !ok {
		return Range{Offset: off, Length: size - off, Kind: Data}, nil
	}
	start, end, err := x.NextData(at + off)
	start, end = start-at, end-at
	switch {
	case err == io.EOF || err == nil && start >= size:
		return Range{Offset: off, Length: size - off, Kind: Zero}, nil
	case err != nil:
		return Range{}, err
	case start > off:
		return Range{Offset: off, Length: start - off, Kind: Zero}, nil
	}
	return Range{Offset: off, Length: min(end, size) - off, Kind: Data}, nil
}

// Allocate gives the file room for its first size bytes, without writing them
// where the file system can do that (fallocate(2)).
func (o *OSFile) Allocate(size int64) error {
	err := unix.Fallocate(int(o.f.Fd()), 0, 0, max(1, size))
	if !errors.Is(err, unix.EOPNOTSUPP) {
		return err
	}
	for off := int64(0); off < size; off += int64(len(zeros)) {
		if _, err := o.f.WriteAt(zeros[:min(int64(len(zeros)), size-off)], off); err != nil {
			return err
		}
	}
	return nil
}

// Clone makes o share all blocks of src, where the file system can do that
// (ioctl_ficlone(2)); it reports whether it did.
func (o *OSFile) Clone(src *OSFile) bool {
	return unix.IoctlFileClone(int(o.f.Fd()), int(src.f.Fd())) == nil
}

// Remote file systems whose servers copy ranges by themselves.
var copyingServers = []int64{unix.NFS_SUPER_MAGIC, unix.CIFS_SUPER_MAGIC, unix.SMB2_SUPER_MAGIC, unix.CEPH_SUPER_MAGIC}

// ServerCopies tells whether both files lie on a server that copies between
// them without the bytes passing through here.
func (o *OSFile) ServerCopies(src *OSFile) bool {
	var a, b unix.Statfs_t
	if unix.Fstatfs(int(o.f.Fd()), &a) != nil || unix.Fstatfs(int(src.f.Fd()), &b) != nil {
		return false
	}
	return a.Fsid == b.Fsid && slices.Contains(copyingServers, int64(a.Type))
}

// CopyRange lets the kernel copy n bytes at off of src to the same place of o
// (copy_file_range(2)).
func (o *OSFile) CopyRange(src *OSFile, off, n int64) error {
	for n > 0 {
		from, to := off, off
		got, err := unix.CopyFileRange(int(src.f.Fd()), &from, int(o.f.Fd()), &to, int(min(n, 1<<30)), 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err == nil && got == 0 {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return fmt.Errorf("copy %d bytes at byte %d of %s: %w", n, off, src.f.Name(), err)
		}
		off, n = off+int64(got), n-int64(got)
	}
	return nil
}

// Allocated is the room that a file takes on storage, in bytes.
func Allocated(st fs.FileInfo) int64 {
	if sys, ok := st.Sys().(*syscall.Stat_t); ok {
		return sys.Blocks * 512
	}
	return st.Size()
}

// Forget lets the kernel drop what it keeps of the file in memory, so that the
// next read comes from where it is stored. What was not synced stays.
func (o *OSFile) Forget() { _ = unix.Fadvise(int(o.f.Fd()), 0, 0, unix.FADV_DONTNEED) }

// Section is a part of a source, such as a disk inside an archive.
func Section(src Source, off, length int64) Source {
	return section{io.NewSectionReader(src, off, length)}
}

type section struct{ *io.SectionReader }

func (s section) Size() int64 { return s.SectionReader.Size() }
