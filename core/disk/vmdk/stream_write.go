package vmdk

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zlib"

	"unvora.example/unvora/core/disk"
)

// StreamTarget writes a stream-optimized image front to back: the grain
// directory comes last, so that nothing has to be sought back to.
type StreamTarget struct {
	w         io.Writer
	at        int64 // bytes written
	sectors   uint64
	directory []uint32
	table     [tableEntries]uint32 // of the span that is being written
	span      int64                // which; -1: none yet
	sync      func() error
}

type streamState struct {
	At        int64    `json:"at"`
	Span      int64    `json:"span"`
	Directory []uint32 `json:"directory"`
	Table     []uint32 `json:"table"`
}

// CreateStream begins an image on w. sync makes what was written survive a
// crash; nil when w can't do that.
func CreateStream(w io.Writer, s disk.Spec, sync func() error) (*StreamTarget, error) {
	if s.Parent != nil {
		return nil, fmt.Errorf("%w: a stream-optimized image stands alone", disk.ErrVariant)
	}
	t := newStream(w, s.VirtualBytes, sync)
	h := t.header()
	h.directoryAt = gdAtEnd
	head := make([]byte, h.overhead*sectorBytes)
	copy(head, h.encode())
	text, err := encodeDescriptor(s, createStream, fmt.Sprintf("SPARSE %q", nameOf(s)))
	if err != nil {
		return nil, err
	}
	copy(head[sectorBytes:], text)
	return t, t.write(head)
}

func nameOf(s disk.Spec) string {
	if s.Name == "" {
		return "disk.vmdk"
	}
	return s.Name
}

// ResumeStream goes on where Sync left off; w must stand at StreamLength(state).
func ResumeStream(w io.Writer, virtualBytes int64, state []byte, sync func() error) (*StreamTarget, error) {
	var s streamState
	if err := json.Unmarshal(state, &s); err != nil {
		return nil, fmt.Errorf("state of the stream: %w", err)
	}
	t := newStream(w, virtualBytes, sync)
	if len(s.Directory) != len(t.directory) || len(s.Table) != tableEntries {
		return nil, fmt.Errorf("state of the stream is that of another disk")
	}
	t.at, t.span = s.At, s.Span
	copy(t.directory, s.Directory)
	copy(t.table[:], s.Table)
	return t, nil
}

// StreamLength is how many bytes of the file the state returned by Sync covers.
func StreamLength(state []byte) (int64, error) {
	var s streamState
	err := json.Unmarshal(state, &s)
	return s.At, err
}

func newStream(w io.Writer, virtualBytes int64, sync func() error) *StreamTarget {
	t := &StreamTarget{w: w, sectors: uint64(virtualBytes+sectorBytes-1) / sectorBytes, span: -1, sync: sync}
	t.directory = make([]uint32, t.header().tables())
	return t
}

func (t *StreamTarget) header() *header {
	return &header{
		version: 3, flags: flagNewline | flagCompressed | flagMarkers, capacity: t.sectors,
		grain: grainSectors, descriptorAt: 1, descriptorSize: descriptorRoom, entries: tableEntries,
		overhead: grainSectors, compression: compressZlib,
	}
}

func (t *StreamTarget) write(p []byte) error {
	n, err := t.w.Write(p)
	t.at += int64(n)
	return err
}

// BlockBytes is the grain size.
func (t *StreamTarget) BlockBytes() int { return grainBytes }

// Length is how many bytes of the file were written so far.
func (t *StreamTarget) Length() int64 { return t.at }

// Pack turns plain into grains, each with its marker and padded to sectors.
// The markers' sector numbers count from the block's start; Put adds to them.
// Grains of zeros are left out.
func (t *StreamTarget) Pack(plain, buf []byte) ([]byte, error) {
	d := deflaters.Get().(*deflater)
	defer deflaters.Put(d)
	out := buf[:0]
	for off := 0; off < len(plain); off += grainBytes {
		grain := plain[off:min(len(plain), off+grainBytes)]
		if disk.IsZero(grain) {
			continue
		}
		if len(grain) < grainBytes { // the disk's last
			grain = append(append(make([]byte, 0, grainBytes), grain...), make([]byte, grainBytes-len(grain))...)
		}
		start := len(out)
		out = append(out, make([]byte, 12)...)
		d.out = out
		d.z.Reset(d)
		if _, err := d.z.Write(grain); err != nil {
			return nil, err
		}
		if err := d.z.Close(); err != nil {
			return nil, err
		}
		out = d.out
		binary.LittleEndian.PutUint64(out[start:], uint64(off/sectorBytes))
		binary.LittleEndian.PutUint32(out[start+8:], uint32(len(out)-start-12))
		out = append(out, make([]byte, pad(len(out)-start))...)
	}
	return out, nil
}

