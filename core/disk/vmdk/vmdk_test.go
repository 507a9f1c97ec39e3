package vmdk_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/disk/vmdk"
)

// TestThereAndBack writes streams of odd sizes and reads them in any order, as
// a stream, and from slow readers.
func TestThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.IntRange(1, 5000).Draw(t, "sectors") * 512
		truth := disktest.Pattern(size, rapid.Uint32().Draw(t, "seed"))
		packed := write(t, truth)
		img, err := vmdk.Open(&disktest.Memory{Bytes: packed}, nil)
		require.NoError(t, err)
		require.Equal(t, "stream", img.Info().Variant)
		require.Equal(t, "0badcafe", img.Info().ID)
		disktest.Same(t, truth, img)

		feed, err := vmdk.NewStreamFeed(iotest.HalfReader(bytes.NewReader(packed)), nil)
		require.NoError(t, err)
		disktest.Same(t, truth, intoQCOW2(t, feed, int64(size)))
	})
}

func write(t require.TestingT, truth []byte) []byte {
	var out bytes.Buffer
	target, err := vmdk.CreateStream(&out, disk.Spec{VirtualBytes: int64(len(truth)), ID: "0badcafe"}, nil)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(ctx, target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
	require.Equal(t, int64(out.Len()), target.Length())
	return out.Bytes()
}

func intoQCOW2(t require.TestingT, feed disk.Feed, size int64) disk.Image {
	f := &disktest.Memory{}
	target, err := qcow2.Create(f, disk.Spec{VirtualBytes: size})
	require.NoError(t, err)
	require.NoError(t, disk.Pump(ctx, target, feed, disk.Options{}))
	require.NoError(t, target.Finish())
	img, err := qcow2.Open(f, nil)
	require.NoError(t, err)
	return img
}

// TestResume: a stream that is taken up again at any save is the same to the
// byte, and so is one that is read on from any mark.
func TestResume(t *testing.T) {
	truth := disktest.Pattern(40<<20, 9) // more than one grain table
	whole := write(t, truth)
	src := disktest.Plain(truth)
	for stop := int64(4 << 20); stop < 40<<20; stop += 9 << 20 {
		var out bytes.Buffer
		target, err := vmdk.CreateStream(&out, disk.Spec{VirtualBytes: int64(len(truth)), ID: "0badcafe"}, nil)
		require.NoError(t, err)
		var at int64
		var state []byte
		err = disk.Pump(ctx, target, disk.ImageFeed(src, 0, target.BlockBytes()),
			disk.Options{SaveEvery: 1 << 20, Saved: func(off int64, s []byte, _ any) error {
				at, state = off, s
				if off >= stop {
					return io.ErrClosedPipe
				}
				return nil
			}})
		require.ErrorIs(t, err, io.ErrClosedPipe)
		length, err := vmdk.StreamLength(state)
		require.NoError(t, err)
		out.Truncate(int(length))
		again, err := vmdk.ResumeStream(&out, int64(len(truth)), state, nil)
		require.NoError(t, err)
		require.NoError(t, disk.Pump(ctx, again, disk.ImageFeed(src, at, again.BlockBytes()), disk.Options{}))
		require.NoError(t, again.Finish())
		require.True(t, bytes.Equal(whole, out.Bytes()), "stopped at %d", stop)
	}

	var marks []int64
	feed, err := vmdk.NewStreamFeed(bytes.NewReader(whole),
		func(at int64) any { marks = append(marks, at); return nil })
	require.NoError(t, err)
	var pieces []int64
	for {
		p, err := feed.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		pieces = append(pieces, p.Offset)
	}
	for n := 0; n < len(marks)-1; n += 97 {
		on := vmdk.ResumeStreamFeed(bytes.NewReader(whole[marks[n]:]), marks[n], int64(len(truth)), feed.GrainBytes(),
			nil)
		p, err := on.Next()
		require.NoError(t, err)
		require.Equal(t, pieces[n+1], p.Offset)
	}
}

func TestDamage(t *testing.T) {
	good := write(t, disktest.Pattern(2<<20, 3))
	le := binary.LittleEndian
	for name, spoil := range map[string]func(p []byte) []byte{
		"cut short":              func(p []byte) []byte { return p[:len(p)/2] },
		"cut in the footer":      func(p []byte) []byte { return p[:len(p)-700] },
		"a grain's bytes":        func(p []byte) []byte { p[128*512+20] ^= 0xff; return p },
		"a grain's place":        func(p []byte) []byte { le.PutUint64(p[128*512:], 1<<40); return p },
		"a grain's size":         func(p []byte) []byte { le.PutUint32(p[128*512+8:], 1<<30); return p },
		"capacity":               func(p []byte) []byte { le.PutUint64(p[12:], 1<<60); return p },
		"grain of no size":       func(p []byte) []byte { le.PutUint64(p[20:], 0); return p },
		"version":                func(p []byte) []byte { le.PutUint32(p[4:], 77); return p },
		"line ends were changed": func(p []byte) []byte { p[73] = '\r'; return p },
	} {
		t.Run(name, func(t *testing.T) {
			bad := spoil(append([]byte{}, good...))
			img, err := vmdk.Open(&disktest.Memory{Bytes: bad}, nil)
			if err == nil {
				_, err = img.ReadAt(make([]byte, img.Info().VirtualBytes), 0)
			}
			require.Error(t, err)
			feed, err := vmdk.NewStreamFeed(bytes.NewReader(bad), nil)
			for err == nil {
				var p disk.Piece
				if p, err = feed.Next(); err == nil {
					err = p.Load(make([]byte, p.Length))
				}
			}
			if name != "cut in the footer" || err != io.EOF {
				require.NotEqual(t, io.EOF, err)
			}
		})
	}
}

func FuzzOpen(f *testing.F) {
	f.Add(write(f, disktest.Pattern(300<<10, 1)))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if img, err := vmdk.Open(&disktest.Memory{Bytes: raw}, nil); err == nil {
			disktest.Exercise(img)
		}
		feed, err := vmdk.NewStreamFeed(bytes.NewReader(raw), nil)
		for err == nil {
			var p disk.Piece
			if p, err = feed.Next(); err == nil {
				p.Load(make([]byte, p.Length))
			}
		}
	})
}
