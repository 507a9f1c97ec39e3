package qcow2_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/qcow2"
)

const diskID = "70126393-2a98-4856-90ac-efe4bba599b2"

// TestLikeAByteArray: any sequence of writes, syncs, closings and layers reads
// the same as on a plain byte array.
func TestLikeAByteArray(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		bits := uint32(rapid.IntRange(9, 16).Draw(t, "cluster bits"))
		size := rapid.Int64Range(1, 40).Draw(t, "clusters")<<bits - rapid.Int64Range(0, 511).Draw(t, "short of")
		truth := make([]byte, size)
		f := &disktest.Memory{}
		img, err := qcow2.CreateClusters(f, disk.Spec{VirtualBytes: size, ID: diskID}, bits)
		require.NoError(t, err)
		layers := []disk.Image{}
		for range rapid.IntRange(1, 25).Draw(t, "steps") {
			switch rapid.SampledFrom([]string{"write", "write", "write", "put", "close", "crash", "layer"}).Draw(t,
				"step") {
			case "write":
				off := rapid.Int64Range(0, size-1).Draw(t, "offset")
				p := rapid.SliceOfN(rapid.Byte(), 1, int(min(size-off, 3000))).Draw(t, "bytes")
				n, err := img.WriteAt(p, off)
				require.NoError(t, err)
				require.Equal(t, len(p), n)
				copy(truth[off:], p)
			case "put":
				at := rapid.Int64Range(0, (size-1)>>bits).Draw(t, "cluster") << bits
				p := bytes.Repeat([]byte{rapid.Byte().Draw(t, "fill")}, int(min(size-at, 2<<bits)))
				require.NoError(t, img.Put(at, p, len(p)))
				copy(truth[at:], p)
			case "close":
				require.NoError(t, img.Finish())
				require.True(t, img.Info().Clean)
				img = reopen(t, f, layers)
			case "crash": // what was synced is there, without Finish
				_, err := img.Sync()
				require.NoError(t, err)
				img = reopen(t, f, layers)
			case "layer":
				require.NoError(t, img.Finish())
				below, err := qcow2.Open(f, nil)
				require.NoError(t, err)
				layers = append([]disk.Image{below}, layers...)
				f = &disktest.Memory{}
				_, err = qcow2.CreateClusters(f, disk.Spec{VirtualBytes: size, ID: diskID,
					Parent: &disk.ParentRef{Path: "below.qcow2", Format: "qcow2"}}, bits)
				require.NoError(t, err)
				img = reopen(t, f, layers)
			}
		}
		require.NoError(t, img.Finish())
		top, err := qcow2.Open(f, nil)
		require.NoError(t, err)
		disktest.Same(t, truth, disk.Chain(append([]disk.Image{top}, layers...)...))
	})
}

func reopen(t *rapid.T, f *disktest.Memory, layers []disk.Image) *qcow2.Image {
	var parent disk.Image
	if len(layers) > 0 {
		parent = disk.Chain(layers...)
	}
	img, err := qcow2.OpenWrite(f, parent)
	require.NoError(t, err)
	return img
}

// TestResume stops a copy at every save and goes on from there.
func TestResume(t *testing.T) {
	truth := disktest.Pattern(3<<20+777*512, 5)
	src := disktest.Plain(truth)
	for stop := 1; stop < 5; stop++ {
		f := &disktest.Memory{}
		target, err := qcow2.Create(f, disk.Spec{VirtualBytes: int64(len(truth))})
		require.NoError(t, err)
		var off int64
		err = disk.Pump(t.Context(), target, disk.ImageFeed(src, 0, target.BlockBytes()),
			disk.Options{SaveEvery: 512 << 10, Saved: func(o int64, _ []byte, _ any) error {
				if off = o; o >= int64(stop)*600<<10 {
					return io.ErrClosedPipe
				}
				return nil
			}})
		require.ErrorIs(t, err, io.ErrClosedPipe)
		again, err := qcow2.OpenWrite(f, nil)
		require.NoError(t, err)
		require.NoError(t, disk.Pump(t.Context(), again, disk.ImageFeed(src, off, again.BlockBytes()), disk.Options{}))
		require.NoError(t, again.Finish())
		img, err := qcow2.Open(f, nil)
		require.NoError(t, err)
		disktest.Same(t, truth, img)
	}
}

