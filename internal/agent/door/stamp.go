package door

import (
	"errors"
	"strings"

	"golang.org/x/sys/unix"
)

// Stamp is what changes with a file: when it was written last, in nanoseconds since
// 1970, and its size in bytes.
type Stamp struct{ Written, Size int64 }

// Stamp tells of a file without opening it for reading; a survey asks this of
// everything, so it costs few calls. follow tells whether a link is followed; one
// that leads out is an error, as everywhere here (openat2(2), RESOLVE_BENEATH).
func (d *Door) Stamp(path string, follow bool) (Stamp, error) {
	s, _, err := d.stamps(path, "", follow)
	return s, err
}

// FolderStamp is Stamp of a folder, and of a file in it where name isn't empty; links
// are not followed. A file that is not there has the empty stamp.
func (d *Door) FolderStamp(path, name string) (folder, file Stamp, err error) {
	return d.stamps(path, name, false)
}

func (d *Door) stamps(path, name string, follow bool) (s, in Stamp, err error) {
	dir, rel, err := d.split(path)
	if err != nil {
		return s, in, err
	}
	root, err := retried(func() (int, error) { return unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0) })
	if err != nil {
		return s, in, err
	}
	defer unix.Close(root)
	how := &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS}
	if !follow {
		how.Flags |= unix.O_NOFOLLOW
	}
	fd, err := retried(func() (int, error) { return unix.Openat2(root, rel, how) })
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) { // a kernel, or a sandbox, without it
		if s, err = d.slowStamp(path, follow); err == nil && name != "" {
			in, _ = d.slowStamp(path+"/"+name, false)
		}
		return s, in, err
	}
	if err != nil {
		return s, in, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return s, in, err
	}
	s = Stamp{st.Mtim.Nano(), st.Size}
	// A name without a slash leads nowhere else.
	if name != "" && name != ".." && !strings.Contains(name, "/") &&
		unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil {
		in = Stamp{st.Mtim.Nano(), st.Size}
	}
	return s, in, nil
}

func (d *Door) slowStamp(path string, follow bool) (Stamp, error) {
	look := d.Lstat
	if follow {
		look = d.Stat
	}
	st, err := look(path)
	if err != nil {
		return Stamp{}, err
	}
	return Stamp{st.ModTime().UnixNano(), st.Size()}, nil
}

// retried calls f again where a signal, or a rename meanwhile, broke it off.
func retried(f func() (int, error)) (fd int, err error) {
	for range 100 {
		if fd, err = f(); !errors.Is(err, unix.EINTR) && !errors.Is(err, unix.EAGAIN) {
			break
		}
	}
	return fd, err
}
