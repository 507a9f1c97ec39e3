// Package vmdk reads and writes VMDK images: monolithic sparse and flat,
// stream-optimized (in any order, or as a stream), and descriptors with several
// extents, sparse and flat, which are only read.
//
// Source: "Virtual Disk Format 5.0" (technical note): sections "Layout Basics",
// "The Descriptor File", "Hosted Sparse Extents" and "Stream-Optimized
// Compressed Sparse Extents". All numbers in the file are little-endian;
// "sector" is always 512 bytes.
//
// A disk's id has no place in the format; what is written here keeps it as an
// entry of the disk database, which readers pass over. Layers hold on to the
// content id.
package vmdk

import (
	"encoding/binary"
	"fmt"

	"unvora.example/unvora/core/disk"
)

const (
	Format = "vmdk"

	magic        = 0x564d444b // "KDMV"
	sectorBytes  = 512
	headerBytes  = 512
	gdAtEnd      = 0xffffffffffffffff
	compressNone = 0
	compressZlib = 1

	flagNewline    = 1 << 0 // the newline test below is valid
	flagRedundant  = 1 << 1 // a redundant grain directory is there
	flagZeroGrain  = 1 << 2 // a grain table entry of 1 means a grain of zeros
	flagCompressed = 1 << 16
	flagMarkers    = 1 << 17

	markerEnd       = 0
	markerTable     = 1
	markerDirectory = 2
	markerFooter    = 3

	grainSectors = 128 // of what is written: 64 KiB
	grainBytes   = grainSectors * sectorBytes
	tableEntries = 512

	atUnclean       = 72
	maxGrainSectors = 16 << 10 // 8 MiB; nobody writes larger ones
	maxTables       = 1 << 22
	maxSector       = 1<<32 - 1 - 1<<16 // of a file: entries have 32 bits
)

type header struct {
	version, flags  uint32
	capacity        uint64 // sectors
	grain           uint64 // sectors
	descriptorAt    uint64 // sector
	descriptorSize  uint64 // sectors
	entries         uint32 // per grain table
	redundantAt     uint64 // sector of the second grain directory; 0: none
	directoryAt     uint64 // sector
	overhead        uint64 // sectors
	unclean         bool
	compression     uint16
	descriptorProps descriptor
}

func (h *header) bytes() int64      { return int64(h.capacity) * sectorBytes }
func (h *header) grainBytes() int64 { return int64(h.grain) * sectorBytes }
func (h *header) tables() int64 {
	per := h.grain * uint64(h.entries)
	return int64((h.capacity + per - 1) / per)
}

// Probe tells whether head, the first bytes of a file, begins a VMDK: a sparse
// one, or a descriptor.
func Probe(head []byte) bool { return isSparse(head) || isDescriptor(head) || isCOW(head) }

func isSparse(head []byte) bool {
	return len(head) >= 4 && binary.LittleEndian.Uint32(head) == magic
}

// isCOW tells of the older sparse extents that only some hosts write; they are
// recognised and refused.
func isCOW(head []byte) bool { return len(head) >= 8 && string(head[:8]) == "COWD\x01\x00\x00\x00" }

// parseHeader checks the 512 bytes at file offset at.
func parseHeader(raw []byte, at int64) (*header, error) {
	le := binary.LittleEndian
	if !isSparse(raw) {
		return nil, fmt.Errorf("%w: no VMDK magic at byte %d", disk.ErrFormat, at)
	}
	h := &header{
		version: le.Uint32(raw[4:]), flags: le.Uint32(raw[8:]),
		capacity: le.Uint64(raw[12:]), grain: le.Uint64(raw[20:]),
		descriptorAt: le.Uint64(raw[28:]), descriptorSize: le.Uint64(raw[36:]),
		entries: le.Uint32(raw[44:]), redundantAt: le.Uint64(raw[48:]), directoryAt: le.Uint64(raw[56:]),
		overhead: le.Uint64(raw[64:]),
		unclean:  raw[atUnclean] != 0, compression: le.Uint16(raw[77:]),
	}
	switch {
	case h.version < 1 || h.version > 3:
		return nil, fmt.Errorf("%w: VMDK version %d (1 to 3 are read)", disk.ErrVariant, h.version)
	case h.flags&flagNewline != 0 && string(raw[73:77]) != "\n \r\n":
		return nil, disk.Damaged(at+73, "its line ends were changed: it went through a transfer in text mode")
	case h.grain < 8 && h.grain != 1 || h.grain > maxGrainSectors || h.grain&(h.grain-1) != 0:
		return nil, disk.Damaged(at+20, "grain of %d sectors", h.grain)
	case h.entries == 0 || h.entries > 1<<16:
		return nil, disk.Damaged(at+44, "grain tables of %d entries", h.entries)
	case h.capacity > 1<<48 || uint64(h.tables()) > maxTables:
		return nil, disk.Damaged(at+12, "capacity of %d sectors", h.capacity)
	case h.compression > compressZlib:
		return nil, fmt.Errorf("%w: compression %d (at byte %d)", disk.ErrVariant, h.compression, at+77)
	}
	return h, nil
}

func (h *header) encode() []byte {
	raw := make([]byte, headerBytes)
	le := binary.LittleEndian
	le.PutUint32(raw, magic)
	le.PutUint32(raw[4:], h.version)
	le.PutUint32(raw[8:], h.flags)
	le.PutUint64(raw[12:], h.capacity)
	le.PutUint64(raw[20:], h.grain)
	le.PutUint64(raw[28:], h.descriptorAt)
	le.PutUint64(raw[36:], h.descriptorSize)
	le.PutUint32(raw[44:], h.entries)
	le.PutUint64(raw[48:], h.redundantAt)
	le.PutUint64(raw[56:], h.directoryAt)
	le.PutUint64(raw[64:], h.overhead)
	copy(raw[73:], "\n \r\n")
	le.PutUint16(raw[77:], h.compression)
	return raw
}