func pad(n int) int { return (sectorBytes - n%sectorBytes) % sectorBytes }

// Put writes a packed block. A grain table is written when the next one begins.
func (t *StreamTarget) Put(off int64, packed []byte, _ int) error {
	base := uint64(off / sectorBytes)
	written := 0
	for at := 0; at < len(packed); {
		lba := base + binary.LittleEndian.Uint64(packed[at:])
		span := int64(lba / grainSectors / tableEntries)
		if span != t.span {
			if err := t.write(packed[written:at]); err != nil {
				return err
			}
			written = at
			if err := t.writeTable(); err != nil {
				return err
			}
			t.span = span
		}
		binary.LittleEndian.PutUint64(packed[at:], lba)
		sector := (t.at + int64(at-written)) / sectorBytes
		if sector > maxSector {
			return fmt.Errorf("%w: a VMDK file can't have more than 2 TiB", disk.ErrTooLarge)
		}
		t.table[lba/grainSectors%tableEntries] = uint32(sector)
		n := 12 + int(binary.LittleEndian.Uint32(packed[at+8:]))
		at += n + pad(n)
	}
	return t.write(packed[written:])
}

func (t *StreamTarget) writeTable() error {
	if t.span < 0 {
		return nil
	}
	raw := appendMarker(nil, markerTable, tableEntries*4/sectorBytes)
	t.directory[t.span] = uint32(t.at/sectorBytes) + 1
	for n, e := range t.table {
		raw = binary.LittleEndian.AppendUint32(raw, e)
		t.table[n] = 0
	}
	return t.write(raw)
}

func appendMarker(raw []byte, kind uint32, sectors int) []byte {
	m := make([]byte, sectorBytes)
	binary.LittleEndian.PutUint64(m, uint64(sectors))
	binary.LittleEndian.PutUint32(m[12:], kind)
	return append(raw, m...)
}

// Sync returns the state that ResumeStream takes.
func (t *StreamTarget) Sync() ([]byte, error) {
	if t.sync != nil {
		if err := t.sync(); err != nil {
			return nil, err
		}
	}
	return json.Marshal(streamState{t.at, t.span, t.directory, t.table[:]})
}

// Finish writes the last grain table, the grain directory, footer and end.
func (t *StreamTarget) Finish() error {
	if err := t.writeTable(); err != nil {
		return err
	}
	t.span = -1
	dirBytes := len(t.directory) * 4
	sectors := (dirBytes + sectorBytes - 1) / sectorBytes
	h := t.header()
	h.directoryAt = uint64(t.at/sectorBytes) + 1
	raw := appendMarker(nil, markerDirectory, sectors)
	for _, e := range t.directory {
		raw = binary.LittleEndian.AppendUint32(raw, e)
	}
	raw = append(raw, make([]byte, pad(dirBytes))...)
	raw = appendMarker(raw, markerFooter, 1)
	raw = append(raw, h.encode()...)
	raw = appendMarker(raw, markerEnd, 0)
	if err := t.write(raw); err != nil {
		return err
	}
	if t.sync != nil {
		return t.sync()
	}
	return nil
}

type deflater struct {
	z   *zlib.Writer
	out []byte
}

func (d *deflater) Write(p []byte) (int, error) {
	d.out = append(d.out, p...)
	return len(p), nil
}

var deflaters = sync.Pool{New: func() any {
	z, err := zlib.NewWriterLevel(nil, zlib.BestSpeed)
	if err != nil {
		panic(err) // the level is a constant
	}
	return &deflater{z: z}
}}
