// Package vhd reads and writes VHD images: fixed, dynamic and differencing.
//
// Source: "Virtual Hard Disk Image Format Specification", version 1.0 (2006):
// sections "Hard Disk Footer Format", "Dynamic Disk Header Format", "Block
// Allocation Table and Data Blocks", "Implementing a Differencing Hard Disk",
// appendix "CHS Calculation". All numbers in the file are big-endian; texts
// are UTF-16. A sector is 512 bytes.
//
// The size of a disk stands in the footer twice, in bytes and as a geometry,
// which can't express every size. Some readers go by the geometry unless the
// creator is known to state the exact size in bytes; what is written here
// bears such a creator ("win "), so that every reader sees the same size.
package vhd

import (
	"encoding/binary"
	"fmt"
	"time"
	"unicode/utf16"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

const (
	Format = "vhd"

	// MostBytes is what the format can hold: 2,040 GiB.
	MostBytes = 2040 << 30

	sectorBytes  = 512
	footerBytes  = 512
	headerBytes  = 1024
	blockBytes   = 2 << 20 // of what is written
	maxBlock     = 256 << 20
	unallocated  = 0xffffffff
	noOffset     = 0xffffffffffffffff
	locators     = 8
	locatorBytes = 24
	maxLocator   = 64 << 10

	cookieFooter = "conectix"
	cookieHeader = "cxsparse"

	typeFixed   = 2
	typeDynamic = 3
	typeDiffers = 4

	platformRelative = 0x57327275 // "W2ru"
	platformAbsolute = 0x57326b75 // "W2ku"
	platformURL      = 0x4d616358 // "MacX"
)

// epoch is where time stamps of the format begin.
var epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

func stamp(t time.Time) uint32 {
	if t.Before(epoch) {
		return 0
	}
	return uint32(t.Sub(epoch) / time.Second)
}

func fromStamp(s uint32) time.Time {
	if s == 0 {
		return time.Time{}
	}
	return epoch.Add(time.Duration(s) * time.Second)
}

// footer ends every image and begins those that are not fixed.
type footer struct {
	headerAt uint64 // byte of the dynamic header
	stamp    uint32
	size     int64
	kind     uint32
	id       uuid.UUID
	saved    bool
}

// checksum is the one's complement of the sum of all bytes, the field's own left out.
func checksum(raw []byte, field int) uint32 {
	var sum uint32
	for n, b := range raw {
		if n < field || n >= field+4 {
			sum += uint32(b)
		}
	}
	return ^sum
}

func parseFooter(raw []byte, at int64) (*footer, error) {
	be := binary.BigEndian
	if len(raw) < footerBytes || string(raw[:8]) != cookieFooter {
		return nil, fmt.Errorf("%w: no VHD footer at byte %d", disk.ErrFormat, at)
	}
	if want, got := checksum(raw[:footerBytes], 64), be.Uint32(raw[64:]); want != got {
		return nil, disk.Damaged(at+64, "checksum of the footer is %#x, should be %#x", got, want)
	}
	f := &footer{headerAt: be.Uint64(raw[16:]), stamp: be.Uint32(raw[24:]), size: int64(be.Uint64(raw[48:])),
		kind: be.Uint32(raw[60:]), saved: raw[84] != 0}
	copy(f.id[:], raw[68:84])
	switch {
	case be.Uint32(raw[12:])>>16 != 1:
		return nil, fmt.Errorf("%w: VHD version %#x (at byte %d)", disk.ErrVariant, be.Uint32(raw[12:]), at+12)
	case f.kind < typeFixed || f.kind > typeDiffers:
		return nil, fmt.Errorf("%w: VHD disk type %d (at byte %d)", disk.ErrVariant, f.kind, at+60)
	case f.size < 0 || f.size > 1<<42 || f.size%sectorBytes != 0:
		return nil, disk.Damaged(at+48, "size of the disk is %d bytes", f.size)
	}
	return f, nil
}

func (f *footer) encode() []byte {
	raw := make([]byte, footerBytes)
	be := binary.BigEndian
	copy(raw, cookieFooter)
	be.PutUint32(raw[8:], 2) // reserved, always set
	be.PutUint32(raw[12:], 0x10000)
	be.PutUint64(raw[16:], f.headerAt)
	be.PutUint32(raw[24:], f.stamp)
	copy(raw[28:], "win ") // states exact sizes: see the package's comment
	be.PutUint32(raw[32:], 0x60001)
	copy(raw[36:], "Wi2k")
	be.PutUint64(raw[40:], uint64(f.size))
	be.PutUint64(raw[48:], uint64(f.size))
	be.PutUint32(raw[56:], geometry(f.size))
	be.PutUint32(raw[60:], f.kind)
	copy(raw[68:], f.id[:])
	be.PutUint32(raw[64:], checksum(raw, 64))
	return raw
}

// geometry is cylinders, heads and sectors per track for a size in bytes, as
// the appendix "CHS Calculation" has it.
func geometry(size int64) uint32 {
	total := min(size/sectorBytes, 65535*16*255)
	var perTrack, heads, cylinderHeads int64
	if total >= 65535*16*63 {
		perTrack, heads = 255, 16
		cylinderHeads = total / perTrack
	} else {
		perTrack = 17
		cylinderHeads = total / perTrack
		heads = max(4, (cylinderHeads+1023)/1024)
		if cylinderHeads >= heads*1024 || heads > 16 {
			perTrack, heads = 31, 16
			cylinderHeads = total / perTrack
		}
		if cylinderHeads >= heads*1024 {
			perTrack, heads = 63, 16
			cylinderHeads = total / perTrack
		}
	}
	return uint32(cylinderHeads/heads)<<16 | uint32(heads)<<8 | uint32(perTrack)
}

// header is that of dynamic and differencing images.
type header struct {
	tableAt     int64
	entries     uint32
	block       int64 // bytes
	parentID    uuid.UUID
	parentStamp uint32
	parentName  string
	locators    [locators]locator
}

type locator struct {
	platform, space, length uint32
	at                      int64
}

// bitmapBytes is the room that a block's sector bitmap takes before its data.
func (h *header) bitmapBytes() int64 {
	return roundUp((h.block/sectorBytes+7)/8, sectorBytes)
}

func parseHeader(raw []byte, at, size, fileBytes int64) (*header, error) {
	be := binary.BigEndian
	if string(raw[:8]) != cookieHeader {
		return nil, disk.Damaged(at, "no header of a dynamic disk")
	}
	if want, got := checksum(raw, 36), be.Uint32(raw[36:]); want != got {
		return nil, disk.Damaged(at+36, "checksum of the dynamic header is %#x, should be %#x", got, want)
	}
	h := &header{tableAt: int64(be.Uint64(raw[16:])), entries: be.Uint32(raw[28:]), block: int64(be.Uint32(raw[32:])),
		parentStamp: be.Uint32(raw[56:])}
	copy(h.parentID[:], raw[40:56])
	h.parentName = text16(raw[64:576], be)
	for n := range h.locators {
		l := raw[576+n*locatorBytes:]
		h.locators[n] = locator{be.Uint32(l), be.Uint32(l[4:]), be.Uint32(l[8:]), int64(be.Uint64(l[16:]))}
	}
	switch {
	case be.Uint32(raw[24:])>>16 != 1:
		return nil, fmt.Errorf("%w: version %#x of the dynamic header (at byte %d)", disk.ErrVariant,
			be.Uint32(raw[24:]),
			at+24)
	case h.block < sectorBytes || h.block > maxBlock || h.block&(h.block-1) != 0:
		return nil, disk.Damaged(at+32, "blocks of %d bytes", h.block)
	case int64(h.entries) < (size+h.block-1)/h.block:
		return nil, disk.Damaged(at+28, "the allocation table has %d entries, the disk needs %d", h.entries,
			(size+h.block-1)/h.block)
	case h.tableAt < 0 || h.tableAt > fileBytes-int64(h.entries)*4:
		return nil, disk.Damaged(at+16, "the allocation table of %d entries at byte %d does not lie in the file",
			h.entries, h.tableAt)
	}
	return h, nil
}

func (h *header) encode() []byte {
	raw := make([]byte, headerBytes)
	be := binary.BigEndian
	copy(raw, cookieHeader)
	be.PutUint64(raw[8:], noOffset)
	be.PutUint64(raw[16:], uint64(h.tableAt))
	be.PutUint32(raw[24:], 0x10000)
	be.PutUint32(raw[28:], h.entries)
	be.PutUint32(raw[32:], uint32(h.block))
	copy(raw[40:], h.parentID[:])
	be.PutUint32(raw[56:], h.parentStamp)
	copy(raw[64:574], bytes16(h.parentName, be))
	for n, l := range h.locators {
		at := raw[576+n*locatorBytes:]
		be.PutUint32(at, l.platform)
		be.PutUint32(at[4:], l.space)
		be.PutUint32(at[8:], l.length)
		be.PutUint64(at[16:], uint64(l.at))
	}
	be.PutUint32(raw[36:], checksum(raw, 36))
	return raw
}

func text16(raw []byte, order binary.ByteOrder) string {
	var units []uint16
	for n := 0; n+1 < len(raw); n += 2 {
		u := order.Uint16(raw[n:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

func bytes16(s string, order binary.ByteOrder) []byte {
	var raw []byte
	for _, u := range utf16.Encode([]rune(s)) {
		raw = append(raw, 0, 0)
		order.PutUint16(raw[len(raw)-2:], u)
	}
	return raw
}

func roundUp(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// Probe tells whether a file that begins with head and ends with tail, 512
// bytes each, is a VHD. A fixed one only has its footer.
func Probe(head, tail []byte) bool {
	if len(head) >= 8 && string(head[:8]) == cookieFooter {
		return true
	}
	_, err := parseFooter(tail, 0)
	return err == nil
}
