// Package standin is the driver of a host whose hypervisor is played: its
// machines have real disk images, and one that runs writes to its disks
// now and then, as a guest would.
package standin

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
)

// Driver of a stand-in host.
type Driver struct {
	network
	Beat   time.Duration // in which guests write
	files  disk.Files
	mu     sync.Mutex
	guests map[string]*guest
}

// New makes a driver with the host's switches and ports. files is how it reaches
// its machines' disks.
func New(switches []wiring.Switch, ports []wiring.Port, files disk.Files) *Driver {
	return &Driver{files: files, Beat: beat, guests: map[string]*guest{},
		network: network{ports: ports, list: slices.Clone(switches), open: map[net.Conn]bool{}}}
}

const (
	beat     = 2 * time.Second
	logBytes = 64 << 10 // at the disk's end, where the guest keeps its log
)

// guest writes to all of its machine's disks.
type guest struct {
	standsStill atomic.Bool
	failed      atomic.Bool // a write failed
	writing     sync.Mutex  // held while the guest writes, or its disks are changed
	disks       []attached
	beat        time.Duration
	stop        chan struct{}
	ended       chan error
	addresses   []string
}

// attached is a disk that a guest writes to.
type attached struct {
	image  guestDisk
	size   int64
	id     string
	file   string // as the descriptor names it
	format string
}

type guestDisk interface {
	WriteAt(p []byte, off int64) (int, error)
	Close() error
}

// Start opens the machine's disks and lets its guest write.
func (d *Driver) Start(_ context.Context, folder string, m *machine.Machine) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if g := d.guests[folder]; g != nil {
		g.standsStill.Store(false)
		return nil
	}
	if err := d.connectable(m); err != nil {
		return err
	}
	g := &guest{stop: make(chan struct{}), ended: make(chan error, 1), addresses: m.Static, beat: d.Beat}
	if err := d.attach(g, folder, m.Disks); err != nil {
		return err
	}
	if state := filepath.Join(folder, driver.SuspendedFile); d.there(state) { // it goes on
		if err := d.files.Remove(state); err != nil {
			return errors.Join(err, g.close())
		}
	}
	d.guests[folder] = g
	go g.run()
	return nil
}

// attach opens disks for a guest; all, or none.
func (d *Driver) attach(g *guest, folder string, disks []machine.Disk) error {
	for _, is := range disks {
		image, size, err := d.openForGuest(filepath.Join(folder, is.File), is.Format)
		if err != nil {
			return errors.Join(fmt.Errorf("disk %s: %w", is.ID, err), g.close())
		}
		g.disks = append(g.disks, attached{image, size, is.ID, is.File, is.Format})
	}
	return nil
}

func (d *Driver) connectable(m *machine.Machine) error {
	for _, n := range m.NICs {
		if n.Network != "" && !d.hasSwitch(n.Network) {
			return fmt.Errorf("NIC %q is on the switch %q, which this host does not have", n.Name, n.Network)
		}
	}
	return nil
}

// Adapt looks whether what a running machine is to have is there. Its guest writes to the first disk that it had.
func (d *Driver) Adapt(_ context.Context, folder string, m *machine.Machine) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	g := d.guests[folder]
	if g == nil {
		return errors.New("it does not run")
	}
	for _, disk := range m.Disks {
		if !d.there(filepath.Join(folder, disk.File)) {
			return fmt.Errorf("disk %s: %s is not there", disk.ID, disk.File)
		}
	}
	first := func(k machine.Disk) bool { return k.File == g.disks[0].file }
	if len(g.disks) > 0 && !slices.ContainsFunc(m.Disks, first) {
		return fmt.Errorf("its guest does not let go of %s, which it started from", g.disks[0].file)
	}
	if err := d.connectable(m); err != nil {
		return err
	}
	g.addresses = m.Static
	return d.refit(g, folder, m)
}

