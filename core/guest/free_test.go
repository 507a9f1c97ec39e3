package guest_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/raw"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
)

// said runs a program and returns what it prints, whatever its status.
func said(t *testing.T, name string, args ...string) (string, error) {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	return string(out), err
}

// solid is an image of which all is told as data.
type solid struct{ disk.Image }

func (s solid) Map(off int64) (disk.Range, error) {
	return disk.Range{Offset: off, Length: s.Info().VirtualBytes - off, Kind: disk.Data}, nil
}

// overwrite fills what nobody needs.
func overwrite(t *testing.T, image string, blanks *disk.Blanks) {
	t.Helper()
	img := openRaw(t, image)
	f, err := os.OpenFile(image, os.O_WRONLY, 0)
	require.NoError(t, err)
	for off, r := int64(0), (disk.Range{}); off < img.Info().VirtualBytes; off = r.End() {
		r, err = disk.Without(solid{img}, blanks).Map(off)
		require.NoError(t, err)
		if r.Kind == disk.Zero {
			_, err = f.WriteAt(bytes.Repeat([]byte{0xa5}, int(r.Length)), off)
			require.NoError(t, err)
		}
	}
	require.NoError(t, f.Close())
}

// number is the first number behind a text.
func number(t *testing.T, text, behind string) int64 {
	t.Helper()
	m := regexp.MustCompile(regexp.QuoteMeta(behind) + `\D*(\d+)`).FindStringSubmatch(text)
	require.NotNil(t, m, "no %q in %s", behind, text)
	n, err := strconv.ParseInt(m[1], 10, 64)
	require.NoError(t, err)
	return n
}

// blank makes an image of zeros.
func blank(t *testing.T, bytes int64) string {
	t.Helper()
	image := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, bytes))
	return image
}

// openRaw opens an image of a disk's bytes.
func openRaw(t *testing.T, path string) disk.Image {
	t.Helper()
	src, err := disk.OpenSource(disk.OS, path, 0)
	require.NoError(t, err)
	img, err := raw.Open(src)
	require.NoError(t, err)
	t.Cleanup(func() { img.Close() })
	return img
}

// free finds what is free of an image with one file system.
func free(t *testing.T, path string) (*disk.Blanks, fit.FileSystem) {
	t.Helper()
	img := openRaw(t, path)
	blanks, found, err := guest.Free(t.Context(), img, img.Info().VirtualBytes)
	require.NoError(t, err)
	require.Len(t, found, 1)
	return blanks, found[0]
}

// bigOnes are 3 MiB of the same random bytes.
func bigOnes() []byte {
	b := make([]byte, 3*mib)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(b)
	return b
}

// withFiles is a directory with a file of 3 MiB, and many small ones.
func withFiles(t *testing.T) (dir string, big []byte) {
	dir = t.TempDir()
	big = bigOnes()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), big, 0o644))
	for n := range 60 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint("small-", n)), big[:100*n], 0o644))
	}
	return dir, big
}

// kind is a file system that programs of others make, check and read.
type kind struct {
	name  string
	make  func(t *testing.T, image, dir string)
	free  func(t *testing.T, image string) int64 // bytes, as others count them
	check func(t *testing.T, image string)
	big   func(t *testing.T, image string) []byte // what is in the file
}

func extKind(name string, options ...string) kind {
	return kind{name,
		func(t *testing.T, image, dir string) {
			args := append([]string{"-q", "-F", "-d", dir}, options...)
			run(t, tool(t, "mke2fs", "e2fsprogs"), append(args, image)...)
			// A large file that is gone has left its blocks as they were.
			for _, command := range []string{"write " + filepath.Join(dir, "big") + " gone", "rm gone"} {
				run(t, tool(t, "debugfs", "e2fsprogs"), "-w", "-R", command, image)
			}
		},
		func(t *testing.T, image string) int64 {
			out, err := said(t, tool(t, "dumpe2fs", "e2fsprogs"), "-h", image)
			require.NoError(t, err, out)
			return number(t, out, "Free blocks:") * number(t, out, "Block size:")
		},
		func(t *testing.T, image string) {
			out, err := said(t, tool(t, "e2fsck", "e2fsprogs"), "-f", "-n", image)
			require.NoError(t, err, out)
		},
		func(t *testing.T, image string) []byte {
			out, err := exec.Command(tool(t, "debugfs", "e2fsprogs"), "-R", "cat big", image).Output()
			require.NoError(t, err)
			return out
		}}
}

