package vhdx_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/vhdx"
)

const (
	diskID  = "70126393-2a98-4856-90ac-efe4bba599b2"
	otherID = "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"
	mib     = 1 << 20
	batAt   = 3 * mib // where our writer puts it
)

var le = binary.LittleEndian

func write(t testing.TB, s disk.Spec, truth []byte) *disktest.Memory {
	t.Helper()
	f := &disktest.Memory{}
	s.VirtualBytes, s.ID = int64(len(truth)), diskID
	target, err := vhdx.Create(f, s)
	require.NoError(t, err)
	if s.Parent == nil {
		require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
			disk.Options{}))
	}
	require.NoError(t, target.Finish())
	return f
}

// seal puts the CRC-32C of the specification at byte 4.
func seal(raw []byte) {
	le.PutUint32(raw[4:], 0)
	le.PutUint32(raw[4:], crc32.Checksum(raw, crc32.MakeTable(crc32.Castagnoli)))
}

// guid in the order of bytes that the format has.
func guid(id string) []byte {
	u := uuid.MustParse(id)
	slice := u[:]
	for _, r := range [][2]int{{0, 4}, {4, 6}, {6, 8}} {
		for a, b := r[0], r[1]-1; a < b; a, b = a+1, b-1 {
			slice[a], slice[b] = slice[b], slice[a]
		}
	}
	return slice
}

// change is what one log entry wants written: a sector of 4 KiB, or zeros.
type change struct {
	at    int64
	data  []byte // nil: zeros
	zeros int64
}

const logID = "5f7f62f0-32a4-4d8e-9d3f-6a0d93c2ba44"

// entry builds a log entry by section 2.3.1.
func entry(sequence uint64, tail uint32, fileBytes int64, changes ...change) []byte {
	head := make([]byte, 4096)
	var sectors []byte
	copy(head, "loge")
	le.PutUint32(head[12:], tail)
	le.PutUint64(head[16:], sequence)
	le.PutUint32(head[24:], uint32(len(changes)))
	copy(head[32:], guid(logID))
	le.PutUint64(head[48:], uint64(fileBytes))
	le.PutUint64(head[56:], uint64(fileBytes))
	for n, c := range changes {
		d := head[64+32*n:]
		le.PutUint64(d[16:], uint64(c.at))
		le.PutUint64(d[24:], sequence)
		if c.data == nil {
			copy(d, "zero")
			le.PutUint64(d[8:], uint64(c.zeros))
			continue
		}
		copy(d, "desc")
		copy(d[4:8], c.data[4092:]) // trailing bytes
		copy(d[8:16], c.data[:8])   // leading bytes
		s := bytes.Clone(c.data)
		copy(s, "data")
		le.PutUint32(s[4:], uint32(sequence>>32))
		le.PutUint32(s[4092:], uint32(sequence))
		sectors = append(sectors, s...)
	}
	raw := append(head, sectors...)
	le.PutUint32(raw[8:], uint32(len(raw)))
	seal(raw)
	return raw
}

// withLog puts entries into the log, from byte from of it on, wrapping around,
// and makes the newer header name it.
func withLog(p []byte, from int, entries ...[]byte) []byte {
	p = bytes.Clone(p)
	for _, b := range bytes.Join(entries, nil) {
		p[mib+from%mib] = b
		from++
	}
	h := p[64<<10 : 64<<10+4096]
	copy(h[48:], guid(logID))
	seal(h)
	return p
}

