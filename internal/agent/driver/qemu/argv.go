package qemu

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

// command is a QEMU that is being put together: its arguments, and the files that it is given as descriptors.
//
// Nothing inside an image or a package names a file that QEMU opens: every image is opened here, by the agent's own
// door, and passed on as a descriptor in a set of its own (-add-fd); block nodes spell out each format and parent.
type command struct {
	files disk.Files
	args  []string
	open  []*os.File
	sets  int
	first string      // what is started from, this once; "" for the machine's own order
	boots []bootOrder // of what can be started from, as the machine has it
	has   devices
}

// firstFD is the descriptor of the first file in the process that gets them.
const firstFD = 3

func (c *command) add(args ...string) { c.args = append(c.args, args...) }

// json adds an option whose value is an object.
func (c *command) json(option string, value map[string]any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	c.add(option, string(raw))
	return nil
}

// pass hands a file over, and returns the number of its descriptor there. Whoever puts the command together no longer
// closes it.
func (c *command) pass(f *os.File) int {
	c.open = append(c.open, f)
	return firstFD + len(c.open) - 1
}

// close drops what was opened, once QEMU has it or will not be started.
func (c *command) close() {
	for _, f := range c.open {
		f.Close()
	}
	c.open = nil
}

// file is the lowest node of an image: a set of descriptors with one file in it.
func (c *command) file(path string, flag int) (map[string]any, error) {
	f, err := c.files.OpenFile(path, flag, 0)
	if err != nil {
		return nil, err
	}
	c.sets++
	c.add("-add-fd", fmt.Sprintf("fd=%d,set=%d", c.pass(f), c.sets))
	if flag == os.O_RDWR { // QEMU takes this one when it is to write there no more: below a new layer
		only, err := c.files.OpenFile(path, os.O_RDONLY, 0)
		if err != nil {
			return nil, err
		}
		c.add("-add-fd", fmt.Sprintf("fd=%d,set=%d", c.pass(only), c.sets))
	}
	return map[string]any{"driver": "file", "filename": fmt.Sprintf("/dev/fdset/%d", c.sets),
		"read-only": flag == os.O_RDONLY}, nil
}

// drivers are QEMU's names of formats, and the variants of them that it runs well.
var drivers = map[string]struct {
	name     string
	variants []string
}{
	"raw":   {"raw", []string{"sparse", "full", ""}},
	"qcow2": {"qcow2", []string{"v2", "v3"}},
	"vmdk":  {"vmdk", []string{"sparse"}},
	"vhd":   {"vpc", []string{"dynamic", "fixed"}},
	"vhdx":  {"vhdx", []string{"dynamic", "fixed"}},
}

// another says how an image becomes one that runs.
const another = "unvora disk copy FILE NEW --format qcow2 makes one that it runs"

// disk adds the block nodes of a disk, top layer writable, and returns the name of the topmost.
func (c *command) disk(name, path, format string) (string, error) {
	chain, err := formats.OpenChain(path, formats.Options{Files: c.files, Format: format, Wary: true})
	if err != nil {
		return "", err
	}
	defer chain.Close()
	var below map[string]any
	for n, link := range slices.Backward(chain.Links) {
		d, known := drivers[link.Format.Name]
		info := link.Image.Info()
		if !known || !slices.Contains(d.variants, info.Variant) {
			return "", fmt.Errorf("%s is %s of the variant %q, which QEMU does not run as it is: %s", link.Path,
				link.Format.Name, info.Variant, another)
		}
		if len(link.Files) != 1 { // QEMU would open them by the names that the image gives
			return "", fmt.Errorf("%s names another file with its data, %s: %s", link.Path, link.Files[1], another)
		}
		if info.VirtualBytes == 0 { // QEMU takes a VMDK without a size for a list of further files
			return "", fmt.Errorf("%s is a disk of 0 bytes, on which nothing can run", link.Path)
		}
		flag := os.O_RDONLY
		if n == 0 {
			flag = os.O_RDWR
		}
		file, err := c.file(link.Path, flag)
		if err != nil {
			return "", err
		}
		node := map[string]any{"driver": d.name, "file": file, "read-only": n != 0}
		if n == 0 {
			node["node-name"], node["discard"] = name, "unmap"
		}
		if d.name == "qcow2" {
			node["backing"] = nil
			if below != nil {
				node["backing"] = below
			}
		} else if below != nil {
			return "", fmt.Errorf("%s is a layer of the format %s, which QEMU runs only alone", link.Path,
				link.Format.Name)
		}
		below = node
	}
	return name, c.json("-blockdev", below)
}

