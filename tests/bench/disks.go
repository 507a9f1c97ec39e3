package main

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/nbd"
)

const benchID = "70126393-2a98-4856-90ac-efe4bba599b2"

// disks measures work on images: whole commands, both sides synced.
func (b *bench) disks(data int64) error {
	if err := b.dense(data); err != nil {
		return err
	}
	for _, make := range []string{"copy disk.img twin.qcow2 --format qcow2",
		"copy disk.img twin.vmdk --format vmdk --variant stream"} {
		if err := b.shell(b.unvora + " disk " + make + " -q"); err != nil {
			return err
		}
	}
	if err := b.shell("pigz -1 -p 2 -c dense.bin > dense.gz && rm -f x y"); err != nil {
		return err
	}
	const cp = "cp --sparse=always disk.img y && sync y"
	for _, w := range []struct {
		work, ours, against, theirs string
		most                        float64
		floor                       func(dense string) error // what it can't be quicker than; nil: nobody knows
	}{
		{"raw → raw", "copy disk.img x --format raw", "cp --sparse=always", cp, 1.3, nil},
		{"raw → QCOW2", "copy disk.img x --format qcow2", "cp --sparse=always", cp, 1.3, nil},
		{"raw → VHDX", "copy disk.img x --format vhdx", "cp --sparse=always", cp, 1.3, nil},
		{"QCOW2 → raw", "copy twin.qcow2 x --format raw", "cp --sparse=always of the raw twin", cp, 1.3, nil},
		{"raw → QCOW2, read back", "copy disk.img x --format qcow2 --verify", "cp --sparse=always", cp, 0, nil},
		{"raw → stream-optimized VMDK", "copy disk.img x --format vmdk --variant stream", "pigz -1 -p 2 of its data",
			"pigz -1 -p 2 -c dense.bin > y && sync y", 0.6, packAll},
		{"stream-optimized VMDK → QCOW2", "copy twin.vmdk x --format qcow2", "pigz -dc of its data",
			"pigz -dc dense.gz > y && sync y", 0.9, b.inflate},
		{"disk sum of the QCOW2", "sum twin.qcow2", "sha256sum of the raw twin", "sha256sum disk.img", 1.0, nil},
		{"disk sum --tree of the QCOW2", "sum twin.qcow2 --tree", "reading its data", "cat dense.bin > /dev/null", 0,
			nil},
		{"disk compare, QCOW2 and raw", "compare twin.qcow2 disk.img", "reading its data twice",
			"cat dense.bin disk.img > /dev/null", 0, nil},
	} {
		runs := b.runs
		if w.against == "sha256sum of the raw twin" {
			b.runs = min(runs, 2) // most of a minute each
		}
		err := b.above(w.floor, w.work, w.against, w.most,
			func(int) error { return b.shell(b.unvora + " disk " + w.ours + " -q") },
			func(int) error { return b.shell(w.theirs) },
			func(int) error { return b.shell("rm -f x y") })
		if b.runs = runs; err != nil {
			return err
		}
	}
	if err := b.compareSizes("size of the stream", "twin.vmdk", "dense.gz"); err != nil {
		return err
	}
	if err := b.overTLS(); err != nil {
		return err
	}
	if err := b.tebibyte(); err != nil {
		return err
	}
	return b.digest()
}

// dense is the disk's data alone, without its holes.
func (b *bench) dense(data int64) error {
	in, err := os.Open(filepath.Join(b.dir, "disk.img"))
	if err != nil {
		return err
	}
	defer in.Close()
	src, err := disk.OpenFile(in)
	if err != nil {
		return err
	}
	out, err := os.Create(filepath.Join(b.dir, "dense.bin"))
	if err != nil {
		return err
	}
	defer out.Close()
	buf := make([]byte, 1<<20)
	var written int64
	for off := int64(0); ; {
		start, end, err := src.NextData(off)
		if err != nil {
			break
		}
		for start < end {
			n, err := in.ReadAt(buf[:min(int64(len(buf)), end-start)], start)
			if err != nil {
				return err
			}
			if _, err := out.Write(buf[:n]); err != nil {
				return err
			}
			start, written = start+int64(n), written+int64(n)
		}
		off = end
	}
	if written < data {
		return fmt.Errorf("the disk has %d bytes of data, not %d", written, data)
	}
	return out.Sync()
}

func (b *bench) compareSizes(work, ours, theirs string) error {
	o, err := os.Stat(filepath.Join(b.dir, ours))
	if err != nil {
		return err
	}
	t, err := os.Stat(filepath.Join(b.dir, theirs))
	if err != nil {
		return err
	}
	b.row(table.Row{work, fmt.Sprintf("%d MiB", o.Size()>>20), "pigz -1", fmt.Sprintf("%d MiB", t.Size()>>20),
		fmt.Sprintf("%.2f", float64(o.Size())/float64(t.Size())), 1.1})
	return nil
}

