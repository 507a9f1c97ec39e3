package guest_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
)

const mib = 1 << 20

// tool finds a program that makes file systems, also outside a user's PATH.
func tool(t *testing.T, name, debian string) string {
	t.Helper()
	for _, dir := range []string{"", "/usr/sbin/", "/sbin/"} {
		if path, err := exec.LookPath(dir + name); err == nil {
			return path
		}
	}
	t.Fatalf("%s is missing: apt-get install %s (make test does that)", name, debian)
	return ""
}

func run(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// debian is the root of a file system.
func debian(t *testing.T) string {
	root := t.TempDir()
	for name, text := range map[string]string{
		"usr/lib/os-release":              "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n",
		"etc/hostname":                    "tide-gauge\n",
		"lib/modules/6.1/modules.dep":     "kernel/net/vmxnet3.ko.xz: kernel/x.ko\n",
		"lib/modules/6.1/modules.builtin": "kernel/drivers/scsi/virtio_scsi.ko\nkernel/drivers/ata/ahci.ko\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	return root
}

func look(t *testing.T, path string) *fit.Guest {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	st, err := f.Stat()
	require.NoError(t, err)
	return guest.Look(f, st.Size())
}

func TestExt4(t *testing.T) {
	image := filepath.Join(t.TempDir(), "image")
	run(t, tool(t, "mke2fs", "e2fsprogs"), "-q", "-F", "-t", "ext4", "-d", debian(t), image, "16m")
	require.Equal(t, &fit.Guest{System: "Debian GNU/Linux 12 (bookworm)", OSType: 96, Name: "tide-gauge",
		Drivers: []string{"ahci", "virtio-scsi", "vmxnet3"}}, look(t, image))
}

func TestXFS(t *testing.T) {
	root := debian(t)
	proto := filepath.Join(t.TempDir(), "proto")
	var text strings.Builder
	text.WriteString("/\n0 0\nd--755 0 0\n")
	var walk func(dir string)
	walk = func(dir string) {
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			path := filepath.Join(dir, e.Name())
			if e.IsDir() {
				fmt.Fprintf(&text, "%s d--755 0 0\n", e.Name())
				walk(path)
				text.WriteString("$\n")
			} else {
				fmt.Fprintf(&text, "%s ---644 0 0 %s\n", e.Name(), path)
			}
		}
	}
	walk(root)
	text.WriteString("$\n")
	require.NoError(t, os.WriteFile(proto, []byte(text.String()), 0o644))
	image := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, 320*mib))
	run(t, tool(t, "mkfs.xfs", "xfsprogs"), "-q", "-p", proto, image)
	require.Equal(t, &fit.Guest{System: "Debian GNU/Linux 12 (bookworm)", OSType: 96, Name: "tide-gauge",
		Drivers: []string{"ahci", "virtio-scsi", "vmxnet3"}}, look(t, image))
}

// A physical volume of TestLVM: where its partition begins, and where its volume root does in extents.
const (
	pvStart, pvExtent, pvRoot = 8 * mib, 4 * mib, 3
	visible                   = `status = ["READ", "WRITE", "VISIBLE"]`
)

// volumeGroup is a disk with a boot record, a physical volume in its second partition, and the file system in a logical
// volume of it (LVM2's on-disk format). disks, status and more come into its metadata.
func volumeGroup(fs []byte, disks, status, more string) []byte {
	le := binary.LittleEndian
	b := make([]byte, 64*mib)
	b[0], b[510], b[511] = 0xfa, 0x55, 0xaa
	b[446+16+4] = 0x8e
	le.PutUint32(b[446+16+8:], pvStart/512)
	le.PutUint32(b[446+16+12:], (64*mib-pvStart)/512)
	pv := b[pvStart:]
	copy(pv[512:], "LABELONE")
	le.PutUint32(pv[512+20:], 32)
	copy(pv[512+24:], "LVM2 001")
	areas := pv[512+32+40:]
	le.PutUint64(areas, mib)       // data from 1 MiB on
	le.PutUint64(areas[32:], 4096) // metadata, after the zeros that end the list
	le.PutUint64(areas[40:], mib-4096)
	copy(pv[4096+4:], " LVM2 x[5A%r0N*>")
	text := `# made by a test
harbour {
	id = "x"
	extent_size = 8192
	physical_volumes { ` + disks + ` }
	logical_volumes {
		swap { segment_count = 1 segment1 { type = "striped"
			start_extent = 0 extent_count = 1 stripe_count = 1 stripes = [ "pv0", 0 ] } }
		root { ` + status + ` segment_count = 1 segment1 { type = "striped" extent_count = 4 stripe_count = 1
			stripes = [ "pv0", 3 ] } }
		` + more + `
	}
}
`
	copy(pv[4096+512:], text)
	le.PutUint64(pv[4096+40:], 512)
	le.PutUint64(pv[4096+48:], uint64(len(text)))
	copy(pv[mib+pvRoot*pvExtent:], fs)
	return b
}

