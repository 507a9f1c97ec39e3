// Command bench measures Unvora against plain tools, each pair at the same
// moment, and prints the ratios as a table. The machine's own speed and noise
// so fall out of the figures; the median of several pairs is told.
package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/raw"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

const (
	gib      = 1 << 30
	diskSize = 4 * gib
)

func main() {
	binary := flag.String("unvora", "bin/unvora", "the binary to measure")
	dir := flag.String("dir", "", "scratch directory; a temporary one unless said")
	runs := flag.Int("n", 5, "pairs to run")
	data := flag.Int64("data", gib>>20, "MiB of data on the disk")
	hosts := flag.Int("hosts", 1000, "stand-in hosts of the fleet")
	only := flag.String("only", "", "one part: disks, load, estate, register, move, power, managers, fleet, survey; "+
		"or, measured only when asked for, large, the disks of a TiB, and scale, an estate of make fleet")
	fleet := flag.String("fleet", "", "the directory of that estate")
	flag.Parse()
	if err := run(*binary, *dir, *only, *fleet, *runs, *hosts, *data<<20); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	dir, unvora string
	runs        int
	env         []string
	table       table.Writer
	stop        func()     // ends the estate; nil: there is none yet
	packed      [][][]byte // blocks of the disk, compressed, for each core
}

func run(binary, dir, only, fleet string, runs, hosts int, data int64) error {
	binary, err := filepath.Abs(binary)
	if err != nil {
		return err
	}
	if dir == "" {
		if dir, err = os.MkdirTemp("", "unvora-bench-"); err != nil {
			return err
		}
		if err := os.Chmod(dir, 0o755); err != nil {
			return err
		}
		defer func() { _ = os.RemoveAll(dir) }()
	}
	b := &bench{dir: dir, unvora: binary, runs: runs, table: table.NewWriter()}
	b.table.SetOutputMirror(os.Stdout)
	b.table.AppendHeader(table.Row{"work", "unvora", "against", "plain tool", "ratio", "at most", "× its floor"})
	fmt.Printf("making a disk of %d GiB with %d MiB of data …\n", diskSize/gib, data>>20)
	image := filepath.Join(dir, "disk.img")
	if err := makeDisk(image, data); err != nil {
		return err
	}
	defer b.table.Render()
	for _, part := range []struct {
		name    string
		asked   bool // measured only when it is asked for
		estate  bool // it needs one
		measure func() error
	}{
		{name: "large", asked: true, measure: b.tebibyte},
		{name: "scale", asked: true, measure: func() error { return b.scale(fleet) }},
		{name: "disks", measure: func() error { return b.disks(data) }},
		{name: "load", estate: true, measure: b.load},
		{name: "estate", estate: true, measure: func() error { return errors.Join(b.packages(image), b.memory()) }},
		{name: "register", estate: true, measure: b.register},
		{name: "move", estate: true, measure: func() error { return b.move(image) }},
		{name: "power", estate: true, measure: b.power},
		{name: "managers", estate: true, measure: b.managers},
		{name: "fleet", estate: true, measure: func() error { return b.fleet(hosts) }},
		{name: "survey", measure: b.survey},
	} {
		if only != "" && part.name != only || only == "" && part.asked {
			continue
		}
		if part.estate && b.stop == nil {
			if b.stop, err = b.estate(); err != nil {
				return err
			}
			defer b.stop()
			if err := makePackage(image, filepath.Join(dir, "e/hosts/gannet/loft/bench.ova")); err != nil {
				return err
			}
			if err := b.client("survey"); err != nil {
				return err
			}
		}
		if err := part.measure(); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	return nil
}

// estate starts a demo to measure in.
func (b *bench) estate() (stop func(), err error) {
	cmd := exec.Command(b.unvora, "demo", "--dir", filepath.Join(b.dir, "e"), "--port", "7678")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	var said strings.Builder
	buf := make([]byte, 4096)
	for !strings.Contains(said.String(), "Ctrl-C") {
		n, err := out.Read(buf)
		said.Write(buf[:n])
		if err != nil {
			return nil, fmt.Errorf("the demo did not start: %s", said.String())
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	b.env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(b.dir, "e/client.toml"))
	return func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}, nil
}

func (b *bench) client(args ...string) error {
	cmd := exec.Command(b.unvora, append(args, "-q")...)
	cmd.Env = b.env
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("unvora %s: %w\n%s", strings.Join(args, " "), err, out)
	}
	return nil
}