func xfsKind(name string, options ...string) kind {
	return kind{name,
		func(t *testing.T, image, dir string) {
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			var text strings.Builder
			text.WriteString("/\n0 0\nd--755 0 0\n")
			for _, e := range entries {
				fmt.Fprintf(&text, "%s ---644 0 0 %s\n", e.Name(), filepath.Join(dir, e.Name()))
			}
			proto := filepath.Join(t.TempDir(), "proto")
			require.NoError(t, os.WriteFile(proto, []byte(text.String()+"$\n"), 0o644))
			run(t, tool(t, "mkfs.xfs", "xfsprogs"), append(append([]string{"-q", "-p", proto}, options...), image)...)
		},
		func(t *testing.T, image string) int64 {
			out, err := said(t, tool(t, "xfs_db", "xfsprogs"), "-r", "-c", "freesp -s", image)
			require.NoError(t, err, out)
			blocks := number(t, out, "total free blocks")
			for g := range 4 { // some of them are set aside for the trees of free space
				out, err := said(t, tool(t, "xfs_db", "xfsprogs"), "-r", "-c", fmt.Sprint("agf ", g), "-c", "p flcount",
					image)
				require.NoError(t, err, out)
				blocks -= number(t, out, "flcount")
			}
			out, err = said(t, tool(t, "xfs_db", "xfsprogs"), "-r", "-c", "sb 0", "-c", "p blocksize", image)
			require.NoError(t, err, out)
			return blocks * number(t, out, "blocksize")
		},
		func(t *testing.T, image string) {
			out, err := said(t, tool(t, "xfs_repair", "xfsprogs"), "-n", "-f", image)
			require.NoError(t, err, out)
		},
		func(t *testing.T, image string) []byte {
			raw, err := os.ReadFile(image)
			require.NoError(t, err)
			at := bytes.Index(raw, bigOnes()[:4096]) // it lies in one piece
			require.Positive(t, at)
			return raw[at : at+3*mib]
		}}
}

var ntfsKind = kind{"NTFS",
	func(t *testing.T, image, dir string) {
		run(t, tool(t, "mkntfs", "ntfs-3g"), "-q", "-F", "-f", image)
		for _, name := range []string{"big", "small-9"} {
			run(t, tool(t, "ntfscp", "ntfs-3g"), "-q", image, filepath.Join(dir, name), name)
		}
	},
	func(t *testing.T, image string) int64 {
		out, err := said(t, tool(t, "ntfsinfo", "ntfs-3g"), "-m", image)
		require.NoError(t, err, out)
		return number(t, out, "Free Clusters:") * number(t, out, "Cluster Size:")
	},
	func(t *testing.T, image string) {
		out, err := said(t, tool(t, "ntfsresize", "ntfs-3g"), "--info", "--force", "--no-progress-bar", image)
		require.NoError(t, err, out)
	},
	func(t *testing.T, image string) []byte {
		out, err := exec.Command(tool(t, "ntfscat", "ntfs-3g"), image, "big").Output()
		require.NoError(t, err)
		return out
	}}

var kinds = []kind{
	extKind("ext4", "-t", "ext4", "-b", "4096"), extKind("ext4 of 1 KiB", "-t", "ext4", "-b", "1024"),
	extKind("ext4 of old", "-t", "ext4", "-O", "^64bit,^metadata_csum,^flex_bg,uninit_bg"),
	extKind("ext4 with two backups", "-t", "ext4", "-O", "sparse_super2"),
	extKind("ext3", "-t", "ext3"), extKind("ext2", "-t", "ext2", "-O", "^resize_inode,^sparse_super"),
	xfsKind("XFS"), xfsKind("XFS of version 4", "-m", "crc=0"), ntfsKind,
}

