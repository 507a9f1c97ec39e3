package qcow2

import (
	"encoding/binary"

	"unvora.example/unvora/core/disk"
)

// eachTable calls f with every L2 table and raises next beyond all that the
// tables refer to, so that nothing in use is ever given out again.
func (i *Image) eachTable(f func(at int64, table []byte) error) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	seen := map[int64]bool{}
	size := i.src.Size()
	i.next = max(i.next, roundUp(i.l1Offset+int64(i.l1Entries)*8, i.clusterBytes()))
	for n := range i.l1 {
		at := int64(i.l1[n] & maskOffset)
		if at == 0 {
			continue
		}
		if seen[at] {
			return disk.Damaged(i.l1Offset+int64(n)*8, "two L1 entries share the L2 table at byte %d", at)
		}
		seen[at] = true
		table, err := i.table(int64(n))
		if err != nil {
			return err
		}
		i.next = max(i.next, at+i.clusterBytes())
		for e := int64(0); e < int64(len(table)); e += i.entryBytes() {
			d := binary.BigEndian.Uint64(table[e:])
			if host := int64(d & maskOffset); d&flagCompressed == 0 && host != 0 {
				if host >= size {
					return disk.Damaged(at+e, "L2 entry points to byte %d, beyond the end of the file", host)
				}
				i.next = max(i.next, host+i.clusterBytes())
			} else if d&flagCompressed != 0 {
				i.next = max(i.next, roundUp(i.compressedEnd(d), i.clusterBytes()))
			}
		}
		if err := f(at, table); err != nil {
			return err
		}
	}
	return nil
}

// writeRefcounts counts what header, L1 and L2 tables refer to and writes a
// fresh refcount table, followed by its blocks, after everything else.
func (i *Image) writeRefcounts() error {
	cb := i.clusterBytes()
	var counts []uint16
	use := func(off, length int64) {
		last := (off + length - 1) / cb
		for int64(len(counts)) <= last {
			counts = append(counts, make([]uint16, max(1024, last-int64(len(counts))+1))...)
		}
		for c := off / cb; c <= last; c++ {
			counts[c]++
		}
	}
	use(0, cb)
	use(i.l1Offset, max(1, int64(i.l1Entries)*8))
	err := i.eachTable(func(at int64, table []byte) error {
		use(at, cb)
		for e := int64(0); e < int64(len(table)); e += 8 {
			d := binary.BigEndian.Uint64(table[e:])
			if d&flagCompressed != 0 {
				host, _ := i.compressedAt(d)
				use(host, i.compressedEnd(d)-host)
			} else if host := int64(d & maskOffset); host != 0 {
				use(host, cb)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	// The refcount structures count themselves: grow until nothing is missing.
	perBlock := cb / 2
	start := i.next / cb
	var blocks, tableClusters int64
	for {
		total := start + blocks + tableClusters
		b := (total + perBlock - 1) / perBlock
		t := (b*8 + cb - 1) / cb
		if b == blocks && t == tableClusters {
			break
		}
		blocks, tableClusters = b, t
	}
	use(start*cb, (blocks+tableClusters)*cb)
	tableAt := start * cb
	table := make([]byte, tableClusters*cb)
	block := make([]byte, cb)
	for b := range blocks {
		at := tableAt + tableClusters*cb + b*cb
		binary.BigEndian.PutUint64(table[b*8:], uint64(at))
		clear(block)
		for k := range perBlock {
			if c := b*perBlock + k; c < int64(len(counts)) {
				binary.BigEndian.PutUint16(block[k*2:], counts[c])
			}
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
	i.next = (start + blocks + tableClusters) * cb
	i.refOffset, i.refClusters = tableAt, uint32(tableClusters)
	ref := binary.BigEndian.AppendUint64(nil, uint64(i.refOffset))
	ref = binary.BigEndian.AppendUint32(ref, i.refClusters)
	if _, err := i.file.WriteAt(ref, atRefTable); err != nil {
		return err
	}
	return i.file.Truncate(i.next)
}
