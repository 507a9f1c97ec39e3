// Package tests starts the real things - PostgreSQL, the service, the agents,
// a browser - and uses them as people do.
package tests

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/BurntSushi/toml"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf/ovftest"
	"unvora.example/unvora/internal/demo"
	"unvora.example/unvora/internal/wait"
)

// estate is a demo that runs for the tests.
type estate struct {
	dir, binary, server string
	password            string
	env                 []string // of its commands
	args                []string // more of the demo
	cmd                 *exec.Cmd
	out                 *printed
}

// printed is what a process has printed so far.
type printed struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (p *printed) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.buf.Write(b)
}

func (p *printed) String() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.buf.String()
}

func (p *printed) Reset() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.buf.Reset()
}

var (
	shared     *estate
	sharedOnce sync.Once
	sharedErr  error
	scratch    string
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "unvora-tests-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // PostgreSQL's account passes through it
	}
	temporary := filepath.Join(dir, "tmp")
	if err == nil {
		err = errors.Join(os.Mkdir(temporary, 0o777), os.Chmod(temporary, 0o777|os.ModeSticky),
			os.Setenv("TMPDIR", temporary)) // agents' accounts write there
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	scratch = dir
	code := m.Run()
	if shared != nil {
		shared.stop()
	}
	os.RemoveAll(dir)
	os.Exit(code)
}

// need fails when a program is missing, and says what to install.
func need(t testing.TB, program, debian string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	require.NoErrorf(t, err, "%s is missing: apt-get install %s (make test does that)", program, debian)
	return path
}

// theEstate is one demo that most tests share.
func theEstate(t testing.TB) *estate {
	t.Helper()
	binary := built(t)
	sharedOnce.Do(func() { shared, sharedErr = startEstate(filepath.Join(scratch, "shared"), binary) })
	require.NoError(t, sharedErr)
	return shared
}

// estatesAtOnce is how many tests of their own estate run at a time: they wait more than they work.
const estatesAtOnce = 4

// longest are the tests that take longest, the longest first. They begin first, or all would wait for them at the end.
var longest = []string{"TestHypervisor", "TestKills", "TestServices", "TestCrash", "TestGuides", "TestOneMoreOperation",
	"TestManager", "TestClones", "TestConsole", "TestPages", "TestPeers", "TestRotateKeys", "TestShare", "TestFrozen"}

// turns are the tests that wait for a place, of which there are so many.
var turns = struct {
	sync.Mutex
	waiting map[*testing.T]chan bool
	free    int
}{waiting: map[*testing.T]chan bool{}, free: estatesAtOnce}

// turn waits until there is a place for a test with an estate of its own, when those that share one are done.
func turn(t *testing.T) {
	t.Helper()
	t.Parallel()
	mine := make(chan bool, 1)
	turns.Lock()
	turns.waiting[t] = mine
	turns.Unlock()
	time.AfterFunc(200*time.Millisecond, func() { giveTurns(0) }) // all come at the same moment
	<-mine
	t.Cleanup(func() { giveTurns(1) })
}

// giveTurns gives the places that are free to those that wait.
func giveTurns(more int) {
	turns.Lock()
	defer turns.Unlock()
	turns.free += more
	rank := func(t *testing.T) int {
		name, _, _ := strings.Cut(t.Name(), "/")
		if at := slices.Index(longest, name); at >= 0 {
			return at
		}
		return len(longest)
	}
	for turns.free > 0 && len(turns.waiting) > 0 {
		var next *testing.T
		for t := range turns.waiting {
			if next == nil || rank(t) < rank(next) { // the rest in any order, so that browsers don't all start at once
				next = t
			}
		}
		turns.waiting[next] <- true
		delete(turns.waiting, next)
		turns.free--
	}
}

