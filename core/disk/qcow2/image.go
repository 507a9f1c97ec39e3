package qcow2

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"sync"

	"github.com/klauspost/compress/zstd"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/inflate"
)

// Image is an open QCOW2 layer.
type Image struct {
	header
	src    disk.Source
	data   disk.Source // where plain clusters lie: src, or an external file
	closer io.Closer
	mu     sync.RWMutex // guards l1, tables and, when writing, next
	l1     []uint64
	tables *tableCache

	file  disk.File  // nil when open for reading
	next  int64      // first free byte at the end of the file, a multiple of the cluster size
	below disk.Image // the chain of parents, when writing
	list  []snapshot
}

// Open reads the header and the L1 table. open is asked for an external data file.
func Open(src disk.Source, open disk.Opener) (*Image, error) {
	h, err := readHeader(src)
	if err != nil {
		return nil, err
	}
	i := &Image{header: *h, src: src, data: src}
	i.closer, _ = src.(io.Closer)
	if h.encrypted {
		return i, nil // Info can be told; ReadAt and Map refuse
	}
	if i.list, err = i.readSnapshots(); err != nil {
		return nil, err
	}
	if i.l1, err = i.readL1(h.l1Offset, h.l1Entries); err != nil {
		return nil, err
	}
	i.tables = newTableCache(i.clusterBytes())
	if h.external() {
		name := string(h.extension(extDataFile))
		if name == "" {
			return nil, disk.Damaged(int64(h.length), "its data is in another file, and the header does not name it")
		}
		if i.data, err = open.Open(name); err != nil {
			return nil, fmt.Errorf("data file %q: %w", name, err)
		}
	}
	return i, nil
}

func (h *header) external() bool { return h.incompatible&featDataFile != 0 }

func (i *Image) readL1(at int64, entries uint32) ([]uint64, error) {
	raw := make([]byte, int64(entries)*8)
	if _, err := i.src.ReadAt(raw, at); err != nil && len(raw) > 0 {
		return nil, disk.Damaged(at, "read L1 table: %v", err)
	}
	l1 := make([]uint64, entries)
	for n := range l1 {
		l1[n] = binary.BigEndian.Uint64(raw[n*8:])
	}
	return l1, nil
}

func (i *Image) Info() disk.Info {
	info := disk.Info{
		Format: Format, Variant: fmt.Sprintf("v%d", i.version), VirtualBytes: i.size, SectorBytes: 512, ID: i.id(),
		Linkage: i.id(),
		Parent:  i.header.parent(), Encrypted: i.encrypted, Clean: i.incompatible&(featDirty|featCorrupt) == 0,
	}
	for _, s := range i.list {
		info.Snapshots = append(info.Snapshots, s.Snapshot)
	}
	return info
}

func (i *Image) Close() error {
	var first error
	if c, ok := i.data.(io.Closer); ok && i.data != i.src {
		first = c.Close()
	}
	if i.closer != nil {
		if err := i.closer.Close(); err != nil {
			return err
		}
	}
	return first
}

// entry is an L2 entry; sub is the subcluster bitmap of an extended one.
type entry struct{ desc, sub uint64 }

