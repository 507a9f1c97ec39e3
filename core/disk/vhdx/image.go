package vhdx

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

// Image is an open VHDX layer.
type Image struct {
	header
	*parameters
	bat, metadata region
	file          disk.Source // as it lies there
	src           disk.Source // with its log applied
	log           *replayed   // nil when there is nothing to replay
	closer        io.Closer
	table         []uint64
	headers       [2]error // what is wrong with each
	tables        [2]error // likewise of the region tables

	mu      sync.Mutex
	bitmaps map[int64][]byte // by chunk; a few, thrown away all at once
}

const bitmapsKept = 16 // 1 MiB each

// Open reads the newer header, applies the log in memory, and reads regions,
// metadata and block table.
func Open(src disk.Source) (*Image, error) {
	i := &Image{file: src, src: src, bitmaps: map[int64][]byte{}}
	i.closer, _ = src.(io.Closer)
	head := make([]byte, 8)
	if _, err := src.ReadAt(head, 0); err != nil || !Probe(head) {
		return nil, fmt.Errorf("%w: no VHDX signature at byte 0", disk.ErrFormat)
	}
	var newest *header
	raw := make([]byte, headerBytes)
	for n, at := range []int64{header1At, header2At} {
		if _, err := src.ReadAt(raw, at); err != nil {
			i.headers[n] = disk.Damaged(at, "read header: %v", err)
			continue
		}
		h, err := parseHeader(raw, at)
		if i.headers[n] = err; err == nil && (newest == nil || h.sequence > newest.sequence) {
			newest = h
		}
	}
	if newest == nil {
		return nil, disk.Damaged(header1At, "neither header can be used: %v; %v", i.headers[0], i.headers[1])
	}
	if i.header = *newest; i.version != 1 {
		return nil, fmt.Errorf("%w: VHDX version %d (at byte %d)", disk.ErrVariant, i.version, i.at+66)
	}
	if i.logID != (uuid.UUID{}) {
		var err error
		if i.log, err = readLog(src, newest); err != nil {
			return nil, err
		}
		i.src = i.log
	}
	var regions map[uuid.UUID]region
	raw = make([]byte, regionBytes)
	for n, at := range []int64{region1At, region2At} {
		if _, err := i.src.ReadAt(raw, at); err != nil {
			i.tables[n] = disk.Damaged(at, "read region table: %v", err)
			continue
		}
		r, err := parseRegions(raw, at)
		if i.tables[n] = err; err == nil && regions == nil {
			regions = r
		}
	}
	if regions == nil {
		return nil, fmt.Errorf("neither region table can be used: %w; %w", i.tables[0], i.tables[1])
	}
	i.bat, i.metadata = regions[regionBAT], regions[regionMetadata]
	var err error
	if i.parameters, err = parseMetadata(i.src, i.metadata); err != nil {
		return nil, err
	}
	n := i.entries()
	if n*8 > i.bat.length || i.bat.at > i.src.Size()-n*8 {
		return nil, disk.Damaged(i.bat.at, "the block table needs %d bytes and does not lie in the file", n*8)
	}
	raw = make([]byte, n*8)
	if _, err := i.src.ReadAt(raw, i.bat.at); err != nil && n > 0 {
		return nil, disk.Damaged(i.bat.at, "read block table: %v", err)
	}
	i.table = make([]uint64, n)
	for k := range i.table {
		i.table[k] = binary.LittleEndian.Uint64(raw[k*8:])
	}
	return i, nil
}

func (i *Image) Info() disk.Info {
	info := disk.Info{
		Format: Format, Variant: "dynamic", VirtualBytes: i.size, SectorBytes: int(i.sector), ID: i.id.String(),
		Linkage: i.dataID.String(),
		Clean:   i.log == nil,
	}
	if i.fixed && !i.parent {
		info.Variant = "fixed"
	}
	if i.parent {
		p := disk.ParentRef{Format: Format, ID: strings.ToLower(strings.Trim(i.locator["parent_linkage"], "{}"))}
		for _, key := range []string{"relative_path", "volume_path", "absolute_win32_path"} {
			if v := i.locator[key]; v != "" {
				p.Path = disk.NativePath(v)
				break
			}
		}
		info.Parent = &p
	}
	return info
}

