package qcow2

import (
	"encoding/binary"
	"fmt"
	"io"

	"unvora.example/unvora/core/disk"
)

// Create makes f an image with nothing in it, a layer where there is a parent:
// variant v3 or v2, in clusters of 64 KiB.
func Create(f disk.File, s disk.Spec) (*Image, error) {
	return CreateClusters(f, s, 16)
}

// CreateClusters is Create with clusters of 1<<clusterBits bytes.
//
// While it is being written its refcounts are not kept and, in version 3, the
// dirty bit says so; Finish counts them from the tables.
func CreateClusters(f disk.File, s disk.Spec, clusterBits uint32) (*Image, error) {
	h := header{version: 3, clusterBits: clusterBits, size: s.VirtualBytes, refOrder: 4, length: headerBytes3}
	switch s.Variant {
	case "", "v3":
		h.incompatible = featDirty
	case "v2":
		h.version, h.length = 2, headerBytes2
	default:
		return nil, fmt.Errorf("%w: QCOW2 has no variant %q", disk.ErrVariant, s.Variant)
	}
	if clusterBits < minClusterBits || clusterBits > maxClusterBits {
		return nil, fmt.Errorf("%w: cluster bits %d", disk.ErrVariant, clusterBits)
	}
	if s.ID != "" {
		if err := h.setID(s.ID); err != nil {
			return nil, err
		}
	}
	if s.Parent != nil {
		if err := h.setParent(*s.Parent); err != nil {
			return nil, err
		}
	}
	cb := h.clusterBytes()
	perTable := cb * h.tableEntries()
	h.l1Entries = uint32(max(1, (s.VirtualBytes+perTable-1)/perTable))
	if int64(h.l1Entries)*8 > maxTableBytes {
		return nil, fmt.Errorf("%w: %d bytes of disk need larger clusters than %d bytes", disk.ErrTooLarge,
			s.VirtualBytes, cb)
	}
	h.l1Offset = cb
	if err := f.Truncate(0); err != nil {
		return nil, err
	}
	i := &Image{header: h, src: f, data: f, file: f, tables: newTableCache(cb), l1: make([]uint64, h.l1Entries)}
	i.next = cb + roundUp(int64(h.l1Entries)*8, cb)
	raw, err := i.encode()
	if err != nil {
		return nil, err
	}
	if err := f.Truncate(i.next); err != nil {
		return nil, err
	}
	_, err = f.WriteAt(raw, 0)
	return i, err
}

// OpenWrite opens an image to be written in place. parent, the chain below it,
// is needed when the image names one: half-written clusters are filled from
// it. An image that was not closed properly is taken as its tables tell it.
func OpenWrite(f disk.File, parent disk.Image) (*Image, error) {
	i, err := Open(f, nil)
	if err != nil {
		return nil, err
	}
	switch {
	case i.encrypted:
		return nil, disk.ErrEncrypted
	case i.version != 3 || i.extended() || i.refOrder != 4 || i.snapshots > 0:
		return nil, fmt.Errorf("%w: only version 3 with plain L2 entries, 16-bit refcounts and no internal snapshots "+
			"is "+
			"written in place", disk.ErrVariant)
	case i.backing != "" && parent == nil:
		return nil, fmt.Errorf("open for writing: the parent %q is needed", i.backing)
	}
	i.below = parent
	return i, i.begin(f)
}

// Resume goes on with an image that Create made and Sync left.
func Resume(f disk.File) (*Image, error) {
	i, err := Open(f, nil)
	if err != nil {
		return nil, err
	}
	if i.encrypted || i.id() == "" || i.extended() || i.snapshots > 0 {
		return nil, fmt.Errorf("%w: it is not one that was being written here", disk.ErrVariant)
	}
	return i, i.begin(f)
}

// begin makes an open image one that is written.
func (i *Image) begin(f disk.File) error {
	i.file = f
	i.next = roundUp(f.Size(), i.clusterBytes())
	if i.id() != "" {
		i.next = 0 // ours: the refcounts stand last and are counted anew, so their room is free
	}
	c, err := i.count()
	if err != nil {
		return err
	}
	i.next = max(i.next, c.end())
	for n, e := range i.l1 {
		if at := int64(e & maskOffset); at != 0 && c.of(at>>i.clusterBits) != 1 {
			return disk.Damaged(i.l1Offset+int64(n)*8, "the L2 table at byte %d is not referred to by this entry alone",
				at)
		}
	}
	return i.setIncompatible(i.incompatible | featDirty)
}

func roundUp(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

func (i *Image) setIncompatible(bits uint64) error {
	if i.version < 3 {
		return nil
	}
	i.incompatible = bits
	raw := binary.BigEndian.AppendUint64(nil, bits)
	raw = binary.BigEndian.AppendUint64(raw, i.compatible)
	raw = binary.BigEndian.AppendUint64(raw, 0) // autoclear features are not kept up here, dirty bitmaps among them
	_, err := i.file.WriteAt(raw, atIncompatible)
	return err
}

// BlockBytes is the cluster size: see disk.Target.
func (i *Image) BlockBytes() int { return int(i.clusterBytes()) }

// Pack does nothing: clusters are written plain.
func (i *Image) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }

