package tests

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/tests/fleet"
)

// mostRows is how many rows of a large table a statement may read: a list is counted up to ten thousand, of which every
// second row may be.
const mostRows = 25_000

// planNode is a node of a plan that PostgreSQL has carried out (EXPLAIN, FORMAT JSON).
type planNode struct {
	Type      string  `json:"Node Type"`
	Relation  string  `json:"Relation Name"`
	Index     string  `json:"Index Name"`
	Rows      float64 `json:"Actual Rows"`
	Loops     float64 `json:"Actual Loops"`
	Filtered  float64 `json:"Rows Removed by Filter"`
	Rechecked float64 `json:"Rows Removed by Index Recheck"`
	Joined    float64 `json:"Rows Removed by Join Filter"`
	Plans     []planNode
}

// read is how many rows the scans of a plan have read of a table, at most, and of which.
func (n planNode) read() (rows float64, what string) {
	if strings.Contains(n.Type, "Scan") {
		rows, what = (n.Rows+n.Filtered+n.Rechecked)*n.Loops, n.Type+" of "+n.Relation+" "+n.Index
	}
	for _, below := range n.Plans {
		if more, of := below.read(); more > rows {
			rows, what = more, of
		}
	}
	return rows, what
}

// TestFleet: with an estate of many copies no statement that a call leads to reads more than a page, or a count, needs.
// What is looked at is what PostgreSQL did, for each statement of the service, as it was asked.
func TestFleet(t *testing.T) {
	size := 40_000
	if s := os.Getenv("SIZE"); s != "" {
		var err error
		size, err = strconv.Atoi(s)
		require.NoError(t, err)
	}
	e := ownEstate(t)
	e.ok(t, "export", "gannet/buoy-ingest", "loft", "--yes")
	conn, err := pgx.Connect(t.Context(), e.database(t))
	require.NoError(t, err)
	defer conn.Close(context.Background())
	began := time.Now()
	require.NoError(t, fleet.Fill(t.Context(), conn, size, 1))
	t.Logf("%d copies were made in %s", size, time.Since(began))
	for _, sql := range []string{
		`alter database unvora set session_preload_libraries = 'auto_explain'`,
		`alter database unvora set auto_explain.log_min_duration = 0`,
		`alter database unvora set auto_explain.log_analyze = on`,
		`alter database unvora set auto_explain.log_timing = off`,
		`alter database unvora set auto_explain.log_nested_statements = on`,
		`alter database unvora set auto_explain.log_format = json`,
		`select pg_terminate_backend(pid) from pg_stat_activity where datname = 'unvora' and pid <> pg_backend_pid()`} {
		_, err := conn.Exec(t.Context(), sql)
		require.NoError(t, err, sql)
	}
	token := e.token(t)
	wait.Until(t, func() bool {
		res, _ := e.http(t, http.MethodGet, "/api/v1/hosts?limit=1", token, "")
		return res.StatusCode == http.StatusOK
	})
	log, err := os.Open(filepath.Join(e.dir, "logs", "postgres.log"))
	require.NoError(t, err)
	defer log.Close()
	f := &fleetCheck{t: t, e: e, token: token, log: log}
	f.plans() // of before

	var some string
	require.NoError(t, conn.QueryRow(t.Context(), `select c.id::text from copies c join nics n on n.copy_id = c.id
		where c.form = 'registered' and c.gone_at is null and c.state = 'stopped' and n.mac >= '06:5d:00:00:10:00'
		order by n.mac limit 1`).Scan(&some))
	var stray string
	require.NoError(t, conn.QueryRow(t.Context(), `select id::text from copies where name = 'chart-render'
		and form = 'stray'`).Scan(&stray))
	var large string
	require.NoError(t, conn.QueryRow(t.Context(), `select lineage_id::text from copies group by lineage_id
		having count(*) > 100 limit 1`).Scan(&large))
	var host string
	require.NoError(t, conn.QueryRow(t.Context(), `select name from hosts where name ~ '-000012$'`).Scan(&host))

	orders := []string{"", "-name", "made", "-size"}
	for _, filter := range []string{"", "host=" + host, "host=" + host + " state=running", "state=running",
		"state=paused", "form=stray", "form=hollow", "form=stray state=stopped", "form=package", "owner=team-7",
		"owner=nobody", "tracked=no", "pool=reef", "pool=kelp", "name~tide*", "name~*00012*", "name~*zzz*",
		"name=nothing", "mac=06:5d:00:00:00:07", "address=10.0.0.3", "manager=mainland", "state=running name~buoy*",
		"owner=team-7 state=running", "tracked=no form=registered", "uuid=" + some, "lineage=" + large} {
		for _, order := range orders {
			f.list("/copies", url.Values{"filter": {filter}, "order": {order}, "limit": {"50"}})
		}
	}
	for path, filters := range map[string][]string{
		"/lineages": {"", "name~tide*", "name~*0012*", "name=nothing", "host=" + host},
		"/hosts":    {"", "name~gannet*", "name~*0012*", "state=up", "state=unreachable", "site=Quay", "family=slate"},
		"/pools":    {"", "name~r*", "name=reef", "host=" + host},
		"/disks":    {"", "name~a*"},
		"/history":  {"", "who=admin", "who=nobody", "what=export", "subject=nothing", "since=2026-01-01"},
	} {
		for _, filter := range filters {
			f.list(path, url.Values{"filter": {filter}, "limit": {"50"}})
		}
	}
	for _, path := range []string{"/attention", "/attention?limit=50", "/attention/count", "/attention?cause=twin",
		"/jobs?limit=50", "/jobs?state=failed&limit=50", "/jobs?state=working&limit=50", "/history?lineage=" + large,
		"/search?text=tide", "/search?text=ti", "/search?text=auge-00", "/search?text=zzzzz", "/search?text=" + some,
		"/search?text=06:5d:00:00:00:07", "/search?text=10.0.0.3", "/search?text=/reef/tide", "/search?text=018f0000",
		"/copy?name=" + some, "/copy?name=" + host + "/nothing", "/copy?name=nothing", "/copy?name=gannet/tide-gauge",
		"/lineage?name=" + large, "/lineage?name=nothing", "/lineage?name=tide-gauge", "/hosts/" + host,
		"/hosts/nothing", "/segments", "/shelves", "/managers", "/wiring", "/landing", "/limits",
		"/marks?lineage=" + large, "/switches?host=" + host, "/trash?host=gannet",
		"/comparison?a=" + some + "&b=gannet/tide-gauge"} {
		f.call(http.MethodGet, path, "")
	}
	for _, request := range []string{
		`{"operation": "export", "copies": ["gannet/tide-gauge"], "destination": {"shelf": "loft"}}`,
		`{"operation": "clone", "copies": ["gannet/tide-gauge"]}`,
		`{"operation": "clone", "copies": ["gannet/tide-gauge"], "host": "skua"}`,
		`{"operation": "move", "copies": ["gannet/tide-gauge"], "host": "petrel"}`,
		`{"operation": "import", "source": {"package": "loft/buoy-ingest.ova"}, "host": "petrel"}`,
		`{"operation": "register", "folders": ["` + stray + `"], "host": "gannet"}`,
		`{"operation": "delist", "copies": ["gannet/tide-gauge"]}`,
		`{"operation": "change", "copies": ["gannet/tide-gauge"], "cpus": 3}`,
		`{"operation": "renew", "copies": ["gannet/tide-gauge"]}`,
		`{"operation": "start", "copies": ["gannet/tide-gauge"]}`} {
		f.call(http.MethodPost, "/plans", request)
	}
	f.call(http.MethodPost, "/surveys", `{"hosts": ["gannet"]}`)
	f.whole(conn, "/shelves", `select count(*) from shelves`)
	f.whole(conn, "/switches", `select count(*) from switches s join hosts h on h.id = s.host_id
		where h.manager_id is null`)
	f.watched(conn)
	require.Greater(t, f.calls, 200)
	require.Greater(t, f.statements, 1000)
	slices.Sort(f.worst)
	t.Logf("%d calls, %d statements", f.calls, f.statements)
	require.Empty(t, slices.Compact(f.worst), "these read too much")
}

