package disk

import (
	"encoding/binary"
	"errors"
	"io"

	"github.com/cespare/xxhash/v2"
)

// CompareBytes is the unit in which disks are compared.
const CompareBytes = 64 << 10

// Span is a run of blocks of CompareBytes.
type Span struct {
	Block int64 `json:"block"` // number of the first
	Count int64 `json:"count"`
}

// Held lists the blocks of a disk of that size in which one of the layers holds
// something of its own, be it zeros over what its parent has, in ascending order.
func Held(layers []Image, virtualBytes int64) ([]Span, error) {
	var all []Span
	for _, l := range layers {
		var own []Span
		size := min(l.Info().VirtualBytes, virtualBytes)
		for off := int64(0); off < size; {
			r, err := l.Map(off)
			if err != nil {
				return nil, err
			}
			if r.Kind == Data || r.Kind == Zero && l.Info().Parent != nil {
				first, last := r.Offset/CompareBytes, (min(r.End(), size)-1)/CompareBytes
				own = appendSpan(own, Span{first, last - first + 1})
			}
			off = r.End()
		}
		all = Union(all, own)
	}
	return all, nil
}

func appendSpan(list []Span, s Span) []Span {
	if n := len(list) - 1; n >= 0 && s.Block <= list[n].Block+list[n].Count {
		list[n].Count = max(list[n].Count, s.Block+s.Count-list[n].Block)
		return list
	}
	return append(list, s)
}

// Union of two ascending lists.
func Union(a, b []Span) (all []Span) {
	for len(a) > 0 || len(b) > 0 {
		if len(b) == 0 || len(a) > 0 && a[0].Block <= b[0].Block {
			all, a = appendSpan(all, a[0]), a[1:]
		} else {
			all, b = appendSpan(all, b[0]), b[1:]
		}
	}
	return all
}

// Blocks counts those of a list.
func Blocks(list []Span) (n int64) {
	for _, s := range list {
		n += s.Count
	}
	return n
}

// BlockSums hashes each block of the spans, one after the other: XXH64 of what
// the guest would read, 0 for zeros. Blocks beyond the disk's end are zeros.
func BlockSums(img Image, spans []Span) ([]uint64, error) {
	size := img.Info().VirtualBytes
	sums := make([]uint64, 0, Blocks(spans))
	buf := make([]byte, CompareBytes)
	for _, s := range spans {
		for block := s.Block; block < s.Block+s.Count; block++ {
			at := block * CompareBytes
			clear(buf)
			if at < size {
				if _, err := img.ReadAt(buf[:min(CompareBytes, size-at)], at); err != nil && !errors.Is(err, io.EOF) {
					return nil, err
				}
			}
			sum := uint64(0)
			if !IsZero(buf) {
				sum = max(1, xxhash.Sum64(buf))
			}
			sums = append(sums, sum)
		}
	}
	return sums, nil
}

// PackSums and UnpackSums are sums as bytes, little endian.
func PackSums(sums []uint64) []byte {
	raw := make([]byte, 0, 8*len(sums))
	for _, s := range sums {
		raw = binary.LittleEndian.AppendUint64(raw, s)
	}
	return raw
}

// UnpackSums reads what PackSums wrote.
func UnpackSums(raw []byte) []uint64 {
	sums := make([]uint64, len(raw)/8)
	for i := range sums {
		sums[i] = binary.LittleEndian.Uint64(raw[8*i:])
	}
	return sums
}