// TestFree: what counts as free is as much as other programs count. Filled with something else, their checkers find
// nothing, and files read the same.
func TestFree(t *testing.T) {
	dir, big := withFiles(t)
	for _, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			t.Parallel()
			image := blank(t, 320*mib)
			k.make(t, image, dir)
			blanks, v := free(t, image)
			require.Empty(t, v.Kept)
			require.Equal(t, k.free(t, image), v.FreeBytes)

			img := openRaw(t, image)
			saved, err := blanks.In(img)
			require.NoError(t, err)
			if strings.HasPrefix(k.name, "ext") { // of the file that is gone
				require.Greater(t, saved, int64(2*mib))
			}
			overwrite(t, image, blanks)
			k.check(t, image)
			require.True(t, bytes.Equal(big, k.big(t, image)))
			again, v := free(t, image)
			require.Empty(t, v.Kept)

			// Without them, likewise.
			copied := filepath.Join(t.TempDir(), "copy")
			out, err := os.Create(copied)
			require.NoError(t, err)
			img = openRaw(t, image)
			_, err = io.Copy(out, io.NewSectionReader(disk.Without(img, again), 0, img.Info().VirtualBytes))
			require.NoError(t, err)
			require.NoError(t, out.Close())
			k.check(t, copied)
			require.True(t, bytes.Equal(big, k.big(t, copied)))
			left, err := os.ReadFile(copied)
			require.NoError(t, err)
			require.False(t, bytes.Contains(left, bytes.Repeat([]byte{0xa5}, 64<<10)))
		})
	}
}

// TestMounted: a file system that the kernel has written, and of which much is deleted, is free where it says so once
// it was unmounted, and nowhere before.
func TestMounted(t *testing.T) {
	ext, xfs := extKind("ext4", "-t", "ext4", "-b", "1024"), xfsKind("XFS", "-b", "size=1024")
	for _, k := range []kind{ext, xfs} {
		t.Run(k.name, func(t *testing.T) {
			t.Parallel()
			dir, _ := withFiles(t)
			image, at := blank(t, 320*mib), t.TempDir()
			k.make(t, image, dir)
			mount := func() {
				run(t, tool(t, "mount", "mount"), "-o", "loop", image, at) // tests run as root
				t.Cleanup(func() { _ = exec.Command("umount", at).Run() })
			}
			name := func(n int) string { return filepath.Join(at, fmt.Sprint("many-", n)) }
			content := func(n int) []byte { return bytes.Repeat([]byte{byte(n)}, 1000+n%2000) }
			mount()
			const files = 4000
			for n := range files {
				require.NoError(t, os.WriteFile(name(n), content(n), 0o644))
			}
			run(t, "sync", "-f", at)
			for n := 1; n < files; n += 2 {
				require.NoError(t, os.Remove(name(n)))
			}
			require.NoError(t, os.RemoveAll(filepath.Join(at, "big")))
			run(t, "sync", "-f", at)
			_, inUse := free(t, image)
			require.Contains(t, inUse.Kept, "was not closed")

			run(t, "umount", at)
			blanks, v := free(t, image)
			require.Empty(t, v.Kept)
			require.Equal(t, k.free(t, image), v.FreeBytes)
			if strings.HasPrefix(k.name, "XFS") { // its trees have nodes above their leaves
				out, err := said(t, tool(t, "xfs_db", "xfsprogs"), "-r", "-c", "agf 0", "-c", "p bnolevel", image)
				require.NoError(t, err, out)
				require.Greater(t, number(t, out, "bnolevel"), int64(1))
			}
			overwrite(t, image, blanks)
			k.check(t, image)
			mount()
			for n := 0; n < files; n += 2 {
				b, err := os.ReadFile(name(n))
				require.NoError(t, err)
				require.Equal(t, content(n), b)
			}
		})
	}
}

// TestTooLarge: what is free of a disk has a bound, which is told.
func TestTooLarge(t *testing.T) {
	_, _, err := guest.Free(t.Context(), bytes.NewReader(nil), 1<<62)
	require.ErrorContains(t, err, "disks of up to 64")
}

