package vmdk_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/vmdk"
)

// several is a disk of four extents: sparse, flat from a sector on, of zeros,
// and sparse again.
func several(t testing.TB) (descriptor *disktest.Memory, open disk.Opener, truth []byte) {
	t.Helper()
	truth = disktest.Pattern(4<<20, 3)
	clear(truth[2<<20 : 3<<20])
	files := map[string]*disktest.Memory{"a-flat.vmdk": {Bytes: append(make([]byte, 63*512), truth[1<<20:2<<20]...)}}
	for name, p := range map[string][]byte{"a-s001.vmdk": truth[:1<<20], "a-s004.vmdk": truth[3<<20:]} {
		f := &disktest.Memory{}
		target, err := vmdk.CreateSparse(f, disk.Spec{VirtualBytes: int64(len(p)), ID: "0badcafe"})
		require.NoError(t, err)
		require.NoError(t, disk.Pump(ctx, target, disk.ImageFeed(disktest.Plain(p), 0, target.BlockBytes()),
			disk.Options{}))
		require.NoError(t, target.Finish())
		files[name] = f
	}
	text := `# Disk DescriptorFile
version=1
CID=5a5a0001
parentCID=ffffffff
createType="twoGbMaxExtentSparse"

# Extent description
RW 2048 SPARSE "a-s001.vmdk"
RW 2048 FLAT "a-flat.vmdk" 63
RW 2048 ZERO
RW 2048 SPARSE "a-s004.vmdk"
`
	return &disktest.Memory{Bytes: []byte(text)}, func(name string) (disk.Source, error) {
		if f, ok := files[name]; ok {
			return f, nil
		}
		return nil, os.ErrNotExist
	}, truth
}

func TestSeveralExtents(t *testing.T) {
	f, open, truth := several(t)
	img, err := vmdk.Open(f, open)
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.Equal(t, "5a5a0001", img.Info().ID)
	problems, err := vmdk.Check(f, open)
	require.NoError(t, err)
	require.Empty(t, problems)

	_, err = vmdk.Open(f, nil)
	require.ErrorIs(t, err, disk.ErrVariant, "other files are opened only where that is allowed")
	_, err = vmdk.Open(f, func(name string) (disk.Source, error) {
		if name == "a-flat.vmdk" {
			return nil, os.ErrNotExist
		}
		return open(name)
	})
	require.ErrorIs(t, err, os.ErrNotExist)
	require.ErrorContains(t, err, "extent 2")
	_, err = vmdk.Open(f, func(name string) (disk.Source, error) {
		src, err := open(name)
		if name == "a-flat.vmdk" {
			src = disk.Section(src, 0, 90000)
		}
		return src, err
	})
	require.ErrorContains(t, err, "the descriptor counts on")
}

// TestDirectories: either grain directory is repaired from the other, and an
// image whose first one is lost is read by the second.
func TestDirectories(t *testing.T) {
	truth := disktest.Pattern(40<<20, 2)
	good := &disktest.Memory{}
	target, err := vmdk.CreateSparse(good, disk.Spec{VirtualBytes: int64(len(truth)), ID: "0badcafe"})
	require.NoError(t, err)
	require.NoError(t, disk.Pump(ctx, target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
	const first, second = (21 + 1 + 8) * 512, 21 * 512 // a directory of one sector, two tables of four
	for name, spoil := range map[string]func(p []byte){
		"the first directory":     func(p []byte) { p[first+2] = 0xff },
		"the redundant directory": func(p []byte) { p[second+2] = 0xff },
		"a redundant table":       func(p []byte) { p[second+512+100] ^= 0xff },
		"not closed":              func(p []byte) { p[72] = 1 },
	} {
		t.Run(name, func(t *testing.T) {
			f := &disktest.Memory{Bytes: append([]byte{}, good.Bytes...)}
			spoil(f.Bytes)
			problems, err := vmdk.Check(f, nil)
			require.NoError(t, err)
			require.Len(t, problems, 1)
			require.True(t, problems[0].Harmless)
			img, err := vmdk.Open(f, nil)
			require.NoError(t, err)
			disktest.Same(t, truth, img)
			require.NoError(t, problems[0].Fix(f))
			problems, err = vmdk.Check(f, nil)
			require.NoError(t, err)
			require.Empty(t, problems)
			require.Equal(t, good.Bytes, f.Bytes)
		})
	}
	for name, spoil := range map[string]func(p []byte){
		"a grain outside the file": func(p []byte) { p[first+512+3] = 0x7f; p[second+512+3] = 0x7f },
		"two grains at one place": func(p []byte) {
			copy(p[first+512:first+516], p[first+516:first+520])
			copy(p[second+512:second+516], p[second+516:second+520])
		},
		"a grain in the file's header": func(p []byte) {
			copy(p[first+512:], "\x02\x00\x00\x00")
			copy(p[second+512:],
				"\x02\x00\x00\x00")
		},
	} {
		t.Run(name, func(t *testing.T) {
			f := &disktest.Memory{Bytes: append([]byte{}, good.Bytes...)}
			spoil(f.Bytes)
			problems, err := vmdk.Check(f, nil)
			require.NoError(t, err)
			require.NotEmpty(t, problems)
			require.Nil(t, problems[0].Fix, "nothing is guessed")
		})
	}
}

func FuzzDescriptor(f *testing.F) {
	d, open, _ := several(f)
	f.Add(d.Bytes)
	f.Add([]byte("# Disk DescriptorFile\nCID=1\nparentCID=0badcafe\nparentFileNameHint=\"base.vmdk\"\nRW 8 FLAT " +
		"\"a-flat.vmdk\" 0\n"))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		if img, err := vmdk.Open(&disktest.Memory{Bytes: raw}, open); err == nil {
			disktest.Exercise(img)
		}
		vmdk.Reparent(&disktest.Memory{Bytes: append([]byte{}, raw...)},
			disk.ParentRef{Path: "other.vmdk", ID: "0badcafe"})
		vmdk.SetID(&disktest.Memory{Bytes: append([]byte{}, raw...)}, "70126393-2a98-4856-90ac-efe4bba599b2")
	})
}
