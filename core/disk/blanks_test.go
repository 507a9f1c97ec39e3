package disk_test

import (
	"io"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
)

// TestWithout: blanks read as zeros and are told as holes, all else reads as it is, wherever reading begins.
func TestWithout(t *testing.T) {
	const unit = disk.CompareBytes
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.IntRange(1, 8*unit).Draw(t, "size")
		truth := disktest.Pattern(size, 3)
		img := disktest.Plain(append([]byte{}, truth...))
		blanks := disk.NewBlanks(int64(size))
		left := make([]bool, size)
		for range rapid.IntRange(0, 6).Draw(t, "runs") {
			from := rapid.IntRange(0, size).Draw(t, "from")
			to := rapid.IntRange(from, size+unit).Draw(t, "to")
			blanks.Add(int64(from), int64(to))
			for n := (from + unit - 1) / unit * unit; n+unit <= min(to, size); n += unit {
				for i := range unit {
					left[n+i] = true
				}
			}
		}
		back := rapid.IntRange(0, size).Draw(t, "taken back from")
		until := rapid.IntRange(back, size).Draw(t, "to")
		blanks.Keep(int64(back), int64(until))
		if until > back {
			for n := back / unit * unit; n < min(size, (until+unit-1)/unit*unit); n++ {
				left[n] = false
			}
		}
		saved := 0
		for n, out := range left {
			if out {
				truth[n] = 0
				saved++
			}
		}
		w := disk.Without(img, blanks)
		from := rapid.IntRange(0, size-1).Draw(t, "read from")
		got := make([]byte, rapid.IntRange(1, size-from).Draw(t, "bytes"))
		n, err := w.ReadAt(got, int64(from))
		if err != io.EOF {
			require.NoError(t, err)
		}
		require.Equal(t, len(got), n)
		require.Equal(t, truth[from:from+n], got)
		for off := int64(0); off < int64(size); {
			r, err := w.Map(off)
			require.NoError(t, err)
			require.Equal(t, off, r.Offset)
			require.Positive(t, r.Length)
			end := min(r.End(), int64(size))
			if r.Kind == disk.Data {
				require.False(t, slices.Contains(left[off:end], true), "%v", r)
			} else {
				require.True(t, disk.IsZero(truth[off:end]), "%v", r)
			}
			off = r.End()
		}
		in, err := blanks.In(img)
		require.NoError(t, err)
		require.LessOrEqual(t, in, int64(saved))
	})
}
