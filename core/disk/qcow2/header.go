// Package qcow2 reads and writes QCOW2 images, versions 2 and 3.
//
// Source: QEMU's "Qcow2 Image File Format" (docs/interop/qcow2.txt): header,
// header extensions, refcount structures, L1 and L2 tables, compressed
// clusters, extended L2 entries. All numbers in the file are big-endian.
//
// Read: all cluster sizes, compressed clusters (deflate, zstd), zero
// clusters, extended L2, external data files, internal snapshots. Written:
// version 3 and 2, standard L2 entries, 16-bit refcounts. Encrypted images are
// recognised and refused.
//
// The format states no id of a disk, nor of a layer's parent. What is written
// here keeps both in header extensions of our own, which readers pass over.
package qcow2

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

const (
	Format = "qcow2"

	magic        = 0x514649fb // "QFI\xfb"
	headerBytes2 = 72
	headerBytes3 = 112

	minClusterBits, maxClusterBits = 9, 21
	maxTableBytes                  = 32 << 20 // of L1: 2 EiB of guest at 2 MiB clusters, more than QEMU takes

	extEnd           = 0
	extBackingFormat = 0xe2792aca
	extDataFile      = 0x44415441
	extBitmaps       = 0x23852875
	extCrypto        = 0x0537be77
	extIdentity      = 0x756e7669 // ours: 16 bytes of UUID; readers must ignore what they don't know
	extParent        = 0x756e7670 // ours: what the layer remembers of its parent, as JSON

	// Incompatible features: a reader that does not know one must refuse.
	featDirty       = 1 << 0
	featCorrupt     = 1 << 1
	featDataFile    = 1 << 2
	featCompression = 1 << 3
	featExtendedL2  = 1 << 4
	featKnown       = featDirty | featCorrupt | featDataFile | featCompression | featExtendedL2

	// Fields of L1 and L2 entries.
	maskOffset     = 0x00fffffffffffe00
	flagCopied     = 1 << 63
	flagCompressed = 1 << 62
	flagZero       = 1 << 0
)

// Byte offsets of the header's fields, for those that are rewritten in place.
const (
	atRefTable     = 48
	atRefClusters  = 56
	atIncompatible = 72
	atRefOrder     = 96
)

type header struct {
	version      uint32
	clusterBits  uint32
	size         int64
	l1Entries    uint32
	l1Offset     int64
	refOffset    int64
	refClusters  uint32
	refOrder     uint32
	snapshots    uint32
	snapshotsAt  int64
	incompatible uint64
	compatible   uint64
	length       uint32
	zstd         bool
	encrypted    bool
	backing      string
	extensions   []extension
	raw          []byte // of the fixed part, as read
}

// extension is one header extension, as it stands in the file.
type extension struct {
	kind uint32
	body []byte
}

func (h *header) extension(kind uint32) []byte {
	for _, e := range h.extensions {
		if e.kind == kind {
			return e.body
		}
	}
	return nil
}

// setExtension replaces an extension, adds it, or with a nil body drops it.
func (h *header) setExtension(kind uint32, body []byte) {
	h.extensions = slices.DeleteFunc(h.extensions, func(e extension) bool { return e.kind == kind })
	if body != nil {
		h.extensions = append(h.extensions, extension{kind, body})
	}
}

func (h *header) id() string {
	id, err := uuid.FromBytes(h.extension(extIdentity))
	if err != nil {
		return ""
	}
	return id.String()
}

func (h *header) setID(id string) error {
	u, err := uuid.Parse(id)
	if err != nil {
		return fmt.Errorf("disk id %q: %w", id, err)
	}
	h.setExtension(extIdentity, u[:])
	return nil
}

