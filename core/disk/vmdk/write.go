package vmdk

import (
	"encoding/binary"
	"fmt"
	"path/filepath"
	"strings"

	"unvora.example/unvora/core/disk"
)

// SparseTarget writes a monolithic sparse image, with both grain directories.
type SparseTarget struct {
	header
	f     disk.File
	layer bool
	next  int64 // first free byte, a multiple of the grain
	span  int64 // of the table in memory; -1: none
	table [tableEntries]uint32
	dirty bool
}

// CreateSparse makes f an image with nothing in it, a layer where there is a parent.
func CreateSparse(f disk.File, s disk.Spec) (*SparseTarget, error) {
	t := &SparseTarget{f: f, span: -1, layer: s.Parent != nil}
	t.header = header{
		version: 1, flags: flagNewline | flagRedundant, capacity: uint64(s.VirtualBytes+sectorBytes-1) / sectorBytes,
		grain: grainSectors, descriptorAt: 1, descriptorSize: descriptorRoom, entries: tableEntries,
	}
	tables := t.tables()
	if tables > maxTables/8 {
		return nil, fmt.Errorf("%w: %d bytes of disk are too many for a sparse VMDK", disk.ErrTooLarge, s.VirtualBytes)
	}
	text, err := encodeDescriptor(s, createSparse, fmt.Sprintf("SPARSE %q", nameOf(s)))
	if err != nil {
		return nil, err
	}
	directory := uint64(tables*4+sectorBytes-1) / sectorBytes
	length := directory + uint64(tables)*tableEntries*4/sectorBytes
	t.redundantAt = 1 + descriptorRoom
	t.directoryAt = t.redundantAt + length
	t.overhead = (t.directoryAt + length + grainSectors - 1) / grainSectors * grainSectors
	t.next = int64(t.overhead) * sectorBytes
	head := make([]byte, (1+descriptorRoom)*sectorBytes)
	copy(head, t.encode())
	copy(head[sectorBytes:], text)
	if err := f.Truncate(0); err != nil {
		return nil, err
	}
	if err := f.Truncate(t.next); err != nil {
		return nil, err
	}
	if _, err := f.WriteAt(head, 0); err != nil {
		return nil, err
	}
	for _, at := range []uint64{t.redundantAt, t.directoryAt} {
		raw := make([]byte, 0, tables*4)
		for n := range tables {
			raw = binary.LittleEndian.AppendUint32(raw, uint32(at+directory)+uint32(n)*tableEntries*4/sectorBytes)
		}
		if _, err := f.WriteAt(raw, int64(at)*sectorBytes); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// ResumeSparse goes on with an image that CreateSparse made and Sync left.
func ResumeSparse(f disk.File) (*SparseTarget, error) {
	i, err := openSparse(f)
	if err != nil {
		return nil, err
	}
	t := &SparseTarget{header: i.header, f: f, span: -1, layer: i.descriptorProps.parent() != nil}
	if t.grain != grainSectors || t.entries != tableEntries || t.redundantAt != 1+descriptorRoom ||
		t.flags&flagCompressed != 0 {
		return nil, fmt.Errorf("%w: it is not one that was written here", disk.ErrVariant)
	}
	t.next = int64(t.overhead) * sectorBytes
	for n := range t.tables() {
		table, err := i.table(n)
		if err != nil {
			return nil, err
		}
		for _, sector := range table {
			t.next = max(t.next, int64(sector)*sectorBytes+grainBytes)
		}
	}
	return t, nil
}

// BlockBytes is the grain size.
func (t *SparseTarget) BlockBytes() int { return grainBytes }

// Pack does nothing: grains are written plain.
func (t *SparseTarget) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }

// Put leaves out grains of zeros, except in a layer, where they hide the
// parent's data. Grains that follow each other go out as one.
func (t *SparseTarget) Put(off int64, p []byte, _ int) error {
	for len(p) > 0 {
		n := min(len(p), grainBytes)
		if !t.layer && disk.IsZero(p[:n]) {
			p, off = p[n:], off+int64(n)
			continue
		}
		at, err := t.place(off)
		if err != nil {
			return err
		}
		for n < len(p) && at+int64(n) == t.next {
			m := min(len(p)-n, grainBytes)
			if !t.layer && disk.IsZero(p[n:n+m]) {
				break
			}
			next, err := t.place(off + int64(n))
			if err != nil {
				return err
			}
			if next != at+int64(n) {
				if _, err := t.f.WriteAt(p[n:n+m], next); err != nil {
					return err
				}
				p, off = p[m:], off+int64(m) // the run before it goes on
				continue
			}
			n += m
		}
		if _, err := t.f.WriteAt(p[:n], at); err != nil {
			return err
		}
		p, off = p[n:], off+int64(n)
	}
	return nil
}

// place returns the byte of the file where the grain of guest byte off lies.
func (t *SparseTarget) place(off int64) (int64, error) {
	span := off / grainBytes / tableEntries
	if span != t.span {
		if err := t.flush(); err != nil {
			return 0, err
		}
		raw := make([]byte, tableEntries*4)
		if _, err := t.f.ReadAt(raw, t.tableAt(t.directoryAt, span)); err != nil {
			return 0, err
		}
		copy(t.table[:], words(raw))
		t.span = span
	}
	n := off / grainBytes % tableEntries
	if t.table[n] == 0 {
		if t.next/sectorBytes > maxSector {
			return 0, fmt.Errorf("%w: a VMDK file can't have more than 2 TiB", disk.ErrTooLarge)
		}
		t.table[n] = uint32(t.next / sectorBytes)
		t.next += grainBytes
		t.dirty = true
	}
	return int64(t.table[n]) * sectorBytes, nil
}

// tableAt is the byte of a grain table of the directory at a sector.
func (t *SparseTarget) tableAt(directory uint64, span int64) int64 {
	sectors := (t.tables()*4 + sectorBytes - 1) / sectorBytes
	return (int64(directory)+sectors)*sectorBytes + span*tableEntries*4
}

func (t *SparseTarget) flush() error {
	if !t.dirty {
		return nil
	}
	raw := make([]byte, 0, tableEntries*4)
	for _, e := range t.table {
		raw = binary.LittleEndian.AppendUint32(raw, e)
	}
	for _, directory := range []uint64{t.redundantAt, t.directoryAt} {
		if _, err := t.f.WriteAt(raw, t.tableAt(directory, t.span)); err != nil {
			return err
		}
	}
	t.dirty = false
	return nil
}

// Sync makes what was put survive a crash. A table may reach the disk before
// the grains it tells of: what lies behind the last Sync is written again.
func (t *SparseTarget) Sync() ([]byte, error) {
	if err := t.flush(); err != nil {
		return nil, err
	}
	return nil, t.f.Sync()
}

// Finish gives the file its last grain whole, and syncs.
func (t *SparseTarget) Finish() error {
	if err := t.flush(); err != nil {
		return err
	}
	if err := t.f.Truncate(t.next); err != nil {
		return err
	}
	return t.f.Sync()
}

// FlatTarget writes an image whose bytes lie in a second file, all its room taken.
type FlatTarget struct{ f, data disk.File }

func flatName(s disk.Spec) string {
	name := nameOf(s)
	return strings.TrimSuffix(name, filepath.Ext(name)) + "-flat.vmdk"
}

// CreateFlat makes f the descriptor and a companion the extent.
func CreateFlat(f disk.File, s disk.Spec) (*FlatTarget, error) {
	if s.Parent != nil {
		return nil, fmt.Errorf("%w: a flat image can't be a layer", disk.ErrVariant)
	}
	t, err := openFlat(f, s)
	if err != nil {
		return nil, err
	}
	text, err := encodeDescriptor(s, createFlat, fmt.Sprintf("FLAT %q 0", flatName(s)))
	if err != nil {
		return nil, err
	}
	size := (s.VirtualBytes + sectorBytes - 1) / sectorBytes * sectorBytes
	if err := t.data.Truncate(0); err != nil {
		return nil, err
	}
	if err := t.data.Allocate(size); err != nil {
		return nil, err
	}
	if err := t.data.Truncate(size); err != nil {
		return nil, err
	}
	if err := f.Truncate(int64(len(text))); err != nil {
		return nil, err
	}
	_, err = f.WriteAt([]byte(text), 0)
	return t, err
}

// ResumeFlat goes on with an image that CreateFlat made.
func ResumeFlat(f disk.File, s disk.Spec) (*FlatTarget, error) {
	t, err := openFlat(f, s)
	if err == nil && t.data.Size() < s.VirtualBytes {
		err = disk.Damaged(t.data.Size(), "the extent ends here, the disk has %d bytes", s.VirtualBytes)
	}
	return t, err
}

func openFlat(f disk.File, s disk.Spec) (*FlatTarget, error) {
	if s.Companion == nil {
		return nil, fmt.Errorf("%w: a flat VMDK needs a second file, which can't be made here", disk.ErrVariant)
	}
	data, err := s.Companion(flatName(s))
	return &FlatTarget{f, data}, err
}

func (t *FlatTarget) BlockBytes() int                      { return grainBytes }
func (t *FlatTarget) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }

func (t *FlatTarget) Put(off int64, p []byte, _ int) error {
	return disk.WriteSparse(t.data, off, p)
}

func (t *FlatTarget) Sync() ([]byte, error) { return nil, t.data.Sync() }

func (t *FlatTarget) Finish() error {
	if err := t.data.Sync(); err != nil {
		return err
	}
	return t.f.Sync()
}
