package standin

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/cimi"
)

// capture makes an image of a volume: all of it, or a layer of what has changed
// since another image.
func (s *Server) capture(v *Volume, name, since string, properties map[string]string) (*Image, error) {
	if err := s.guestWrites(v); err != nil {
		return nil, err
	}
	im := Image{ID: newID(), Name: name, State: cimi.Creating, Since: since, Key: newID() + newID(), Bytes: v.Bytes,
		Properties: properties}
	if err := copyRaw(s.imagePath(im.ID, ".raw"), VolumePath(s.dir, v.ID)); err != nil {
		return nil, err
	}
	s.state.Images = append(s.state.Images, im)
	if err := s.save(); err != nil {
		return nil, err
	}
	s.busy.Go(func() {
		state := cimi.Available
		if err := s.write(im); err != nil {
			s.log.Error("make an image", "image", im.ID, "error", err)
			state = cimi.Failed
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		var err error
		if at := s.image(im.ID); at != nil {
			at.State = state
			err = s.save()
		} else { // it was dropped while it was made
			err = s.removeImage(im.ID)
		}
		if err != nil {
			s.log.Error("keep what became of an image", "image", im.ID, "error", err)
		}
	})
	return &im, nil
}

func (s *Server) write(im Image) error {
	format, err := formats.ByName("qcow2")
	if err != nil {
		return err
	}
	ctx := context.Background()
	target := s.imagePath(im.ID, ".qcow2")
	if im.Since == "" {
		_, err := carry.Copy(ctx, carry.Order{Source: s.imagePath(im.ID, ".raw"),
			Options: formats.Options{Format: "raw"},
			Target:  target, Format: format})
		return err
	}
	f, err := os.Create(target)
	if err != nil {
		return err
	}
	defer f.Close()
	file, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	layer, err := format.Create(file, disk.Spec{VirtualBytes: im.Bytes,
		Parent: &disk.ParentRef{Path: im.Since + ".qcow2", Format: "qcow2"}})
	if err != nil {
		return err
	}
	d := &differences{unit: int64(layer.BlockBytes()), size: im.Bytes}
	for i, id := range []string{im.ID, im.Since} {
		raw, err := os.Open(s.imagePath(id, ".raw"))
		if err != nil {
			return err
		}
		defer raw.Close()
		d.files[i] = raw
	}
	if err := disk.Pump(ctx, layer, d, disk.Options{}); err != nil {
		return err
	}
	return layer.Finish()
}

// differences feeds the blocks in which a raw image differs from another.
type differences struct {
	files    [2]*os.File // the new one, the old one
	at, size int64
	unit     int64
}

func (d *differences) Next() (disk.Piece, error) {
	now, was := make([]byte, d.unit), make([]byte, d.unit)
	for d.at < d.size {
		next := min(d.nextData(d.files[0]), d.nextData(d.files[1])) / d.unit * d.unit
		if next > d.at {
			d.at = next
			continue
		}
		n := min(d.unit, d.size-d.at)
		for i, block := range [][]byte{now[:n], was[:n]} {
			if _, err := d.files[i].ReadAt(block, d.at); err != nil && err != io.EOF {
				return disk.Piece{}, err
			}
		}
		off := d.at
		d.at += n
		if !bytes.Equal(now[:n], was[:n]) {
			block := bytes.Clone(now[:n])
			return disk.Piece{Offset: off, Length: int(n), Load: func(dst []byte) error {
				copy(dst,
					block)
				return nil
			}}, nil
		}
	}
	return disk.Piece{}, io.EOF
}

// nextData is where the next data of a file begins.
func (d *differences) nextData(f *os.File) int64 {
	at, err := unix.Seek(int(f.Fd()), d.at, unix.SEEK_DATA)
	if err != nil {
		return d.size
	}
	return at
}

// copyRaw copies the data of a raw image and leaves its holes.
func copyRaw(to, from string) error {
	raw, err := formats.ByName("raw")
	if err != nil {
		return err
	}
	_, err = carry.Copy(context.Background(), carry.Order{Source: from, Options: formats.Options{Format: "raw"},
		Target: to, Format: raw})
	return err
}

// mostPiece is how many bytes are taken at once.
const mostPiece = 16 << 20

// receive writes a part of an image that is brought, as Content-Range says
// (RFC 9110, 14.4).
func (s *Server) receive(im *Image, contentRange, digest string, body io.Reader) error {
	var from, to, all int64
	if n, err := fmt.Sscanf(contentRange, "bytes %d-%d/%d", &from, &to, &all); n != 3 || err != nil {
		return fmt.Errorf("Content-Range %q: want bytes FIRST-LAST/ALL", contentRange)
	}
	if all != im.Bytes || from < 0 || to < from || to >= all {
		return fmt.Errorf("Content-Range %q does not fit into %d bytes", contentRange, im.Bytes)
	}
	if to-from >= mostPiece {
		return fmt.Errorf("Content-Range %q is more than %d bytes at once", contentRange, mostPiece)
	}
	piece := make([]byte, to-from+1)
	if _, err := io.ReadFull(body, piece); err != nil {
		return err
	}
	if came := cimi.ContentDigest(piece); digest != came {
		return fmt.Errorf("what came has the digest %s, it was said to be %q", came, digest)
	}
	f, err := os.OpenFile(s.imagePath(im.ID, ".upload"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if st, err := f.Stat(); err == nil && st.Size() < im.Bytes {
		if err := f.Truncate(im.Bytes); err != nil {
			return err
		}
	}
	_, err = f.WriteAt(piece, from)
	return err
}

// received ends a bringing: the whole must have the digest that is told
// (RFC 9530, Repr-Digest).
func (s *Server) received(im *Image, digest string) error {
	f, err := os.Open(s.imagePath(im.ID, ".upload"))
	if err != nil {
		return err
	}
	defer f.Close()
	whole := cimi.NewWhole()
	if _, err := io.Copy(whole, f); err != nil {
		return err
	}
	if sum := whole.Digest(); sum != strings.TrimSpace(digest) {
		return fmt.Errorf("what came has the digest %s, it was said to be %s", sum, digest)
	}
	if err := os.Rename(f.Name(), s.imagePath(im.ID, ".raw")); err != nil {
		return err
	}
	im.State = cimi.Available
	return s.save()
}
