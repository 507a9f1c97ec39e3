package carry

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"sync"

	"unvora.example/unvora/core/disk"
)

// rescue reads what can be read of a damaged image and notes the rest, which
// reads as zeros.
type rescue struct {
	disk.Image
	mu   sync.Mutex
	lost []disk.Range
}

const (
	rescueStep = 64 << 10 // passed over at a time where even the map can't be read
	rescueUnit = 512
)

// Map takes what it can't be told of for data, so that it is tried.
func (r *rescue) Map(off int64) (disk.Range, error) {
	m, err := r.Image.Map(off)
	if err != nil {
		end := min(off/rescueStep*rescueStep+rescueStep, r.Info().VirtualBytes)
		return disk.Range{Offset: off, Length: end - off, Kind: disk.Data}, nil
	}
	return m, nil
}

// ReadAt tries smaller and smaller parts.
func (r *rescue) ReadAt(p []byte, off int64) (int, error) {
	n, err := r.Image.ReadAt(p, off)
	if err == nil || err == io.EOF && (n == len(p) || off+int64(n) >= r.Info().VirtualBytes) {
		return n, err
	}
	if len(p) <= rescueUnit {
		clear(p)
		r.mu.Lock()
		r.lost = append(r.lost, disk.Range{Offset: off, Length: int64(len(p)), Kind: disk.Data})
		r.mu.Unlock()
		return len(p), nil
	}
	half := max(rescueUnit, len(p)/2/rescueUnit*rescueUnit)
	for at := 0; at < len(p); at += half {
		if n, err := r.ReadAt(p[at:min(len(p), at+half)], off+int64(at)); err != nil {
			return at + n, err
		}
	}
	return len(p), nil
}

// ranges is what was lost, in order, neighbours joined.
func (r *rescue) ranges() []disk.Range {
	r.mu.Lock()
	defer r.mu.Unlock()
	slices.SortFunc(r.lost, func(a, b disk.Range) int { return cmp.Compare(a.Offset, b.Offset) })
	var joined []disk.Range
	for _, l := range r.lost {
		if n := len(joined); n > 0 && joined[n-1].End() >= l.Offset {
			joined[n-1].Length = max(joined[n-1].End(), l.End()) - joined[n-1].Offset
			continue
		}
		joined = append(joined, l)
	}
	return joined
}

// absent stands for a parent that is not there: all of it is data that can't be read.
type absent int64

func (a absent) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: int64(a), Clean: true}
}
func (a absent) Close() error { return nil }
func (a absent) Map(off int64) (disk.Range, error) {
	return disk.Range{Offset: off, Length: int64(a) - off, Kind: disk.Data}, nil
}
func (a absent) ReadAt([]byte, int64) (int, error) {
	return 0, fmt.Errorf("%w: the parent is missing", disk.ErrDamaged)
}
