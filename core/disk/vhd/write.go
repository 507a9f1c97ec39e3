package vhd

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

// Target is an image being written. Blocks are laid so that their data begins
// at a multiple of 4 KiB of the file.
type Target struct {
	footer
	*header
	f     disk.File
	table []uint32
	next  int64 // first free byte
	dirty bool
}

// Create makes f an image with nothing in it: variant dynamic or fixed, or a
// layer where there is a parent.
func Create(f disk.File, s disk.Spec) (*Target, error) {
	id, err := uuid.Parse(s.ID)
	if err != nil {
		return nil, fmt.Errorf("disk id %q: %w", s.ID, err)
	}
	size := roundUp(s.VirtualBytes, sectorBytes)
	switch {
	case size > MostBytes:
		return nil, fmt.Errorf("%w: a VHD holds at most %d bytes, the disk has %d; VHDX, QCOW2 and raw hold more",
			disk.ErrTooLarge, int64(MostBytes), size)
	case s.SectorBytes > sectorBytes:
		return nil, fmt.Errorf("%w: VHD has sectors of 512 bytes, the disk of %d", disk.ErrVariant, s.SectorBytes)
	}
	t := &Target{f: f, footer: footer{headerAt: noOffset, stamp: stamp(s.MadeAt), size: size, kind: typeFixed, id: id}}
	if err := f.Truncate(0); err != nil {
		return nil, err
	}
	switch {
	case s.Parent != nil:
		t.kind = typeDiffers
	case s.Variant == "" || s.Variant == "dynamic":
		t.kind = typeDynamic
	case s.Variant != "fixed":
		return nil, fmt.Errorf("%w: VHD has no variant %q", disk.ErrVariant, s.Variant)
	default:
		return t, f.Allocate(size + footerBytes)
	}
	t.headerAt = footerBytes
	n := (size + blockBytes - 1) / blockBytes
	t.header = &header{tableAt: footerBytes + headerBytes, entries: uint32(n), block: blockBytes}
	t.next = roundUp(t.tableAt+max(1, n)*4, sectorBytes)
	if s.Parent != nil {
		if err := t.setParent(*s.Parent); err != nil {
			return nil, err
		}
	}
	t.table = make([]uint32, n)
	for k := range t.table {
		t.table[k] = unallocated
	}
	if _, err := f.WriteAt(t.footer.encode(), 0); err != nil {
		return nil, err
	}
	if _, err := f.WriteAt(t.header.encode(), footerBytes); err != nil {
		return nil, err
	}
	return t, t.writeTable()
}

// Resume goes on with an image that Create made and Sync left.
func Resume(f disk.File, s disk.Spec) (*Target, error) {
	if s.Variant == "fixed" {
		id, err := uuid.Parse(s.ID)
		if err != nil {
			return nil, err
		}
		size := roundUp(s.VirtualBytes, sectorBytes)
		if f.Size() != size+footerBytes {
			return nil, disk.Damaged(f.Size(), "it has not the room for %d bytes", size)
		}
		return &Target{f: f, footer: footer{headerAt: noOffset, size: size, kind: typeFixed, id: id, stamp: 1}}, nil
	}
	i, err := Open(f)
	if err != nil {
		return nil, err
	}
	t := &Target{f: f, footer: i.footer, header: i.header, table: i.table}
	if t.header == nil {
		return nil, disk.Damaged(0, "it is a fixed image")
	}
	t.next = roundUp(t.tableAt+max(1, int64(t.entries))*4, sectorBytes)
	for _, l := range t.locators {
		t.next = max(t.next, roundUp(l.at+int64(l.length), sectorBytes))
	}
	for _, sector := range t.table {
		if sector != unallocated {
			t.next = max(t.next, int64(sector)*sectorBytes+t.bitmapBytes()+t.block)
		}
	}
	return t, nil
}

// BlockBytes: a layer takes whole blocks, so that its bitmaps are simple.
func (t *Target) BlockBytes() int {
	if t.kind == typeDiffers {
		return int(t.block)
	}
	return 64 << 10
}

// Pack does nothing: blocks are written plain.
func (t *Target) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }

// Put leaves out zeros, except in a layer, where they hide the parent's data.
func (t *Target) Put(off int64, p []byte, _ int) error {
	for len(p) > 0 {
		n := min(len(p), 64<<10)
		if t.kind != typeDiffers && disk.IsZero(p[:n]) {
			p, off = p[n:], off+int64(n)
			continue
		}
		for n < len(p) && (t.kind == typeDiffers || !disk.IsZero(p[n:min(len(p), n+64<<10)])) {
			n = min(len(p), n+64<<10)
		}
		host := off
		if t.header != nil {
			n = int(min(int64(n), t.block-off%t.block))
			at, err := t.place(off / t.block)
			if err != nil {
				return err
			}
			host = at + off%t.block
		}
		if _, err := t.f.WriteAt(p[:n], host); err != nil {
			return err
		}
		p, off = p[n:], off+int64(n)
	}
	return nil
}

