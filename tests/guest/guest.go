// Package guest builds the guests of tests: Debian's kernel with a small init of ours, on a disk that starts by BIOS
// and by UEFI, from Debian's packages. What was built is kept outside the repository.
package guest

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/cavaliergopher/cpio"
	"golang.org/x/sys/unix"
)

// drivers are the modules of Debian's kernel that guests have, without their ending.
var drivers = []string{
	"virtio", "virtio_ring", "virtio_pci", "virtio_pci_modern_dev", "virtio_pci_legacy_dev", "virtio_blk",
	"virtio_scsi", "virtio_net", "failover", "net_failover", "scsi_mod", "scsi_common", "sd_mod", "libata",
	"libahci", "ahci", "ata_piix", "nvme", "nvme-core", "nvme-common", "t10-pi", "crc-t10dif", "crct10dif_common",
	"crct10dif_generic", "crc64", "crc64-rocksoft", "crc64_rocksoft_generic", "e1000e", "ptp", "pps_core",
	"8139cp", "mii", "ext4", "jbd2", "mbcache", "crc16", "crc32c_generic", "libcrc32c", "button", "evdev",
	"qemu_fw_cfg", "cdrom", "sr_mod", "isofs",
}

const (
	mib      = 1 << 20
	bootFrom = mib // of the partition that the machine starts from
	bootMiB  = 64
	diskMiB  = 96
)

// The partition with the guest's own file system.
const (
	FilesFrom  = bootFrom + bootMiB*mib
	FilesBytes = (diskMiB - bootMiB - 1) * mib
)

// Disk is the path of the guest's disk, raw; it is built when there is none as this code would build it.
func Disk() (path string, err error) {
	return path, inCache(func(b *builder) error {
		key, err := b.key()
		if err != nil {
			return err
		}
		path = filepath.Join(b.cache, "guest-"+key+".raw")
		if _, err := os.Stat(path); err == nil {
			return nil
		}
		if err := b.build(); err != nil {
			return fmt.Errorf("build the guest of the tests: %w", err)
		}
		return os.Rename(b.at("disk"), path)
	})
}

// Unpacked is a directory with the files of one of Debian's packages, which is not installed for that.
func Unpacked(name string) (dir string, err error) {
	return dir, inCache(func(b *builder) (err error) {
		dir, err = b.unpack(name)
		return err
	})
}

// inCache works on what is kept between tests. Those of several packages want it at one moment: one builds it, the
// others wait.
func inCache(f func(b *builder) error) error {
	b := &builder{cache: os.Getenv("UNVORA_GUESTS")}
	if b.cache == "" {
		b.cache = "/var/cache/unvora-guests"
	}
	if err := os.MkdirAll(b.cache, 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(b.cache, "lock"), os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	if b.work, err = os.MkdirTemp(b.cache, "build-"); err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(b.work) }()
	return f(b)
}

type builder struct {
	cache, work string
	kernel      string // name of Debian's package
}

func (b *builder) at(name string) string { return filepath.Join(b.work, name) }

// run carries out one command.
func (b *builder) run(dir, name string, args ...string) error {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, out)
	}
	return nil
}

// key changes with what the guest is made of.
func (b *builder) key() (string, error) {
	out, err := exec.Command("apt-cache", "depends", "linux-image-amd64").Output()
	if err != nil {
		return "", fmt.Errorf("which kernel Debian has: %w", err)
	}
	_, rest, found := strings.Cut(string(out), "Depends: ")
	if !found {
		return "", errors.New("apt-cache knows no linux-image-amd64: apt-get update")
	}
	b.kernel = strings.Fields(rest)[0]
	h := sha256.New()
	fmt.Fprintln(h, b.kernel)
	for _, dir := range []string{".", "init"} {
		files, err := filepath.Glob(filepath.Join(here(), dir, "*.go"))
		if err != nil {
			return "", err
		}
		for _, f := range files {
			raw, err := os.ReadFile(f)
			if err != nil {
				return "", err
			}
			h.Write(raw)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8]), nil
}

// here is the directory of this package.
func here() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(file)
}

func (b *builder) build() error {
	kernel, err := b.unpack(b.kernel)
	if err != nil {
		return err
	}
	if err := b.initramfs(kernel); err != nil {
		return err
	}
	linux, err := filepath.Glob(filepath.Join(kernel, "boot", "vmlinuz-*"))
	if err != nil || len(linux) != 1 {
		return fmt.Errorf("the package %s has no kernel (%v)", b.kernel, err)
	}
	return b.disk(linux[0])
}

