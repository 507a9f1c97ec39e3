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
	"unvora.example/unvora/internal/wait"
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

func open(t testing.TB, path string) *disk.OSFile {
	t.Helper()
	f, err := os.Open(path)
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
				t.Run(fmt.Sprintf("QCOW2 v%d of %d bytes in clusters of %d", version, size, 1<<bits),
					func(t *testing.T) {
						path := filepath.Join(t.TempDir(), "image")
						img, err := qcow2.CreateClusters(create(t, path), disk.Spec{VirtualBytes: size,
							Variant: fmt.Sprintf("v%d", version), ID: "70126393-2a98-4856-90ac-efe4bba599b2"}, bits)
						require.NoError(t, err)
						require.NoError(t, disk.Pump(context.Background(), img,
							disk.ImageFeed(disktest.Plain(truth), 0, img.BlockBytes()),
							disk.Options{}))
						require.NoError(t, img.Finish())
						requireGuest(t, truth, judge(t, "qcow2", path))
						requireSound(t, path)
					})
			}
		}
	}
}

// driver is QEMU's name for a format.
func driver(format string) string {
	if format == "vhd" {
		return "vpc"
	}
	return format
}

// sparse is a disk of any size with a few runs of data.
type sparse struct {
	size int64
	runs map[int64][]byte
}

// sparseDisk puts data at the start, around every place that is told, and at the end.
func sparseDisk(size int64, around ...int64) sparse {
	s := sparse{size, map[int64][]byte{}}
	for n, at := range append([]int64{0, size - 5000}, around...) {
		at = max(0, min(at-1024, size-512)) / 512 * 512
		p := disktest.Pattern(int(min(4096, size-at)), uint32(n))
		free := len(p) > 0
		for other, run := range s.runs {
			free = free && (at >= other+int64(len(run)) || other >= at+int64(len(p)))
		}
		if free {
			s.runs[at] = p
		}
	}
	return s
}

func (s sparse) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: s.size, SectorBytes: 512, Clean: true}
}
func (s sparse) Close() error { return nil }

func (s sparse) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	for at, run := range s.runs {
		if at < off+int64(len(p)) && off < at+int64(len(run)) {
			copy(p[max(0, at-off):], run[max(0, off-at):])
		}
	}
	return len(p), nil
}

func (s sparse) Map(off int64) (disk.Range, error) {
	next := s.size
	for at, run := range s.runs {
		if off >= at && off < at+int64(len(run)) {
			return disk.Range{Offset: off, Length: at + int64(len(run)) - off, Kind: disk.Data}, nil
		}
		if at > off {
			next = min(next, at)
		}
	}
	return disk.Range{Offset: off, Length: next - off, Kind: disk.Zero}, nil
}

// requireRuns compares the runs of data, what lies around them, and the size.
func (s sparse) requireRuns(t *testing.T, size int64, read func(off int64, n int) []byte) {
	t.Helper()
	require.Equal(t, s.size, size, "size")
	for at, run := range s.runs {
		from := max(0, at-64<<10)
		n := int(min(s.size-from, int64(len(run))+128<<10))
		want := make([]byte, n)
		s.ReadAt(want, from)
		if !bytes.Equal(want, read(from, n)) {
			t.Fatalf("bytes from %d to %d differ", from, from+int64(n))
		}
	}
}

const (
	kib = 1 << 10
	mib = 1 << 20
	gib = 1 << 30
	tib = 1 << 40
)

