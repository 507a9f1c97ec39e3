package guest

import (
	"cmp"
	"context"
	"encoding/binary"
	"io"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"unvora.example/unvora/core/disk"
)

// Features of ext4 with which its free space is found as without them (ext4 on-disk format, "The Super Block").
const (
	extValid    = 0x1     // s_state: it was closed
	extBroken   = 0x2     // s_state: an error was seen
	extRecover  = 0x4     // incompatible: the journal has to be replayed
	extExtents  = 0x40    // incompatible: files are told in runs
	extJournal  = 0x4     // compatible
	ext64       = 0x80    // incompatible: numbers of blocks have 64 bits
	extChecksum = 0x410   // read-only compatible: flags of groups count
	extOrphans  = 0x10000 // read-only compatible: it is in use
	// filetype, extents, 64bit, mmp, flex_bg, ea_inode, csum_seed, largedir, inline_data, encrypt, casefold
	extKnown = 0x2 | extExtents | ext64 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000
	// sparse_super, large_file, huge_file, gdt_csum, dir_nlink, extra_isize, quota, metadata_csum, readonly, project,
	// verity
	extKnownRO      = 0x1 | 0x2 | 0x8 | 0x10 | 0x20 | 0x40 | 0x100 | 0x400 | 0x1000 | 0x2000 | 0x8000
	extSparse       = 0x1   // read-only compatible: backups only in some groups
	extSparse2      = 0x200 // compatible: backups in two groups
	extNoBlocksUsed = 0x2   // of a group: its map was never written
	extMostGroups   = 1 << 20
)

// extKind tells by its super block which of the three it is.
func extKind(sb []byte) string {
	le := binary.LittleEndian
	switch {
	case le.Uint32(sb[0x60:])&extExtents != 0:
		return "ext4"
	case le.Uint32(sb[0x5c:])&extJournal != 0:
		return "ext3"
	}
	return "ext2"
}

// extVolume is an ext2, ext3 or ext4 file system.
type extVolume struct {
	block, first, blocks, each, groups int64 // bytes of a block; numbers of blocks; blocks of a group
	descBytes, gdt, tables             int64 // bytes of a descriptor; blocks of all, and of a group's inodes
	sparse, sparse2                    bool
	backups                            [2]uint32
}

