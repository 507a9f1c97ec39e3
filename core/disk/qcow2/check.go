package qcow2

import (
	"encoding/binary"
	"fmt"
	"io"

	"unvora.example/unvora/core/disk"
)

// mostClusters is how many clusters a check keeps count of, in 2 bytes each.
const mostClusters = 1 << 28

// Check counts all references anew and compares them with the refcounts.
func Check(src disk.Source, open disk.Opener) ([]disk.Problem, error) {
	i, err := Open(src, open)
	if err != nil {
		return nil, err
	}
	if i.encrypted {
		return nil, disk.ErrEncrypted
	}
	if c, ok := i.data.(io.Closer); ok && i.data != src { // src stays the caller's
		defer c.Close()
	}
	if src.Size()>>i.clusterBits > mostClusters {
		return nil, fmt.Errorf("%w: more than %d clusters", disk.ErrVariant, mostClusters)
	}
	var ps disk.Problems
	c := &counts{bits: i.clusterBits}
	cb := i.clusterBytes()
	err = i.references(func(from, off, length int64) bool {
		if off < 0 || length < 0 || off > src.Size()-1 || length > src.Size() {
			ps.Damaged(from, "a reference to byte %d leads out of the file", off)
			return false
		}
		if length == cb && off%cb != 0 {
			ps.Damaged(from, "a reference to byte %d does not meet a cluster", off)
			return false
		}
		c.add(off, length)
		return true
	})
	if err != nil {
		return nil, err
	}
	i.checkShared(&ps, c)
	damaged := len(ps.List) > 0
	recount := disk.Problem{Repair: "count all references anew",
		Fix: func(f disk.File) error { return Recount(f, open) }}
	if damaged {
		recount.Repair, recount.Fix = "", nil
	}
	found := func(at int64, harmless bool, format string, args ...any) {
		p := recount
		p.Offset, p.Harmless, p.What = at, harmless, fmt.Sprintf(format, args...)
		ps.Add(p)
	}
	if i.incompatible&featDirty != 0 {
		found(atIncompatible, false, "it was not closed properly: its reference counts were not kept up")
	}
	if i.incompatible&featCorrupt != 0 {
		found(atIncompatible, false, "it is marked as corrupt by whoever wrote to it last")
	}
	leaked, low, err := i.compareRefcounts(c)
	if err != nil {
		found(i.refOffset, false, "the reference counts can't be read: %v", err)
		return ps.All(), nil
	}
	if leaked.n > 0 {
		found(leaked.first, true, "%d clusters (%d bytes) are counted as used and nothing refers to them", leaked.n,
			leaked.n*cb)
	}
	if low.n > 0 {
		found(low.first, false, "%d clusters are in use more often than their reference counts say: what is written "+
			"next "+
			"could go over them", low.n)
	}
	if n, at := i.wrongCopied(c); n > 0 {
		found(at, false, "%d entries of the tables are wrong about whether their cluster is theirs alone", n)
	}
	return ps.All(), nil
}

// checkShared looks for clusters with two owners, where there is no snapshot
// that they could be shared with.
func (i *Image) checkShared(ps *disk.Problems, c *counts) {
	if len(i.list) > 0 {
		return
	}
	seen := map[int64]bool{} // only of clusters with more than one reference
	compressed := map[int64]bool{}
	_ = i.eachTable(i.l1Offset, i.l1, func(int64, int64, int64) bool { return true },
		func(at int64, table []byte) error {
			for e := int64(0); e < int64(len(table)); e += i.entryBytes() {
				if d := binary.BigEndian.Uint64(table[e:]); d&flagCompressed != 0 {
					host, _ := i.compressedAt(d)
					for k := host >> i.clusterBits; k <= (i.compressedEnd(d)-1)>>i.clusterBits; k++ {
						compressed[k] = true // several may share a cluster
					}
				}
			}
			return nil
		})
	_ = i.references(func(from, off, length int64) bool {
		if off < 0 || length < 0 || off > i.src.Size()-1 || length > i.src.Size() {
			return false
		}
		for k := off >> i.clusterBits; k <= (off+max(1, length)-1)>>i.clusterBits; k++ {
			if c.of(k) < 2 || compressed[k] {
				continue
			}
			if seen[k] {
				ps.Damaged(from, "byte %d of the file is referred to more than once", k<<i.clusterBits)
			}
			seen[k] = true
		}
		return true
	})
}

// tally is a number of clusters, with the first one's byte in the file.
type tally struct{ n, first int64 }

func (t *tally) add(at int64) {
	if t.n++; t.n == 1 {
		t.first = at
	}
}

