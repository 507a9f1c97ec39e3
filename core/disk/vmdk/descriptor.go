package vmdk

import (
	"bufio"
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

const (
	noParent       = "ffffffff"
	signature      = "# Disk DescriptorFile"
	maxDescriptor  = 1 << 20
	maxExtents     = 4096
	keyID          = "ddb.unvora.id" // ours
	createSparse   = "monolithicSparse"
	createFlat     = "monolithicFlat"
	createStream   = "streamOptimized"
	descriptorRoom = 20 // sectors, of what is written
)

func isDescriptor(head []byte) bool {
	return strings.HasPrefix(strings.ToLower(string(bytes.TrimLeft(head, "\r\n\t \ufeff"))), strings.ToLower(signature))
}

// descriptor is what is kept of the text descriptor.
type descriptor struct {
	cid, parentCID, parentHint, createType, id string
	extents                                    []extentLine
}

// extentLine is a line of the section "Extent description".
type extentLine struct {
	sectors int64
	kind    string // SPARSE, FLAT, ZERO, VMFS …
	file    string
	at      int64 // sector of the file where a flat extent begins
}

var extentPattern = regexp.MustCompile(`^(?:RW|RDONLY|NOACCESS)\s+(\d+)\s+([A-Z]+)(?:\s+"([^"]*)"(?:\s+(\d+))?)?`)

func parseDescriptor(text string) (descriptor, error) {
	var d descriptor
	text, _, _ = strings.Cut(text, "\x00")
	line := 0
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, maxDescriptor+1)
	for lines.Scan() {
		line++
		if m := extentPattern.FindStringSubmatch(strings.TrimSpace(lines.Text())); m != nil {
			sectors, err := strconv.ParseInt(m[1], 10, 64)
			at := int64(0)
			if err == nil && m[4] != "" {
				at, err = strconv.ParseInt(m[4], 10, 64)
			}
			if err != nil || sectors > 1<<48 || at > 1<<48 || len(d.extents) == maxExtents {
				return d, fmt.Errorf("%w: the extent in line %d of the descriptor is too large, or one too many",
					disk.ErrDamaged, line)
			}
			d.extents = append(d.extents, extentLine{sectors, m[2], m[3], at})
			continue
		}
		key, value, ok := strings.Cut(lines.Text(), "=")
		if !ok {
			continue
		}
		value = strings.Trim(strings.TrimSpace(value), `"`)
		switch strings.ToLower(strings.TrimSpace(key)) {
		case "cid":
			d.cid = strings.ToLower(value)
		case "parentcid":
			d.parentCID = strings.ToLower(value)
		case "parentfilenamehint":
			d.parentHint = value
		case "createtype":
			d.createType = value
		case keyID:
			d.id = value
		}
	}
	return d, nil
}

func (d descriptor) parent() *disk.ParentRef {
	if d.parentCID == "" || d.parentCID == noParent {
		return nil
	}
	return &disk.ParentRef{Path: disk.NativePath(d.parentHint), Format: Format, ID: d.parentCID}
}

// contentID is eight hexadecimal digits for a disk's id.
func contentID(id string) string {
	u, err := uuid.Parse(id)
	if err != nil {
		return id // the caller gives the digits themselves
	}
	sum := uuid.NewSHA1(u, []byte("content"))
	sum[0] &= 0x7f // neither ffffffff, no parent, nor fffffffe, none yet
	return fmt.Sprintf("%x", sum[:4])
}

// encodeDescriptor writes a descriptor. extent is the last part of its only
// extent's line.
func encodeDescriptor(s disk.Spec, createType, extent string) (string, error) {
	sectors := uint64(s.VirtualBytes+sectorBytes-1) / sectorBytes
	cylinders := min(sectors/(255*63), 65535)
	cid := contentID(s.ID)
	if s.Linkage != "" {
		cid = s.Linkage
	}
	parentCID, hint := noParent, ""
	if s.Parent != nil {
		if parentCID = s.Parent.ID; len(parentCID) != 8 {
			return "", fmt.Errorf("a VMDK layer needs its parent's content id, %q is none: make the parent a VMDK",
				parentCID)
		}
		hint = fmt.Sprintf("parentFileNameHint=%q\n", s.Parent.Path)
	}
	lines := []string{
		signature, "version=1", "CID=" + cid, "parentCID=" + parentCID, hint + `createType="` + createType + `"`, "",
		"# Extent description", fmt.Sprintf("RW %d %s", sectors, extent), "",
		"# The Disk Data Base", "#DDB", "",
		`ddb.virtualHWVersion = "10"`, `ddb.adapterType = "lsilogic"`,
		`ddb.geometry.cylinders = "` + strconv.FormatUint(cylinders, 10) + `"`,
		`ddb.geometry.heads = "255"`, `ddb.geometry.sectors = "63"`,
	}
	if s.ID != "" && s.ID != cid {
		lines = append(lines, keyID+` = "`+s.ID+`"`)
	}
	text := strings.Join(append(lines, ""), "\n")
	if createType != createFlat && len(text) > descriptorRoom*sectorBytes {
		return "", fmt.Errorf("the descriptor of %d bytes is too long: at most %d fit", len(text),
			descriptorRoom*sectorBytes)
	}
	return text, nil
}