// Map walks one L2 table for as long as the kind stays the same.
func (i *Image) Map(off int64) (disk.Range, error) {
	if off < 0 || off >= i.size {
		return disk.Range{}, disk.ErrRange
	}
	if i.encrypted {
		return disk.Range{}, disk.ErrEncrypted
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	perTable := i.clusterBytes() * i.tableEntries()
	n := off / perTable
	end := min((n+1)*perTable, i.size)
	if i.l1[n]&maskOffset == 0 {
		for end < i.size && i.l1[end/perTable]&maskOffset == 0 { // whole tables at a time
			end = min(end+perTable, i.size)
		}
		return disk.Range{Offset: off, Length: end - off, Kind: disk.Parent}, nil
	}
	table, err := i.table(n)
	if err != nil {
		return disk.Range{}, err
	}
	kind, at, err := i.kindAt(table, off)
	if err != nil {
		return disk.Range{}, err
	}
	if kind == disk.Parent { // long runs of nothing are what large disks are made of
		at = i.skipEmpty(table, at, end)
	}
	for at < end {
		k, next, err := i.kindAt(table, at)
		if err != nil || k != kind { // an error is told when the caller gets there
			break
		}
		at = next
	}
	return disk.Range{Offset: off, Length: min(at, end) - off, Kind: kind}, nil
}

// skipEmpty returns where the entries from guest byte at on cease to be zeros.
func (i *Image) skipEmpty(table []byte, at, end int64) int64 {
	if at&(i.clusterBytes()-1) != 0 {
		return at
	}
	size := i.entryBytes()
	for e := at >> i.clusterBits % i.tableEntries() * size; at < end && e < int64(len(table)); e += size {
		if binary.NativeEndian.Uint64(table[e:]) != 0 || size == 16 && binary.NativeEndian.Uint64(table[e+8:]) != 0 {
			break
		}
		at += i.clusterBytes()
	}
	return at
}

// kindAt tells of the cluster, or subcluster, that off lies in, and where it ends.
func (i *Image) kindAt(table []byte, off int64) (disk.Kind, int64, error) {
	e := i.entryAt(table, off)
	clusterEnd := (off>>i.clusterBits + 1) << i.clusterBits
	if !i.extended() || e.desc&flagCompressed != 0 {
		switch {
		case e.desc&flagCompressed != 0:
			return disk.Data, clusterEnd, nil
		case e.desc&flagZero != 0 && i.version == 3:
			return disk.Zero, clusterEnd, nil
		case e.desc&maskOffset != 0 || i.external() && e.desc&flagCopied != 0: // byte 0 of a data file is a place
			return disk.Data, clusterEnd, nil
		}
		return disk.Parent, clusterEnd, nil
	}
	subBytes := i.clusterBytes() / 32
	n := off & (i.clusterBytes() - 1) / subBytes
	end := off/subBytes*subBytes + subBytes
	allocated, zero := e.sub>>n&1 != 0, e.sub>>(32+n)&1 != 0
	switch {
	case allocated && zero:
		return 0, 0, disk.Damaged(0, "guest byte %d is both data and zero in its subcluster bitmap", off)
	case zero:
		return disk.Zero, end, nil
	case allocated:
		return disk.Data, end, nil
	}
	return disk.Parent, end, nil
}

func (i *Image) entryAt(table []byte, off int64) entry {
	at := off >> i.clusterBits % i.tableEntries() * i.entryBytes()
	e := entry{desc: binary.BigEndian.Uint64(table[at:])}
	if i.extended() {
		e.sub = binary.BigEndian.Uint64(table[at+8:])
	}
	return e
}

// table returns the bytes of the n-th L2 table; the lock is held.
func (i *Image) table(n int64) ([]byte, error) {
	at := int64(i.l1[n] & maskOffset)
	return i.tables.get(at, func(raw []byte) error {
		if at%i.clusterBytes() != 0 || at > i.src.Size()-i.clusterBytes() {
			return disk.Damaged(i.l1Offset+n*8, "L1 entry %d points to byte %d, not a cluster of the file", n, at)
		}
		_, err := i.src.ReadAt(raw, at)
		return err
	}, i.writeTable)
}

// ReadAt reads guest bytes of this layer; what is the parent's reads as zeros,
// unless the image was opened for writing with a parent.
func (i *Image) ReadAt(p []byte, off int64) (int, error) {
	if i.encrypted {
		return 0, disk.ErrEncrypted
	}
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= i.size {
			return done, io.EOF
		}
		n, err := i.readSome(p[done:], at)
		if err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// readSome reads a run that lies in one piece in the file.
func (i *Image) readSome(p []byte, off int64) (int, error) {
	r, err := i.Map(off)
	if err != nil {
		return 0, err
	}
	p = p[:min(int64(len(p)), r.Length)]
	if r.Kind != disk.Data {
		clear(p)
		if r.Kind == disk.Parent && i.below != nil {
			return len(p), readParent(i.below, p, off)
		}
		return len(p), nil
	}
	i.mu.Lock()
	table, err := i.table(off / (i.clusterBytes() * i.tableEntries()))
	if err != nil {
		i.mu.Unlock()
		return 0, err
	}
	first := i.entryAt(table, off)
	inCluster := off & (i.clusterBytes() - 1)
	if first.desc&flagCompressed != 0 {
		i.mu.Unlock()
		return i.readCompressed(p, first.desc, inCluster)
	}
	// Clusters that follow each other in the file are read in one go.
	host := int64(first.desc & maskOffset)
	n := min(int64(len(p)), i.clusterBytes()-inCluster)
	for n < int64(len(p)) {
		e := i.entryAt(table, off+n)
		if e.desc&flagCompressed != 0 || int64(e.desc&maskOffset) != host+inCluster+n {
			break
		}
		n = min(int64(len(p)), n+i.clusterBytes())
	}
	i.mu.Unlock()
	got, err := i.data.ReadAt(p[:n], host+inCluster)
	// The file may end within its last cluster, a data file before it.
	if end := i.data.Size(); err == io.EOF && (host+inCluster+n <= roundUp(end, i.clusterBytes()) || i.external()) {
		clear(p[got:n])
		err = nil
	}
	if err != nil {
		return 0, disk.Damaged(host+inCluster, "cluster of guest byte %d: %v", off, err)
	}
	return int(n), nil
}

func readParent(parent disk.Image, p []byte, off int64) error {
	size := parent.Info().VirtualBytes
	if off >= size {
		return nil
	}
	p = p[:min(int64(len(p)), size-off)]
	if n, err := parent.ReadAt(p, off); n < len(p) {
		return err
	}
	return nil
}

// compressedAt is where in the file a compressed cluster lies, and in how many
// bytes at most (section "Compressed Clusters Descriptor").
func (i *Image) compressedAt(desc uint64) (host, length int64) {
	x := 62 - (i.clusterBits - 8)
	host = int64(desc & (1<<x - 1))
	sectors := int64(desc&^(3<<62)>>x) + 1
	return host, min(sectors*512-host%512, i.src.Size()-host)
}

func (i *Image) compressedEnd(desc uint64) int64 {
	host, length := i.compressedAt(desc)
	return host + max(1, length)
}

// readCompressed inflates one cluster.
func (i *Image) readCompressed(p []byte, desc uint64, from int64) (int, error) {
	host, length := i.compressedAt(desc)
	if length <= 0 {
		return 0, disk.Damaged(host, "compressed cluster lies beyond the end of the file")
	}
	packed, plain := make([]byte, length), make([]byte, i.clusterBytes())
	if _, err := i.src.ReadAt(packed, host); err != nil && err != io.EOF {
		return 0, err
	}
	var err error
	if i.zstd {
		err = unpackZstd(plain, packed)
	} else {
		var n int
		if n, _, err = inflate.Raw(plain, packed); err == nil && n < len(plain) {
			err = io.ErrUnexpectedEOF
		}
	}
	if err != nil {
		return 0, disk.Damaged(host, "compressed cluster: %v", err)
	}
	return copy(p, plain[from:]), nil
}

func unpackZstd(plain, packed []byte) error {
	d, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20))
	if err != nil {
		return err
	}
	defer d.Close()
	_, err = io.ReadFull(d, plain)
	return err
}

