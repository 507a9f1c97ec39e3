// Package driver is what an agent asks of a hypervisor. Each hypervisor is a package below this one; what only some can
// do is an interface of its own, which a driver has or has not.
package driver

import (
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
)

// Driver does what only the hypervisor can. Folders are absolute paths of
// machine folders. Calls may come from several goroutines.
type Driver interface {
	// Start runs the machine; called for a stopped one.
	Start(folder string, m *machine.Machine) error
	// Stop shuts the machine down cleanly and returns when its disks are closed.
	Stop(folder string) error
	// State of a registered machine: running, stopped, paused or suspended.
	State(folder string) machine.State
	// Switches of the host.
	Switches() []wiring.Switch
	// Addresses that the guest of a running machine is seen to use.
	Addresses(folder string) []string
	// Close is called when the agent ends. Whether machines go on is the hypervisor's affair.
	Close() error
}

// Network is a driver that lets switches be made and taken away.
type Network interface {
	// Ports of the host that lead out.
	Ports() []wiring.Port
	// SetSwitches makes these, and no others, the switches of the host.
	SetSwitches([]wiring.Switch) error
}
