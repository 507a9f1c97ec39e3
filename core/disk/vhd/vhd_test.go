package vhd_test

import (
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/vhd"
)

const (
	diskID  = "70126393-2a98-4856-90ac-efe4bba599b2"
	otherID = "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"
)

var made = time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)

func write(t testing.TB, s disk.Spec, truth []byte) *disktest.Memory {
	t.Helper()
	f := &disktest.Memory{}
	s.VirtualBytes = int64(len(truth))
	target, err := vhd.Create(f, s)
	require.NoError(t, err)
	if s.Parent == nil {
		require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
			disk.Options{}))
	}
	require.NoError(t, target.Finish())
	return f
}

// sum is the checksum of the specification, written down a second time.
func sum(raw []byte, field int) {
	binary.BigEndian.PutUint32(raw[field:], 0)
	var s uint32
	for _, b := range raw {
		s += uint32(b)
	}
	binary.BigEndian.PutUint32(raw[field:], ^s)
}

// TestSectorsOfALayer: a vector by the layout of the specification: a layer
// with one block, of which three sectors are its own.
func TestSectorsOfALayer(t *testing.T) {
	below := disktest.Pattern(4<<20, 3)
	base := write(t, disk.Spec{ID: diskID}, below)
	layer := write(t, disk.Spec{ID: otherID, Parent: &disk.ParentRef{Path: "base.vhd", ID: diskID, ModifiedAt: made}},
		below)
	// Block 1 behind what is there; the footer moves behind it.
	footer := append([]byte{}, layer.Bytes[len(layer.Bytes)-512:]...)
	layer.Bytes = layer.Bytes[:len(layer.Bytes)-512]
	at := len(layer.Bytes)
	binary.BigEndian.PutUint32(layer.Bytes[1536+4:], uint32(at/512))
	block := make([]byte, 512+2<<20)
	block[0], block[511] = 0b0110_0000, 1 // sectors 1, 2 and 4095: the first is the highest bit
	truth := append([]byte{}, below...)
	for _, sector := range []int{1, 2, 4095} {
		p := disktest.Pattern(512, uint32(sector))
		copy(block[512+sector*512:], p)
		copy(truth[2<<20+sector*512:], p)
	}
	layer.Bytes = append(append(layer.Bytes, block...), footer...)

	top, err := vhd.Open(layer)
	require.NoError(t, err)
	bottom, err := vhd.Open(base)
	require.NoError(t, err)
	require.Equal(t, &disk.ParentRef{Path: "base.vhd", Format: "vhd", ID: diskID, ModifiedAt: made}, top.Info().Parent)
	disktest.Same(t, truth, disk.Chain(top, bottom))
	problems, err := vhd.Check(layer)
	require.NoError(t, err)
	require.Empty(t, problems)
}

func TestCheckAndRepair(t *testing.T) {
	truth := disktest.Pattern(5<<20, 4)
	good := write(t, disk.Spec{ID: diskID}, truth)
	for name, c := range map[string]struct {
		spoil    func(p []byte) []byte
		repaired bool
	}{
		"the footer's copy":     {func(p []byte) []byte { p[100] ^= 1; return p }, true},
		"the footer":            {func(p []byte) []byte { p[len(p)-400] ^= 1; return p }, true},
		"the footer is cut off": {func(p []byte) []byte { return p[:len(p)-512] }, true},
		"two blocks at one place": {func(p []byte) []byte {
			copy(p[1536:1540], p[1540:1544])
			return p
		}, false},
		"a block outside the file": {func(p []byte) []byte { binary.BigEndian.PutUint32(p[1536:], 1<<30); return p },
			false},
	} {
		t.Run(name, func(t *testing.T) {
			f := &disktest.Memory{Bytes: c.spoil(append([]byte{}, good.Bytes...))}
			problems, err := vhd.Check(f)
			require.NoError(t, err)
			require.NotEmpty(t, problems)
			if !c.repaired {
				require.Nil(t, problems[0].Fix)
				return
			}
			require.NoError(t, problems[0].Fix(f))
			problems, err = vhd.Check(f)
			require.NoError(t, err)
			require.Empty(t, problems)
			img, err := vhd.Open(f)
			require.NoError(t, err)
			require.True(t, img.Info().Clean)
			disktest.Same(t, truth, img)
		})
	}
}

func TestRefused(t *testing.T) {
	good := write(t, disk.Spec{ID: diskID}, disktest.Pattern(1<<20, 4))
	be := binary.BigEndian
	for name, c := range map[string]struct {
		spoil func(p []byte)
		err   error
	}{
		"no footer":         {func(p []byte) { clear(p[:8]); clear(p[len(p)-512:]) }, disk.ErrFormat},
		"version":           {func(p []byte) { be.PutUint32(p[12:], 2<<16); sum(p[:512], 64) }, disk.ErrVariant},
		"type":              {func(p []byte) { be.PutUint32(p[60:], 6); sum(p[:512], 64) }, disk.ErrVariant},
		"size":              {func(p []byte) { be.PutUint64(p[48:], 1<<60); sum(p[:512], 64) }, disk.ErrDamaged},
		"header far away":   {func(p []byte) { be.PutUint64(p[16:], 1<<60); sum(p[:512], 64) }, disk.ErrDamaged},
		"header's checksum": {func(p []byte) { p[512+100] ^= 1 }, disk.ErrDamaged},
		"block size":        {func(p []byte) { be.PutUint32(p[512+32:], 3); sum(p[512:1536], 36) }, disk.ErrDamaged},
		"table too short":   {func(p []byte) { be.PutUint32(p[512+28:], 0); sum(p[512:1536], 36) }, disk.ErrDamaged},
		"table far away": {func(p []byte) { be.PutUint64(p[512+16:], 1<<62); sum(p[512:1536], 36) },
			disk.ErrDamaged},
		"sectors of 4 KiB":    {nil, disk.ErrVariant},
		"larger than 2040 GB": {nil, disk.ErrTooLarge},
	} {
		t.Run(name, func(t *testing.T) {
			if c.spoil == nil {
				_, err := vhd.Create(&disktest.Memory{}, disk.Spec{ID: diskID,
					SectorBytes: map[error]int{disk.ErrVariant: 4096}[c.err], VirtualBytes: 1 << 41})
				if c.err == disk.ErrVariant {
					_, err = vhd.Create(&disktest.Memory{}, disk.Spec{ID: diskID, SectorBytes: 4096})
				}
				require.ErrorIs(t, err, c.err)
				return
			}
			p := append([]byte{}, good.Bytes...)
			c.spoil(p)
			if name != "no footer" {
				p = p[:len(p)-512] // so that the front counts
			}
			_, err := vhd.Open(&disktest.Memory{Bytes: p})
			require.ErrorIs(t, err, c.err)
		})
	}
}

func FuzzOpen(f *testing.F) {
	layer := write(f, disk.Spec{ID: otherID, Parent: &disk.ParentRef{Path: "base.vhd", ID: diskID}},
		make([]byte, 1<<20))
	f.Add(layer.Bytes)
	f.Add(write(f, disk.Spec{ID: diskID, Variant: "fixed"}, make([]byte, 512)).Bytes)
	f.Fuzz(func(_ *testing.T, raw []byte) {
		if img, err := vhd.Open(&disktest.Memory{Bytes: raw}); err == nil {
			disktest.Exercise(img)
			vhd.Check(&disktest.Memory{Bytes: raw})
			vhd.Reparent(&disktest.Memory{Bytes: append([]byte{}, raw...)},
				disk.ParentRef{Path: "/other.vhd", ID: diskID})
		}
	})
}