// TestLVM: a system in a logical volume is seen, and what is free of it; but not where another volume may need that.
func TestLVM(t *testing.T) {
	fs := filepath.Join(t.TempDir(), "fs")
	run(t, tool(t, "mke2fs", "e2fsprogs"), "-q", "-F", "-t", "ext4", "-d", debian(t), fs, "16m")
	raw, err := os.ReadFile(fs)
	require.NoError(t, err)
	const pv = `pv0 { id = "y" pe_start = 2048 }`
	b := volumeGroup(raw, pv, visible, "")
	g := guest.Look(bytes.NewReader(b), int64(len(b)))
	require.Equal(t, "Debian GNU/Linux 12 (bookworm)", g.System)
	require.Equal(t, "bios", g.Boot)

	kept := func(b []byte) fit.FileSystem {
		_, found, err := guest.Free(t.Context(), bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		require.Len(t, found, 1)
		return found[0]
	}
	v := kept(b)
	require.Empty(t, v.Kept)
	require.Equal(t, int64(pvStart+mib+pvRoot*pvExtent), v.Start)
	require.Greater(t, v.FreeBytes, int64(8*mib))
	require.Contains(t, kept(volumeGroup(raw, pv, `status = ["READ"]`, "")).Kept, "stand on others", "one of a pool")
	require.Contains(t, kept(volumeGroup(raw, pv, visible,
		`snap { segment_count = 1 segment1 { type = "snapshot" origin = "root" } }`)).Kept, "stand on others")

	b = volumeGroup(raw, "pv0 = 5", visible, "") // no section
	require.Empty(t, guest.Look(bytes.NewReader(b), int64(len(b))).System)
}

// key of a registry, with values that are text.
type key struct {
	name   string
	values map[string]string
	keys   []key
}

// hive is a file of the Windows registry (regf 1.5).
func hive(root key) []byte {
	le := binary.LittleEndian
	cells := make([]byte, 32) // the header of the bin
	cell := func(data []byte) uint32 {
		at := len(cells)
		size := (len(data) + 4 + 7) &^ 7
		cells = le.AppendUint32(cells, uint32(-int32(size)))
		cells = append(cells, data...)
		cells = append(cells, make([]byte, size-4-len(data))...)
		return uint32(at)
	}
	var write func(k key, flags uint16) uint32
	write = func(k key, flags uint16) uint32 {
		list := uint32(0xffffffff)
		if len(k.keys) > 0 {
			lf := le.AppendUint16([]byte("lf"), uint16(len(k.keys)))
			for _, sub := range k.keys {
				lf = le.AppendUint32(lf, write(sub, 0x20))
				lf = append(lf, (sub.name + "\x00\x00\x00\x00")[:4]...)
			}
			list = cell(lf)
		}
		values := []byte{}
		for name, text := range k.values {
			var data []byte
			for _, u := range utf16.Encode([]rune(text + "\x00")) {
				data = le.AppendUint16(data, u)
			}
			at := cell(data)
			vk := le.AppendUint16([]byte("vk"), uint16(len(name)))
			vk = le.AppendUint32(vk, uint32(len(data)))
			vk = le.AppendUint32(vk, at)
			vk = le.AppendUint32(vk, 1) // text
			vk = le.AppendUint32(vk, 1)
			values = le.AppendUint32(values, cell(append(vk, name...)))
		}
		nk := make([]byte, 76)
		copy(nk, "nk")
		le.PutUint16(nk[2:], flags)
		le.PutUint32(nk[20:], uint32(len(k.keys)))
		le.PutUint32(nk[28:], list)
		le.PutUint32(nk[36:], uint32(len(k.values)))
		le.PutUint32(nk[40:], cell(values))
		le.PutUint16(nk[72:], uint16(len(k.name)))
		return cell(append(nk, k.name...))
	}
	at := write(root, 0x2c)
	cells = append(cells, make([]byte, 4096-len(cells)%4096)...)
	copy(cells, "hbin")
	le.PutUint32(cells[8:], uint32(len(cells)))
	head := make([]byte, 4096)
	copy(head, "regf")
	le.PutUint32(head[20:], 1)
	le.PutUint32(head[24:], 5)
	le.PutUint32(head[32:], 1)
	le.PutUint32(head[36:], at)
	le.PutUint32(head[40:], uint32(len(cells)))
	return append(head, cells...)
}

func nest(names string, last key) key {
	parts := strings.Split(names, "/")
	for i := len(parts) - 1; i >= 0; i-- {
		last = key{name: parts[i], keys: []key{last}}
	}
	return last
}

func TestNTFS(t *testing.T) {
	dir := t.TempDir()
	image := filepath.Join(dir, "image")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, 32*mib))
	run(t, tool(t, "mkntfs", "ntfs-3g"), "-q", "-F", "-f", "-p", "0", "-H", "0", "-S", "0", image)
	require.Equal(t, &fit.Guest{Boot: "bios"}, look(t, image), "a volume without Windows on it")
	// Without mounting it, files can be put only into the root.
	for name, k := range map[string]key{
		"SOFTWARE": nest("ROOT/Microsoft/Windows NT", key{name: "CurrentVersion",
			values: map[string]string{"ProductName": "Windows 10 Pro", "CurrentBuildNumber": "22631",
				"DisplayVersion": "23H2"}}),
		"SYSTEM": nest("ROOT", key{name: "ControlSet001", keys: []key{
			{name: "Control", keys: []key{nest("ComputerName", key{name: "ComputerName",
				values: map[string]string{"ComputerName": "LICENCE-DESK"}})}},
			{name: "Services", keys: []key{{name: "StorVSC"}, {name: "netvsc"}, {name: "storahci"}}}}}),
	} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, hive(k), 0o644))
		run(t, tool(t, "ntfscp", "ntfs-3g"), "-f", image, file, name)
	}
	f, err := os.Open(image)
	require.NoError(t, err)
	defer f.Close()
	g, err := guest.WindowsIn(f, 32*mib, "")
	require.NoError(t, err)
	require.Equal(t, &fit.Guest{System: "Windows 11 Pro 23H2", OSType: 105, Name: "LICENCE-DESK",
		Drivers: []string{"ahci", "scsi", "synthetic"}}, g)
}