func (b *bench) shell(command string) error {
	cmd := exec.Command("sh", "-c", command)
	cmd.Dir = b.dir
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", command, err, out)
	}
	return nil
}

// row adds a line to the table and says so at once: the whole takes a while.
func (b *bench) row(r table.Row) {
	b.table.AppendRow(r)
	fmt.Fprintln(os.Stderr, append([]any{"measured:"}, r...)...)
}

func timed(f func() error) (float64, error) {
	began := time.Now()
	err := f()
	return time.Since(began).Seconds(), err
}

// pairs runs ours and theirs in turn and adds a row with the medians.
func (b *bench) pairs(work, against string, most float64, ours, theirs, between func(n int) error) error {
	return b.above(nil, work, against, most, ours, theirs, between)
}

// above is pairs, with how much longer ours takes than floor does: the part of it that takes longest, by itself, with
// the disk's data.
func (b *bench) above(floor func(dense string) error, work, against string, most float64, ours, theirs,
	between func(n int) error) error {
	var us, them, ratios, floors []float64
	for n := range b.runs + 1 {
		o, err := timed(func() error { return ours(n) })
		if err != nil {
			return err
		}
		t, err := timed(func() error { return theirs(n) })
		if err != nil {
			return err
		}
		f := 0.0
		if floor != nil {
			f, err = timed(func() error { return floor(filepath.Join(b.dir, "dense.bin")) })
		}
		if err != nil {
			return err
		}
		if err := between(n); err != nil {
			return err
		}
		if n > 0 { // the first pair warms up
			us, them, ratios = append(us, o), append(them, t), append(ratios, o/t)
			if floor != nil {
				floors = append(floors, o/f)
			}
		}
	}
	r := table.Row{work, fmt.Sprintf("%.2f s", median(us)), against, fmt.Sprintf("%.2f s", median(them)),
		fmt.Sprintf("%.2f", median(ratios)), atMost(most)}
	if len(floors) > 0 {
		r = append(r, fmt.Sprintf("%.2f", median(floors)))
	}
	b.row(r)
	return nil
}

// atMost is "" where nothing is demanded.
func atMost(most float64) string {
	if most == 0 {
		return ""
	}
	return fmt.Sprint(most)
}

func median(v []float64) float64 {
	slices.Sort(v)
	return v[len(v)/2]
}

func (b *bench) packages(image string) error {
	shelf := filepath.Join(b.dir, "e/hosts/gannet/loft")
	reef := filepath.Join(b.dir, "e/hosts/gannet/reef")
	tgz := filepath.Join(b.dir, "disk.tgz")
	if err := b.shell("tar -cS disk.img | pigz -1 -p 2 > disk.tgz"); err != nil {
		return err
	}
	if err := b.client("import", "loft/bench.ova", "--host", "gannet", "--name", "bench", "--yes"); err != nil {
		return err
	}
	err := b.pairs("export to OVA", "tar -cS | pigz -1 -p 2", 0.6,
		func(n int) error { return b.client("export", "gannet/bench", fmt.Sprintf("loft/out%d.ova", n)) },
		func(int) error { return b.shell("tar -cS disk.img | pigz -1 -p 2 > disk.tgz && sync disk.tgz") },
		func(n int) error {
			if n < b.runs {
				return os.Remove(filepath.Join(shelf, fmt.Sprintf("out%d.ova", n)))
			}
			return nil
		})
	if err != nil {
		return err
	}
	ours, err := os.Stat(filepath.Join(shelf, fmt.Sprintf("out%d.ova", b.runs)))
	if err != nil {
		return err
	}
	theirs, err := os.Stat(tgz)
	if err != nil {
		return err
	}
	b.row(table.Row{"size of the OVA", fmt.Sprintf("%d MiB", ours.Size()>>20), "pigz -1",
		fmt.Sprintf("%d MiB", theirs.Size()>>20), fmt.Sprintf("%.2f", float64(ours.Size())/float64(theirs.Size())),
		1.1})
	return b.pairs("import of it to QCOW2", "pigz -d | tar -xS", 0.9,
		func(n int) error {
			return b.client("import", fmt.Sprintf("loft/out%d.ova", b.runs), "--host", "gannet", "--name",
				fmt.Sprintf("in%d", n), "--yes")
		},
		func(int) error { return b.shell("mkdir -p x && pigz -d < disk.tgz | tar -xS -C x && sync x/disk.img") },
		func(n int) error {
			return os.RemoveAll(filepath.Join(reef, fmt.Sprintf("in%d", n)))
		})
}

