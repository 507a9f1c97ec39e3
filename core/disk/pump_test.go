package disk_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
)

// sink is a target that notes what it is given.
type sink struct {
	unit   int
	bytes  []byte
	puts   []int64
	syncs  int
	packed atomic.Int64
	fail   error
}

func (s *sink) BlockBytes() int { return s.unit }
func (s *sink) Pack(plain, buf []byte) ([]byte, error) {
	s.packed.Add(1)
	return append(buf[:0], plain...), nil
}
func (s *sink) Put(off int64, p []byte, plain int) error {
	if len(s.puts) > 0 && off <= s.puts[len(s.puts)-1] {
		return errors.New("out of order")
	}
	if plain != len(p) {
		return fmt.Errorf("%d bytes said, %d given", plain, len(p))
	}
	s.puts = append(s.puts, off)
	copy(s.bytes[off:], p)
	return s.fail
}
func (s *sink) Sync() ([]byte, error) { s.syncs++; return []byte("state"), nil }
func (s *sink) Finish() error         { return nil }

// holes is an image with data in some of its units only.
type holes struct {
	disk.Image
	data []disk.Range
	size int64
}

func (h *holes) Map(off int64) (disk.Range, error) {
	for _, d := range h.data {
		switch {
		case off < d.Offset:
			return disk.Range{Offset: off, Length: d.Offset - off, Kind: disk.Zero}, nil
		case off < d.End():
			return disk.Range{Offset: off, Length: d.End() - off, Kind: disk.Data}, nil
		}
	}
	return disk.Range{Offset: off, Length: h.size - off, Kind: disk.Parent}, nil
}

// TestFeedCoversData: whatever the map, the pieces are whole units, of 64 KiB at least, in order,
// cover all data, and leave alone the units that hold none.
func TestFeedCoversData(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		asked := 1 << rapid.IntRange(9, 17).Draw(t, "unit bits")
		unit := max(asked, 64<<10)
		size := rapid.Int64Range(1, 4<<20).Draw(t, "size")
		truth := make([]byte, size)
		h := &holes{Image: disktest.Plain(truth), size: size}
		touched := map[int64]bool{}
		for at := rapid.Int64Range(0, size).Draw(t, "first"); at < size; {
			n := rapid.Int64Range(1, min(size-at, 300_000)).Draw(t, "run")
			h.data = append(h.data, disk.Range{Offset: at, Length: n, Kind: disk.Data})
			for b := at; b < at+n; b++ {
				truth[b] = byte(b) | 1
			}
			for u := at / int64(unit); u <= (at+n-1)/int64(unit); u++ {
				touched[u] = true
			}
			at += n + rapid.Int64Range(1, 500_000).Draw(t, "hole")
		}
		s := &sink{unit: unit, bytes: make([]byte, size)}
		require.NoError(t, disk.Pump(context.Background(), s, disk.ImageFeed(h, 0, asked), disk.Options{Workers: 3}))
		require.Equal(t, truth, s.bytes)
		for _, off := range s.puts {
			require.Zero(t, off%int64(unit))
			require.True(t, touched[off/int64(unit)])
		}
	})
}