// TestNotFree: nothing is free of a file system that was not closed, that contradicts itself, or on which something
// else stands.
func TestNotFree(t *testing.T) {
	dir, _ := withFiles(t)
	poke := func(b []byte, at int64) func(t *testing.T, image string) {
		return func(t *testing.T, image string) {
			f, err := os.OpenFile(image, os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteAt(b, at)
			require.NoError(t, errors.Join(err, f.Close()))
		}
	}
	ext, xfs := kinds[0], xfsKind("XFS")
	for name, c := range map[string]struct {
		kind
		spoil func(t *testing.T, image string)
		why   string
	}{
		"in use": {ext, func(t *testing.T, image string) {
			run(t, tool(t, "debugfs", "e2fsprogs"), "-w", "-R", "feature needs_recovery", image)
		}, "was not closed"},
		"a wrong count": {ext, func(t *testing.T, image string) {
			run(t, tool(t, "debugfs", "e2fsprogs"), "-w", "-R", "set_super_value free_blocks_count 7", image)
		}, "it says 7"},
		"a block that is in use": {ext, func(t *testing.T, image string) {
			run(t, tool(t, "debugfs", "e2fsprogs"), "-w", "-R", "freeb 1", image)
		}, "block 1 is free, and in use"},
		"an unknown feature": {ext, func(t *testing.T, image string) {
			run(t, tool(t, "debugfs", "e2fsprogs"), "-w", "-R", "feature FEATURE_I29", image)
		}, "features"},
		"encrypted":   {ext, poke([]byte("LUKS\xba\xbe"), 0), "an encrypted volume is on it too"},
		"XFS in use":  {xfs, poke([]byte{1}, 126), "was not closed"},
		"an XFS tree": {xfs, poke([]byte{0xff}, 512+52), "free blocks, and says"},
		"NTFS in use": {ntfsKind, func(t *testing.T, image string) {
			run(t, tool(t, "ntfsfix", "ntfs-3g"), image)
		}, "was not closed"},
		"NTFS with shadows": {ntfsKind, poke(append(guest.Shadows(), bytes.Repeat([]byte{1}, 48)...), 0x1e00),
			"shadow copies"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			image := blank(t, 320*mib)
			c.make(t, image, dir)
			c.spoil(t, image)
			blanks, v := free(t, image)
			require.Contains(t, v.Kept, c.why)
			require.Zero(t, v.FreeBytes)
			n, err := blanks.In(solid{openRaw(t, image)})
			require.NoError(t, err)
			require.Zero(t, n)
		})
	}
	// A log of which the last record is another one than that it was closed.
	image := blank(t, 320*mib)
	xfs.make(t, image, dir)
	raw, err := os.ReadFile(image)
	require.NoError(t, err)
	at := bytes.LastIndex(raw, []byte("\xfe\xed\xba\xbe"))
	require.Positive(t, at)
	poke([]byte{0}, int64(at)+512+9)(t, image)
	_, v := free(t, image)
	require.Contains(t, v.Kept, "was not closed")
}

// TestIdleLog: a log is idle by the newer of its two pages, if its system has not kept it for a fast start.
func TestIdleLog(t *testing.T) {
	const inUse, nobody = 0, 0xffff
	page := func(lsn uint64, version, client uint16) []byte {
		le, b := binary.LittleEndian, make([]byte, 4096)
		copy(b, "RSTR")
		le.PutUint16(b[0x18:], 0x30)
		le.PutUint16(b[0x1c:], version)
		le.PutUint64(b[0x30:], lsn)
		le.PutUint16(b[0x30+12:], client)
		return b
	}
	idle := func(pages ...[]byte) error { return guest.IdleLog(bytes.NewReader(slices.Concat(pages...))) }
	require.NoError(t, idle(page(7, 1, nobody), page(6, 1, inUse)))
	require.NoError(t, idle(page(7, 1, inUse), page(8, 1, nobody)))
	require.Error(t, idle(page(9, 1, inUse), page(8, 1, nobody)))
	require.Error(t, idle(page(7, 2, nobody), page(6, 2, nobody)), "kept for a fast start")
	require.Error(t, idle(make([]byte, 8192)))
}

// FuzzFree: whatever is on a disk, what is free of it lies on it, and looking ends.
func FuzzFree(f *testing.F) {
	image := filepath.Join(f.TempDir(), "image")
	makes := exec.Command("/sbin/mke2fs", "-q", "-F", "-t", "ext2", "-N", "16", image, "64k")
	if out, err := makes.CombinedOutput(); err != nil {
		f.Fatalf("%v: apt-get install e2fsprogs (make test does that)\n%s", err, out)
	}
	b, err := os.ReadFile(image)
	require.NoError(f, err)
	f.Add(b)
	for at, head := range map[int]string{0: "XFSB\x00\x00\x10\x00", 3: "NTFS    "} {
		b := make([]byte, 64<<10)
		copy(b[at:], head)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		_, found, err := guest.Free(t.Context(), bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err)
		for _, v := range found {
			require.LessOrEqual(t, v.FreeBytes, v.Bytes)
		}
	})
}
