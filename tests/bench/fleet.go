package main

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/agent/ground"
)

const (
	copiesEach  = 40
	largeFamily = 500
)

// fleet measures the inventory with many stand-in hosts, whose agents run here.
func (b *bench) fleet(hosts int) error {
	c, err := b.api()
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	fmt.Printf("making %d hosts of %d copies …\n", hosts, copiesEach)
	root := filepath.Join(b.dir, "fleet")
	if err := makeFleet(ctx, c, root, hosts); err != nil {
		return err
	}
	pools := func(n int) string { return filepath.Join(root, fmt.Sprintf("host-%04d", n), "pool") }
	survey := func(names ...string) (float64, error) {
		return timed(func() error {
			res, err := c.SurveyWithResponse(ctx, openapi.SurveyJSONRequestBody{Hosts: &names})
			if err == nil && res.JSON200 == nil {
				err = fmt.Errorf("survey: %s", res.Body)
			}
			return err
		})
	}
	if _, err := survey(); err != nil {
		return err
	}
	quiet, err := survey()
	if err != nil {
		return err
	}
	b.row([]any{fmt.Sprintf("survey of %d hosts, nothing changed", hosts), fmt.Sprintf("%.2f s", quiet), "", "", "",
		""})
	var changed []float64
	for round := range b.runs {
		for n := range hosts * copiesEach / 100 { // one in a hundred copies
			name := fmt.Sprintf("m-%04d-%02d", n%hosts, n/hosts+round)
			if err := os.WriteFile(filepath.Join(pools(n%hosts), name, fmt.Sprint("note-", round)), nil,
				0o644); err != nil {
				return err
			}
		}
		secs, err := survey()
		if err != nil {
			return err
		}
		changed = append(changed, secs)
	}
	b.row([]any{"the same, one copy in a hundred changed", fmt.Sprintf("%.2f s", median(changed)), "", "", "", "2 s"})

	var found []float64
	for round := range b.runs * 4 {
		from := filepath.Join(pools(round), fmt.Sprintf("m-%04d-%02d", round, round%copiesEach))
		to := filepath.Join(pools(round), fmt.Sprintf("by-hand-%d", round))
		if err := os.CopyFS(to, os.DirFS(from)); err != nil {
			return err
		}
		secs, err := survey(fmt.Sprintf("host-%04d", round))
		if err != nil {
			return err
		}
		found = append(found, secs)
	}
	res, err := c.ListCopiesWithResponse(ctx, &openapi.ListCopiesParams{Filter: new("form=stray"), Limit: new(1000)})
	if err != nil {
		return err
	}
	recognised := 0
	for _, k := range res.JSON200.Items {
		if k.Parent != nil {
			recognised++
		}
	}
	if recognised < b.runs*4 {
		return fmt.Errorf("only %d of %d folders copied by hand were recognised", recognised, b.runs*4)
	}
	b.row([]any{fmt.Sprintf("a stray recognised among %d copies, survey of its host included", hosts*copiesEach),
		fmt.Sprintf("%.0f ms", median(found)*1000), "", "", "", "50 ms"})

	var pages []float64
	for n := range 200 {
		filter := []string{fmt.Sprintf("host=host-%04d", n%hosts), fmt.Sprintf("name~m-%03d*", n%100),
			"state=stopped form=registered", fmt.Sprintf("name~*-%02d", n%copiesEach)}[n%4]
		secs, err := timed(func() error {
			res, err := c.ListCopiesWithResponse(ctx, &openapi.ListCopiesParams{Filter: &filter, Limit: new(100)})
			if err == nil && res.JSON200 == nil {
				err = fmt.Errorf("copies: %s", res.Body)
			}
			return err
		})
		if err != nil {
			return err
		}
		pages = append(pages, secs)
	}
	slices.Sort(pages)
	b.row([]any{"a page of 100 copies, filtered and sorted, 95th percentile",
		fmt.Sprintf("%.0f ms", pages[len(pages)*95/100]*1000), "median", fmt.Sprintf("%.0f ms", median(pages)*1000), "",
		"20 ms"})
	lineage, err := b.largeFamily(ctx, c)
	if err != nil {
		return err
	}
	var where []float64
	for range b.runs * 10 {
		secs, err := timed(func() error {
			res, err := c.GetLineageWithResponse(ctx, &openapi.GetLineageParams{Name: lineage})
			if err == nil && (res.JSON200 == nil || len(res.JSON200.Copies) < largeFamily) {
				err = fmt.Errorf("lineage: %s", res.Body[:min(300, len(res.Body))])
			}
			return err
		})
		if err != nil {
			return err
		}
		where = append(where, secs)
	}
	b.row([]any{fmt.Sprintf("where, of a lineage with %d copies", largeFamily),
		fmt.Sprintf("%.0f ms", median(where)*1000),
		"", "", "", "20 ms"})
	attention, err := timed(func() error {
		res, err := c.ListAttentionWithResponse(ctx, nil)
		if err == nil && res.JSON200 == nil {
			err = fmt.Errorf("attention: %s", res.Body)
		}
		return err
	})
	b.row([]any{"attention", fmt.Sprintf("%.0f ms", attention*1000), "", "", "", ""})
	return err
}