// nics are QEMU's names of NIC models, by what descriptors call them.
var nics = map[string]string{"virtio": "virtio-net-pci", "82574L": "e1000e", "RTL8139": "rtl8139"}

// machine puts the command line of a machine together, but for what its keeper adds. A descriptor's values reach it
// only as numbers, as checked ids, or inside JSON objects.
func (c *command) machine(folder string, m *machine.Machine, host *Host, switches []wiring.Switch) error {
	board := "q35"
	if slices.ContainsFunc(m.Disks, func(d machine.Disk) bool { return strings.EqualFold(d.Controller, "ide") }) {
		board = "pc" // only that one has the old controller
	}
	if err := checkIDs(m); err != nil {
		return err
	}
	sockets := ""
	if n := m.CoresPerSocket; n > 0 && m.CPUs%n == 0 {
		sockets = fmt.Sprintf(",sockets=%d,cores=%d,threads=1", m.CPUs/n, n)
	}
	acceleration, cpu := "tcg", "qemu64"
	if host.Slow == "" {
		acceleration, cpu = "kvm", "host"
	}
	options := board + ",accel=" + acceleration + ",vmport=off,usb=off"
	rtc := "base=utc"
	if strings.Contains(strings.ToLower(m.Guest), "windows") {
		rtc = "base=localtime"
	}
	if m.Firmware == "uefi" {
		options += ",pflash0=code,pflash1=variables"
		if err := c.firmware(folder, m, host); err != nil {
			return err
		}
	}
	c.add("-nodefaults", "-no-user-config", "-vnc", "none", "-machine", options, "-cpu", cpu, "-smp",
		fmt.Sprintf("cpus=%d", m.CPUs)+sockets, "-m", fmt.Sprintf("%dM", memoryOf(m)>>20), "-rtc", rtc,
		"-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny",
		"-action", "reboot=reset,shutdown=poweroff,panic=pause", "-msg", "timestamp=off")
	if m.FirmwareUUID != "" {
		c.add("-uuid", m.FirmwareUUID)
	}
	if m.Serial != "" {
		c.add("-smbios", "type=1,serial="+strings.ReplaceAll(m.Serial, ",", ",,"))
	}
	if m.GenerationID != "" {
		if err := c.json("-device", map[string]any{"driver": "vmgenid", "guid": m.GenerationID}); err != nil {
			return err
		}
	}
	if err := c.json("-device", map[string]any{"driver": "VGA", "vgamem_mb": 16}); err != nil {
		return err
	}
	if err := c.json("-device", map[string]any{"driver": "virtio-tablet-pci"}); err != nil {
		return err
	}
	if err := c.disks(folder, m); err != nil {
		return err
	}
	if err := c.drives(folder, m); err != nil {
		return err
	}
	if err := c.nics(m, switches); err != nil {
		return err
	}
	return c.spare(board)
}

// checkIDs holds against what goes into plain arguments.
func checkIDs(m *machine.Machine) error {
	if m.CPUs < 1 || m.MemoryBytes < 1<<20 {
		return fmt.Errorf("it has %d CPUs and %d bytes of memory: at least one CPU and 1 MiB are needed", m.CPUs,
			m.MemoryBytes)
	}
	for what, id := range map[string]string{"firmware UUID": m.FirmwareUUID, "generation id": m.GenerationID} {
		if id != "" && !identity.IsUUID(id) {
			return fmt.Errorf("its %s %q is no UUID: unvora renew gives it one", what, id)
		}
	}
	if strings.IndexFunc(m.Serial, machine.Unseen) >= 0 {
		return fmt.Errorf("its serial number %q has characters that can't be shown", m.Serial)
	}
	return nil
}

