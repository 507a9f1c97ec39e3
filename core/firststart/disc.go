package firststart

import (
	"bytes"
	"encoding/binary"
	"strings"
	"unicode/utf16"
)

const sectorBytes = 2048

// Where things lie on a disc, in sectors. The first sixteen are the system area (ECMA-119, section 6.2.1). Two trees
// lead to the same files: one with Rock Ridge names, and one with Joliet's, which is what Windows reads.
const (
	volumeAt       = 16
	jolietVolumeAt = 17
	endAt          = 18
	continuationAt = 19
	treeAt         = 20 // and what of it lies behind
	jolietTreeAt   = 23
	filesAt        = 26
)

// Sectors of a tree.
const (
	littlePaths = iota
	bigPaths
	root
)

// Names by which guests find the disc: initialisers look for the one, and readers of environments on any disc.
const (
	volumeName      = "cidata"
	environmentName = "OVF_ENV"
)

// Disc is the image of the disc: ISO 9660 (ECMA-119) with Rock Ridge names (RRIP 1.10) and Joliet names (Joliet
// Specification, 1995). The same files make the same image.
func (s Seed) Disc() []byte {
	d := disc{}
	d.grow(filesAt)
	volume := volumeName
	if s.MetaData == "" {
		volume = environmentName
	}
	files := append(record("\x00", treeAt+root, sectorBytes, true, join(sharing(), d.extensions(), posix(true))),
		record("\x01", treeAt+root, sectorBytes, true, posix(true))...)
	joliet := append(record("\x00", jolietTreeAt+root, sectorBytes, true, nil),
		record("\x01", jolietTreeAt+root, sectorBytes, true, nil)...)
	for _, f := range []struct{ name, text string }{{"meta-data", s.MetaData}, {"network-config", s.NetworkConfig},
		{EnvironmentFile, s.Environment}, {"user-data", s.UserData}} { // in order of their identifiers (section 9.3)
		if f.text == "" {
			continue
		}
		at := len(d.raw) / sectorBytes
		d.raw = append(d.raw, f.text...)
		d.grow((len(d.raw) + sectorBytes - 1) / sectorBytes)
		id := strings.ToUpper(strings.ReplaceAll(f.name, "-", "_"))
		if !strings.Contains(id, ".") {
			id += "."
		}
		files = append(files, record(id+";1", at, len(f.text), false, join(posix(false), name(f.name)))...)
		joliet = append(joliet, record(wide(f.name+";1"), at, len(f.text), false, nil)...)
	}
	d.tree(treeAt, files)
	d.tree(jolietTreeAt, joliet)
	d.volume(volumeAt, treeAt, 1, " ", volume)
	d.volume(jolietVolumeAt, jolietTreeAt, 2, wide(" "), wide(volume))
	copy(d.sector(jolietVolumeAt)[88:], "%/E") // names are of UCS-2, level 3
	copy(d.sector(endAt), "\xffCD001\x01")     // section 8.3
	return d.raw
}

// wide is text in UCS-2, as Joliet has it.
func wide(s string) string {
	b := make([]byte, 0, 2*len(s))
	for _, c := range utf16.Encode([]rune(s)) {
		b = binary.BigEndian.AppendUint16(b, c)
	}
	return string(b)
}

// disc is an image that grows by sectors.
type disc struct{ raw []byte }

func (d *disc) grow(sectors int) {
	d.raw = append(d.raw, make([]byte, sectors*sectorBytes-len(d.raw))...)
}

func (d *disc) sector(n int) []byte { return d.raw[n*sectorBytes : (n+1)*sectorBytes] }

