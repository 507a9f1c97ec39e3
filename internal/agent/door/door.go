// Package door is the one way by which an agent reaches the files of its host.
// Whatever lies in pools and on shelves comes from outside: folders are copied in
// by hand, images name other files, descriptors name paths. The kernel sees to it
// that nothing outside of them is opened (openat(2), one directory at a time,
// never through a link that leads out), and nothing is opened that could wait for
// somebody, such as a pipe.
//
// No other package of the agent opens files of pools or images in them.
package door

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
)

// Door opens what lies under some directories.
type Door struct{ roots []string }

// New makes a door for the directories of pools and shelves. They need not be
// there yet, and are not kept open: a drive can be taken out.
func New(roots ...string) *Door {
	d := &Door{}
	for _, r := range roots {
		d.roots = append(d.roots, filepath.Clean(r))
	}
	return d
}

var _ disk.Files = (*Door)(nil)

// Within tells whether a path lies under one of the directories, by its letters.
func (d *Door) Within(path string) error {
	_, _, err := d.split(path)
	return err
}

func (d *Door) split(path string) (root, rel string, err error) {
	clean := filepath.Clean(path)
	for _, r := range d.roots {
		if clean == r {
			return r, ".", nil
		}
		if rest, ok := strings.CutPrefix(clean, r+"/"); ok && len(r) > len(root) {
			root, rel = r, rest
		}
	}
	if root == "" {
		return "", "", &fs.PathError{Op: "open", Path: path, Err: disk.ErrOutside}
	}
	return root, rel, nil
}

// at calls f with the directory that a path lies under, opened, and the rest of
// the path.
func (d *Door) at(path string, f func(root *os.Root, rel string) error) error {
	dir, rel, err := d.split(path)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return d.told(path, f(root, rel))
}

// told names the whole path in an error, and says what it means that the kernel
// would have to leave the directory.
func (d *Door) told(path string, err error) error {
	if err == nil {
		return nil
	}
	cause := err
	var p *fs.PathError
	if errors.As(err, &p) {
		cause = p.Err
	}
	switch {
	case strings.Contains(err.Error(), "path escapes from parent"):
		cause = disk.ErrOutside
		if to, e := filepath.EvalSymlinks(path); e == nil {
			cause = fmt.Errorf("%w: a link leads to %s", disk.ErrOutside, to)
		}
	case errors.Is(err, unix.ENXIO):
		cause = disk.ErrSpecial
	}
	return &fs.PathError{Op: "open", Path: path, Err: cause}
}

// OpenFile implements disk.Files.
func (d *Door) OpenFile(path string, flag int, mode fs.FileMode) (f *os.File, err error) {
	err = d.at(path, func(root *os.Root, rel string) error {
		// A look first: opening alone may do something at a device.
		if st, err := root.Stat(rel); err == nil && !st.Mode().IsRegular() && !st.IsDir() {
			return disk.ErrSpecial
		}
		opened, err := root.OpenFile(rel, flag|unix.O_NONBLOCK, mode)
		if err != nil {
			return err
		}
		f, err = disk.Plain(opened)
		return err
	})
	return f, err
}

// Stat implements disk.Files.
func (d *Door) Stat(path string) (st fs.FileInfo, err error) {
	err = d.at(path, func(root *os.Root, rel string) (err error) { st, err = root.Stat(rel); return err })
	return st, err
}

// Lstat implements disk.Files.
func (d *Door) Lstat(path string) (st fs.FileInfo, err error) {
	err = d.at(path, func(root *os.Root, rel string) (err error) { st, err = root.Lstat(rel); return err })
	return st, err
}

// ReadDir implements disk.Files.
func (d *Door) ReadDir(path string) ([]fs.DirEntry, error) {
	f, err := d.OpenFile(path, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.ReadDir(-1)
}

// MkdirAll implements disk.Files.
func (d *Door) MkdirAll(path string, mode fs.FileMode) error {
	return d.at(path, func(root *os.Root, rel string) error { return root.MkdirAll(rel, mode) })
}

// Remove implements disk.Files.
func (d *Door) Remove(path string) error {
	return d.at(path, func(root *os.Root, rel string) error { return root.Remove(rel) })
}

// RemoveAll implements disk.Files.
func (d *Door) RemoveAll(path string) error {
	return d.at(path, func(root *os.Root, rel string) error { return root.RemoveAll(rel) })
}

// Rename implements disk.Files.
func (d *Door) Rename(from, to string) error { return d.rename(from, to, 0) }

// RenameNew implements disk.Files.
func (d *Door) RenameNew(from, to string) error { return d.rename(from, to, unix.RENAME_NOREPLACE) }

// rename renames between two directories that are held open meanwhile.
func (d *Door) rename(from, to string, flags uint) error {
	source, err := d.OpenFile(filepath.Dir(from), unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := d.OpenFile(filepath.Dir(to), unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer target.Close()
	a, b := int(source.Fd()), int(target.Fd())
	old, now := filepath.Base(from), filepath.Base(to)
	err = unix.Renameat2(a, old, b, now, flags)
	if flags != 0 && (errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS)) { // a file system without it
		var st unix.Stat_t
		if unix.Fstatat(b, now, &st, unix.AT_SYMLINK_NOFOLLOW) == nil {
			err = unix.EEXIST
		} else {
			err = unix.Renameat(a, old, b, now)
		}
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

// Writable tells whether files can be made in one of the directories.
func (d *Door) Writable(root string) bool { return unix.Access(root, unix.W_OK) == nil }

// Real implements disk.Files: a link may lead into another of the directories.
func (d *Door) Real(path string) (string, error) {
	if err := d.Within(path); err != nil {
		return "", err
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", err
	}
	for _, r := range d.roots {
		dir, err := filepath.EvalSymlinks(r)
		if err != nil {
			continue
		}
		if real == dir {
			return r, nil
		}
		if rest, ok := strings.CutPrefix(real, dir+"/"); ok {
			return filepath.Join(r, rest), nil
		}
	}
	return "", &fs.PathError{Op: "open", Path: path, Err: fmt.Errorf("%w: a link leads to %s", disk.ErrOutside, real)}
}

// anyWrite are the rights to write to a file.
const anyWrite fs.FileMode = 0o222

// Frozen tells whether a file's rights let nobody write to it.
func (d *Door) Frozen(path string) (bool, error) {
	st, err := d.Stat(path)
	return err == nil && st.Mode()&anyWrite == 0, err
}

// Freeze takes the right to write to a file of this account's from everybody, or gives it back to the account. Of
// another's the rights stay as they are.
func (d *Door) Freeze(path string, frozen bool) error {
	f, err := d.OpenFile(path, os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	mode := st.Mode().Perm() &^ anyWrite
	if !frozen {
		mode |= 0o200
	}
	if err := f.Chmod(mode); !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil
}
