package tests

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/disk/vmdk"
)

func create(t testing.TB, path string) *disk.OSFile {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	src, err := disk.OpenFile(f)
	require.NoError(t, err)
	return src
}

// sizes of disks: a sector, odd ones, and just past what a table covers.
var sizes = []int64{512, 4096 + 512, 1<<20 - 512, 32<<20 + 512, 513 << 20}

func sample(size int64, seed uint32) []byte {
	truth := make([]byte, size)
	copy(truth, disktest.Pattern(int(min(size, 3<<20)), seed))
	copy(truth[max(0, size-700):], "the end of the disk")
	return truth
}

func requireGuest(t *testing.T, truth []byte, j *judged) {
	t.Helper()
	require.Equal(t, int64(len(truth)), j.size)
	const block = 16 << 20
	for off := 0; off < len(truth); off += block {
		want := truth[off:min(len(truth), off+block)]
		if !bytes.Equal(want, j.read(t, int64(off), len(want))) {
			t.Fatalf("QEMU reads something else between byte %d and %d", off, off+len(want))
		}
	}
}

// TestQEMUReadsWhatWeWrite: images of ours, judged by QEMU.
func TestQEMUReadsWhatWeWrite(t *testing.T) {
	for n, size := range sizes {
		truth := sample(size, uint32(n))
		for _, version := range []int{2, 3} {
			for _, bits := range []uint32{9, 12, 16, 21} {
				if size > 64<<20 && bits < 12 {
					continue // tables of 512 bytes: slow, and nothing new
				}
				t.Run(fmt.Sprintf("QCOW2 v%d of %d bytes in clusters of %d", version, size, 1<<bits), func(t *testing.T) {
					path := filepath.Join(t.TempDir(), "image")
					img, err := qcow2.CreateClusters(create(t, path), disk.Spec{VirtualBytes: size, Variant: fmt.Sprintf("v%d", version), ID: "70126393-2a98-4856-90ac-efe4bba599b2"}, bits)
					require.NoError(t, err)
					require.NoError(t, disk.Pump(context.Background(), img, disk.ImageFeed(disktest.Plain(truth), 0, img.BlockBytes()), disk.Options{}))
					require.NoError(t, img.Finish())
					requireGuest(t, truth, judge(t, "qcow2", path))
					requireSound(t, path)
				})
			}
		}
		t.Run(fmt.Sprintf("VMDK of %d bytes", size), func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "image")
			f, err := os.Create(path)
			require.NoError(t, err)
			defer f.Close()
			target, err := vmdk.CreateStream(f, disk.Spec{VirtualBytes: size, ID: "0badcafe"}, nil)
			require.NoError(t, err)
			require.NoError(t, disk.Pump(context.Background(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()), disk.Options{}))
			require.NoError(t, target.Finish())
			requireGuest(t, truth, judge(t, "vmdk", path))
		})
	}
}

// requireSound lets QEMU write to a copy of the image: it refuses one whose
// refcounts are wrong where it looks at them, and both read what it wrote.
func requireSound(t *testing.T, path string) {
	t.Helper()
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	copied := filepath.Join(t.TempDir(), "copy")
	require.NoError(t, os.WriteFile(copied, raw, 0o644))
	nbd, qmp := daemon(t, "--blockdev", "driver=file,node-name=file,filename="+copied, "--blockdev", "driver=qcow2,node-name=image,file=file,overlap-check=all",
		"--export", "type=nbd,id=e,node-name=image,name=image,writable=on")
	j := dialNBD(t, nbd, "image")
	for off := int64(0); off+512 <= j.size; off += j.size/7/512*512 + 512 {
		j.write(t, off, bytes.Repeat([]byte("QEMU"), 128))
	}
	j.flush(t)
	truth := j.read(t, 0, int(min(j.size, 8<<20)))
	require.NoError(t, j.conn.Close())
	require.NoError(t, qmp("quit", map[string]any{}))
	img, err := formats.OpenChain(copied, formats.Options{})
	require.NoError(t, err)
	defer img.Close()
	require.True(t, img.Info().Clean, "QEMU found nothing corrupt")
	got := make([]byte, len(truth))
	_, err = img.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(truth, got))
}

// until tries what QEMU does in its own time.
func until(t *testing.T, f func() error) {
	t.Helper()
	err := f()
	for began := time.Now(); err != nil && time.Since(began) < waitFor; err = f() {
		time.Sleep(20 * time.Millisecond)
	}
	require.NoError(t, err)
}

// TestWeReadWhatQEMUWrites: images that QEMU creates with its options.
func TestWeReadWhatQEMUWrites(t *testing.T) {
	for name, c := range map[string]struct {
		driver  string
		options map[string]any
	}{
		"QCOW2 v3":                       {"qcow2", map[string]any{"version": "v3"}},
		"QCOW2 v2":                       {"qcow2", map[string]any{"version": "v2"}},
		"QCOW2 in clusters of 512":       {"qcow2", map[string]any{"cluster-size": 512}},
		"QCOW2 in clusters of 1 MiB":     {"qcow2", map[string]any{"cluster-size": 1 << 20}},
		"QCOW2 preallocated":             {"qcow2", map[string]any{"preallocation": "metadata"}},
		"QCOW2 with lazy refcounts":      {"qcow2", map[string]any{"lazy-refcounts": true}},
		"QCOW2 with narrow refcounts":    {"qcow2", map[string]any{"refcount-bits": 1}},
		"QCOW2 with extended L2 entries": {"qcow2", map[string]any{"extended-l2": true, "cluster-size": 128 << 10}},
		"VMDK sparse":                    {"vmdk", map[string]any{"subformat": "monolithicSparse"}},
		"VMDK sparse with zeroed grains": {"vmdk", map[string]any{"subformat": "monolithicSparse", "zeroed-grain": true}},
		"VMDK stream-optimized":          {"vmdk", map[string]any{"subformat": "streamOptimized"}},
	} {
		t.Run(name, func(t *testing.T) {
			const size = 40<<20 + 512
			path := filepath.Join(t.TempDir(), "image")
			create(t, path)
			nbd, qmp := daemon(t, "--blockdev", "driver=file,node-name=file,filename="+path)
			options := map[string]any{"driver": c.driver, "file": "file", "size": size}
			for k, v := range c.options {
				options[k] = v
			}
			require.NoError(t, qmp("blockdev-create", map[string]any{"job-id": "j", "options": options}))
			truth := make([]byte, size)
			until(t, func() error { return qmp("job-dismiss", map[string]any{"id": "j"}) }) // not before it is done
			require.NoError(t, qmp("blockdev-add", map[string]any{"driver": c.driver, "node-name": "image", "file": "file"}))
			require.NoError(t, qmp("block-export-add", map[string]any{"type": "nbd", "id": "e", "node-name": "image", "name": "image", "writable": true}))
			j := dialNBD(t, nbd, "image")
			for n, off := range []int64{0, 700 << 10, 5 << 20, 33<<20 - 64<<10} {
				p := disktest.Pattern(200<<10, uint32(n))
				if c.options["subformat"] == "streamOptimized" { // whole grains only
					p, off = disktest.Pattern(192<<10, uint32(n)), off/(64<<10)*(64<<10)
				}
				j.write(t, off, p)
				copy(truth[off:], p)
			}
			j.flush(t)
			require.NoError(t, j.conn.Close())
			require.NoError(t, qmp("quit", map[string]any{}))
			img, err := formats.OpenChain(path, formats.Options{})
			require.NoError(t, err)
			defer img.Close()
			disktest.Same(t, truth, img)
		})
	}
}