// volume writes a volume descriptor: the primary one (section 8.4), or a supplementary one (section 8.5). What is not
// said is spaces.
func (d *disc) volume(at, tree int, kind byte, space, called string) {
	p := d.sector(at)
	copy(p, string(kind)+"CD001\x01")
	for _, text := range [][2]int{{8, 72}, {190, 813}} {
		copy(p[text[0]:text[1]], strings.Repeat(space, (text[1]-text[0])/len(space)))
	}
	copy(p[40:], called)
	both32(p[80:], len(d.raw)/sectorBytes)
	both16(p[120:], 1)
	both16(p[124:], 1)
	both16(p[128:], sectorBytes)
	both32(p[132:], len(pathOfRoot(binary.LittleEndian, tree)))
	binary.LittleEndian.PutUint32(p[140:], uint32(tree+littlePaths))
	binary.BigEndian.PutUint32(p[148:], uint32(tree+bigPaths))
	copy(p[156:190], record("\x00", tree+root, sectorBytes, true, nil))
	for _, date := range []int{813, 830, 847, 864} { // not said (section 8.4.26.1)
		copy(p[date:date+16], bytes.Repeat([]byte{'0'}, 16))
	}
	p[881] = 1 // version of the structure
}

// tree writes a root directory, and the two path tables, which know of it alone (section 9.4).
func (d *disc) tree(at int, directory []byte) {
	copy(d.sector(at+root), directory)
	copy(d.sector(at+littlePaths), pathOfRoot(binary.LittleEndian, at))
	copy(d.sector(at+bigPaths), pathOfRoot(binary.BigEndian, at))
}

func pathOfRoot(order binary.ByteOrder, tree int) []byte {
	p := make([]byte, 10)
	p[0] = 1
	order.PutUint32(p[2:], uint32(tree+root))
	order.PutUint16(p[6:], 1)
	return p
}

// extensions says that Rock Ridge is used (RRIP, section 4.3), in a sector of its own, and returns the entry that leads
// there (SUSP, section 5.1).
func (d *disc) extensions() []byte {
	const (
		id     = "RRIP_1991A"
		says   = "THE ROCK RIDGE INTERCHANGE PROTOCOL PROVIDES SUPPORT FOR POSIX FILE SYSTEM SEMANTICS"
		source = "PLEASE CONTACT DISC PUBLISHER FOR SPECIFICATION SOURCE."
	)
	er := entry("ER", join([]byte{byte(len(id)), byte(len(says)), byte(len(source)), 1}, []byte(id+says+source)))
	copy(d.sector(continuationAt), er)
	where := make([]byte, 24)
	both32(where, continuationAt)
	both32(where[16:], len(er))
	return entry("CE", where)
}

// sharing is the entry that says that system use fields are in use (SUSP, section 5.3).
func sharing() []byte { return entry("SP", []byte{0xbe, 0xef, 0}) }

// posix is the entry with a file's mode and owner (RRIP, section 4.1.1): all may read it.
func posix(directory bool) []byte {
	mode, links := 0o100444, 1
	if directory {
		mode, links = 0o040555, 2
	}
	p := make([]byte, 32)
	both32(p, mode)
	both32(p[8:], links)
	return entry("PX", p)
}

// name is the entry with a file's name (RRIP, section 4.1.4).
func name(s string) []byte { return entry("NM", append([]byte{0}, s...)) }

// entry of a system use field: signature, length, version.
func entry(signature string, p []byte) []byte {
	return join([]byte(signature), []byte{byte(4 + len(p)), 1}, p)
}

// record is what a directory says of a file (ECMA-119, section 9.1).
func record(id string, at, size int, directory bool, use []byte) []byte {
	r := make([]byte, 33, 255)
	both32(r[2:], at)
	both32(r[10:], size)
	if directory {
		r[25] = 2
	}
	both16(r[28:], 1)
	r[32] = byte(len(id))
	r = append(r, id...)
	if len(r)%2 != 0 {
		r = append(r, 0)
	}
	r = append(r, use...)
	if len(r)%2 != 0 {
		r = append(r, 0)
	}
	r[0] = byte(len(r))
	return r
}

// both16 and both32 write a number in both orders of bytes (sections 7.2.3, 7.3.3).
func both16(p []byte, v int) {
	binary.LittleEndian.PutUint16(p, uint16(v))
	binary.BigEndian.PutUint16(p[2:], uint16(v))
}

func both32(p []byte, v int) {
	binary.LittleEndian.PutUint32(p, uint32(v))
	binary.BigEndian.PutUint32(p[4:], uint32(v))
}

func join(parts ...[]byte) []byte { return bytes.Join(parts, nil) }
