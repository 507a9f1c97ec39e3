package demo

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// samplePackage is a package that somebody downloaded, most of them with a fault.
type samplePackage struct {
	file    string
	more    func(m *machine.Machine)
	harm    func(sums map[string]string) // of the manifest
	diskAs  string                       // the disk's name in archive and descriptor
	cutLast int64                        // bytes that are missing at the end
}

var downloads = []samplePackage{
	{file: "rain-gauge.ova"},
	{file: "rain-gauge-changed.ova", harm: func(sums map[string]string) {
		for name := range sums {
			if filepath.Ext(name) == ".vmdk" {
				sums[name] = "00" + sums[name][2:]
			}
		}
	}},
	{file: "rain-gauge-cut.ova", cutLast: 200_000},
	{file: "storm-surge.ova", more: func(m *machine.Machine) {
		m.Name, m.CPUs, m.MemoryBytes = "storm-surge", 96,
			1<<40
	}},
	{file: "rain-gauge-escaping.ova", diskAs: "../../rain-gauge-disk1.vmdk"},
}

// packages writes the downloads that are not there yet.
func packages(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, p := range downloads {
		path := filepath.Join(dir, p.file)
		if exists(path) {
			continue
		}
		if err := p.write(path); err != nil {
			return fmt.Errorf("%s: %w", p.file, err)
		}
	}
	return nil
}

func sumOf(p []byte) string {
	s := sha256.Sum256(p)
	return hex.EncodeToString(s[:])
}

func (p samplePackage) write(path string) error {
	name := "rain-gauge-disk1.vmdk"
	if p.diskAs != "" {
		name = p.diskAs
	}
	image := path + ".disk"
	defer func() { _ = os.Remove(image) }()
	vmdk, err := formats.ByName("vmdk")
	if err != nil {
		return err
	}
	f, err := os.Create(image)
	if err != nil {
		return err
	}
	defer f.Close()
	src, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	const size = 2048 * mib
	img, err := vmdk.Create(src, disk.Spec{VirtualBytes: size, Variant: "stream", ID: sampleUUID("disk rain-gauge")})
	if err != nil {
		return err
	}
	blocks := &assembler{img: img, unit: mib}
	blocks.write(0, mbr(size, ""))
	system, err := linuxSystem("rain-gauge")
	if err != nil {
		return err
	}
	blocks.write(mib, system)
	rng := rand.New(seeded("data rain-gauge"))
	for n := range int64(4) {
		block := make([]byte, mib)
		fill(block, rng)
		blocks.write((dataFrom+n)*mib, block)
	}
	if err := blocks.flush(); err != nil {
		return err
	}
	if err := img.Finish(); err != nil {
		return err
	}
	data, err := os.ReadFile(image)
	if err != nil {
		return err
	}
	m := &machine.Machine{Name: "rain-gauge", UUID: sampleUUID("uuid rain-gauge"),
		FirmwareUUID: sampleUUID("firmware rain-gauge"), CPUs: 1, MemoryBytes: 1 << 30, Firmware: "bios", Guest: debian,
		GuestID: debianID,
		Disks: []machine.Disk{{ID: "disk1", File: name, Format: "vmdk", VirtualBytes: size, FileBytes: int64(len(data)),
			Controller: "scsi"}},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "82574L", MAC: sampleMAC("mac rain-gauge"), Network: "lab"}}}
	if p.more != nil {
		p.more(m)
	}
	d, err := ovf.New(m)
	if err != nil {
		return err
	}
	descriptor, err := d.Encode(0)
	if err != nil {
		return err
	}
	members := []ovf.Member{{Name: "rain-gauge.ovf", Size: int64(len(descriptor)), Sum: sumOf(descriptor)},
		{Name: name, Size: int64(len(data)), Sum: sumOf(data)}}
	sums := map[string]string{}
	for _, x := range members {
		sums[x.Name] = x.Sum
	}
	if p.harm != nil {
		p.harm(sums)
	}
	manifest := ovf.EncodeManifest(ovf.SHA256, sums)
	var out bytes.Buffer
	written := time.Unix(1_700_000_000, 0)
	for _, x := range []struct {
		name string
		data []byte
	}{{"rain-gauge.ovf", descriptor}, {"rain-gauge.mf", manifest}, {name, data}} {
		if err := ovf.WriteMember(&out, x.name, int64(len(x.data)), written, bytes.NewReader(x.data)); err != nil {
			return err
		}
	}
	out.Write(make([]byte, 1024)) // the end of a tar archive
	raw := out.Bytes()
	if err := os.WriteFile(path+".new", raw[:int64(len(raw))-p.cutLast], 0o644); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}
