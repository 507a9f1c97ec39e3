package disk

import (
	"container/heap"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"

	"github.com/cespare/xxhash/v2"
)

const (
	cellBytes   = 1 << 20
	sampleBytes = 16 << 10
	samples     = 64
	candidates  = 4096 // looked at before the map is walked again
)

// Fingerprint tells disks apart by samples of their contents. It is the same
// whatever format keeps the disk, and takes milliseconds.
//
// The disk is taken for cells of 1 MiB; in each, 16 KiB at a place that only
// the cell's number settles are its sample. Cells are ranked by a hash of their
// number, and the first 64 whose sample is not zeros make the fingerprint. So two
// disks that share most of their data share most of their samples.
type Fingerprint struct {
	VirtualBytes int64
	Samples      []Sample
}

// Sample is one cell's.
type Sample struct {
	Cell int64  // its number
	Hash uint64 // XXH64 of the sample
}

// String is 32 hexadecimal digits, the same for the same samples.
func (f Fingerprint) String() string {
	raw := binary.LittleEndian.AppendUint64(nil, uint64(f.VirtualBytes))
	for _, s := range f.Samples {
		raw = binary.LittleEndian.AppendUint64(raw, uint64(s.Cell))
		raw = binary.LittleEndian.AppendUint64(raw, s.Hash)
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:16])
}

func hashOf(n int64) uint64 {
	return xxhash.Sum64(binary.LittleEndian.AppendUint64(nil, uint64(n)))
}

// ranked is a heap of cells, the last in rank on top.
type ranked []rankedCell

type rankedCell struct {
	rank uint64
	cell int64
}

func (r ranked) Len() int           { return len(r) }
func (r ranked) Less(a, b int) bool { return r[a].rank > r[b].rank }
func (r ranked) Swap(a, b int)      { r[a], r[b] = r[b], r[a] }
func (r *ranked) Push(x any)        { *r = append(*r, x.(rankedCell)) }
func (r *ranked) Pop() any {
	last := (*r)[len(*r)-1]
	*r = (*r)[:len(*r)-1]
	return last
}

// TakeFingerprint samples img, a whole chain.
func TakeFingerprint(img Image) (Fingerprint, error) {
	size := img.Info().VirtualBytes
	f := Fingerprint{VirtualBytes: size}
	buf := make([]byte, sampleBytes)
	for after := uint64(0); len(f.Samples) < samples; {
		best, more, err := bestCells(img, size, after)
		if err != nil {
			return f, err
		}
		for _, c := range best {
			place := c.cell*cellBytes + int64(hashOf(^c.cell)%(cellBytes/sampleBytes))*sampleBytes
			n, err := img.ReadAt(buf, min(place, max(0, size-1)))
			if err != nil && !errors.Is(err, io.EOF) {
				return f, err
			}
			if clear(buf[n:]); place < size && !IsZero(buf) && len(f.Samples) < samples {
				f.Samples = append(f.Samples, Sample{c.cell, xxhash.Sum64(buf)})
			}
			after = c.rank
		}
		if !more {
			break
		}
	}
	return f, nil
}

// bestCells returns the cells with data that come first in rank behind after,
// in order, and whether there are more.
func bestCells(img Image, size int64, after uint64) (cells []rankedCell, more bool, err error) {
	var best ranked
	seen := int64(-1)
	for off := int64(0); off < size; {
		r, err := img.Map(off)
		if err != nil {
			return nil, false, err
		}
		if off = r.End(); r.Kind != Data {
			continue
		}
		for cell := max(seen+1, r.Offset/cellBytes); cell*cellBytes < r.End(); cell++ {
			seen = cell
			rank := hashOf(cell)
			switch {
			case rank <= after && after != 0:
			case len(best) < candidates:
				heap.Push(&best, rankedCell{rank, cell})
			default:
				if more = true; rank < best[0].rank {
					best[0] = rankedCell{rank, cell}
					heap.Fix(&best, 0)
				}
			}
		}
	}
	cells = make([]rankedCell, len(best))
	for n := len(best) - 1; n >= 0; n-- {
		cells[n] = heap.Pop(&best).(rankedCell)
	}
	return cells, more, nil
}
