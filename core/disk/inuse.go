package disk

import "golang.org/x/sys/unix"

// Bytes of an image's file that QEMU locks while it may write to it, and while
// it wants nobody else to (block/file-posix.c, raw_apply_lock_bytes).
const (
	lockWrites       = 101
	lockOthersMayNot = 201
)

// Writer tells whether another process has the image open for writing, by the
// locks that hypervisors hold.
func (o *OSFile) Writer() bool { return o.locked(lockWrites) }

// Guarded tells whether another process has the image open and counts on its
// not being written by anybody else.
func (o *OSFile) Guarded() bool { return o.locked(lockWrites) || o.locked(lockOthersMayNot) }

func (o *OSFile) locked(at int64) bool {
	l := unix.Flock_t{Type: unix.F_WRLCK, Start: at, Len: 1}
	return unix.FcntlFlock(o.f.Fd(), unix.F_OFD_GETLK, &l) == nil && l.Type != unix.F_UNLCK
}
