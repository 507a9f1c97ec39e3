package vhdx

import (
	"fmt"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

// Check looks at both headers, both region tables, the log, and whether blocks
// lie in the file and apart from each other.
func Check(src disk.Source) ([]disk.Problem, error) {
	i, err := Open(src)
	if err != nil {
		return nil, err
	}
	var ps disk.Problems
	if i.log != nil {
		ps.Add(disk.Problem{
			Offset: i.logAt, What: fmt.Sprintf("it was not closed properly: its log holds %d entries that are not in "+
				"place",
				i.log.entries),
			Repair: "write what the log holds to its place", Fix: func(f disk.File) error { return replay(f) },
		})
	}
	for n, at := range []int64{header1At, header2At} {
		if i.headers[n] == nil {
			continue
		}
		ps.Add(disk.Problem{
			Offset: at, What: fmt.Sprintf("one of the two headers can't be used: %v", i.headers[n]), Harmless: true,
			Repair: fmt.Sprintf("write the header at byte %d anew, from the other one", at),
			Fix: func(f disk.File) error {
				i, err := Open(f)
				if err != nil {
					return err
				}
				return i.turn(f, func(*header) {})
			},
		})
	}
	for n, at := range []int64{region1At, region2At} {
		if i.tables[n] == nil {
			continue
		}
		ps.Add(disk.Problem{
			Offset: at, What: fmt.Sprintf("one of the two region tables can't be used: %v", i.tables[n]),
			Harmless: true,
			Repair:   fmt.Sprintf("write the region table at byte %d anew, from the other one", at),
			Fix:      func(f disk.File) error { return copyRegions(f, region1At+region2At-at, at) },
		})
	}
	i.checkBlocks(&ps)
	return ps.All(), nil
}

func (i *Image) checkBlocks(ps *disk.Problems) {
	var places []disk.Place
	for k, e := range i.table {
		length, what := i.block, "block"
		if int64(k)%(i.chunk()+1) == i.chunk() {
			length, what = bitmapBlock, "sector bitmap"
		}
		s, at := state(e), hostByte(e)
		switch {
		case s == 4 || s == 5 || s == partial && !i.parent || what == "sector bitmap" && s != notPresent &&
			s != present:
			ps.Damaged(i.bat.at+int64(k)*8, "entry %d of the block table, a %s, is in state %d", k, what, s)
		case s != present && s != partial:
		case at < i.bat.at && at < mib || at+length > i.src.Size():
			ps.Damaged(i.bat.at+int64(k)*8, "entry %d of the block table, a %s, points to byte %d: outside the "+
				"file's data", k,
				what, at)
		default:
			places = append(places, disk.Place{At: at, Length: length, Entry: k})
		}
	}
	disk.Overlaps(places, func(a, b disk.Place) {
		ps.Damaged(i.bat.at+int64(b.Entry)*8, "entries %d and %d of the block table share byte %d of the file", a.Entry,
			b.Entry, b.At)
	})
}

// replay puts the log's contents in place and then says that it is empty.
func replay(f disk.File) error {
	i, err := Open(f)
	if err != nil || i.log == nil {
		return err
	}
	if err := i.log.apply(f); err != nil {
		return err
	}
	return i.turn(f, func(h *header) { h.logID = uuid.UUID{} })
}

func copyRegions(f disk.File, from, to int64) error {
	raw := make([]byte, regionBytes)
	if _, err := f.ReadAt(raw, from); err != nil {
		return err
	}
	if _, err := f.WriteAt(raw, to); err != nil {
		return err
	}
	return f.Sync()
}
