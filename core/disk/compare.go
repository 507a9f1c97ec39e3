package disk

import (
	"context"
	"crypto/subtle"
	"errors"
	"io"
	"sync"
)

// compareGrain is how finely it is told where two disks differ.
const compareGrain = 4 << 10

// Apart is how far two disks are apart.
type Apart struct {
	DifferentBytes int64 // in blocks of 4 KiB that are not the same
	Places         int64 // runs of such blocks
	ReadBytes      int64 // of each, to find out
}

// Compare finds where two disks differ: runs of blocks of 4 KiB, in ascending order, told to found. What neither holds
// data in is not read. Where one is longer, what it holds beyond the other's end counts as different unless it is
// zeros. progress is told of what was read.
func Compare(ctx context.Context, a, b Image, found func(Range), progress func(bytes int64)) (Apart, error) {
	size := max(a.Info().VirtualBytes, b.Info().VirtualBytes)
	t := &apart{size: size, found: found, progress: progress}
	feed := &bothFeed{a: a, b: b, size: size}
	if err := Pump(ctx, t, feed, Options{}); err != nil {
		return t.Apart, err
	}
	t.tell()
	return t.Apart, nil
}

// bothFeed feeds the bytes of one disk, each combined with those of the other by exclusive or: zeros where they are
// the same.
type bothFeed struct {
	a, b      Image
	off, size int64
	scratch   sync.Pool // of *[]byte
}

// runAt is what lies at off of an image, to the end of the run; nothing lies beyond its end.
func runAt(img Image, off, size int64) (data bool, end int64, err error) {
	if off >= img.Info().VirtualBytes {
		return false, size, nil
	}
	r, err := img.Map(off)
	return r.Kind == Data, r.End(), err
}

func (f *bothFeed) Next() (Piece, error) {
	for f.off < f.size {
		inA, endA, err := runAt(f.a, f.off, f.size)
		if err != nil {
			return Piece{}, err
		}
		inB, endB, err := runAt(f.b, f.off, f.size)
		if err != nil {
			return Piece{}, err
		}
		end := min(endA, endB, f.size)
		if !inA && !inB {
			f.off = end
			continue
		}
		const piece = 1 << 20
		start := f.off
		end = min(end, start/piece*piece+piece)
		f.off = end
		return Piece{Offset: start, Length: int(end - start), Load: func(dst []byte) error {
			room, _ := f.scratch.Get().(*[]byte)
			if room == nil {
				b := make([]byte, piece)
				room = &b
			}
			defer f.scratch.Put(room)
			other := (*room)[:len(dst)]
			if err := errors.Join(readPadded(f.a, dst, start), readPadded(f.b, other, start)); err != nil {
				return err
			}
			subtle.XORBytes(dst, dst, other)
			return nil
		}}, nil
	}
	return Piece{}, io.EOF
}

// readPadded reads what the guest would see at off; zeros beyond the disk's end.
func readPadded(img Image, p []byte, off int64) error {
	there := max(0, min(int64(len(p)), img.Info().VirtualBytes-off))
	clear(p[there:])
	n, err := img.ReadAt(p[:there], off)
	switch {
	case int64(n) == there:
		return nil
	case err == nil || errors.Is(err, io.EOF):
		return io.ErrUnexpectedEOF
	}
	return err
}

// apart is a target that finds what is not zeros.
type apart struct {
	nowhere
	Apart
	size     int64
	run      Range // that goes on
	found    func(Range)
	progress func(int64)
}

func (t *apart) Put(off int64, p []byte, _ int) error {
	t.ReadBytes += int64(len(p))
	if t.progress != nil {
		t.progress(int64(len(p)))
	}
	if IsZero(p) {
		return nil
	}
	for len(p) > 0 {
		n := min(int64(len(p)), compareGrain-off%compareGrain)
		if !IsZero(p[:n]) {
			start := off / compareGrain * compareGrain
			t.different(start, min(start+compareGrain, t.size))
		}
		p, off = p[n:], off+n
	}
	return nil
}

// different notes that what lies from start to end is not the same.
func (t *apart) different(start, end int64) {
	if t.run.Length > 0 && start <= t.run.End() {
		t.run.Length = max(t.run.Length, end-t.run.Offset)
		return
	}
	t.tell()
	t.run = Range{Offset: start, Length: end - start, Kind: Data}
}

// tell ends the run that goes on.
func (t *apart) tell() {
	if t.run.Length == 0 {
		return
	}
	t.Places++
	t.DifferentBytes += t.run.Length
	if t.found != nil {
		t.found(t.run)
	}
	t.run = Range{}
}
