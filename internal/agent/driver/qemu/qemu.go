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
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/hostlink"
)

// Options of a driver.
type Options struct {
	State    string     // directory of the machines that run, made when it is not there
	Files    disk.Files // how images are reached
	Host     *Host      // what this computer can
	Switches []wiring.Switch
	LogBytes int           // of what a machine says on its serial port, kept twice; 0: DefaultLogBytes
	Patience time.Duration // that a guest has to shut down, or to let go of a device; 0: DefaultPatience
}

// DefaultLogBytes is how much is kept of what a machine says, before that becomes the older half.
const DefaultLogBytes = 1 << 20

// DefaultPatience is how long a guest has to shut down, or to let go of a device, when its agent's file says nothing
// else. A machine that does not shut down is turned off then.
const DefaultPatience = 90 * time.Second

const (
	startTime = time.Minute      // that QEMU has to greet, where others are at work; that it ended is noticed at once
	endTime   = 10 * time.Second // that it has to end when it is told to
	noteTime  = 5 * time.Second  // that its keeper has to note its end

	lookTime = 500 * time.Millisecond // between looks at a machine whose keeper is gone
)

// Driver runs machines by QEMU.
type Driver struct {
	dir      string
	files    disk.Files
	host     *Host
	switches []wiring.Switch
	patience time.Duration
	logBytes int
	noticed  chan struct{}
	ears     ears

	mu      sync.Mutex
	watched map[runDir]bool // directories of machines whose end is waited for
}

// New makes a driver. Machines that run already are found.
func New(o Options) (*Driver, error) {
	if o.Patience == 0 {
		o.Patience = DefaultPatience
	}
	if o.LogBytes == 0 {
		o.LogBytes = DefaultLogBytes
	}
	d := &Driver{dir: o.State, files: o.Files, host: o.Host, switches: o.Switches, patience: o.Patience,
		logBytes: o.LogBytes,
		noticed:  make(chan struct{}, 1), watched: map[runDir]bool{},
		ears: ears{on: map[string]bool{}, heard: map[runDir][]heardAddress{}}}
	dirs, err := runDirs(o.State)
	for _, dir := range dirs {
		if dir.runs() {
			d.watch(dir)
			err = errors.Join(err, d.settleSaving(dir))
		}
	}
	return d, err
}

// Close leaves the machines as they are.
func (*Driver) Close() error { return nil }

// NoAcceleration says why the hardware does not run the guests; "" when it does.
func (d *Driver) NoAcceleration() string { return d.host.Slow }

// Cannot is what this account's rights are not enough for.
func (d *Driver) Cannot() []fit.Ability {
	if mayChangeNetwork() {
		return nil
	}
	return []fit.Ability{fit.MakesSwitches, fit.SeesAddresses}
}

// Examine looks whether everything is there that machines need. It looks anew, so that what was installed meanwhile is
// seen.
func (d *Driver) Examine(ctx context.Context) []hostlink.Check {
	return Look(ctx, d.host.setting).Checks()
}

// Noticed has a value when a machine has ended.
func (d *Driver) Noticed() <-chan struct{} { return d.noticed }

// at is the directory of a machine that runs, or ran.
func (d *Driver) at(folder string) runDir {
	sum := sha256.Sum256([]byte(folder))
	return runDir(filepath.Join(d.dir, hex.EncodeToString(sum[:8])))
}

// Start runs a machine.
func (d *Driver) Start(ctx context.Context, folder string, m *machine.Machine) error {
	return d.StartFrom(ctx, folder, m, "")
}

