package disk

import (
	"io"

	"github.com/bits-and-blooms/bitset"
)

// Blanks are blocks of a disk whose contents nobody needs: what its file systems mark as free. They are told in blocks
// of CompareBytes, in a bit each.
type Blanks struct {
	blocks *bitset.BitSet
	size   int64
}

// NewBlanks are none yet, of a disk of size bytes.
func NewBlanks(size int64) *Blanks {
	return &Blanks{bitset.New(0), size} // it grows with what is set
}

// Add notes that nobody needs the bytes from from to below to. A block that lies only partly in there is kept.
func (b *Blanks) Add(from, to int64) {
	first, end := (max(from, 0)+CompareBytes-1)/CompareBytes, min(to, b.size)/CompareBytes
	for n := first; n < end; n++ {
		b.blocks.Set(uint(n))
	}
}

// Keep takes back what was noted of blocks that share bytes with those from from to below to.
func (b *Blanks) Keep(from, to int64) {
	if from >= to {
		return
	}
	for n := uint(max(from, 0) / CompareBytes); int64(n)*CompareBytes < to; n++ {
		var ok bool
		if n, ok = b.blocks.NextSet(n); !ok || int64(n)*CompareBytes >= to {
			return
		}
		b.blocks.Clear(n)
	}
}

// next tells where the first blank block at or behind block n is, and where the run of them ends; false for no more.
func (b *Blanks) next(n int64) (first, end int64, ok bool) {
	start, ok := b.blocks.NextSet(uint(n))
	if !ok {
		return 0, 0, false
	}
	stop, ok := b.blocks.NextClear(start)
	if !ok {
		stop = b.blocks.Len()
	}
	return int64(start), int64(stop), true
}

// In counts the bytes of img's data that lie in blanks: what leaving them out saves.
func (b *Blanks) In(img Image) (n int64, err error) {
	for block := int64(0); ; {
		first, end, ok := b.next(block)
		if !ok {
			return n, nil
		}
		for off := first * CompareBytes; off < end*CompareBytes; {
			r, err := img.Map(off)
			if err != nil {
				return n, err
			}
			to := min(r.End(), end*CompareBytes)
			if r.Kind == Data {
				n += to - off
			}
			off = to
		}
		block = end
	}
}

// Without is an image in which blanks are holes that read as zeros. Closing it closes img.
func Without(img Image, blanks *Blanks) Image { return &without{img, blanks} }

type without struct {
	Image
	blanks *Blanks
}

func (w *without) Map(off int64) (Range, error) {
	first, end, ok := w.blanks.next(off / CompareBytes)
	if ok && off >= first*CompareBytes {
		return Range{off, end*CompareBytes - off, Zero}, nil
	}
	r, err := w.Image.Map(off)
	if err == nil && ok && r.End() > first*CompareBytes {
		r.Length = first*CompareBytes - off
	}
	return r, err
}

func (w *without) ReadAt(p []byte, off int64) (n int, err error) {
	size := w.blanks.size
	for n < len(p) {
		at := off + int64(n)
		if at >= size {
			return n, io.EOF
		}
		part := p[n:min(int64(len(p)), int64(n)+size-at)]
		first, end, ok := w.blanks.next(at / CompareBytes)
		switch {
		case ok && at >= first*CompareBytes:
			part = part[:min(int64(len(part)), end*CompareBytes-at)]
			clear(part)
			n += len(part)
			continue
		case ok:
			part = part[:min(int64(len(part)), first*CompareBytes-at)]
		}
		m, err := w.Image.ReadAt(part, at)
		n += m
		if m < len(part) {
			return n, err
		}
	}
	return n, nil
}
