package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// managers measures the import from a foreign manager, and what fetching ahead
// saves: the volume has 512 MiB of data, of which a mebibyte changes.
func (b *bench) managers() error {
	volumes := filepath.Join(b.dir, "e/managers/mainland/volumes")
	if err := fillVolume(filepath.Join(volumes, "swell-archive-disk1.raw"), 512); err != nil {
		return err
	}
	from := []string{"import", "--from", "mainland", "swell-archive", "--host", "gannet", "--answer",
		"manager.running=moment"}
	name := func(n int) string { return fmt.Sprintf("swell-%d", n) }
	err := b.pairs("import from a manager, disk with 512 MiB of data", "cp", 0,
		func(n int) error { return b.client(append(from, "--name", name(n), "--yes")...) },
		func(int) error {
			return b.shell("cp --sparse=always e/managers/mainland/volumes/swell-archive-disk1.raw " +
				"copy.raw && sync copy.raw")
		},
		func(n int) error {
			return b.client("delist", "gannet/"+name(n), "--files", "trash", "--yes")
		})
	if err != nil {
		return err
	}
	ahead := append(from, "--ahead")
	first, err := timed(func() error { return b.client(ahead...) })
	if err != nil {
		return err
	}
	var again []float64
	for range b.runs {
		secs, err := timed(func() error { return b.client(ahead...) })
		if err != nil {
			return err
		}
		again = append(again, secs)
		time.Sleep(100 * time.Millisecond)
	}
	b.row([]any{"fetched ahead again, 1 MiB has changed", fmt.Sprintf("%.2f s", median(again)), "the first time",
		fmt.Sprintf("%.2f s", first), fmt.Sprintf("%.2f", median(again)/first), ""})
	return nil
}

// fillVolume writes mebibytes that don't compress.
func fillVolume(path string, mib int64) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	rng, block := rand.NewChaCha8([32]byte{5}), make([]byte, 1<<20)
	for n := range mib {
		_, _ = rng.Read(block)
		if _, err := f.WriteAt(block, (64+n)<<20); err != nil {
			return err
		}
	}
	return f.Sync()
}
