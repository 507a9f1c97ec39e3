package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/BurntSushi/toml"
	"github.com/jedib0t/go-pretty/v6/table"
	"golang.org/x/sync/errgroup"
)

const (
	loadClients = 50
	loadLists   = 2000
	loadExports = 10
	afterLoad   = 20 * time.Second // until memory is looked at again
	listSQL     = "select * from copies where gone_at is null order by name, id limit 200;\n"
)

// load lets many clients ask for lists while packages are written, and tells how long
// they wait and what memory each process takes, then and afterwards.
func (b *bench) load() error {
	before, err := b.resident()
	if err != nil {
		return err
	}
	peak := map[string]int{}
	stop, watched := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(watched)
		for {
			if now, err := b.resident(); err == nil {
				for name, mib := range now {
					peak[name] = max(peak[name], mib)
				}
			}
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	var exports errgroup.Group
	for n := range loadExports {
		exports.Go(func() error {
			return b.client("export", fmt.Sprintf("gannet/training-%02d", n+1),
				filepath.Join(b.dir, fmt.Sprintf("load-%d.ova", n)))
		})
	}
	waits, failed, took, err := b.lists()
	err = errors.Join(err, exports.Wait())
	close(stop)
	<-watched
	if err != nil {
		return err
	}
	slices.Sort(waits)
	at := func(part float64) time.Duration {
		return waits[int(part*float64(len(waits)-1))].Round(time.Millisecond)
	}
	plain, err := b.pgbench()
	if err != nil {
		return err
	}
	rate := float64(len(waits)) / took.Seconds()
	b.row(table.Row{fmt.Sprintf("%d lists by %d clients beside %d exports", loadLists, loadClients, loadExports),
		fmt.Sprintf("%.0f a second", rate), "pgbench, the same rows", fmt.Sprintf("%.0f a second", plain),
		fmt.Sprintf("%.2f", rate/plain), ""})
	b.row(table.Row{"… of which failed; half, and 95 of 100, within",
		fmt.Sprintf("%d; %s, %s", failed, at(0.5), at(0.95)),
		"", "", "", "0"})
	time.Sleep(afterLoad)
	after, err := b.resident()
	if err != nil {
		return err
	}
	var names []string
	for name := range after {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		b.row(table.Row{"memory of " + name, fmt.Sprintf("%d MiB at most", peak[name]), "before, after",
			fmt.Sprintf("%d, %d MiB", before[name], after[name]), "", ""})
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d lists failed", failed, loadLists)
	}
	return nil
}

// lists asks for lists of copies from many clients at once.
func (b *bench) lists() (waits []time.Duration, failed int64, took time.Duration, err error) {
	var profile struct{ Server, Token string }
	if _, err := toml.DecodeFile(filepath.Join(b.dir, "e/client.toml"), &profile); err != nil {
		return nil, 0, 0, err
	}
	client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{MaxIdleConnsPerHost: loadClients}}
	one := func() error {
		req, err := http.NewRequest(http.MethodGet, profile.Server+"/api/v1/copies?limit=200", nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+profile.Token)
		res, err := client.Do(req)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if _, err := io.Copy(io.Discard, res.Body); err != nil || res.StatusCode != http.StatusOK {
			return errors.Join(err, errors.New(res.Status))
		}
		return nil
	}
	var next, broken atomic.Int64
	var mu sync.Mutex
	var all sync.WaitGroup
	began := time.Now()
	for range loadClients {
		all.Go(func() {
			for next.Add(1) <= loadLists {
				at := time.Now()
				if err := one(); err != nil {
					broken.Add(1)
					fmt.Fprintln(os.Stderr, "list:", err)
				}
				mu.Lock()
				waits = append(waits, time.Since(at))
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return waits, broken.Load(), time.Since(began), nil
}

var perSecond = regexp.MustCompile(`tps = ([\d.]+)`)

// pgbench is how many such lists PostgreSQL gives in a second to as many clients.
func (b *bench) pgbench() (float64, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if err != nil || len(found) == 0 {
		return 0, errors.New("pgbench is not there: apt-get install postgresql")
	}
	raw, err := os.ReadFile(filepath.Join(b.dir, "e/demo.json"))
	if err != nil {
		return 0, err
	}
	var kept struct {
		DatabasePassword string
		DatabasePort     int
	}
	if err := json.Unmarshal(raw, &kept); err != nil {
		return 0, err
	}
	script := filepath.Join(b.dir, "lists.sql")
	if err := os.WriteFile(script, []byte(listSQL), 0o644); err != nil {
		return 0, err
	}
	cmd := exec.Command(found[len(found)-1], "-n", "-c", strconv.Itoa(loadClients), "-j", "2", "-t",
		strconv.Itoa(loadLists/loadClients), "-f", script, "-h", "127.0.0.1", "-p", strconv.Itoa(kept.DatabasePort),
		"-U", "unvora", "unvora")
	cmd.Env = append(os.Environ(), "PGPASSWORD="+kept.DatabasePassword)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("pgbench: %w\n%s", err, out)
	}
	m := perSecond.FindSubmatch(out)
	if m == nil {
		return 0, fmt.Errorf("pgbench says no rate:\n%s", out)
	}
	return strconv.ParseFloat(string(bytes.TrimSpace(m[1])), 64)
}

// resident is what memory the estate's own processes take, in MiB, by their names.
func (b *bench) resident() (map[string]int, error) {
	raw, err := os.ReadFile(filepath.Join(b.dir, "e/pids.json"))
	if err != nil {
		return nil, err
	}
	var pids map[string]int
	if err := json.Unmarshal(raw, &pids); err != nil {
		return nil, err
	}
	out := map[string]int{}
	for name, pid := range pids {
		if name == "postgres" { // its memory is shared by its processes
			continue
		}
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			return nil, err
		}
		_, rest, _ := strings.Cut(string(status), "VmRSS:")
		var kib int
		if _, err := fmt.Sscan(rest, &kib); err != nil {
			return nil, fmt.Errorf("memory of %s: %w", name, err)
		}
		out[name] = kib >> 10
	}
	return out, nil
}
