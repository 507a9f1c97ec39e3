package ovf

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
)

// A parcel is an archive around a package: .zip, .tar, .tar.gz or .tar.zst with
// an OVA or the files of a folder in it. What it is, its first bytes say. Only
// descriptor and manifest are read at first; a disk is unpacked beside when it
// is asked for.

// densest is how much a byte of an archive may become, by how it is compressed. A
// byte of deflate makes 1,032 at most (RFC 1951). A block of zstd has 128 KiB at
// most and takes four bytes when all of them are alike (RFC 8878, section 3.1.1.2).
var densest = map[string]int64{"zip": 1100, "gzip": 1100, "zstd": 33_000, "tar": 1}

// What is kept in memory of the small files of an archive: descriptors, manifests
// and certificates.
const (
	mostSmall      = 64
	mostSmallBytes = 4 * MaxDescriptorBytes
)

type parcel struct {
	files   disk.Files
	name    string
	path    string
	temp    string // directory for what is unpacked
	size    int64  // of the archive
	kind    string // of the archive, once it was opened
	members map[string]string
	open    []*os.File
}

// kind tells an archive by its first bytes: zip, gzip, zstd, tar or "".
func kind(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return "zip"
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return "gzip"
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return "zstd"
	case len(head) > 262 && string(head[257:262]) == "ustar":
		return "tar"
	}
	return ""
}

// each goes through the files of the archive in order until f returns an error;
// errFound ends it well.
func (p *parcel) each(f func(name string, size int64, r io.Reader) error) error {
	file, err := disk.OpenRead(p.files, p.path)
	if err != nil {
		return err
	}
	defer file.Close()
	head := make([]byte, blockBytes)
	n, err := io.ReadFull(file, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	what := kind(head[:n])
	if p.kind = what; what == "zip" {
		return p.eachZip(file, f)
	}
	var r io.Reader = bufio.NewReaderSize(file, 1<<20)
	switch what {
	case "gzip":
		z, err := gzip.NewReader(r)
		if err != nil {
			return p.broken(err)
		}
		r = z
	case "zstd":
		z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return p.broken(err)
		}
		defer z.Close()
		r = z
	}
	tr := tar.NewReader(r)
	for {
		h, err := tr.Next()
		if err == io.EOF { // what follows is padding, and the check sums of the compression
			if _, err := io.Copy(io.Discard, io.LimitReader(r, mostPadding)); err != nil {
				return p.broken(err)
			}
			return nil
		}
		if err != nil {
			return p.broken(err)
		}
		if h.Typeflag == tar.TypeDir {
			continue
		}
		if err := p.checkEntry(h.Name, h.Typeflag == tar.TypeReg); err != nil {
			return err
		}
		if err := f(h.Name, h.Size, tr); err != nil {
			return err
		}
	}
}

