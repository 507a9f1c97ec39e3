package firststart

import (
	"bytes"
	"encoding/binary"
	"strings"
)

const sectorBytes = 2048

// Where things lie on a disc, in sectors. The first sixteen are the system area (ECMA-119, section 6.2.1).
const (
	volumeAt       = 16
	endAt          = 17
	littlePathsAt  = 18
	bigPathsAt     = 19
	rootAt         = 20
	continuationAt = 21
	filesAt        = 22
)

// volumeName is how guest initialisers find the disc.
const volumeName = "cidata"

// Disc is the image of the disc: ISO 9660 (ECMA-119) with Rock Ridge names (RRIP 1.10). The same files make the same
// image.
func (s Seed) Disc() []byte {
	d := disc{}
	d.grow(filesAt)
	root := append(record("\x00", rootAt, sectorBytes, true, join(sharing(), d.extensions(), posix(true))),
		record("\x01", rootAt, sectorBytes, true, posix(true))...)
	for _, f := range []struct{ name, text string }{{"meta-data", s.MetaData}, {"network-config", s.NetworkConfig},
		{"user-data", s.UserData}} { // in the order of their identifiers (section 9.3)
		if f.text == "" {
			continue
		}
		at := len(d.raw) / sectorBytes
		d.raw = append(d.raw, f.text...)
		d.grow((len(d.raw) + sectorBytes - 1) / sectorBytes)
		id := strings.ToUpper(strings.ReplaceAll(f.name, "-", "_")) + ".;1"
		root = append(root, record(id, at, len(f.text), false, join(posix(false), name(f.name)))...)
	}
	copy(d.sector(rootAt), root)
	d.paths()
	d.volume()
	copy(d.sector(endAt), "\xffCD001\x01") // section 8.3
	return d.raw
}

// disc is an image that grows by sectors.
type disc struct{ raw []byte }

func (d *disc) grow(sectors int) {
	d.raw = append(d.raw, make([]byte, sectors*sectorBytes-len(d.raw))...)
}

func (d *disc) sector(n int) []byte { return d.raw[n*sectorBytes : (n+1)*sectorBytes] }

// volume writes the primary volume descriptor (section 8.4).
func (d *disc) volume() {
	p := d.sector(volumeAt)
	copy(p, "\x01CD001\x01")
	for _, text := range [][2]int{{8, 72}, {190, 813}} { // what is not said is spaces
		copy(p[text[0]:text[1]], bytes.Repeat([]byte{' '}, text[1]-text[0]))
	}
	copy(p[40:], volumeName)
	both32(p[80:], len(d.raw)/sectorBytes)
	both16(p[120:], 1)
	both16(p[124:], 1)
	both16(p[128:], sectorBytes)
	both32(p[132:], len(pathOfRoot(binary.LittleEndian)))
	binary.LittleEndian.PutUint32(p[140:], littlePathsAt)
	binary.BigEndian.PutUint32(p[148:], bigPathsAt)
	copy(p[156:190], record("\x00", rootAt, sectorBytes, true, nil))
	for _, date := range []int{813, 830, 847, 864} { // not said (section 8.4.26.1)
		copy(p[date:date+16], bytes.Repeat([]byte{'0'}, 16))
	}
	p[881] = 1 // version of the structure
}

// paths writes the two path tables, which know of the root alone (section 9.4).
func (d *disc) paths() {
	copy(d.sector(littlePathsAt), pathOfRoot(binary.LittleEndian))
	copy(d.sector(bigPathsAt), pathOfRoot(binary.BigEndian))
}

func pathOfRoot(order binary.ByteOrder) []byte {
	p := make([]byte, 10)
	p[0] = 1
	order.PutUint32(p[2:], rootAt)
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