// refit has a guest write to the disks that m has, and to no others.
func (d *Driver) refit(g *guest, folder string, m *machine.Machine) error {
	g.writing.Lock()
	defer g.writing.Unlock()
	var errs []error
	g.disks = slices.DeleteFunc(g.disks, func(a attached) bool {
		stays := slices.ContainsFunc(m.Disks, func(k machine.Disk) bool { return k.ID == a.id && k.File == a.file })
		if !stays {
			errs = append(errs, a.image.Close())
		}
		return !stays
	})
	for _, k := range m.Disks {
		if !slices.ContainsFunc(g.disks, func(a attached) bool { return a.id == k.ID }) {
			image, size, err := d.openForGuest(filepath.Join(folder, k.File), k.Format)
			if err == nil {
				g.disks = append(g.disks, attached{image, size, k.ID, k.File, k.Format})
			}
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

func (g *guest) run() {
	tick := time.NewTicker(g.beat)
	defer tick.Stop()
	record := make([]byte, RecordBytes)
	copy(record, "guest log\n")
	for n := uint64(1); ; n++ {
		select {
		case <-tick.C:
			binary.LittleEndian.PutUint64(record[CounterAt:], n)
			binary.LittleEndian.PutUint64(record[CounterAt+8:], uint64(time.Now().UnixNano()))
			g.write(n, record)
		case <-g.stop:
			g.writing.Lock()
			g.ended <- g.close()
			g.writing.Unlock()
			return
		}
	}
}

// What a guest writes, again and again at the end of each disk, has a number in it (little-endian).
const (
	RecordBytes = 512
	CounterAt   = 16
)

// write writes a record to each disk, one after the other.
func (g *guest) write(n uint64, record []byte) {
	for i := 0; ; i++ {
		g.writing.Lock()
		if i >= len(g.disks) || g.standsStill.Load() {
			g.writing.Unlock()
			return
		}
		if d := g.disks[i]; d.size >= 2*logBytes {
			if _, err := d.image.WriteAt(record, d.size-logBytes+int64(n*RecordBytes%logBytes)); err != nil {
				g.failed.Store(true)
			}
		}
		g.writing.Unlock()
	}
}

func (g *guest) close() error {
	var errs []error
	for _, d := range g.disks {
		errs = append(errs, d.image.Close())
	}
	g.disks = nil
	return errors.Join(errs...)
}

// there tells whether a file is there.
func (d *Driver) there(path string) bool {
	_, err := d.files.Lstat(path)
	return err == nil
}

// Stop ends the guest and closes its disks. These guests always hear.
func (d *Driver) Stop(_ context.Context, folder string, how machine.Manner) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	g := d.guests[folder]
	if g == nil {
		state := filepath.Join(folder, driver.SuspendedFile)
		if how == machine.Off && d.there(state) {
			return d.files.Remove(state)
		}
		return nil
	}
	delete(d.guests, folder)
	close(g.stop)
	return <-g.ended
}

// Pause lets the guest of a running machine stand still.
func (d *Driver) Pause(_ context.Context, folder string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	g := d.guests[folder]
	if g == nil {
		return errors.New("it does not run")
	}
	g.standsStill.Store(true)
	return nil
}

// Suspend ends the guest, with a file that stands for what it had in memory.
func (d *Driver) Suspend(ctx context.Context, folder string) error {
	d.mu.Lock()
	runs := d.guests[folder] != nil
	d.mu.Unlock()
	if !runs {
		return errors.New("it does not run")
	}
	f, err := d.files.OpenFile(filepath.Join(folder, driver.SuspendedFile), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString("suspended\n")
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return d.Stop(ctx, folder, machine.CleanOrOff)
}

// State of a machine.
func (d *Driver) State(_ context.Context, folder string) (driver.Standing, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch g := d.guests[folder]; {
	case g != nil && g.standsStill.Load():
		return driver.Standing{State: machine.Paused}, nil
	case g != nil:
		return driver.Standing{State: machine.Running}, nil
	case d.there(filepath.Join(folder, driver.SuspendedFile)):
		return driver.Standing{State: machine.Suspended}, nil
	}
	return driver.Standing{State: machine.Stopped}, nil
}

// Addresses that the guest uses: the fixed ones that it has.
func (d *Driver) Addresses(_ context.Context, folder string) ([]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if g := d.guests[folder]; g != nil {
		return g.addresses, nil
	}
	return nil, nil
}

// Close stops every guest cleanly.
func (d *Driver) Close() error {
	d.mu.Lock()
	folders := make([]string, 0, len(d.guests))
	for f := range d.guests {
		folders = append(folders, f)
	}
	d.mu.Unlock()
	var first error
	for _, f := range folders {
		if err := d.Stop(context.Background(), f, machine.CleanOrOff); err != nil && first == nil {
			first = err
		}
	}
	return first
}

// Freeze has guests write to the layers that are named. All of them stand still meanwhile.
func (d *Driver) Freeze(_ context.Context, machines ...driver.ToFreeze) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, m := range machines {
		g := d.guests[m.Folder]
		if g == nil {
			return errors.New("it does not run")
		}
		g.writing.Lock()
		defer g.writing.Unlock()
	}
	for _, m := range machines {
		if err := d.swap(d.guests[m.Folder], m.Folder, m.Machine, func() error { return nil }); err != nil {
			return err
		}
	}
	return nil
}

// Commit writes what layers hold into what m names instead.
func (d *Driver) Commit(_ context.Context, folder string, m *machine.Machine, settle func() error) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	g := d.guests[folder]
	if g == nil {
		return errors.New("it does not run")
	}
	g.writing.Lock()
	defer g.writing.Unlock()
	return d.swap(g, folder, m, func() error {
		for n, disk := range m.Disks {
			if err := d.commit(folder, disk); err != nil {
				return fmt.Errorf("disk %s: %w", m.Disks[n].ID, err)
			}
		}
		return settle()
	})
}

// commit writes what the layers right above a disk's file hold into it. Which those are, the folder tells.
func (d *Driver) commit(folder string, is machine.Disk) error {
	entries, err := d.files.ReadDir(folder)
	if err != nil {
		return err
	}
	below := filepath.Clean(filepath.Join(folder, is.File))
	for _, e := range entries {
		path := filepath.Join(folder, e.Name())
		if filepath.Ext(path) != ".qcow2" || path == below {
			continue
		}
		c, err := formats.OpenChain(path, formats.Options{Files: d.files, Format: qcow2.Format, Wary: true})
		if err != nil {
			continue // not one of ours
		}
		on := len(c.Links) > 1 && filepath.Clean(c.Links[1].Path) == below
		if err := c.Close(); err != nil {
			return err
		}
		if on {
			if err := formats.Commit(path, formats.Options{Files: d.files, Format: qcow2.Format}); err != nil {
				return err
			}
		}
	}
	return nil
}

// swap closes the disks of a guest, which stands still meanwhile (both locks are held), and opens those that m names.
func (d *Driver) swap(g *guest, folder string, m *machine.Machine, between func() error) error {
	before := slices.Clone(g.disks)
	err := g.close()
	if err == nil {
		err = between()
	}
	next := m.Disks
	if err != nil { // it goes on where it was
		next = nil
		for _, a := range before {
			next = append(next, machine.Disk{ID: a.id, File: a.file, Format: a.format})
		}
	}
	failed := d.attach(g, folder, next)
	if failed != nil { // it hangs, as one does whose disks are gone
		g.failed.Store(true)
	}
	return errors.Join(err, failed)
}

// openForGuest opens the top layer of a disk for writing, in the format that the
// machine's descriptor says.
func (d *Driver) openForGuest(path, format string) (guestDisk, int64, error) {
	if format != "raw" && format != "qcow2" { // a guest on any other format only reads
		img, err := d.open(path, format)
		return readOnly{img}, 0, err
	}
	src, err := disk.OpenSource(d.files, path, os.O_RDWR)
	if err != nil {
		return nil, 0, err
	}
	if format == "raw" {
		return src, src.Size(), nil
	}
	var parent disk.Image
	layer, err := qcow2.Open(struct{ disk.Source }{src}, nil)
	if err == nil {
		if ref := layer.Info().Parent; ref != nil {
			p := ref.Path
			if !filepath.IsAbs(p) {
				p = filepath.Join(filepath.Dir(path), p)
			}
			parent, err = d.open(p, ref.Format)
		}
	}
	var img *qcow2.Image
	if err == nil {
		img, err = qcow2.OpenWrite(src, parent)
	}
	if err != nil {
		return nil, 0, errors.Join(err, src.Close())
	}
	return qcowDisk{img}, img.Info().VirtualBytes, nil
}

// readOnly is a disk that a guest keeps open without writing to it.
type readOnly struct{ disk.Image }

func (readOnly) WriteAt(p []byte, _ int64) (int, error) { return len(p), nil }

func (d *Driver) open(path, format string) (disk.Image, error) {
	c, err := formats.OpenChain(path, formats.Options{Files: d.files, Format: format, Wary: true})
	if err != nil {
		return nil, err // not a nil pointer in an interface
	}
	return c, nil
}

// qcowDisk closes the way a hypervisor does: tables and refcounts written.
type qcowDisk struct{ *qcow2.Image }

func (q qcowDisk) Close() error {
	if err := q.Finish(); err != nil {
		return err
	}
	return q.Image.Close()
}
