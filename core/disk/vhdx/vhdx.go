// Package vhdx reads and writes VHDX images: dynamic, fixed and differencing,
// with sectors of 512 and 4096 bytes.
//
// Source: [MS-VHDX] "Virtual Hard Disk v2 (VHDX) File Format": sections 2.1
// "Layout", 2.2 "Header Section", 2.3 "Log", 2.4 "Blocks", 2.5 "BAT", 2.6
// "Metadata Region". All numbers in the file are little-endian.
//
// A log that was not replayed is applied while reading, in memory; the file
// stays as it is unless it is repaired.
package vhdx

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"unicode/utf16"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

const (
	Format = "vhdx"

	// MostBytes is what the format can hold: 64 TiB.
	MostBytes = 64 << 40

	mib           = 1 << 20
	signature     = "vhdxfile"
	headerBytes   = 4096
	regionBytes   = 64 << 10
	header1At     = 64 << 10
	header2At     = 128 << 10
	region1At     = 192 << 10
	region2At     = 256 << 10
	logSector     = 4096
	metadataTable = 64 << 10
	bitmapBlock   = 1 << 20

	// States of a payload block, and of a sector bitmap block that is there.
	notPresent = 0
	undefined  = 1
	zero       = 2
	unmapped   = 3
	present    = 6
	partial    = 7

	flagUser     = 1
	flagVirtual  = 2
	flagRequired = 4

	paramFixed  = 1 // leave blocks allocated
	paramParent = 2
)

