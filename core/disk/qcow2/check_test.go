package qcow2_test

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/qcow2"
)

// TestCheckAndRepair spoils one thing at a time. Clusters have 64 KiB: 0 is the
// header, 1 the L1 table, 2 the L2 table, 3 and on data; refcounts stand last.
func TestCheckAndRepair(t *testing.T) {
	truth := bytes.Repeat([]byte("buoy 7, wave height 2.1 m\n\n"), 2<<20/27+1)[:2<<20]
	good := &disktest.Memory{}
	target, err := qcow2.Create(good, disk.Spec{VirtualBytes: int64(len(truth)), ID: diskID})
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
	be := binary.BigEndian
	const cluster = 64 << 10
	block := func(p []byte) []byte { // of refcounts
		table := be.Uint64(p[48:])
		return p[be.Uint64(p[table:]):]
	}
	l2 := func(p []byte) []byte { return p[be.Uint64(p[cluster:])&0x00fffffffffffe00:] }
	for name, c := range map[string]struct {
		spoil    func(p []byte) []byte
		says     string
		harmless bool
		repaired bool
	}{
		"leaked": {func(p []byte) []byte {
			p = append(p, make([]byte, 2*cluster)...)
			be.PutUint16(block(p)[2*(len(p)/cluster-1):], 1)
			be.PutUint16(block(p)[2*(len(p)/cluster-2):], 1)
			return p
		}, "2 clusters (131072 bytes) are counted as used and nothing refers to them", true, true},
		"counted too low": {func(p []byte) []byte { be.PutUint16(block(p)[2*4:], 0); return p }, "could go over them",
			false, true},
		"not its own":    {func(p []byte) []byte { l2(p)[0] &^= 0x80; return p }, "theirs alone", false, true},
		"not closed":     {func(p []byte) []byte { p[79] |= 1; return p }, "not closed properly", false, true},
		"marked corrupt": {func(p []byte) []byte { p[79] |= 2; return p }, "marked as corrupt", false, true},
		"no refcounts": {func(p []byte) []byte { be.PutUint64(p[48:], 1<<50); return p }, "can't be read", false,
			true},
		"one cluster, two owners": {func(p []byte) []byte {
			copy(l2(p)[8:16], l2(p)[0:8])
			return p
		}, "more than once", false, false},
		"outside the file": {func(p []byte) []byte { be.PutUint64(l2(p), 1<<50|1<<63); return p },
			"leads out of the file",
			false, false},
		"between clusters": {func(p []byte) []byte { be.PutUint64(l2(p), (5*cluster+512)|1<<63); return p },
			"does not meet a cluster", false, false},
	} {
		t.Run(name, func(t *testing.T) {
			f := &disktest.Memory{Bytes: c.spoil(bytes.Clone(good.Bytes))}
			problems, err := qcow2.Check(f, nil)
			require.NoError(t, err)
			require.NotEmpty(t, problems)
			require.Contains(t, problems[0].What, c.says)
			require.Equal(t, c.harmless, problems[0].Harmless)
			if !c.repaired {
				for _, p := range problems {
					require.Nil(t, p.Fix, "nothing is guessed")
				}
				return
			}
			require.NoError(t, problems[0].Fix(f))
			problems, err = qcow2.Check(f, nil)
			require.NoError(t, err)
			require.Empty(t, problems)
			img, err := qcow2.Open(f, nil)
			require.NoError(t, err)
			require.True(t, img.Info().Clean)
			disktest.Same(t, truth, img)
		})
	}
}

// TestHeaderKeeps: what a header holds that is not known here outlives a change
// of it, and so does all data.
func TestHeaderKeeps(t *testing.T) {
	truth := disktest.Pattern(1<<20, 2)
	f := &disktest.Memory{}
	target, err := qcow2.Create(f, disk.Spec{VirtualBytes: 1 << 20, ID: diskID,
		Parent: &disk.ParentRef{Path: "base.img", Format: "raw", Fingerprint: "aa"}})
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
	// An extension of somebody else in front of ours, whose room moves behind.
	strange := []byte{0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 5, 'h', 'e', 'l', 'l', 'o', 0, 0, 0}
	old := bytes.Clone(f.Bytes[112:1024])
	copy(f.Bytes[112:], append(strange, old...))
	binary.BigEndian.PutUint64(f.Bytes[8:], binary.BigEndian.Uint64(f.Bytes[8:])+16)

	require.NoError(t, qcow2.Reparent(f, disk.ParentRef{Path: "/pools/reef/base.qcow2", Format: "qcow2", ID: diskID,
		Fingerprint: "bb"}))
	require.NoError(t, qcow2.SetID(f, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"))
	require.True(t, bytes.Contains(f.Bytes[:1024], strange))
	img, err := qcow2.Open(f, nil)
	require.NoError(t, err)
	require.Equal(t, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77", img.Info().ID)
	require.Equal(t, &disk.ParentRef{Path: "/pools/reef/base.qcow2", Format: "qcow2", ID: diskID, Fingerprint: "bb"},
		img.Info().Parent)
	got := make([]byte, len(truth))
	_, err = img.ReadAt(got, 0)
	require.NoError(t, err)
	require.Equal(t, truth, got)
	require.ErrorContains(t, qcow2.Reparent(f, disk.ParentRef{Path: string(make([]byte, 2000))}), "parent's path")
}
