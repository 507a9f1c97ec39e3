// Package qemu is the driver of hosts whose machines QEMU runs, by its public interfaces: the command line, the
// machine protocol (QMP), and files passed as descriptors. The agent is the register of machines; no other layer lies
// between.
//
// Every machine that runs has a keeper, a small process of its own, that has started QEMU and keeps what its serial
// port says. Both go on when the agent ends. The next agent finds them by a lock in the machine's directory.
package qemu

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
)

// Options of a driver.
type Options struct {
	State    string     // directory of the machines that run, made when it is not there
	Files    disk.Files // how images are reached
	Host     *Host      // what this computer can
	Switches []wiring.Switch
	Patience time.Duration // that a guest has to shut down; 0: DefaultPatience
}

// DefaultPatience is how long a guest has to shut down when its agent's file says nothing else. After it the machine is
// turned off.
const DefaultPatience = 90 * time.Second

const (
	startTime = 20 * time.Second // that QEMU has to greet
	endTime   = 10 * time.Second // that it has to end when it is told to
	noteTime  = 2 * time.Second  // that its keeper has to note its end
)

// Driver runs machines by QEMU.
type Driver struct {
	dir      string
	files    disk.Files
	host     *Host
	switches []wiring.Switch
	patience time.Duration
	noticed  chan struct{}

	mu      sync.Mutex
	watched map[string]bool // directories of machines whose end is waited for
}

// New makes a driver. Machines that run already are found.
func New(o Options) (*Driver, error) {
	if o.Patience == 0 {
		o.Patience = DefaultPatience
	}
	d := &Driver{dir: o.State, files: o.Files, host: o.Host, switches: o.Switches, patience: o.Patience,
		noticed: make(chan struct{}, 1), watched: map[string]bool{}}
	if err := os.MkdirAll(o.State, 0o700); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(o.State)
	for _, e := range entries {
		if dir := filepath.Join(o.State, e.Name()); e.IsDir() && runs(dir) {
			d.watch(dir)
		}
	}
	return d, err
}

// Lasts tells that machines go on without the agent.
func (*Driver) Lasts() {}

// Close leaves the machines as they are.
func (*Driver) Close() error { return nil }

// NoAcceleration says why the hardware does not run the guests; "" when it does.
func (d *Driver) NoAcceleration() string { return d.host.Slow }

// Noticed has a value when a machine has ended.
func (d *Driver) Noticed() <-chan struct{} { return d.noticed }

// Switches of the host.
func (d *Driver) Switches(context.Context) ([]wiring.Switch, error) {
	return slices.Clone(d.switches), nil
}

// at is the directory of a machine that runs, or ran.
func (d *Driver) at(folder string) string {
	sum := sha256.Sum256([]byte(folder))
	return filepath.Join(d.dir, hex.EncodeToString(sum[:8]))
}

// runs tells whether the machine of a directory runs: its keeper or QEMU holds the lock.
func runs(dir string) bool {
	f, err := os.Open(filepath.Join(dir, lockFile))
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// Start runs a machine.
func (d *Driver) Start(ctx context.Context, folder string, m *machine.Machine) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	dir := d.at(folder)
	if runs(dir) {
		return nil
	}
	if d.host.Binary == "" {
		return errors.New(d.host.Missing)
	}
	c := &command{files: d.files}
	defer c.close()
	if err := c.machine(folder, m, d.host); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, askedFile)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	raw, err := json.Marshal(spec{Folder: folder, Binary: d.host.Binary, Args: c.args, Files: len(c.open)})
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, specFile), raw, 0o600); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	keeper := exec.Command(self, KeeperCommand, dir)
	keeper.ExtraFiles, keeper.SysProcAttr = c.open, detached
	words := &tail{}
	keeper.Stderr = words
	if err := keeper.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- keeper.Wait() }()
	err = d.started(ctx, dir, ended, words)
	if err != nil { // nothing half-started stays: the keeper leads a process group of its own
		_ = unix.Kill(-keeper.Process.Pid, unix.SIGKILL)
		if !gone(context.WithoutCancel(ctx), dir, endTime) {
			err = errors.Join(err, errStillRuns)
		}
	}
	return err
}

// KeeperCommand is the hidden command of this program that is a machine's keeper.
const KeeperCommand = "machine-keeper"