// TestLog: a log that was not replayed is read as if it had been, and a repair
// puts its contents in place; what is torn off at its end does not count.
func TestLog(t *testing.T) {
	truth := disktest.Pattern(6*mib, 1)
	good := write(t, disk.Spec{}, truth)
	size := good.Size()
	sector := func(seed uint32) []byte { return disktest.Pattern(4096, seed) }
	blockAt := func(n int) int64 { return int64(le.Uint64(good.Bytes[batAt+8*n:]) >> 20 << 20) }
	put := func(guest int64, data []byte) change {
		return change{at: blockAt(int(guest/(2*mib))) + guest%(2*mib), data: data}
	}

	first := entry(7, 0, size, put(4096, sector(2)), change{at: blockAt(1), zeros: 8192})
	second := entry(8, 0, size, put(2*mib+4096, sector(3)), put(8192, sector(4)))
	want := bytes.Clone(truth)
	copy(want[4096:], sector(2))
	clear(want[2*mib : 2*mib+8192])
	both := bytes.Clone(want)
	copy(both[2*mib+4096:], sector(3))
	copy(both[8192:], sector(4))
	torn := bytes.Clone(second)
	torn[5000] ^= 1
	stale := entry(3, 0, size, put(0, sector(9)))
	late := func(e []byte, tail uint32) []byte { // the same entry with another tail
		e = bytes.Clone(e)
		le.PutUint32(e[12:], tail)
		seal(e)
		return e
	}
	nearEnd := mib - 8192
	for name, c := range map[string]struct {
		image []byte
		want  []byte
	}{
		"one entry":            {withLog(good.Bytes, 0, first), want},
		"two":                  {withLog(good.Bytes, 0, first, second), both},
		"the second is torn":   {withLog(good.Bytes, 0, first, torn), want},
		"an older one follows": {withLog(good.Bytes, 0, first, stale), want},
		"around the log's end": {withLog(good.Bytes, nearEnd, late(first, uint32(nearEnd)),
			late(second, uint32(nearEnd))),
			both},
		"the tail is past some": {withLog(good.Bytes, 0, entry(6, 0, size, put(0, sector(9))),
			late(first, uint32(len(entry(6, 0, size, put(0, sector(9))))))), want},
	} {
		t.Run(name, func(t *testing.T) {
			f := &disktest.Memory{Bytes: c.image}
			before := bytes.Clone(c.image)
			img, err := vhdx.Open(f)
			require.NoError(t, err)
			require.False(t, img.Info().Clean)
			disktest.Same(t, c.want, img)
			require.True(t, bytes.Equal(before, f.Bytes), "reading changes nothing")

			problems, err := vhdx.Check(f)
			require.NoError(t, err)
			require.Len(t, problems, 1)
			require.NoError(t, problems[0].Fix(f))
			img, err = vhdx.Open(f)
			require.NoError(t, err)
			require.True(t, img.Info().Clean)
			disktest.Same(t, c.want, img)
			problems, err = vhdx.Check(f)
			require.NoError(t, err)
			require.Empty(t, problems)
		})
	}
	t.Run("nothing whole in it", func(t *testing.T) {
		_, err := vhdx.Open(&disktest.Memory{Bytes: withLog(good.Bytes, 0, torn)})
		require.ErrorIs(t, err, disk.ErrDamaged)
	})
	t.Run("the file was cut short", func(t *testing.T) {
		_, err := vhdx.Open(&disktest.Memory{Bytes: withLog(good.Bytes, 0, entry(7, 0, size+mib, put(0, sector(2))))})
		require.ErrorContains(t, err, "cut short")
	})
}

// TestSectorsOfALayer: a vector by the layout of the specification: a layer
// with one block that is there in part, as its sector bitmap block tells.
func TestSectorsOfALayer(t *testing.T) {
	for _, sectorBytes := range []int{512, 4096} {
		below := disktest.Pattern(6*mib, 3)
		base := write(t, disk.Spec{SectorBytes: sectorBytes}, below)
		bottom, err := vhdx.Open(base)
		require.NoError(t, err)
		layer := write(t, disk.Spec{SectorBytes: sectorBytes, Parent: &disk.ParentRef{Path: "base.vhdx",
			ID: bottom.Info().Linkage}}, below)
		const chunk = 1 << 23 / (2 * mib) // times the sector size: payload blocks of a bitmap block
		at := int64(len(layer.Bytes))
		le.PutUint64(layer.Bytes[batAt+8:], uint64(at)|7)                         // block 1: partially present
		le.PutUint64(layer.Bytes[batAt+8*chunk*sectorBytes:], uint64(at+2*mib)|6) // the chunk's bitmap
		block, bitmap := make([]byte, 2*mib), make([]byte, mib)
		truth := bytes.Clone(below)
		for _, sector := range []int{1, 9, 2*mib/sectorBytes - 1} {
			p := disktest.Pattern(sectorBytes, uint32(sector))
			copy(block[sector*sectorBytes:], p)
			copy(truth[2*mib+sector*sectorBytes:], p)
			bit := 2*mib/sectorBytes + sector // of the chunk: behind those of block 0
			bitmap[bit/8] |= 1 << (bit % 8)
		}
		layer.Bytes = append(append(layer.Bytes, block...), bitmap...)
		top, err := vhdx.Open(layer)
		require.NoError(t, err)
		require.Equal(t, sectorBytes, top.Info().SectorBytes)
		require.Equal(t, &disk.ParentRef{Path: "base.vhdx", Format: "vhdx", ID: bottom.Info().Linkage},
			top.Info().Parent)
		disktest.Same(t, truth, disk.Chain(top, bottom))
		problems, err := vhdx.Check(layer)
		require.NoError(t, err)
		require.Empty(t, problems)
	}
}

