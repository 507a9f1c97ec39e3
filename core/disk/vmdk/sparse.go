package vmdk

import (
	"encoding/binary"
	"fmt"
	"io"
	"sync"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/inflate"
)

// sparse is an extent of grains, found by a directory of tables.
type sparse struct {
	header
	src       disk.Source
	directory []uint32 // sector of each grain table; 0: none
	redundant bool     // the second directory stands in for the first, which can't be read

	mu     sync.Mutex
	tables map[int64][]uint32 // a few, thrown away all at once
}

const tablesKept = 1024 // 2 KiB each as written by most

// openSparse reads header (or the footer, where the header says so), descriptor
// and grain directory.
func openSparse(src disk.Source) (*sparse, error) {
	raw := make([]byte, headerBytes)
	if _, err := src.ReadAt(raw, 0); err != nil {
		return nil, fmt.Errorf("%w: read the header: %v", disk.ErrFormat, err)
	}
	h, err := parseHeader(raw, 0)
	if err != nil {
		return nil, err
	}
	i := &sparse{header: *h, src: src, tables: map[int64][]uint32{}}
	if h.directoryAt == gdAtEnd {
		// footer marker, footer, end-of-stream marker
		at := src.Size() - 2*sectorBytes
		if at < headerBytes {
			return nil, disk.Damaged(src.Size(), "ends before its footer: it is cut short")
		}
		if _, err := src.ReadAt(raw, at); err != nil {
			return nil, err
		}
		footer, err := parseHeader(raw, at)
		if err != nil {
			return nil, disk.Damaged(at, "no footer in the last KiB: the image is cut short")
		}
		if footer.capacity != h.capacity || footer.grain != h.grain || footer.entries != h.entries ||
			footer.directoryAt == gdAtEnd {
			return nil, disk.Damaged(at, "header and footer contradict each other")
		}
		i.directoryAt = footer.directoryAt
	}
	if h.descriptorSize > 0 {
		_, _, text, err := locateDescriptor(src)
		if err != nil {
			return nil, err
		}
		if i.descriptorProps, err = parseDescriptor(text); err != nil {
			return nil, err
		}
	}
	if i.directory, err = i.readDirectory(i.directoryAt); err != nil && h.flags&flagRedundant != 0 {
		var again error
		if i.directory, again = i.readDirectory(h.redundantAt); again == nil {
			i.redundant, err = true, nil
		}
	}
	return i, err
}

func (i *sparse) readDirectory(sector uint64) ([]uint32, error) {
	dir := make([]byte, i.header.tables()*4)
	at := int64(sector) * sectorBytes
	if sector > 1<<54 || at+int64(len(dir)) > i.src.Size() {
		return nil, disk.Damaged(at, "grain directory lies beyond the end of the file")
	}
	if _, err := i.src.ReadAt(dir, at); err != nil && len(dir) > 0 {
		return nil, disk.Damaged(at, "read grain directory: %v", err)
	}
	words := words(dir)
	for n, t := range words {
		if end := int64(t)*sectorBytes + int64(i.entries)*4; t != 0 && end > i.src.Size() {
			return nil, disk.Damaged(at+int64(n)*4, "grain table %d lies beyond the end of the file", n)
		}
	}
	return words, nil
}

func words(raw []byte) []uint32 {
	w := make([]uint32, len(raw)/4)
	for n := range w {
		w[n] = binary.LittleEndian.Uint32(raw[n*4:])
	}
	return w
}

