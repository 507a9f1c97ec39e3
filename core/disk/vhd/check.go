package vhd

import (
	"fmt"

	"unvora.example/unvora/core/disk"
)

// Check compares the footers, and looks whether blocks lie in the file and
// apart from each other.
func Check(src disk.Source) ([]disk.Problem, error) {
	i, err := Open(src)
	if err != nil {
		return nil, err
	}
	var ps disk.Problems
	if i.footerMissing != nil {
		ps.Add(disk.Problem{
			Offset: src.Size(), What: fmt.Sprintf("the footer at the end is missing or damaged: %v", i.footerMissing),
			Repair: "write the footer at the end anew, from its copy at the front",
			Fix:    func(f disk.File) error { return restore(f, i, roundUp(f.Size(), sectorBytes)) },
		})
	}
	if i.header == nil {
		return ps.All(), nil
	}
	if front, err := readFooter(src, 0); err != nil || *front != i.footer {
		ps.Add(disk.Problem{
			What: "the copy of the footer at the front differs from the footer", Harmless: true,
			Repair: "write the copy of the footer anew, from the footer at the end",
			Fix:    func(f disk.File) error { return restore(f, i, 0) },
		})
	}
	var places []disk.Place
	for n, sector := range i.table {
		if sector == unallocated {
			continue
		}
		at := int64(sector) * sectorBytes
		end := at + i.bitmapBytes() + min(i.block, i.size-int64(n)*i.block)
		if at < i.tableAt+int64(len(i.table))*4 || end > src.Size() {
			ps.Damaged(i.tableAt+int64(n)*4, "block %d, guest bytes from %d, lies at byte %d: outside the file's data",
				n, int64(n)*i.block, at)
			continue
		}
		places = append(places, disk.Place{At: at, Length: end - at, Entry: n})
	}
	disk.Overlaps(places, func(a, b disk.Place) {
		ps.Damaged(i.tableAt+int64(b.Entry)*4, "block %d shares byte %d of the file with block %d", b.Entry, b.At,
			a.Entry)
	})
	return ps.All(), nil
}

func restore(f disk.File, i *Image, at int64) error {
	if _, err := f.WriteAt(i.footer.encode(), at); err != nil {
		return err
	}
	return f.Sync()
}
