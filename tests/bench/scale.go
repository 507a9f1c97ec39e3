package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

const (
	scalePort  = 7679
	subscribed = 20 // consoles that are open
	asked      = 40 // times that each call is made
)

// scale measures calls over an estate that make fleet has made, with its hosts watched, and consoles open.
func (b *bench) scale(dir string) error {
	if dir == "" {
		return errors.New("it needs an estate: make fleet SIZE=2000000 DIR=D, then -fleet D")
	}
	demo := exec.Command(b.unvora, "demo", "--dir", dir, "--port", fmt.Sprint(scalePort), "--services", "2")
	out, err := demo.StdoutPipe()
	if err != nil {
		return err
	}
	demo.Stderr = os.Stderr
	began := time.Now()
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() {
		_ = demo.Process.Signal(os.Interrupt)
		_ = demo.Wait()
	}()
	for lines := bufio.NewScanner(out); lines.Scan() && !strings.HasPrefix(lines.Text(), "Ctrl-C"); {
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	b.scaleRow("the estate starts", time.Since(began).Seconds(), 0)
	var kept struct {
		Token, DatabasePassword string
		DatabasePort            int
	}
	raw, err := os.ReadFile(filepath.Join(dir, "demo.json"))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &kept); err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	s := &scaled{token: kept.Token, draw: rand.New(rand.NewPCG(1, 2))}
	for range subscribed {
		go s.subscribe(ctx)
	}
	address := fmt.Sprintf("postgres://unvora:%s@127.0.0.1:%d/unvora", kept.DatabasePassword, kept.DatabasePort)
	if err := s.learn(ctx, address); err != nil {
		return err
	}
	time.Sleep(30 * time.Second) // until all hosts were tried once
	if err := b.plainReads(dir, address); err != nil {
		return err
	}
	for _, c := range s.calls() {
		var secs []float64
		for range asked {
			took, err := timed(func() error { return s.call(ctx, c.method, c.path(), c.body) })
			if err != nil {
				return fmt.Errorf("%s: %w", c.what, err)
			}
			secs = append(secs, took)
		}
		slices.Sort(secs)
		b.scaleRow(c.what, median(secs), secs[len(secs)*95/100])
	}
	if err := b.plainReads(dir, address); err != nil {
		return err
	}
	for name, pid := range pidsOf(dir) {
		if strings.HasPrefix(name, "service") {
			b.row([]any{"memory of " + name, resident(pid), "", "", "", "400 MiB"})
		}
	}
	return nil
}

func (b *bench) scaleRow(what string, half, most float64) {
	b.row([]any{what, fmt.Sprintf("%.1f ms", half*1000), "95th percentile", fmt.Sprintf("%.1f ms", most*1000), "", ""})
}

// plainReads measures what PostgreSQL takes to read a row by its key, at the same moment.
func (b *bench) plainReads(dir, address string) error {
	script := filepath.Join(b.dir, "read.sql")
	read := "select id, name from copies where id = (select id from copies " +
		"where sort > substr(md5(random()::text), 1, 4) and gone_at is null order by sort limit 1);\n"
	if err := os.WriteFile(script, []byte(read), 0o600); err != nil {
		return err
	}
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if err != nil || len(found) == 0 {
		return errors.Join(err, errors.New("pgbench is missing: it comes with Debian's package postgresql"))
	}
	out, err := exec.Command(found[len(found)-1], "-n", "-f", script, "-T", "4", address).CombinedOutput()
	if err != nil {
		return fmt.Errorf("pgbench: %w: %s", err, out)
	}
	for _, line := range strings.Split(string(out), "\n") {
		if says, found := strings.CutPrefix(line, "latency average = "); found {
			b.row([]any{"pgbench, one row by its key", says, "", "", "", ""})
		}
	}
	return nil
}

// scaled makes calls to a large estate.
type scaled struct {
	token         string
	draw          *rand.Rand
	hosts, copies []string
	lineage       string
}

// learn picks hosts, copies and a large lineage to ask for.
func (s *scaled) learn(ctx context.Context, address string) error {
	db, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	list := func(sql string) (list []string) {
		r, e := db.Query(ctx, sql)
		if e == nil {
			list, e = pgx.CollectRows(r, pgx.RowTo[string])
		}
		err = errors.Join(err, e)
		return list
	}
	s.hosts = list(`select name from hosts tablesample system (1) limit 200`)
	s.copies = list(`select id::text from copies tablesample system (0.1) where gone_at is null and form = 'registered'
		limit 200`)
	for _, l := range list(`select lineage_id::text from copies tablesample system (0.1) group by lineage_id
		order by count(*) desc limit 1`) {
		s.lineage = l
	}
	if len(s.hosts) == 0 || len(s.copies) == 0 {
		err = errors.Join(err, errors.New("that is no large estate"))
	}
	return err
}