// remembered is what a layer of ours keeps of its parent.
type remembered struct {
	ID          string `json:"id,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
}

func (h *header) parent() *disk.ParentRef {
	if h.backing == "" {
		return nil
	}
	var r remembered
	_ = json.Unmarshal(h.extension(extParent), &r) // damaged: as if nothing were remembered
	return &disk.ParentRef{Path: h.backing, Format: string(h.extension(extBackingFormat)), ID: r.ID,
		Fingerprint: r.Fingerprint}
}

func (h *header) setParent(p disk.ParentRef) error {
	h.backing = p.Path
	h.setExtension(extBackingFormat, nil)
	if p.Format != "" {
		h.setExtension(extBackingFormat, []byte(p.Format))
	}
	h.setExtension(extParent, nil)
	if p.ID == "" && p.Fingerprint == "" {
		return nil
	}
	raw, err := json.Marshal(remembered{p.ID, p.Fingerprint})
	h.setExtension(extParent, raw)
	return err
}

func (h *header) clusterBytes() int64 { return 1 << h.clusterBits }
func (h *header) extended() bool      { return h.incompatible&featExtendedL2 != 0 }

// entryBytes is the size of an L2 entry.
func (h *header) entryBytes() int64 {
	if h.extended() {
		return 16
	}
	return 8
}

// tableEntries is how many clusters one L2 table tells of.
func (h *header) tableEntries() int64 { return h.clusterBytes() / h.entryBytes() }

// Probe tells whether head, the first bytes of a file, begins a QCOW2 image.
func Probe(head []byte) bool {
	return len(head) >= 8 && binary.BigEndian.Uint32(head) == magic
}

func readHeader(src disk.Source) (*header, error) {
	raw := make([]byte, min(src.Size(), 1<<maxClusterBits))
	if len(raw) < headerBytes2 {
		return nil, fmt.Errorf("%w: %d bytes are too few for a QCOW2 header", disk.ErrFormat, len(raw))
	}
	if _, err := src.ReadAt(raw[:headerBytes2], 0); err != nil {
		return nil, err
	}
	if !Probe(raw) {
		return nil, fmt.Errorf("%w: no QCOW2 magic at byte 0", disk.ErrFormat)
	}
	u32 := func(at int) uint32 { return binary.BigEndian.Uint32(raw[at:]) }
	u64 := func(at int) uint64 { return binary.BigEndian.Uint64(raw[at:]) }
	h := &header{
		version: u32(4), clusterBits: u32(20), size: int64(u64(24)), encrypted: u32(32) != 0,
		l1Entries: u32(36), l1Offset: int64(u64(40)),
		refOffset: int64(u64(atRefTable)), refClusters: u32(atRefClusters), refOrder: 4,
		snapshots: u32(60), snapshotsAt: int64(u64(64)), length: headerBytes2,
	}
	if h.version != 2 && h.version != 3 {
		return nil, fmt.Errorf("%w: QCOW2 version %d (2 and 3 are read)", disk.ErrVariant, h.version)
	}
	if h.clusterBits < minClusterBits || h.clusterBits > maxClusterBits {
		return nil, disk.Damaged(20, "cluster bits are %d, must be %d to %d", h.clusterBits, minClusterBits,
			maxClusterBits)
	}
	raw = raw[:min(int64(len(raw)), h.clusterBytes())]
	if _, err := src.ReadAt(raw, 0); err != nil {
		return nil, err
	}
	if h.version == 3 {
		if len(raw) < 104 {
			return nil, disk.Damaged(int64(len(raw)), "version 3 header is cut short")
		}
		h.incompatible, h.compatible, h.refOrder, h.length = u64(atIncompatible), u64(80), u32(atRefOrder), u32(100)
		if unknown := h.incompatible &^ featKnown; unknown != 0 {
			return nil, fmt.Errorf("%w: unknown incompatible features %#x (at byte 72)", disk.ErrVariant, unknown)
		}
		if h.length < 104 || int(h.length) > len(raw) || h.length%8 != 0 {
			return nil, disk.Damaged(100, "header length is %d", h.length)
		}
		if h.refOrder > 6 {
			return nil, disk.Damaged(96, "refcount order is %d, must be 0 to 6", h.refOrder)
		}
		if h.incompatible&featCompression != 0 && h.length > 104 {
			switch raw[104] {
			case 0:
			case 1:
				h.zstd = true
			default:
				return nil, fmt.Errorf("%w: compression type %d (at byte 104)", disk.ErrVariant, raw[104])
			}
		}
	}
	if h.extended() && h.clusterBits < 14 {
		return nil, disk.Damaged(20, "extended L2 entries need clusters of 16 KiB or more")
	}
	if h.size < 0 || h.size > 1<<56 {
		return nil, disk.Damaged(24, "virtual size is %d", uint64(h.size))
	}
	h.raw = bytes.Clone(raw[:h.length])
	if err := h.readExtensions(raw); err != nil {
		return nil, err
	}
	if off, n := u64(8), u32(16); off != 0 {
		if n > 1023 || off > uint64(len(raw)) || off+uint64(n) > uint64(len(raw)) {
			return nil, disk.Damaged(8, "backing file name of %d bytes at byte %d lies outside the first cluster", n,
				off)
		}
		h.backing = string(raw[off : off+uint64(n)])
	}
	perTable := h.clusterBytes() * h.tableEntries()
	if need := (h.size + perTable - 1) / perTable; int64(h.l1Entries) < need {
		return nil, disk.Damaged(36, "L1 table has %d entries, the disk needs %d", h.l1Entries, need)
	}
	end := src.Size()
	if n := int64(h.l1Entries) * 8; n > maxTableBytes || h.l1Offset < 0 || h.l1Offset%h.clusterBytes() != 0 || n > 0 &&
		h.l1Offset > end-n {
		return nil, disk.Damaged(40, "L1 table of %d entries at byte %d does not lie in the file", h.l1Entries,
			h.l1Offset)
	}
	return h, nil
}

func (h *header) readExtensions(raw []byte) error {
	for at := int(h.length); at+8 <= len(raw); {
		kind, n := binary.BigEndian.Uint32(raw[at:]), int(binary.BigEndian.Uint32(raw[at+4:]))
		if kind == extEnd {
			return nil
		}
		if n < 0 || n > len(raw)-at-8 {
			return disk.Damaged(int64(at), "header extension %#x of %d bytes runs out of the first cluster", kind, n)
		}
		h.extensions = append(h.extensions, extension{kind, bytes.Clone(raw[at+8 : at+8+n])})
		at += 8 + (n+7)/8*8
	}
	return nil
}

// encode writes header, extensions and backing file name into one cluster.
func (h *header) encode() ([]byte, error) {
	raw := make([]byte, h.clusterBytes())
	copy(raw, h.raw) // what is not known here stays as it was
	be := binary.BigEndian
	be.PutUint32(raw, magic)
	be.PutUint32(raw[4:], h.version)
	be.PutUint64(raw[8:], 0)
	be.PutUint32(raw[16:], 0)
	be.PutUint32(raw[20:], h.clusterBits)
	be.PutUint64(raw[24:], uint64(h.size))
	be.PutUint32(raw[36:], h.l1Entries)
	be.PutUint64(raw[40:], uint64(h.l1Offset))
	be.PutUint64(raw[atRefTable:], uint64(h.refOffset))
	be.PutUint32(raw[atRefClusters:], h.refClusters)
	if h.version == 3 {
		be.PutUint64(raw[atIncompatible:], h.incompatible)
		be.PutUint32(raw[atRefOrder:], h.refOrder)
		be.PutUint32(raw[100:], h.length)
	}
	at := int(h.length)
	for _, e := range h.extensions {
		if at+8+len(e.body)+8+8 > len(raw) {
			return nil, fmt.Errorf("header extensions do not fit a cluster of %d bytes", len(raw))
		}
		be.PutUint32(raw[at:], e.kind)
		be.PutUint32(raw[at+4:], uint32(len(e.body)))
		copy(raw[at+8:], e.body)
		at += 8 + (len(e.body)+7)/8*8
	}
	at += 8 // the end marker is zeros
	if h.backing != "" {
		if len(h.backing) > 1023 || at+len(h.backing) > len(raw) {
			return nil, fmt.Errorf("parent's path has %d bytes, at most %d fit", len(h.backing), min(1023, len(raw)-at))
		}
		be.PutUint64(raw[8:], uint64(at))
		be.PutUint32(raw[16:], uint32(len(h.backing)))
		copy(raw[at:], h.backing)
	}
	return raw, nil
}

// rewrite changes the header of an image in place; its data is not touched.
func rewrite(f disk.File, change func(*header) error) error {
	h, err := readHeader(f)
	if err != nil {
		return err
	}
	if err := change(h); err != nil {
		return err
	}
	raw, err := h.encode()
	if err != nil {
		return err
	}
	if _, err := f.WriteAt(raw, 0); err != nil {
		return err
	}
	return f.Sync()
}

// Reparent names another parent.
func Reparent(f disk.File, p disk.ParentRef) error {
	return rewrite(f, func(h *header) error {
		if h.backing == "" {
			return fmt.Errorf("%w: it is no layer", disk.ErrVariant)
		}
		return h.setParent(p)
	})
}

// SetID gives the disk another id.
func SetID(f disk.File, id string) error {
	return rewrite(f, func(h *header) error { return h.setID(id) })
}