// firmware adds UEFI's code and the machine's own store of variables.
func (c *command) firmware(folder string, m *machine.Machine, host *Host) error {
	code, template := host.Firmware.Code, host.Firmware.Variables
	if m.SecureBoot {
		code, template = host.Firmware.SecureCode, host.Firmware.SecureVariables
	}
	if code == "" {
		return fmt.Errorf("it starts by UEFI, and this host has no firmware for that: apt-get install ovmf")
	}
	name := m.Variables
	if name == "" {
		name = variablesFile
	}
	if name != filepath.Base(name) || !filepath.IsLocal(name) { // QEMU writes to it
		return fmt.Errorf("its store of UEFI variables is to be %q: it has to lie beside its descriptor", name)
	}
	path := filepath.Join(folder, name)
	if err := c.ownVariables(path, template); err != nil {
		return err
	}
	f, err := firmwareFile(code)
	if err != nil {
		return err
	}
	c.sets++
	c.add("-add-fd", fmt.Sprintf("fd=%d,set=%d", c.pass(f), c.sets))
	if err := c.json("-blockdev", map[string]any{"driver": "raw", "node-name": "code", "read-only": true,
		"file": map[string]any{"driver": "file", "filename": fmt.Sprintf("/dev/fdset/%d", c.sets),
			"read-only": true}}); err != nil {
		return err
	}
	variables, err := c.file(path, os.O_RDWR)
	if err != nil {
		return err
	}
	return c.json("-blockdev", map[string]any{"driver": "raw", "node-name": "variables", "file": variables})
}

// variablesFile is a machine's store of UEFI variables where its descriptor names none.
const variablesFile = "uefi-variables.fd"

// ownVariables makes a machine's store of UEFI variables, if it has none yet, or an empty one. It is written beside its
// place, and renamed.
func (c *command) ownVariables(path, template string) error {
	if st, err := c.files.Stat(path); err == nil && st.Size() > 0 {
		return nil
	}
	empty, err := firmwareFile(template)
	if err != nil {
		return err
	}
	defer empty.Close()
	staged := path + ".new"
	f, err := c.files.OpenFile(staged, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, empty)
	if e := f.Sync(); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	return c.files.Rename(staged, path)
}

// disks adds the machine's disks with their controllers.
func (c *command) disks(folder string, m *machine.Machine) error {
	var buses bus
	for n, d := range m.Disks {
		if d.File == "" {
			return fmt.Errorf("disk %s has no file", d.ID)
		}
		name, err := c.disk(c.has.next("disk"), filepath.Join(folder, d.File), d.Format)
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.ID, err)
		}
		device, err := buses.place(c, strings.ToLower(d.Controller))
		if err != nil {
			return fmt.Errorf("disk %s: %w", d.ID, err)
		}
		device["drive"], device["id"] = name, c.has.next("dev")
		c.boot(device, m, d.ID, n)
		c.has.Disks[d.ID] = part{Device: device["id"].(string), Node: name, File: d.File}
		serial(device, d)
		if err := c.json("-device", device); err != nil {
			return err
		}
	}
	return nil
}

// serial gives a disk the serial number that it shows.
func serial(device map[string]any, d machine.Disk) {
	if d.Serial != "" {
		device["serial"] = d.Serial[:min(len(d.Serial), machine.SerialLength)]
	} else if device["driver"] == "nvme" { // has to have one
		device["serial"] = d.ID
	}
}

// bus counts what was connected to the controllers.
type bus struct{ scsi, ahci, ide int }

// place is where the next disk of a controller goes.
func (b *bus) place(c *command, controller string) (map[string]any, error) {
	switch controller {
	case "virtio-blk", "":
		return map[string]any{"driver": "virtio-blk-pci"}, nil
	case "virtio-scsi":
		if b.scsi++; b.scsi == 1 {
			if err := c.json("-device", map[string]any{"driver": "virtio-scsi-pci", "id": "scsi"}); err != nil {
				return nil, err
			}
		}
		return map[string]any{"driver": "scsi-hd", "bus": "scsi.0"}, nil
	case "nvme":
		return map[string]any{"driver": "nvme"}, nil
	case "ahci":
		if b.ahci++; b.ahci == 1 {
			if err := c.json("-device", map[string]any{"driver": "ich9-ahci", "id": "ahci"}); err != nil {
				return nil, err
			}
		}
		if b.ahci > 6 {
			return nil, fmt.Errorf("an AHCI controller has 6 ports")
		}
		return map[string]any{"driver": "ide-hd", "bus": fmt.Sprintf("ahci.%d", b.ahci-1)}, nil
	case "ide":
		if b.ide++; b.ide > 4 {
			return nil, fmt.Errorf("an IDE controller has 4 places")
		}
		return map[string]any{"driver": "ide-hd", "bus": fmt.Sprintf("ide.%d", (b.ide-1)/2), "unit": (b.ide - 1) % 2},
			nil
	}
	return nil, fmt.Errorf("its controller %q is none that this host has: bring it in with unvora import or "+
		"register, whose plan offers another", controller)
}

// bootOrder is the place of a device in the order of starting.
type bootOrder struct {
	device string // as QEMU knows it
	at     int
}