func (p *parcel) eachZip(file *os.File, f func(name string, size int64, r io.Reader) error) error {
	z, err := zip.NewReader(file, p.size)
	if err != nil {
		return p.broken(err)
	}
	for _, m := range z.File {
		if m.FileInfo().IsDir() {
			continue
		}
		if err := p.checkEntry(m.Name, m.Mode().IsRegular()); err != nil {
			return err
		}
		if m.UncompressedSize64/uint64(densest["zip"]) > m.CompressedSize64+4096 {
			return p.bomb(m.Name)
		}
		r, err := m.Open()
		if err != nil {
			return p.broken(err)
		}
		err = f(m.Name, int64(m.UncompressedSize64), r)
		r.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (p *parcel) checkEntry(name string, regular bool) error {
	if err := CheckPath(name); err != nil || !regular {
		msg := "is a link or a device, not a file"
		if err != nil {
			msg = err.Error()
		}
		return &Problem{Code: "package.path-escape", Subject: name, Offset: -1, Message: msg}
	}
	return nil
}

func (p *parcel) broken(err error) error {
	return &Problem{Code: "package.truncated", Subject: p.name, Offset: -1,
		Message: fmt.Sprintf("the archive can't be read on (%v); it is cut short or damaged", err)}
}

func (p *parcel) bomb(name string) error {
	return &Problem{Code: "package.bomb", Subject: name, Offset: -1,
		Message: "it would unpack to far more than an archive of this size can hold"}
}

// mostPadding is more than follows a tar archive's end within its last record.
const mostPadding = 16 << 20

var errFound = errors.New("found")

// openParcel opens the package in an archive. temp is a directory for what has
// to be unpacked; "" for the system's.
func openParcel(files disk.Files, file, temp string, size int64) (*Opened, error) {
	p := &parcel{files: files, name: filepath.Base(file), path: file, temp: temp, size: size,
		members: map[string]string{}}
	var entries []Entry
	small := map[string][]byte{}
	inner, dir, total, kept := "", "", int64(0), 0
	err := p.each(func(name string, size int64, r io.Reader) error {
		if total += size; total/densest[p.kind] > p.size+4096 {
			return p.bomb(name)
		}
		if len(entries) == maxEntries {
			return &Problem{Code: "package.too-large", Subject: p.name, Offset: -1,
				Message: fmt.Sprintf("it has more than %d entries", maxEntries)}
		}
		switch strings.ToLower(path.Ext(name)) {
		case ".ova":
			if inner == "" {
				inner = name
			}
		case ".ovf", ".mf", ".cert":
			raw, err := io.ReadAll(io.LimitReader(r, MaxDescriptorBytes+1))
			if err != nil {
				return p.broken(err)
			}
			if kept += len(raw); len(small) == mostSmall || len(raw) > MaxDescriptorBytes || kept > mostSmallBytes {
				return &Problem{Code: "package.too-large", Subject: name, Offset: -1,
					Message: fmt.Sprintf("it has more than %d descriptors, manifests and certificates, or more than "+
						"%d MiB of them",
						mostSmall, mostSmallBytes>>20)}
			}
			small[name] = raw
			if strings.EqualFold(path.Ext(name), ".ovf") && dir == "" {
				dir = path.Dir(name)
			}
		}
		if _, twice := p.members[name]; twice {
			return &Problem{Code: "package.entry-repeated", Subject: name, Offset: -1,
				Message: "two entries of the archive bear this name"}
		}
		p.members[name] = name
		entries = append(entries, Entry{Name: name, Size: size})
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(small) == 0 && inner != "" {
		src, err := p.unpack(inner)
		if err != nil {
			return nil, errors.Join(err, p.close())
		}
		o, err := OpenSource(src, path.Base(inner), p.close)
		if err == nil {
			o.Packed = true
		}
		return o, err
	}
	// The package is the directory with the descriptor.
	var of []Entry
	for _, e := range entries {
		if path.Dir(e.Name) != dir {
			continue
		}
		rel := path.Base(e.Name)
		p.members[rel] = e.Name
		of = append(of, Entry{Name: rel, Size: e.Size})
	}
	s, err := skeleton("folder", p.name, of, func(e Entry, most int64) ([]byte, error) {
		raw := small[p.members[e.Name]]
		return raw[:min(int64(len(raw)), most+1)], nil
	})
	if err != nil {
		return nil, err
	}
	s.Packed = true
	return opened(s, p)
}

func (p *parcel) source(e Entry) (disk.Source, error) {
	name, ok := p.members[e.Name]
	if !ok {
		return nil, fmt.Errorf("%s is not in %s", e.Name, p.name)
	}
	return p.unpack(name)
}

// unpack writes a member to a file that nobody else sees.
func (p *parcel) unpack(member string) (disk.Source, error) {
	var out *os.File
	err := p.each(func(name string, size int64, r io.Reader) (err error) {
		if name != member {
			return nil
		}
		dir := p.temp
		if dir == "" {
			dir = os.TempDir()
		}
		var st unix.Statfs_t
		if unix.Statfs(dir, &st) == nil && int64(st.Bavail)*st.Bsize < size {
			return &Problem{Code: "space.temporary", Subject: name, Offset: -1,
				Message: fmt.Sprintf("to unpack it needs %d bytes in %s, which has %d free; another directory is "+
					"chosen with "+
					"TMPDIR", size, dir, int64(st.Bavail)*st.Bsize)}
		}
		if out, err = os.CreateTemp(dir, ".unvora-unpacked-"); err != nil {
			return err
		}
		p.open = append(p.open, out)
		if err := os.Remove(out.Name()); err != nil { // it lives as long as it is open
			return err
		}
		n, err := io.Copy(out, io.LimitReader(r, size+1))
		switch {
		case err != nil:
			return p.broken(err)
		case n > size:
			return p.bomb(name)
		case n < size:
			return p.broken(fmt.Errorf("%s has %d bytes instead of %d", name, n, size))
		}
		return errFound
	})
	if err != nil && !errors.Is(err, errFound) {
		return nil, err
	}
	if out == nil {
		return nil, fmt.Errorf("%s is not in %s", member, p.name)
	}
	return disk.OpenFile(out)
}

func (p *parcel) close() error {
	var errs []error
	for _, f := range p.open {
		errs = append(errs, f.Close())
	}
	p.open = nil
	return errors.Join(errs...)
}
