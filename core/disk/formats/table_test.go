package formats_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
)

const diskID = "70126393-2a98-4856-90ac-efe4bba599b2"

// image is one that lies in memory, with its second file where it has one.
type image struct {
	disktest.Memory
	second disktest.Memory
	format *formats.Format
	spec   disk.Spec
}

func newImage(f *formats.Format, variant string, size int64) *image {
	i := &image{format: f}
	i.spec = disk.Spec{VirtualBytes: size, Variant: variant, ID: diskID, Name: "disk" + f.Extension,
		Companion: func(string) (disk.File, error) { return &i.second, nil }}
	return i
}

func (i *image) open() (disk.Image, error) {
	return i.format.Open(&i.Memory, func(string) (disk.Source, error) { return &i.second, nil })
}

func (i *image) fill(t require.TestingT, truth []byte) {
	target, err := i.format.Create(&i.Memory, i.spec)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(ctx, target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
}

// each runs a test for every variant of every format.
func each(t *testing.T, f func(t *testing.T, format *formats.Format, variant string)) {
	for i := range formats.Table {
		for _, variant := range formats.Table[i].Variants {
			t.Run(formats.Table[i].Name+" "+variant, func(t *testing.T) { f(t, &formats.Table[i], variant) })
		}
	}
}

// TestThereAndBack: what was put is what is read, whatever the size; the format
// is known by its content; a check finds nothing; the id is kept and changed.
func TestThereAndBack(t *testing.T) {
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		rapid.Check(t, func(t *rapid.T) {
			size := rapid.Int64Range(1, 9000).Draw(t, "sectors") * 512
			truth := disktest.Pattern(int(size), rapid.Uint32().Draw(t, "seed"))
			i := newImage(format, variant, size)
			i.fill(t, truth)
			found, err := formats.Detect(&i.Memory)
			require.NoError(t, err)
			require.Equal(t, format.Name, found.Name)
			img, err := i.open()
			require.NoError(t, err)
			disktest.Same(t, truth, img)
			info := img.Info()
			require.True(t, info.Clean)
			require.Equal(t, 512, info.SectorBytes)
			if format.SetID == nil {
				return
			}
			require.Equal(t, variant, info.Variant)
			require.Equal(t, diskID, info.ID)
			problems, err := format.Check(&i.Memory, func(string) (disk.Source, error) { return &i.second, nil })
			require.NoError(t, err)
			require.Empty(t, problems)
			const other = "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"
			require.NoError(t, format.SetID(&i.Memory, other))
			img, err = i.open()
			require.NoError(t, err)
			require.Equal(t, other, img.Info().ID)
			disktest.Same(t, truth, img)
		})
	})
}

// TestTakenUp: an image that was being written is finished by another try, from
// any save on, whatever was written after it.
func TestTakenUp(t *testing.T) {
	truth := disktest.Pattern(7<<20+512, 5)
	src := disktest.Plain(truth)
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		for stop := int64(1); stop < 4; stop++ {
			i := newImage(format, variant, int64(len(truth)))
			target, err := format.Create(&i.Memory, i.spec)
			require.NoError(t, err)
			var off, saved int64
			var state []byte
			err = disk.Pump(ctx, target, disk.ImageFeed(src, 0, target.BlockBytes()),
				disk.Options{SaveEvery: 1 << 20, Saved: func(o int64, s []byte, _ any) error {
					if o >= stop<<20 && off == 0 {
						off, state, saved = o, s, i.Size()
					}
					if off > 0 && i.Size() > saved+1<<20 {
						return io.ErrClosedPipe // killed a while after the save
					}
					return nil
				}})
			if err != nil {
				require.ErrorIs(t, err, io.ErrClosedPipe)
			}
			again, err := format.Resume(&i.Memory, i.spec, state)
			require.NoError(t, err)
			require.NoError(t, disk.Pump(ctx, again, disk.ImageFeed(src, off, again.BlockBytes()), disk.Options{}))
			require.NoError(t, again.Finish())
			img, err := i.open()
			require.NoError(t, err)
			disktest.Same(t, truth, img)
			if format.Check != nil {
				problems, err := format.Check(&i.Memory, func(string) (disk.Source, error) { return &i.second, nil })
				require.NoError(t, err)
				require.Empty(t, problems)
			}
		}
	})
}

