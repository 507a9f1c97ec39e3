package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// Files is how files are reached by their paths. A program that may reach
// whatever its user may takes OS; one that serves others has a narrower way.
//
// OpenFile takes the flags of os.OpenFile. It opens regular files, directories
// and block devices, and never waits for another process: a pipe, a socket or a
// character device is ErrSpecial. Paths that lead to where the way does not reach
// are ErrOutside.
type Files interface {
	OpenFile(path string, flag int, mode fs.FileMode) (*os.File, error)
	Stat(path string) (fs.FileInfo, error)
	Lstat(path string) (fs.FileInfo, error)
	ReadDir(path string) ([]fs.DirEntry, error)
	MkdirAll(path string, mode fs.FileMode) error
	Remove(path string) error
	RemoveAll(path string) error
	// Rename replaces what is there; RenameNew fails with fs.ErrExist.
	Rename(from, to string) error
	RenameNew(from, to string) error
	// Real is the path with all links resolved.
	Real(path string) (string, error)
}

// Errors of Files.
var (
	ErrOutside = errors.New("leads out of the pools")
	ErrSpecial = errors.New("is a pipe, a socket or another special file, where a file should be")
)

// OS reaches every file that the process may reach.
var OS Files = system{}

type system struct{}

func (system) OpenFile(path string, flag int, mode fs.FileMode) (*os.File, error) {
	f, err := os.OpenFile(path, flag|unix.O_NONBLOCK, mode)
	if err != nil {
		return nil, special(path, err)
	}
	return Plain(f)
}

// special tells what opening a socket, or a pipe that nobody reads, fails with.
func special(path string, err error) error {
	if errors.Is(err, unix.ENXIO) {
		return &fs.PathError{Op: "open", Path: path, Err: ErrSpecial}
	}
	return err
}

// Plain returns f if it is a regular file, a directory or a block device; else it
// closes it. It was opened with O_NONBLOCK.
func Plain(f *os.File) (*os.File, error) {
	st, err := f.Stat()
	if err == nil {
		if m := st.Mode(); m.IsRegular() || m.IsDir() || m&fs.ModeDevice != 0 && m&fs.ModeCharDevice == 0 {
			return f, nil
		}
		err = &fs.PathError{Op: "open", Path: f.Name(), Err: ErrSpecial}
	}
	return nil, errors.Join(err, f.Close())
}

func (system) Stat(path string) (fs.FileInfo, error)      { return os.Stat(path) }
func (system) Lstat(path string) (fs.FileInfo, error)     { return os.Lstat(path) }
func (system) ReadDir(path string) ([]fs.DirEntry, error) { return os.ReadDir(path) }
func (system) MkdirAll(path string, m fs.FileMode) error  { return os.MkdirAll(path, m) }
func (system) Remove(path string) error                   { return os.Remove(path) }
func (system) RemoveAll(path string) error                { return os.RemoveAll(path) }
func (system) Rename(from, to string) error               { return os.Rename(from, to) }
func (system) Real(path string) (string, error)           { return filepath.EvalSymlinks(path) }

func (system) RenameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system without it
		if _, e := os.Lstat(to); e == nil {
			err = unix.EEXIST
		} else {
			return os.Rename(from, to)
		}
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

// OpenRead opens a file for reading.
func OpenRead(files Files, path string) (*os.File, error) {
	return files.OpenFile(path, os.O_RDONLY, 0)
}

// OpenSource opens a file as the source of an image; a directory is an error.
func OpenSource(files Files, path string, flag int) (*OSFile, error) {
	f, err := files.OpenFile(path, flag, 0)
	if err != nil {
		return nil, err
	}
	if st, err := f.Stat(); err == nil && st.IsDir() {
		f.Close()
		return nil, &fs.PathError{Op: "open", Path: path, Err: errors.New("is a directory, not a disk image")}
	}
	src, err := OpenFile(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return src, nil
}

// ReadFile reads a file of at most so many bytes; a larger one is ErrTooLarge.
func ReadFile(files Files, path string, most int64) ([]byte, error) {
	f, err := OpenRead(files, path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("%s has more than %d bytes: %w", path, most, ErrTooLarge)
	}
	return raw, err
}

// WriteSynced makes a file, or makes it anew, so that it survives a crash.
func WriteSynced(files Files, path string, raw []byte, mode fs.FileMode) error {
	f, err := files.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	return errors.Join(err, f.Sync(), f.Close())
}

// SyncDir makes renames in a directory survive a crash.
func SyncDir(files Files, path string) error {
	f, err := OpenRead(files, path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// RemoveIfThere removes a file or an empty directory; one that is gone is no error.
func RemoveIfThere(files Files, path string) error {
	if err := files.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// SameFile tells whether two paths lead to one file.
func SameFile(files Files, a, b string) bool {
	x, err1 := files.Stat(a)
	y, err2 := files.Stat(b)
	return err1 == nil && err2 == nil && os.SameFile(x, y)
}

// Room is what a file takes on storage, in bytes.
func Room(files Files, path string) (int64, error) {
	st, err := files.Stat(path)
	if err != nil {
		return 0, err
	}
	if _, ok := st.Sys().(*syscall.Stat_t); !ok {
		return 0, fmt.Errorf("%s: the system does not tell its room", path)
	}
	return Allocated(st), nil
}
