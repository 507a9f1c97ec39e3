package demo

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/agent/driver/qemu/sector"
)

const (
	mib       = 1 << 20
	sectorLen = 512
	systemMiB = 16 // of the first partition, which holds a real file system
	dataFrom  = 32 // MiB: where the second partition begins
)

var parents sync.Mutex

// place makes a disk, or a layer on its parent, which is made first.
func (d sampleDisk) place(pool, path string, format *formats.Format, s sampleMachine, first bool) error {
	if d.parent == "" {
		return d.make(path, format, s, first)
	}
	parent := filepath.Join(pool, d.parent)
	parents.Lock() // one of those that rest on it makes it
	defer parents.Unlock()
	if _, err := os.Stat(parent); errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(filepath.Dir(parent), 0o755); err != nil {
			return err
		}
		base := s
		base.name = strings.TrimSuffix(filepath.Base(parent), format.Extension)
		if err := d.make(parent, format, base, first); err != nil {
			return err
		}
	}
	if err := formats.NewLayer(path, parent, format, sampleUUID("disk "+s.name+d.id), formats.Options{}); err != nil ||
		d.movedTo == "" {
		return err
	}
	moved := filepath.Join(pool, d.movedTo)
	if err := os.MkdirAll(filepath.Dir(moved), 0o755); err != nil {
		return err
	}
	if err := os.Rename(parent, moved); err != nil {
		return err
	}
	return os.Remove(filepath.Dir(parent))
}

// make writes a disk with a partition table, a small Linux file system on the
// machine's first one, and text that compresses about as well as what guests
// hold.
func (d sampleDisk) make(path string, format *formats.Format, s sampleMachine, first bool) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	src, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	size := d.sizeMiB * mib
	img, err := format.Create(src, disk.Spec{VirtualBytes: size, ID: sampleUUID("disk " + s.name + d.id)})
	if err != nil {
		return err
	}
	blocks := &assembler{img: img, unit: max(int64(img.BlockBytes()), mib)}
	table := mbr
	if s.more != nil && strings.Contains(s.name, "kiosk") {
		table = gpt
	}
	boot := table(size, s.name+d.id)
	if s.display != "" {
		if boot, err = sector.Display(s.display); err != nil {
			return err
		}
	}
	blocks.write(0, boot)
	if first && s.guestID == debianID {
		system, err := linuxSystem(s.name)
		if err != nil {
			return err
		}
		blocks.write(mib, system)
	}
	rng := rand.New(seeded("data " + s.name + d.id))
	for n := range d.dataMiB {
		block := make([]byte, mib)
		fill(block, rng)
		// Data lies in runs with holes between them, as in a file system.
		at := (dataFrom + n + n/8*((d.sizeMiB-d.dataMiB-dataFrom-1)*8/max(8, d.dataMiB)/2)) * mib
		blocks.write(min(at, size-2*mib), block)
	}
	if err := blocks.flush(); err != nil {
		return err
	}
	return img.Finish()
}

// assembler puts what is written, in rising order, into whole blocks.
type assembler struct {
	img  disk.Target
	unit int64
	at   int64
	buf  []byte
	err  error
}

func (a *assembler) write(at int64, p []byte) {
	for len(p) > 0 && a.err == nil {
		if a.buf != nil && (at < a.at || at >= a.at+a.unit) {
			a.err = a.flush()
		}
		if a.buf == nil {
			a.at, a.buf = at/a.unit*a.unit, make([]byte, a.unit)
		}
		n := copy(a.buf[at-a.at:], p)
		p, at = p[n:], at+int64(n)
	}
}

func (a *assembler) flush() error {
	if a.err != nil || a.buf == nil {
		return a.err
	}
	step := int64(a.img.BlockBytes())
	for off := int64(0); off < a.unit; off += step {
		if b := a.buf[off : off+step]; !disk.IsZero(b) {
			packed, err := a.img.Pack(b, nil)
			if err == nil {
				err = a.img.Put(a.at+off, packed, len(b))
			}
			if err != nil {
				return err
			}
		}
	}
	a.buf = nil
	return nil
}