// overTLS moves the disk from one end of a TLS connection to the other as
// agents do, over loopback.
func (b *bench) overTLS() error {
	certPEM, keyPEM, err := hostlink.NewAuthority()
	if err != nil {
		return err
	}
	authority, err := hostlink.LoadAuthority(certPEM, keyPEM)
	if err != nil {
		return err
	}
	config, err := authority.ServiceTLS()
	if err != nil {
		return err
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", config)
	if err != nil {
		return err
	}
	defer l.Close()
	server := &nbd.Server{Find: func(context.Context, string, net.Conn) (*nbd.Export, error) {
		c, err := formats.OpenChain(filepath.Join(b.dir, "twin.qcow2"), formats.Options{})
		if err != nil {
			return nil, err
		}
		return &nbd.Export{Image: c, Close: func() { c.Close() }}, nil
	}}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = server.Serve(context.Background(), conn) }()
		}
	}()
	client := config.Clone()
	client.ServerName = hostlink.ServiceName
	return b.pairs("QCOW2 → NBD over TLS → raw", "cp --sparse=always of the raw twin", 2,
		func(int) error {
			conn, err := tls.Dial("tcp", l.Addr().String(), client)
			if err != nil {
				return err
			}
			img, err := nbd.Open(context.Background(), conn, nbd.Options{Name: "disk"})
			if err != nil {
				return err
			}
			defer img.Close()
			return write(filepath.Join(b.dir, "x"), "raw", img)
		},
		func(int) error { return b.shell("cp --sparse=always disk.img y && sync y") },
		func(int) error { return b.shell("rm -f x y") })
}

func write(path, format string, img disk.Image) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	file, err := disk.OpenFile(f)
	if err != nil {
		return err
	}
	to, err := formats.ByName(format)
	if err != nil {
		return err
	}
	target, err := to.Create(file, disk.Spec{VirtualBytes: img.Info().VirtualBytes, ID: benchID})
	if err != nil {
		return err
	}
	if err := disk.Pump(context.Background(), target, disk.ImageFeed(img, 0, target.BlockBytes()),
		disk.Options{}); err != nil {
		return err
	}
	return target.Finish()
}

// tebibyte times the map of a disk of 1 TiB with 1 % of data, and new layers on
// it and on one of 1 GiB.
func (b *bench) tebibyte() error {
	for _, size := range []string{"1024", "1"} {
		path := filepath.Join(b.dir, "large"+size+".qcow2")
		if err := write(path, "qcow2", &scattered{size: map[string]int64{"1024": 1 << 40,
			"1": gib}[size]}); err != nil {
			return err
		}
	}
	var shows []float64
	layers := map[string][]float64{}
	for n := range b.runs {
		s, err := timed(func() error { return b.shell(b.unvora + " disk show large1024.qcow2") })
		if err != nil {
			return err
		}
		shows = append(shows, s)
		for _, size := range []string{"1024", "1"} {
			l, err := timed(func() error {
				return b.shell(fmt.Sprintf("%s disk layer l%s-%d.qcow2 --parent large%s.qcow2", b.unvora, size, n,
					size))
			})
			if err != nil {
				return err
			}
			layers[size] = append(layers[size], l)
		}
	}
	b.row(table.Row{"map of 1 TiB with 1 % data", fmt.Sprintf("%.3f s", median(shows)), "", "", "", "1 s"})
	large, small := median(layers["1024"]), median(layers["1"])
	b.row(table.Row{"new layer on 1 TiB", fmt.Sprintf("%.3f s", large), "the same on 1 GiB",
		fmt.Sprintf("%.3f s", small),
		fmt.Sprintf("%.2f", large/small), "1"})
	// Memory of a copy, at its most.
	cmd := exec.Command(b.unvora, "disk", "copy", "large1024.qcow2", "x", "--format", "vhdx", "-q")
	cmd.Dir = b.dir
	if err := cmd.Run(); err != nil {
		return err
	}
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		b.row(table.Row{"memory of a copy of 1 TiB to VHDX", fmt.Sprintf("%d MiB", usage.Maxrss>>10), "", "", "",
			"200 MiB"})
	}
	return b.shell("rm -f large*.qcow2 l*.qcow2 x")
}

// scattered has a block of 64 KiB of data in every hundred.
type scattered struct{ size int64 }

const step = 100 * 64 << 10

func (s *scattered) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: s.size, SectorBytes: 512, Clean: true}
}
func (s *scattered) Close() error { return nil }
func (s *scattered) Map(off int64) (disk.Range, error) {
	if in := off % step; in >= 64<<10 {
		return disk.Range{Offset: off, Length: min(step-in, s.size-off), Kind: disk.Zero}, nil
	}
	return disk.Range{Offset: off, Length: min(64<<10-off%step, s.size-off), Kind: disk.Data}, nil
}
func (s *scattered) ReadAt(p []byte, off int64) (int, error) {
	copy(p, fmt.Sprintf("reading %d", off))
	return len(p), nil
}

// digest compares the pump's own check with SHA-256, over memory.
func (b *bench) digest() error {
	img := disktest.Plain(disktest.Pattern(256<<20, 1))
	began := time.Now()
	if err := disk.ReadBack(context.Background(), img, disk.NewDigest(256<<20), nil); err == nil {
		return fmt.Errorf("read back: an empty digest should differ")
	}
	own := time.Since(began).Seconds()
	began = time.Now()
	if err := disk.Sum(context.Background(), img, sha256.New(), nil); err != nil {
		return err
	}
	sum := time.Since(began).Seconds()
	b.row(table.Row{"the pump's own check, 256 MiB in memory", fmt.Sprintf("%.3f s", own), "SHA-256 of it",
		fmt.Sprintf("%.3f s", sum), fmt.Sprintf("%.2f", own/sum), "far less"})
	return nil
}
