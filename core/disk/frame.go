package disk

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"sort"
)

// Frame is the file of an image before it is written: where which byte of it will come from. So a file of any format
// can be sent front to back, from any place of it on, and its size is known before; the disk's data is read only as it
// is sent. It is made by writing the image with a stand-in for its data, which is noted instead of written.
type Frame struct {
	img  Image
	rest File // all but the data, where it lies in the file
	size int64
	runs []frameRun
}

// frameRun is a run of the disk's data in the file.
type frameRun struct{ at, guest, bytes int64 }

func (r frameRun) end() int64 { return r.at + r.bytes }

// NewFrame lays out a file for the data of img, which must not change while the frame is used. rest takes what is not
// data, and is sparse; create begins a target in the file that it is given. Two frames of one disk are alike where
// create leaves nothing to chance: ids and times come from the Spec. Targets that change the data (compressed ones)
// have no frame: that is an error.
func NewFrame(img Image, rest File, create func(f File) (Target, error)) (*Frame, error) {
	f := &framing{File: rest}
	target, err := create(f)
	if err != nil {
		return nil, err
	}
	feed := ImageFeed(img, 0, target.BlockBytes())
	var put int64
	for {
		p, err := feed.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if len(f.standIn) < p.Length {
			f.standIn = make([]byte, p.Length)
			for i := range f.standIn {
				f.standIn[i] = 0xa5 // zeros would be left out
			}
		}
		f.guest = p.Offset
		packed, err := target.Pack(f.standIn[:p.Length], nil)
		if err == nil {
			err = target.Put(p.Offset, packed, p.Length)
		}
		if err != nil {
			return nil, err
		}
		if put += int64(p.Length); f.noted != put {
			return nil, fmt.Errorf("%w: it writes data otherwise than it comes, near byte %d of the disk", ErrVariant,
				p.Offset)
		}
	}
	f.standIn = nil
	if err := target.Finish(); err != nil {
		return nil, err
	}
	sort.Slice(f.runs, func(a, b int) bool { return f.runs[a].at < f.runs[b].at })
	return &Frame{img: img, rest: rest, size: f.Size(), runs: f.runs}, nil
}

// framing is the file that a frame is made by.
type framing struct {
	File
	standIn []byte
	guest   int64 // offset of what the stand-in stands for
	noted   int64
	runs    []frameRun
	end     int64
}

// Size counts data that was only noted.
func (f *framing) Size() int64 { return max(f.File.Size(), f.end) }

func (f *framing) Truncate(size int64) error {
	f.end = min(f.end, size)
	return f.File.Truncate(size)
}

// Allocate gives the file its size; room is needed for nothing.
func (f *framing) Allocate(size int64) error { return f.Truncate(max(size, f.Size())) }

// Sync has nothing to make last.
func (f *framing) Sync() error { return nil }

func (f *framing) WriteAt(p []byte, off int64) (int, error) {
	from, ok := f.within(p)
	if !ok {
		return f.File.WriteAt(p, off)
	}
	r := frameRun{at: off, guest: f.guest + from, bytes: int64(len(p))}
	f.noted += r.bytes
	f.end = max(f.end, r.end())
	if n := len(f.runs); n > 0 && f.runs[n-1].end() == r.at && f.runs[n-1].guest+f.runs[n-1].bytes == r.guest {
		f.runs[n-1].bytes += r.bytes
	} else {
		f.runs = append(f.runs, r)
	}
	return len(p), nil
}

// within tells where p lies in the stand-in, when it is a part of that.
func (f *framing) within(p []byte) (from int64, ok bool) {
	if len(p) == 0 || len(f.standIn) == 0 || cap(p) > cap(f.standIn) {
		return 0, false
	}
	if &p[:cap(p)][cap(p)-1] != &f.standIn[:cap(f.standIn)][cap(f.standIn)-1] {
		return 0, false
	}
	return int64(cap(f.standIn) - cap(p)), true
}

// Layout is a digest of where in the file which data of the disk lies. Holes of a source may be told otherwise the next
// time, though it holds the same: what was sent of a frame fits only one of the same layout.
func (f *Frame) Layout() []byte {
	h := sha256.New()
	word := func(n int64) { h.Write(binary.BigEndian.AppendUint64(nil, uint64(n))) }
	word(f.size)
	for _, r := range f.runs {
		word(r.at)
		word(r.guest)
		word(r.bytes)
	}
	return h.Sum(nil)
}

// Size of the file, in bytes.
func (f *Frame) Size() int64 { return f.size }

// ReadAt reads bytes of the file.
func (f *Frame) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d", off)
	}
	at := sort.Search(len(f.runs), func(i int) bool { return f.runs[i].end() > off })
	for n < len(p) && off < f.size {
		part := p[n:min(int64(len(p)), int64(n)+f.size-off)]
		if at < len(f.runs) && f.runs[at].at <= off {
			r := f.runs[at]
			part = part[:min(int64(len(part)), r.end()-off)]
			if err := ReadFull(f.img, part, r.guest+off-r.at); err != nil {
				return n, err
			}
			at++
		} else {
			if at < len(f.runs) {
				part = part[:min(int64(len(part)), f.runs[at].at-off)]
			}
			m, err := f.rest.ReadAt(part, off)
			if err != nil && err != io.EOF {
				return n, err
			}
			clear(part[m:]) // a hole at the end
		}
		n, off = n+len(part), off+int64(len(part))
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// ReadFull reads all of p from off on; an end before that is unexpected.
func ReadFull(r io.ReaderAt, p []byte, off int64) error {
	n, err := r.ReadAt(p, off)
	if n == len(p) {
		return nil
	}
	if err == nil || err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// framePiece is how much of a file is read at once.
const framePiece = 1 << 20

// Feed hands out the file from byte offset from on, all of it: what has no data as zeros.
func (f *Frame) Feed(from int64) Feed { return &frameFeed{f, from} }

type frameFeed struct {
	f   *Frame
	off int64
}

func (f *frameFeed) Next() (Piece, error) {
	if f.off >= f.f.size {
		return Piece{}, io.EOF
	}
	start := f.off
	f.off = min(start/framePiece*framePiece+framePiece, f.f.size)
	return Piece{Offset: start, Length: int(f.off - start),
		Load: func(dst []byte) error { return ReadFull(f.f, dst, start) }}, nil
}

// InOrder is a target that takes a file as it is, front to back, from byte at of it on. Its state is how much of the
// file there is. sync makes what was written last; it may be nil.
func InOrder(w io.Writer, at int64, sync func() error) Target { return &inOrder{w, at, sync} }

// InOrderLength tells how much of the file there is where its target had a state.
func InOrderLength(state []byte) (int64, error) {
	if len(state) != 8 {
		return 0, fmt.Errorf("state of %d bytes, want 8", len(state))
	}
	return int64(binary.BigEndian.Uint64(state)), nil
}

type inOrder struct {
	w    io.Writer
	at   int64
	sync func() error
}

func (p *inOrder) BlockBytes() int                      { return framePiece }
func (p *inOrder) Pack(block, _ []byte) ([]byte, error) { return block, nil }
func (p *inOrder) Finish() error                        { return nil }

func (p *inOrder) Put(_ int64, block []byte, _ int) error {
	n, err := p.w.Write(block)
	p.at += int64(n)
	return err
}

func (p *inOrder) Sync() (state []byte, err error) {
	if p.sync != nil {
		err = p.sync()
	}
	return binary.BigEndian.AppendUint64(nil, uint64(p.at)), err
}