// StartFrom runs a machine; one that starts anew does so from first, this once, where that is not "".
func (d *Driver) StartFrom(ctx context.Context, folder string, m *machine.Machine, first string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	dir := d.at(folder)
	if dir.runs() {
		return goOn(ctx, dir)
	}
	if d.host.Binary == "" {
		return errors.New(d.host.Checks()[0].Says)
	}
	c := &command{files: d.files, first: first, has: newDevices()}
	defer c.close()
	goesOn, err := d.resumes(c, dir, folder)
	if err != nil {
		return err
	}
	switches, err := d.Switches(ctx)
	if err != nil {
		return err
	}
	if err := c.machine(folder, m, d.host, switches); err != nil {
		return err
	}
	if err := dir.make(); err != nil {
		return err
	}
	if err := errors.Join(dir.remove(askedFile), dir.remove(settlingFile)); err != nil {
		return err
	}
	account, err := d.account(dir)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(spec{Folder: folder, Binary: resolved(d.host.Binary), Args: c.args, Files: len(c.open),
		LogBytes: d.logBytes, MemoryBytes: memoryOf(m), Account: account})
	if err != nil {
		return err
	}
	if err := errors.Join(dir.write(specFile, raw), dir.writeJSON(devicesFile, c.has)); err != nil {
		return err
	}
	keeper := exec.Command("/proc/self/exe", KeeperCommand, string(dir)) // also when its file was replaced meanwhile
	keeper.ExtraFiles, keeper.SysProcAttr = c.open, detached
	words := &tail{}
	keeper.Stderr = words
	if err := keeper.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- keeper.Wait() }()
	err = d.started(ctx, dir, ended, words)
	if err == nil {
		err = unplug(ctx, dir, m, c.has)
	}
	if err == nil && first != "" {
		err = usualOrder(ctx, dir, c.boots)
	}
	if err == nil && goesOn {
		err = d.goesOn(ctx, dir, folder)
	}
	if err != nil { // nothing half-started stays: the keeper leads a process group of its own
		if goesOn {
			err = fmt.Errorf("it can't go on where it was suspended: %w. Its state is kept; to start afresh without "+
				"it, drop it: unvora power off", err)
		}
		err = errors.Join(err, dir.write(askedFile, nil))
		_ = unix.Kill(-keeper.Process.Pid, unix.SIGKILL)
		if !gone(context.WithoutCancel(ctx), dir, endTime) {
			err = errors.Join(err, errStillRuns)
		}
	}
	return err
}

// goOn lets a machine that stands still while it runs go on.
func goOn(ctx context.Context, dir runDir) error {
	var now struct{ Status string }
	if err := ask(ctx, dir, "query-status", nil, &now); err != nil || now.Status == "running" {
		return err
	}
	return ask(ctx, dir, "cont", nil, nil)
}

// KeeperCommand is the hidden command of this program that is a machine's keeper.
const KeeperCommand = "machine-keeper"

// started waits until QEMU greets, or has ended.
func (d *Driver) started(ctx context.Context, dir runDir, ended <-chan error, words *tail) error {
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
			var e end
			if !dir.readJSON(endFile, &e) {
				return errors.Join(failed, errors.New(words.last()))
			}
			return fmt.Errorf("QEMU did not start: %s", e.what())
		case <-ctx.Done():
			return fmt.Errorf("QEMU does not answer: %w", err)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (e end) what() string {
	text := "its guest shut down"
	if e.How != "" {
		text = "died: " + e.How
	}
	if e.Words != "" && e.How != "" {
		text += ": " + e.Words
	}
	return text
}

// why says how it ended, and when.
func (e end) why() string { return e.what() + " (" + e.At.Format("2 January, 15:04:05") + ")" }

// watch tells when the machine of a directory ends.
func (d *Driver) watch(dir runDir) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.watched[dir] {
		return
	}
	d.watched[dir] = true
	d.listen(dir)
	go func() {
		c, err := dialIn(context.Background(), dir, consoleSocket)
		if err == nil {
			_, _ = io.Copy(io.Discard, c) // until the keeper is gone
			c.Close()
		}
		for dir.runs() { // QEMU goes on without it
			time.Sleep(lookTime)
		}
		d.mu.Lock()
		delete(d.watched, dir)
		d.mu.Unlock()
		d.deafen(dir)
		d.tell()
	}()
}

// tell says that something is to be seen.
func (d *Driver) tell() {
	select {
	case d.noticed <- struct{}{}:
	default:
	}
}

// why says how the machine of a directory ended, where nobody asked for that.
func (d runDir) why() (string, error) {
	var e end
	if d.readJSON(endFile, &e) {
		if e.Asked {
			return "", nil
		}
		return e.why(), nil
	}
	asked, err := d.has(askedFile)
	if asked || err != nil {
		return "", err
	}
	begun, err := d.has(specFile)
	if !begun || err != nil {
		return "", err
	}
	return "it ended when its keeper was gone, so that nobody knows how", nil
}

