package ovf

import (
	"encoding"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"strconv"
	"strings"

	"unvora.example/unvora/core/disk"
)

// A file of a package may come in parts of one size (DSP0243 1.1, section 7.1: chunkSize): NAME.000000000,
// NAME.000000001 and so on. They are read as the one file that they are, and each is digested by itself.

// PartName is what part n of a file is called.
func PartName(href string, n int) string { return fmt.Sprintf("%s.%09d", href, n) }

// isPart tells whether a name is that of a part of a file.
func isPart(href, name string) bool {
	number, ok := strings.CutPrefix(name, href+".")
	n, err := strconv.Atoi(number)
	return ok && err == nil && n >= 0 && name == PartName(href, n)
}

// mostParts of a file are looked for.
const mostParts = 1 << 20

// joined finds the parts of a file among the entries, by their names. It says what of them is missing or has another
// size than it should.
func (f FileRef) joined(have map[string]Entry) (e Entry, problem *Deviation) {
	e.Name = f.Href
	faulty := func(code, format string, args ...any) (Entry, *Deviation) {
		return Entry{}, &Deviation{code, f.Href, fmt.Sprintf(format, args...)}
	}
	count := f.SizeBytes / f.PartBytes
	if f.SizeBytes%f.PartBytes > 0 {
		count++
	}
	if count > mostParts {
		return faulty("package.too-large", "%s comes in %d parts; at most %d are read.", f.Href, count, mostParts)
	}
	stated := f.SizeBytes > 0
	for n := 0; !stated || int64(n) < count; n++ {
		name := PartName(f.Href, n)
		part, ok := have[name]
		if !ok && (stated || n == 0) {
			return faulty("package.file-missing", "%s comes in parts, and %s is not in the package. Parts that lie "+
				"elsewhere, such as on another drive, are read where both folders are named.", f.Href, name)
		}
		if !ok {
			break
		}
		want := f.PartBytes
		if stated {
			want = min(want, f.SizeBytes-e.Size)
		}
		if part.Size != want && stated {
			return faulty("package.truncated", "%s should have %d bytes and has %d.", name, want, part.Size)
		}
		e.Parts = append(e.Parts, part)
		e.Size += part.Size
	}
	return e, nil
}

// At tells where byte n of an entry lies in its archive, and how many bytes of it follow there.
func (e Entry) At(n int64) (offset, run int64) {
	for _, p := range e.Parts {
		if n < p.Size {
			return p.Offset + n, p.Size - n
		}
		n -= p.Size
	}
	if len(e.Parts) > 0 {
		return 0, 0
	}
	return e.Offset + n, max(0, e.Size-n)
}

// partedDigest is the digest of a file in parts, as far as the manifest has one of each, all by one algorithm.
func partedDigest(e Entry, sums map[string]Digest) (d Digest, ok bool) {
	all := []byte{}
	for n, p := range e.Parts {
		one := sums[PartName(e.Name, n)]
		if one.Sum == "" || d.Algorithm != "" && one.Algorithm != d.Algorithm {
			return Digest{}, false
		}
		raw, err := hex.DecodeString(one.Sum)
		if err != nil {
			return Digest{}, false
		}
		d.Algorithm, d.Parts, all = one.Algorithm, append(d.Parts, p.Size), append(all, raw...)
	}
	if len(e.Parts) > 0 {
		d.Sum = digestOf(d.Algorithm, all)
	}
	return d, len(e.Parts) > 0
}

// New is the hash whose sum, of the whole file, is the digest. It can be saved (encoding.BinaryMarshaler). nil for an
// unknown algorithm.
func (d Digest) New() hash.Hash {
	if len(d.Parts) == 0 || NewHash(d.Algorithm) == nil {
		return NewHash(d.Algorithm)
	}
	p := &parted{sizes: d.Parts, algorithm: d.Algorithm}
	p.Reset()
	return p
}

// parted digests the digests of parts of given sizes.
type parted struct {
	sizes     []int64
	algorithm string
	part      int   // that is being written
	in        int64 // bytes of it that were
	now, all  hash.Hash
}

func (p *parted) Write(b []byte) (n int, err error) {
	for len(b) > 0 {
		part := b
		if p.part < len(p.sizes) {
			part = b[:min(int64(len(b)), p.sizes[p.part]-p.in)]
		}
		p.now.Write(part)
		n, b, p.in = n+len(part), b[len(part):], p.in+int64(len(part))
		for p.part < len(p.sizes) && p.in == p.sizes[p.part] {
			p.all.Write(p.now.Sum(nil))
			p.now.Reset()
			p.part, p.in = p.part+1, 0
		}
	}
	return n, nil
}

// Sum of what does not end with the last part is that of nothing else that could be asked for.
func (p *parted) Sum(b []byte) []byte {
	if p.in == 0 {
		return p.all.Sum(b)
	}
	return p.now.Sum(b)
}

func (p *parted) Reset() {
	p.part, p.in = 0, 0
	p.now, p.all = NewHash(p.algorithm), NewHash(p.algorithm)
}

func (p *parted) Size() int      { return p.all.Size() }
func (p *parted) BlockSize() int { return p.all.BlockSize() }

// partedState is how far one is.
type partedState struct {
	Part     int
	In       int64
	Now, All []byte
}

func (p *parted) MarshalBinary() ([]byte, error) {
	s := partedState{Part: p.part, In: p.in}
	var errs [2]error
	s.Now, errs[0] = p.now.(encoding.BinaryMarshaler).MarshalBinary()
	s.All, errs[1] = p.all.(encoding.BinaryMarshaler).MarshalBinary()
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	return json.Marshal(s)
}

func (p *parted) UnmarshalBinary(raw []byte) error {
	var s partedState
	if err := json.Unmarshal(raw, &s); err != nil {
		return err
	}
	p.part, p.in = s.Part, s.In
	return errors.Join(p.now.(encoding.BinaryUnmarshaler).UnmarshalBinary(s.Now),
		p.all.(encoding.BinaryUnmarshaler).UnmarshalBinary(s.All))
}

// inParts reads parts as one file.
type inParts struct {
	parts []disk.Source
	size  int64
}

// partsOf opens the parts of an entry by open, as one; an entry that has none, by itself.
func partsOf(e Entry, open func(Entry) (disk.Source, error)) (disk.Source, error) {
	if len(e.Parts) == 0 {
		return open(e)
	}
	s := &inParts{}
	for _, p := range e.Parts {
		src, err := open(p)
		if err != nil {
			return nil, err
		}
		if src.Size() != p.Size {
			return nil, fmt.Errorf("%s has %d bytes now, and had %d", p.Name, src.Size(), p.Size)
		}
		s.parts, s.size = append(s.parts, src), s.size+p.Size
	}
	return s, nil
}

func (s *inParts) Size() int64 { return s.size }

func (s *inParts) ReadAt(p []byte, off int64) (n int, err error) {
	for _, part := range s.parts {
		if size := part.Size(); off >= size {
			off -= size
			continue
		}
		if n == len(p) {
			return n, nil
		}
		m, err := part.ReadAt(p[n:min(int64(len(p)), int64(n)+part.Size()-off)], off)
		if n += m; err != nil && (err != io.EOF || off+int64(m) < part.Size()) {
			return n, err
		}
		off = 0
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// SetParts says in a descriptor that files come in parts of a size; files has their names.
func (d *Descriptor) SetParts(size int64, files map[string]bool) {
	for _, f := range children(child(d.doc.Root(), "References"), "File") {
		if files[attr(f, "href")] {
			setAttr(f, d.prefix(), "chunkSize", fmt.Sprint(size))
		}
	}
}
