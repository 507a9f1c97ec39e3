package qcow2

import (
	"encoding/binary"
	"fmt"
	"time"

	"unvora.example/unvora/core/disk"
)

// snapshot is an entry of the snapshot table (section "Snapshots").
type snapshot struct {
	disk.Snapshot
	l1Offset  int64
	l1Entries uint32
	end       int64 // byte of the file behind the entry
}

const (
	maxSnapshots     = 65536
	maxSnapshotExtra = 1024
)

func (i *Image) readSnapshots() ([]snapshot, error) {
	if i.snapshots > maxSnapshots {
		return nil, disk.Damaged(60, "%d snapshots", i.snapshots)
	}
	var list []snapshot
	be := binary.BigEndian
	at := i.snapshotsAt
	for n := range i.snapshots {
		head := make([]byte, 40)
		if _, err := i.src.ReadAt(head, at); at < 0 || err != nil {
			return nil, disk.Damaged(at, "read entry %d of the snapshot table: %v", n, err)
		}
		idLength, nameLength, extra := int(be.Uint16(head[12:])), int(be.Uint16(head[14:])), int(be.Uint32(head[36:]))
		if extra > maxSnapshotExtra {
			return nil, disk.Damaged(at+36, "snapshot %d has %d bytes of extra data", n, extra)
		}
		rest := make([]byte, extra+idLength+nameLength)
		if _, err := i.src.ReadAt(rest, at+40); err != nil && len(rest) > 0 {
			return nil, disk.Damaged(at, "read entry %d of the snapshot table: %v", n, err)
		}
		s := snapshot{l1Offset: int64(be.Uint64(head)), l1Entries: be.Uint32(head[8:])}
		s.ID, s.Name = string(rest[extra:extra+idLength]), string(rest[extra+idLength:])
		s.MadeAt = time.Unix(int64(be.Uint32(head[16:])), int64(be.Uint32(head[20:]))).UTC()
		if s.VirtualBytes = i.size; extra >= 16 {
			s.VirtualBytes = int64(be.Uint64(rest[8:]))
		}
		bytes := int64(s.l1Entries) * 8
		if bytes > maxTableBytes || s.l1Offset < 0 || s.l1Offset%i.clusterBytes() != 0 ||
			s.l1Offset > i.src.Size()-bytes {
			return nil, disk.Damaged(at, "L1 table of snapshot %q, %d entries at byte %d, does not lie in the file",
				s.Name, s.l1Entries, s.l1Offset)
		}
		at += roundUp(int64(40+len(rest)), 8)
		s.end = at
		list = append(list, s)
	}
	return list, nil
}

// Snapshot is the state of the disk that a snapshot keeps, by name or id. It
// shares src with i; closing either closes both.
func (i *Image) Snapshot(ref string) (*Image, error) {
	for _, s := range i.list {
		if s.Name != ref && s.ID != ref {
			continue
		}
		perTable := i.clusterBytes() * i.tableEntries()
		if s.VirtualBytes < 0 || int64(s.l1Entries) < (s.VirtualBytes+perTable-1)/perTable {
			return nil, disk.Damaged(i.snapshotsAt, "snapshot %q of %d bytes has an L1 table of only %d entries",
				s.Name, s.VirtualBytes, s.l1Entries)
		}
		l1, err := i.readL1(s.l1Offset, s.l1Entries)
		if err != nil {
			return nil, err
		}
		state := &Image{header: i.header, src: i.src, data: i.data, closer: i.closer, l1: l1,
			tables: newTableCache(i.clusterBytes())}
		state.size, state.l1Offset, state.l1Entries = s.VirtualBytes, s.l1Offset, s.l1Entries
		return state, nil
	}
	return nil, fmt.Errorf("the image keeps no snapshot %q", ref)
}