func TestPumpTellsErrors(t *testing.T) {
	data := disktest.Plain(disktest.Pattern(8<<20, 1))
	full := errors.New("no space left on device")
	s := &sink{unit: 4096, bytes: make([]byte, 8<<20), fail: full}
	require.ErrorIs(t, disk.Pump(t.Context(), s, disk.ImageFeed(data, 0, 4096), disk.Options{}), full)
	require.Len(t, s.puts, 1, "it stops at once")

	torn := errors.New("input/output error")
	err := disk.Pump(t.Context(), &sink{unit: 4096, bytes: make([]byte, 8<<20)}, &feed{n: 5, load: torn},
		disk.Options{})
	require.ErrorIs(t, err, torn)
	err = disk.Pump(t.Context(), &sink{unit: 4096, bytes: make([]byte, 8<<20)}, &feed{n: 5, next: torn}, disk.Options{})
	require.ErrorIs(t, err, torn)

	// An image that is shorter than it says.
	short := &holes{Image: disktest.Plain(make([]byte, 1<<20)), size: 2 << 20,
		data: []disk.Range{{Offset: 0, Length: 2 << 20}}}
	lying := struct{ *holes }{short}
	err = disk.Pump(t.Context(), &sink{unit: 4096, bytes: make([]byte, 2<<20)}, disk.ImageFeed(sized{lying}, 0, 4096),
		disk.Options{})
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

type sized struct{ disk.Image }

func (s sized) Info() disk.Info { return disk.Info{VirtualBytes: 2 << 20} }

type feed struct {
	n          int
	at         int64
	next, load error
}

func (f *feed) Next() (disk.Piece, error) {
	if f.n == 0 {
		if f.next != nil {
			return disk.Piece{}, f.next
		}
		return disk.Piece{}, io.EOF
	}
	f.n--
	f.at += 4096
	last := f.n == 0
	return disk.Piece{Offset: f.at, Length: 4096, Mark: f.at, Load: func([]byte) error {
		if last {
			return f.load
		}
		return nil
	}}, nil
}

// TestPumpSaves: everything below the offset told is in the target, and the
// mark is that of the last piece put.
func TestPumpSaves(t *testing.T) {
	s := &sink{unit: 4096, bytes: make([]byte, 1<<20)}
	var saved []int64
	err := disk.Pump(t.Context(), s, &feed{n: 100}, disk.Options{SaveEvery: 10 * 4096,
		Saved: func(off int64, state []byte, mark any) error {
			require.Equal(t, off-4096, mark)
			require.Equal(t, "state", string(state))
			require.Equal(t, off-4096, s.puts[len(s.puts)-1])
			saved = append(saved, off)
			return nil
		}})
	require.NoError(t, err)
	require.Len(t, saved, 10)
	require.Equal(t, 10, s.syncs)
}

// TestPumpSlowFeed: a feed that hangs is let go when the context ends.
func TestPumpSlowFeed(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	reader, writer := io.Pipe()
	context.AfterFunc(ctx, func() { writer.CloseWithError(io.ErrClosedPipe) })
	err := disk.Pump(ctx, &sink{unit: 1, bytes: make([]byte, 10)}, hanging{reader}, disk.Options{})
	require.ErrorIs(t, err, context.DeadlineExceeded)
}

type hanging struct{ r io.Reader }

func (h hanging) Next() (disk.Piece, error) {
	_, err := h.r.Read(make([]byte, 1))
	return disk.Piece{}, err
}

func TestSum(t *testing.T) {
	truth := disktest.Pattern(3<<20+17, 7)
	h := &holes{Image: disktest.Plain(truth), size: int64(len(truth))}
	clear(truth[:1<<20])
	h.data = []disk.Range{{Offset: 1 << 20, Length: int64(len(truth)) - 1<<20}}
	sum := sha256.New()
	var seen int64
	require.NoError(t, disk.Sum(t.Context(), h, sum, func(n int64) { seen += n }))
	want := sha256.Sum256(truth)
	require.Equal(t, want[:], sum.Sum(nil))
	require.Equal(t, int64(len(truth)), seen)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, disk.Sum(ctx, h, sum, nil), context.Canceled)
}

func TestIsZero(t *testing.T) {
	p := make([]byte, 200_000)
	require.True(t, disk.IsZero(p))
	require.True(t, disk.IsZero(nil))
	for _, at := range []int{0, 1, 65535, 65536, 199_999} {
		p[at] = 1
		require.False(t, disk.IsZero(p), at)
		p[at] = 0
	}
}

func TestSection(t *testing.T) {
	m := &disktest.Memory{Bytes: []byte("before the disk after")}
	s := disk.Section(m, 7, 8)
	require.Equal(t, int64(8), s.Size())
	p := make([]byte, 20)
	n, err := s.ReadAt(p, 0)
	require.Equal(t, io.EOF, err)
	require.Equal(t, "the disk", string(p[:n]))
}

func TestFileKnowsItsHoles(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "sparse"))
	require.NoError(t, err)
	defer f.Close()
	o, err := disk.OpenFile(f)
	require.NoError(t, err)
	require.NoError(t, o.Truncate(64<<20))
	_, _, err = o.NextData(0)
	require.Equal(t, io.EOF, err)
	_, err = o.WriteAt([]byte("data"), 32<<20)
	require.NoError(t, err)
	start, end, err := o.NextData(0)
	require.NoError(t, err)
	require.LessOrEqual(t, start, int64(32<<20))
	require.Greater(t, end, int64(32<<20))
	require.Equal(t, int64(64<<20), o.Size())
	read, err := os.Open(f.Name())
	require.NoError(t, err)
	defer read.Close()
	ro, err := disk.OpenFile(read)
	require.NoError(t, err)
	require.NoError(t, o.Truncate(1))
	require.Equal(t, int64(64<<20), ro.Size(), "a file opened for reading keeps the size it had")
}
