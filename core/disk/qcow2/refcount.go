package qcow2

import (
	"encoding/binary"
	"fmt"
	"math"

	"unvora.example/unvora/core/disk"
)

const mostSnapshots = 1000

// use is called for a run of bytes of the file that something refers to; from
// is the byte where the reference stands. It tells whether the run lies in the file.
type use func(from, off, length int64) bool

// eachTable calls f with every L2 table of an L1 table that use takes.
func (i *Image) eachTable(l1At int64, l1 []uint64, use use, f func(at int64, table []byte) error) error {
	raw := make([]byte, i.clusterBytes())
	seen := map[int64]bool{} // a damaged table may name one table many times
	for n := range l1 {
		at := int64(l1[n] & maskOffset)
		if at == 0 || !use(l1At+int64(n)*8, at, i.clusterBytes()) {
			continue
		}
		if seen[at] {
			continue
		}
		seen[at] = true
		if t := i.tables.byAt[at]; t != nil {
			copy(raw, t.raw)
		} else if _, err := i.src.ReadAt(raw, at); err != nil {
			return disk.Damaged(at, "read L2 table: %v", err)
		}
		if err := f(at, raw); err != nil {
			return err
		}
	}
	return nil
}

// references tells use of everything that the image refers to, except by its
// refcounts: header, tables, data, snapshots, bitmaps.
func (i *Image) references(use use) error {
	use(0, 0, i.clusterBytes())
	if err := i.referencesOf(i.l1Offset, i.l1, use); err != nil {
		return err
	}
	if len(i.list) > mostSnapshots {
		return fmt.Errorf("%w: references of more than %d snapshots are not counted", disk.ErrVariant, mostSnapshots)
	}
	for _, s := range i.list {
		l1, err := i.readL1(s.l1Offset, s.l1Entries)
		if err != nil {
			return err
		}
		if err := i.referencesOf(s.l1Offset, l1, use); err != nil {
			return err
		}
	}
	if n := len(i.list); n > 0 {
		use(64, i.snapshotsAt, i.list[n-1].end-i.snapshotsAt)
	}
	if c := i.extension(extCrypto); len(c) >= 16 {
		use(0, int64(binary.BigEndian.Uint64(c)), int64(binary.BigEndian.Uint64(c[8:])))
	}
	return i.bitmapReferences(use)
}

func (i *Image) referencesOf(l1At int64, l1 []uint64, use use) error {
	cb := i.clusterBytes()
	use(40, l1At, max(1, int64(len(l1))*8))
	return i.eachTable(l1At, l1, use, func(at int64, table []byte) error {
		for e := int64(0); e < cb; e += i.entryBytes() {
			d := binary.BigEndian.Uint64(table[e:])
			if d&flagCompressed != 0 {
				host, _ := i.compressedAt(d)
				use(at+e, host, i.compressedEnd(d)-host)
			} else if host := int64(d & maskOffset); host != 0 && !i.external() {
				use(at+e, host, cb)
			}
		}
		return nil
	})
}

// bitmapReferences follows the directory of dirty bitmaps (section "Bitmaps").
func (i *Image) bitmapReferences(use use) error {
	be := binary.BigEndian
	x := i.extension(extBitmaps)
	if len(x) < 24 {
		return nil
	}
	size, at := int64(be.Uint64(x[8:])), int64(be.Uint64(x[16:]))
	if size < 0 || size > maxTableBytes || !use(0, at, size) {
		return nil
	}
	budget := 2 * i.src.Size() // a damaged directory may name one table many times
	directory := make([]byte, size)
	if _, err := i.src.ReadAt(directory, at); err != nil {
		return disk.Damaged(at, "read bitmap directory: %v", err)
	}
	for len(directory) >= 24 {
		tableAt, entries := int64(be.Uint64(directory)), int64(be.Uint32(directory[8:]))
		length := roundUp(24+int64(be.Uint16(directory[18:]))+int64(be.Uint32(directory[20:])), 8)
		if budget -= entries * 8; budget < 0 {
			return disk.Damaged(at, "the bitmaps name more tables than the file can hold")
		}
		if entries*8 <= maxTableBytes && use(at, tableAt, max(1, entries*8)) {
			table := make([]byte, entries*8)
			if _, err := i.src.ReadAt(table, tableAt); err != nil && entries > 0 {
				return disk.Damaged(tableAt, "read bitmap table: %v", err)
			}
			for e := int64(0); e < entries*8; e += 8 {
				if host := int64(be.Uint64(table[e:]) & maskOffset); host != 0 {
					use(tableAt+e, host, i.clusterBytes())
				}
			}
		}
		at += length
		directory = directory[min(length, int64(len(directory))):]
	}
	return nil
}