// memory tells what the agent took at its most, all the way.
func (b *bench) memory() error {
	raw, err := os.ReadFile(filepath.Join(b.dir, "e/pids.json"))
	if err != nil {
		return err
	}
	var pids map[string]int
	if err := json.Unmarshal(raw, &pids); err != nil {
		return err
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pids["agent-gannet"]))
	if err != nil {
		return err
	}
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	var kib int
	if _, err := fmt.Sscan(rest, &kib); err != nil {
		return err
	}
	b.row(table.Row{"memory of the agent", fmt.Sprintf("%d MiB", kib>>10), "", "", "", "150 MiB"})
	return nil
}

// survey runs the agent's own benchmark of an unchanged host.
func (b *bench) survey() error {
	out, err := exec.Command("go", "test", "./internal/agent/sight", "-run", "^$", "-bench", "Survey",
		"-benchmem").CombinedOutput()
	fmt.Printf("\nSurvey of an unchanged host with 1,000 machines (at most 5 ms):\n%s", out)
	return err
}

// makeDisk writes an image with that much data, in runs with holes between.
func makeDisk(path string, data int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Truncate(diskSize); err != nil {
		return err
	}
	rng := rand.New(rand.NewChaCha8([32]byte{1}))
	block := make([]byte, 1<<20)
	runs := data >> 20
	for n := range runs {
		text(block, rng)
		if _, err := f.WriteAt(block, (n/16*16*(diskSize>>20)/runs+n%16)<<20); err != nil {
			return err
		}
	}
	return f.Sync()
}

// text fills p with lines and numbers; a quarter does not compress.
func text(p []byte, rng *rand.Rand) {
	words := []string{"tide", "level", "metres", "gauge", "north", "buoy", "wave", "height", "period", "station"}
	for n := 0; n < len(p); {
		if rng.IntN(4) == 0 {
			n += copy(p[n:], fmt.Sprintf("%c%c%c%c%c%c", rng.IntN(256), rng.IntN(256), rng.IntN(256), rng.IntN(256),
				rng.IntN(256), rng.IntN(256)))
		}
		n += copy(p[n:], words[rng.IntN(len(words))])
		n += copy(p[n:], fmt.Sprintf(" %d\n", rng.IntN(100000)))
	}
}

func makePackage(image, out string) error {
	in, err := os.Open(image)
	if err != nil {
		return err
	}
	src, err := disk.OpenFile(in)
	if err != nil {
		return err
	}
	img, err := raw.Open(src)
	if err != nil {
		return err
	}
	defer img.Close()
	m := &machine.Machine{Name: "bench", UUID: "5a0a39b0-7b0c-4d51-9d43-16ad4e9e1d15",
		FirmwareUUID: "f9c5a4f5-0f4c-44a3-8a86-3f8a35f7bd34", CPUs: 1, MemoryBytes: gib, Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: "bench.vmdk", Format: "vmdk", VirtualBytes: diskSize,
			Controller: "virtio-scsi"}}}
	d, err := ovf.New(m)
	if err != nil {
		return err
	}
	descriptor, err := d.Encode(8192)
	if err != nil {
		return err
	}
	f, err := os.Create(out)
	if err != nil {
		return err
	}
	defer f.Close()
	w := ovf.NewWriter(f, "bench.ovf", len(descriptor), time.Now(), ovf.SHA256, nil)
	h := sha256.New()
	target, err := vmdk.CreateStream(io.MultiWriter(io.NewOffsetWriter(f, w.Begin()), h),
		disk.Spec{VirtualBytes: diskSize, ID: "0000beef"}, nil)
	if err != nil {
		return err
	}
	if err := disk.Pump(context.Background(), target, disk.ImageFeed(img, 0, target.BlockBytes()),
		disk.Options{}); err != nil {
		return err
	}
	if err := target.Finish(); err != nil {
		return err
	}
	if err := w.End(ovf.Member{Name: "bench.vmdk", Size: target.Length(),
		Sum: hex.EncodeToString(h.Sum(nil))}); err != nil {
		return err
	}
	_, err = w.Finish(descriptor)
	return err
}
