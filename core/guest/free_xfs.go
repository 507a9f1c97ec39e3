package guest

import (
	"context"
	"encoding/binary"
	"io"

	"unvora.example/unvora/core/disk"
)

// What of XFS is known here (XFS Algorithms & Data Structures, "Superblocks" and "AG Free Space Management").
const (
	// ftype, spinodes, meta_uuid, bigtime, nrext64, exchrange, parent
	xfsKnown    = 0x1 | 0x2 | 0x4 | 0x8 | 0x20 | 0x40 | 0x80
	xfsKnownRO  = 0x1 | 0x2 | 0x4 | 0x8 // finobt, rmapbt, reflink, inobtcount
	xfsSector   = 512                   // the unit of the log
	xfsDeepest  = 9                     // levels of a tree of free space
	xfsLogMagic = 0xfeedbabe
	xfsUnmount  = 0x20 // of the last record of a log: it was closed
	xfsLookBack = 1024 // sectors of the log in which that record is looked for
)

// freeXFS finds free extents by the tree of each allocation group, sorted by block. Their sum has to be what the group
// says.
func freeXFS(_ context.Context, v *io.SectionReader, put func(from, to int64)) error {
	be := binary.BigEndian
	sb := make([]byte, 264)
	if err := disk.ReadFull(v, sb, 0); err != nil {
		return err
	}
	block, each, groups := int64(be.Uint32(sb[4:])), int64(be.Uint32(sb[84:])), int64(be.Uint32(sb[88:]))
	blocks, sectorBytes := int64(be.Uint64(sb[8:])), int64(be.Uint16(sb[102:]))
	v5 := be.Uint16(sb[100:])&0xf == 5
	if block < 512 || block > 65536 || sectorBytes < 512 || sectorBytes > 32768 || blocks <= 0 ||
		blocks > v.Size()/block || each <= 0 || groups != (blocks+each-1)/each || !v5 && be.Uint16(sb[100:])&0xf != 4 {
		return errOdd("%d blocks of %d bytes", blocks, block)
	}
	ro, incompat := be.Uint32(sb[212:]), be.Uint32(sb[216:])
	if v5 && (ro&^xfsKnownRO != 0 || incompat&^xfsKnown != 0) {
		return errOdd("features %#x and %#x", incompat, ro)
	}
	start := be.Uint64(sb[48:])
	if start == 0 {
		return errOdd("its log is on another disk")
	}
	if sb[126] != 0 || v5 && be.Uint32(sb[220:]) != 0 {
		return errUnclean
	}
	shift := sb[124] // of a block's number within its group
	if shift > 31 {
		return errOdd("groups of 2^%d blocks", shift)
	}
	log := (int64(start>>shift)*each + int64(start&(1<<shift-1))) * block
	length := int64(be.Uint32(sb[96:])) * block
	if log <= 0 || length <= 0 || log > v.Size()-length {
		return errOdd("a log of %d bytes", length)
	}
	if err := closedXFS(io.NewSectionReader(v, log, length)); err != nil {
		return err
	}
	for g := range groups {
		agf := make([]byte, 64)
		if err := disk.ReadFull(v, agf, g*each*block+sectorBytes); err != nil {
			return err
		}
		count := min(each, blocks-g*each)
		if string(agf[:4]) != "XAGF" || int64(be.Uint32(agf[8:])) != g || int64(be.Uint32(agf[12:])) != count {
			return errOdd("the header of group %d", g)
		}
		t := xfsTree{v: v, v5: v5, block: block, base: g * each, count: count, put: put, left: count}
		if err := t.walk(int64(be.Uint32(agf[16:])), int(be.Uint32(agf[28:]))-1); err != nil {
			return err
		}
		if says := int64(be.Uint32(agf[52:])); t.free != says {
			return errOdd("group %d has %d free blocks, and says %d", g, t.free, says)
		}
	}
	return nil
}

// xfsTree is the tree of the free extents of a group.
type xfsTree struct {
	v           *io.SectionReader
	v5          bool
	block       int64
	base, count int64 // of the group, in blocks
	put         func(from, to int64)
	free, end   int64 // so far
	left        int64 // blocks of the tree that may still be read
}

// walk goes through a node, whose leaves are at level 0.
func (t *xfsTree) walk(at int64, level int) error {
	be := binary.BigEndian
	if t.left--; t.left < 0 || level < 0 || level >= xfsDeepest || at <= 0 || at >= t.count {
		return errOdd("block %d of a tree of free space", at)
	}
	b := make([]byte, t.block)
	if err := disk.ReadFull(t.v, b, (t.base+at)*t.block); err != nil {
		return err
	}
	magic, head := "ABTB", 16
	if t.v5 {
		magic, head = "AB3B", 56
	}
	records := int(be.Uint16(b[6:]))
	if string(b[:4]) != magic || int(be.Uint16(b[4:])) != level {
		return errOdd("block %d of a tree of free space", at)
	}
	most := (len(b) - head) / 8
	if level > 0 {
		most = (len(b) - head) / 12
	}
	if records > most {
		return errOdd("%d records in a tree of free space", records)
	}
	for i := range records {
		if level > 0 {
			if err := t.walk(int64(be.Uint32(b[head+8*most+4*i:])), level-1); err != nil {
				return err
			}
			continue
		}
		from, n := int64(be.Uint32(b[head+8*i:])), int64(be.Uint32(b[head+8*i+4:]))
		if n == 0 || from < t.end || from == 0 || from+n > t.count {
			return errOdd("%d free blocks at %d", n, from)
		}
		t.free, t.end = t.free+n, from+n
		t.put((t.base+from)*t.block, (t.base+from+n)*t.block)
	}
	return nil
}

// closedXFS tells whether the last record of a log says that the file system was closed. The log goes round: sectors of
// the newest round bear a higher number than those behind them (as above, "Journaling Log").
func closedXFS(log *io.SectionReader) error {
	be := binary.BigEndian
	n := log.Size() / xfsSector
	at := func(i int64) ([]byte, error) {
		b := make([]byte, xfsSector)
		return b, disk.ReadFull(log, b, (i+n)%n*xfsSector)
	}
	round := func(i int64) (uint32, error) {
		b, err := at(i)
		if err == nil && be.Uint32(b) == xfsLogMagic {
			return be.Uint32(b[4:]), nil
		}
		return be.Uint32(b), err
	}
	first, err := round(0)
	if err != nil {
		return err
	}
	last, err := round(n - 1)
	if err != nil {
		return err
	}
	head := n
	if first != last {
		low := int64(0) // of the newest round
		for low+1 < head {
			middle := (low + head) / 2
			is, err := round(middle)
			if err != nil {
				return err
			}
			if is == first {
				low = middle
			} else {
				head = middle
			}
		}
	}
	for back := int64(1); back <= min(xfsLookBack, n-1); back++ {
		h, err := at(head - back)
		if err != nil {
			return err
		}
		if be.Uint32(h) != xfsLogMagic {
			continue
		}
		heads := int64(1)
		if be.Uint32(h[8:])&2 != 0 {
			heads = max(1, (int64(be.Uint32(h[320:]))+32767)/32768)
		}
		op, err := at(head - back + heads)
		if err != nil {
			return err
		}
		if heads+(int64(be.Uint32(h[12:]))+xfsSector-1)/xfsSector == back && be.Uint32(h[40:]) == 1 &&
			op[9]&xfsUnmount != 0 {
			return nil
		}
		return errUnclean
	}
	return errUnclean
}
