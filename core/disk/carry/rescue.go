package carry

import (
	"cmp"
	"errors"
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
	// The smallest part that is tried, where storage fails, and where the image
	// is inconsistent: there, parts of a block fail together.
	rescueSector = 512
	rescuePage   = 4096
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

// ReadAt goes from run to run of the map, and tries smaller and smaller parts
// of those that can't be read.
func (r *rescue) ReadAt(p []byte, off int64) (int, error) {
	size := r.Info().VirtualBytes
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= size {
			return done, io.EOF
		}
		m, err := r.Image.Map(at)
		if err != nil {
			m = disk.Range{Offset: at, Length: rescueStep - at%rescueStep}
		}
		part := p[done:min(int64(len(p)), int64(done)+m.Length, int64(done)+size-at)]
		if err != nil {
			r.lose(part, at)
		} else {
			r.try(part, at)
		}
		done += len(part)
	}
	return done, nil
}

func (r *rescue) try(p []byte, off int64) {
	n, err := r.Image.ReadAt(p, off)
	if n == len(p) {
		return
	}
	least := rescueSector
	if errors.Is(err, disk.ErrDamaged) {
		least = rescuePage
	}
	if len(p) <= least {
		r.lose(p, off)
		return
	}
	half := max(least, len(p)/2/least*least)
	r.try(p[:half], off)
	r.try(p[half:], off+int64(half))
}

func (r *rescue) lose(p []byte, off int64) {
	clear(p)
	r.mu.Lock()
	defer r.mu.Unlock()
	if n := len(r.lost); n > 0 && r.lost[n-1].End() == off {
		r.lost[n-1].Length += int64(len(p))
		return
	}
	r.lost = append(r.lost, disk.Range{Offset: off, Length: int64(len(p)), Kind: disk.Data})
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

// absent stands for a parent that is not there: nothing can be told of it.
type absent int64

func (a absent) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: int64(a), Clean: true}
}
func (a absent) Close() error                      { return nil }
func (a absent) Map(int64) (disk.Range, error)     { return disk.Range{}, errAbsent }
func (a absent) ReadAt([]byte, int64) (int, error) { return 0, errAbsent }

var errAbsent = fmt.Errorf("%w: the parent is missing", disk.ErrDamaged)
