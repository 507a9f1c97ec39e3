package qemu

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"unvora.example/unvora/internal/agent/driver/qemu/sector"
	"unvora.example/unvora/internal/hostlink"
)

// Host is what a computer can, as far as it matters to QEMU.
type Host struct {
	Binary   string // of QEMU; "" when there is none
	Version  string
	Slow     string // why the hardware does not run the guests; "" when it does
	Firmware Firmware
	setting  string // of acceleration
}

// Checks are what machines need, each by itself. A host without acceleration is one; its machines run slowly.
func (h *Host) Checks() []hostlink.Check {
	list := []hostlink.Check{{Name: "qemu", OK: h.Binary != "", Says: "QEMU " + h.Version + ", " + h.Binary},
		{Name: "acceleration", OK: true, Says: "the hardware runs the guests: a probe has shown it"},
		{Name: "firmware", OK: h.Firmware.Code != "", Says: "UEFI from " + h.Firmware.Code}, confinement()}
	if h.Binary == "" {
		list[0].Says = "QEMU is not installed on this computer: apt-get install qemu-system-x86"
	}
	if h.Slow != "" {
		list[1].Says = "machines run slowly, emulated: " + h.Slow
	}
	if h.Firmware.Code == "" {
		list[2].Says = "machines that start by UEFI need firmware: apt-get install ovmf"
	}
	return list
}

// Firmware files for UEFI; "" for what is not there.
type Firmware struct {
	Code, Variables             string
	SecureCode, SecureVariables string
}

// Acceleration settings: found out, or as somebody says.
const (
	AccelerationProbe = ""
	AccelerationOn    = "on"
	AccelerationOff   = "off"
)

// BinaryName is the program that runs machines.
const BinaryName = "qemu-system-x86_64"

const (
	kvmDevice = "/dev/kvm"
	probeTime = 3 * time.Second
)

// Look finds out what this computer can.
func Look(ctx context.Context, acceleration string) *Host {
	h := &Host{setting: acceleration, Firmware: Firmware{
		Code: there("/usr/share/OVMF/OVMF_CODE_4M.fd"), Variables: there("/usr/share/OVMF/OVMF_VARS_4M.fd"),
		SecureCode:      there("/usr/share/OVMF/OVMF_CODE_4M.ms.fd"),
		SecureVariables: there("/usr/share/OVMF/OVMF_VARS_4M.ms.fd"),
	}}
	binary, err := exec.LookPath(BinaryName)
	if err != nil {
		h.Slow = "QEMU is not installed"
		return h
	}
	h.Binary = binary
	ctx, stop := context.WithTimeout(ctx, 2*probeTime)
	defer stop()
	if said, err := exec.CommandContext(ctx, binary, "--version").Output(); err == nil {
		first, _, _ := strings.Cut(string(said), "\n")
		h.Version = strings.TrimPrefix(first, "QEMU emulator version ")
	}
	switch acceleration {
	case AccelerationOn:
	case AccelerationOff:
		h.Slow = "the agent's file says so"
	default:
		if err := accelerates(ctx, binary); err != nil {
			h.Slow = err.Error()
		}
	}
	return h
}

func there(path string) string {
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	return path
}

// accelerates proves that the hardware runs a guest: a device that opens may still run nothing. A boot sector ends QEMU
// through its debug port, or it does not.
func accelerates(ctx context.Context, binary string) error {
	f, err := os.OpenFile(kvmDevice, os.O_RDWR, 0)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("there is no %s: the computer has no virtualisation, or it is switched off in its firmware",
			kvmDevice)
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("%s is not permitted to this account: usermod -aG kvm ACCOUNT", kvmDevice)
	case err != nil:
		return err
	}
	f.Close()
	return probe(ctx, binary, "kvm")
}

// probe starts a guest under an accelerator, and says why it did not run.
func probe(ctx context.Context, binary, accelerator string) error {
	image, err := os.CreateTemp("", "unvora-probe-")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(image.Name()) }()
	_, err = image.Write(sector.Probe())
	if err = errors.Join(err, image.Close()); err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(ctx, probeTime)
	defer stop()
	cmd := exec.CommandContext(ctx, binary, "-nodefaults", "-no-user-config", "-display", "none", "-machine",
		"pc,accel="+accelerator, "-cpu", "max", "-m", "16", "-drive", "format=raw,if=ide,file="+image.Name(),
		"-device", "isa-debug-exit,iobase=0xf4,iosize=0x04")
	said, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("a guest under %s said nothing within %s, though %s opens", accelerator, probeTime, kvmDevice)
	case errors.As(err, &exit) && exit.ExitCode() == sector.ProbeStatus:
		return nil
	}
	return fmt.Errorf("QEMU could not use %s: %v: %s", accelerator, err, strings.TrimSpace(string(said)))
}