// ownEstate is a demo for one test that breaks things. It runs beside others of
// its kind, when those that share an estate are done.
func ownEstate(t *testing.T) *estate {
	t.Helper()
	turn(t)
	e, err := startEstate(filepath.Join(scratch, strings.ReplaceAll(t.Name(), "/", "-")), built(t))
	require.NoError(t, err)
	t.Cleanup(func() {
		e.stop()
		if !t.Failed() {
			os.RemoveAll(e.dir)
		}
	})
	return e
}

var buildOnce = sync.OnceValues(func() (string, error) {
	binary := filepath.Join(scratch, "unvora")
	if made := os.Getenv("UNVORA_BINARY"); made != "" { // as make has just built it, where agents' accounts may run it
		raw, err := os.ReadFile(made)
		if err == nil {
			err = os.WriteFile(binary, raw, 0o755)
		}
		return binary, err
	}
	build := []string{"build", "-o", binary}
	if os.Getenv("GOCOVERDIR") != "" { // what its processes reach is counted
		build = append(build, "-cover", "-coverpkg=../...")
	}
	out, err := exec.Command("go", append(build, "../cmd/unvora")...).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w\n%s", err, out)
	}
	return binary, nil
})

// ports that were given out.
var ports sync.Map

// freePort is below the ports that the system gives to connections, which would
// take it again before it is used, and above those that demos take by themselves.
func freePort() (int, error) {
	for {
		port := 32_000 + rand.IntN(768)
		if _, given := ports.LoadOrStore(port, true); given {
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, l.Close()
		}
		if !errors.Is(err, syscall.EADDRINUSE) {
			return 0, err
		}
	}
}

// built is the program.
func built(t testing.TB) string {
	t.Helper()
	binary, err := buildOnce()
	require.NoError(t, err)
	return binary
}

// prepared is a directory with what all estates have alike, made once.
var prepared = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(scratch, "prepared")
	return dir, demo.Prepare(dir)
})

func startEstate(dir, binary string) (*estate, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		from, err := prepared()
		if err != nil {
			return nil, err
		}
		if out, err := exec.Command("cp", "--archive", "--reflink=auto", from, dir).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%w\n%s", err, out)
		}
	}
	e := &estate{dir: dir, binary: binary, server: fmt.Sprintf("http://127.0.0.1:%d", port), out: &printed{}}
	return e, e.start(port)
}

func (e *estate) start(port int) error {
	os.Remove(filepath.Join(e.dir, "client.toml"))
	e.cmd = exec.Command(e.binary, append([]string{"demo", "--dir", e.dir, "--port", fmt.Sprint(port)}, e.args...)...)
	reader, writer, err := os.Pipe()
	if err != nil {
		return err
	}
	e.cmd.Stdout, e.cmd.Stderr = writer, writer
	e.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := e.cmd.Start(); err != nil {
		return err
	}
	writer.Close()
	ready := make(chan bool, 1)
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := reader.Read(buf)
			e.out.Write(buf[:n])
			if strings.Contains(e.out.String(), "Ctrl-C stops everything") {
				select {
				case ready <- true:
				default:
				}
			}
			if err != nil {
				ready <- false
				return
			}
		}
	}()
	select {
	case ok := <-ready:
		if !ok {
			return fmt.Errorf("the demo did not start:\n%s", e.out)
		}
	case <-time.After(wait.Bound):
		e.stop()
		return errors.New("the demo did not start in time")
	}
	_, rest, _ := strings.Cut(e.out.String(), "with the password ")
	e.password, _, _ = strings.Cut(rest, "\n")
	return nil
}

func (e *estate) stop() {
	if e.cmd == nil || e.cmd.Process == nil {
		return
	}
	e.cmd.Process.Signal(syscall.SIGINT)
	done := make(chan struct{})
	go func() { e.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(wait.Bound):
		e.cmd.Process.Kill()
	}
}

// pids of the estate's processes, by name.
func (e *estate) pids(t testing.TB) map[string]int {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(e.dir, "pids.json"))
	require.NoError(t, err)
	var pids map[string]int
	require.NoError(t, json.Unmarshal(raw, &pids))
	return pids
}

