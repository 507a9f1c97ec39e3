package formats_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
)

// layered is a layer of which a table tells what belongs to it.
type layered struct {
	disk.Image
	own []disk.Range
}

func (l layered) Map(off int64) (disk.Range, error) {
	for _, r := range l.own {
		if off >= r.Offset && off < r.End() {
			return disk.Range{Offset: off, Length: r.End() - off, Kind: r.Kind}, nil
		}
		if off < r.Offset {
			return disk.Range{Offset: off, Length: r.Offset - off, Kind: disk.Parent}, nil
		}
	}
	return disk.Range{Offset: off, Length: l.Info().VirtualBytes - off, Kind: disk.Parent}, nil
}

// TestPour: what a layer holds, zeros too, is in an image that stands alone afterwards, and the rest of it is as it
// was; done twice, it is the same.
func TestPour(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "pour")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		const size = 2<<20 + 1536
		want := disktest.Pattern(size, 7)
		clear(want[1<<18 : 1<<19])
		base := filepath.Join(dir, "base.raw")
		require.NoError(rt, os.WriteFile(base, want, 0o600))
		name := rapid.SampledFrom(formats.Commits).Draw(rt, "format")
		format, err := formats.ByName(name)
		require.NoError(rt, err)
		path := filepath.Join(dir, "copy")
		_, err = carry.Copy(t.Context(), carry.Order{Source: base, Options: formats.Options{Format: "raw"},
			Target: path, Format: format, ID: "8b1f3b0a-3d65-4d8e-9a0e-6a1f0c5d7e01"})
		require.NoError(rt, err)

		truth, from := disktest.Pattern(size, 9), int64(0)
		layer := layered{Image: disktest.Plain(truth)}
		for from < size {
			r := disk.Range{Offset: from + rapid.Int64Range(0, 1<<18).Draw(rt, "apart"),
				Length: rapid.Int64Range(1, 3<<19).Draw(rt, "length"),
				Kind:   rapid.SampledFrom([]disk.Kind{disk.Data, disk.Zero}).Draw(rt, "kind")}
			if r.End() > size {
				break
			}
			if r.Kind == disk.Zero {
				clear(want[r.Offset:r.End()])
			} else {
				copy(want[r.Offset:r.End()], truth[r.Offset:])
			}
			layer.own, from = append(layer.own, r), r.End()
		}
		for range 2 {
			bytes, own := int64(0), int64(0)
			for _, r := range layer.own {
				own += r.Length
			}
			require.NoError(rt, formats.Pour(t.Context(), layer, path, formats.Options{Format: name},
				func(n int64) { bytes += n }))
			require.Equal(rt, own, bytes)
			require.Equal(rt, want, guestBytes(rt, path, name))
		}
	})
}

// unreadable is a layer that can't be read at one place.
type unreadable struct{ layered }

var errUnreadable = errors.New("it can't be read")

func (u unreadable) ReadAt(p []byte, off int64) (int, error) {
	if off >= 2<<20 {
		return 0, errUnreadable
	}
	return u.layered.ReadAt(p, off)
}

// TestPourFails: what can't be read, is of another size, is stopped, or is changed once it is written, is an error.
func TestPourFails(t *testing.T) {
	const size = 4 << 20
	path := filepath.Join(t.TempDir(), "d.raw")
	require.NoError(t, os.WriteFile(path, make([]byte, size), 0o600))
	all := layered{disktest.Plain(disktest.Pattern(size, 3)), []disk.Range{{Length: size, Kind: disk.Data}}}
	pour := func(ctx context.Context, from disk.Image, progress func(int64)) error {
		return formats.Pour(ctx, from, path, formats.Options{Format: "raw"}, progress)
	}
	nothing := func(int64) {}
	require.NoError(t, pour(t.Context(), all, nothing))
	require.ErrorIs(t, pour(t.Context(), unreadable{all}, nothing), errUnreadable)
	require.ErrorContains(t, pour(t.Context(), layered{disktest.Plain(make([]byte, 512)), nil}, nothing),
		"holds 4194304 bytes for the guest")
	ended, stop := context.WithCancel(t.Context())
	stop()
	require.ErrorIs(t, pour(ended, all, nothing), context.Canceled)
	require.ErrorContains(t, formats.Pour(t.Context(), all, path, formats.Options{Format: "vhdx"}, nothing),
		"it is vhdx, into which nothing can be committed")

	meddled := false
	err := pour(t.Context(), all, func(int64) {
		if f, err := os.OpenFile(path, os.O_WRONLY, 0); err == nil {
			_, err = f.WriteAt([]byte("meddled with"), 0)
			meddled = err == nil
			f.Close()
		}
	})
	require.True(t, meddled)
	require.ErrorIs(t, err, disk.ErrReadBack)
}
