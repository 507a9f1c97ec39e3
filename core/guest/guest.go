// Package guest looks into a disk from outside: how it starts, and which
// operating system is on it. What it can't tell it leaves open, and never guesses.
//
// Sources: UEFI 2.10, section 5 (partition tables); os-release(5); the file
// systems are read by libraries, LVM2's text metadata here.
package guest

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"unvora.example/unvora/core/fit"
)

const (
	mostReads = 20_000   // of one disk: a damaged file system leads round in circles
	mostBytes = 96 << 20 // likewise
	mostFile  = 16 << 20 // of one file
	sector    = 512
)

var errEnough = errors.New("this disk takes more reading than is worth it")

// frugal is a reader that gives up after a while.
type frugal struct {
	io.ReaderAt
	reads, bytes         int64
	mostReads, mostBytes int64
}

func (f *frugal) ReadAt(p []byte, off int64) (int, error) {
	if f.reads++; f.reads > f.mostReads || f.bytes > f.mostBytes {
		return 0, errEnough
	}
	f.bytes += int64(len(p))
	return f.ReaderAt.ReadAt(p, off)
}

// files is a file system as far as it is needed.
type files interface {
	// read returns a file of the path, without a leading slash.
	read(path string) ([]byte, error)
	// list returns the names in a directory.
	list(path string) ([]string, error)
}

// Look tells what is on a disk of size bytes.
func Look(disk io.ReaderAt, size int64) *fit.Guest {
	g := &fit.Guest{}
	src := &frugal{ReaderAt: disk, mostReads: mostReads, mostBytes: mostBytes}
	parts, boot := partitions(src, size)
	g.Boot = boot
	for _, p := range parts {
		if p.boot {
			continue
		}
		for _, v := range volumes(io.NewSectionReader(src, p.start, p.bytes)) {
			if guarded(func() error { return system(v.SectionReader, g) }) == nil && g.System != "" {
				return g
			}
		}
	}
	return g
}

// guarded turns a library's panic on a damaged file system into an error.
func guarded(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%v", p)
		}
	}()
	return f()
}

// system recognises what is on a volume.
func system(v *io.SectionReader, g *fit.Guest) error {
	head := make([]byte, 2048)
	if n, err := v.ReadAt(head, 0); n < len(head) {
		return err
	}
	switch {
	case bytes.Equal(head[3:11], []byte("NTFS    ")):
		return windows(v, registry, g)
	case string(head[:4]) == "XFSB":
		fs, err := openXFS(v)
		if err != nil {
			return err
		}
		return linux(fs, g)
	case head[1080] == 0x53 && head[1081] == 0xef:
		fs, err := openExt(v)
		if err != nil {
			return err
		}
		return linux(fs, g)
	}
	return errors.New("no file system that is read")
}

// modules are the Linux drivers of the models of controllers and adapters that guests and packages bear.
var modules = map[string][]string{
	"virtio-scsi": {"virtio_scsi"}, "ahci": {"ahci"}, "nvme": {"nvme"}, "lsi-sas": {"mpt3sas", "mptsas"},
	"ide":  {"ata_piix", "ata_generic"},
	"scsi": {"mptspi", "sym53c8xx", "hv_storvsc"}, "pvscsi": {"vmw_pvscsi"},
	"virtio": {"virtio_net"}, "82574L": {"e1000e"}, "RTL8139": {"8139cp", "8139too"},
	"e1000": {"e1000"}, "vmxnet3": {"vmxnet3"}, "synthetic": {"hv_netvsc"}, "legacy": {"tulip"},
}

