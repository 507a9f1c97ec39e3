// Package driver is what an agent asks of a hypervisor. Each hypervisor is a package below this one; what only some can
// do is an interface of its own, which a driver has or has not.
package driver

import (
	"context"
	"net"
	"slices"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
)

// Driver does what every hypervisor can. Folders are absolute paths of machine folders. Calls may come from several
// goroutines, and end when their context does.
type Driver interface {
	// Start runs the machine, whose disks are in the formats that m says; one that runs is left alone, one that was
	// paused or suspended goes on.
	Start(ctx context.Context, folder string, m *machine.Machine) error
	// Stop shuts the machine down in a manner, and returns when its disks are closed.
	Stop(ctx context.Context, folder string, how machine.Manner) error
	// State of a registered machine.
	State(ctx context.Context, folder string) (Standing, error)
	// Switches of the host.
	Switches(ctx context.Context) ([]wiring.Switch, error)
	// Close is called when the agent ends. Machines go on, or not, as Lasting says.
	Close() error
}

// Standing is how a machine stands.
type Standing struct {
	State machine.State // Running, Stopped, Paused or Suspended
	// Why says how it came to stand so, where nobody asked for that: "died at 18:04: exit status 1".
	Why string
}

// Network is a driver that lets switches be made and taken away.
type Network interface {
	// Ports of the host that lead out; nil where this account may not change the host's network.
	Ports(ctx context.Context) ([]wiring.Port, error)
	// MakeSwitch makes one; one that is there as it is to be is left alone.
	MakeSwitch(ctx context.Context, s wiring.Switch) error
	// DropSwitch takes one away, and gives back what it had taken; one that is not there is none.
	DropSwitch(ctx context.Context, s wiring.Switch) error
}

// Pausing is a driver that can let a machine stand still while it runs.
type Pausing interface {
	Pause(ctx context.Context, folder string) error
}

// Suspending is a driver that can write a machine's state to a file beside its disks, and end it.
type Suspending interface {
	Suspend(ctx context.Context, folder string) error
}

// SuspendedFile is the name of that file, in the machine folder.
const SuspendedFile = "suspended.state"

// Booting is a driver that can start a machine, once, from another of its disks, drives and NICs than usual.
type Booting interface {
	StartFrom(ctx context.Context, folder string, m *machine.Machine, first string) error
}

// Live is a driver that changes devices of a machine while it runs.
type Live interface {
	// Adapt brings the disks, NICs and media of a running machine to what m says, and returns what could not be.
	Adapt(ctx context.Context, folder string, m *machine.Machine) error
}

// Freezing is a driver that can have a running machine write to new layers, and back.
type Freezing interface {
	// Freeze has running machines write to layers that lie on what their disks are now, from one instant on that is the
	// same for all disks of all of them. Where it fails, some may write there already.
	Freeze(ctx context.Context, machines ...ToFreeze) error
	// Commit writes what the layers of a running machine hold into what m names instead, and has it write there. Once
	// both are the same it lets the guest stand still for a moment, and calls settle; what lies below is the disk
	// then. One that was broken off is finished by the next call.
	Commit(ctx context.Context, folder string, m *machine.Machine, settle func() error) error
}

// ToFreeze is a machine that is to write to the layers that Machine names.
type ToFreeze struct {
	Folder  string
	Machine *machine.Machine
}

// Addressed is a driver that sees which addresses the guest of a running machine uses.
type Addressed interface {
	Addresses(ctx context.Context, folder string) ([]string, error)
}

// Lasting is a driver whose machines go on when the agent ends, and are found again.
type Lasting interface {
	// StopAll shuts down all machines that run, side by side.
	StopAll(ctx context.Context) error
}

// Wired is a driver through whose network the agent itself is reached.
type Wired interface {
	Wire(l net.Listener) net.Listener
}

// Noticing is a driver that tells by itself when machines came to stand otherwise than was asked.
type Noticing interface {
	// Noticed has a value whenever something is to be seen; nobody has to take it.
	Noticed() <-chan struct{}
}

// Able is a driver that finds out what its computer can.
type Able interface {
	// NoAcceleration says why the hardware does not run the guests; "" when it does.
	NoAcceleration() string
	// Cannot is what the driver could, but the rights of the agent's account are not enough for.
	Cannot() []fit.Ability
	// Examine looks whether everything is there that machines need, each thing by itself.
	Examine(ctx context.Context) []hostlink.Check
}

// Console is a driver that keeps what a machine says on its serial port.
type Console interface {
	// Log is what was said from a position on, as far as that is kept.
	Log(ctx context.Context, folder string, from int64) (Log, error)
}

// Typing is a driver through which something is typed on a machine's serial port.
type Typing interface {
	Type(ctx context.Context, folder string, text []byte) error
}

// Display is a driver whose machines have a screen, a keyboard and a mouse that can be used from elsewhere.
type Display interface {
	// Display connects to them, by the remote framebuffer protocol (RFC 6143).
	Display(ctx context.Context, folder string) (net.Conn, error)
	// Picture of what the machine shows, as PNG.
	Picture(ctx context.Context, folder string) ([]byte, error)
}

// Log is what a machine has said on its serial port. Positions count from the machine's first byte; what has been
// dropped since is not there any more.
type Log struct {
	From int64  // position of the first byte of Text
	Text []byte // up to what was said last
}

// Can is what a driver can beyond what every one does.
func Can(d Driver) (list []fit.Ability) {
	var lacks []fit.Ability
	if able, ok := d.(Able); ok {
		lacks = able.Cannot()
	}
	for _, a := range []struct {
		is  func(Driver) bool
		can fit.Ability
	}{
		{is[Network], fit.MakesSwitches}, {is[Addressed], fit.SeesAddresses}, {is[Console], fit.KeepsConsole},
		{is[Display], fit.HasDisplay}, {is[Pausing], fit.Pauses}, {is[Suspending], fit.Suspends},
		{is[Booting], fit.BootsOnce}, {is[Live], fit.ChangesLive}, {is[Freezing], fit.Freezes},
		{is[Lasting], fit.Lasts},
	} {
		if a.is(d) && !slices.Contains(lacks, a.can) {
			list = append(list, a.can)
		}
	}
	return list
}

func is[T any](d Driver) bool {
	_, ok := d.(T)
	return ok
}
