package standin_test

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/driver/standin"
)

const diskBytes = 1 << 20

// counter is the newest number that a guest has written to a disk.
func counter(t *testing.T, path, format string) (newest uint64) {
	t.Helper()
	c, err := formats.OpenChain(path, formats.Options{Format: format, Loose: true})
	require.NoError(t, err)
	defer c.Close()
	all := make([]byte, diskBytes)
	_, err = c.ReadAt(all, 0)
	require.NoError(t, err)
	for off := 0; off < diskBytes; off += standin.RecordBytes {
		newest = max(newest, binary.LittleEndian.Uint64(all[off+standin.CounterAt:]))
	}
	return newest
}

// TestOneInstant: a machine that writes to three disks without pause is frozen and committed again and again. What is
// frozen is one instant over all disks, nothing that was written is lost, and the guest never sees an error.
func TestOneInstant(t *testing.T) {
	folder := t.TempDir()
	q, err := formats.ByName("qcow2")
	require.NoError(t, err)
	m := &machine.Machine{Name: "archive-db", CPUs: 1, MemoryBytes: 64 << 20}
	for n, format := range []string{"qcow2", "raw", "qcow2"} {
		id := fmt.Sprint("disk", n+1)
		file := filepath.Join(folder, id+"."+format)
		require.NoError(t, os.WriteFile(file, make([]byte, diskBytes), 0o600))
		if format == "qcow2" {
			require.NoError(t, os.Rename(file, file+".base"))
			require.NoError(t, formats.NewLayer(file, file+".base", q, "", formats.Options{Format: "raw"}))
		}
		m.Disks = append(m.Disks, machine.Disk{ID: id, File: id + "." + format, Format: format})
	}
	d := standin.New(nil, nil, disk.OS)
	d.Beat = 100 * time.Microsecond
	require.NoError(t, d.Start(t.Context(), folder, m))
	var last uint64
	for range 20 {
		layered := m.Clone()
		for i := range layered.Disks {
			k := &layered.Disks[i]
			path := filepath.Join(folder, k.File)
			layer := filepath.Join(folder, k.ID+"-layer.qcow2")
			require.NoError(t, formats.NewLayer(layer, path, q, "", formats.Options{Format: k.Format, Loose: true}))
			k.File, k.Format = filepath.Base(layer), "qcow2"
		}
		time.Sleep(2 * time.Millisecond)
		require.NoError(t, d.Freeze(t.Context(), driver.ToFreeze{Folder: folder, Machine: layered}))
		time.Sleep(2 * time.Millisecond) // it goes on, elsewhere
		var seen []uint64
		for _, k := range m.Disks {
			seen = append(seen, counter(t, filepath.Join(folder, k.File), k.Format))
		}
		require.GreaterOrEqual(t, seen[0], last, "what was committed is there")
		require.LessOrEqual(t, seen[0]-seen[2], uint64(1), "one instant: %v", seen)
		require.GreaterOrEqual(t, seen[0], seen[1])
		require.GreaterOrEqual(t, seen[1], seen[2])
		require.NoError(t, d.Commit(t.Context(), folder, m, func() error { return nil }))
		last = seen[0]
		for _, k := range layered.Disks {
			require.NoError(t, os.Remove(filepath.Join(folder, k.File)))
		}
	}
	require.False(t, d.Failed(folder), "the guest saw no error")
	require.NoError(t, d.Stop(t.Context(), folder, machine.CleanOrOff))
	for _, k := range m.Disks {
		require.Greater(t, counter(t, filepath.Join(folder, k.File), k.Format), last, "it wrote to the end")
	}
}

// watched calls before each time that a file is opened for writing.
type watched struct {
	disk.Files
	before func(path string)
}

func (w *watched) OpenFile(path string, flag int, mode fs.FileMode) (*os.File, error) {
	if flag&os.O_RDWR != 0 && w.before != nil {
		w.before(path)
	}
	return w.Files.OpenFile(path, flag, mode)
}

// TestOneInstantOfSeveral: machines that are frozen together go on together. As long as one of them is not there yet,
// none has written to its layer.
func TestOneInstantOfSeveral(t *testing.T) {
	q, err := formats.ByName("qcow2")
	require.NoError(t, err)
	files := &watched{Files: disk.OS}
	d := standin.New(nil, nil, files)
	d.Beat = 100 * time.Microsecond
	var machines []driver.ToFreeze
	for range 3 {
		folder := t.TempDir()
		m := &machine.Machine{Name: "archive-db", CPUs: 1, MemoryBytes: 64 << 20,
			Disks: []machine.Disk{{ID: "disk1", File: "disk1.raw", Format: "raw"}}}
		require.NoError(t, os.WriteFile(filepath.Join(folder, "disk1.raw"), make([]byte, diskBytes), 0o600))
		require.NoError(t, d.Start(t.Context(), folder, m))
		layered := m.Clone()
		layered.Disks[0].File, layered.Disks[0].Format = "layer.qcow2", "qcow2"
		require.NoError(t, formats.NewLayer(filepath.Join(folder, "layer.qcow2"), filepath.Join(folder, "disk1.raw"), q,
			"", formats.Options{Format: "raw", Loose: true}))
		machines = append(machines, driver.ToFreeze{Folder: folder, Machine: layered})
	}
	written := func(m driver.ToFreeze) int64 { // to its layer, which grows by that
		st, err := os.Stat(filepath.Join(m.Folder, "layer.qcow2"))
		require.NoError(t, err)
		return st.Size()
	}
	empty, looked := written(machines[0]), 0
	files.before = func(path string) {
		if filepath.Base(path) != "layer.qcow2" {
			return
		}
		looked++
		time.Sleep(10 * time.Millisecond)
		for _, m := range machines {
			require.Equal(t, empty, written(m), "%s has gone on before %s is frozen", m.Folder, path)
		}
	}
	require.NoError(t, d.Freeze(t.Context(), machines...))
	files.before = nil
	require.Equal(t, len(machines), looked)
	time.Sleep(5 * time.Millisecond)
	for _, m := range machines {
		was := m.Machine.Clone()
		was.Disks[0].File, was.Disks[0].Format = "disk1.raw", "raw"
		require.Greater(t, written(m), empty, "it goes on")
		require.NoError(t, d.Commit(t.Context(), m.Folder, was, func() error { return nil }))
		require.False(t, d.Failed(m.Folder))
	}
	require.Error(t, d.Freeze(t.Context(), machines[0], driver.ToFreeze{Folder: t.TempDir()}), "one does not run")
	require.NoError(t, d.Close())
}