// started waits until QEMU greets, or has ended.
func (d *Driver) started(ctx context.Context, dir string, ended <-chan error, words *tail) error {
	ctx, stop := context.WithTimeout(ctx, startTime)
	defer stop()
	for {
		err := ask(ctx, dir, "query-status", nil, nil)
		if err == nil {
			d.watch(dir)
			return nil
		}
		select {
		case failed := <-ended:
			e, there := endOf(dir)
			if !there {
				return errors.Join(failed, errors.New(words.last()))
			}
			return fmt.Errorf("QEMU did not start: %s", e.why())
		case <-ctx.Done():
			return fmt.Errorf("QEMU does not answer: %w", err)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// endOf is how the machine of a directory has ended.
func endOf(dir string) (e end, there bool) {
	raw, err := os.ReadFile(filepath.Join(dir, endFile))
	return e, err == nil && json.Unmarshal(raw, &e) == nil
}

func (e end) why() string {
	text := "its guest shut down"
	if e.How != "" {
		text = "died: " + e.How
	}
	if e.Words != "" && e.How != "" {
		text += ": " + e.Words
	}
	return text + " (" + e.At.Format("2 January, 15:04:05") + ")"
}

// watch tells when the machine of a directory ends.
func (d *Driver) watch(dir string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.watched[dir] {
		return
	}
	d.watched[dir] = true
	go func() {
		c, err := dialIn(context.Background(), dir, consoleSocket)
		if err == nil {
			_, _ = io.Copy(io.Discard, c) // until the keeper is gone
			c.Close()
		}
		d.mu.Lock()
		delete(d.watched, dir)
		d.mu.Unlock()
		select {
		case d.noticed <- struct{}{}:
		default:
		}
	}()
}

// State of a machine.
func (d *Driver) State(ctx context.Context, folder string) (driver.Standing, error) {
	dir := d.at(folder)
	if !runs(dir) {
		s := driver.Standing{State: machine.Stopped}
		if e, there := endOf(dir); there && !e.Asked {
			s.Why = e.why()
		}
		return s, nil
	}
	var now struct{ Status string }
	if err := ask(ctx, dir, "query-status", nil, &now); err != nil {
		if gone(ctx, dir, noteTime) { // it has ended just now
			return d.State(ctx, folder)
		}
		return driver.Standing{}, err
	}
	switch now.Status {
	case "running":
		return driver.Standing{State: machine.Running}, nil
	case "paused":
		return driver.Standing{State: machine.Paused}, nil
	case "io-error":
		return driver.Standing{State: machine.Paused, Why: "it can't write to its disk"}, nil
	case "guest-panicked":
		return driver.Standing{State: machine.Paused, Why: "its guest has given up (panic)"}, nil
	}
	return driver.Standing{State: machine.Running, Why: "QEMU says " + now.Status}, nil
}

// Stop shuts a machine down: its guest is asked to, and after a while it is turned off.
func (d *Driver) Stop(ctx context.Context, folder string) error {
	dir := d.at(folder)
	if !runs(dir) {
		return nil
	}
	if err := os.WriteFile(filepath.Join(dir, askedFile), nil, 0o600); err != nil {
		return err
	}
	if err := ask(ctx, dir, "system_powerdown", nil, nil); err != nil && runs(dir) {
		return err
	}
	if gone(ctx, dir, d.patience) {
		return nil
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := ask(ctx, dir, "quit", nil, nil); err != nil && runs(dir) {
		return err
	}
	if !gone(ctx, dir, endTime) {
		return fmt.Errorf("QEMU was told to end, and did not within %s", endTime)
	}
	return nil
}

// gone waits for a machine's end, for a while.
func gone(ctx context.Context, dir string, patience time.Duration) bool {
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		if runs(dir) {
			return struct{}{}, errStillRuns
		}
		return struct{}{}, nil
	}, backoff.WithBackOff(backoff.NewConstantBackOff(20*time.Millisecond)), backoff.WithMaxElapsedTime(patience))
	return err == nil
}

var errStillRuns = errors.New("it still runs")

// Log is what a machine has said on its serial port.
func (d *Driver) Log(_ context.Context, folder string) (driver.Log, error) {
	dir := d.at(folder)
	var all []byte
	for _, name := range []string{olderLog, consoleLog} {
		raw, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return driver.Log{}, err
		}
		all = append(all, raw...)
	}
	return driver.Log{From: readCount(dir), Text: all}, nil
}

// Console connects to a machine's serial port. What it says from then on is read; what is written is typed.
func (d *Driver) Console(ctx context.Context, folder string) (io.ReadWriteCloser, error) {
	dir := d.at(folder)
	if !runs(dir) {
		return nil, errors.New("it does not run")
	}
	return dialIn(ctx, dir, consoleSocket)
}

// Forget drops what is kept of a machine that is no longer listed.
func (d *Driver) Forget(folder string) error {
	dir := d.at(folder)
	if runs(dir) {
		return errStillRuns
	}
	return os.RemoveAll(dir)
}
