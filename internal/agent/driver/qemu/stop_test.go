package qemu_test

import (
	"context"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver/qemu"
	"unvora.example/unvora/internal/agent/driver/qemu/sector"
	"unvora.example/unvora/internal/wait"
)

// TestStopOfEnding: a machine that ends just now, and whose keeper has not noted it yet, is stopped like any other.
func TestStopOfEnding(t *testing.T) {
	for _, how := range []machine.Manner{machine.Off, machine.CleanOnly} {
		b := newBench(t)
		b.start()
		keepers := b.processes(qemu.KeeperCommand)
		for _, pid := range keepers {
			require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
		}
		for _, pid := range b.processes("isa-serial,chardev=serial") {
			require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
		}
		wait.Until(t, func() bool { // a process that is killed takes a moment to go
			return b.d.Ask(t.Context(), b.folder, "query-status", nil) != nil
		})
		time.AfterFunc(300*time.Millisecond, func() {
			for _, pid := range keepers {
				_ = syscall.Kill(pid, syscall.SIGCONT)
			}
		})
		require.NoError(t, b.d.Stop(t.Context(), b.folder, how))
		require.Equal(t, machine.Stopped, b.stands().State)
	}
}

// TestStopOfPaused: a guest that stands still is let go on, so that it hears its power button.
func TestStopOfPaused(t *testing.T) {
	b := newBench(t)
	b.start()
	b.says("up\n")
	b.behind("stop")
	ctx, stop := context.WithTimeout(t.Context(), wait.Bound)
	defer stop()
	require.NoError(t, b.waits(wait.Bound).Stop(ctx, b.folder, machine.CleanOrOff),
		"its guest shut down, and was not turned off")
}

// TestStopGivenUp: a machine that was asked to end, and did not, has not ended as was asked when it dies later.
func TestStopGivenUp(t *testing.T) {
	b := newBench(t)
	deaf := make([]byte, sector.Bytes)
	copy(deaf, []byte{0xf4, 0xeb, 0xfd}) // hlt, again
	deaf[510], deaf[511] = 0x55, 0xaa
	rawDisk(t, filepath.Join(b.folder, "disk1.raw"), deaf)
	b.start()
	ctx, stop := context.WithTimeout(t.Context(), time.Second)
	defer stop()
	require.Error(t, b.d.Stop(ctx, b.folder, machine.CleanOrOff))
	require.Equal(t, machine.Running, b.stands().State)
	for _, pid := range b.processes("isa-serial,chardev=serial") {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	wait.Until(t, func() bool { return b.stands().State == machine.Stopped })
	require.Contains(t, b.stands().Why, "died: signal: killed")
}