// unpack fetches one of Debian's packages, unless it was fetched before.
func (b *builder) unpack(name string) (string, error) {
	dir := filepath.Join(b.cache, name)
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := b.run(b.work, "apt-get", "download", "-q", name); err != nil {
		return "", err
	}
	packages, err := filepath.Glob(b.at(name + "_*.deb"))
	if err != nil || len(packages) != 1 {
		return "", fmt.Errorf("apt-get download %s brought %v (%v)", name, packages, err)
	}
	if err := b.run(b.work, "dpkg-deb", "-x", packages[0], b.at("unpacked")); err != nil {
		return "", err
	}
	return dir, os.Rename(b.at("unpacked"), dir)
}

// initramfs packs init and the drivers.
func (b *builder) initramfs(kernel string) error {
	cmd := exec.Command("go", "build", "-trimpath", "-o", b.at("init"), "./init")
	cmd.Dir, cmd.Env = here(), append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("build init: %w\n%s", err, out)
	}
	f, err := os.Create(b.at("initrd"))
	if err != nil {
		return err
	}
	w := cpio.NewWriter(f)
	add := func(name, path string, mode cpio.FileMode) error {
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&cpio.Header{Name: name, Mode: cpio.TypeReg | mode,
			Size: int64(len(raw))}); err != nil {
			return err
		}
		_, err = w.Write(raw)
		return err
	}
	err = w.WriteHeader(&cpio.Header{Name: "modules", Mode: cpio.TypeDir | 0o755})
	if err == nil {
		err = add("init", b.at("init"), 0o755)
	}
	wanted := map[string]bool{}
	for _, d := range drivers {
		wanted[d+".ko"] = true
	}
	err = errors.Join(err, filepath.WalkDir(filepath.Join(kernel, "lib", "modules"),
		func(path string, d fs.DirEntry, err error) error {
			if err != nil || !wanted[d.Name()] {
				return err
			}
			return add("modules/"+d.Name(), path, 0o644)
		}))
	return errors.Join(err, w.Close(), f.Close())
}

// disk makes a disk with a boot record, a partition that BIOS and UEFI start from, and the guest's own file system.
func (b *builder) disk(linux string) error {
	const settings = "console=ttyS0 quiet panic=-1"
	if err := os.WriteFile(b.at("syslinux.cfg"), []byte("default guest\nprompt 0\ntimeout 0\nlabel guest\n kernel "+
		"linux\n"+
		" initrd initrd\n append "+settings+"\n"), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(b.at("cmdline"), []byte(settings), 0o644); err != nil {
		return err
	}
	disk, fat := b.at("disk"), fmt.Sprintf("%s@@%d", b.at("disk"), bootFrom)
	record, err := os.ReadFile("/usr/lib/syslinux/mbr/mbr.bin")
	if err != nil {
		return err
	}
	sector := make([]byte, 512)
	copy(sector, record)
	partition(sector[446:], 0x80, 0xef, bootFrom, bootMiB*mib)
	partition(sector[462:], 0, 0x83, FilesFrom, FilesBytes)
	sector[510], sector[511] = 0x55, 0xaa
	if err := os.WriteFile(disk, sector, 0o644); err != nil {
		return err
	}
	if err := os.Truncate(disk, diskMiB*mib); err != nil {
		return err
	}
	for _, command := range [][]string{
		{"objcopy", "--add-section", ".cmdline=cmdline", "--change-section-vma", ".cmdline=0x30000",
			"--add-section", ".linux=" + linux, "--change-section-vma", ".linux=0x2000000",
			"--add-section", ".initrd=initrd", "--change-section-vma", ".initrd=0x4000000",
			"/usr/lib/systemd/boot/efi/linuxx64.efi.stub", "bootx64.efi"},
		{"mformat", "-i", fat, "-F", "-T", fmt.Sprint(bootMiB * mib / 512), "-h", "64", "-s", "32", "-H",
			fmt.Sprint(bootFrom / 512), "::"},
		{"mmd", "-i", fat, "::EFI", "::EFI/BOOT"},
		{"mcopy", "-i", fat, "bootx64.efi", "::EFI/BOOT/BOOTX64.EFI"},
		{"mcopy", "-i", fat, linux, "::linux"},
		{"mcopy", "-i", fat, "initrd", "syslinux.cfg", "::"},
		{"syslinux", "--offset", fmt.Sprint(bootFrom), "--install", disk},
		{"/sbin/mke2fs", "-q", "-t", "ext4", "-E", fmt.Sprintf("offset=%d", FilesFrom), disk,
			fmt.Sprintf("%dk", FilesBytes>>10)},
	} {
		if err := b.run(b.work, command[0], command[1:]...); err != nil {
			return err
		}
	}
	return nil
}

// partition writes one entry of a boot record's table.
func partition(entry []byte, active, kind byte, from, bytes int64) {
	entry[0], entry[4] = active, kind
	for n, v := range []int64{from / 512, bytes / 512} {
		for i := range 4 {
			entry[8+4*n+i] = byte(v >> (8 * i))
		}
	}
}