// TestEveryFormatJudged: every variant that we write, of sizes around the
// boundaries of all tables, is read by QEMU as it should be, and by ourselves.
func TestEveryFormatJudged(t *testing.T) {
	places := []int64{2 * mib, 32 * mib, 512 * mib, gib, 4 * gib, 127 * gib, tib, 2 * tib}
	for _, format := range formats.Table {
		for _, variant := range format.Variants {
			for _, size := range []int64{512, 3 * 512, 2*mib + 512, 32*mib + 512, 127*gib + 512, 136899993600 + 512,
				2040 * gib,
				2*tib - 64*mib, 2*tib + gib} {
				full := variant == "full" || variant == "fixed" || variant == "flat"
				if full && size > 64*mib || format.MostBytes > 0 && size > format.MostBytes {
					continue
				}
				t.Run(fmt.Sprintf("%s %s of %d bytes", format.Name, variant, size), func(t *testing.T) {
					truth := sparseDisk(size, places...)
					path := filepath.Join(t.TempDir(), "disk"+format.Extension)
					spec := disk.Spec{VirtualBytes: size, Variant: variant, ID: "70126393-2a98-4856-90ac-efe4bba599b2",
						Name: filepath.Base(path), Companion: func(name string) (disk.File, error) {
							return create(t, filepath.Join(filepath.Dir(path), name)), nil
						}}
					target, err := format.Create(create(t, path), spec)
					require.NoError(t, err)
					require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(truth, 0, target.BlockBytes()),
						disk.Options{}))
					require.NoError(t, target.Finish())
					j := judge(t, driver(format.Name), path)
					truth.requireRuns(t, j.size, func(off int64, n int) []byte { return j.read(t, off, n) })
					c, err := formats.OpenChain(path, formats.Options{})
					require.NoError(t, err)
					defer c.Close()
					truth.requireRuns(t, c.Info().VirtualBytes, func(off int64, n int) []byte {
						p := make([]byte, n)
						_, err := c.ReadAt(p, off)
						require.NoError(t, err)
						return p
					})
				})
			}
		}
	}
}

