// Command init is all that runs in the guests of tests, above Debian's kernel: it loads what drivers there are, mounts
// the guest's own file system, and tells on the serial port what the kernel sees of the machine.
package main

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

func main() {
	if err := run(); err != nil {
		say("failed: %v", err)
	}
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
}

// say tells one thing on the console.
func say(format string, args ...any) { fmt.Printf("guest: "+format+"\n", args...) }

func run() error {
	for _, m := range [][3]string{{"proc", "/proc", "proc"}, {"sysfs", "/sys", "sysfs"},
		{"devtmpfs", "/dev", "devtmpfs"}} {
		if err := os.MkdirAll(m[1], 0o755); err != nil {
			return err
		}
		if err := unix.Mount(m[0], m[1], m[2], 0, ""); err != nil {
			return fmt.Errorf("mount %s: %w", m[1], err)
		}
	}
	console, err := os.OpenFile("/dev/ttyS0", os.O_RDWR, 0)
	if err != nil {
		return err
	}
	os.Stdout = console
	load()
	tell()
	firstStart()
	if err := ownFiles(); err != nil {
		return err
	}
	ended := make(chan os.Signal, 1)
	button(ended) // it is listened to before anybody presses it
	go watch()
	go write()
	say("ready")
	return wait(ended)
}

// load loads every driver that lies in /modules. What needs another waits for the next round.
func load() {
	left, _ := filepath.Glob("/modules/*.ko")
	for before := len(left) + 1; len(left) < before && len(left) > 0; {
		before = len(left)
		left = slices.DeleteFunc(left, func(path string) bool {
			f, err := os.Open(path)
			if err != nil {
				return false
			}
			defer f.Close()
			err = unix.FinitModule(int(f.Fd()), "", 0)
			return err == nil || err == unix.EEXIST
		})
	}
	if len(left) > 0 {
		say("not loaded: %s", strings.Join(left, " "))
	}
	time.Sleep(time.Second) // the disks are found meanwhile
}

func read(path string) string {
	raw, err := os.ReadFile(path)
	if err != nil {
		return "?"
	}
	return strings.TrimSpace(string(raw))
}

// watch tells what comes and goes while the guest runs.
func watch() {
	seen := present()
	for range time.Tick(250 * time.Millisecond) {
		now := present()
		for _, name := range now {
			if slices.Contains(seen, name) {
				continue
			}
			if c, err := net.InterfaceByName(name); err == nil {
				say("came %s %s %s", name, c.HardwareAddr, address(*c))
				continue
			}
			say("came %s serial %s", name, serial("/sys/block/"+name, name))
		}
		for _, name := range seen {
			if !slices.Contains(now, name) {
				say("left %s", name)
			}
		}
		seen = now
	}
}

// writing is held while the guest writes, and for good once it shuts down.
var writing sync.Mutex

// write counts in a file, each number flushed to the disk.
func write() {
	for n := 1; ; n++ {
		writing.Lock()
		f, err := os.OpenFile("/own/counter", os.O_CREATE|os.O_WRONLY, 0o644)
		if err == nil {
			fmt.Fprintf(f, "%08d\n", n)
			_ = f.Sync()
			_ = f.Close()
		}
		writing.Unlock()
		time.Sleep(200 * time.Millisecond)
	}
}

// present are the disks and NICs that are there.
func present() (names []string) {
	for _, pattern := range []string{"/sys/block/[hsvn]*", "/sys/class/net/e*"} {
		paths, _ := filepath.Glob(pattern)
		for _, p := range paths {
			names = append(names, filepath.Base(p))
		}
	}
	return names
}

// tell says what the kernel sees.
func tell() {
	say("uuid %s", read("/sys/class/dmi/id/product_uuid"))
	say("serial %s", read("/sys/class/dmi/id/product_serial"))
	say("cpus %d", strings.Count(read("/proc/cpuinfo"), "processor\t"))
	if raw, err := os.ReadFile("/sys/firmware/qemu_fw_cfg/by_name/etc/vmgenid_guid/raw"); err == nil && len(raw) >= 56 {
		g := raw[40:56] // little-endian, as of the device's specification
		say("generation %02x%02x%02x%02x-%02x%02x-%02x%02x-%02x%02x-%x", g[3], g[2], g[1], g[0], g[5], g[4], g[7], g[6],
			g[8], g[9], g[10:])
	}
	blocks, _ := filepath.Glob("/sys/block/*")
	for _, b := range blocks {
		name := filepath.Base(b)
		if strings.HasPrefix(name, "loop") || strings.HasPrefix(name, "ram") || strings.HasPrefix(name, "sr") {
			continue
		}
		say("disk %s %s sectors serial %s", name, read(b+"/size"), serial(b, name))
	}
	cards, _ := net.Interfaces()
	for _, c := range cards {
		if c.Flags&net.FlagLoopback == 0 {
			driver, _ := os.Readlink("/sys/class/net/" + c.Name + "/device/driver")
			say("nic %s %s %s", c.Name, c.HardwareAddr, filepath.Base(driver))
		}
	}
	for _, c := range cards {
		if c.Flags&net.FlagLoopback == 0 && len(c.HardwareAddr) == 6 {
			say("address %s", address(c))
		}
	}
	if _, err := os.Stat("/sys/firmware/efi"); err == nil {
		say("firmware uefi")
	} else {
		say("firmware bios")
	}
}

