// Package inflate unpacks small deflate streams whose size is known, all at
// once: the grains and clusters of disk images. It does without the sliding
// window and the byte-wise reader that a stream needs, and so runs at about
// twice the speed of a general inflater.
//
// Source: RFC 1951 (deflate), RFC 1950 (zlib).
package inflate

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/adler32"
	"math/bits"
	"sync"
)

// ErrCorrupt is returned for a stream that breaks the rules of its format.
var ErrCorrupt = errors.New("corrupt deflate stream")

const (
	litBits  = 11 // of the first table of literals and lengths
	distBits = 8
	maxBits  = 15

	// Entries of tables: length of the code in bits 0-7, extra bits in 8-15, a
	// literal, base or place of a second table in 16-30.
	flagLiteral = 1 << 31
	flagSecond  = 1 << 15
	flagEnd     = 1 << 14
	flagBad     = 1 << 13
)

type decoder struct {
	lit, dist []uint32
	lens      [320]uint8
}

var decoders = sync.Pool{New: func() any {
	return &decoder{lit: make([]uint32, 0, 1<<litBits+1<<12), dist: make([]uint32, 0, 1<<distBits+1<<10)}
}}

var lengthBase = [29]uint16{3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 15, 17, 19, 23, 27, 31, 35, 43, 51, 59, 67, 83, 99, 115,
	131, 163, 195, 227, 258}
var lengthExtra = [29]uint8{0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0}
var distBase = [30]uint16{1, 2, 3, 4, 5, 7, 9, 13, 17, 25, 33, 49, 65, 97, 129, 193, 257, 385, 513, 769, 1025, 1537,
	2049, 3073, 4097, 6145, 8193, 12289, 16385, 24577}
var distExtra = [30]uint8{0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 11, 11, 12, 12, 13,
	13}