// counts is how often each cluster of the file is referred to.
type counts struct {
	bits uint32
	n    []uint16
}

func (c *counts) add(off, length int64) {
	first, last := off>>c.bits, (off+max(1, length)-1)>>c.bits
	if last >= int64(len(c.n)) {
		c.n = append(c.n, make([]uint16, max(1024, last-int64(len(c.n))+1))...)
	}
	for k := first; k <= last; k++ {
		if c.n[k] < math.MaxUint16 {
			c.n[k]++
		}
	}
}

func (c *counts) of(cluster int64) uint16 {
	if cluster < int64(len(c.n)) {
		return c.n[cluster]
	}
	return 0
}

// end is the byte behind the last cluster that is referred to.
func (c *counts) end() int64 {
	n := len(c.n)
	for n > 0 && c.n[n-1] == 0 {
		n--
	}
	return int64(n) << c.bits
}

// count counts all references; one that leads out of the file is an error.
func (i *Image) count() (*counts, error) {
	c := &counts{bits: i.clusterBits}
	var wrong error
	most := max(i.next, i.src.Size())
	err := i.references(func(from, off, length int64) bool {
		if off < 0 || length < 0 || off > most-min(length, 1) || length > most {
			if wrong == nil {
				wrong = disk.Damaged(from, "a reference to byte %d leads out of the file", off)
			}
			return false
		}
		c.add(off, length)
		return true
	})
	if err == nil {
		err = wrong
	}
	return c, err
}

// writeRefcounts writes a fresh refcount table of 16-bit counts, followed by
// its blocks, at start or behind everything else that is in use.
func (i *Image) writeRefcounts(c *counts, start int64) error {
	cb := i.clusterBytes()
	// The refcount structures count themselves: grow until nothing is missing.
	perBlock := cb / 2
	first := max(roundUp(start, cb), c.end()) / cb
	var blocks, tableClusters int64
	for {
		total := first + blocks + tableClusters
		b := (total + perBlock - 1) / perBlock
		t := (b*8 + cb - 1) / cb
		if b == blocks && t == tableClusters {
			break
		}
		blocks, tableClusters = b, t
	}
	c.add(first*cb, (blocks+tableClusters)*cb)
	tableAt := first * cb
	table := make([]byte, tableClusters*cb)
	block := make([]byte, cb)
	for b := range blocks {
		at := tableAt + tableClusters*cb + b*cb
		binary.BigEndian.PutUint64(table[b*8:], uint64(at))
		clear(block)
		for k := range perBlock {
			binary.BigEndian.PutUint16(block[k*2:], c.of(b*perBlock+k))
		}
		if _, err := i.file.WriteAt(block, at); err != nil {
			return err
		}
	}
	if _, err := i.file.WriteAt(table, tableAt); err != nil {
		return err
	}
	if err := i.file.Sync(); err != nil {
		return err
	}
	i.next = (first + blocks + tableClusters) * cb
	i.refOffset, i.refClusters, i.refOrder = tableAt, uint32(tableClusters), 4
	// All that points to them lies in the first sector and goes out as one.
	head := make([]byte, i.length)
	if _, err := i.file.ReadAt(head, 0); err != nil {
		return err
	}
	binary.BigEndian.PutUint64(head[atRefTable:], uint64(i.refOffset))
	binary.BigEndian.PutUint32(head[atRefClusters:], i.refClusters)
	if i.version == 3 {
		binary.BigEndian.PutUint32(head[atRefOrder:], i.refOrder)
	}
	if _, err := i.file.WriteAt(head, 0); err != nil {
		return err
	}
	return i.file.Truncate(i.next)
}