func TestCheckAndRepair(t *testing.T) {
	truth := disktest.Pattern(5*mib, 4)
	good := write(t, disk.Spec{}, truth)
	for name, c := range map[string]struct {
		at       int
		repaired bool
	}{
		"the newer header":         {64<<10 + 100, true},
		"the older header":         {128<<10 + 100, true},
		"the first region table":   {192<<10 + 100, true},
		"the second region table":  {256<<10 + 100, true},
		"a block outside the file": {batAt + 6, false},
		"a block in no state":      {batAt, false},
	} {
		t.Run(name, func(t *testing.T) {
			f := &disktest.Memory{Bytes: bytes.Clone(good.Bytes)}
			f.Bytes[c.at] ^= 1
			problems, err := vhdx.Check(f)
			require.NoError(t, err)
			require.Len(t, problems, 1)
			if !c.repaired {
				require.Nil(t, problems[0].Fix)
				return
			}
			require.NoError(t, problems[0].Fix(f))
			problems, err = vhdx.Check(f)
			require.NoError(t, err)
			require.Empty(t, problems)
			img, err := vhdx.Open(f)
			require.NoError(t, err)
			disktest.Same(t, truth, img)
		})
	}
	t.Run("two blocks at one place", func(t *testing.T) {
		f := &disktest.Memory{Bytes: bytes.Clone(good.Bytes)}
		copy(f.Bytes[batAt:batAt+8], f.Bytes[batAt+8:])
		problems, err := vhdx.Check(f)
		require.NoError(t, err)
		require.Len(t, problems, 1)
		require.Contains(t, problems[0].What, "share")
	})
}

func TestRefused(t *testing.T) {
	good := write(t, disk.Spec{}, disktest.Pattern(mib, 4))
	regions := func(p []byte) { seal(p[192<<10 : 256<<10]); copy(p[256<<10:], p[192<<10:256<<10]) }
	for name, c := range map[string]struct {
		spoil func(p []byte)
		err   error
	}{
		"signature":       {func(p []byte) { p[0] = 'x' }, disk.ErrFormat},
		"both headers":    {func(p []byte) { p[64<<10+70] ^= 1; p[128<<10+70] ^= 1 }, disk.ErrDamaged},
		"both tables":     {func(p []byte) { p[192<<10+70] ^= 1; p[256<<10+70] ^= 1 }, disk.ErrDamaged},
		"version":         {func(p []byte) { p[64<<10+66] = 2; seal(p[64<<10 : 64<<10+4096]) }, disk.ErrVariant},
		"unknown region":  {func(p []byte) { p[192<<10+16] ^= 1; regions(p) }, disk.ErrVariant},
		"region far away": {func(p []byte) { le.PutUint64(p[192<<10+32:], 1<<50); regions(p) }, disk.ErrDamaged},
		"unknown item":    {func(p []byte) { p[2*mib+32] ^= 1 }, disk.ErrVariant},
		"no metadata":     {func(p []byte) { p[2*mib] ^= 1 }, disk.ErrDamaged},
		"block size":      {func(p []byte) { le.PutUint32(p[2*mib+64<<10:], 3*mib) }, disk.ErrDamaged},
		"disk size":       {func(p []byte) { le.PutUint64(p[2*mib+64<<10+8:], 1<<60) }, disk.ErrDamaged},
		"sector size":     {func(p []byte) { le.PutUint32(p[2*mib+64<<10+32:], 1000) }, disk.ErrDamaged},
	} {
		t.Run(name, func(t *testing.T) {
			p := bytes.Clone(good.Bytes)
			c.spoil(p)
			_, err := vhdx.Open(&disktest.Memory{Bytes: p})
			require.ErrorIs(t, err, c.err)
		})
	}
	_, err := vhdx.Create(&disktest.Memory{}, disk.Spec{ID: diskID, VirtualBytes: 65 << 40})
	require.ErrorIs(t, err, disk.ErrTooLarge)
	_, err = vhdx.Create(&disktest.Memory{}, disk.Spec{ID: diskID, Parent: &disk.ParentRef{Path: "base.img"}})
	require.ErrorContains(t, err, "make the parent a VHDX")
}

func FuzzOpen(f *testing.F) {
	small := write(f, disk.Spec{Parent: &disk.ParentRef{Path: "base.vhdx", ID: otherID}}, make([]byte, mib))
	f.Add(small.Bytes[:4*mib])
	f.Add(withLog(small.Bytes, 0, entry(7, 0, small.Size(), change{at: batAt, data: make([]byte, 4096)},
		change{at: 0, zeros: 4096})))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		if img, err := vhdx.Open(&disktest.Memory{Bytes: raw}); err == nil {
			disktest.Exercise(img)
			if problems, err := vhdx.Check(&disktest.Memory{Bytes: raw}); err == nil {
				for _, p := range problems {
					if p.Fix != nil {
						p.Fix(&disktest.Memory{Bytes: bytes.Clone(raw)})
					}
				}
			}
		}
	})
}

// FuzzLog changes the log alone, its checksums right.
func FuzzLog(f *testing.F) {
	base := write(f, disk.Spec{}, make([]byte, mib))
	f.Add(entry(7, 0, base.Size(), change{at: batAt, data: make([]byte, 4096)}, change{at: 0, zeros: 4096}))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		if len(raw) < 4096 || len(raw) > mib {
			return
		}
		raw = bytes.Clone(raw[:len(raw)/4096*4096])
		copy(raw, "loge")
		le.PutUint32(raw[8:], uint32(len(raw)))
		copy(raw[32:], guid(logID))
		seal(raw)
		if img, err := vhdx.Open(&disktest.Memory{Bytes: withLog(base.Bytes, 0, raw)}); err == nil {
			disktest.Exercise(img)
		}
	})
}