// mbr is a boot record that says on the screen that there is nothing to start
// (in 16-bit code), with a partition for the system and one for data.
func mbr(size int64, _ string) []byte {
	b := make([]byte, sectorLen)
	code := []byte{0xbe, 0x1b, 0x7c, 0xac, 0x08, 0xc0, 0x74, 0x09, 0xb4, 0x0e, 0xbb, 0x07, 0x00, 0xcd, 0x10, 0xeb, 0xf2,
		0xf4, 0xeb, 0xfd}
	copy(b, code)
	copy(b[0x1b:], "A sample disk of Skerrow Coastal Observatory.\r\n\x00")
	for i, p := range [][2]int64{{mib, systemMiB * mib}, {dataFrom * mib, size - dataFrom*mib}} {
		entry := b[446+16*i:]
		entry[4] = 0x83
		binary.LittleEndian.PutUint32(entry[8:], uint32(p[0]/sectorLen))
		binary.LittleEndian.PutUint32(entry[12:], uint32(p[1]/sectorLen))
	}
	b[446] = 0x80
	b[510], b[511] = 0x55, 0xaa
	return b
}

// gpt is a GUID partition table (UEFI 2.10, section 5.3) with a Linux partition
// and one that is an EFI system partition.
func gpt(size int64, name string) []byte {
	le := binary.LittleEndian
	b := make([]byte, 34*sectorLen)
	b[446+4] = 0xee
	le.PutUint32(b[446+8:], 1)
	le.PutUint32(b[446+12:], uint32(min(size/sectorLen-1, 1<<32-1)))
	b[510], b[511] = 0x55, 0xaa
	entries := b[2*sectorLen:]
	for i, p := range []struct {
		kind        string
		first, last int64
	}{{"0fc63daf-8483-4772-8e79-3d69d8477de4", mib, (1 + systemMiB) * mib},
		{"c12a7328-f81f-11d2-ba4b-00a0c93ec93b", (dataFrom - 8) * mib, dataFrom * mib}} {
		e := entries[128*i:]
		putGUID(e, uuid.MustParse(p.kind))
		putGUID(e[16:], uuid.MustParse(sampleUUID(fmt.Sprint("partition ", name, i))))
		le.PutUint64(e[32:], uint64(p.first/sectorLen))
		le.PutUint64(e[40:], uint64(p.last/sectorLen-1))
	}
	h := b[sectorLen:]
	copy(h, "EFI PART")
	le.PutUint32(h[8:], 0x10000)
	le.PutUint32(h[12:], 92)
	le.PutUint64(h[24:], 1)
	le.PutUint64(h[32:], uint64(size/sectorLen-1))
	le.PutUint64(h[40:], 34)
	le.PutUint64(h[48:], uint64(size/sectorLen-34))
	putGUID(h[56:], uuid.MustParse(sampleUUID("table "+name)))
	le.PutUint64(h[72:], 2)
	le.PutUint32(h[80:], 128)
	le.PutUint32(h[84:], 128)
	le.PutUint32(h[88:], crc32.ChecksumIEEE(entries[:128*128]))
	le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:92]))
	return b
}

// putGUID writes the first three fields little-endian.
func putGUID(p []byte, id uuid.UUID) {
	for to, from := range []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15} {
		p[to] = id[from]
	}
}

var systems sync.Map // of linuxSystem, by machine

