package guest

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"
	"text/scanner"
)

// volume is what may hold a file system.
type volume struct {
	*io.SectionReader
	inner bool // it is a logical volume of a partition
	plain bool // nothing of its group stands on another volume, and it is in full view
}

// volumes lists what may hold a file system in a partition: the logical volumes
// of LVM2 that lie in one piece on it, else the partition itself.
func volumes(p *io.SectionReader) []volume {
	var lvs []volume
	if guarded(func() (err error) {
		lvs, err = logicalVolumes(p)
		return err
	}) != nil {
		return []volume{{p, false, false}}
	}
	return lvs
}

const mostMetadata = 4 << 20

// logicalVolumes reads the label, the header of the physical volume and the
// newest text of the metadata (LVM2, on-disk format).
func logicalVolumes(p *io.SectionReader) ([]volume, error) {
	le := binary.LittleEndian
	label := make([]byte, 4*sector)
	if n, _ := p.ReadAt(label, 0); n < len(label) {
		return nil, io.ErrUnexpectedEOF
	}
	at := -1
	for s := 0; s < len(label); s += sector {
		if bytes.Equal(label[s:s+8], []byte("LABELONE")) && bytes.Equal(label[s+24:s+32], []byte("LVM2 001")) {
			at = s
		}
	}
	if at < 0 {
		return nil, errors.New("no physical volume")
	}
	header := at + int(le.Uint32(label[at+20:]))
	if header+40 > len(label) {
		return nil, errors.New("its header is not where it should be")
	}
	// Two lists of areas, each ended by zeros: data, then metadata.
	areas, list := label[header+40:], 0
	for ; len(areas) >= 16; areas = areas[16:] {
		start, size := int64(le.Uint64(areas)), int64(le.Uint64(areas[8:]))
		if start == 0 && size == 0 {
			if list++; list == 2 {
				break
			}
			continue
		}
		if list != 1 {
			continue
		}
		h := make([]byte, sector)
		if n, _ := p.ReadAt(h, start); n < len(h) || !bytes.Equal(h[4:20], []byte(" LVM2 x[5A%r0N*>")) {
			continue
		}
		off, length := int64(le.Uint64(h[40:])), int64(le.Uint64(h[48:]))
		if length <= 0 || length > mostMetadata || off <= 0 || off >= size {
			continue
		}
		text := make([]byte, length)
		run := min(length, size-off) // the text goes round the end of its area
		if _, err := p.ReadAt(text[:run], start+off); err != nil {
			continue
		}
		if run < length {
			if _, err := p.ReadAt(text[run:], start+sector); err != nil {
				continue
			}
		}
		return fromMetadata(p, string(bytes.TrimRight(text, "\x00")))
	}
	return nil, errors.New("no metadata of logical volumes")
}

// section is a part of the metadata: values are strings, numbers, lists or
// further sections.
type section map[string]any

func parseMetadata(text string) section {
	var s scanner.Scanner
	s.Init(strings.NewReader(text))
	s.Mode = scanner.ScanIdents | scanner.ScanInts | scanner.ScanStrings
	s.Error = func(*scanner.Scanner, string) {}
	s.IsIdentRune = func(r rune, i int) bool {
		return r == '_' || r == '-' && i > 0 || r == '.' && i > 0 || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' ||
			r >= '0' && r <= '9' && i > 0
	}
	return parseSection(&s, 0)
}

const deepest = 8

func parseSection(s *scanner.Scanner, depth int) section {
	out := section{}
	key := ""
	for tok := s.Scan(); tok != scanner.EOF && tok != '}'; tok = s.Scan() {
		switch tok {
		case '#':
			for r := s.Next(); r != '\n' && r != scanner.EOF; r = s.Next() {
			}
		case scanner.Ident:
			key = s.TokenText()
		case '{':
			if depth >= deepest {
				return out
			}
			out[key] = parseSection(s, depth+1)
		case '=':
			out[key] = parseValue(s)
		}
	}
	return out
}

func parseValue(s *scanner.Scanner) any {
	switch tok := s.Scan(); tok {
	case '[':
		list := []any{}
		for tok := s.Scan(); tok != ']' && tok != scanner.EOF; tok = s.Scan() {
			if tok != ',' {
				list = append(list, scalar(s.TokenText()))
			}
		}
		return list
	default:
		return scalar(s.TokenText())
	}
}

func scalar(text string) any {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return n
	}
	return strings.Trim(text, `"`)
}

func (s section) sub(name string) section  { v, _ := s[name].(section); return v }
func (s section) number(name string) int64 { v, _ := s[name].(int64); return v }

// linear tells whether all volumes of a group are made of disks alone: no snapshot needs what another one has left, and
// none is the store of a pool or the slow side of a cache.
func linear(group section) bool {
	for _, l := range group.sub("logical_volumes") {
		lv, ok := l.(section)
		if !ok {
			return false
		}
		for n := range lv.number("segment_count") {
			if lv.sub("segment" + strconv.FormatInt(n+1, 10))["type"] != "striped" {
				return false
			}
		}
	}
	return true
}

func fromMetadata(p *io.SectionReader, text string) (found []volume, err error) {
	for _, v := range parseMetadata(text) {
		group, ok := v.(section)
		if !ok || group.sub("logical_volumes") == nil {
			continue
		}
		extent := group.number("extent_size") * sector
		disks := group.sub("physical_volumes")
		if len(disks) != 1 || extent <= 0 {
			continue // on more disks than the one that is looked at
		}
		begin := int64(0)
		for _, d := range disks {
			of, _ := d.(section)
			begin = of.number("pe_start") * sector
		}
		plain := linear(group)
		for _, l := range group.sub("logical_volumes") {
			lv, ok := l.(section)
			if !ok || lv.number("segment_count") != 1 {
				continue
			}
			seg := lv.sub("segment1")
			stripes, _ := seg["stripes"].([]any)
			if seg["type"] != "striped" || len(stripes) != 2 {
				continue
			}
			at, ok := stripes[1].(int64)
			start, size := begin+at*extent, seg.number("extent_count")*extent
			if ok && at >= 0 && size > 0 && start < p.Size() {
				status, _ := lv["status"].([]any)
				found = append(found, volume{io.NewSectionReader(p, start, min(size, p.Size()-start)), true,
					plain && slices.Contains(status, any("VISIBLE"))})
			}
		}
	}
	if len(found) == 0 {
		return nil, errors.New("no logical volume in one piece")
	}
	return found, nil
}
