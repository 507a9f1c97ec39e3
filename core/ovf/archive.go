package ovf

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
)

// An OVA is a USTAR archive (POSIX.1-1988): members of a 512-byte header and
// data padded to 512 bytes. USTAR's size field ends at 8 GiB; a larger member
// gets the base-256 size that GNU tar writes and every common reader takes.
// Read are that and the PAX way (POSIX.1-2001).
const blockBytes = 512

const maxEntries = 4096

// Entry is a file in a package.
type Entry struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`   // in bytes
	Offset int64  `json:"offset"` // of its data in the archive; 0 in a folder

	Parts []Entry `json:"parts,omitempty"` // that it consists of, in order; none for one that is in one piece
}

// Index lists the members of an archive without reading their data.
func Index(src disk.Source, name string) ([]Entry, error) {
	sr := io.NewSectionReader(src, 0, src.Size())
	tr := tar.NewReader(sr)
	var entries []Entry
	seen := map[string]bool{}
	for {
		before, _ := sr.Seek(0, io.SeekCurrent)
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			if len(entries) == 0 && before == 0 {
				return nil, &Problem{Code: "package.unknown", Subject: name, Offset: 0,
					Message: "this is no package: neither an OVA archive nor a descriptor"}
			}
			return entries, &Problem{Code: "package.truncated", Subject: name, Offset: before,
				Message: fmt.Sprintf("the archive can't be read on from here (%v); it is cut short or damaged", err)}
		}
		offset, _ := sr.Seek(0, io.SeekCurrent)
		if h.Typeflag == tar.TypeDir {
			continue
		}
		if err := CheckPath(h.Name); err != nil || h.Typeflag != tar.TypeReg {
			msg := "is a link or a device, not a file"
			if err != nil {
				msg = err.Error()
			}
			return entries, &Problem{Code: "package.path-escape", Subject: h.Name, Offset: before, Message: msg}
		}
		switch {
		case seen[h.Name]:
			return entries, &Problem{Code: "package.entry-repeated", Subject: h.Name, Offset: before,
				Message: "two entries of the archive bear this name"}
		case len(entries) == maxEntries:
			return entries, &Problem{Code: "package.too-large", Subject: name, Offset: before,
				Message: fmt.Sprintf("it has more than %d entries", maxEntries)}
		case h.Size < 0 || offset+h.Size > src.Size():
			return entries, &Problem{Code: "package.truncated", Subject: h.Name, Offset: offset,
				Message: fmt.Sprintf("it should have %d bytes, the archive ends after %d of them", h.Size,
					src.Size()-offset)}
		}
		seen[h.Name] = true
		entries = append(entries, Entry{Name: h.Name, Size: h.Size, Offset: offset})
	}
	if len(entries) == 0 {
		return nil, &Problem{Code: "package.truncated", Subject: name, Offset: 0, Message: "the archive is empty"}
	}
	return entries, nil
}

// CheckPath tells why a name in a package would leave its directory.
func CheckPath(name string) error {
	switch {
	case name == "" || strings.ContainsRune(name, 0):
		return fmt.Errorf("is no file name")
	case strings.HasPrefix(name, "/") || strings.Contains(name, `\`) || len(name) > 1 && name[1] == ':':
		return fmt.Errorf("is an absolute path or one of another system")
	case path.Clean(name) != strings.TrimPrefix(name, "./") || strings.HasPrefix(path.Clean(name), ".."):
		return fmt.Errorf("leaves the package's directory")
	}
	return nil
}

// Header is the tar header of a member, always 512 bytes.
func Header(name string, size int64, modified time.Time) ([]byte, error) {
	h := &tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o644,
		ModTime: modified.Truncate(time.Second),
		Format:  tar.FormatUSTAR}
	if size >= 8<<30 {
		h.Format = tar.FormatGNU
	}
	var b bytes.Buffer
	if err := tar.NewWriter(&b).WriteHeader(h); err != nil {
		return nil, fmt.Errorf("tar header of %s: %w", name, err)
	}
	if b.Len() != blockBytes {
		return nil, fmt.Errorf("name %q is too long for a package", name)
	}
	return b.Bytes(), nil
}

// Padding is how many bytes follow a member of that size.
func Padding(size int64) int64 { return (blockBytes - size%blockBytes) % blockBytes }

// Trailer ends an archive.
var Trailer = make([]byte, 2*blockBytes)

// Member is a file that was written to a package.
type Member struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	Sum  string `json:"sum"` // digest, by the algorithm of the package's manifest; hexadecimal
}

// Writer writes a package into a file: sizes that are known only afterwards
// are filled in by writing the headers last. The order of calls is Begin, the
// data by the caller, End, for every disk; then Finish.
type Writer struct {
	f         io.WriterAt
	name      string // of the descriptor
	room      int
	modified  time.Time
	algorithm string
	at        int64
	members   []Member

	// Signs makes a certificate file; nil: there is none.
	Signs *SigningKey
}

// NewWriter sets room bytes aside for the descriptor. members are those that
// an earlier try has written: it is gone on after them. Their digests are by algorithm.
func NewWriter(f io.WriterAt, descriptor string, room int, modified time.Time, algorithm string,
	members []Member) *Writer {
	w := &Writer{f: f, name: descriptor, room: room, modified: modified, algorithm: algorithm,
		at: blockBytes + int64(room) + Padding(int64(room))}
	for _, m := range members {
		w.at += blockBytes + m.Size + Padding(m.Size)
	}
	w.members = append(w.members, members...)
	return w
}

// Begin tells where in the file the next member's data goes.
func (w *Writer) Begin() int64 { return w.at + blockBytes }

// End writes the header of the member whose data was written at Begin.
func (w *Writer) End(m Member) error {
	h, err := Header(m.Name, m.Size, w.modified)
	if err != nil {
		return err
	}
	if _, err := w.f.WriteAt(h, w.at); err != nil {
		return err
	}
	if n := Padding(m.Size); n > 0 {
		if _, err := w.f.WriteAt(make([]byte, n), w.at+blockBytes+m.Size); err != nil {
			return err
		}
	}
	w.at += blockBytes + m.Size + Padding(m.Size)
	w.members = append(w.members, m)
	return nil
}

// Members lists what was written so far.
func (w *Writer) Members() []Member { return w.members }

// Finish writes manifest, certificate file, trailer and, first in the archive, the descriptor.
// It returns the length of the whole.
func (w *Writer) Finish(descriptor []byte) (int64, error) {
	if len(descriptor) != w.room {
		return 0, fmt.Errorf("descriptor has %d bytes, %d were set aside", len(descriptor), w.room)
	}
	h, err := Header(w.name, int64(w.room), w.modified)
	if err != nil {
		return 0, err
	}
	if _, err := w.f.WriteAt(append(h, append(descriptor, make([]byte, Padding(int64(w.room)))...)...), 0); err != nil {
		return 0, err
	}
	manifest := ManifestOf(w.algorithm, w.name, descriptor, w.members)
	if _, err := w.f.WriteAt(manifest, w.Begin()); err != nil {
		return 0, err
	}
	if err := w.End(Member{Name: ManifestName(w.name), Size: int64(len(manifest))}); err != nil {
		return 0, err
	}
	if w.Signs != nil {
		signed, err := w.Signs.Sign(ManifestName(w.name), w.algorithm, manifest)
		if err != nil {
			return 0, err
		}
		if _, err := w.f.WriteAt(signed, w.Begin()); err != nil {
			return 0, err
		}
		if err := w.End(Member{Name: CertificateName(w.name), Size: int64(len(signed))}); err != nil {
			return 0, err
		}
	}
	if _, err := w.f.WriteAt(Trailer, w.at); err != nil {
		return 0, err
	}
	return w.at + int64(len(Trailer)), nil
}

// ManifestOf is the manifest of a descriptor and its disks, all digested by algorithm.
func ManifestOf(algorithm, name string, descriptor []byte, members []Member) []byte {
	sums := map[string]string{name: digestOf(algorithm, descriptor)}
	for _, m := range members {
		sums[m.Name] = m.Sum
	}
	return EncodeManifest(algorithm, sums)
}

// ManifestName is what the manifest of a descriptor is called.
func ManifestName(descriptor string) string {
	return strings.TrimSuffix(descriptor, path.Ext(descriptor)) + ".mf"
}

// CertificateName is what the certificate file of a descriptor is called.
func CertificateName(descriptor string) string {
	return strings.TrimSuffix(descriptor, path.Ext(descriptor)) + ".cert"
}

// WriteMember writes one member to a pipe: header, data and padding.
func WriteMember(w io.Writer, name string, size int64, modified time.Time, data io.Reader) error {
	h, err := Header(name, size, modified)
	if err != nil {
		return err
	}
	if _, err := w.Write(h); err != nil {
		return err
	}
	if n, err := io.Copy(w, io.LimitReader(data, size)); err != nil || n != size {
		return fmt.Errorf("%s: %d of %d bytes written: %w", name, n, size, orShort(err))
	}
	_, err = w.Write(make([]byte, Padding(size)))
	return err
}

func orShort(err error) error {
	if err == nil {
		return io.ErrUnexpectedEOF
	}
	return err
}
