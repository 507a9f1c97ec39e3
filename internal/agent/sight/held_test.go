package sight

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
)

// TestHeld: what machines hold is known at once when one comes or goes, and as the files say when a task asks.
func TestHeld(t *testing.T) {
	a, pool := newSight(t, 0)
	a.held.checked = time.Now().Add(time.Hour) // nothing is compared with its files by itself
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	base := filepath.Join(pool, "tide-gauge.img")
	require.Empty(t, a.held.on("", base, isLow))
	require.NoError(t, a.List(folder, ground.Registered{}, ""))
	a.held.refresh(trusted)
	require.Equal(t, []string{"tide-gauge"}, a.held.on("", base, isLow))
	require.Equal(t, []string{"tide-gauge"}, a.held.standing("", pool))
	require.Empty(t, a.held.on(folder, base, isLow), "its own disks are no other's")

	elsewhere := filepath.Join(pool, "kept.qcow2")
	require.NoError(t, os.Rename(filepath.Join(folder, "d.qcow2"), elsewhere))
	a.held.refresh(trusted)
	require.NotEmpty(t, a.held.on("", base, isLow), "it was not compared")
	a.Anew(folder)
	a.held.refresh(trusted)
	require.Empty(t, a.held.on("", base, isLow))
	require.NoError(t, os.Rename(elsewhere, filepath.Join(folder, "d.qcow2")))
	a.held.checked = time.Now()
	require.NotEmpty(t, a.HeldBy("", base), "what a task does is decided by the files")
	require.NotEmpty(t, a.WrittenBy("", filepath.Join(folder, "d.qcow2")))
	require.NotEmpty(t, a.StoodOn("", pool))
	descriptor := filepath.Join(folder, "tide-gauge.ovf")
	good, err := os.ReadFile(descriptor)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(descriptor, []byte("no XML"), 0o644))
	require.NotEmpty(t, a.HeldBy("", base), "what can't be read now holds what it held")
	require.NoError(t, os.WriteFile(descriptor, good, 0o644))

	require.NoError(t, a.Delist(folder))
	a.held.refresh(trusted)
	require.Empty(t, a.held.on("", base, isLow))
	require.Empty(t, a.held.at)
	require.Empty(t, a.held.under)
	require.Empty(t, a.held.tops)
}

// BenchmarkFolder: a look at one folder, on a host with few and with many machines.
func BenchmarkFolder(b *testing.B) {
	for _, n := range []int{10, 1000} {
		b.Run(map[int]string{10: "of ten", 1000: "of a thousand"}[n], func(b *testing.B) {
			a, pool := newSight(b, n)
			folder := filepath.Join(pool, "training-0001")
			for b.Loop() {
				_, err := a.Folder(folder)
				require.NoError(b, err)
			}
		})
	}
}