// TestLayersJudged: layers of ours on parents of ours, and QEMU's reading of
// the chain, for the formats whose chains it follows.
func TestLayersJudged(t *testing.T) {
	const size = 40*mib + 512
	base, top := sample(size, 1), sample(size, 1)
	copy(top[5*mib:], disktest.Pattern(3*mib, 9))
	clear(top[512*kib : 704*kib])
	for _, name := range []string{"qcow2", "vmdk"} {
		t.Run(name, func(t *testing.T) {
			format, err := formats.ByName(name)
			require.NoError(t, err)
			dir := t.TempDir()
			at := func(n string) string { return filepath.Join(dir, n+format.Extension) }
			spec := disk.Spec{VirtualBytes: size, ID: "70126393-2a98-4856-90ac-efe4bba599b2",
				Name: "base" + format.Extension}
			target, err := format.Create(create(t, at("base")), spec)
			require.NoError(t, err)
			require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(base), 0,
				target.BlockBytes()),
				disk.Options{}))
			require.NoError(t, target.Finish())
			require.NoError(t, formats.NewLayer(at("top"), at("base"), format, "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77",
				formats.Options{}))
			f, err := os.OpenFile(at("top"), os.O_RDWR, 0)
			require.NoError(t, err)
			defer f.Close()
			file, err := disk.OpenFile(f)
			require.NoError(t, err)
			target, err = format.Resume(file, spec, nil)
			require.NoError(t, err)
			for off := int64(0); off < 10*mib; off += 64 * kib {
				if want := top[off : off+64*kib]; !bytes.Equal(want, base[off:off+64*kib]) {
					require.NoError(t, target.Put(off, bytes.Clone(want), len(want)))
				}
			}
			require.NoError(t, target.Finish())
			requireGuest(t, top, judge(t, name, at("top")))
			c, err := formats.OpenChain(at("top"), formats.Options{})
			require.NoError(t, err)
			defer c.Close()
			disktest.Same(t, top, c)
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
	nbd, qmp := daemon(t, "--blockdev", "driver=file,node-name=file,filename="+copied, "--blockdev",
		"driver=qcow2,node-name=image,file=file,overlap-check=all",
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
	for began := time.Now(); err != nil && time.Since(began) < wait.Bound; err = f() {
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
		"VMDK sparse with zeroed grains": {"vmdk", map[string]any{"subformat": "monolithicSparse",
			"zeroed-grain": true}},
		"VMDK stream-optimized":          {"vmdk", map[string]any{"subformat": "streamOptimized"}},
		"VMDK flat":                      {"vmdk", map[string]any{"subformat": "monolithicFlat"}},
		"VMDK of several sparse extents": {"vmdk", map[string]any{"subformat": "twoGbMaxExtentSparse"}},
		"VMDK of several flat extents":   {"vmdk", map[string]any{"subformat": "twoGbMaxExtentFlat"}},
		"VHD dynamic":                    {"vpc", map[string]any{"subformat": "dynamic", "force-size": true}},
		"VHD fixed":                      {"vpc", map[string]any{"subformat": "fixed", "force-size": true}},
		"VHDX dynamic":                   {"vhdx", map[string]any{"subformat": "dynamic"}},
		"VHDX fixed":                     {"vhdx", map[string]any{"subformat": "fixed"}},
		"VHDX in blocks of 1 MiB":        {"vhdx", map[string]any{"block-size": 1 << 20, "log-size": 2 << 20}},
		"VHDX in blocks of 256 MiB":      {"vhdx", map[string]any{"block-size": 256 << 20}},
		"VHDX with zero blocks":          {"vhdx", map[string]any{"block-state-zero": true}},
		"QCOW2 zstd":                     {"qcow2", map[string]any{"compression-type": "zstd"}},
		"QCOW2 fully preallocated":       {"qcow2", map[string]any{"preallocation": "full"}},
		"QCOW2 with wide refcounts":      {"qcow2", map[string]any{"refcount-bits": 64}},
		"QCOW2 with a data file":         {"qcow2", map[string]any{"data-file": "second"}},
		"QCOW2 with a raw data file":     {"qcow2", map[string]any{"data-file": "second", "data-file-raw": true}},
	} {
		t.Run(name, func(t *testing.T) {
			const size = 40<<20 + 512
			dir := t.TempDir()
			path := filepath.Join(dir, "image")
			create(t, path)
			args := []string{"--blockdev", "driver=file,node-name=file,filename=" + path}
			options := map[string]any{"driver": c.driver, "file": "file", "size": size}
			// Images of several files: QEMU makes what the options name.
			extents := 1
			switch c.options["subformat"] {
			case "monolithicFlat", "twoGbMaxExtentFlat", "twoGbMaxExtentSparse":
				extents = 2
			}
			if extents > 1 || c.options["data-file"] != nil {
				create(t, filepath.Join(dir, "second"))
				args = append(args, "--blockdev", "driver=file,node-name=second,filename="+filepath.Join(dir, "second"))
			}
			if extents > 1 {
				options["extents"] = []string{"second"}
			}
			nbd, qmp := daemon(t, args...)
			for k, v := range c.options {
				options[k] = v
			}
			require.NoError(t, qmp("blockdev-create", map[string]any{"job-id": "j", "options": options}))
			truth := make([]byte, size)
			until(t, func() error { return qmp("job-dismiss", map[string]any{"id": "j"}) }) // not before it is done
			added := map[string]any{"driver": c.driver, "node-name": "image", "file": "file"}
			if c.options["data-file"] != nil {
				added["data-file"] = "second"
			}
			require.NoError(t, qmp("blockdev-add", added))
			require.NoError(t, qmp("block-export-add", map[string]any{"type": "nbd", "id": "e", "node-name": "image",
				"name": "image", "writable": true}))
			j := dialNBD(t, nbd, "image")
			require.Equal(t, int64(size), j.size)
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
			require.True(t, img.Info().Clean)
			disktest.Same(t, truth, img)
			if check := img.Links[0].Format.Check; check != nil {
				problems, err := check(open(t, path), formats.Beside(path, formats.Options{}, nil))
				require.NoError(t, err)
				require.Empty(t, problems)
			}
		})
	}
}

// TestSnapshotsInside: QEMU makes snapshots inside an image; they are listed,
// each is read as it was, and a check counts their clusters.
func TestSnapshotsInside(t *testing.T) {
	const size = 4 * mib
	path := filepath.Join(t.TempDir(), "image")
	img, err := qcow2.Create(create(t, path), disk.Spec{VirtualBytes: size, ID: "70126393-2a98-4856-90ac-efe4bba599b2"})
	require.NoError(t, err)
	require.NoError(t, img.Finish())
	nbd, qmp := daemon(t, "--blockdev", "driver=file,node-name=file,filename="+path, "--blockdev",
		"driver=qcow2,node-name=image,file=file",
		"--export", "type=nbd,id=e,node-name=image,name=image,writable=on")
	j := dialNBD(t, nbd, "image")
	truth := make([]byte, size)
	states := map[string][]byte{}
	for n, name := range []string{"before the upgrade", "after it"} {
		p := disktest.Pattern(300*kib, uint32(n))
		j.write(t, int64(n)*200*kib, p)
		copy(truth[n*200*kib:], p)
		j.flush(t)
		require.NoError(t, qmp("blockdev-snapshot-internal-sync", map[string]any{"device": "image", "name": name}))
		states[name] = bytes.Clone(truth)
	}
	j.write(t, 0, disktest.Pattern(mib, 9))
	copy(truth, disktest.Pattern(mib, 9))
	j.flush(t)
	require.NoError(t, j.conn.Close())
	require.NoError(t, qmp("quit", map[string]any{}))
	states[""] = truth
	for name, want := range states {
		c, err := formats.OpenChain(path, formats.Options{Snapshot: name})
		require.NoError(t, err)
		disktest.Same(t, want, c)
		if name == "" {
			require.Len(t, c.Info().Snapshots, 2)
			require.Equal(t, "before the upgrade", c.Info().Snapshots[0].Name)
		}
		require.NoError(t, c.Close())
	}
	_, err = formats.OpenChain(path, formats.Options{Snapshot: "never made"})
	require.ErrorContains(t, err, "keeps no snapshot")
	problems, err := qcow2.Check(open(t, path), nil)
	require.NoError(t, err)
	require.Empty(t, problems)
}

// TestInUse: an image that QEMU has open for writing is not copied, and one
// that it only reads is not repaired or reparented.
func TestInUse(t *testing.T) {
	path := filepath.Join(t.TempDir(), "image")
	img, err := qcow2.Create(create(t, path), disk.Spec{VirtualBytes: mib, ID: "70126393-2a98-4856-90ac-efe4bba599b2"})
	require.NoError(t, err)
	require.NoError(t, img.Finish())
	_, qmp := daemon(t, "--blockdev", "driver=file,node-name=file,filename="+path, "--blockdev",
		"driver=qcow2,node-name=image,file=file",
		"--export", "type=nbd,id=e,node-name=image,name=image,writable=on")
	var fault *formats.Fault
	_, err = formats.OpenChain(path, formats.Options{})
	require.ErrorAs(t, err, &fault)
	require.Equal(t, formats.InUse, fault.Code)
	require.NoError(t, qmp("quit", map[string]any{}))
	c, err := formats.OpenChain(path, formats.Options{})
	require.NoError(t, err)
	require.NoError(t, c.Close())
	daemon(t, "--blockdev", "driver=file,node-name=file,read-only=on,filename="+path, "--blockdev",
		"driver=qcow2,node-name=image,file=file,read-only=on",
		"--export", "type=nbd,id=e,node-name=image,name=image")
	c, err = formats.OpenChain(path, formats.Options{})
	require.NoError(t, err, "reading beside readers")
	require.NoError(t, c.Close())
	require.ErrorAs(t, formats.Unguarded(path, open(t, path)), &fault)
}
