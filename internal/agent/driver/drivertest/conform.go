// Package drivertest holds every driver to the same.
package drivertest

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver"
)

// Sample is a driver with a machine that it can run.
type Sample struct {
	Driver driver.Driver
	Folder string
	// Machine as its descriptor says, with the formats of its disks on record.
	Machine *machine.Machine
	// Write has the guest of the running machine write to its disk; nil where it does by itself.
	Write func(t *testing.T)
	// Again makes the driver of an agent that starts where this one has ended.
	Again func() driver.Driver
}

// Conform holds a driver to what its interface says.
func Conform(t *testing.T, s Sample) {
	t.Helper()
	ctx, d := t.Context(), s.Driver
	stands := func() driver.Standing {
		t.Helper()
		now, err := d.State(ctx, s.Folder)
		require.NoError(t, err)
		return now
	}
	require.Equal(t, driver.Standing{State: machine.Stopped}, stands(), "never started")
	require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff), "stopped already")

	over, stop := context.WithCancel(ctx)
	stop()
	if err := d.Start(over, s.Folder, s.Machine); err == nil { // a driver that starts at once may
		require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff))
	}
	require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
	require.Equal(t, driver.Standing{State: machine.Running}, stands())
	require.NoError(t, d.Start(ctx, s.Folder, s.Machine), "runs already")
	require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff))
	require.Equal(t, driver.Standing{State: machine.Stopped}, stands(), "as was asked for: there is nothing to say")

	if p, ok := d.(driver.Pausing); ok {
		require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
		require.NoError(t, p.Pause(ctx, s.Folder))
		require.NoError(t, p.Pause(ctx, s.Folder), "stands still already")
		require.Equal(t, driver.Standing{State: machine.Paused}, stands())
		require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
		require.Equal(t, machine.Running, stands().State, "goes on")
		require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff))
		require.Error(t, p.Pause(ctx, s.Folder), "does not run")
		require.Equal(t, machine.Stopped, stands().State)
	}
	if p, ok := d.(driver.Suspending); ok {
		require.Error(t, p.Suspend(ctx, s.Folder), "does not run")
		state := filepath.Join(s.Folder, driver.SuspendedFile)
		require.NoFileExists(t, state)
		suspend := func() {
			t.Helper()
			require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
			require.NoError(t, p.Suspend(ctx, s.Folder))
			require.Equal(t, driver.Standing{State: machine.Suspended}, stands())
			require.FileExists(t, state)
			require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff), "keeps the state")
			require.Equal(t, machine.Suspended, stands().State)
		}
		suspend()
		require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
		require.Equal(t, driver.Standing{State: machine.Running}, stands(), "goes on")
		require.NoFileExists(t, state, "fits its disks no more")
		suspend()
		require.NoError(t, d.Close())
		d = s.Again()
		require.Equal(t, machine.Suspended, stands().State, "also for the next agent")
		require.NoError(t, d.Stop(ctx, s.Folder, machine.Off))
		require.Equal(t, driver.Standing{State: machine.Stopped}, stands(), "dropped")
		require.NoFileExists(t, state)
	}

	if f, ok := d.(driver.Freezing); ok {
		freeze(t, s, d, f)
	}

	unfit := s.Machine.Clone()
	unfit.Disks[0].File = "not-there"
	err := d.Start(ctx, s.Folder, unfit)
	require.ErrorContains(t, err, unfit.Disks[0].ID, "says which disk")
	require.Equal(t, machine.Stopped, stands().State)

	_, err = d.Switches(ctx)
	require.NoError(t, err)

	require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
	require.NoError(t, d.Close())
	_, lasts := d.(driver.Lasting)
	d = s.Again()
	want := machine.Stopped
	if lasts {
		want = machine.Running
	}
	require.Equal(t, want, stands().State, "after the agent was started again")
	require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff))
	require.Equal(t, machine.Stopped, stands().State)

	if n, ok := d.(driver.Noticing); ok {
		select { // what was asked for may be told too
		case <-n.Noticed():
		case <-time.After(time.Second):
		}
	}
	require.NoError(t, d.Close())
}

// freeze holds a driver to what it says of freezing: the guest goes on, what is frozen stays as it is, and after the
// commit nothing of the layer is needed.
func freeze(t *testing.T, s Sample, d driver.Driver, f driver.Freezing) {
	t.Helper()
	ctx := t.Context()
	state := func() machine.State {
		t.Helper()
		now, err := d.State(ctx, s.Folder)
		require.NoError(t, err)
		return now.State
	}
	q, err := formats.ByName("qcow2")
	require.NoError(t, err)
	below := filepath.Join(s.Folder, s.Machine.Disks[0].File)
	layered := s.Machine.Clone()
	layered.Disks[0].File, layered.Disks[0].Format = "layer.qcow2", "qcow2"
	layer := filepath.Join(s.Folder, "layer.qcow2")
	require.Error(t, f.Freeze(ctx, driver.ToFreeze{Folder: s.Folder, Machine: layered}), "does not run")
	require.NoError(t, d.Start(ctx, s.Folder, s.Machine))
	for range 2 { // again and again
		require.NoError(t, formats.NewLayer(layer, below, q, "", formats.Options{
			Format: s.Machine.Disks[0].Format, Loose: true}))
		require.NoError(t, f.Freeze(ctx, driver.ToFreeze{Folder: s.Folder, Machine: layered}))
		require.NoError(t, f.Freeze(ctx, driver.ToFreeze{Folder: s.Folder, Machine: layered}), "is frozen already")
		require.Equal(t, machine.Running, state())
		frozen, err := os.ReadFile(below)
		require.NoError(t, err)
		if s.Write != nil {
			s.Write(t)
		}
		now, err := os.ReadFile(below)
		require.NoError(t, err)
		require.True(t, bytes.Equal(frozen, now), "it takes no writes")
		settled := 0
		require.NoError(t, f.Commit(ctx, s.Folder, s.Machine, func() error { settled++; return nil }))
		require.Equal(t, 1, settled)
		require.Equal(t, machine.Running, state())
		require.NoError(t, os.Remove(layer))
	}
	require.NoError(t, formats.NewLayer(layer, below, q, "", formats.Options{Format: s.Machine.Disks[0].Format,
		Loose: true}))
	require.NoError(t, f.Freeze(ctx, driver.ToFreeze{Folder: s.Folder, Machine: layered}))
	broken := errors.New("broken off")
	require.ErrorIs(t, f.Commit(ctx, s.Folder, s.Machine, func() error { return broken }), broken)
	require.Equal(t, machine.Running, state(), "it goes on")
	require.NoError(t, f.Commit(ctx, s.Folder, s.Machine, func() error { return nil }), "is finished")
	require.NoError(t, os.Remove(layer))
	require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff))
	require.NoError(t, d.Start(ctx, s.Folder, s.Machine), "it stands without the layer")
	require.NoError(t, d.Stop(ctx, s.Folder, machine.CleanOrOff))
}
