package guest

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"

	ntfs "www.velocidex.com/golang/go-ntfs/parser"

	"unvora.example/unvora/core/disk"
)

const (
	ntfsVolume = 3    // number of the file $Volume
	ntfsBitmap = 6    // of $Bitmap
	ntfsLog    = 2    // of $LogFile
	ntfsInfo   = 0x70 // the attribute $VOLUME_INFORMATION
	ntfsData   = 0x80 // the attribute $DATA
	ntfsDirty  = 0x1
	ntfsNobody = 0xffff // is at work on the log
	ntfsIdle   = 0x2    // of the log: the volume was closed
	ntfsFast   = 2      // major version of a log that is kept for a fast start; it is 1 once it was closed
)

// shadows begins the header of shadow copies, which need free clusters too.
var shadows = []byte{0x6b, 0x87, 0x08, 0x38, 0x76, 0xc1, 0x48, 0x4e, 0xb7, 0xae, 0x04, 0x04, 0x6e, 0x6c, 0xc7, 0x52}

// freeNTFS finds free clusters by the file $Bitmap.
func freeNTFS(ctx context.Context, v *io.SectionReader, put func(from, to int64)) error {
	le := binary.LittleEndian
	boot := make([]byte, 512)
	if err := disk.ReadFull(v, boot, 0); err != nil {
		return err
	}
	sectorBytes, per := int64(le.Uint16(boot[0xb:])), int64(boot[0xd])
	if per > 0x80 { // a power of two
		per = 1 << min(32, 0x100-per)
	}
	cluster := sectorBytes * per
	if sectorBytes < 256 || sectorBytes > 4096 || cluster <= 0 || cluster > 2<<20 {
		return errOdd("clusters of %d bytes", cluster)
	}
	clusters := int64(le.Uint64(boot[0x28:])) / per
	if clusters <= 0 || clusters > v.Size()/cluster {
		return errOdd("%d clusters", clusters)
	}
	header := make([]byte, 64)
	if err := disk.ReadFull(v, header, 0x1e00); err != nil {
		return err
	}
	if bytes.Equal(header[:16], shadows) && le.Uint64(header[0x30:]) != 0 {
		return errors.New("it keeps shadow copies, which need free space as it was")
	}
	fs, err := ntfs.GetNTFSContext(v, 0)
	if err != nil {
		return err
	}
	if err := closedNTFS(fs); err != nil {
		return err
	}
	bitmap, err := systemFile(fs, ntfsBitmap)
	if err != nil {
		return err
	}
	if err := inFull(bitmap, (clusters+7)/8); err != nil {
		return err
	}
	needed := map[int64]bool{0: true, int64(le.Uint64(boot[0x30:])): true, int64(le.Uint64(boot[0x38:])): true}
	begun := int64(-1) // where a run of free clusters does
	const piece = windowBytes / 2
	raw := make([]byte, piece)
	for first := int64(0); first < clusters; first += 8 * piece {
		if err := ctx.Err(); err != nil {
			return err
		}
		some := raw[:min(piece, (clusters-first+7)/8)]
		if err := disk.ReadFull(bitmap, some, first/8); err != nil {
			return err
		}
		for i := range min(8*piece, clusters-first) {
			switch n, used := first+i, some[i/8]>>(i%8)&1 != 0; {
			case !used && needed[n]:
				return errOdd("cluster %d is free, and in use", n)
			case !used && begun < 0:
				begun = n
			case used && begun >= 0:
				put(begun*cluster, n*cluster)
				begun = -1
			}
		}
	}
	if begun >= 0 {
		put(begun*cluster, clusters*cluster)
	}
	return nil
}

// systemFile opens one of the files that NTFS keeps for itself, by its number.
func systemFile(fs *ntfs.NTFSContext, number int64) (ntfs.RangeReaderAt, error) {
	file, err := fs.GetMFT(number)
	if err != nil {
		return nil, err
	}
	return ntfs.OpenStream(fs, file, ntfsData, ntfs.WILDCARD_STREAM_ID, "")
}

// inFull tells whether the first bytes of a file lie somewhere: what does not would read as zeros.
func inFull(file ntfs.RangeReaderAt, bytes int64) error {
	there := int64(0)
	for _, r := range file.Ranges() {
		if r.IsSparse || r.Offset > there {
			break
		}
		there = max(there, r.Offset+r.Length)
	}
	if there < bytes {
		return errOdd("its map of free clusters has %d bytes, of %d", there, bytes)
	}
	return nil
}

// closedNTFS tells whether a volume was closed, and its system is not only asleep.
func closedNTFS(fs *ntfs.NTFSContext) error {
	le := binary.LittleEndian
	volume, err := fs.GetMFT(ntfsVolume)
	if err != nil {
		return err
	}
	told := false
	for _, a := range volume.EnumerateAttributes(fs) {
		if a.Type().Value != ntfsInfo {
			continue
		}
		raw := make([]byte, 12)
		if err := disk.ReadFull(a.Data(fs), raw, 0); err != nil {
			return err
		}
		if le.Uint16(raw[10:])&ntfsDirty != 0 {
			return errUnclean
		}
		told = true
	}
	if !told {
		return errOdd("it says nothing of how it was left")
	}
	log, err := systemFile(fs, ntfsLog)
	if err != nil {
		return err
	}
	if err := idleLog(log); err != nil {
		return err
	}
	asleep, err := ntfs.GetDataForPath(fs, "hiberfil.sys")
	if err != nil {
		return nil // there is none
	}
	head := make([]byte, 4)
	if disk.ReadFull(asleep, head, 0) == nil && bytes.EqualFold(head, []byte("hibr")) {
		return errors.New("its system is only asleep: it was hibernated, or shut down for a fast start")
	}
	return nil
}

// idleLog tells whether nobody is at work on a log: by the newer one of the pages that it begins with, or as one that
// was emptied.
func idleLog(log io.ReaderAt) error {
	le := binary.LittleEndian
	newest, idle := int64(-1), false
	for _, at := range []int64{0, 4096} {
		page := make([]byte, 512)
		if err := disk.ReadFull(log, page, at); err != nil {
			return err
		}
		if at == 0 && len(bytes.Trim(page, "\xff")) == 0 {
			return nil
		}
		area := int(le.Uint16(page[0x18:]))
		if string(page[:4]) != "RSTR" || area < 0x1e || area+16 > 510 {
			continue
		}
		if lsn := int64(le.Uint64(page[area:])); lsn > newest {
			newest = lsn
			idle = le.Uint16(page[0x1c:]) < ntfsFast &&
				(le.Uint16(page[area+12:]) == ntfsNobody || le.Uint16(page[area+14:])&ntfsIdle != 0)
		}
	}
	if newest < 0 || !idle {
		return errUnclean
	}
	return nil
}
