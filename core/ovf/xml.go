package ovf

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/beevik/etree"
	"golang.org/x/text/encoding/unicode"
)

func malformed(name string, line int, format string, args ...any) error {
	return &Problem{Code: "descriptor.malformed", Subject: name, Offset: -1, Line: line,
		Message: fmt.Sprintf(format, args...)}
}

var statedEncoding = regexp.MustCompile(`^(<\?xml[^>]*?)\s+encoding\s*=\s*["']([^"']*)["']`)

// inUTF8 is a descriptor in UTF-8. UTF-16 is told by the mark at its beginning
// (XML 1.0, appendix F); what else is stated is not read.
func inUTF8(name string, raw []byte) ([]byte, error) {
	if bytes.HasPrefix(raw, []byte{0xFE, 0xFF}) || bytes.HasPrefix(raw, []byte{0xFF, 0xFE}) {
		plain, err := unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(raw)
		if err != nil {
			return nil, malformed(name, 1, "it begins as UTF-16 and can't be read as that: %v", err)
		}
		return statedEncoding.ReplaceAll(plain, []byte("$1")), nil
	}
	raw = bytes.TrimPrefix(raw, []byte{0xEF, 0xBB, 0xBF})
	if m := statedEncoding.FindSubmatch(raw); m != nil && !strings.EqualFold(string(m[2]), "utf-8") &&
		!strings.EqualFold(string(m[2]), "us-ascii") {
		return nil, malformed(name, 1, "it is written in %s; descriptors are read in UTF-8 and in UTF-16. Convert it: "+
			"iconv -f %s -t UTF-8, and let its first line say so", m[2], m[2])
	}
	if !utf8.Valid(raw) {
		at := 0
		for at < len(raw) {
			r, n := utf8.DecodeRune(raw[at:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		return nil, malformed(name, 1+bytes.Count(raw[:at], []byte("\n")),
			"byte %d is not UTF-8, in which it says to be written. It may be in ISO-8859-1: iconv -f ISO-8859-1 -t "+
				"UTF-8 "+
				"converts it", at)
	}
	return raw, nil
}

// checkXML goes through all tokens: errors get a line, and neither depth nor
// document types (entities) are taken on trust.
func checkXML(name string, raw []byte) error {
	dec := xml.NewDecoder(strings.NewReader(string(raw)))
	depth := 0
	for {
		tok, err := dec.RawToken()
		if tok == nil && err != nil {
			if err.Error() == "EOF" {
				if depth != 0 {
					line, _ := dec.InputPos()
					return malformed(name, line, "ends with %d elements still open: it is cut short", depth)
				}
				return nil
			}
			line, _ := dec.InputPos()
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				return malformed(name, line, "%s", syntax.Msg)
			}
			return malformed(name, line, "%v", err)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				line, _ := dec.InputPos()
				return malformed(name, line, "elements are nested more than %d deep", maxDepth)
			}
		case xml.EndElement:
			depth--
		case xml.Directive:
			if strings.HasPrefix(string(t), "DOCTYPE") {
				line, _ := dec.InputPos()
				return malformed(name, line, "has a document type; entities are not expanded")
			}
		}
	}
}

// attr returns an attribute by local name, whatever its prefix: writers differ.
func attr(e *etree.Element, local string) string {
	for _, a := range e.Attr {
		if a.Key == local && a.Space != "xmlns" {
			return a.Value
		}
	}
	return ""
}

// text returns a child's text by local name.
func text(e *etree.Element, local string) string {
	if c := child(e, local); c != nil {
		return strings.TrimSpace(c.Text())
	}
	return ""
}

func child(e *etree.Element, local string) *etree.Element {
	if e == nil {
		return nil
	}
	for _, c := range e.ChildElements() {
		if c.Tag == local {
			return c
		}
	}
	return nil
}

func children(e *etree.Element, locals ...string) (all []*etree.Element) {
	if e == nil {
		return nil
	}
	for _, c := range e.ChildElements() {
		for _, l := range locals {
			if c.Tag == l {
				all = append(all, c)
			}
		}
	}
	return all
}