// address gives a NIC the address that the last octet of its MAC stands for.
func address(c net.Interface) string {
	ip := &net.IPNet{IP: net.IPv4(192, 0, 2, c.HardwareAddr[5]), Mask: net.CIDRMask(24, 32)}
	link, err := netlink.LinkByName(c.Name)
	if err == nil {
		err = netlink.LinkSetUp(link)
	}
	if err == nil {
		err = netlink.AddrAdd(link, &netlink.Addr{IPNet: ip})
	}
	if err != nil {
		return err.Error()
	}
	return ip.String()
}

// serial is the serial number of a disk, which every driver shows at another place.
func serial(block, name string) string {
	for _, at := range []string{"/serial", "/device/serial"} {
		if s := read(block + at); s != "?" {
			return s
		}
	}
	raw, err := os.ReadFile(block + "/device/vpd_pg80")
	if err == nil && len(raw) > 4 {
		return string(bytes.TrimSpace(raw[4:]))
	}
	return "?"
}

// firstStart does what the machine is told when it starts for the first time, as far as this guest can (the data source
// NoCloud of cloud-init): it takes the name.
func firstStart() {
	discs, _ := filepath.Glob("/dev/sr*")
	for _, disc := range discs {
		if os.MkdirAll("/seed", 0o755) != nil || unix.Mount(disc, "/seed", "iso9660", unix.MS_RDONLY, "") != nil {
			continue
		}
		for _, file := range []string{"meta-data", "user-data", "network-config"} {
			for _, line := range strings.Split(read("/seed/"+file), "\n") {
				say("told %s", strings.TrimSpace(line))
				if name, ok := strings.CutPrefix(line, "local-hostname: "); ok {
					if err := unix.Sethostname([]byte(name)); err != nil {
						say("hostname: %v", err)
					}
				}
			}
		}
		_ = unix.Unmount("/seed", 0)
	}
	name, _ := os.Hostname()
	say("hostname %s", name)
}

// ownFiles mounts the guest's file system, and notes the start there.
func ownFiles() error {
	parts, _ := filepath.Glob("/sys/block/*/*2/partition")
	for _, p := range parts {
		device := "/dev/" + filepath.Base(filepath.Dir(p))
		if err := os.MkdirAll("/own", 0o755); err != nil {
			return err
		}
		if err := unix.Mount(device, "/own", "ext4", 0, ""); err != nil {
			continue
		}
		f, err := os.OpenFile("/own/starts", os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o644)
		if err != nil {
			return err
		}
		if _, err := f.WriteString("x"); err != nil {
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
		say("started %d times from %s", len(read("/own/starts")), device)
		say("counter %s", read("/own/counter"))
		return nil
	}
	return fmt.Errorf("there is no file system among %v", parts)
}

// wait is for the power button; the file system is closed then.
func wait(ended chan os.Signal) error {
	signal.Notify(ended, syscall.SIGTERM)
	<-ended
	say("shuts down")
	writing.Lock()
	unix.Sync()
	return unix.Unmount("/own", 0)
}

// button reads events of the keys that a computer's case has (linux/input.h: type EV_KEY, code KEY_POWER).
func button(pressed chan<- os.Signal) {
	const evKey, keyPower = 1, 116
	paths, _ := filepath.Glob("/dev/input/event*")
	for _, path := range paths {
		f, err := os.Open(path)
		if err != nil {
			continue
		}
		go func() {
			event := make([]byte, 24)
			for {
				if n, err := f.Read(event); err != nil || n != len(event) {
					return
				}
				if event[16] == evKey && event[18] == keyPower {
					pressed <- syscall.SIGTERM
				}
			}
		}()
	}
}