func (i *Image) Close() error {
	if i.closer == nil {
		return nil
	}
	return i.closer.Close()
}

func state(entry uint64) uint64   { return entry & 7 }
func hostByte(entry uint64) int64 { return int64(entry >> 20 << 20 & (1<<63 - 1)) }

// payload is the table's entry of a block; bitmap that of the block's chunk.
func (p *parameters) payload(block int64) int64 { return block + block/p.chunk() }
func (p *parameters) bitmap(block int64) int64 {
	return block/p.chunk()*(p.chunk()+1) + p.chunk()
}

func (i *Image) kind(block int64) (disk.Kind, bool, error) {
	k := i.payload(block)
	switch s := state(i.table[k]); s {
	case notPresent:
		if i.parent {
			return disk.Parent, false, nil
		}
		return disk.Zero, false, nil
	case undefined, zero, unmapped:
		return disk.Zero, false, nil
	case present:
		return disk.Data, false, nil
	case partial:
		if i.parent {
			return disk.Data, true, nil
		}
		fallthrough
	default:
		return 0, false, disk.Damaged(i.bat.at+k*8, "block %d is in state %d", block, s)
	}
}

func (i *Image) Map(off int64) (disk.Range, error) {
	if off < 0 || off >= i.size {
		return disk.Range{}, disk.ErrRange
	}
	n := off / i.block
	kind, bySector, err := i.kind(n)
	if err != nil {
		return disk.Range{}, err
	}
	if bySector {
		return i.mapSectors(off)
	}
	end := n + 1
	for blocks := i.blocks(); end < blocks; end++ {
		if k, by, err := i.kind(end); err != nil || k != kind || by {
			break
		}
	}
	return disk.Range{Offset: off, Length: min(end*i.block, i.size) - off, Kind: kind}, nil
}

func (i *Image) mapSectors(off int64) (disk.Range, error) {
	n := off / i.block
	bits, err := i.sectorBits(n)
	if err != nil {
		return disk.Range{}, err
	}
	base := n % i.chunk() * (i.block / i.sector)
	has := func(s int64) bool { return bits[(base+s)/8]>>((base+s)%8)&1 != 0 }
	first := off % i.block / i.sector
	k := first + 1
	for k < i.block/i.sector && has(k) == has(first) {
		k++
	}
	kind := disk.Parent
	if has(first) {
		kind = disk.Data
	}
	return disk.Range{Offset: off, Length: min(n*i.block+k*i.sector, i.size) - off, Kind: kind}, nil
}

// sectorBits returns the sector bitmap block of a payload block's chunk.
func (i *Image) sectorBits(block int64) ([]byte, error) {
	k := i.bitmap(block)
	if state(i.table[k]) != present {
		return nil, disk.Damaged(i.bat.at+k*8, "block %d is partly there, and its sector bitmap is not", block)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if b := i.bitmaps[k]; b != nil {
		return b, nil
	}
	b := make([]byte, bitmapBlock)
	at := hostByte(i.table[k])
	if n, err := i.src.ReadAt(b, at); n < len(b) {
		return nil, disk.Damaged(at, "read sector bitmap: %v", err)
	}
	if len(i.bitmaps) >= bitmapsKept {
		clear(i.bitmaps)
	}
	i.bitmaps[k] = b
	return b, nil
}

func (i *Image) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= i.size {
			return done, io.EOF
		}
		r, err := i.Map(at)
		if err != nil {
			return done, err
		}
		part := p[done:min(int64(len(p)), int64(done)+r.Length)]
		if r.Kind != disk.Data {
			clear(part)
			done += len(part)
			continue
		}
		part = part[:min(int64(len(part)), i.block-at%i.block)]
		host := hostByte(i.table[i.payload(at/i.block)]) + at%i.block
		if host < mib {
			return done, disk.Damaged(i.bat.at+i.payload(at/i.block)*8, "block %d lies in the file's header",
				at/i.block)
		}
		if got, err := i.src.ReadAt(part, host); got < len(part) {
			return done, disk.Damaged(host, "data of guest byte %d: %v", at, err)
		}
		done += len(part)
	}
	return done, nil
}
