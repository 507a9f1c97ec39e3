package ovftest

import (
	"archive/tar"
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// digests of a manifest, section 5.1; SHA-1 is that of 1.x, the others came with 2.0.
var digests = map[string]func() hash.Hash{"SHA1": sha1.New, "SHA256": sha256.New, "SHA512": sha512.New}

// member is a file of a package, as it was found.
type member struct {
	name string
	size int64
	sums map[string]string
	text []byte // of descriptor and manifest
}

func read(name string, r io.Reader) (member, error) {
	m := member{name: name, sums: map[string]string{}}
	all := map[string]hash.Hash{}
	var into []io.Writer
	for k, make := range digests {
		all[k] = make()
		into = append(into, all[k])
	}
	var text bytes.Buffer
	if ext := filepath.Ext(name); ext == ".ovf" || ext == ".mf" {
		into = append(into, &text)
	}
	var err error
	m.size, err = io.Copy(io.MultiWriter(into...), r)
	for k, h := range all {
		m.sums[k] = hex.EncodeToString(h.Sum(nil))
	}
	m.text = text.Bytes()
	return m, err
}

// PackageBreaches lists what in a package, an archive or a directory, is against the standard.
func PackageBreaches(path string) ([]string, error) {
	c := &checker{}
	var list []member
	st, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case st.IsDir():
		list, err = folder(path)
	default:
		list, err = c.archive(path)
	}
	if err != nil {
		return nil, err
	}
	c.members(list, st.IsDir())
	return c.breaches, nil
}

func folder(path string) (list []member, err error) {
	names, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		f, err := os.Open(filepath.Join(path, n.Name()))
		if err != nil {
			return nil, err
		}
		m, err := read(n.Name(), f)
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, err
		}
		list = append(list, m)
	}
	return list, nil
}

// archive is section 5.3: a TAR in the USTAR format of POSIX IEEE 1003.1.
func (c *checker) archive(path string) (list []member, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for in := tar.NewReader(f); ; {
		h, err := in.Next()
		if err == io.EOF {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		if h.Format != tar.FormatUSTAR || h.Typeflag != tar.TypeReg || strings.Contains(h.Name, "/") {
			c.breach("5.3", "%s is %v of the type %q", h.Name, h.Format, h.Typeflag)
		}
		m, err := read(h.Name, in)
		if err != nil {
			return nil, err
		}
		list = append(list, m)
	}
}

// line of a manifest, section 5.1.
var line = regexp.MustCompile(`^(SHA1|SHA256|SHA512)\(([^)]+)\)= ([0-9a-f]+)$`)

// pieces are the files that a reference stands for: one, or chunks of one size but for the last, which are numbered
// from 000000000 (section 7.1).
func (c *checker) pieces(f *node, there map[string]member) []string {
	href := f.attrs["href"]
	chunk, err := strconv.ParseInt(f.attrs["chunkSize"], 10, 64)
	if err != nil || chunk <= 0 {
		return []string{href}
	}
	left, err := strconv.ParseInt(f.attrs["size"], 10, 64)
	if err != nil {
		c.breach("7.1", "%q comes in chunks, and its size is not told", href)
	}
	var all []string
	for n := 0; left > 0; n++ {
		name := fmt.Sprintf("%s.%09d", href, n)
		if m := there[name]; m.size != min(chunk, left) {
			c.breach("7.1", "the chunk %q has %d bytes", name, m.size)
		}
		all, left = append(all, name), left-chunk
	}
	return all
}

// members holds the files of a package against its descriptor and its manifest. An archive begins with the descriptor,
// and the files follow in the order of its references, with manifest and certificate before or behind them.
func (c *checker) members(list []member, unordered bool) {
	var descriptor, manifest *member
	var rest []string
	there := map[string]member{}
	for i, m := range list {
		there[m.name] = m
		switch filepath.Ext(m.name) {
		case ".ovf":
			descriptor = &list[i]
			if i != 0 && !unordered {
				c.breach("5.3", "the descriptor is number %d", i+1)
			}
		case ".mf":
			manifest = &list[i]
		case ".cert":
		default:
			rest = append(rest, m.name)
		}
	}
	if descriptor == nil {
		c.breach("5", "there is no descriptor")
		return
	}
	c.breaches = append(c.breaches, Breaches(descriptor.text)...)
	root, err := parse(descriptor.text)
	if err != nil {
		return
	}
	var named []string
	if refs := root.one("References"); refs != nil {
		for _, f := range refs.nodes {
			for _, href := range c.pieces(f, there) {
				if _, ok := there[href]; !ok {
					c.breach("5", "the file %q is not there", href)
				}
				named = append(named, href)
			}
		}
	}
	if len(rest) != len(named) || !unordered && fmt.Sprint(rest) != fmt.Sprint(named) {
		c.breach("5.3", "the files are %q, and the references name %q", rest, named)
	}
	if manifest == nil {
		return
	}
	if strings.TrimSuffix(manifest.name, ".mf") != strings.TrimSuffix(descriptor.name, ".ovf") {
		c.breach("5.1", "%s does not bear the descriptor's name", manifest.name)
	}
	said := map[string]bool{}
	for _, l := range strings.Split(strings.TrimSuffix(string(manifest.text), "\n"), "\n") {
		p := line.FindStringSubmatch(l)
		if p == nil {
			c.breach("5.1", "%q is no line of a manifest", l)
			continue
		}
		said[p[2]] = true
		if m, ok := there[p[2]]; !ok || m.sums[p[1]] != p[3] {
			c.breach("5.1", "%s is not what the manifest says", p[2])
		}
	}
	for _, name := range append(rest, descriptor.name) {
		if !said[name] {
			c.breach("5.1", "the manifest says nothing of %s", name)
		}
	}
}
