package agent

import (
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// shelve writes a package with a manifest onto a shelf.
func shelve(t *testing.T, path string) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	d, err := ovf.New(&machine.Machine{Name: "tide-gauge", UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1, MemoryBytes: 1 << 30, Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: "tide-gauge.vmdk", Format: "vmdk", VirtualBytes: 4 << 20}}})
	require.NoError(t, err)
	raw, err := d.Encode(8192)
	require.NoError(t, err)
	w := ovf.NewWriter(f, "tide-gauge.ovf", 8192, time.Unix(1700000000, 0), nil)
	h := ovf.NewHash("sha256")
	target, err := vmdk.CreateStream(io.MultiWriter(io.NewOffsetWriter(f, w.Begin()), h), disk.Spec{VirtualBytes: 4 << 20, ID: "1234abcd"}, nil)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(disktest.Pattern(4<<20, 2)), 0, target.BlockBytes()), disk.Options{}))
	require.NoError(t, target.Finish())
	require.NoError(t, w.End(ovf.Member{Name: "tide-gauge.vmdk", Size: target.Length(), SHA256: hex.EncodeToString(h.Sum(nil))}))
	_, err = w.Finish(raw)
	require.NoError(t, err)
}

// TestVouch: a package is read once as it is; one in which a byte was altered is
// told of, also after a restart, and one that is written anew is read again.
func TestVouch(t *testing.T) {
	a, pool := newAgent(t, 0)
	path := filepath.Join(filepath.Dir(pool), "loft", "tide-gauge.ova")
	shelve(t, path)
	later := time.Now().Add(time.Hour)
	seen := func() (problem string) {
		for _, p := range a.sweep.survey("").Packages {
			require.NotNil(t, p.Machine)
			problem = p.Problem
		}
		return problem
	}
	require.Empty(t, seen())
	require.False(t, a.vouchOne(t.Context(), time.Now().Add(-time.Hour), 1<<30), "it may still be written")
	require.True(t, a.vouchOne(t.Context(), later, 1<<30))
	require.False(t, a.vouchOne(t.Context(), later, 1<<30), "it was read")
	require.Empty(t, seen())

	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	st, err := f.Stat()
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("?"), st.Size()/2)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	since := a.sweep.survey("").Revision
	require.True(t, a.vouchOne(t.Context(), later, 1<<30))
	require.Contains(t, seen(), "tide-gauge.vmdk")
	require.Len(t, a.sweep.survey(since).Packages, 1, "it is news")

	a.sweep = newSweep(a) // as after a restart
	require.Contains(t, seen(), "tide-gauge.vmdk")
	require.False(t, a.vouchOne(t.Context(), later, 1<<30))
	require.NoError(t, os.Remove(path))
	shelve(t, path)
	require.Empty(t, seen())
	require.True(t, a.vouchOne(t.Context(), later, 1<<30))
	require.Empty(t, seen())
}