// place returns the byte of the file where a block's data begins.
func (t *Target) place(n int64) (int64, error) {
	bitmap := t.bitmapBytes()
	if t.table[n] == unallocated {
		data := roundUp(t.next+bitmap, 4096)
		bits := bytes.Repeat([]byte{0xff}, int(t.block/sectorBytes/8))
		if _, err := t.f.WriteAt(bits, data-bitmap); err != nil {
			return 0, err
		}
		if end := data + t.block; t.f.Size() < end {
			if err := t.f.Truncate(end); err != nil {
				return 0, err
			}
		}
		t.table[n] = uint32((data - bitmap) / sectorBytes)
		t.next = data + t.block
		t.dirty = true
	}
	return int64(t.table[n])*sectorBytes + bitmap, nil
}

func (t *Target) writeTable() error {
	raw := make([]byte, 0, len(t.table)*4)
	for _, sector := range t.table {
		raw = binary.BigEndian.AppendUint32(raw, sector)
	}
	for int64(len(raw))%sectorBytes != 0 {
		raw = append(raw, 0xff)
	}
	t.dirty = false
	_, err := t.f.WriteAt(raw, t.tableAt)
	return err
}

// Sync writes data before the table that points to it.
func (t *Target) Sync() ([]byte, error) {
	if err := t.f.Sync(); err != nil || !t.dirty {
		return nil, err
	}
	if err := t.writeTable(); err != nil {
		return nil, err
	}
	return nil, t.f.Sync()
}

// Finish puts the footer at the end.
func (t *Target) Finish() error {
	if _, err := t.Sync(); err != nil {
		return err
	}
	end := t.next
	if t.header == nil {
		end = t.size
	}
	if _, err := t.f.WriteAt(t.footer.encode(), end); err != nil {
		return err
	}
	if err := t.f.Truncate(end + footerBytes); err != nil {
		return err
	}
	return t.f.Sync()
}

// setParent writes locators at next and names the parent in the header.
func (t *Target) setParent(p disk.ParentRef) error {
	next, err := writeParent(t.f, t.header, p, t.next)
	t.next = next
	return err
}

func writeParent(f disk.File, h *header, p disk.ParentRef, at int64) (next int64, err error) {
	id, err := uuid.Parse(p.ID)
	if err != nil {
		return 0, fmt.Errorf("a VHD layer needs its parent's id, %q is none: make the parent a VHD", p.ID)
	}
	h.parentID, h.parentStamp, h.parentName = id, stamp(p.ModifiedAt), filepath.Base(p.Path)
	h.locators = [locators]locator{}
	platform, stated := uint32(platformRelative), p.Path
	if filepath.IsAbs(p.Path) {
		platform = platformAbsolute
	} else {
		stated = `.\` + strings.ReplaceAll(p.Path, "/", `\`)
	}
	text := bytes16(stated, binary.LittleEndian)
	if len(text) > maxLocator {
		return 0, fmt.Errorf("the parent's path is too long: %d characters", len(stated))
	}
	space := roundUp(int64(len(text)), sectorBytes)
	h.locators[0] = locator{platform, uint32(space), uint32(len(text)), at}
	if _, err := f.WriteAt(append(text, make([]byte, space-int64(len(text)))...), at); err != nil {
		return 0, err
	}
	return at + space, nil
}

// Reparent names another parent. The new locator and footer are written after
// the old footer before the header points to them, so that a crash leaves
// either the old parent or the new one.
func Reparent(f disk.File, p disk.ParentRef) error {
	i, err := Open(f)
	if err != nil {
		return err
	}
	if i.kind != typeDiffers {
		return fmt.Errorf("%w: it is no layer", disk.ErrVariant)
	}
	next, err := writeParent(f, i.header, p, roundUp(f.Size(), sectorBytes))
	if err != nil {
		return err
	}
	if _, err := f.WriteAt(i.footer.encode(), next); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if _, err := f.WriteAt(i.header.encode(), int64(i.headerAt)); err != nil {
		return err
	}
	return f.Sync()
}

// SetID gives the disk another id, in the footer and its copy.
func SetID(f disk.File, id string) error {
	i, err := Open(f)
	if err != nil {
		return err
	}
	if i.id, err = uuid.Parse(id); err != nil {
		return err
	}
	raw := i.footer.encode()
	if i.header != nil {
		if _, err := f.WriteAt(raw, 0); err != nil {
			return err
		}
	}
	at := f.Size() - footerBytes
	if i.footerMissing != nil {
		at = f.Size()
	}
	if _, err := f.WriteAt(raw, at); err != nil {
		return err
	}
	return f.Sync()
}