type scaleCall struct {
	what, method string
	path         func() string
	body         string
}

func (s *scaled) calls() []scaleCall {
	get := func(what string, path func() string) scaleCall {
		return scaleCall{what: what, method: http.MethodGet, path: path}
	}
	copies := func(order string, filter func() string) func() string {
		return func() string {
			return "/copies?" + url.Values{"filter": {filter()}, "order": {order}, "limit": {"50"}}.Encode()
		}
	}
	say := func(text string) func() string { return func() string { return text } }
	host := func() string { return s.hosts[s.draw.IntN(len(s.hosts))] }
	copy := func() string { return s.copies[s.draw.IntN(len(s.copies))] }
	list := []scaleCall{}
	for _, order := range []string{"", "-size", "made"} {
		of := map[string]string{"": "by name", "-size": "the largest first", "made": "by age"}[order]
		list = append(list,
			get("copies, "+of, copies(order, say(""))),
			get("copies of a host, "+of, copies(order, func() string { return "host=" + host() })),
			get("copies that run, "+of, copies(order, say("state=running"))),
			get("copies that nobody looks after, "+of, copies(order, say("tracked=no"))),
			get("copies of a team that run, "+of, copies(order, say("owner=team-7 state=running"))),
			get("copies in pools of a name, common, "+of, copies(order, say("pool=reef"))),
			get("copies in pools of a name, rare, "+of, copies(order, say("pool=kelp"))),
			get("copies whose name begins so, common, "+of, copies(order, say("name~tide*"))),
			get("copies whose name has that within, rare, "+of, copies(order, say("name~*00123*"))),
			get("copies of which there are none, "+of, copies(order, say("state=paused"))))
	}
	plan := func(what, body string) scaleCall {
		return scaleCall{what: "plan: " + what, method: http.MethodPost, path: say("/plans"), body: body}
	}
	return append(list,
		get("lineages", say("/lineages?limit=50")),
		get("hosts", say("/hosts?limit=50")),
		get("hosts that are silent", say("/hosts?limit=50&filter=state%3Dunreachable")),
		get("pools", say("/pools?limit=50")),
		get("jobs", say("/jobs?limit=50")),
		get("history", say("/history?limit=50")),
		get("search, three letters", say("/search?text=gau")),
		get("search, a name", say("/search?text=tide-gauge-0012")),
		get("search, nothing like it", say("/search?text=zzzzz")),
		get("a copy", func() string { return "/copy?name=" + copy() }),
		get("a copy by HOST/NAME that is not there", func() string { return "/copy?name=" + host() + "/nothing" }),
		get("the lineage of a copy", func() string { return "/lineage?name=" + copy() }),
		get("a lineage of 500", say("/lineage?name="+s.lineage)),
		get("a host", func() string { return "/hosts/" + host() }),
		get("attention, how much", say("/attention/count")),
		get("attention, a page", say("/attention?limit=50")),
		plan("export", `{"operation": "export", "copies": ["gannet/tide-gauge"], "destination": {"shelf": "loft"}}`),
		plan("clone", `{"operation": "clone", "copies": ["gannet/tide-gauge"]}`),
		plan("import", `{"operation": "import", "source": {"package": "loft/buoy-ingest.ova"}, "host": "petrel"}`),
		plan("move", `{"operation": "move", "copies": ["gannet/tide-gauge"], "host": "petrel"}`))
}

func (s *scaled) request(ctx context.Context, method, path, body string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, fmt.Sprintf("http://127.0.0.1:%d/api/v1%s", scalePort, path),
		strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	req.Header.Set("Content-Type", "application/json")
	return http.DefaultClient.Do(req)
}

func (s *scaled) call(ctx context.Context, method, path, body string) error {
	res, err := s.request(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 400 && !strings.HasSuffix(path, "nothing") {
		err = fmt.Errorf("%s: %s", path, raw)
	}
	return err
}

// subscribe reads events as a console does.
func (s *scaled) subscribe(ctx context.Context) {
	res, err := s.request(ctx, http.MethodGet, "/events", "")
	if err == nil {
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
	}
}

// pidsOf are the processes of an estate, by name.
func pidsOf(dir string) map[string]int {
	pids := map[string]int{}
	if raw, err := os.ReadFile(filepath.Join(dir, "pids.json")); err == nil {
		_ = json.Unmarshal(raw, &pids)
	}
	return pids
}

// resident is how much memory a process has, as the kernel says it.
func resident(pid int) string {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	_, rest, _ := strings.Cut(string(raw), "VmRSS:")
	line, _, _ := strings.Cut(rest, "\n")
	return strings.TrimSpace(line)
}