// tableCache keeps L2 tables within a bound.
type tableCache struct {
	bytes int64
	most  int
	byAt  map[int64]*cached
	tick  uint64
}

type cached struct {
	raw   []byte
	dirty bool
	used  uint64
}

const cacheBytes = 16 << 20

func newTableCache(clusterBytes int64) *tableCache {
	return &tableCache{bytes: clusterBytes, most: max(4, int(cacheBytes/clusterBytes)), byAt: map[int64]*cached{}}
}

// get returns the table at a file offset, read by load if need be; store is
// called for a changed one that has to make room.
func (c *tableCache) get(at int64, load func([]byte) error, store func(int64, []byte) error) ([]byte, error) {
	c.tick++
	if t := c.byAt[at]; t != nil {
		t.used = c.tick
		return t.raw, nil
	}
	raw := make([]byte, c.bytes)
	if load != nil {
		if err := load(raw); err != nil {
			return nil, err
		}
	}
	if len(c.byAt) >= c.most {
		oldest := at
		age := uint64(math.MaxUint64)
		for k, t := range c.byAt {
			if t.used < age {
				oldest, age = k, t.used
			}
		}
		if t := c.byAt[oldest]; t.dirty {
			if err := store(oldest, t.raw); err != nil {
				return nil, err
			}
		}
		delete(c.byAt, oldest)
	}
	c.byAt[at] = &cached{raw: raw, used: c.tick}
	return raw, nil
}