// fleetCheck makes calls and looks at what PostgreSQL did for them.
type fleetCheck struct {
	t                 *testing.T
	e                 *estate
	token             string
	log               *os.File
	calls, statements int
	worst             []string
}

// whole: a list that comes page by page has each of its items once.
func (f *fleetCheck) whole(conn *pgx.Conn, path, sql string) {
	var count int
	require.NoError(f.t, conn.QueryRow(f.t.Context(), sql).Scan(&count))
	seen := map[string]bool{}
	for after, pages := "", 0; after != "" || pages == 0; pages++ {
		query := "?limit=70&after=" + url.QueryEscape(after)
		res, said := f.e.http(f.t, http.MethodGet, "/api/v1"+path+query, f.token, "")
		var page []json.RawMessage
		require.NoError(f.t, json.Unmarshal([]byte(said), &page), said)
		for _, item := range page {
			require.False(f.t, seen[string(item)], "%s is told twice", item)
			seen[string(item)] = true
		}
		after = res.Header.Get("Unvora-Next")
	}
	require.Len(f.t, seen, count)
	require.Greater(f.t, count, 70, "that is one page")
}

// watched: what changes at a host is noticed, though many others refuse, and many take a call and never answer.
func (f *fleetCheck) watched(conn *pgx.Conn) {
	deaf, err := net.Listen("tcp", "127.0.0.1:0") // the kernel takes calls for it
	require.NoError(f.t, err)
	defer deaf.Close()
	tag, err := conn.Exec(f.t.Context(), `update hosts set address = $1 where name ~ '-000[0-4]'`, deaf.Addr().String())
	require.NoError(f.t, err)
	require.GreaterOrEqual(f.t, tag.RowsAffected(), int64(500))
	strays := func() (n int) {
		var page struct{ Count int }
		require.NoError(f.t, json.Unmarshal([]byte(f.call(http.MethodGet,
			"/copies?filter="+url.QueryEscape("host=gannet form=stray"), "")), &page))
		return page.Count
	}
	before := strays()
	byHand(f.t, filepath.Join(f.e.pool("gannet", "reef"), "tide-gauge"),
		filepath.Join(f.e.pool("gannet", "reef"), "by-hand"))
	wait.Until(f.t, func() bool { return strays() == before+1 })
	res, said := f.e.http(f.t, http.MethodGet, "/api/v1/hosts/gannet", f.token, "")
	require.Equal(f.t, http.StatusOK, res.StatusCode)
	require.Contains(f.t, said, `"state":"up"`)
}

