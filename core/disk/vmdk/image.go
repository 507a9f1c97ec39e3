package vmdk

import (
	"errors"
	"fmt"
	"io"
	"sort"

	"unvora.example/unvora/core/disk"
)

// Image is a VMDK of one or more extents, read in any order.
type Image struct {
	props   descriptor
	variant string
	clean   bool
	parts   []part
	size    int64
	closers []io.Closer
}

// extent holds a run of the disk's bytes; offsets are from its own start.
type extent interface {
	mapAt(off int64) (disk.Range, error)
	readAt(p []byte, off int64) (int, error)
}

type part struct {
	extent
	start, length int64
}

// Open reads headers, descriptor and grain directories. open is asked for the
// extents that lie in other files.
func Open(src disk.Source, open disk.Opener) (*Image, error) {
	i := &Image{clean: true}
	if c, ok := src.(io.Closer); ok {
		i.closers = append(i.closers, c)
	}
	head := make([]byte, min(headerBytes, src.Size()))
	if _, err := src.ReadAt(head, 0); err != nil && len(head) > 0 {
		return nil, fmt.Errorf("%w: read the header: %v", disk.ErrFormat, err)
	}
	switch {
	case isCOW(head):
		return nil, fmt.Errorf("%w: an extent of the kind COWD", disk.ErrVariant)
	case isDescriptor(head):
		return i, i.openExtents(src, open)
	}
	s, err := openSparse(src)
	if err != nil {
		return nil, err
	}
	i.props, i.clean, i.variant = s.descriptorProps, !s.unclean, "sparse"
	if s.flags&flagCompressed != 0 {
		i.variant = "stream"
	}
	i.add(s, s.bytes())
	return i, nil
}

func (i *Image) add(e extent, length int64) {
	if length > 0 {
		i.parts = append(i.parts, part{e, i.size, length})
		i.size += length
	}
}

// openExtents opens what a descriptor in a file of its own names. When that
// fails, the files opened so far are closed; src stays the caller's.
func (i *Image) openExtents(src disk.Source, open disk.Opener) (err error) {
	_, _, text, err := locateDescriptor(src)
	if err != nil {
		return err
	}
	if i.props, err = parseDescriptor(text); err != nil {
		return err
	}
	if len(i.props.extents) == 0 {
		return fmt.Errorf("%w: the descriptor names no extent", disk.ErrDamaged)
	}
	own := len(i.closers)
	defer func() {
		if err != nil {
			for _, c := range i.closers[own:] {
				c.Close()
			}
		}
	}()
	i.variant = "flat"
	for n, line := range i.props.extents {
		if i.size > 1<<56 {
			return fmt.Errorf("%w: the extents add up to more than a disk can have", disk.ErrDamaged)
		}
		if line.kind == "ZERO" {
			i.add(zeros{}, line.sectors*sectorBytes)
			continue
		}
		if line.kind != "FLAT" && line.kind != "VMFS" && line.kind != "SPARSE" {
			return fmt.Errorf("%w: extent %d is of the kind %s", disk.ErrVariant, n+1, line.kind)
		}
		file, err := open.Open(disk.NativePath(line.file))
		if err != nil {
			return fmt.Errorf("extent %d, %q: %w", n+1, line.file, err)
		}
		if c, ok := file.(io.Closer); ok {
			i.closers = append(i.closers, c)
		}
		length := line.sectors * sectorBytes
		if line.kind == "SPARSE" {
			i.variant = "sparse"
			s, err := openSparse(file)
			if err != nil {
				return fmt.Errorf("extent %d, %q: %w", n+1, line.file, err)
			}
			if s.bytes() < length {
				return fmt.Errorf("extent %d, %q: %w", n+1, line.file,
					disk.Damaged(12, "it has %d bytes, the descriptor counts on %d", s.bytes(), length))
			}
			i.clean = i.clean && !s.unclean
			i.add(s, length)
			continue
		}
		if at := line.at * sectorBytes; file.Size()-at < length {
			return fmt.Errorf("extent %d, %q: %w", n+1, line.file,
				disk.Damaged(file.Size(), "it ends here, the descriptor counts on %d bytes", at+length))
		}
		i.add(flat{file, line.at * sectorBytes, length}, length)
	}
	return nil
}

func (i *Image) Info() disk.Info {
	id := i.props.id
	if id == "" {
		id = i.props.cid
	}
	return disk.Info{
		Format: Format, Variant: i.variant, VirtualBytes: i.size, SectorBytes: sectorBytes, ID: id,
		Linkage: i.props.cid,
		Parent:  i.props.parent(), Clean: i.clean,
	}
}

func (i *Image) Close() error {
	var errs []error
	for _, c := range i.closers {
		errs = append(errs, c.Close())
	}
	return errors.Join(errs...)
}

// at finds the part that guest byte off lies in.
func (i *Image) at(off int64) part {
	return i.parts[sort.Search(len(i.parts), func(n int) bool { return i.parts[n].start > off })-1]
}

// Map tells of one extent at a time.
func (i *Image) Map(off int64) (disk.Range, error) {
	if off < 0 || off >= i.size {
		return disk.Range{}, disk.ErrRange
	}
	p := i.at(off)
	r, err := p.mapAt(off - p.start)
	r.Offset += p.start
	r.Length = min(r.Length, p.start+p.length-off)
	return r, err
}

func (i *Image) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= i.size {
			return done, io.EOF
		}
		e := i.at(at)
		n, err := e.readAt(p[done:min(int64(len(p)), int64(done)+e.start+e.length-at)], at-e.start)
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// flat is an extent that is nothing but its bytes.
type flat struct {
	src        disk.Source
	at, length int64
}

func (f flat) mapAt(off int64) (disk.Range, error) { return disk.MapPlain(f.src, f.at, off, f.length) }

func (f flat) readAt(p []byte, off int64) (int, error) {
	n, err := f.src.ReadAt(p, f.at+off)
	if n < len(p) {
		return n, disk.Damaged(f.at+off+int64(n), "read: %v", err)
	}
	return n, nil
}

// zeros is an extent that has no file.
type zeros struct{}

func (zeros) mapAt(off int64) (disk.Range, error) {
	return disk.Range{Offset: off, Length: 1 << 60, Kind: disk.Zero}, nil
}

func (zeros) readAt(p []byte, _ int64) (int, error) {
	clear(p)
	return len(p), nil
}
