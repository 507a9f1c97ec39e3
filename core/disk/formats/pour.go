package formats

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"os"
	"slices"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
)

// Of what is poured.
const (
	pourBytes = 1 << 20 // that are carried at once
	pourAhead = 16      // pieces that are read while one is written: what is read may be far away
)

// Pour writes what a layer holds of its own into the image at path, which stands alone and has the format of o: raw, or
// QCOW2 of version 3. Begun again, it does the same. What was written is read back from where it is stored. progress is
// told of guest bytes.
func Pour(ctx context.Context, from disk.Image, path string, o Options, progress func(int64)) error {
	into, err := openPoured(path, o.Format, nil, o)
	if err != nil {
		return fmt.Errorf("write into %s: %w", path, err)
	}
	if size := into.size(); size != from.Info().VirtualBytes {
		return errors.Join(fmt.Errorf("%s holds %d bytes for the guest, what is to be written into it %d", path, size,
			from.Info().VirtualBytes), into.Close())
	}
	into.sum = sha256.New()
	if err := errors.Join(into.pour(ctx, from, progress), into.Close()); err != nil {
		return fmt.Errorf("write into %s: %w", path, err)
	}
	return into.readBack(ctx, path, o)
}

// poured is an image that is written into in place.
type poured struct {
	write  func(p []byte, off int64) (int, error)
	size   func() int64
	finish func() error
	source *disk.OSFile

	sum   hash.Hash // of what was written, each piece after its place; nil: nobody asks
	where []disk.Range
}

// openPoured opens an image to be written into; below is what it stands on.
func openPoured(path, format string, below disk.Image, o Options) (*poured, error) {
	if !slices.Contains(Commits, format) {
		return nil, fmt.Errorf("it is %s, into which nothing can be committed: copy the disk to one that stands alone",
			format)
	}
	source, err := disk.OpenSource(o.files(), path, os.O_RDWR)
	if err != nil {
		return nil, err
	}
	if format == "raw" {
		return &poured{write: source.WriteAt, size: source.Size, finish: func() error { return nil },
			source: source}, nil
	}
	img, err := qcow2.OpenWrite(source, below)
	if err != nil {
		return nil, errors.Join(err, source.Close())
	}
	size := func() int64 { return img.Info().VirtualBytes }
	return &poured{write: img.WriteAt, size: size, finish: img.Finish, source: source}, nil
}

func (p *poured) Close() error {
	return errors.Join(p.finish(), p.source.Sync(), p.source.Close())
}

// piece is a part of what is poured.
type piece struct {
	at   disk.Range
	data []byte
	read chan error // once
}

// pour carries all that an image holds of its own, in ascending order.
func (p *poured) pour(ctx context.Context, from disk.Image, progress func(int64)) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	queue := make(chan *piece, pourAhead)
	var failed error
	go func() {
		defer close(queue)
		failed = pieces(from, func(at disk.Range) error {
			x := &piece{at: at, data: make([]byte, at.Length), read: make(chan error, 1)}
			if at.Kind == disk.Zero {
				x.read <- nil
			} else {
				go func() {
					_, err := from.ReadAt(x.data, at.Offset)
					x.read <- err
				}()
			}
			select {
			case queue <- x:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	var err error
	for x := range queue {
		if e := <-x.read; err == nil {
			err = e
		}
		if err != nil {
			stop() // what is under way is waited for, and nothing is written any more
			continue
		}
		if _, err = p.write(x.data, x.at.Offset); err == nil {
			p.note(x.at, x.data)
			progress(x.at.Length)
		}
	}
	if err != nil {
		return err
	}
	return failed
}

// pieces goes through all that an image holds of its own.
func pieces(from disk.Image, each func(at disk.Range) error) error {
	size := from.Info().VirtualBytes
	for off := int64(0); off < size; {
		r, err := from.Map(off)
		if err != nil {
			return err
		}
		end := min(r.End(), size)
		for at := off; r.Kind != disk.Parent && at < end; at += pourBytes {
			part := disk.Range{Offset: at, Length: min(pourBytes, end-at), Kind: r.Kind}
			if err := each(part); err != nil {
				return err
			}
		}
		off = end
	}
	return nil
}

// note keeps what was written, to be read back.
func (p *poured) note(at disk.Range, data []byte) {
	if p.sum == nil {
		return
	}
	p.where = append(p.where, at)
	weigh(p.sum, at, data)
}

func weigh(sum hash.Hash, at disk.Range, data []byte) {
	sum.Write(binary.BigEndian.AppendUint64(nil, uint64(at.Offset)))
	sum.Write(data)
}

// readBack reads from where it is stored what was written.
func (p *poured) readBack(ctx context.Context, path string, o Options) (err error) {
	source, err := disk.OpenSource(o.files(), path, os.O_RDONLY)
	if err != nil {
		return err
	}
	source.Forget()
	if err := source.Close(); err != nil {
		return err
	}
	c, err := OpenChain(path, o)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	sum, buf := sha256.New(), make([]byte, pourBytes)
	for _, at := range p.where {
		if err := ctx.Err(); err != nil {
			return err
		}
		data := buf[:at.Length]
		if _, err := c.ReadAt(data, at.Offset); err != nil {
			return err
		}
		weigh(sum, at, data)
	}
	if string(sum.Sum(nil)) != string(p.sum.Sum(nil)) {
		return fmt.Errorf("%s: %w", path, disk.ErrReadBack)
	}
	return nil
}