// Put writes whole clusters (the disk's last may be short); those of zeros
// stay unallocated when they are and there is no parent.
func (i *Image) Put(off int64, p []byte, _ int) error {
	cb := i.clusterBytes()
	if end := off + int64(len(p)); off%cb != 0 || end%cb != 0 && end != i.size {
		_, err := i.WriteAt(p, off) // a source with smaller blocks than a cluster
		return err
	}
	for len(p) > 0 {
		n := min(int64(len(p)), cb)
		if disk.IsZero(p[:n]) && i.backing == "" {
			r, err := i.Map(off)
			if err != nil {
				return err
			}
			if r.Kind != disk.Data {
				p, off = p[n:], off+n
				continue
			}
		}
		// A run of clusters that are written one after the other goes out as one.
		host, err := i.clusterFor(off)
		if err != nil {
			return err
		}
		for n < int64(len(p)) {
			m := min(int64(len(p))-n, cb)
			if disk.IsZero(p[n : n+m]) {
				break
			}
			h, err := i.clusterFor(off + n)
			if err != nil {
				return err
			}
			if h != host+n {
				if _, err := i.file.WriteAt(p[:n], host); err != nil {
					return err
				}
				p, off, n, host = p[n:], off+n, 0, h
			}
			n += m
		}
		if _, err := i.file.WriteAt(p[:n], host); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// clusterFor returns where in the file the cluster of guest byte off lies,
// giving it a place when it has none of its own.
func (i *Image) clusterFor(off int64) (int64, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	cb := i.clusterBytes()
	n := off / (cb * i.tableEntries())
	if i.l1[n]&maskOffset == 0 {
		at := i.next
		if _, err := i.tables.get(at, nil, i.writeTable); err != nil {
			return 0, err
		}
		i.tables.byAt[at].dirty = true
		i.next += cb
		i.l1[n] = uint64(at) | flagCopied
	}
	table, err := i.table(n)
	if err != nil {
		return 0, err
	}
	e := i.entryAt(table, off).desc
	if e&flagCompressed == 0 && e&maskOffset != 0 && e&flagZero == 0 {
		return int64(e & maskOffset), nil
	}
	host := i.next
	i.next += cb
	binary.BigEndian.PutUint64(table[off>>i.clusterBits%i.tableEntries()*8:], uint64(host)|flagCopied)
	i.tables.byAt[int64(i.l1[n]&maskOffset)].dirty = true
	return host, nil
}

// WriteAt writes guest bytes anywhere, filling half-written clusters with what
// they held before.
func (i *Image) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > i.size {
		return 0, disk.ErrRange
	}
	cb := i.clusterBytes()
	buf := make([]byte, cb)
	done := 0
	for done < len(p) {
		at := off + int64(done)
		start := at &^ (cb - 1)
		n := int(min(int64(len(p)-done), start+cb-at))
		whole := buf[:min(cb, i.size-start)]
		if _, err := i.ReadAt(whole, start); err != nil && err != io.EOF {
			return done, err
		}
		copy(whole[at-start:], p[done:done+n])
		host, err := i.clusterFor(start)
		if err != nil {
			return done, err
		}
		if _, err := i.file.WriteAt(whole, host); err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

func (i *Image) writeTable(at int64, raw []byte) error {
	_, err := i.file.WriteAt(raw, at)
	return err
}

// Sync writes data before the tables that point to it, tables before the L1.
func (i *Image) Sync() ([]byte, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if err := i.file.Sync(); err != nil {
		return nil, err
	}
	for at, t := range i.tables.byAt {
		if t.dirty {
			if err := i.writeTable(at, t.raw); err != nil {
				return nil, err
			}
			t.dirty = false
		}
	}
	raw := make([]byte, 0, len(i.l1)*8)
	for _, e := range i.l1 {
		raw = binary.BigEndian.AppendUint64(raw, e)
	}
	if _, err := i.file.WriteAt(raw, i.l1Offset); err != nil {
		return nil, err
	}
	return nil, i.file.Sync()
}

// Finish syncs, counts the references anew and clears the dirty bit.
func (i *Image) Finish() error {
	if _, err := i.Sync(); err != nil {
		return err
	}
	c, err := i.count()
	if err != nil {
		return err
	}
	if err := i.writeRefcounts(c, 0); err != nil {
		return err
	}
	if err := i.file.Sync(); err != nil {
		return err
	}
	if err := i.setIncompatible(i.incompatible &^ featDirty); err != nil {
		return err
	}
	return i.file.Sync()
}