func TestTables(t *testing.T) {
	require.Equal(t, &fit.Guest{}, guest.Look(bytes.NewReader(nil), 0))
	require.Equal(t, &fit.Guest{}, guest.Look(bytes.NewReader(make([]byte, mib)), mib), "zeros")
	b := make([]byte, 4*mib)
	b[510], b[511] = 0x55, 0xaa
	require.Empty(t, guest.Look(bytes.NewReader(b), 4*mib).Boot, "a table with no code and no partition")
	b[446+4], b[446+8] = 0xee, 1
	require.Empty(t, guest.Look(bytes.NewReader(b), 4*mib).Boot, "protective, and nothing behind it")
	le := binary.LittleEndian
	copy(b[512:], "EFI PART")
	le.PutUint64(b[512+72:], 2)
	le.PutUint32(b[512+80:], 4)
	le.PutUint32(b[512+84:], 128)
	copy(b[1024:], []byte{0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9,
		0x3b})
	le.PutUint64(b[1024+32:], 2048)
	le.PutUint64(b[1024+40:], 4095)
	require.Equal(t, "uefi", guest.Look(bytes.NewReader(b), 4*mib).Boot)
	copy(b[16*2048:], "\x01CD001\x01")
	require.Equal(t, "medium", guest.Look(bytes.NewReader(b), 4*mib).Boot)
}

// FuzzLook: whatever is on a disk, looking at it ends.
func FuzzLook(f *testing.F) {
	b := make([]byte, 6<<10)
	b[510], b[511], b[446+4], b[446+8], b[446+12] = 0x55, 0xaa, 0x83, 1, 10
	f.Add(b)
	copy(b[512+1080:], []byte{0x53, 0xef})
	f.Add(bytes.Clone(b))
	copy(b[512:], "XFSB")
	f.Add(bytes.Clone(b))
	copy(b[512:], "\xeb\x52\x90NTFS    ")
	f.Add(bytes.Clone(b))
	copy(b[1024:], "LABELONE")
	copy(b[1024+24:], "LVM2 001")
	f.Add(bytes.Clone(b))
	f.Fuzz(func(t *testing.T, raw []byte) { guest.Look(bytes.NewReader(raw), int64(len(raw))) })
}