func linux(fs files, g *fit.Guest) error {
	release, err := first(fs, "etc/os-release", "usr/lib/os-release")
	if err != nil {
		return err
	}
	fields := map[string]string{}
	for s := bufio.NewScanner(bytes.NewReader(release)); s.Scan(); {
		if k, v, ok := strings.Cut(s.Text(), "="); ok {
			fields[k] = strings.Trim(v, `"'`)
		}
	}
	if g.System = fields["PRETTY_NAME"]; g.System == "" {
		g.System = strings.TrimSpace(fields["NAME"] + " " + fields["VERSION_ID"])
	}
	g.OSType = fit.OSType(g.System)
	if g.OSType == 1 {
		g.OSType = fit.OSType("Linux")
	}
	if name, err := fs.read("etc/hostname"); err == nil {
		g.Name = strings.TrimSpace(string(name))
	}
	for _, root := range []string{"lib/modules", "usr/lib/modules"} {
		kernels, err := fs.list(root)
		if err != nil || len(kernels) == 0 {
			continue
		}
		slices.Sort(kernels)
		kernel := path.Join(root, kernels[len(kernels)-1])
		var all []byte
		for _, name := range []string{"modules.dep", "modules.builtin"} {
			if raw, err := fs.read(path.Join(kernel, name)); err == nil {
				all = append(append(all, raw...), '\n')
			}
		}
		if len(all) == 0 {
			continue
		}
		has := map[string]bool{}
		for s := bufio.NewScanner(bytes.NewReader(all)); s.Scan(); {
			name, _, _ := strings.Cut(s.Text(), ":")
			name, _, _ = strings.Cut(path.Base(name), ".ko")
			has[strings.ReplaceAll(name, "-", "_")] = true
		}
		g.Drivers = modelsOf(modules, func(driver string) bool { return has[driver] })
	}
	if _, err := fs.read("etc/cloud/cloud.cfg"); err == nil {
		g.Initialiser = "cloud-init"
	}
	return nil
}

// modelsOf lists the models of which a driver is there, sorted.
func modelsOf(table map[string][]string, has func(string) bool) []string {
	models := []string{}
	for model, drivers := range table {
		if slices.ContainsFunc(drivers, has) {
			models = append(models, model)
		}
	}
	slices.Sort(models)
	return models
}

func first(fs files, names ...string) (raw []byte, err error) {
	for _, n := range names {
		if raw, err = fs.read(n); err == nil {
			return raw, nil
		}
	}
	return nil, err
}

// services are the Windows drivers of the models.
var services = map[string][]string{
	"virtio-scsi": {"vioscsi"}, "ahci": {"storahci"}, "nvme": {"stornvme"},
	"lsi-sas": {"lsi_sas", "lsi_sas2i", "lsi_sas3i"}, "ide": {"intelide", "atapi"},
	"scsi": {"lsi_scsi", "storvsc"}, "pvscsi": {"pvscsi"},
	"virtio": {"netkvm"}, "82574L": {"e1iexpress", "e1i65x64"}, "RTL8139": {"rtl8139", "rtl8023x64"},
	"e1000": {"e1g60"}, "vmxnet3": {"vmxnet3ndis6"}, "synthetic": {"netvsc"}, "legacy": {"dc21x4"},
}

const windows11 = 22000 // builds from here on

const registry = "Windows/System32/config/"

func windows(v *io.SectionReader, dir string, g *fit.Guest) error {
	software, err := openHive(v, dir+"SOFTWARE")
	if err != nil {
		return err
	}
	version := software.values("Microsoft/Windows NT/CurrentVersion")
	name := version["ProductName"]
	if name == "" {
		return errors.New("the registry states no version")
	}
	if build, _ := strconv.Atoi(version["CurrentBuildNumber"]); build >= windows11 {
		name = strings.Replace(name, "Windows 10", "Windows 11", 1) // which calls itself so
	}
	g.System = strings.TrimSpace(name + " " + version["DisplayVersion"])
	g.OSType = fit.OSType(g.System)
	system, err := openHive(v, dir+"SYSTEM")
	if err != nil {
		return nil // what was found stands
	}
	g.Name = system.values("ControlSet001/Control/ComputerName/ComputerName")["ComputerName"]
	if names := system.keys("ControlSet001/Services"); len(names) > 0 {
		g.Drivers = modelsOf(services, func(driver string) bool {
			return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, driver) })
		})
	}
	return nil
}