func TestPumpStopsAtOnce(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	target, err := qcow2.Create(&disktest.Memory{}, disk.Spec{VirtualBytes: 64 << 20})
	require.NoError(t, err)
	err = disk.Pump(ctx, target, disk.ImageFeed(disktest.Plain(disktest.Pattern(64<<20, 1)), 0, target.BlockBytes()),
		disk.Options{Progress: func(int64) { cancel() }})
	require.ErrorIs(t, err, context.Canceled)
}

func TestHeaderIsChecked(t *testing.T) {
	f := &disktest.Memory{}
	img, err := qcow2.Create(f, disk.Spec{VirtualBytes: 1 << 30, ID: diskID})
	require.NoError(t, err)
	require.NoError(t, img.Put(0, disktest.Pattern(1<<20, 1), 1<<20))
	require.NoError(t, img.Finish())
	for name, c := range map[string]struct {
		at    int
		value uint32
		err   error
	}{
		"magic":             {0, 1, disk.ErrFormat},
		"version":           {4, 9, disk.ErrVariant},
		"cluster bits":      {20, 40, disk.ErrDamaged},
		"encrypted":         {32, 1, disk.ErrEncrypted},
		"L1 too short":      {36, 0, disk.ErrDamaged},
		"L1 far away":       {40, 0x7fffffff, disk.ErrDamaged},
		"unknown feature":   {76, 1 << 9, disk.ErrVariant},
		"external data":     {76, 1 << 2, disk.ErrDamaged}, // and the header does not name it
		"header length":     {100, 1 << 20, disk.ErrDamaged},
		"refcount order":    {96, 77, disk.ErrDamaged},
		"parent's name":     {8, 0xffff, disk.ErrDamaged},
		"L2 beyond the end": {1<<16 + 4, 0xfff0000, disk.ErrDamaged},
	} {
		t.Run(name, func(t *testing.T) {
			bad := &disktest.Memory{Bytes: append([]byte{}, f.Bytes...)}
			binary.BigEndian.PutUint32(bad.Bytes[c.at:], c.value)
			img, err := qcow2.Open(bad, nil)
			if err == nil {
				_, err = img.ReadAt(make([]byte, 512), 0)
			}
			require.ErrorIs(t, err, c.err)
		})
	}
}

func FuzzOpen(f *testing.F) {
	small := &disktest.Memory{}
	img, err := qcow2.CreateClusters(small, disk.Spec{VirtualBytes: 1 << 20,
		Parent: &disk.ParentRef{Path: "base", Format: "raw"}, ID: diskID}, 9)
	require.NoError(f, err)
	_, err = img.WriteAt([]byte("boot"), 510)
	require.NoError(f, err)
	require.NoError(f, img.Finish())
	f.Add(small.Bytes)
	f.Fuzz(func(t *testing.T, raw []byte) {
		img, err := qcow2.Open(&disktest.Memory{Bytes: raw}, nil)
		if err == nil {
			disktest.Exercise(img)
		}
		if w, err := qcow2.OpenWrite(&disktest.Memory{Bytes: append([]byte{}, raw...)},
			disktest.Plain(nil)); err == nil &&
			w.Info().VirtualBytes > 0 && len(raw) < 1<<20 {
			w.WriteAt([]byte{1}, 0)
			w.Finish()
		}
		if _, err := qcow2.Check(&disktest.Memory{Bytes: raw}, nil); err == nil {
			qcow2.Recount(&disktest.Memory{Bytes: append([]byte{}, raw...)}, nil)
		}
	})
}
