package qemu

import (
	"context"
	"net"
)

// Probe starts a guest under an accelerator.
var Probe = probe

// Confined makes a command that becomes a program, confined.
var Confined = confined

// FirstAccount is the first account of machines.
const FirstAccount = firstAccount

// Spoken is the address that a frame tells.
var Spoken = spoken

// Port connects to a machine's serial port: what it says is read, what is written is typed.
func (d *Driver) Port(ctx context.Context, folder string) (net.Conn, error) {
	return dialIn(ctx, d.at(folder), consoleSocket)
}

// Ask asks a machine's QEMU for something.
func (d *Driver) Ask(ctx context.Context, folder, command string, result any) error {
	return ask(ctx, d.at(folder), command, nil, result)
}