// freeExt finds free blocks by the maps of the groups. Their number has to be what each group, and the whole, says; and
// none may hold what the file system itself needs.
func freeExt(ctx context.Context, v *io.SectionReader, put func(from, to int64)) error {
	le := binary.LittleEndian
	sb := make([]byte, 1024)
	if err := disk.ReadFull(v, sb, 1024); err != nil {
		return err
	}
	state, compat := le.Uint16(sb[0x3a:]), le.Uint32(sb[0x5c:])
	incompat, ro := le.Uint32(sb[0x60:]), le.Uint32(sb[0x64:])
	if state&extValid == 0 || state&extBroken != 0 || incompat&extRecover != 0 || ro&extOrphans != 0 {
		return errUnclean
	}
	if le.Uint32(sb[0x4c:]) == 0 || incompat&^extKnown != 0 || ro&^extKnownRO != 0 || le.Uint32(sb[0x18:]) > 6 {
		return errOdd("features %#x and %#x", incompat, ro)
	}
	high := func(at int) int64 {
		if incompat&ext64 == 0 {
			return 0
		}
		return int64(le.Uint32(sb[at:])) << 32
	}
	e := extVolume{block: 1024 << le.Uint32(sb[0x18:]), first: int64(le.Uint32(sb[0x14:])),
		blocks: int64(le.Uint32(sb[0x4:])) | high(0x150), each: int64(le.Uint32(sb[0x20:])), descBytes: 32,
		sparse: ro&extSparse != 0, sparse2: compat&extSparse2 != 0,
		backups: [2]uint32{le.Uint32(sb[0x24c:]), le.Uint32(sb[0x250:])}}
	if incompat&ext64 != 0 {
		e.descBytes = int64(le.Uint16(sb[0xfe:]))
	}
	if e.each <= 0 || e.each > 8*e.block || e.blocks <= e.first || e.blocks > v.Size()/e.block || e.first > 1 ||
		e.descBytes < 32 || e.descBytes > e.block || e.descBytes%8 != 0 {
		return errOdd("%d blocks of %d bytes", e.blocks, e.block)
	}
	e.groups = (e.blocks - e.first + e.each - 1) / e.each
	e.gdt = (e.groups*e.descBytes + e.block - 1) / e.block
	e.tables = (int64(le.Uint32(sb[0x28:]))*int64(le.Uint16(sb[0x58:])) + e.block - 1) / e.block
	if e.groups > extMostGroups || e.tables > e.each {
		return errOdd("%d groups, with %d blocks of inodes each", e.groups, e.tables)
	}
	descs := make([]byte, e.groups*e.descBytes)
	if err := disk.ReadFull(v, descs, (e.first+1)*e.block); err != nil {
		return err
	}
	desc := func(g int64) []byte { return descs[g*e.descBytes : (g+1)*e.descBytes] }
	wide := func(d []byte, low, high int) int64 {
		n := int64(le.Uint32(d[low:]))
		if e.descBytes >= 64 {
			n |= int64(le.Uint32(d[high:])) << 32
		}
		return n
	}
	type run struct{ from, to int64 }
	var own []run // blocks of the file system itself
	for g := range e.groups {
		d := desc(g)
		for _, r := range []run{{wide(d, 0x0, 0x20), 1}, {wide(d, 0x4, 0x24), 1}, {wide(d, 0x8, 0x28), e.tables}} {
			r.to += r.from
			if r.from <= e.first || r.to > e.blocks {
				return errOdd("group %d has block %d", g, r.from)
			}
			own = append(own, r)
		}
		if start := e.first + g*e.each; e.backup(g) {
			own = append(own, run{start, start + 1 + e.gdt + int64(le.Uint16(sb[0xce:]))})
		}
	}
	slices.SortFunc(own, func(a, b run) int { return cmp.Compare(a.from, b.from) })
	for i := range own[1:] {
		if own[i].to > own[i+1].from {
			return errOdd("block %d is needed for two things", own[i+1].from)
		}
	}
	total, at := int64(0), 0
	words := (e.each + 63) / 64
	raw := make([]byte, 8*words)
	for g := range e.groups {
		if err := ctx.Err(); err != nil {
			return err
		}
		start := e.first + g*e.each
		count := min(e.each, e.blocks-start)
		d := desc(g)
		fresh := ro&extChecksum != 0 && le.Uint16(d[0x12:])&extNoBlocksUsed != 0
		if clear(raw); !fresh {
			if err := disk.ReadFull(v, raw[:(e.each+7)/8], wide(d, 0x0, 0x20)*e.block); err != nil {
				return err
			}
		}
		used := bitset.New(uint(64 * words))
		for i := range used.Words() {
			used.Words()[i] = le.Uint64(raw[8*i:])
		}
		for n := count; n < 64*words; n++ { // there are no such blocks
			used.Set(uint(n))
		}
		for ; at < len(own) && own[at].to <= start; at++ {
		}
		for _, r := range own[at:] {
			if r.from >= start+count {
				break
			}
			for n := max(r.from, start); n < min(r.to, start+count); n++ {
				if !fresh && !used.Test(uint(n-start)) {
					return errOdd("block %d is free, and in use", n)
				}
				used.Set(uint(n - start))
			}
		}
		free := 64*words - int64(used.Count())
		says := int64(le.Uint16(d[0xc:]))
		if e.descBytes >= 64 {
			says |= int64(le.Uint16(d[0x2c:])) << 16
		}
		if free != says {
			return errOdd("group %d has %d free blocks, and says %d", g, free, says)
		}
		total += free
		for n := uint(0); n < uint(count); {
			from, ok := used.NextClear(n)
			if !ok {
				break
			}
			to, ok := used.NextSet(from)
			if !ok {
				to = uint(count)
			}
			put((start+int64(from))*e.block, (start+int64(to))*e.block)
			n = to
		}
	}
	if says := int64(le.Uint32(sb[0xc:])) | high(0x158); total != says {
		return errOdd("%d blocks are free, and it says %d", total, says)
	}
	return nil
}

// backup tells whether a group begins with the super block, or a copy of it, and the descriptors.
func (e *extVolume) backup(g int64) bool {
	switch {
	case g == 0 || !e.sparse && !e.sparse2:
		return true
	case e.sparse2:
		return g == int64(e.backups[0]) || g == int64(e.backups[1])
	case g == 1:
		return true
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < g {
			n *= base
		}
		if n == g {
			return true
		}
	}
	return false
}
