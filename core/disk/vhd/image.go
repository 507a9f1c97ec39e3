package vhd

import (
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"sync"

	"unvora.example/unvora/core/disk"
)

// Image is an open VHD layer.
type Image struct {
	footer
	*header       // nil for a fixed image
	src           disk.Source
	closer        io.Closer
	table         []uint32 // sector of each block
	footerMissing error    // the one at the end can't be used
	stated        string   // path of the parent

	mu      sync.Mutex
	bitmaps map[uint32][]byte // of a differencing image, a few, thrown away all at once
}

const bitmapsKept = 4096 // 512 bytes each

// Open reads footer, header, allocation table and parent locators. Where the
// footer at the end is damaged, its copy at the front stands in.
func Open(src disk.Source) (*Image, error) {
	i := &Image{src: src, bitmaps: map[uint32][]byte{}}
	i.closer, _ = src.(io.Closer)
	f, err := readFooter(src, src.Size()-footerBytes)
	if err != nil {
		first, frontErr := readFooter(src, 0)
		if frontErr != nil {
			if errors.Is(err, disk.ErrFormat) {
				err = frontErr
			}
			return nil, err
		}
		f, i.footerMissing = first, err
	}
	i.footer = *f
	if f.kind == typeFixed {
		if f.size > src.Size()-footerBytes {
			return nil, disk.Damaged(src.Size(), "the disk has %d bytes, the file only %d: it was cut short", f.size,
				src.Size()-footerBytes)
		}
		return i, nil
	}
	raw := make([]byte, headerBytes)
	if f.headerAt > uint64(src.Size()) {
		return nil, disk.Damaged(16, "the dynamic header at byte %d lies beyond the end of the file", f.headerAt)
	}
	if _, err := src.ReadAt(raw, int64(f.headerAt)); err != nil {
		return nil, disk.Damaged(int64(f.headerAt), "read dynamic header: %v", err)
	}
	if i.header, err = parseHeader(raw, int64(f.headerAt), f.size, src.Size()); err != nil {
		return nil, err
	}
	n := (f.size + i.block - 1) / i.block
	raw = make([]byte, n*4)
	if _, err := src.ReadAt(raw, i.tableAt); err != nil && n > 0 {
		return nil, disk.Damaged(i.tableAt, "read allocation table: %v", err)
	}
	i.table = make([]uint32, n)
	for k := range i.table {
		i.table[k] = binary.BigEndian.Uint32(raw[k*4:])
	}
	if f.kind == typeDiffers {
		i.stated = i.parentPath()
	}
	return i, nil
}

func readFooter(src disk.Source, at int64) (*footer, error) {
	if at < 0 {
		at = 0
	}
	raw := make([]byte, min(footerBytes, src.Size()-at))
	if _, err := src.ReadAt(raw, at); err != nil && err != io.EOF {
		return nil, err
	}
	return parseFooter(raw, at)
}

// parentPath takes the relative locator, or the absolute one, or the name.
func (i *Image) parentPath() string {
	best, rank := disk.NativePath(i.parentName), 0
	for _, l := range i.locators {
		if l.length == 0 || l.length > maxLocator || l.at < 0 || l.at > i.src.Size()-int64(l.length) {
			continue
		}
		raw := make([]byte, l.length)
		if _, err := i.src.ReadAt(raw, l.at); err != nil {
			continue
		}
		switch {
		case l.platform == platformRelative && rank < 3:
			best, rank = disk.NativePath(text16(raw, binary.LittleEndian)), 3
		case l.platform == platformURL && rank < 2:
			best, rank = disk.NativePath(strings.TrimRight(string(raw), "\x00")), 2
		case l.platform == platformAbsolute && rank < 1:
			best, rank = disk.NativePath(text16(raw, binary.LittleEndian)), 1
		}
	}
	return best
}

func (i *Image) Info() disk.Info {
	info := disk.Info{
		Format: Format, Variant: "fixed", VirtualBytes: i.size, SectorBytes: sectorBytes, ID: i.id.String(),
		Linkage: i.id.String(),
		Clean:   i.footerMissing == nil && !i.saved,
	}
	if i.header != nil {
		info.Variant = "dynamic"
	}
	if i.kind == typeDiffers {
		info.Parent = &disk.ParentRef{Path: i.stated, Format: Format, ID: i.parentID.String(),
			ModifiedAt: fromStamp(i.parentStamp)}
	}
	return info
}

func (i *Image) Close() error {
	if i.closer == nil {
		return nil
	}
	return i.closer.Close()
}

func (i *Image) plain() bool { return i.header == nil }

// Map tells of blocks, and in a differencing image of sectors within them. In
// a dynamic one a block that is there is data throughout: its bitmap is not
// kept by every writer.
func (i *Image) Map(off int64) (disk.Range, error) {
	if off < 0 || off >= i.size {
		return disk.Range{}, disk.ErrRange
	}
	if i.plain() {
		return disk.MapPlain(i.src, 0, off, i.size)
	}
	n := off / i.block
	if i.table[n] != unallocated && i.kind == typeDiffers {
		return i.mapSectors(off)
	}
	kind := i.blockKind(n)
	end := n + 1
	for end < int64(len(i.table)) && i.blockKind(end) == kind && (kind != disk.Data || i.kind != typeDiffers) {
		end++
	}
	return disk.Range{Offset: off, Length: min(end*i.block, i.size) - off, Kind: kind}, nil
}

// blockKind takes a whole block for data where sectors would have to be looked at.
func (i *Image) blockKind(n int64) disk.Kind {
	switch {
	case i.table[n] != unallocated:
		return disk.Data
	case i.kind == typeDiffers:
		return disk.Parent
	}
	return disk.Zero
}

func (i *Image) mapSectors(off int64) (disk.Range, error) {
	n := off / i.block
	bits, err := i.bitmap(i.table[n])
	if err != nil {
		return disk.Range{}, err
	}
	has := func(sector int64) bool { return bits[sector/8]&(0x80>>(sector%8)) != 0 }
	first := off % i.block / sectorBytes
	k := first + 1
	for k < i.block/sectorBytes && has(k) == has(first) {
		k++
	}
	kind := disk.Parent
	if has(first) {
		kind = disk.Data
	}
	return disk.Range{Offset: off, Length: min(n*i.block+k*sectorBytes, i.size) - off, Kind: kind}, nil
}

func (i *Image) bitmap(sector uint32) ([]byte, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if b := i.bitmaps[sector]; b != nil {
		return b, nil
	}
	b := make([]byte, i.bitmapBytes())
	at := int64(sector) * sectorBytes
	if _, err := i.src.ReadAt(b, at); err != nil {
		return nil, disk.Damaged(at, "read sector bitmap: %v", err)
	}
	if len(i.bitmaps) >= bitmapsKept {
		clear(i.bitmaps)
	}
	i.bitmaps[sector] = b
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
		host := at
		if !i.plain() {
			part = part[:min(int64(len(part)), i.block-at%i.block)]
			host = int64(i.table[at/i.block])*sectorBytes + i.bitmapBytes() + at%i.block
		}
		if got, err := i.src.ReadAt(part, host); got < len(part) {
			return done, disk.Damaged(host, "data of guest byte %d: %v", at, err)
		}
		done += len(part)
	}
	return done, nil
}
