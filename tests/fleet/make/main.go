// Command make makes a sample estate with a large inventory in a directory, which unvora demo then starts: the agents
// of the sample hosts answer, all other hosts are recorded and refuse.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/tests/fleet"
)

func main() {
	size := flag.Int("size", 200_000, "copies")
	seed := flag.Int("seed", 1, "of names and ids")
	dir := flag.String("dir", ".fleet", "where the estate is made")
	port := flag.Int("port", 7480, "of its service meanwhile")
	binary := flag.String("unvora", "bin/unvora", "the program")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, *binary, *dir, *port, *size, *seed); err != nil {
		fmt.Fprintln(os.Stderr, "fleet:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, binary, dir string, port, size, seed int) error {
	if _, err := os.Stat(filepath.Join(dir, "demo.json")); err == nil {
		return fmt.Errorf("%s has an estate already: name another directory, or remove it", dir)
	}
	demo := exec.Command(binary, "demo", "--dir", dir, "--port", fmt.Sprint(port))
	said, err := demo.StdoutPipe()
	if err != nil {
		return err
	}
	demo.Stderr = os.Stderr
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() {
		_ = demo.Process.Signal(os.Interrupt)
		_ = demo.Wait()
	}()
	if err := up(said); err != nil {
		return err
	}
	began := time.Now()
	export := exec.CommandContext(ctx, binary, "export", "gannet/buoy-ingest", "loft", "--yes")
	export.Env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(dir, "client.toml"))
	if out, err := export.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	conn, err := connect(ctx, dir)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if err := fleet.Fill(ctx, conn, size, seed); err != nil {
		return err
	}
	fmt.Printf("%d copies in %s. Start it: %s demo --dir %s --port %d\n", size, time.Since(began).Round(time.Second),
		binary, dir, port)
	return nil
}

// up waits until a demo says how it is stopped, which it says last.
func up(said io.Reader) error {
	for lines := bufio.NewScanner(said); lines.Scan(); {
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			go func() { _, _ = io.Copy(io.Discard, said) }()
			return nil
		}
	}
	return fmt.Errorf("the estate did not start")
}

func connect(ctx context.Context, dir string) (*pgx.Conn, error) {
	raw, err := os.ReadFile(filepath.Join(dir, "demo.json"))
	if err != nil {
		return nil, err
	}
	var kept struct {
		DatabasePassword string
		DatabasePort     int
	}
	if err := json.Unmarshal(raw, &kept); err != nil {
		return nil, err
	}
	return pgx.Connect(ctx, fmt.Sprintf("postgres://unvora:%s@127.0.0.1:%d/unvora", kept.DatabasePassword,
		kept.DatabasePort))
}
