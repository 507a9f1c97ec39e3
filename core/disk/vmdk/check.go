package vmdk

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"

	"unvora.example/unvora/core/disk"
)

// Check looks whether grains lie in the file and apart from each other, and
// whether both grain directories tell the same. Grains of a compressed image
// are unpacked. Of an image of several files the parts are looked at, and
// nothing is repaired.
func Check(src disk.Source, open disk.Opener) ([]disk.Problem, error) {
	i, err := Open(src, open)
	if err != nil {
		return nil, err
	}
	for _, p := range i.parts { // src stays the caller's
		if s, ok := p.extent.(*sparse); ok && s.src != src {
			defer closeSource(s.src)
		} else if f, ok := p.extent.(flat); ok {
			defer closeSource(f.src)
		}
	}
	var ps disk.Problems
	for n, p := range i.parts {
		s, ok := p.extent.(*sparse)
		if !ok {
			continue
		}
		var own disk.Problems
		if err := s.check(&own); err != nil {
			return nil, err
		}
		for _, problem := range own.All() {
			if s.src != src {
				problem.What = fmt.Sprintf("extent %d: %s", n+1, problem.What)
				problem.Repair, problem.Fix = "", nil
			}
			ps.Add(problem)
		}
	}
	return ps.All(), nil
}

func closeSource(s disk.Source) {
	if c, ok := s.(io.Closer); ok {
		c.Close()
	}
}

func (i *sparse) check(ps *disk.Problems) error {
	if i.unclean {
		ps.Add(disk.Problem{
			Offset: atUnclean, What: "it was not closed properly", Harmless: true,
			Repair: "take the mark away: the format keeps no log",
			Fix: func(f disk.File) error {
				if _, err := f.WriteAt([]byte{0}, atUnclean); err != nil {
					return err
				}
				return f.Sync()
			},
		})
	}
	if i.flags&flagRedundant != 0 && i.flags&flagCompressed == 0 {
		i.compare(ps)
	}
	seen := make([]uint64, i.src.Size()/i.grainBytes()/64+2)
	buf := make([]byte, i.grainBytes())
	for n := range i.header.tables() {
		table, err := i.table(n)
		if err != nil {
			return err
		}
		for k, sector := range table {
			if i.kind(sector) != disk.Data {
				continue
			}
			at := int64(sector) * sectorBytes
			guest := (n*int64(i.entries) + int64(k)) * i.grainBytes()
			entryAt := int64(i.directory[n])*sectorBytes + int64(k)*4
			if guest >= i.bytes() {
				continue
			}
			if at < int64(i.overhead)*sectorBytes || at >= i.src.Size() {
				ps.Damaged(entryAt, "the grain of guest byte %d lies at byte %d: outside the file's data", guest, at)
				continue
			}
			if i.flags&flagCompressed != 0 {
				if err := i.readGrain(buf[:min(i.grainBytes(), i.bytes()-guest)], at, 0,
					guest/sectorBytes); err != nil {
					ps.Damaged(at, "%v", err)
				}
				continue
			}
			if at+min(i.grainBytes(), i.bytes()-guest) > i.src.Size() {
				ps.Damaged(entryAt, "the grain of guest byte %d runs out of the file", guest)
			}
			slot := at / i.grainBytes()
			if seen[slot/64]>>(slot%64)&1 != 0 {
				ps.Damaged(entryAt, "the grain of guest byte %d shares byte %d of the file with another", guest, at)
			}
			seen[slot/64] |= 1 << (slot % 64)
		}
	}
	return nil
}

// compare holds the two directories against each other.
func (i *sparse) compare(ps *disk.Problems) {
	if i.redundant {
		ps.Add(disk.Problem{
			Offset: int64(i.directoryAt) * sectorBytes, What: "the grain directory can't be used; the redundant one is",
			Harmless: true,
			Repair:   "write the grain directory anew, from the redundant one",
			Fix:      func(f disk.File) error { return copyDirectory(f, i, i.redundantAt, i.directoryAt) },
		})
		return
	}
	other, err := i.readDirectory(i.redundantAt)
	differs := err != nil
	for n := int64(0); n < int64(len(i.directory)) && !differs; n++ {
		mine, err := i.table(n)
		if err != nil {
			return // told by the caller
		}
		raw := make([]byte, i.entries*4)
		if other[n] != 0 {
			_, err = i.src.ReadAt(raw, int64(other[n])*sectorBytes)
		}
		differs = err != nil || mine != nil && !slices.Equal(mine, words(raw))
	}
	if differs {
		ps.Add(disk.Problem{
			Offset: int64(i.redundantAt) * sectorBytes, What: "the redundant grain directory differs from the first",
			Harmless: true,
			Repair:   "write the redundant grain directory anew, from the first",
			Fix:      func(f disk.File) error { return copyDirectory(f, i, i.directoryAt, i.redundantAt) },
		})
	}
}

// copyDirectory writes the tables of one directory over those of the other,
// which lie as its writer laid them: behind it, one after the other.
func copyDirectory(f disk.File, i *sparse, from, to uint64) error {
	source, err := i.readDirectory(from)
	if err != nil {
		return err
	}
	sectors := (int64(len(source))*4 + sectorBytes - 1) / sectorBytes
	tableBytes := int64(i.entries) * 4
	room := (max(int64(from), int64(to)) - min(int64(from), int64(to))) * sectorBytes
	if sectors*sectorBytes+int64(len(source))*tableBytes > room {
		return fmt.Errorf("%w: the directory's tables do not lie behind it", disk.ErrVariant)
	}
	first := int64(to)*sectorBytes + sectors*sectorBytes
	raw := make([]byte, 0, len(source)*4)
	table := make([]byte, tableBytes)
	for n, sector := range source {
		clear(table)
		if sector != 0 {
			if _, err := f.ReadAt(table, int64(sector)*sectorBytes); err != nil {
				return err
			}
		}
		at := first + int64(n)*tableBytes
		if _, err := f.WriteAt(table, at); err != nil {
			return err
		}
		raw = binary.LittleEndian.AppendUint32(raw, uint32(at/sectorBytes))
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if _, err := f.WriteAt(raw, int64(to)*sectorBytes); err != nil {
		return err
	}
	return f.Sync()
}