// table returns the n-th grain table, nil when there is none.
func (i *sparse) table(n int64) ([]uint32, error) {
	if i.directory[n] == 0 {
		return nil, nil
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if t := i.tables[n]; t != nil {
		return t, nil
	}
	raw := make([]byte, i.entries*4)
	at := int64(i.directory[n]) * sectorBytes
	if _, err := i.src.ReadAt(raw, at); err != nil {
		return nil, disk.Damaged(int64(i.directoryAt)*sectorBytes+n*4, "grain table %d at byte %d: %v", n, at, err)
	}
	if len(i.tables) >= tablesKept {
		clear(i.tables)
	}
	i.tables[n] = words(raw)
	return i.tables[n], nil
}

func (i *sparse) kind(entry uint32) disk.Kind {
	switch {
	case entry == 0:
		return disk.Parent
	case entry == 1 && i.flags&flagZeroGrain != 0:
		return disk.Zero
	}
	return disk.Data
}

// mapAt walks one grain table.
func (i *sparse) mapAt(off int64) (disk.Range, error) {
	if off < 0 || off >= i.bytes() {
		return disk.Range{}, disk.ErrRange
	}
	span := i.grainBytes() * int64(i.entries)
	n := off / span
	end := min((n+1)*span, i.bytes())
	t, err := i.table(n)
	if err != nil {
		return disk.Range{}, err
	}
	if t == nil {
		for end < i.bytes() && i.directory[end/span] == 0 {
			end = min(end+span, i.bytes())
		}
		return disk.Range{Offset: off, Length: end - off, Kind: disk.Parent}, nil
	}
	first := off % span / i.grainBytes()
	kind := i.kind(t[first])
	k := first + 1
	for k < int64(i.entries) && i.kind(t[k]) == kind {
		k++
	}
	return disk.Range{Offset: off, Length: min(n*span+k*i.grainBytes(), end) - off, Kind: kind}, nil
}

func (i *sparse) readAt(p []byte, off int64) (int, error) {
	span := i.grainBytes() * int64(i.entries)
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= i.bytes() {
			return done, io.EOF
		}
		inGrain := at % i.grainBytes()
		part := p[done:min(int64(len(p)), int64(done)+i.grainBytes()-inGrain, int64(done)+i.bytes()-at)]
		t, err := i.table(at / span)
		if err != nil {
			return done, err
		}
		if t == nil || i.kind(t[at%span/i.grainBytes()]) != disk.Data {
			clear(part)
		} else if err := i.readGrain(part, int64(t[at%span/i.grainBytes()])*sectorBytes, inGrain,
			at/int64(i.grainBytes())*int64(i.grain)); err != nil {
			return done, err
		}
		done += len(part)
	}
	return done, nil
}

// readGrain reads part of the grain stored at byte host of the file.
func (i *sparse) readGrain(p []byte, host, inGrain, lba int64) error {
	if i.flags&flagCompressed == 0 {
		if n, err := i.src.ReadAt(p, host+inGrain); n < len(p) {
			return disk.Damaged(host, "grain of sector %d: %v", lba, err)
		}
		return nil
	}
	var head [12]byte
	if _, err := i.src.ReadAt(head[:], host); err != nil {
		return disk.Damaged(host, "grain of sector %d: %v", lba, err)
	}
	size := int64(binary.LittleEndian.Uint32(head[8:]))
	if got := int64(binary.LittleEndian.Uint64(head[:])); got != lba || size > 2*i.grainBytes()+sectorBytes {
		return disk.Damaged(host, "grain of sector %d begins with a marker for sector %d and %d bytes", lba, got, size)
	}
	packed, plain := make([]byte, size), make([]byte, i.grainBytes())
	if n, err := i.src.ReadAt(packed, host+12); n < len(packed) {
		return disk.Damaged(host, "grain of sector %d: %v", lba, err)
	}
	if err := unpack(plain, packed); err != nil {
		return disk.Damaged(host, "grain of sector %d: %v", lba, err)
	}
	copy(p, plain[inGrain:])
	return nil
}

// unpack inflates a grain (RFC 1950). One that ends early leaves the rest of
// plain zero: the last grain of a disk may be stored short.
func unpack(plain, packed []byte) error {
	n, err := inflate.Zlib(plain, packed)
	switch {
	case err != nil:
		return err
	case n == 0 || n%sectorBytes != 0:
		return fmt.Errorf("it unpacks to %d bytes", n)
	}
	clear(plain[n:])
	return nil
}