// list calls for the first page of a list and two behind it.
func (f *fleetCheck) list(path string, query url.Values) {
	for range 3 {
		var page struct{ Next string }
		said := f.call(http.MethodGet, path+"?"+query.Encode(), "")
		if json.Unmarshal([]byte(said), &page) != nil || page.Next == "" {
			return
		}
		query.Set("after", page.Next)
	}
}

func (f *fleetCheck) call(method, path, body string) string {
	res, said := f.e.http(f.t, method, "/api/v1"+path, f.token, body)
	require.Less(f.t, res.StatusCode, 500, "%s %s: %s", method, path, said)
	if res.StatusCode >= 400 && !strings.Contains(path, "nothing") {
		f.t.Logf("%s %s %s: %s", method, path, body, said)
	}
	f.calls++
	for _, p := range f.plans() {
		f.statements++
		if rows, what := p.Plan.read(); rows > mostRows {
			f.worst = append(f.worst, fmt.Sprintf("%s %s %s: %.0f rows, %s:\n%s\n", method, path, body, rows,
				what, p.Query))
		}
	}
	return said
}

// explained is a statement with the plan that it was carried out by.
type explained struct {
	Query string `json:"Query Text"`
	Plan  planNode
}

// plans are those that were logged since the last call.
func (f *fleetCheck) plans() (list []explained) {
	at, err := f.log.Seek(0, 1)
	require.NoError(f.t, err)
	raw, err := os.ReadFile(f.log.Name())
	require.NoError(f.t, err)
	text := string(raw[at:])
	_, err = f.log.Seek(int64(len(raw)), 0)
	require.NoError(f.t, err)
	for {
		_, rest, found := strings.Cut(text, "  plan:\n")
		if !found {
			return list
		}
		var p explained
		d := json.NewDecoder(strings.NewReader(rest))
		if err := d.Decode(&p); err != nil { // its end is not there yet
			return list
		}
		list = append(list, p)
		text = rest[d.InputOffset():]
	}
}
