package agent

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/hostlink"
)

// TestSights: a survey tells what disks are recognised by and what is wrong
// with them, again when they change, and nothing when they don't.
func TestSights(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := lying(t, pool, "tide-gauge")
	require.NoError(t, os.WriteFile(filepath.Join(pool, "tide-gauge.img"), bytes.Repeat([]byte("tide"), 3<<18), 0o644))
	require.NoError(t, os.Remove(filepath.Join(folder, "d.qcow2")))
	format, err := formats.ByName("qcow2")
	require.NoError(t, err)
	require.NoError(t, formats.NewLayer(filepath.Join(folder, "d.qcow2"), filepath.Join(pool, "tide-gauge.img"), format, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", formats.Options{}))
	first := a.sweep.survey("")
	require.Len(t, first.Machines, 1)
	d := first.Machines[0].Disks[0]
	require.Equal(t, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", d.ImageID)
	require.Equal(t, []string{filepath.Join(pool, "tide-gauge.img")}, d.Layers)
	require.NotEmpty(t, d.Samples)
	require.Empty(t, d.Faults)
	require.False(t, a.sweep.survey(first.Revision).Changed, "the same as before")

	// Its parent goes away, and comes back.
	base := filepath.Join(pool, "tide-gauge.img")
	require.NoError(t, os.Rename(base, base+".away"))
	second := a.sweep.survey(first.Revision)
	require.True(t, second.Changed)
	require.Equal(t, "disk.parent-missing", second.Machines[0].Disks[0].Faults[0].Code)
	require.NoError(t, os.Rename(base+".away", base))
	third := a.sweep.survey(second.Revision)
	require.True(t, third.Changed)
	require.Empty(t, third.Machines[0].Disks[0].Faults)

	// The disk's file is gone, and another one lies there.
	image := filepath.Join(folder, "d.qcow2")
	raw, err := os.ReadFile(image)
	require.NoError(t, err)
	require.NoError(t, os.Remove(image))
	fourth := a.sweep.survey(third.Revision)
	require.Equal(t, "disk.missing", fourth.Machines[0].Disks[0].Faults[0].Code)
	require.NoError(t, os.WriteFile(image, raw, 0o644))
	require.NoError(t, os.Chtimes(image, time.Now(), time.Now().Add(time.Second)))
	require.Empty(t, a.sweep.survey(fourth.Revision).Machines[0].Disks[0].Faults)
}

// TestBareFolders: disks that nothing describes are told of, those that a
// machine names or rests on are not.
func TestBareFolders(t *testing.T) {
	a, pool := newAgent(t, 0)
	lying(t, pool, "tide-gauge")
	bare := filepath.Join(pool, "spare")
	require.NoError(t, os.Mkdir(bare, 0o755))
	data := disktest.Pattern(1<<20, 9)
	data[510], data[511] = 0x55, 0xaa
	require.NoError(t, os.WriteFile(filepath.Join(bare, "tides.img"), data, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(bare, "notes.txt"), []byte("notes"), 0o644))
	s := a.sweep.survey("")
	require.Len(t, s.Bare, 1)
	require.Equal(t, hostlink.BareFolder{Path: bare, Pool: a.pools()[0].ID, Disks: []string{"tides.img"}, Bytes: s.Bare[0].Bytes}, s.Bare[0])
	require.NoError(t, os.RemoveAll(bare))
	again := a.sweep.survey(s.Revision)
	require.True(t, again.Changed)
	require.Empty(t, again.Bare)
}

// TestCompareBlocks: only blocks above the shared layer are asked about.
func TestCompareBlocks(t *testing.T) {
	a, pool := newAgent(t, 0)
	folder, _ := lying(t, pool, "tide-gauge")
	path, base := filepath.Join(folder, "d.qcow2"), filepath.Join(pool, "tide-gauge.img")
	all, err := a.held(hostlink.HeldRequest{Path: path})
	require.NoError(t, err)
	require.NotEmpty(t, all)
	above, err := a.held(hostlink.HeldRequest{Path: path, Above: base})
	require.NoError(t, err)
	require.Empty(t, above)
	_, err = a.held(hostlink.HeldRequest{Path: path, Above: "/nothing"})
	require.ErrorContains(t, err, "is no layer")
	one, err := a.sums(hostlink.SumsRequest{Path: path, Spans: all})
	require.NoError(t, err)
	other, err := a.sums(hostlink.SumsRequest{Path: base, Spans: all})
	require.NoError(t, err)
	require.Equal(t, one, other)
	_, err = a.sums(hostlink.SumsRequest{Path: "/etc/passwd", Spans: all})
	require.Error(t, err, "nothing outside the pools")
}
