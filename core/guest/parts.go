package guest

import (
	"bytes"
	"encoding/binary"
	"io"
)

// part is a run of a disk that may hold a file system.
type part struct {
	start, bytes int64
	boot         bool // the EFI system partition
}

const mostParts = 128

// EFI system partition
var espType = []byte{0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b}

// partitions lists the partitions of a disk, and how it starts: "bios" with a
// boot record, "uefi" with an EFI system partition, "medium" for an ISO image,
// "" for not at all. A disk without a table is one partition.
func partitions(src io.ReaderAt, size int64) (parts []part, boot string) {
	head := make([]byte, sector)
	if n, _ := src.ReadAt(head, 0); n < sector {
		return nil, ""
	}
	volume := make([]byte, 6)
	if n, _ := src.ReadAt(volume, 16*2048); n == len(volume) && string(volume[1:6]) == "CD001" {
		return nil, "medium"
	}
	whole := []part{{0, size, false}}
	if head[510] != 0x55 || head[511] != 0xaa {
		return whole, ""
	}
	if bytes.Equal(head[3:11], []byte("NTFS    ")) || bytes.Equal(head[82:87], []byte("FAT32")) {
		return whole, "bios" // a volume's own boot sector
	}
	le := binary.LittleEndian
	for i := range 4 {
		e := head[446+16*i:]
		start, count := int64(le.Uint32(e[8:]))*sector, int64(le.Uint32(e[12:]))*sector
		switch {
		case e[4] == 0xee:
			return guidTable(src, size)
		case e[4] == 0xef:
			boot = "uefi"
			parts = append(parts, part{start, count, true})
		case e[4] == 0x05 || e[4] == 0x0f || e[4] == 0x85:
			parts = append(parts, logical(src, start, size)...)
		case e[4] != 0 && start > 0 && start < size:
			parts = append(parts, part{start, min(count, size-start), false})
		}
	}
	if boot == "" && !allZero(head[:440]) {
		boot = "bios"
	}
	if len(parts) == 0 {
		parts = whole
	}
	return parts, boot
}

func allZero(p []byte) bool { return len(bytes.Trim(p, "\x00")) == 0 }

// logical follows the chain of an extended partition.
func logical(src io.ReaderAt, base, size int64) (parts []part) {
	le := binary.LittleEndian
	for at := base; len(parts) < mostParts; {
		s := make([]byte, sector)
		if n, _ := src.ReadAt(s, at); n < sector || s[510] != 0x55 || s[511] != 0xaa {
			return parts
		}
		start, count := at+int64(le.Uint32(s[454:]))*sector, int64(le.Uint32(s[458:]))*sector
		if s[450] != 0 && start < size {
			parts = append(parts, part{start, min(count, size-start), false})
		}
		next := int64(le.Uint32(s[470:])) * sector
		if next == 0 || base+next <= at {
			return parts
		}
		at = base + next
	}
	return parts
}

// guidTable reads a GUID partition table (UEFI 2.10, section 5.3).
func guidTable(src io.ReaderAt, size int64) (parts []part, boot string) {
	le := binary.LittleEndian
	for _, block := range []int64{sector, 4096} {
		h := make([]byte, 92)
		if n, _ := src.ReadAt(h, block); n < len(h) || string(h[:8]) != "EFI PART" {
			continue
		}
		count, each := min(le.Uint32(h[80:]), mostParts), int64(le.Uint32(h[84:]))
		if each < 128 || each > 4096 {
			return nil, ""
		}
		at := int64(le.Uint64(h[72:])) * block
		for i := range int64(count) {
			e := make([]byte, 48)
			if n, _ := src.ReadAt(e, at+i*each); n < len(e) {
				break
			}
			start, end := int64(le.Uint64(e[32:]))*block, (int64(le.Uint64(e[40:]))+1)*block
			switch {
			case allZero(e[:16]):
			case bytes.Equal(e[:16], espType):
				boot = "uefi"
				parts = append(parts, part{start, end - start, true})
			case start > 0 && start < end && start < size:
				parts = append(parts, part{start, min(end, size) - start, false})
			}
		}
		return parts, boot
	}
	return nil, ""
}
