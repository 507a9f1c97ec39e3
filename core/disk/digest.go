package disk

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/cespare/xxhash/v2"
)

const (
	digestBlock   = 64 << 10
	digestRegions = 4096
)

// Digest tells whether two disks hold the same, and where they first differ,
// at a cost far below that of reading them. Every block of 64 KiB that is not
// zeros is hashed together with its place (XXH64), and the hashes are added up
// for each of 4,096 regions. Blocks of zeros add nothing, so holes are free and
// it does not matter how an image keeps them; memory does not grow with the
// disk. It guards against accidents of storage, not against forgery.
type Digest struct {
	size int64
	sums [digestRegions]uint64
}

// NewDigest of a disk of size bytes, nothing added yet.
func NewDigest(size int64) *Digest { return &Digest{size: size} }

// blockSums hashes p, which begins at off, a multiple of the block.
func blockSums(sums []uint64, off int64, p []byte) []uint64 {
	var place [8]byte
	for ; len(p) > 0; off += digestBlock {
		block := p[:min(len(p), digestBlock)]
		p = p[len(block):]
		if IsZero(block) {
			sums = append(sums, 0)
			continue
		}
		h := xxhash.NewWithSeed(uint64(off))
		binary.LittleEndian.PutUint64(place[:], uint64(off))
		h.Write(place[:])
		h.Write(trimZeros(block)) // a disk that is rounded up to sectors stays the same
		sums = append(sums, h.Sum64())
	}
	return sums
}

// trimZeros cuts zeros off the end of a block that is shorter than a whole one
// or may be longer elsewhere, in steps of eight bytes.
func trimZeros(p []byte) []byte {
	n := len(p)
	for n >= 8 && binary.LittleEndian.Uint64(p[n-8:]) == 0 {
		n -= 8
	}
	for n > 0 && p[n-1] == 0 {
		n--
	}
	return p[:n]
}

func (d *Digest) add(off int64, sums []uint64) {
	blocks := (d.size + digestBlock - 1) / digestBlock
	for n, s := range sums {
		block := off/digestBlock + int64(n)
		d.sums[d.region(block, blocks)] += s
	}
}

func (d *Digest) region(block, blocks int64) int64 {
	per := (blocks + digestRegions - 1) / digestRegions
	return min(block/max(1, per), digestRegions-1)
}

// Differs returns the first region in which o holds something else.
func (d *Digest) Differs(o *Digest) (Range, bool) {
	blocks := (d.size + digestBlock - 1) / digestBlock
	per := (blocks + digestRegions - 1) / digestRegions * digestBlock
	for n := range d.sums {
		if d.sums[n] != o.sums[n] {
			return Range{Offset: int64(n) * per, Length: min(per, d.size-int64(n)*per), Kind: Data}, true
		}
	}
	return Range{}, false
}

// MarshalJSON and UnmarshalJSON let a journal keep the state.
func (d *Digest) MarshalJSON() ([]byte, error) {
	raw := binary.LittleEndian.AppendUint64(nil, uint64(d.size))
	for _, s := range d.sums {
		raw = binary.LittleEndian.AppendUint64(raw, s)
	}
	return json.Marshal(base64.StdEncoding.EncodeToString(raw))
}

func (d *Digest) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		return err
	}
	if len(raw) != 8+8*digestRegions {
		return fmt.Errorf("digest of %d bytes", len(raw))
	}
	d.size = int64(binary.LittleEndian.Uint64(raw))
	for n := range d.sums {
		d.sums[n] = binary.LittleEndian.Uint64(raw[8+8*n:])
	}
	return nil
}

// ErrReadBack is returned by ReadBack when an image holds something else than
// was written to it.
var ErrReadBack = errors.New("read back, it differs from what was written")

// ReadBack reads all data of img and compares it with d.
func ReadBack(ctx context.Context, img Image, d *Digest, progress func(dataBytes int64)) error {
	got := NewDigest(d.size)
	if err := Pump(ctx, nowhere{}, ImageFeed(img, 0, digestBlock),
		Options{Digest: got, Progress: progress}); err != nil {
		return err
	}
	if r, differs := d.Differs(got); differs {
		return fmt.Errorf("%w: between guest bytes %d and %d", ErrReadBack, r.Offset, r.End())
	}
	return nil
}

// nowhere is a target that drops what it gets.
type nowhere struct{}

func (nowhere) BlockBytes() int                          { return digestBlock }
func (nowhere) Pack(plain, _ []byte) ([]byte, error)     { return plain, nil }
func (nowhere) Put(off int64, p []byte, plain int) error { return nil }
func (nowhere) Sync() ([]byte, error)                    { return nil, nil }
func (nowhere) Finish() error                            { return nil }

// summing is a target that digests every byte the guest would see, in order.
type summing struct {
	nowhere
	h        io.Writer
	at       int64
	progress func(int64)
}

func (s *summing) Put(off int64, p []byte, _ int) error {
	s.zeros(off)
	_, _ = s.h.Write(p)
	s.moved(int64(len(p)))
	return nil
}

func (s *summing) moved(n int64) {
	s.at += n
	if s.progress != nil {
		s.progress(n)
	}
}

func (s *summing) zeros(until int64) {
	for s.at < until {
		n := min(until-s.at, int64(len(zeros)))
		_, _ = s.h.Write(zeros[:n])
		s.moved(n)
	}
}

// Sum is the digest that h makes of every byte the guest would see. progress is
// told of all bytes, holes too.
func Sum(ctx context.Context, img Image, h io.Writer, progress func(bytes int64)) error {
	s := &summing{h: h, progress: progress}
	if err := Pump(ctx, s, ImageFeed(img, 0, digestBlock), Options{}); err != nil {
		return err
	}
	for size := img.Info().VirtualBytes; s.at < size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		s.zeros(min(size, s.at+1<<30))
	}
	return nil
}