// TestCutShort: an image that lost its end is refused, or says so when the lost
// part is read; never is it read as something else.
func TestCutShort(t *testing.T) {
	truth := bytes.Repeat([]byte("tide level 42\n"), 400<<10)[:5<<20]
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		if format.Probe == nil || variant == "flat" {
			return // nothing in the file tells
		}
		for _, keep := range []float64{0.05, 0.3, 0.7, 0.99} {
			i := newImage(format, variant, int64(len(truth)))
			i.fill(t, truth)
			i.Bytes = i.Bytes[:int(float64(len(i.Bytes))*keep)]
			img, err := i.open()
			if err != nil {
				continue
			}
			got := make([]byte, len(truth))
			if _, err = img.ReadAt(got, 0); err == nil {
				require.True(t, bytes.Equal(truth, got), "%s cut to %v", variant, keep)
			}
		}
	})
}

// TestLikeAByteArray: any sequence of writes into new layers, moved parents and
// merges reads the same as on a plain byte array.
func TestLikeAByteArray(t *testing.T) {
	for n := range formats.Table {
		format := &formats.Table[n]
		if !format.Layers {
			continue
		}
		t.Run(format.Name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) { layersAreLikeAByteArray(t, format) })
		})
	}
}

func layersAreLikeAByteArray(t *rapid.T, format *formats.Format) {
	dir, err := os.MkdirTemp("", "layers-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	size := rapid.Int64Range(1, 12000).Draw(t, "sectors") * 512
	truth := disktest.Pattern(int(size), rapid.Uint32().Draw(t, "seed"))
	count := 0
	id := func() string { return fmt.Sprintf("70126393-2a98-4856-90ac-%012d", count) }
	path := func() string {
		count++
		return filepath.Join(dir, fmt.Sprintf("layer%d%s", count, format.Extension))
	}
	top := path()
	write(t, format, top, disk.Spec{VirtualBytes: size, ID: id(), Name: filepath.Base(top)}, truth)
	below := ""
	for range rapid.IntRange(1, 6).Draw(t, "steps") {
		switch rapid.SampledFrom([]string{"layer", "layer", "move", "merge"}).Draw(t, "step") {
		case "layer":
			below, top = top, path()
			require.NoError(t, formats.NewLayer(top, below, format, id(), formats.Options{}))
			truth = writeLayer(t, format, top, truth)
		case "move":
			if below == "" {
				continue
			}
			moved := path()
			require.NoError(t, os.Rename(below, moved))
			c, err := formats.Look(top, formats.Options{})
			require.NoError(t, err)
			require.Len(t, c.Faults, 1)
			require.Equal(t, formats.ParentMissing, c.Faults[0].Code)
			require.Equal(t, moved, c.Faults[0].Candidate, "found by what the layer remembers")
			c.Close()
			_, err = formats.Reparent(top, moved, "", false, formats.Options{})
			require.NoError(t, err)
			below = moved
		case "merge":
			c, err := formats.OpenChain(top, formats.Options{})
			require.NoError(t, err)
			got := make([]byte, size)
			_, err = c.ReadAt(got, 0)
			require.NoError(t, err)
			require.NoError(t, c.Close())
			top, below = path(), ""
			write(t, format, top, disk.Spec{VirtualBytes: size, ID: id(), Name: filepath.Base(top)}, got)
		}
	}
	c, err := formats.OpenChain(top, formats.Options{})
	require.NoError(t, err)
	defer c.Close()
	disktest.Same(t, truth, c)
}

func write(t require.TestingT, format *formats.Format, path string, s disk.Spec, truth []byte) {
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	file, err := disk.OpenFile(f)
	require.NoError(t, err)
	target, err := format.Create(file, s)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(ctx, target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
}

// writeLayer writes some blocks of a layer that is there, as a hypervisor does:
// whole blocks, zeros among them, that hide what the parent holds.
func writeLayer(t *rapid.T, format *formats.Format, path string, truth []byte) []byte {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	file, err := disk.OpenFile(f)
	require.NoError(t, err)
	target, err := format.Resume(file, disk.Spec{VirtualBytes: int64(len(truth)), ID: diskID}, nil)
	require.NoError(t, err)
	truth = append([]byte{}, truth...)
	block := int64(target.BlockBytes())
	last := (int64(len(truth)) - 1) / block
	at := int64(-1)
	for range rapid.IntRange(1, 4).Draw(t, "writes") {
		if at = rapid.Int64Range(at+1, last+1).Draw(t, "block"); at > last {
			break
		}
		p := truth[at*block : min(int64(len(truth)), (at+1)*block)]
		copy(p, disktest.Pattern(len(p), rapid.Uint32().Draw(t, "seed")))
		if rapid.Bool().Draw(t, "zeros") {
			clear(p)
		}
		packed, err := target.Pack(p, nil)
		require.NoError(t, err)
		require.NoError(t, target.Put(at*block, packed, len(p)))
	}
	require.NoError(t, target.Finish())
	return truth
}

// TestFingerprint: the same contents have the same one in every format; other
// contents, or another size, have another.
func TestFingerprint(t *testing.T) {
	truth := append(disktest.Pattern(20<<20, 3), make([]byte, 30<<20)...)
	seen := map[string]bool{}
	each(t, func(t *testing.T, format *formats.Format, variant string) {
		i := newImage(format, variant, int64(len(truth)))
		i.fill(t, truth)
		img, err := i.open()
		require.NoError(t, err)
		f, err := disk.TakeFingerprint(img)
		require.NoError(t, err)
		require.NotEmpty(t, f.Samples)
		seen[f.String()] = true
	})
	require.Len(t, seen, 1)
	for name, other := range map[string][]byte{"other contents": disktest.Pattern(50<<20, 4),
		"a byte more": append(truth, 1), "nothing": nil} {
		f, err := disk.TakeFingerprint(disktest.Plain(other))
		require.NoError(t, err)
		require.False(t, seen[f.String()], name)
	}
}

func TestReparent(t *testing.T) {
	for n := range formats.Table {
		format := &formats.Table[n]
		if !format.Layers {
			continue
		}
		t.Run(format.Name, func(t *testing.T) {
			dir := t.TempDir()
			at := func(name string) string { return filepath.Join(dir, name+format.Extension) }
			truth := disktest.Pattern(3<<20, 8)
			spec := disk.Spec{VirtualBytes: int64(len(truth)), ID: diskID, Name: "base"}
			write(t, format, at("base"), spec, truth)
			spec.ID = "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"
			write(t, format, at("stranger"), spec, disktest.Pattern(3<<20, 9))
			require.NoError(t, formats.NewLayer(at("top"), at("base"), format, diskID, formats.Options{}))
			require.ErrorIs(t, formats.NewLayer(at("top"), at("base"), format, diskID, formats.Options{}), os.ErrExist)

			var fault *formats.Fault
			before, err := os.ReadFile(at("top"))
			require.NoError(t, err)
			_, err = formats.Reparent(at("top"), at("stranger"), "", false, formats.Options{})
			require.ErrorAs(t, err, &fault)
			require.Equal(t, formats.ParentChanged, fault.Code)
			_, err = formats.Reparent(at("top"), at("top"), "", false, formats.Options{})
			require.ErrorAs(t, err, &fault)
			require.Equal(t, formats.ChainLoop, fault.Code)
			_, err = formats.Reparent(at("base"), at("stranger"), "", false, formats.Options{})
			require.ErrorContains(t, err, "is no layer")
			_, err = formats.Reparent(at("top"), at("none"), "", false, formats.Options{})
			require.ErrorIs(t, err, os.ErrNotExist)
			after, err := os.ReadFile(at("top"))
			require.NoError(t, err)
			require.True(t, bytes.Equal(before, after), "what is refused changes nothing")

			elsewhere := filepath.Join(t.TempDir(), "a place with a long name, "+fmt.Sprint(time.Now().Year()),
				"base"+format.Extension)
			require.NoError(t, os.MkdirAll(filepath.Dir(elsewhere), 0o755))
			require.NoError(t, os.Rename(at("base"), elsewhere))
			sure, err := formats.Reparent(at("top"), elsewhere, "", false, formats.Options{})
			require.NoError(t, err)
			require.True(t, sure)
			c, err := formats.OpenChain(at("top"), formats.Options{})
			require.NoError(t, err)
			disktest.Same(t, truth, c)
			require.Equal(t, []string{at("top"), elsewhere}, c.Paths())
			require.NoError(t, c.Close())

			_, err = formats.Reparent(at("top"), at("stranger"), "", true, formats.Options{})
			require.NoError(t, err, "told to do so all the same")
			c, err = formats.OpenChain(at("top"), formats.Options{})
			require.NoError(t, err)
			disktest.Same(t, disktest.Pattern(3<<20, 9), c)
			require.NoError(t, c.Close())
			if problems, err := format.Check(file(t, at("top")), nil); true {
				require.NoError(t, err)
				require.Empty(t, problems)
			}
			// The parent is written to behind the layer's back.
			write(t, format, at("stranger"), disk.Spec{VirtualBytes: 3 << 20,
				ID:   "b2f00000-8a5c-4d6f-b3a1-3f0d1a4d6f77",
				Name: "x"}, disktest.Pattern(3<<20, 10))
			_, err = formats.OpenChain(at("top"), formats.Options{})
			require.ErrorAs(t, err, &fault)
			require.Equal(t, formats.ParentChanged, fault.Code)
		})
	}
}
