package agent

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/standin"
)

// newAgent makes an agent with one pool, a shelf and so many machines.
func newAgent(t testing.TB, machines int) (*Agent, string) {
	t.Helper()
	dir := t.TempDir()
	pool, shelf := filepath.Join(dir, "reef"), filepath.Join(dir, "loft")
	require.NoError(t, os.MkdirAll(pool, 0o755))
	require.NoError(t, os.MkdirAll(shelf, 0o755))
	config := Config{Name: "gannet", Site: "Northhead", Family: "slate", Driver: "standin", State: filepath.Join(dir, "state"), CPUs: 16, MemoryMB: 65536,
		Pools: []PoolConfig{{Name: "reef", Path: pool}}, Shelves: []ShelfConfig{{Name: "loft", Path: shelf}}}
	for n := range machines {
		name := fmt.Sprintf("training-%04d", n)
		addFolder(t, pool, name)
		config.Machines = append(config.Machines, MachineConfig{Folder: filepath.Join(pool, name)})
	}
	a, err := New(config, standin.New([]wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}}, nil, config.Door()), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() {
		a.tasks.close()
		require.NoError(t, a.driver.Close())
		require.NoError(t, a.store.Close())
	})
	return a, pool
}

func addFolder(t testing.TB, pool, name string) {
	t.Helper()
	folder := filepath.Join(pool, name)
	require.NoError(t, os.MkdirAll(folder, 0o755))
	d, err := ovf.New(&machine.Machine{Name: name, UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1, MemoryBytes: 1 << 30, Firmware: "bios"})
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
}

func TestSurveyTellsWhatChanged(t *testing.T) {
	a, pool := newAgent(t, 3)
	first := a.sweep.survey("")
	require.True(t, first.Full)
	require.Len(t, first.Machines, 3)
	same := a.sweep.survey(first.Revision)
	require.Equal(t, first.Revision, same.Revision)
	require.False(t, same.Changed)
	require.Empty(t, same.Machines)

	addFolder(t, pool, "tide-gauge")
	more := a.sweep.survey(first.Revision)
	require.Len(t, more.Machines, 1)
	require.False(t, more.Full)
	require.Equal(t, "tide-gauge", more.Machines[0].Machine.Name)
	require.False(t, more.Machines[0].Registered)

	require.NoError(t, a.power(filepath.Join(pool, "training-0001"), true))
	running := a.sweep.survey(more.Revision)
	require.Len(t, running.Machines, 1)
	require.Equal(t, "running", running.Machines[0].State)

	require.NoError(t, os.RemoveAll(filepath.Join(pool, "tide-gauge")))
	require.NoError(t, os.RemoveAll(filepath.Join(pool, "training-0002")))
	less := a.sweep.survey(running.Revision)
	require.Equal(t, []string{filepath.Join(pool, "tide-gauge")}, less.Gone)
	require.Len(t, less.Machines, 1, "a machine that is listed and has no files is hollow, not gone")
	require.False(t, less.Machines[0].FilesThere)
	require.True(t, a.sweep.survey("another.7").Full, "a revision of another run is not compared")

	// A drive that is pulled out: nothing is gone, everything is away.
	require.NoError(t, os.Rename(pool, pool+"-out"))
	away := a.sweep.survey(less.Revision)
	require.Equal(t, "away", away.Pools[0].State)
	require.Empty(t, away.Gone)
	for _, m := range away.Machines {
		require.Equal(t, "away", m.State)
	}
}

func BenchmarkSurveyUnchanged1000(b *testing.B) {
	a, _ := newAgent(b, 1000)
	revision := a.sweep.survey("").Revision
	for b.Loop() {
		if a.sweep.survey(revision).Changed {
			b.Fatal("nothing has changed")
		}
	}
}
