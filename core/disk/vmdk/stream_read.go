package vmdk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"unvora.example/unvora/core/disk"
)

// StreamFeed reads a stream-optimized image front to back, from a pipe or a
// connection, and feeds its grains to the pump.
type StreamFeed struct {
	r       io.Reader
	at      int64 // bytes read of the file
	h       *header
	lastLBA int64
	ended   bool
	mark    func(at int64) any
	buffers sync.Pool
}

// ErrOrder is returned for a stream whose grains are not in the order of their
// sectors. It is sound, and can be read by its grain directory, in any order.
var ErrOrder = errors.New("its grains are not in the order of their sectors")

// ErrNotStream is returned for images that can't be read front to back.
var ErrNotStream = errors.New("this image can't be read as a stream")

// NewStreamFeed reads the header and descriptor from r. mark is called after
// each grain with the bytes of the file read so far; its result travels with
// the piece. It may be nil.
func NewStreamFeed(r io.Reader, mark func(at int64) any) (*StreamFeed, error) {
	f := &StreamFeed{r: r, mark: mark, lastLBA: -1}
	raw := make([]byte, headerBytes)
	if err := f.read(raw); err != nil {
		return nil, fmt.Errorf("%w: read the header: %v", disk.ErrFormat, err)
	}
	h, err := parseHeader(raw, 0)
	if err != nil {
		return nil, err
	}
	if h.flags&flagMarkers == 0 || h.flags&flagCompressed == 0 || h.overhead < 1 || h.overhead > 1<<16 {
		return nil, fmt.Errorf("%w: it is not a stream-optimized VMDK", ErrNotStream)
	}
	f.h = h
	rest := make([]byte, int64(h.overhead-1)*sectorBytes)
	if err := f.read(rest); err != nil {
		return nil, err
	}
	if from, to := int64(h.descriptorAt-1)*sectorBytes,
		int64(h.descriptorAt-1+h.descriptorSize)*sectorBytes; h.descriptorAt > 0 && from < to &&
		to <= int64(len(rest)) {
		if h.descriptorProps, err = parseDescriptor(string(rest[from:to])); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// ResumeStreamFeed goes on at byte at of the file, which a mark was made for;
// r stands there. virtualBytes and grain are those of the first try.
func ResumeStreamFeed(r io.Reader, at, virtualBytes, grain int64, mark func(at int64) any) *StreamFeed {
	h := &header{capacity: uint64(virtualBytes / sectorBytes), grain: uint64(grain / sectorBytes),
		entries: tableEntries}
	return &StreamFeed{r: r, at: at, h: h, mark: mark, lastLBA: -1}
}

// Info of the image, as far as the front of the file tells it.
func (f *StreamFeed) Info() disk.Info {
	return disk.Info{
		Format: Format, Variant: "stream", VirtualBytes: f.h.bytes(), SectorBytes: sectorBytes,
		ID:      f.h.descriptorProps.id,
		Linkage: f.h.descriptorProps.cid, Parent: f.h.descriptorProps.parent(), Clean: true,
	}
}

// GrainBytes is the size of a piece.
func (f *StreamFeed) GrainBytes() int64 { return f.h.grainBytes() }

func (f *StreamFeed) read(p []byte) error {
	n, err := io.ReadFull(f.r, p)
	f.at += int64(n)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return disk.Damaged(f.at, "the image is cut short")
	}
	return err
}

// Next returns a grain; its Load inflates. After the end-of-stream marker it
// returns io.EOF and leaves r at the byte after it.
func (f *StreamFeed) Next() (disk.Piece, error) {
	var sector [sectorBytes]byte
	for !f.ended {
		start := f.at
		if err := f.read(sector[:]); err != nil {
			return disk.Piece{}, err
		}
		lba := binary.LittleEndian.Uint64(sector[:])
		size := int64(binary.LittleEndian.Uint32(sector[8:]))
		if size == 0 {
			if err := f.skip(start, binary.LittleEndian.Uint32(sector[12:]), lba); err != nil {
				return disk.Piece{}, err
			}
			continue
		}
		if size > 2*f.h.grainBytes()+sectorBytes || lba >= f.h.capacity || lba%f.h.grain != 0 {
			return disk.Piece{}, disk.Damaged(start, "marker for a grain of %d bytes at sector %d", size, lba)
		}
		if int64(lba) <= f.lastLBA {
			return disk.Piece{}, fmt.Errorf("%w: that of sector %d comes after that of %d, at byte %d", ErrOrder, lba,
				f.lastLBA, start)
		}
		f.lastLBA = int64(lba)
		total := int(12+size) + pad(int(12+size))
		buf, _ := f.buffers.Get().(*[]byte)
		if buf == nil || cap(*buf) < total {
			b := make([]byte, total, max(total, int(f.h.grainBytes())+2*sectorBytes))
			buf = &b
		}
		*buf = (*buf)[:total]
		copy(*buf, sector[:])
		if total > sectorBytes {
			if err := f.read((*buf)[sectorBytes:]); err != nil {
				return disk.Piece{}, err
			}
		}
		off := int64(lba) * sectorBytes
		p := disk.Piece{Offset: off, Length: int(min(f.h.grainBytes(), f.h.bytes()-off))}
		p.Load = func(dst []byte) error {
			defer f.buffers.Put(buf)
			plain := dst
			if int64(len(dst)) < f.h.grainBytes() {
				plain = make([]byte, f.h.grainBytes())
			}
			if err := unpack(plain, (*buf)[12:12+size]); err != nil {
				return disk.Damaged(start, "grain of sector %d: %v", lba, err)
			}
			copy(dst, plain)
			return nil
		}
		if f.mark != nil {
			p.Mark = f.mark(f.at)
		}
		return p, nil
	}
	return disk.Piece{}, io.EOF
}

// skip passes over a grain table, a grain directory or the footer.
func (f *StreamFeed) skip(start int64, kind uint32, sectors uint64) error {
	switch kind {
	case markerEnd:
		f.ended = true
		return nil
	case markerTable, markerDirectory, markerFooter:
	default:
		return disk.Damaged(start, "unknown marker %d", kind)
	}
	if sectors > uint64(f.h.tables()+int64(f.h.entries))*4/sectorBytes+1 {
		return disk.Damaged(start, "marker %d announces %d sectors", kind, sectors)
	}
	var sector [sectorBytes]byte
	for range sectors {
		if err := f.read(sector[:]); err != nil {
			return err
		}
	}
	return nil
}