// database is the address of the estate's database.
func (e *estate) database(t testing.TB) string {
	t.Helper()
	var kept struct {
		DatabasePassword string
		DatabasePort     int
	}
	raw, err := os.ReadFile(filepath.Join(e.dir, "demo.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &kept))
	return fmt.Sprintf("postgres://unvora:%s@127.0.0.1:%d/unvora", kept.DatabasePassword, kept.DatabasePort)
}

// result of a command.
type result struct {
	out, err string
	status   int
}

func (e *estate) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, e.binary, args...)
	cmd.Env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(e.dir, "client.toml"), "HOME="+e.dir)
	cmd.Env = append(cmd.Env, e.env...)
	cmd.Dir = e.dir
	return cmd
}

// run calls the client as a person does.
func (e *estate) run(t testing.TB, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), wait.Bound)
	defer cancel()
	cmd := e.command(ctx, args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		require.NoError(t, err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// ok calls the client and expects it to succeed.
func (e *estate) ok(t testing.TB, args ...string) string {
	t.Helper()
	r := e.run(t, args...)
	require.Equalf(t, 0, r.status, "unvora %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	if len(args) > 2 && args[0] == "export" && filepath.IsAbs(args[2]) { // each that is written keeps the standard
		breaches, err := ovftest.PackageBreaches(args[2])
		require.NoError(t, err)
		require.Empty(t, breaches, "unvora %s", strings.Join(args, " "))
	}
	return r.out
}

// get calls the client with -o json and decodes what it prints.
func get[T any](t testing.TB, e *estate, args ...string) T {
	t.Helper()
	var v T
	out := e.ok(t, append(args, "-o", "json")...)
	require.NoErrorf(t, json.Unmarshal([]byte(out), &v), "unvora %s\n%s", strings.Join(args, " "), out)
	return v
}

// api is a client with the administrator's token.
func (e *estate) api(t testing.TB) *openapi.ClientWithResponses {
	t.Helper()
	var p struct{ Server, Token string }
	_, err := toml.DecodeFile(filepath.Join(e.dir, "client.toml"), &p)
	require.NoError(t, err)
	return e.apiWith(t, p.Token)
}

func (e *estate) apiWith(t testing.TB, token string) *openapi.ClientWithResponses {
	t.Helper()
	c, err := openapi.NewClientWithResponses(e.server+"/api/v1",
		openapi.WithHTTPClient(&http.Client{Transport: held{t}}),
		openapi.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		}))
	require.NoError(t, err)
	return c
}

// pool is a pool's directory at a host.
func (e *estate) pool(host, pool string) string { return filepath.Join(e.dir, "hosts", host, pool) }

// give makes a folder of a pool that of the account that the pool is of, which is not
// ours where an agent runs as its own.
func (e *estate) give(t testing.TB, pool, folder string) {
	t.Helper()
	st, err := os.Stat(pool)
	require.NoError(t, err)
	owner := st.Sys().(*syscall.Stat_t)
	require.NoError(t, filepath.WalkDir(filepath.Join(pool, folder), func(path string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Lchown(path, int(owner.Uid), int(owner.Gid))
	}))
}

// leftovers lists working files in a host's pools and shelves.
func (e *estate) leftovers(t testing.TB, host string) (found []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(filepath.Join(e.dir, "hosts", host),
		func(path string, d os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			name := d.Name()
			if d.IsDir() && name == ".unvora" && !onlyTrash(path) || strings.HasSuffix(name, ".part") ||
				strings.HasSuffix(name, ".package") ||
				strings.HasPrefix(name, "spool-") {
				found = append(found, path)
			}
			return nil
		}))
	return found
}

// onlyTrash tells of a pool's working directory that it holds what was taken away, and nothing that is at work.
func onlyTrash(dir string) bool {
	list, err := os.ReadDir(dir)
	return err == nil && len(list) == 1 && list[0].Name() == "trash"
}

func tempFile(t testing.TB, name string) string {
	t.Helper()
	dir := t.TempDir()
	return filepath.Join(dir, name)
}
