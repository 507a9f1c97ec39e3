package do

import (
	"bytes"
	"crypto/sha256"
	"encoding"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/vhdx"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

// laidOut is a package of a raw disk, which bears no id, as VHDX.
func laidOut(t *testing.T, a *hand, pool string) (p hostlink.PackTask, truth []byte) {
	folder, _ := agenttest.Lying(t, pool, "tide-gauge")
	return hostlink.PackTask{Packing: plan.Packing{File: filepath.Join(a.Config.Shelves[0].Path, "x.ova"),
			PackedMachine: plan.PackedMachine{Folder: folder, Name: "tide-gauge",
				Passport: &machine.Passport{Lineage: "l", Copy: "c", MadeBy: "export",
					MadeAt: time.Unix(1700000000, 0)},
				Disks: []plan.PackDisk{{ID: "disk1", File: "tide-gauge-disk1.vhdx", VirtualBytes: 3 << 20,
					Source: filepath.Join(pool, "tide-gauge.img"), Format: "vhdx", Variant: "dynamic"}}}}},
		disktest.Pattern(3<<20, 4)
}

// TestPackLaidOut: a file of which there is a part that was laid out otherwise is written anew, not on.
func TestPackLaidOut(t *testing.T) {
	a, pool := newAgent(t, 0)
	p, truth := laidOut(t, a, pool)
	h, err := sha256.New().(encoding.BinaryMarshaler).MarshalBinary()
	require.NoError(t, err)
	require.NoError(t, a.Records.Put("journals", job+".s1", packJournal{Guest: 1 << 20, Hash: h,
		Layout: []byte("other"), State: []byte{0, 0, 0, 0, 0, 0x10, 0, 0}}))
	s := ended(t, start(t, a, "s1", plan.KindPack, 1, p))
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	o, err := ovf.OpenPath(p.File)
	require.NoError(t, err)
	defer o.Close()
	require.NoError(t, o.Verify(t.Context(), func(int64) {}))
	require.Empty(t, o.Deviations)
	e, ok := o.Entry("tide-gauge-disk1.vhdx")
	require.True(t, ok)
	src, err := o.Source(e)
	require.NoError(t, err)
	img, err := vhdx.Open(src)
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.NotEmpty(t, img.Info().ID)
}

// TestHandOutLaidOut: the file of a disk that is handed out is the same from any byte on, also for an agent that was
// started anew; one that would be laid out otherwise by then is refused, before a byte of it is sent.
func TestHandOutLaidOut(t *testing.T) {
	a, pool := newAgent(t, 0)
	p, _ := laidOut(t, a, pool)
	tk := start(t, a, "s1", plan.KindHandOut, 1, p)
	stream := func(offset int64) ([]byte, error) {
		var out bytes.Buffer
		err := a.StreamDisk(t.Context(), tk, &out, "disk1", offset)
		return out.Bytes(), err
	}
	wait.Until(t, func() bool { return a.handed(tk).p != nil })
	all, err := stream(0)
	require.NoError(t, err)
	rest, err := stream(1<<20 + 7)
	require.NoError(t, err)
	require.True(t, bytes.Equal(all[1<<20+7:], rest))

	a.tasks.Close()
	require.NoError(t, a.Records.Close())
	a = handOf(t, agenttest.Open(t, a.Config))
	tk, err = a.tasks.Get(tk.ID())
	require.NoError(t, err)
	wait.Until(t, func() bool { return a.handed(tk).p != nil })
	rest, err = stream(2<<20 + 1)
	require.NoError(t, err)
	require.True(t, bytes.Equal(all[2<<20+1:], rest))
	a.handed(tk).Layouts["disk1"] = []byte("other")
	rest, err = stream(2 << 20)
	require.ErrorIs(t, err, errLaidOut)
	require.Empty(t, rest)
}

// TestFormatWithoutFrame: what can't be laid out is an error, and nothing is left of it.
func TestFormatWithoutFrame(t *testing.T) {
	a, pool := newAgent(t, 0)
	p, _ := laidOut(t, a, pool)
	p.Disks[0].Format, p.Disks[0].Variant = "vmdk", "flat"
	s := ended(t, start(t, a, "s1", plan.KindPack, 1, p))
	require.Equal(t, hostlink.TaskFailed, s.State)
	require.Contains(t, s.Error, "lay out disk disk1 as vmdk: "+disk.ErrVariant.Error())
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	left, err := filepath.Glob(filepath.Join(filepath.Dir(p.File), ".*"))
	require.NoError(t, err)
	require.Empty(t, left)
}