// largeFamily gives one lineage many copies, in the database at once.
func (b *bench) largeFamily(ctx context.Context, c *openapi.ClientWithResponses) (string, error) {
	raw, err := os.ReadFile(filepath.Join(b.dir, "e/demo.json"))
	if err != nil {
		return "", err
	}
	var k struct {
		DatabasePassword string
		DatabasePort     int
	}
	if err := json.Unmarshal(raw, &k); err != nil {
		return "", err
	}
	db, err := pgx.Connect(ctx, fmt.Sprintf("postgres://unvora:%s@127.0.0.1:%d/unvora", k.DatabasePassword,
		k.DatabasePort))
	if err != nil {
		return "", err
	}
	defer db.Close(ctx)
	res, err := c.GetCopyWithResponse(ctx, &openapi.GetCopyParams{Name: "host-0000/m-0000-00"})
	if err != nil {
		return "", err
	}
	_, err = db.Exec(ctx,
		`insert into copies (id, lineage_id, name, form, host_id, pool_id, path, rel, uuid, state,
			parent_id, made_by, made_at, identity, renewed, last_seen, size_bytes, machine)
		select gen_random_uuid(), lineage_id, name || n, form, host_id, pool_id, path || n, rel || n,
			gen_random_uuid(), state, id, 'clone', made_at + n * interval '1 minute', 'renew', '{uuid}', last_seen,
			size_bytes, machine
		from copies, generate_series(1, $2) n where id = $1`, res.JSON200.Id, largeFamily)
	return res.JSON200.Lineage, err
}

// makeFleet starts the agents, as many as there are hosts, and adds them.
func makeFleet(ctx context.Context, c *openapi.ClientWithResponses, root string, hosts int) error {
	var mu sync.Mutex
	began, done := time.Now(), 0
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for n := range hosts {
		g.Go(func() error {
			a, l, err := makeHost(root, n)
			if err != nil {
				return err
			}
			go func() { _ = a.Serve(ctx, l) }()
			res, err := c.AddHostWithResponse(gctx, openapi.AddHost{Address: l.Addr().String(), Code: a.Code()})
			if err == nil && res.JSON201 == nil {
				err = fmt.Errorf("add host %d: %s", n, res.Body)
			}
			mu.Lock()
			defer mu.Unlock()
			if done++; done%100 == 0 {
				fmt.Printf("  %d hosts after %.0f s\n", done, time.Since(began).Seconds())
			}
			return err
		})
	}
	return g.Wait()
}

func makeHost(root string, n int) (*agent.Agent, net.Listener, error) {
	name := fmt.Sprintf("host-%04d", n)
	pool := filepath.Join(root, name, "pool")
	config := agent.Config{Name: name, Site: fmt.Sprintf("site-%02d", n%20), Family: "slate", Driver: "standin",
		Listen: "127.0.0.1:0", State: filepath.Join(root, name, "state"), CPUs: 64, MemoryMB: 1 << 20,
		Pools:    []ground.PoolConfig{{Name: "pool-" + name, Path: pool, Rate: 1 << 30}},
		Switches: []wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}}}
	for m := range copiesEach {
		folder := filepath.Join(pool, fmt.Sprintf("m-%04d-%02d", n, m))
		if err := makeSmall(folder, n*copiesEach+m); err != nil {
			return nil, nil, err
		}
		config.Machines = append(config.Machines, ground.MachineConfig{Folder: folder})
	}
	a, err := agent.New(config, standin.New(config.Switches, nil, config.Door()), slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, nil, err
	}
	l, err := a.Listen()
	return a, l, err
}

// makeSmall makes a machine folder with a disk that holds something only where
// samples are taken.
func makeSmall(folder string, number int) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	image, err := os.Create(filepath.Join(folder, "disk.img"))
	if err != nil {
		return err
	}
	piece := make([]byte, 4<<10)
	for cell := range uint64(6) {
		at := int64(cell)<<20 + int64(xxhash.Sum64(binary.LittleEndian.AppendUint64(nil, cell))%64)<<14
		for i := range piece {
			piece[i] = byte(number>>(i%3*8)) ^ byte(i+int(cell))
		}
		if _, err := image.WriteAt(piece, at); err != nil {
			return err
		}
	}
	if err := image.Truncate(8 << 20); err != nil {
		return err
	}
	if err := image.Close(); err != nil {
		return err
	}
	name := filepath.Base(folder)
	d, err := ovf.New(&machine.Machine{Name: name, UUID: uuid.NewString(), CPUs: 1, MemoryBytes: 1 << 30,
		Firmware: "bios",
		Guest:    "Debian GNU/Linux 12 (64-bit)",
		Disks: []machine.Disk{{ID: "disk1", File: "disk.img", Format: "raw", VirtualBytes: 8 << 20,
			Controller: "virtio-scsi"}},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: fmt.Sprintf("06:5c:10:%02x:%02x:%02x",
			byte(number>>16),
			byte(number>>8), byte(number)), Network: "lab"}}})
	if err != nil {
		return err
	}
	raw, err := d.Encode(0)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644)
}
