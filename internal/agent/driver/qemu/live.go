package qemu

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/vishvananda/netlink"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

// While a machine runs its directory says which of QEMU's devices is which of the machine's.

const devicesFile = "devices.json"

// askAgain is when a guest is asked once more to let go of a device. It misses the first time where it is still busy
// taking the device in. QEMU takes no second question within five seconds.
const askAgain = 6 * time.Second

// part is what QEMU has for a disk, a drive or a NIC.
type part struct {
	Device string `json:"device"`
	Node   string `json:"node"` // of blocks, or of the network; "" for an empty drive
	File   string `json:"file"` // that it was made of; for a NIC its switch
	TAP    string `json:"tap,omitempty"`
	MAC    string `json:"mac,omitempty"`
	Port   string `json:"port,omitempty"` // spare one that it took
	// nodes of what was frozen below it while the machine runs, the upper first; each with its file
	Under []frozen `json:"under,omitempty"`
}

// frozen is a node that a layer was put on while the machine runs.
type frozen struct {
	Node string `json:"node"`
	File string `json:"file"`
}

// devices of a machine that runs.
type devices struct {
	Disks  map[string]part `json:"disks"` // by id
	Drives map[string]part `json:"drives"`
	NICs   map[string]part `json:"nics"`
	Ports  []string        `json:"ports"` // spare ones that are free
	Last   int             `json:"last"`  // number that was given out
}

func newDevices() devices {
	return devices{Disks: map[string]part{}, Drives: map[string]part{}, NICs: map[string]part{}}
}

// next is a name that nothing of the machine had yet.
func (d *devices) next(stem string) string {
	d.Last++
	return fmt.Sprint(stem, d.Last)
}

// adapting is a machine whose devices are being changed.
type adapting struct {
	*monitor
	d        *Driver
	dir      runDir
	folder   string
	has      devices
	switches []wiring.Switch
}

// adapt begins to change devices of a machine that runs. Whoever does closes it.
func (d *Driver) adapt(ctx context.Context, folder string) (*adapting, error) {
	a := &adapting{d: d, dir: d.at(folder), folder: folder, has: newDevices()}
	if !a.dir.runs() {
		return nil, errors.New("it does not run")
	}
	if !a.dir.readJSON(devicesFile, &a.has) {
		return nil, errors.New("it was started by an older agent, which did not note its devices: stop and start it " +
			"once")
	}
	var err error
	if a.switches, err = d.Switches(ctx); err != nil {
		return nil, err
	}
	a.monitor, err = dialMonitor(ctx, a.dir)
	return a, err
}

// Adapt brings disks, drives and NICs of a running machine to what m says. What was done is noted after each part.
func (d *Driver) Adapt(ctx context.Context, folder string, m *machine.Machine) error {
	a, err := d.adapt(ctx, folder)
	if err != nil {
		return err
	}
	defer a.close()
	if err := a.leave(ctx, m); err != nil {
		return err
	}
	for _, disk := range m.Disks {
		if a.has.Disks[disk.ID].File == disk.File {
			continue
		}
		if err := a.addDisk(ctx, m, disk); err != nil {
			return fmt.Errorf("disk %s: %w", disk.ID, err)
		}
	}
	for _, nic := range m.NICs {
		had, there := a.has.NICs[nic.Name]
		switch {
		case !there:
			err = a.addNIC(ctx, nic)
		case had.File != nic.Network || had.cutOff():
			err = a.rewire(ctx, nic, had)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", nic.Name, err)
		}
	}
	for _, device := range m.Devices {
		if had, there := a.has.Drives[device.Name]; there && had.File != device.File {
			if err := a.change(ctx, device, had); err != nil {
				return fmt.Errorf("%s: %w", device.Name, err)
			}
		}
	}
	return nil
}

func (a *adapting) note() error { return a.dir.writeJSON(devicesFile, a.has) }

// leave takes out disks and NICs that the machine is not to have any more.
func (a *adapting) leave(ctx context.Context, m *machine.Machine) error {
	for id, had := range maps.Clone(a.has.Disks) {
		if slices.ContainsFunc(m.Disks, func(d machine.Disk) bool { return d.ID == id && d.File == had.File }) {
			continue
		}
		if err := a.unplugDevice(ctx, had, "disk "+id); err != nil {
			return err
		}
		if err := a.dropNode(ctx, had.Node); err != nil {
			return err
		}
		for _, under := range had.Under {
			if err := a.dropNode(ctx, under.Node); err != nil {
				return err
			}
		}
		delete(a.has.Disks, id)
		if err := a.note(); err != nil {
			return err
		}
	}
	for name, had := range maps.Clone(a.has.NICs) {
		if slices.ContainsFunc(m.NICs, func(n machine.NIC) bool { return n.Name == name }) {
			continue
		}
		if err := a.unplugDevice(ctx, had, name); err != nil {
			return err
		}
		if err := a.do(ctx, "netdev_del", map[string]any{"id": had.Node}, nil); err != nil {
			return err
		}
		delete(a.has.NICs, name)
		if err := a.note(); err != nil {
			return err
		}
	}
	return nil
}