var (
	regionBAT      = uuid.MustParse("2DC27766-F623-4200-9D64-115E9BFD4A08")
	regionMetadata = uuid.MustParse("8B7CA206-4790-4B9A-B8FE-575F050F886E")

	itemParameters = uuid.MustParse("CAA16737-FA36-4D43-B3B6-33F0AA44E76B")
	itemSize       = uuid.MustParse("2FA54224-CD1B-4876-B211-5DBED83BF4B8")
	itemDiskID     = uuid.MustParse("BECA12AB-B2E6-4523-93EF-C309E000C746")
	itemSector     = uuid.MustParse("8141BF1D-A96F-4709-BA47-F233A8FAAB5F")
	itemPhysical   = uuid.MustParse("CDA348C7-445D-4471-9CC9-E9885251C556")
	itemLocator    = uuid.MustParse("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C")

	locatorType = uuid.MustParse("B04AEFB7-D19E-4A81-B789-25B8E9445913")
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// checksum is the CRC-32C of raw with the four bytes at 4 taken for zeros.
func checksum(raw []byte) uint32 {
	c := crc32.Update(0, castagnoli, raw[:4])
	c = crc32.Update(c, castagnoli, make([]byte, 4))
	return crc32.Update(c, castagnoli, raw[8:])
}

// guid reads the mixed order of bytes that the format keeps GUIDs in.
func guid(raw []byte) (id uuid.UUID) {
	copy(id[:], raw[:16])
	swap(id[:])
	return id
}

func putGUID(raw []byte, id uuid.UUID) {
	copy(raw, id[:])
	swap(raw)
}

func swap(p []byte) {
	p[0], p[1], p[2], p[3] = p[3], p[2], p[1], p[0]
	p[4], p[5] = p[5], p[4]
	p[6], p[7] = p[7], p[6]
}

// header is one of the two that take turns.
type header struct {
	at             int64
	sequence       uint64
	fileID, dataID uuid.UUID // FileWriteGuid, DataWriteGuid
	logID          uuid.UUID
	logVersion     uint16
	version        uint16
	logLength      uint32
	logAt          int64
}

func parseHeader(raw []byte, at int64) (*header, error) {
	le := binary.LittleEndian
	if string(raw[:4]) != "head" {
		return nil, disk.Damaged(at, "no header")
	}
	if want, got := checksum(raw), le.Uint32(raw[4:]); want != got {
		return nil, disk.Damaged(at+4, "checksum of the header is %#x, should be %#x", got, want)
	}
	return &header{
		at: at, sequence: le.Uint64(raw[8:]), fileID: guid(raw[16:]), dataID: guid(raw[32:]), logID: guid(raw[48:]),
		logVersion: le.Uint16(raw[64:]), version: le.Uint16(raw[66:]), logLength: le.Uint32(raw[68:]),
		logAt: int64(le.Uint64(raw[72:])),
	}, nil
}

func (h *header) encode() []byte {
	raw := make([]byte, headerBytes)
	le := binary.LittleEndian
	copy(raw, "head")
	le.PutUint64(raw[8:], h.sequence)
	putGUID(raw[16:], h.fileID)
	putGUID(raw[32:], h.dataID)
	putGUID(raw[48:], h.logID)
	le.PutUint16(raw[66:], 1)
	le.PutUint32(raw[68:], h.logLength)
	le.PutUint64(raw[72:], uint64(h.logAt))
	le.PutUint32(raw[4:], checksum(raw))
	return raw
}

// region is a place in the file with a meaning.
type region struct {
	at     int64
	length int64
}

func parseRegions(raw []byte, at int64) (map[uuid.UUID]region, error) {
	le := binary.LittleEndian
	if string(raw[:4]) != "regi" {
		return nil, disk.Damaged(at, "no region table")
	}
	if want, got := checksum(raw), le.Uint32(raw[4:]); want != got {
		return nil, disk.Damaged(at+4, "checksum of the region table is %#x, should be %#x", got, want)
	}
	n := le.Uint32(raw[8:])
	if n > (regionBytes-16)/32 {
		return nil, disk.Damaged(at+8, "region table of %d entries", n)
	}
	regions := map[uuid.UUID]region{}
	for k := range int(n) {
		e := raw[16+32*k:]
		id, r := guid(e), region{int64(le.Uint64(e[16:])), int64(le.Uint32(e[24:]))}
		if id != regionBAT && id != regionMetadata {
			if le.Uint32(e[28:])&1 != 0 {
				return nil, fmt.Errorf("%w: unknown required region %s (at byte %d)", disk.ErrVariant, id,
					at+16+int64(32*k))
			}
			continue
		}
		if r.at < mib || r.at%mib != 0 || r.length%mib != 0 || r.length == 0 {
			return nil, disk.Damaged(at+16+int64(32*k), "region of %d bytes at byte %d", r.length, r.at)
		}
		regions[id] = r
	}
	if len(regions) != 2 {
		return nil, disk.Damaged(at, "the region table lacks the block table or the metadata")
	}
	return regions, nil
}

func encodeRegions(bat, metadata region) []byte {
	raw := make([]byte, regionBytes)
	le := binary.LittleEndian
	copy(raw, "regi")
	le.PutUint32(raw[8:], 2)
	for n, e := range []struct {
		id uuid.UUID
		r  region
	}{{regionBAT, bat}, {regionMetadata, metadata}} {
		at := raw[16+32*n:]
		putGUID(at, e.id)
		le.PutUint64(at[16:], uint64(e.r.at))
		le.PutUint32(at[24:], uint32(e.r.length))
		le.PutUint32(at[28:], 1)
	}
	le.PutUint32(raw[4:], checksum(raw))
	return raw
}

// parameters are what the metadata region tells of the disk.
type parameters struct {
	block    int64 // bytes
	fixed    bool
	parent   bool
	size     int64
	id       uuid.UUID
	idAt     int64 // byte of the file where the id stands
	sector   int64
	physical int64
	locator  map[string]string
}

// chunk is how many payload blocks one sector bitmap block tells of.
func (p *parameters) chunk() int64 { return (1 << 23) * p.sector / p.block }

func (p *parameters) blocks() int64 { return (p.size + p.block - 1) / p.block }

// entries of the block table, sector bitmap blocks among them.
func (p *parameters) entries() int64 {
	n := p.blocks()
	if n == 0 {
		return 0
	}
	if p.parent {
		return (n + p.chunk() - 1) / p.chunk() * (p.chunk() + 1)
	}
	return n + (n-1)/p.chunk()
}

func parseMetadata(src disk.Source, r region) (*parameters, error) {
	le := binary.LittleEndian
	table := make([]byte, metadataTable)
	if r.length < metadataTable || r.at > src.Size()-metadataTable {
		return nil, disk.Damaged(r.at, "the metadata lies beyond the end of the file")
	}
	if _, err := src.ReadAt(table, r.at); err != nil {
		return nil, disk.Damaged(r.at, "read metadata: %v", err)
	}
	n := le.Uint16(table[10:])
	if string(table[:8]) != "metadata" || n > 2047 {
		return nil, disk.Damaged(r.at, "no metadata table")
	}
	p := &parameters{physical: 512}
	var seen int
	for k := range int(n) {
		e := table[32+32*k:]
		entryAt := r.at + 32 + int64(32*k)
		id, at, length, flags := guid(e), int64(le.Uint32(e[16:])), int64(le.Uint32(e[20:])), le.Uint32(e[24:])
		known := id == itemParameters || id == itemSize || id == itemDiskID || id == itemSector || id == itemPhysical ||
			id == itemLocator
		if !known || flags&flagUser != 0 {
			if flags&flagRequired != 0 {
				return nil, fmt.Errorf("%w: unknown required metadata %s (at byte %d)", disk.ErrVariant, id, entryAt)
			}
			continue
		}
		if at < metadataTable || length > mib || at+length > r.length || r.at+at+length > src.Size() {
			return nil, disk.Damaged(entryAt, "metadata item of %d bytes at byte %d lies outside its region", length,
				r.at+at)
		}
		body := make([]byte, length)
		if _, err := src.ReadAt(body, r.at+at); err != nil && length > 0 {
			return nil, disk.Damaged(r.at+at, "read metadata: %v", err)
		}
		least := map[uuid.UUID]int64{itemParameters: 8, itemSize: 8, itemDiskID: 16, itemSector: 4, itemPhysical: 4,
			itemLocator: 20}[id]
		if length < least {
			return nil, disk.Damaged(entryAt, "metadata item has %d bytes, should have %d", length, least)
		}
		switch id {
		case itemParameters:
			p.block = int64(le.Uint32(body))
			p.fixed, p.parent = body[4]&paramFixed != 0, body[4]&paramParent != 0
			seen |= 1
		case itemSize:
			p.size = int64(le.Uint64(body))
			seen |= 2
		case itemDiskID:
			p.id, p.idAt = guid(body), r.at+at
		case itemSector:
			p.sector = int64(le.Uint32(body))
			seen |= 4
		case itemPhysical:
			p.physical = int64(le.Uint32(body))
		case itemLocator:
			var err error
			if p.locator, err = parseLocator(body, r.at+at); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case seen != 7:
		return nil, disk.Damaged(r.at, "the metadata lacks block size, disk size or sector size")
	case p.block < mib || p.block > 256*mib || p.block&(p.block-1) != 0:
		return nil, disk.Damaged(r.at, "blocks of %d bytes", p.block)
	case p.sector != 512 && p.sector != 4096:
		return nil, disk.Damaged(r.at, "sectors of %d bytes", p.sector)
	case p.size < 0 || p.size > MostBytes || p.size%p.sector != 0:
		return nil, disk.Damaged(r.at, "size of the disk is %d bytes", p.size)
	case p.parent && p.locator == nil:
		return nil, disk.Damaged(r.at, "it is a layer, and its parent locator is missing")
	}
	return p, nil
}

func parseLocator(body []byte, at int64) (map[string]string, error) {
	le := binary.LittleEndian
	if id := guid(body); id != locatorType {
		return nil, fmt.Errorf("%w: parent locator of the unknown type %s (at byte %d)", disk.ErrVariant, id, at)
	}
	n := int(le.Uint16(body[18:]))
	if 20+12*n > len(body) {
		return nil, disk.Damaged(at+18, "parent locator of %d entries is cut short", n)
	}
	values := map[string]string{}
	text := func(off, length int) (string, bool) {
		if off < 0 || off+length > len(body) {
			return "", false
		}
		units := make([]uint16, length/2)
		for k := range units {
			units[k] = le.Uint16(body[off+2*k:])
		}
		return string(utf16.Decode(units)), true
	}
	for k := range n {
		e := body[20+12*k:]
		key, ok1 := text(int(le.Uint32(e)), int(le.Uint16(e[8:])))
		value, ok2 := text(int(le.Uint32(e[4:])), int(le.Uint16(e[10:])))
		if !ok1 || !ok2 {
			return nil, disk.Damaged(at+20+int64(12*k), "entry %d of the parent locator lies outside it", k)
		}
		values[key] = value
	}
	return values, nil
}

func encodeLocator(keys []string, values map[string]string) []byte {
	le := binary.LittleEndian
	raw := make([]byte, 20+12*len(keys))
	putGUID(raw, locatorType)
	le.PutUint16(raw[18:], uint16(len(keys)))
	add := func(s string) (at uint32, length uint16) {
		at = uint32(len(raw))
		for _, u := range utf16.Encode([]rune(s)) {
			raw = le.AppendUint16(raw, u)
		}
		return at, uint16(uint32(len(raw)) - at)
	}
	for n, k := range keys {
		keyAt, keyLength := add(k)
		valueAt, valueLength := add(values[k])
		e := raw[20+12*n:]
		le.PutUint32(e, keyAt)
		le.PutUint32(e[4:], valueAt)
		le.PutUint16(e[8:], keyLength)
		le.PutUint16(e[10:], valueLength)
	}
	return raw
}

// Probe tells whether head, the first bytes of a file, begins a VHDX.
func Probe(head []byte) bool { return len(head) >= 8 && string(head[:8]) == signature }