var codeOrder = [19]uint8{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// litSymbol and distSymbol are what an entry says of a symbol, code length left out.
func litSymbol(s int) uint32 {
	switch {
	case s < 256:
		return flagLiteral | uint32(s)<<16
	case s == 256:
		return flagEnd
	case s < 286:
		return uint32(lengthBase[s-257])<<16 | uint32(lengthExtra[s-257])<<8
	}
	return flagBad
}

func distSymbol(s int) uint32 {
	if s < 30 {
		return uint32(distBase[s])<<16 | uint32(distExtra[s])<<8
	}
	return flagBad
}

// build makes the tables of a canonical Huffman code (RFC 1951, 3.2.2). Codes
// longer than first go to second tables behind the first.
func build(table []uint32, first int, lens []uint8, symbol func(int) uint32) ([]uint32, error) {
	var count [maxBits + 1]int
	for _, l := range lens {
		count[l]++
	}
	count[0] = 0
	var next [maxBits + 2]uint32
	left := 1
	used := 0
	for l := 1; l <= maxBits; l++ {
		left = left<<1 - count[l]
		if left < 0 {
			return nil, fmt.Errorf("%w: more codes than fit", ErrCorrupt)
		}
		next[l+1] = (next[l] + uint32(count[l])) << 1
		used += count[l]
	}
	if left > 0 && used > 1 { // one code of one bit may stand alone
		return nil, fmt.Errorf("%w: codes are missing", ErrCorrupt)
	}
	table = table[:1<<first]
	for i := range table {
		table[i] = flagBad | 1
	}
	mask := uint32(1)<<first - 1
	var codes [320]uint32
	var longest [1 << litBits]uint8
	for s, l := range lens {
		if l == 0 {
			continue
		}
		codes[s] = bits.Reverse32(next[l]) >> (32 - l)
		next[l]++
		if int(l) > first {
			p := codes[s] & mask
			longest[p] = max(longest[p], l)
		}
	}
	for s, l := range lens {
		if l == 0 {
			continue
		}
		code := codes[s]
		if int(l) <= first {
			e := symbol(s) | uint32(l)
			for i := code; i <= mask; i += 1 << l {
				table[i] = e
			}
			continue
		}
		p := code & mask
		width := int(longest[p]) - first
		if table[p]&flagSecond == 0 {
			at := len(table)
			if at+1<<width > cap(table) {
				table = append(table, make([]uint32, 1<<width)...)
			}
			table = table[:at+1<<width]
			for i := at; i < len(table); i++ {
				table[i] = flagBad | 1
			}
			table[p] = uint32(at)<<16 | flagSecond | uint32(width)<<8 | uint32(first)
		}
		at := int(table[p] >> 16)
		e := symbol(s) | uint32(int(l)-first)
		for i := int(code >> first); i < 1<<width; i += 1 << (int(l) - first) {
			table[at+i] = e
		}
	}
	return table, nil
}

var fixed = sync.OnceValue(func() *decoder {
	d := decoders.New().(*decoder)
	lens := d.lens[:288]
	for i := range lens {
		switch {
		case i < 144:
			lens[i] = 8
		case i < 256:
			lens[i] = 9
		case i < 280:
			lens[i] = 7
		default:
			lens[i] = 8
		}
	}
	d.lit, _ = build(d.lit, litBits, lens, litSymbol)
	five := d.lens[288:]
	for i := range five {
		five[i] = 5
	}
	d.dist, _ = build(d.dist, distBits, five, distSymbol)
	return d
})

// Zlib unpacks a zlib stream into dst and returns how many bytes it held. One
// that holds more than dst is an error. The checksum is compared.
func Zlib(dst, src []byte) (int, error) {
	if len(src) < 6 || src[0]&15 != 8 || src[1]&0x20 != 0 || binary.BigEndian.Uint16(src)%31 != 0 {
		return 0, fmt.Errorf("%w: no zlib header", ErrCorrupt)
	}
	n, used, err := Raw(dst, src[2:])
	if err != nil {
		return n, err
	}
	rest := src[2+used:]
	if len(rest) < 4 {
		return n, fmt.Errorf("%w: the checksum is cut off", ErrCorrupt)
	}
	if got, want := adler32.Checksum(dst[:n]), binary.BigEndian.Uint32(rest); got != want {
		return n, fmt.Errorf("%w: checksum is %08x, should be %08x", ErrCorrupt, got, want)
	}
	return n, nil
}

// reader holds up to 63 bits of src ahead.
type reader struct {
	src  []byte
	pos  int
	hold uint64
	have uint // bits in hold
	over uint // bits that src did not have
}

// fill makes at least 56 bits available, with zeros after the end of src.
func (r *reader) fill() {
	if r.pos+8 <= len(r.src) {
		r.hold |= binary.LittleEndian.Uint64(r.src[r.pos:]) << r.have
		r.pos += int((63 - r.have) >> 3)
		r.have |= 56
		return
	}
	for r.have < 56 {
		if r.pos < len(r.src) {
			r.hold |= uint64(r.src[r.pos]) << r.have
			r.pos++
		} else {
			r.over += 8
		}
		r.have += 8
	}
}

func (r *reader) take(n uint) uint32 {
	v := uint32(r.hold & (1<<n - 1))
	r.hold >>= n
	r.have -= n
	return v
}

// ended tells whether more bits were taken than src has.
func (r *reader) ended() bool { return r.over > r.have }

// Raw unpacks a deflate stream into dst. It returns how many bytes it held and
// how many of src it took.
func Raw(dst, src []byte) (n, used int, err error) {
	d := decoders.Get().(*decoder)
	defer decoders.Put(d)
	r := &reader{src: src}
	for last := false; !last; {
		r.fill()
		last = r.take(1) == 1
		switch r.take(2) {
		case 0:
			n, err = r.stored(dst, n)
		case 1:
			n, err = r.block(dst, n, fixed())
		case 2:
			if err = d.read(r); err == nil {
				n, err = r.block(dst, n, d)
			}
		default:
			err = fmt.Errorf("%w: unknown kind of block", ErrCorrupt)
		}
		if err == nil && r.ended() {
			err = fmt.Errorf("%w: it is cut short", ErrCorrupt)
		}
		if err != nil {
			return n, 0, err
		}
	}
	return n, r.pos - int((r.have-r.over)/8), nil
}

func (r *reader) stored(dst []byte, n int) (int, error) {
	r.take(r.have % 8)
	if r.ended() {
		return n, fmt.Errorf("%w: it is cut short", ErrCorrupt)
	}
	at := r.pos - int((r.have-r.over)/8)
	if at+4 > len(r.src) {
		return n, fmt.Errorf("%w: it is cut short", ErrCorrupt)
	}
	length := int(binary.LittleEndian.Uint16(r.src[at:]))
	if uint16(length) != ^binary.LittleEndian.Uint16(r.src[at+2:]) {
		return n, fmt.Errorf("%w: length of a stored block", ErrCorrupt)
	}
	at += 4
	if at+length > len(r.src) || n+length > len(dst) {
		return n, fmt.Errorf("%w: a stored block of %d bytes does not fit", ErrCorrupt, length)
	}
	copy(dst[n:], r.src[at:at+length])
	r.pos, r.hold, r.have, r.over = at+length, 0, 0, 0
	return n + length, nil
}

// read makes the tables of a block with codes of its own (RFC 1951, 3.2.7).
func (d *decoder) read(r *reader) error {
	r.fill()
	nlit, ndist, ncode := int(r.take(5))+257, int(r.take(5))+1, int(r.take(4))+4
	if nlit > 286 || ndist > 30 {
		return fmt.Errorf("%w: %d literal and %d distance codes", ErrCorrupt, nlit, ndist)
	}
	var order [19]uint8
	for i := range ncode {
		r.fill()
		order[codeOrder[i]] = uint8(r.take(3))
	}
	codes, err := build(d.lit[:0], 7, order[:], func(s int) uint32 { return uint32(s) << 16 })
	if err != nil {
		return err
	}
	for i := 0; i < nlit+ndist; {
		r.fill()
		e := codes[r.hold&127]
		if e&flagBad != 0 {
			return fmt.Errorf("%w: unknown code of a code length", ErrCorrupt)
		}
		r.take(uint(e & 15))
		value, times := uint8(e>>16), 1
		switch e >> 16 {
		case 16:
			if i == 0 {
				return fmt.Errorf("%w: nothing to repeat", ErrCorrupt)
			}
			value, times = d.lens[i-1], int(r.take(2))+3
		case 17:
			value, times = 0, int(r.take(3))+3
		case 18:
			value, times = 0, int(r.take(7))+11
		}
		if i+times > nlit+ndist || r.ended() {
			return fmt.Errorf("%w: too many code lengths", ErrCorrupt)
		}
		for range times {
			d.lens[i] = value
			i++
		}
	}
	if d.lens[256] == 0 {
		return fmt.Errorf("%w: a block without an end", ErrCorrupt)
	}
	lit, err := build(d.lit[:0], litBits, d.lens[:nlit], litSymbol)
	if err != nil {
		return err
	}
	dist, err := build(d.dist[:0], distBits, d.lens[nlit:nlit+ndist], distSymbol)
	if err == nil {
		d.lit, d.dist = lit, dist
	}
	return err
}

// block unpacks one compressed block.
func (r *reader) block(dst []byte, n int, d *decoder) (int, error) {
	lit, dist := (*[1 << litBits]uint32)(d.lit), (*[1 << distBits]uint32)(d.dist)
	src, pos, hold, have := r.src, r.pos, r.hold, r.have
	for {
		// The common case, with as few questions as possible: literals and
		// matches while src has eight bytes and dst room for the longest match.
		for pos+8 <= len(src) && n+274 <= len(dst) {
			hold |= binary.LittleEndian.Uint64(src[pos:]) << (have & 63)
			pos += int((63 - have) >> 3)
			have |= 56
			e := lit[hold&(1<<litBits-1)]
			if e&flagLiteral != 0 {
				dst[n] = byte(e >> 16)
				n++
				hold >>= e & 63
				have -= uint(e & 63)
				e = lit[hold&(1<<litBits-1)]
				if e&flagLiteral != 0 {
					dst[n] = byte(e >> 16)
					n++
					hold >>= e & 63
					have -= uint(e & 63)
					e = lit[hold&(1<<litBits-1)]
					if e&flagLiteral != 0 {
						dst[n] = byte(e >> 16)
						n++
						hold >>= e & 63
						have -= uint(e & 63)
						continue
					}
				}
				if pos+8 > len(src) {
					break
				}
				hold |= binary.LittleEndian.Uint64(src[pos:]) << (have & 63)
				pos += int((63 - have) >> 3)
				have |= 56
			}
			if e&flagSecond != 0 {
				hold >>= litBits
				have -= litBits
				e = d.lit[int(e>>16)+int(hold&(1<<(e>>8&31)-1))]
				if e&flagLiteral != 0 {
					dst[n] = byte(e >> 16)
					n++
					hold >>= e & 63
					have -= uint(e & 63)
					continue
				}
			}
			hold >>= e & 63
			have -= uint(e & 63)
			if e&(flagEnd|flagBad) != 0 {
				r.pos, r.hold, r.have = pos, hold, have
				if e&flagEnd != 0 {
					return n, nil
				}
				return n, fmt.Errorf("%w: unknown code", ErrCorrupt)
			}
			extra := e >> 8 & 31
			length := int(e>>16&0x7fff) + int(hold&(1<<extra-1))
			hold >>= extra
			have -= uint(extra)
			e = dist[hold&(1<<distBits-1)]
			if e&flagSecond != 0 {
				hold >>= distBits
				have -= distBits
				e = d.dist[int(e>>16)+int(hold&(1<<(e>>8&31)-1))]
			}
			hold >>= e & 63
			have -= uint(e & 63)
			extra = e >> 8 & 31
			back := int(e>>16&0x7fff) + int(hold&(1<<extra-1))
			hold >>= extra
			have -= uint(extra)
			if e&flagBad != 0 || back > n {
				return n, fmt.Errorf("%w: a match before the beginning", ErrCorrupt)
			}
			if back >= 8 { // eight bytes at a time, a little too far: what follows is written over
				from := n - back
				for k := 0; k < length; k += 8 {
					binary.LittleEndian.PutUint64(dst[n+k:], binary.LittleEndian.Uint64(dst[from+k:]))
				}
				n += length
				continue
			}
			n = repeat(dst, n, back, length)
		}
		r.pos, r.hold, r.have = pos, hold, have
		more, m, err := r.symbol(dst, n, d)
		if n = m; !more || err != nil {
			return n, err
		}
		pos, hold, have = r.pos, r.hold, r.have
	}
}

// repeat copies length bytes from back bytes before n.
func repeat(dst []byte, n, back, length int) int {
	end := n + length
	for from := n - back; n < end; {
		n += copy(dst[n:end], dst[from:n])
	}
	return n
}

// symbol unpacks one literal or match with every question asked; more is false
// after the end of the block.
func (r *reader) symbol(dst []byte, n int, d *decoder) (more bool, _ int, _ error) {
	r.fill()
	e := d.lit[r.hold&(1<<litBits-1)]
	if e&flagLiteral == 0 && e&flagSecond != 0 {
		r.take(litBits)
		e = d.lit[int(e>>16)+int(r.hold&(1<<(e>>8&31)-1))]
	}
	r.take(uint(e & 63))
	switch {
	case r.ended():
		return false, n, fmt.Errorf("%w: it is cut short", ErrCorrupt)
	case e&flagLiteral != 0:
		if n >= len(dst) {
			return false, n, fmt.Errorf("%w: it holds more than %d bytes", ErrCorrupt, len(dst))
		}
		dst[n] = byte(e >> 16)
		return true, n + 1, nil
	case e&flagEnd != 0:
		return false, n, nil
	case e&flagBad != 0:
		return false, n, fmt.Errorf("%w: unknown code", ErrCorrupt)
	}
	length := int(e>>16&0x7fff) + int(r.take(uint(e>>8&31)))
	r.fill()
	e = d.dist[r.hold&(1<<distBits-1)]
	if e&flagSecond != 0 {
		r.take(distBits)
		e = d.dist[int(e>>16)+int(r.hold&(1<<(e>>8&31)-1))]
	}
	r.take(uint(e & 63))
	back := int(e>>16&0x7fff) + int(r.take(uint(e>>8&31)))
	switch {
	case e&flagBad != 0 || back > n || r.ended():
		return false, n, fmt.Errorf("%w: a match before the beginning, or cut short", ErrCorrupt)
	case n+length > len(dst):
		return false, n, fmt.Errorf("%w: it holds more than %d bytes", ErrCorrupt, len(dst))
	}
	return true, repeat(dst, n, back, length), nil
}