// rewrite changes lines of the descriptor, which lies in a file of its own or
// within the image; values are by lower-case key. A line that is missing is added
// after the one of "CID".
func rewrite(f disk.File, values map[string]string) error {
	at, room, text, err := locateDescriptor(f)
	if err != nil {
		return err
	}
	var out []string
	pending := map[string]string{}
	for k, v := range values {
		pending[strings.ToLower(k)] = k + "=" + v
	}
	for _, line := range strings.Split(text, "\n") {
		key, _, _ := strings.Cut(line, "=")
		key = strings.ToLower(strings.TrimSpace(key))
		if l, ok := pending[key]; ok {
			line = l
			delete(pending, key)
		}
		out = append(out, line)
	}
	var with []string
	for _, line := range out {
		with = append(with, line)
		if key, _, _ := strings.Cut(line, "="); strings.EqualFold(strings.TrimSpace(key), "cid") {
			for _, l := range pending {
				with = append(with, l)
			}
			pending = nil
		}
	}
	changed := strings.Join(with, "\n")
	if room == 0 { // a file of its own
		if err := f.Truncate(int64(len(changed))); err != nil {
			return err
		}
	} else if int64(len(changed)) > room {
		return fmt.Errorf("the descriptor would need %d bytes, the image has room for %d", len(changed), room)
	} else {
		changed += strings.Repeat("\x00", int(room)-len(changed))
	}
	if _, err := f.WriteAt([]byte(changed), at); err != nil {
		return err
	}
	return f.Sync()
}

// locateDescriptor finds the descriptor; room is 0 when the file is nothing else.
func locateDescriptor(src disk.Source) (at, room int64, text string, err error) {
	head := make([]byte, min(headerBytes, src.Size()))
	if _, err := src.ReadAt(head, 0); err != nil && len(head) > 0 {
		return 0, 0, "", err
	}
	length := src.Size()
	if isSparse(head) {
		h, err := parseHeader(head, 0)
		if err != nil {
			return 0, 0, "", err
		}
		at, room = int64(h.descriptorAt)*sectorBytes, int64(h.descriptorSize)*sectorBytes
		if room == 0 {
			return 0, 0, "", fmt.Errorf("%w: this part of an image has no descriptor of its own", disk.ErrVariant)
		}
		length = room
	}
	if length > maxDescriptor || at < 0 || at > src.Size()-length {
		return 0, 0, "", disk.Damaged(at, "descriptor of %d bytes", length)
	}
	raw := make([]byte, length)
	if _, err := src.ReadAt(raw, at); err != nil {
		return 0, 0, "", disk.Damaged(at, "read descriptor: %v", err)
	}
	text, _, _ = strings.Cut(string(raw), "\x00")
	return at, room, text, nil
}

// Reparent names another parent in the descriptor.
func Reparent(f disk.File, p disk.ParentRef) error {
	_, _, text, err := locateDescriptor(f)
	if err != nil {
		return err
	}
	d, err := parseDescriptor(text)
	if err != nil {
		return err
	}
	if d.parent() == nil {
		return fmt.Errorf("%w: it is no layer", disk.ErrVariant)
	}
	if len(p.ID) != 8 {
		return fmt.Errorf("a VMDK layer needs its parent's content id, %q is none: make the parent a VMDK", p.ID)
	}
	return rewrite(f, map[string]string{"parentCID": p.ID, "parentFileNameHint": strconv.Quote(p.Path)})
}

// SetID gives the disk another id, and a content id made of it.
func SetID(f disk.File, id string) error {
	return rewrite(f, map[string]string{"CID": contentID(id), keyID: ` "` + id + `"`})
}
