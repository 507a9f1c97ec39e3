package disk

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"math/bits"

	"github.com/cespare/xxhash/v2"
)

const (
	cellBytes   = 1 << 20
	sampleBytes = 16 << 10
	frontCells  = 4096 // of the disk's start that are looked through one by one
	tries       = 128  // at places all over the disk: each may be a seek
	samples     = 32   // of each
)

// Fingerprint tells disks apart by samples of their contents. It is the same
// whatever format keeps the disk, and takes milliseconds whatever its size.
//
// The disk is taken for cells of 1 MiB; in each, 16 KiB at a place that only
// the cell's number settles are its sample. Samples of zeros don't count. The
// first 32 of the disk's first 4 GiB are taken, and the first 32 that are met
// when cells all over the disk are tried in the order of their number's bits
// reversed, 128 at most. So two disks that share most of their data share
// most of their samples, and no map has to be walked to its end.
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

// sampler takes samples of a disk.
type sampler struct {
	img  Image
	size int64
	buf  [sampleBytes]byte
	zero Range // known to hold no data
}

// take returns a cell's sample; false when it is zeros.
func (s *sampler) take(cell int64) (Sample, bool, error) {
	place := binary.LittleEndian.AppendUint64(nil, uint64(cell))
	at := cell*cellBytes + int64(xxhash.Sum64(place)%(cellBytes/sampleBytes))*sampleBytes
	end := min(at+sampleBytes, s.size)
	for off := at; ; off = s.zero.End() {
		if off >= end {
			return Sample{}, false, nil
		}
		if off >= s.zero.Offset && off < s.zero.End() {
			continue
		}
		r, err := s.img.Map(off)
		if err != nil {
			return Sample{}, false, err
		}
		if r.Kind == Data {
			break
		}
		s.zero = r
	}
	n, err := s.img.ReadAt(s.buf[:end-at], at)
	if err != nil && !errors.Is(err, io.EOF) {
		return Sample{}, false, err
	}
	clear(s.buf[n:])
	if IsZero(s.buf[:]) {
		return Sample{}, false, nil
	}
	return Sample{cell, xxhash.Sum64(s.buf[:])}, true, nil
}

// TakeFingerprint samples img, a whole chain.
func TakeFingerprint(img Image) (Fingerprint, error) {
	s := &sampler{img: img, size: img.Info().VirtualBytes}
	f := Fingerprint{VirtualBytes: s.size}
	cells := (s.size + cellBytes - 1) / cellBytes
	add := func(cell int64) (bool, error) {
		sample, ok, err := s.take(cell)
		if ok {
			f.Samples = append(f.Samples, sample)
		}
		return ok, err
	}
	found := 0
	for cell := int64(0); cell < min(cells, frontCells) && found < samples; cell++ {
		ok, err := add(cell)
		if err != nil {
			return f, err
		}
		if ok {
			found++
		}
	}
	found = 0
	width := bits.Len64(uint64(max(1, cells) - 1))
	for n, tried := uint64(0), 0; n < 1<<width && tried < tries && found < samples; n++ {
		cell := int64(bits.Reverse64(n) >> (64 - width))
		if width == 0 {
			cell = 0
		}
		if cell >= cells {
			continue
		}
		tried++
		ok, err := add(cell)
		if err != nil {
			return f, err
		}
		if ok {
			found++
		}
	}
	return f, nil
}