// linuxSystem is an ext4 file system of a small Debian as far as a reader
// without a running guest would look into it.
func linuxSystem(name string) ([]byte, error) {
	if raw, ok := systems.Load(name); ok {
		return raw.([]byte), nil
	}
	dir, err := os.MkdirTemp("", "unvora-system-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	root := filepath.Join(dir, "root")
	for file, text := range map[string]string{
		"etc/os-release": "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nNAME=\"Debian " +
			"GNU/Linux\"\nVERSION_ID=\"12\"\nID=debian\n",
		"etc/hostname":   name + "\n",
		"etc/machine-id": strings.ReplaceAll(sampleUUID("machine-id "+name), "-", "") + "\n",
		"lib/modules/6.1.0-21-amd64/modules.builtin": "kernel/drivers/block/virtio_blk.ko\n" +
			"kernel/drivers/scsi/virtio_scsi.ko\nkernel/drivers/net/virtio_net.ko\nkernel/drivers/ata/ahci.ko\n",
		"lib/modules/6.1.0-21-amd64/modules.dep": "kernel/drivers/net/ethernet/intel/e1000e/e1000e.ko:\n" +
			"kernel/drivers/net/ethernet/realtek/8139cp.ko:\n" +
			"kernel/drivers/nvme/host/nvme.ko:\nkernel/drivers/scsi/mpt3sas/mpt3sas.ko:\n",
	} {
		path := filepath.Join(root, file)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	const written = 1_700_000_000 // in seconds: the same file system each time
	err = filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
		if err == nil {
			err = os.Chtimes(path, time.Unix(written, 0), time.Unix(written, 0))
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	tool, err := exec.LookPath("mke2fs")
	if err != nil {
		if tool = "/usr/sbin/mke2fs"; !exists(tool) {
			return nil, errors.New("mke2fs is missing: apt-get install e2fsprogs")
		}
	}
	image, id := filepath.Join(dir, "system"), sampleUUID("file system "+name)
	cmd := exec.Command(tool, "-q", "-F", "-t", "ext4", "-U", id, "-E", "root_owner=0:0,hash_seed="+id, "-O",
		"^has_journal", "-d", root, image, fmt.Sprintf("%dk", systemMiB<<10))
	cmd.Env = append(os.Environ(), fmt.Sprintf("E2FSPROGS_FAKE_TIME=%d", written))
	if out, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("mke2fs: %w: %s", err, out)
	}
	raw, err := os.ReadFile(image)
	if err == nil {
		systems.Store(name, raw)
	}
	return raw, err
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// medium is an ISO 9660 image with nothing but its volume descriptors
// (ECMA-119, section 8).
func medium() []byte {
	b := make([]byte, 20*2048)
	primary := b[16*2048:]
	primary[0] = 1
	copy(primary[1:], "CD001\x01")
	copy(primary[8:], fmt.Sprintf("%-32s%-32s", "UNVORA", "VISITOR_GUIDE"))
	binary.LittleEndian.PutUint32(primary[80:], 20)
	binary.BigEndian.PutUint32(primary[84:], 20)
	end := b[17*2048:]
	end[0] = 255
	copy(end[1:], "CD001\x01")
	return b
}

var words = []string{"tide", "level", "metres", "gauge", "north", "buoy", "wave", "height", "period", "wind", "gust",
	"pressure", "hPa", "station", "quality", "ok"}

// page is how much of a disk's data is told apart from all other.
const page = 4096

// readings are text, with some bytes that do not compress, from which disks are filled.
var readings = sync.OnceValue(func() []byte {
	rng := rand.New(seeded("readings"))
	all := make([]byte, 4*mib)
	line := make([]byte, 0, 32)
	for n := 0; n < len(all); n += copy(all[n:], line) {
		r := rng.Uint64()
		if r%4 == 0 {
			line = binary.LittleEndian.AppendUint64(line[:0], r*0x9e3779b97f4a7c15)
			continue
		}
		line = append(line[:0], words[(r>>8)%uint64(len(words))]...)
		line = append(strconv.AppendUint(append(line, ' '), (r>>32)%100000, 10), '\n')
	}
	return all
})

// fill writes pages of readings, each with bytes of its own: no two are alike.
func fill(p []byte, rng *rand.Rand) {
	all := readings()
	for n := 0; n < len(p); n += page {
		copy(p[n:min(n+page, len(p))], all[rng.IntN(len(all)-page):])
		binary.LittleEndian.PutUint64(p[n:], rng.Uint64())
		binary.LittleEndian.PutUint64(p[n+8:], rng.Uint64())
	}
}
