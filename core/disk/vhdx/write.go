package vhdx

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

// Where things lie in what is written.
const (
	logAt      = 1 * mib
	logLength  = 1 * mib
	metadataAt = 2 * mib
	batAt      = 3 * mib
	creator    = "Unvora"
)

// Target is an image being written.
type Target struct {
	*Image
	f     disk.File
	next  int64    // first free byte, a multiple of 1 MiB
	dirty [2]int64 // entries of the table that are not in the file, from and to
}

// Create makes f an image with nothing in it: variant dynamic or fixed, or a
// layer where there is a parent.
func Create(f disk.File, s disk.Spec) (*Target, error) {
	id, err := uuid.Parse(s.ID)
	if err != nil {
		return nil, fmt.Errorf("disk id %q: %w", s.ID, err)
	}
	p := &parameters{block: 2 * mib, fixed: s.Variant == "fixed", parent: s.Parent != nil, id: id,
		sector: int64(max(512, s.SectorBytes)), physical: 4096}
	p.size = (s.VirtualBytes + p.sector - 1) / p.sector * p.sector
	if p.size > 1<<40 {
		p.block = 32 * mib // keeps the table of 64 TiB at 16 MiB
	}
	switch {
	case p.size > MostBytes:
		return nil, fmt.Errorf("%w: a VHDX holds at most %d bytes, the disk has %d", disk.ErrTooLarge, int64(MostBytes),
			p.size)
	case p.sector != 512 && p.sector != 4096:
		return nil, fmt.Errorf("%w: sectors of %d bytes", disk.ErrVariant, p.sector)
	case s.Variant != "" && s.Variant != "dynamic" && s.Variant != "fixed":
		return nil, fmt.Errorf("%w: VHDX has no variant %q", disk.ErrVariant, s.Variant)
	}
	linkage := uuid.NewSHA1(id, []byte("data written"))
	if s.Linkage != "" {
		if linkage, err = uuid.Parse(s.Linkage); err != nil {
			return nil, fmt.Errorf("linkage %q: %w", s.Linkage, err)
		}
	}
	if err := f.Truncate(0); err != nil {
		return nil, err
	}
	i := &Image{file: f, src: f, parameters: p, bitmaps: map[int64][]byte{}}
	i.header = header{at: header1At, sequence: 1, fileID: uuid.NewSHA1(id, []byte("file written")), dataID: linkage,
		logLength: logLength, logAt: logAt}
	i.metadata = region{metadataAt, mib}
	i.bat = region{batAt, roundUp(max(1, p.entries()*8), mib)}
	i.table = make([]uint64, p.entries())
	t := &Target{Image: i, f: f, next: i.bat.at + i.bat.length}
	if p.parent {
		if p.locator, err = locate(*s.Parent); err != nil {
			return nil, err
		}
	}
	if p.fixed {
		for b := range p.blocks() {
			i.table[p.payload(b)] = uint64(t.next) | present
			t.next += p.block
		}
		t.dirty = [2]int64{0, int64(len(i.table))}
		if err := f.Allocate(t.next); err != nil {
			return nil, err
		}
	}
	if err := f.Truncate(t.next); err != nil {
		return nil, err
	}
	return t, t.writeFront()
}