// compareRefcounts reads the stored refcounts. c is told of the structures
// that hold them.
func (i *Image) compareRefcounts(c *counts) (leaked, low tally, err error) {
	cb := i.clusterBytes()
	tableBytes := int64(i.refClusters) * cb
	if tableBytes > maxTableBytes || i.refOffset <= 0 || i.refOffset > i.src.Size()-tableBytes {
		return leaked, low, disk.Damaged(atRefTable, "the refcount table of %d bytes at byte %d does not lie in the "+
			"file",
			tableBytes, i.refOffset)
	}
	table := make([]byte, tableBytes)
	if _, err := i.src.ReadAt(table, i.refOffset); err != nil && tableBytes > 0 {
		return leaked, low, err
	}
	c.add(i.refOffset, tableBytes)
	for e := int64(0); e < tableBytes; e += 8 {
		at := int64(binary.BigEndian.Uint64(table[e:]) &^ 511)
		if at == 0 {
			continue
		}
		if at < 0 || at%cb != 0 || at > i.src.Size()-1 {
			return leaked, low, disk.Damaged(i.refOffset+e, "refcount block at byte %d does not lie in the file", at)
		}
		c.add(at, cb)
	}
	width := uint32(1) << i.refOrder
	perBlock := cb * 8 / int64(width)
	block := make([]byte, cb)
	clusters := max((i.src.Size()+cb-1)/cb, c.end()/cb)
	for first := int64(0); first < clusters; first += perBlock {
		clear(block)
		if e := first / perBlock * 8; e < tableBytes {
			if at := int64(binary.BigEndian.Uint64(table[e:]) &^ 511); at != 0 {
				if n, err := i.src.ReadAt(block, at); n == 0 {
					return leaked, low, disk.Damaged(at, "read refcount block: %v", err)
				}
			}
		}
		for k := first; k < min(first+perBlock, clusters); k++ {
			stored, have := refcount(block, k-first, width), uint64(c.of(k))
			if stored > have {
				leaked.add(k * cb)
			} else if stored < have {
				low.add(k * cb)
			}
		}
	}
	return leaked, low, nil
}

// refcount reads the n-th count of width bits; narrow ones begin at the low bits.
func refcount(block []byte, n int64, width uint32) uint64 {
	switch {
	case width < 8:
		bit := n * int64(width)
		return uint64(block[bit/8]) >> (bit % 8) & (1<<width - 1)
	case width == 8:
		return uint64(block[n])
	case width == 16:
		return uint64(binary.BigEndian.Uint16(block[n*2:]))
	case width == 32:
		return uint64(binary.BigEndian.Uint32(block[n*4:]))
	}
	return binary.BigEndian.Uint64(block[n*8:])
}

// wrongCopied counts the entries of the active tables whose flag "copied" does
// not match whether their cluster is referred to once.
func (i *Image) wrongCopied(c *counts) (n, first int64) {
	var t tally
	_ = i.eachEntry(func(at int64, entry uint64) (uint64, bool) {
		if fixed := i.withCopied(entry, c); fixed != entry {
			t.add(at)
		}
		return entry, false
	})
	return t.n, t.first
}

func (i *Image) withCopied(entry uint64, c *counts) uint64 {
	if entry&flagCompressed != 0 || entry&maskOffset == 0 {
		return entry
	}
	if c.of(int64(entry&maskOffset)>>i.clusterBits) == 1 {
		return entry | flagCopied
	}
	return entry &^ flagCopied
}

// eachEntry calls f with every entry of the L1 table and of its L2 tables, and
// writes those that it changes. Data in another file has no counts.
func (i *Image) eachEntry(f func(at int64, entry uint64) (uint64, bool)) error {
	write := func(at int64, entry uint64) error {
		_, err := i.file.WriteAt(binary.BigEndian.AppendUint64(nil, entry), at)
		return err
	}
	for n := range i.l1 {
		at := i.l1Offset + int64(n)*8
		if e, changed := f(at, i.l1[n]); changed {
			i.l1[n] = e
			if err := write(at, e); err != nil {
				return err
			}
		}
	}
	inside := func(_, off, length int64) bool { return off >= 0 && off <= i.src.Size()-length }
	return i.eachTable(i.l1Offset, i.l1, inside, func(tableAt int64, table []byte) error {
		if i.external() {
			return nil
		}
		for k := int64(0); k < int64(len(table)); k += i.entryBytes() {
			if e, changed := f(tableAt+k, binary.BigEndian.Uint64(table[k:])); changed {
				if err := write(tableAt+k, e); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Recount writes new refcounts behind everything in the file, points the header
// to them, sets the flags "copied" right and takes the marks of an unclean end away.
func Recount(f disk.File, open disk.Opener) error {
	i, err := Open(f, open)
	if err != nil {
		return err
	}
	i.file = f
	c, err := i.count()
	if err != nil {
		return err
	}
	if err := i.writeRefcounts(c, f.Size()); err != nil {
		return err
	}
	err = i.eachEntry(func(_ int64, entry uint64) (uint64, bool) {
		fixed := i.withCopied(entry, c)
		return fixed, fixed != entry
	})
	if err != nil {
		return err
	}
	if err := f.Sync(); err != nil || i.version < 3 {
		return err
	}
	i.incompatible &^= featDirty | featCorrupt
	if _, err := f.WriteAt(binary.BigEndian.AppendUint64(nil, i.incompatible), atIncompatible); err != nil {
		return err
	}
	return f.Sync()
}
