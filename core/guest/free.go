package guest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/fit"
)

// errUnclean is that a file system was not closed: what it marks as free may be in use by now, or was never written
// down.
var errUnclean = errors.New("it was not closed: it is in use, or its machine was switched off")

// errOdd is that a file system contradicts itself, or has something that is not known here.
func errOdd(format string, args ...any) error {
	return fmt.Errorf("it is not as expected ("+format+"); its checker may tell more", args...)
}

// mostFree is how large a disk may be: there is a bit for each block of it.
const mostFree = 64 << 40

// Free finds what the file systems on a disk of size bytes mark as free: ext2 to ext4, XFS and NTFS, in partitions or
// in logical volumes in one piece. Nothing is free of one that was not closed, that contradicts itself, or that has
// something which is not known here; it then says why. Its errors are that the disk is too large, and those of ctx.
func Free(ctx context.Context, img io.ReaderAt, size int64) (*disk.Blanks, []fit.FileSystem, error) {
	if size > mostFree {
		return nil, nil, fmt.Errorf("what is free is looked for on disks of up to %s, and this one has %s",
			fit.Size(mostFree), fit.Size(size))
	}
	src := &frugal{ReaderAt: &window{ReaderAt: within{ctx, img}}, mostReads: mostReads + size>>20,
		mostBytes: mostBytes + size>>9}
	blanks := disk.NewBlanks(size)
	var found []fit.FileSystem
	parts, _ := partitions(src, size)
	for _, p := range parts {
		if p.boot {
			continue
		}
		alone := !overlaps(p, parts)
		for _, v := range volumes(io.NewSectionReader(src, p.start, p.bytes)) {
			one := fit.FileSystem{Start: p.start, Bytes: v.Size()}
			if v.inner {
				_, off, _ := v.Outer()
				one.Start += off
			}
			var find finder
			if one.Kind, find = fileSystem(v.SectionReader); find == nil {
				continue
			}
			err := guarded(func() error {
				return find(ctx, v.SectionReader, func(from, to int64) {
					one.FreeBytes += to - from
					blanks.Add(one.Start+from, one.Start+to)
				})
			})
			switch {
			case !alone:
				err = errOdd("its partition lies across another one")
			case v.inner && !v.plain:
				err = errOdd("its group has volumes that stand on others")
			case err == nil:
				err = claimed(v.SectionReader)
			}
			if err != nil {
				one.Kept, one.FreeBytes = err.Error(), 0
				blanks.Keep(one.Start, one.Start+one.Bytes)
			}
			found = append(found, one)
		}
	}
	return blanks, found, ctx.Err()
}

// overlaps tells whether a partition shares bytes with another one.
func overlaps(p part, all []part) bool {
	n := 0
	for _, q := range all {
		if p.start < q.start+q.bytes && q.start < p.start+p.bytes {
			n++
		}
	}
	return n > 1
}

// finder finds what is free of a volume: put is called with runs of bytes of it, ascending.
type finder func(ctx context.Context, v *io.SectionReader, put func(from, to int64)) error

// fileSystem tells which one is on a volume, and how its free space is found; nil for none that is read.
func fileSystem(v *io.SectionReader) (kind string, find finder) {
	head := make([]byte, 2048)
	if n, _ := v.ReadAt(head, 0); n < len(head) {
		return "", nil
	}
	switch {
	case bytes.Equal(head[3:11], []byte("NTFS    ")):
		return "NTFS", freeNTFS
	case string(head[:4]) == "XFSB":
		return "XFS", freeXFS
	case head[1080] == 0x53 && head[1081] == 0xef:
		return extKind(head[1024:]), freeExt
	}
	return "", nil
}

// claims are signatures of what holds a volume that may still bear the head of a file system from before.
var claims = []struct {
	what string
	at   int64 // behind the volume's end if below 0
	is   string
}{
	{"a physical volume", 0, "LABELONE"}, {"a physical volume", 512, "LABELONE"},
	{"a physical volume", 1024, "LABELONE"}, {"a physical volume", 1536, "LABELONE"},
	{"an encrypted volume", 0, "LUKS\xba\xbe"},
	{"a member of an array", 0, "\xfc\x4e\x2b\xa9"}, {"a member of an array", 4096, "\xfc\x4e\x2b\xa9"},
	{"a member of an array", -8192, "\xfc\x4e\x2b\xa9"}, {"a member of an array", -65536, "\xfc\x4e\x2b\xa9"},
	{"Btrfs", 65536 + 64, "_BHRfS_M"}, {"a cache", 4096 + 24, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca"},
	{"swap space", 4086, "SWAPSPACE2"}, {"ZFS", 128 << 10, "\x0c\xb1\xba\x00\x00\x00\x00\x00"},
}

// claimed tells that something else holds a volume.
func claimed(v *io.SectionReader) error {
	for _, c := range claims {
		at := c.at
		if at < 0 {
			at = v.Size()/65536*65536 + at
			if c.at == -8192 {
				at = v.Size()/4096*4096 - 8192
			}
		}
		b := make([]byte, len(c.is))
		if n, _ := v.ReadAt(b, at); n == len(b) && string(b) == c.is {
			return errOdd("%s is on it too", c.what)
		}
	}
	return nil
}

// within ends reading with its context.
type within struct {
	ctx context.Context
	io.ReaderAt
}

func (w within) ReadAt(p []byte, off int64) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.ReaderAt.ReadAt(p, off)
}

// windowBytes is how much is read at once where little is asked for: maps of free space lie beside each other.
const windowBytes = 256 << 10

// window reads ahead. It is for one goroutine.
type window struct {
	io.ReaderAt
	buf []byte
	off int64
}

func (w *window) ReadAt(p []byte, off int64) (int, error) {
	if len(p) >= windowBytes {
		return w.ReaderAt.ReadAt(p, off)
	}
	if off < w.off || off+int64(len(p)) > w.off+int64(len(w.buf)) {
		if w.buf == nil {
			w.buf = make([]byte, windowBytes)
		}
		n, err := w.ReaderAt.ReadAt(w.buf[:windowBytes], off)
		if w.buf, w.off = w.buf[:n], off; n < len(p) {
			return copy(p, w.buf), err
		}
	}
	return copy(p, w.buf[off-w.off:]), nil
}