func roundUp(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// writeFront writes all that comes before the blocks.
func (t *Target) writeFront() error {
	front := make([]byte, mib)
	copy(front, signature)
	for n, c := range []byte(creator) {
		front[8+2*n] = c
	}
	first := t.header
	copy(front[header1At:], first.encode())
	second := t.header
	second.sequence--
	copy(front[header2At:], second.encode())
	regions := encodeRegions(t.bat, t.metadata)
	copy(front[region1At:], regions)
	copy(front[region2At:], regions)
	if _, err := t.f.WriteAt(front, 0); err != nil {
		return err
	}
	if _, err := t.f.WriteAt(t.encodeMetadata(), metadataAt); err != nil {
		return err
	}
	return t.writeTable()
}

var locatorKeys = []string{"parent_linkage", "relative_path", "absolute_win32_path"}

// locate states a parent as a locator does.
func locate(p disk.ParentRef) (map[string]string, error) {
	id, err := uuid.Parse(p.ID)
	if err != nil {
		return nil, fmt.Errorf("a VHDX layer needs its parent's linkage, %q is none: make the parent a VHDX", p.ID)
	}
	values := map[string]string{"parent_linkage": "{" + strings.ToUpper(id.String()) + "}"}
	if filepath.IsAbs(p.Path) {
		values["absolute_win32_path"] = p.Path
	} else {
		values["relative_path"] = `.\` + strings.ReplaceAll(p.Path, "/", `\`)
	}
	return values, nil
}

func encodeLocation(values map[string]string) []byte {
	var keys []string
	for _, k := range locatorKeys {
		if values[k] != "" {
			keys = append(keys, k)
		}
	}
	return encodeLocator(keys, values)
}

func (t *Target) encodeMetadata() []byte {
	le := binary.LittleEndian
	raw := make([]byte, metadataTable)
	copy(raw, "metadata")
	count := 0
	add := func(id uuid.UUID, flags uint32, body []byte) {
		e := raw[32+32*count:]
		putGUID(e, id)
		le.PutUint32(e[16:], uint32(len(raw)))
		le.PutUint32(e[20:], uint32(len(body)))
		le.PutUint32(e[24:], flags)
		if id == itemDiskID {
			t.idAt = metadataAt + int64(len(raw))
		}
		raw = append(raw, body...)
		raw = append(raw, make([]byte, -len(raw)&7)...)
		count++
	}
	params := le.AppendUint32(nil, uint32(t.block))
	var flags uint32
	if t.fixed {
		flags |= paramFixed
	}
	if t.parent {
		flags |= paramParent
	}
	add(itemParameters, flagRequired, le.AppendUint32(params, flags))
	add(itemSize, flagVirtual|flagRequired, le.AppendUint64(nil, uint64(t.size)))
	id := make([]byte, 16)
	putGUID(id, t.id)
	add(itemDiskID, flagVirtual|flagRequired, id)
	add(itemSector, flagVirtual|flagRequired, le.AppendUint32(nil, uint32(t.sector)))
	add(itemPhysical, flagVirtual|flagRequired, le.AppendUint32(nil, uint32(t.physical)))
	if t.parent {
		add(itemLocator, flagRequired, encodeLocation(t.locator))
	}
	le.PutUint16(raw[10:], uint16(count))
	return raw
}

// Resume goes on with an image that Create made and Sync left.
func Resume(f disk.File) (*Target, error) {
	i, err := Open(f)
	if err != nil {
		return nil, err
	}
	if i.log != nil {
		return nil, disk.Damaged(i.logAt, "its log was not replayed: it is not one that was being written here")
	}
	t := &Target{Image: i, f: f, next: i.bat.at + i.bat.length}
	for k, e := range i.table {
		if s := state(e); s == present || s == partial {
			length := i.block
			if int64(k)%(i.chunk()+1) == i.chunk() {
				length = bitmapBlock
			}
			t.next = max(t.next, hostByte(e)+length)
		}
	}
	return t, nil
}

// BlockBytes: a layer takes whole blocks, and so needs no sector bitmaps.
func (t *Target) BlockBytes() int {
	if t.parent {
		return int(t.block)
	}
	return 64 << 10
}

// Pack does nothing: blocks are written plain.
func (t *Target) Pack(plain, _ []byte) ([]byte, error) { return plain, nil }

// Put leaves out zeros; in a layer, a block of zeros is one in the table only.
func (t *Target) Put(off int64, p []byte, _ int) error {
	step := t.BlockBytes()
	for len(p) > 0 {
		n := min(len(p), step)
		if disk.IsZero(p[:n]) {
			if t.parent {
				t.set(t.payload(off/t.block), zero)
			}
			p, off = p[n:], off+int64(n)
			continue
		}
		for n < len(p) && !disk.IsZero(p[n:min(len(p), n+step)]) {
			n = min(len(p), n+step)
		}
		n = int(min(int64(n), t.block-off%t.block))
		k := t.payload(off / t.block)
		if state(t.table[k]) != present {
			t.set(k, uint64(t.next)|present)
			t.next += t.block
			if t.f.Size() < t.next {
				if err := t.f.Truncate(t.next); err != nil {
					return err
				}
			}
		}
		if _, err := t.f.WriteAt(p[:n], hostByte(t.table[k])+off%t.block); err != nil {
			return err
		}
		p, off = p[n:], off+int64(n)
	}
	return nil
}

func (t *Target) set(k int64, entry uint64) {
	t.table[k] = entry
	if t.dirty[1] == 0 {
		t.dirty = [2]int64{k, k + 1}
	}
	t.dirty = [2]int64{min(t.dirty[0], k), max(t.dirty[1], k+1)}
}

func (t *Target) writeTable() error {
	from, to := t.dirty[0], t.dirty[1]
	raw := make([]byte, 0, (to-from)*8)
	for _, e := range t.table[from:to] {
		raw = binary.LittleEndian.AppendUint64(raw, e)
	}
	t.dirty = [2]int64{}
	_, err := t.f.WriteAt(raw, t.bat.at+from*8)
	return err
}

// Sync writes data before the table that points to it.
func (t *Target) Sync() ([]byte, error) {
	if err := t.f.Sync(); err != nil || t.dirty[1] == 0 {
		return nil, err
	}
	if err := t.writeTable(); err != nil {
		return nil, err
	}
	return nil, t.f.Sync()
}

// Finish syncs; the headers were right from the start.
func (t *Target) Finish() error {
	_, err := t.Sync()
	return err
}

// turn writes h over the older of the two headers, as section 2.2.2 has it.
func (i *Image) turn(f disk.File, change func(*header)) error {
	h := i.header
	h.sequence++
	h.fileID = uuid.NewSHA1(h.fileID, []byte("file written"))
	change(&h)
	if h.at = header1At; i.at == header1At {
		h.at = header2At
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if _, err := f.WriteAt(h.encode(), h.at); err != nil {
		return err
	}
	i.header = h
	return f.Sync()
}

func openQuiet(f disk.File) (*Image, error) {
	i, err := Open(f)
	if err == nil && i.log != nil {
		err = disk.Damaged(i.logAt, "its log is to be replayed first: unvora disk check --repair")
	}
	return i, err
}

// Reparent names another parent: the new locator is written behind all other
// metadata before the table points to it, so that a crash leaves either the
// old parent or the new one.
func Reparent(f disk.File, p disk.ParentRef) error {
	i, err := openQuiet(f)
	if err != nil {
		return err
	}
	if !i.parent {
		return fmt.Errorf("%w: it is no layer", disk.ErrVariant)
	}
	values, err := locate(p)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	table := make([]byte, metadataTable)
	if _, err := f.ReadAt(table, i.metadata.at); err != nil {
		return err
	}
	var entry []byte
	var entryAt int64
	// Room is taken from the end of what is used, or from before it when the end is reached.
	type span struct{ from, to int64 }
	var used []span
	for k := range int64(le.Uint16(table[10:])) {
		e := table[32+32*k : 64+32*k]
		used = append(used, span{int64(le.Uint32(e[16:])), int64(le.Uint32(e[16:])) + int64(le.Uint32(e[20:]))})
		if guid(e) == itemLocator {
			entry, entryAt = e, 32+32*k
		}
	}
	body := encodeLocation(values)
	at, free := int64(metadataTable), false
	for !free {
		free = true
		for _, u := range used {
			if at < u.to && u.from < at+int64(len(body)) {
				at, free = roundUp(u.to, 8), false
			}
		}
	}
	if at+int64(len(body)) > i.metadata.length {
		return fmt.Errorf("the parent's path is too long: the metadata has no room for it")
	}
	if _, err := f.WriteAt(body, i.metadata.at+at); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	le.PutUint32(entry[16:], uint32(at))
	le.PutUint32(entry[20:], uint32(len(body)))
	if _, err := f.WriteAt(bytes.Clone(entry), i.metadata.at+entryAt); err != nil {
		return err
	}
	return i.turn(f, func(*header) {})
}

// SetID gives the disk another id.
func SetID(f disk.File, id string) error {
	i, err := openQuiet(f)
	if err != nil {
		return err
	}
	u, err := uuid.Parse(id)
	if err != nil {
		return err
	}
	if i.idAt == 0 {
		return disk.Damaged(i.metadata.at, "the metadata has no disk id")
	}
	raw := make([]byte, 16)
	putGUID(raw, u)
	if _, err := f.WriteAt(raw, i.idAt); err != nil {
		return err
	}
	return i.turn(f, func(*header) {})
}