// boot gives a device its place in the order of starting; what the order does not name comes after. A device that is
// started from this once comes before all, until the machine runs.
func (c *command) boot(device map[string]any, m *machine.Machine, name string, n int) {
	at := slices.Index(m.Boot, name)
	if at < 0 {
		at = len(m.Boot) + n
	}
	at++
	c.boots = append(c.boots, bootOrder{device["id"].(string), at})
	if name == c.first {
		at = 0
	}
	device["bootindex"] = at
}

// usualOrder gives the devices of a machine that was started from another than usual their own places. Firmware reads
// them when the machine is reset.
func usualOrder(ctx context.Context, dir runDir, boots []bootOrder) error {
	m, err := dialMonitor(ctx, dir)
	if err != nil {
		return err
	}
	defer m.close()
	for _, round := range []func(bootOrder) int{
		func(bootOrder) int { return -1 }, // no two have the same place at any time
		func(b bootOrder) int { return b.at },
	} {
		for _, b := range boots {
			if err := m.do(ctx, "qom-set", map[string]any{"path": "/machine/peripheral/" + b.device,
				"property": "bootindex", "value": round(b)}, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// drives adds CD drives. The first serial port is the keeper's; what else a descriptor may name is left out.
func (c *command) drives(folder string, m *machine.Machine) error {
	n := 0
	for _, d := range m.Devices {
		if d.Kind != machine.DeviceCD {
			continue
		}
		if n++; n == 1 {
			if err := c.json("-device", map[string]any{"driver": "virtio-scsi-pci", "id": "cds"}); err != nil {
				return err
			}
		}
		device := map[string]any{"driver": "scsi-cd", "bus": "cds.0", "id": c.has.next("drive")}
		c.boot(device, m, d.Name, 100+n)
		drive := part{Device: device["id"].(string), File: d.File}
		if d.File != "" {
			var err error
			if drive.Node, err = c.medium(folder, d); err != nil {
				return err
			}
			device["drive"] = drive.Node
		}
		c.has.Drives[d.Name] = drive
		if err := c.json("-device", device); err != nil {
			return err
		}
	}
	return nil
}

// medium adds the block node of what is in a drive.
func (c *command) medium(folder string, d machine.Device) (string, error) {
	path := d.File
	if !filepath.IsAbs(path) {
		path = filepath.Join(folder, path)
	}
	file, err := c.file(path, os.O_RDONLY)
	if err != nil {
		return "", fmt.Errorf("medium of %s: %w", d.Name, err)
	}
	node := c.has.next("cd")
	return node, c.json("-blockdev", map[string]any{"driver": "raw", "node-name": node, "read-only": true,
		"file": file})
}

// nics adds the machine's NICs.
func (c *command) nics(m *machine.Machine, switches []wiring.Switch) error {
	for n, nic := range m.NICs {
		device, err := c.nic(nic, switches)
		if err != nil {
			return err
		}
		c.boot(device, m, nic.Name, 200+n)
		if err := c.json("-device", device); err != nil {
			return err
		}
	}
	return nil
}

// nic adds the other end of a NIC, and returns the device.
func (c *command) nic(nic machine.NIC, switches []wiring.Switch) (map[string]any, error) {
	driver, known := nics[nic.Model]
	if !known {
		return nil, fmt.Errorf("the model %q of %s is none that this host has", nic.Model, nic.Name)
	}
	device := map[string]any{"driver": driver, "netdev": c.has.next("net"), "id": c.has.next("nic")}
	tap, err := c.connect(device["netdev"].(string), nic, switches)
	if err != nil {
		return nil, err
	}
	if nic.MAC != "" {
		device["mac"] = nic.MAC
	}
	c.has.NICs[nic.Name] = part{Device: device["id"].(string), Node: device["netdev"].(string), TAP: tap,
		File: nic.Network, MAC: nic.MAC}
	return device, nil
}

// spare adds places for what is put in while the machine runs: a board of this kind takes it only behind ports that
// were there from the beginning.
func (c *command) spare(board string) error {
	if board != "q35" {
		return nil
	}
	for n := range sparePorts {
		id := fmt.Sprint("spare", n+1)
		port := map[string]any{"driver": "pcie-root-port", "id": id, "chassis": n + 1}
		if err := c.json("-device", port); err != nil {
			return err
		}
		c.has.Ports = append(c.has.Ports, id)
	}
	return nil
}

// sparePorts is how many devices can be put in while a machine runs.
const sparePorts = 6