// State of a machine.
func (d *Driver) State(ctx context.Context, folder string) (driver.Standing, error) {
	dir := d.at(folder)
	if !dir.runs() {
		if suspended, err := d.suspended(dir, folder); suspended || err != nil {
			return driver.Standing{State: machine.Suspended}, err
		}
		why, err := dir.why()
		return driver.Standing{State: machine.Stopped, Why: why}, err
	}
	var now struct{ Status string }
	if err := ask(ctx, dir, "query-status", nil, &now); err != nil {
		if gone(ctx, dir, noteTime) { // it has ended just now
			return d.State(ctx, folder)
		}
		return driver.Standing{}, err
	}
	if saving, err := dir.has(savingFile); saving || err != nil {
		return driver.Standing{State: machine.Paused, Why: "what it has in memory is being written"}, err
	}
	switch now.Status {
	case "running":
		return driver.Standing{State: machine.Running, Why: dir.cutOff()}, nil
	case "paused":
		return driver.Standing{State: machine.Paused}, nil
	case "io-error":
		return driver.Standing{State: machine.Paused, Why: held(ctx, dir)}, nil
	case "guest-panicked":
		return driver.Standing{State: machine.Paused, Why: "its guest has given up (panic)"}, nil
	}
	return driver.Standing{State: machine.Running, Why: "QEMU says " + now.Status}, nil
}

// held says why a machine stands still that could not read or write a disk.
func held(ctx context.Context, dir runDir) string {
	type block struct {
		Status string `json:"io-status"`
	}
	var list []block
	err := ask(ctx, dir, "query-block", nil, &list)
	if err == nil && slices.ContainsFunc(list, func(b block) bool { return b.Status == "nospace" }) {
		return "there is no room left for what it writes: make room in the pool, then let it go on (unvora power on)"
	}
	return "it can't read or write its disk: once that is mended, let it go on (unvora power on)"
}

// Stop shuts a machine down: its guest is asked to, and after a while it is turned off, unless how says otherwise.
func (d *Driver) Stop(ctx context.Context, folder string, how machine.Manner) (err error) {
	dir := d.at(folder)
	if !dir.runs() {
		if how == machine.Off {
			return d.dropState(dir, folder)
		}
		return nil
	}
	if err := dir.write(askedFile, nil); err != nil {
		return err
	}
	defer func() {
		if err != nil && dir.runs() { // if it ends later, that is not what was asked for
			err = errors.Join(err, dir.remove(askedFile))
		}
	}()
	if how != machine.Off {
		// a guest that stands still does not hear
		if err := goOn(ctx, dir); err != nil && !gone(ctx, dir, noteTime) {
			return err
		}
		if err := ask(ctx, dir, "system_powerdown", nil, nil); err != nil && !gone(ctx, dir, noteTime) {
			return err
		}
		if gone(ctx, dir, d.patience) {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if how == machine.CleanOnly {
			return fmt.Errorf("its guest was asked to shut down and has not within %s: look at its console, or turn "+
				"it off (unvora power off)", d.patience)
		}
	}
	if err := ask(ctx, dir, "quit", nil, nil); err != nil && !gone(ctx, dir, noteTime) {
		return err
	}
	if !gone(ctx, dir, endTime) {
		return fmt.Errorf("QEMU was told to end, and did not within %s", endTime)
	}
	return nil
}

// gone waits for a machine's end, for a while.
func gone(ctx context.Context, dir runDir, patience time.Duration) bool {
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		if dir.runs() {
			return struct{}{}, errStillRuns
		}
		return struct{}{}, nil
	}, backoff.WithBackOff(backoff.NewConstantBackOff(20*time.Millisecond)), backoff.WithMaxElapsedTime(patience))
	return err == nil
}

var errStillRuns = errors.New("it still runs")

// Log is what a machine has said on its serial port from a position on.
func (d *Driver) Log(ctx context.Context, folder string, from int64) (driver.Log, error) {
	dir := d.at(folder)
	if dir.runs() {
		c, err := dialIn(ctx, dir, consoleSocket)
		if err == nil {
			c.Close()
		} else if !gone(ctx, dir, noteTime) {
			return driver.Log{}, errKeeperGone
		}
	}
	return dir.said(from)
}

// StopAll shuts down all machines that run, whichever agent has started them.
func (d *Driver) StopAll(ctx context.Context) error {
	dirs, err := runDirs(d.dir)
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	errs := make([]error, len(dirs))
	for n, dir := range dirs {
		var s spec
		if dir.readJSON(specFile, &s) {
			all.Go(func() { errs[n] = d.Stop(ctx, s.Folder, machine.CleanOrOff) })
		}
	}
	all.Wait()
	return errors.Join(errs...)
}
