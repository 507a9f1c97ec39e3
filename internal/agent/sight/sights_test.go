package sight

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/hostlink"
)

// TestSights: a survey tells what disks are recognised by and what is wrong
// with them, again when they change, and nothing when they don't.
func TestSights(t *testing.T) {
	a, pool := newSight(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	require.NoError(t, os.WriteFile(filepath.Join(pool, "tide-gauge.img"), bytes.Repeat([]byte("tide"), 3<<18), 0o644))
	require.NoError(t, os.Remove(filepath.Join(folder, "d.qcow2")))
	format, err := formats.ByName("qcow2")
	require.NoError(t, err)
	require.NoError(t, formats.NewLayer(filepath.Join(folder, "d.qcow2"), filepath.Join(pool, "tide-gauge.img"), format,
		"0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", formats.Options{}))
	first := a.Survey(t.Context(), "", 0)
	require.Len(t, first.Machines, 1)
	d := first.Machines[0].Disks[0]
	require.Equal(t, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", d.ImageID)
	require.Equal(t, []string{filepath.Join(pool, "tide-gauge.img")}, d.Layers)
	require.NotEmpty(t, d.Samples)
	require.Empty(t, d.Faults)
	require.False(t, a.Survey(t.Context(), first.Revision, 0).Changed, "the same as before")

	// Its parent goes away, and comes back.
	base := filepath.Join(pool, "tide-gauge.img")
	require.NoError(t, os.Rename(base, base+".away"))
	second := a.Survey(t.Context(), first.Revision, 0)
	require.True(t, second.Changed)
	require.Equal(t, "disk.parent-missing", second.Machines[0].Disks[0].Faults[0].Code)
	require.NoError(t, os.Rename(base+".away", base))
	third := a.Survey(t.Context(), second.Revision, 0)
	require.True(t, third.Changed)
	require.Empty(t, third.Machines[0].Disks[0].Faults)

	// The disk's file is gone, and another one lies there.
	image := filepath.Join(folder, "d.qcow2")
	raw, err := os.ReadFile(image)
	require.NoError(t, err)
	require.NoError(t, os.Remove(image))
	fourth := a.Survey(t.Context(), third.Revision, 0)
	require.Equal(t, "disk.missing", fourth.Machines[0].Disks[0].Faults[0].Code)
	require.NoError(t, os.WriteFile(image, raw, 0o644))
	require.NoError(t, os.Chtimes(image, time.Now(), time.Now().Add(time.Second)))
	require.Empty(t, a.Survey(t.Context(), fourth.Revision, 0).Machines[0].Disks[0].Faults)
}

// TestBareFolders: disks that nothing describes are told of, those that a
// machine names or rests on are not.
func TestBareFolders(t *testing.T) {
	a, pool := newSight(t, 0)
	agenttest.Lying(t, pool, "tide-gauge")
	bare := filepath.Join(pool, "spare")
	require.NoError(t, os.Mkdir(bare, 0o755))
	data := disktest.Pattern(1<<20, 9)
	data[510], data[511] = 0x55, 0xaa
	require.NoError(t, os.WriteFile(filepath.Join(bare, "tides.img"), data, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(bare, "notes.txt"), []byte("notes"), 0o644))
	s := a.Survey(t.Context(), "", 0)
	require.Len(t, s.Bare, 1)
	require.Equal(t, hostlink.BareFolder{Path: bare, Pool: a.Pools()[0].ID, Disks: []string{"tides.img"},
		Bytes: s.Bare[0].Bytes}, s.Bare[0])
	require.NoError(t, os.RemoveAll(bare))
	again := a.Survey(t.Context(), s.Revision, 0)
	require.True(t, again.Changed)
	require.Empty(t, again.Bare)
}

// TestCompareBlocks: only blocks above the shared layer are asked about.
func TestCompareBlocks(t *testing.T) {
	a, pool := newSight(t, 0)
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	path, base := filepath.Join(folder, "d.qcow2"), filepath.Join(pool, "tide-gauge.img")
	all, err := a.Held(hostlink.HeldRequest{Path: path})
	require.NoError(t, err)
	require.NotEmpty(t, all)
	above, err := a.Held(hostlink.HeldRequest{Path: path, Above: base})
	require.NoError(t, err)
	require.Empty(t, above)
	_, err = a.Held(hostlink.HeldRequest{Path: path, Above: "/nothing"})
	require.ErrorContains(t, err, "is no layer")
	one, err := a.Sums(hostlink.SumsRequest{Path: path, Spans: all})
	require.NoError(t, err)
	other, err := a.Sums(hostlink.SumsRequest{Path: base, Spans: all})
	require.NoError(t, err)
	require.Equal(t, one, other)
	_, err = a.Sums(hostlink.SumsRequest{Path: "/etc/passwd", Spans: all})
	require.Error(t, err, "nothing outside the pools")
}