// unplugDevice asks the guest to let go of a device, and waits until it has.
func (a *adapting) unplugDevice(ctx context.Context, p part, what string) error {
	there, err := a.plugged(ctx, p.Device)
	if err != nil {
		return err
	}
	if there {
		if err := a.do(ctx, "device_del", map[string]any{"id": p.Device}, nil); err != nil {
			return fmt.Errorf("%s can't be taken out while the machine runs: %w", what, err)
		}
	}
	again := time.Now().Add(askAgain)
	for until := time.Now().Add(a.d.patience); there; {
		if there, err = a.plugged(ctx, p.Device); err != nil {
			return err
		}
		switch now := time.Now(); {
		case there && now.After(until):
			return fmt.Errorf("the guest does not let go of %s: stop the machine, and change it then", what)
		case there && now.After(again):
			// refused where the guest is at it, or the device has just gone: what matters is whether it is there
			err := a.do(ctx, "device_del", map[string]any{"id": p.Device}, nil)
			if _, refused := errors.AsType[*refusal](err); err != nil && !refused {
				return err
			}
			again = now.Add(askAgain)
		}
		select {
		case <-time.After(savePoll):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if p.Port != "" {
		a.has.Ports = append(a.has.Ports, p.Port)
	}
	return nil
}

func (a *adapting) plugged(ctx context.Context, device string) (bool, error) {
	var list []struct{ Name string }
	err := a.do(ctx, "qom-list", map[string]any{"path": "/machine/peripheral"}, &list)
	return slices.ContainsFunc(list, func(p struct{ Name string }) bool { return p.Name == device }), err
}

// carryOver does with the running QEMU what a command line would do: descriptors first, then the rest of its options.
func (a *adapting) carryOver(ctx context.Context, c *command) error {
	a.has = c.has
	for n := 0; n < len(c.args); n += 2 {
		option, value := c.args[n], c.args[n+1]
		var err error
		switch option {
		case "-add-fd":
			var fd, set int
			if _, err = fmt.Sscanf(value, "fd=%d,set=%d", &fd, &set); err == nil {
				err = a.handOver(ctx, "add-fd", map[string]any{"fdset-id": set}, c.open[fd-firstFD], nil)
			}
		case "-blockdev":
			err = a.do(ctx, "blockdev-add", json.RawMessage(value), nil)
		case "-netdev":
			id, fd := "", 0
			if _, err = fmt.Sscanf(strings.ReplaceAll(value, ",", " "), "tap id=%s fd=%d", &id, &fd); err == nil {
				if err = a.give(ctx, id, c.open[fd-firstFD]); err == nil {
					err = a.do(ctx, "netdev_add", map[string]any{"type": "tap", "id": id, "fd": id}, nil)
				}
			}
		case "-device":
			err = a.do(ctx, "device_add", json.RawMessage(value), nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// command is one that adds to what the machine has. Sets of descriptors get numbers that nothing had yet.
func (a *adapting) command() *command {
	a.has.Last++
	return &command{files: a.d.files, has: a.has, sets: firstSet + a.has.Last*setsEach}
}

// Sets of descriptors of devices that were put in are numbered above those of the start.
const (
	firstSet = 1000
	setsEach = 100
)

// port takes a spare port; "" on boards that need none.
func (a *adapting) port(ctx context.Context, device map[string]any) (string, error) {
	if bridge, err := a.plugged(ctx, "spare1"); err != nil || !bridge {
		return "", err
	}
	if len(a.has.Ports) == 0 {
		return "", errors.New("no place is left for what is put in while it runs: stop it, and change it then")
	}
	port := a.has.Ports[0]
	a.has.Ports = a.has.Ports[1:]
	device["bus"] = port
	return port, nil
}

func (a *adapting) addDisk(ctx context.Context, m *machine.Machine, d machine.Disk) error {
	device := map[string]any{}
	port := ""
	var err error
	switch controller := strings.ToLower(d.Controller); controller {
	case "virtio-blk", "":
		device["driver"] = "virtio-blk-pci"
		port, err = a.port(ctx, device)
	case "nvme":
		device["driver"] = "nvme"
		port, err = a.port(ctx, device)
	case "virtio-scsi":
		device["driver"], device["bus"] = "scsi-hd", "scsi.0"
		if there, e := a.plugged(ctx, "scsi"); e != nil || !there {
			adapter := map[string]any{"driver": "virtio-scsi-pci", "id": "scsi"}
			if _, err = a.port(ctx, adapter); err == nil && e == nil {
				err = a.do(ctx, "device_add", adapter, nil)
			}
			err = errors.Join(e, err)
		}
	default:
		return fmt.Errorf("its controller, %s, takes no disks while the machine runs", d.Controller)
	}
	if err != nil {
		return err
	}
	c := a.command()
	defer c.close()
	node, err := c.disk(c.has.next("disk"), filepath.Join(a.folder, d.File), d.Format)
	if err != nil {
		return err
	}
	device["drive"], device["id"] = node, c.has.next("dev")
	serial(device, d)
	if err := c.json("-device", device); err != nil {
		return err
	}
	if err := a.carryOver(ctx, c); err != nil {
		return errors.Join(err, a.dropNode(ctx, node))
	}
	a.has.Disks[d.ID] = part{Device: device["id"].(string), Node: node, File: d.File, Port: port}
	return a.note()
}

// dropNode removes a block node, if there is one. A device that has just gone may hold it for a moment.
func (a *adapting) dropNode(ctx context.Context, node string) error {
	ctx = context.WithoutCancel(ctx)
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		var list []struct {
			Name string `json:"node-name"`
		}
		err := a.do(ctx, "query-named-block-nodes", map[string]any{"flat": true}, &list)
		if err != nil {
			return struct{}{}, backoff.Permanent(err)
		}
		for _, n := range list {
			if n.Name == node {
				err = a.do(ctx, "blockdev-del", map[string]any{"node-name": node}, nil)
			}
		}
		return struct{}{}, err
	}, backoff.WithBackOff(backoff.NewConstantBackOff(savePoll)), backoff.WithMaxElapsedTime(endTime))
	return err
}

func (a *adapting) addNIC(ctx context.Context, nic machine.NIC) error {
	c := a.command()
	defer c.close()
	device, err := c.nic(nic, a.switches)
	if err != nil {
		return err
	}
	p := c.has.NICs[nic.Name]
	delete(c.has.NICs, nic.Name)
	if p.TAP == "" {
		return errors.New("this agent may make no TAP devices: stop the machine, and change it then")
	}
	if p.Port, err = a.port(ctx, device); err != nil {
		return err
	}
	c.has.Ports = a.has.Ports
	if err := c.json("-device", device); err != nil {
		return err
	}
	if err := a.carryOver(ctx, c); err != nil {
		return errors.Join(err, a.do(context.WithoutCancel(ctx), "netdev_del", map[string]any{"id": p.Node}, nil))
	}
	a.has.NICs[nic.Name] = p
	err = a.note()
	if a.d.listen(a.dir); err != nil || nic.Network != "" {
		return err
	}
	return a.link(ctx, p, false)
}

// rewire moves a NIC to another switch, or unplugs it.
func (a *adapting) rewire(ctx context.Context, nic machine.NIC, had part) error {
	bridge, err := bridgeOf(nic, a.switches)
	if err != nil {
		return err
	}
	if had.TAP == "" && bridge != nil {
		return errors.New("it was started without a TAP device: stop the machine, and change it then")
	}
	if had.TAP != "" {
		tap, err := netlink.LinkByName(had.TAP)
		if err == nil {
			err = plug(tap, bridge)
		}
		if err != nil {
			return fmt.Errorf("connect it to %q: %w", nic.Network, err)
		}
	}
	// A guest asks for its address anew when the link was gone.
	if err := a.link(ctx, had, false); err != nil {
		return err
	}
	had.File = nic.Network
	a.has.NICs[nic.Name] = had
	if err := a.note(); err != nil || nic.Network == "" {
		return err
	}
	return a.link(ctx, had, true)
}

func (a *adapting) link(ctx context.Context, p part, up bool) error {
	return a.do(ctx, "set_link", map[string]any{"name": p.Device, "up": up}, nil)
}

// change puts another medium into a drive, or takes out what is in it.
func (a *adapting) change(ctx context.Context, d machine.Device, had part) error {
	c := a.command()
	defer c.close()
	node := ""
	if d.File != "" {
		var err error
		if node, err = c.medium(a.folder, d); err != nil {
			return err
		}
	}
	if err := a.carryOver(ctx, c); err != nil {
		return err
	}
	type step struct {
		command string
		more    map[string]any
	}
	steps := []step{{"blockdev-open-tray", map[string]any{"force": true}}, // also where the guest has locked it
		{"blockdev-remove-medium", nil}}
	if node != "" {
		steps = append(steps, step{"blockdev-insert-medium", map[string]any{"node-name": node}})
	}
	for _, s := range append(steps, step{"blockdev-close-tray", nil}) {
		with := map[string]any{"id": had.Device}
		maps.Copy(with, s.more)
		if err := a.do(ctx, s.command, with, nil); err != nil {
			return err
		}
	}
	old := had.Node
	had.Node, had.File = node, d.File
	a.has.Drives[d.Name] = had
	if err := a.note(); err != nil || old == "" {
		return err
	}
	return a.dropNode(ctx, old)
}
