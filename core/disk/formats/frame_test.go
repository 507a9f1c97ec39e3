package formats_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
)

// TestFrame: the file that a frame gives, from any place of it on, is what the format's target writes, to the byte;
// of formats whose files are not the data as it comes, or are two, there is none.
func TestFrame(t *testing.T) {
	noise := make([]byte, 997) // without zeros, and not of a period that blocks have
	for i := range noise {
		noise[i] = byte(i*7) | 1
	}
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		rapid.Check(t, func(t *rapid.T) {
			size := rapid.Int64Range(1, 6000).Draw(t, "sectors") * 512
			truth := make([]byte, size)
			src := layered{Image: disktest.Plain(truth)}
			for from := int64(0); from < size; {
				r := disk.Range{Offset: from + rapid.Int64Range(0, 4000).Draw(t, "apart")*512,
					Length: rapid.Int64Range(1, 4000).Draw(t, "length") * 512, Kind: disk.Data}
				if from = r.End(); from > size {
					break
				}
				for at := r.Offset; at < r.End(); at += int64(copy(truth[at:r.End()], noise)) {
				}
				src.own = append(src.own, r)
			}
			twin := newImage(format, variant, size)
			target, err := format.Create(&twin.Memory, twin.spec)
			require.NoError(t, err)
			require.NoError(t, disk.Pump(ctx, target, disk.ImageFeed(src, 0, target.BlockBytes()), disk.Options{}))
			require.NoError(t, target.Finish())

			laid := newImage(format, variant, size)
			frame, err := disk.NewFrame(src, &laid.Memory, func(f disk.File) (disk.Target, error) {
				return format.Create(f, laid.spec)
			})
			if len(src.own) > 0 && (variant == "stream" || variant == "flat") {
				require.ErrorIs(t, err, disk.ErrVariant)
				return
			}
			require.NoError(t, err)
			if variant == "stream" || variant == "flat" {
				return // nothing was put, so that it could not be known
			}
			require.Equal(t, twin.Size(), frame.Size())
			from := rapid.Int64Range(0, frame.Size()).Draw(t, "from")
			for _, from := range []int64{0, from} {
				var sent bytes.Buffer
				require.NoError(t, disk.Pump(ctx, disk.InOrder(&sent, from, nil), frame.Feed(from), disk.Options{}))
				require.True(t, bytes.Equal(twin.bytes(t)[from:], sent.Bytes()))
			}
			_, err = frame.ReadAt(make([]byte, 1), frame.Size())
			require.Error(t, err)
			lay := func(src disk.Image) []byte {
				again := newImage(format, variant, size)
				f, err := disk.NewFrame(src, &again.Memory, func(f disk.File) (disk.Target, error) {
					return format.Create(f, again.spec)
				})
				require.NoError(t, err)
				return f.Layout()
			}
			require.Equal(t, frame.Layout(), lay(src))
			if whole := disktest.Plain(truth); len(src.own) > 0 && size > 4<<20 && src.own[0].Offset > 2<<20 {
				require.NotEqual(t, frame.Layout(), lay(whole), "its holes are told as data")
			}
		})
	})
}

func (i *image) bytes(t require.TestingT) []byte {
	p := make([]byte, i.Size())
	_, err := i.ReadAt(p, 0)
	require.NoError(t, err)
	return p
}
