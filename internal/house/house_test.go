package house_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/house"
)

const module = "unvora.example/unvora/"

// helpers of tests, which only tests import.
var helpers = []string{"internal/agent/agenttest", "internal/agent/driver/drivertest", "internal/cimi/standintest",
	"internal/inventory/pgtest", "internal/wait", "core/disk/disktest", "core/ovf/ovftest",
	"tests", "tests/fleet", "tests/fleet/make", "tests/guest", "tests/guest/init"}

// TestRooms: every room has its floor, and imports only what is below it.
func TestRooms(t *testing.T) {
	raw, err := exec.Command("go", "list", "-json=ImportPath,Imports", module+"...").Output()
	require.NoError(t, err)
	list := json.NewDecoder(strings.NewReader(string(raw)))
	for list.More() {
		var p struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, list.Decode(&p))
		room := strings.TrimPrefix(p.ImportPath, module)
		if slices.Contains(helpers, room) {
			continue
		}
		at := slices.Index(house.Rooms, room)
		require.GreaterOrEqual(t, at, 0, "%s has no floor: say in this test where it stands", room)
		for _, i := range p.Imports {
			below, ours := strings.CutPrefix(i, module)
			if !ours || room == "tests/bench" {
				continue
			}
			require.NotContains(t, helpers, below, "%s imports %s, which is for tests", room, below)
			require.Greater(t, slices.Index(house.Rooms, below), at, "%s imports %s, which does not stand below it",
				room, below)
		}
	}
}

// foreign is what the core does without: it computes, and leaves the rest to its callers.
var foreign = []string{"net/http", "database/sql", "github.com/jackc/", "github.com/spf13/", "github.com/gin-gonic/",
	"os/exec", "os/signal",
	"log", "log/slog", "flag", "golang.org/x/term"}

// unasked is what a caller has to give the core: the time, and randomness.
var unasked = map[string][]string{
	"time": {"Now", "Since", "Until", "After", "Tick", "NewTicker", "AfterFunc"},
	"rand": {"Read", "Int", "IntN", "Text", "Reader"},
	"uuid": {"New", "NewString", "NewV7", "NewRandom", "NewUUID"},
}

// TestCore: no HTTP, no SQL, no flags, no terminal, no clock and no randomness that a caller can't supply.
func TestCore(t *testing.T) {
	require.NoError(t, filepath.WalkDir("../../core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "disktest") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, i := range file.Imports {
			name := strings.Trim(i.Path.Value, `"`)
			for _, f := range foreign {
				if name == f || strings.HasSuffix(f, "/") && strings.HasPrefix(name, f) {
					t.Errorf("%s imports %s", path, name)
				}
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok {
				if pkg, ok := sel.X.(*ast.Ident); ok && slices.Contains(unasked[pkg.Name], sel.Sel.Name) {
					t.Errorf("%s uses %s.%s: the caller gives it", path, pkg.Name, sel.Sel.Name)
				}
			}
			return true
		})
		return nil
	}))
}

// TestGuide: the files that CONTRIBUTING.md and the docs name are there.
func TestGuide(t *testing.T) {
	named := regexp.MustCompile("`((?:api|cmd|console|core|docs|internal|scripts|tests)/[^`* ]+)`")
	guides, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, guide := range append(guides, "../../CONTRIBUTING.md", "../../README.md") {
		text, err := os.ReadFile(guide)
		require.NoError(t, err)
		for _, m := range named.FindAllStringSubmatch(string(text), -1) {
			if _, err := os.Stat(filepath.Join("../..", m[1])); err != nil {
				t.Errorf("%s names %s, which is not there", guide, m[1])
			}
		}
	}
}

// TestLocks: rows are locked so that others may still refer to them. A lock "for update" stops whoever writes a row
// that refers to the locked one: a job would wait for the survey of its host, and the survey for the job.
func TestLocks(t *testing.T) {
	lock := regexp.MustCompile(`(?i)\bfor update\b`)
	require.NoError(t, filepath.WalkDir("../", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Empty(t, lock.FindString(string(raw)), "%s: lock with \"for no key update\"", path)
		return nil
	}))
}

// TestWaits: tests wait with the one bound of internal/wait: one of their own is too short on a busy machine.
func TestWaits(t *testing.T) {
	raw, err := exec.Command("git", "-C", "../..", "ls-files", "*_test.go").Output()
	require.NoError(t, err)
	for _, path := range strings.Fields(string(raw)) {
		file, err := parser.ParseFile(token.NewFileSet(), filepath.Join("../..", path), nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok && strings.HasPrefix(sel.Sel.Name, "Eventually") {
				t.Errorf("%s uses %s: wait.Until", path, sel.Sel.Name)
			}
			return true
		})
	}
}

// largest is how many bytes a file of the project may have.
const largest = 1 << 20

// TestSizes: what a tool has made is not kept: no file is that large.
func TestSizes(t *testing.T) {
	raw, err := exec.Command("git", "-C", "../..", "ls-files", "-z").Output()
	require.NoError(t, err)
	for _, path := range strings.Split(strings.TrimRight(string(raw), "\x00"), "\x00") {
		st, err := os.Lstat(filepath.Join("../..", path))
		require.NoError(t, err)
		if st.Size() > largest {
			t.Errorf("%s has %d bytes, of which %d are allowed", path, st.Size(), largest)
		}
	}
}

// widest is how many columns a line may take, of which a tab takes four.
const widest = 120

// TestLines: no line of ours is wider than that. What the contract generates is.
func TestLines(t *testing.T) {
	raw, err := exec.Command("git", "-C", "../..", "ls-files", "*.go", "*.ts", "*.tsx").Output()
	require.NoError(t, err)
	list := strings.Fields(string(raw))
	require.NotEmpty(t, list)
	for _, path := range list {
		if strings.HasSuffix(path, ".gen.go") {
			continue
		}
		text, err := os.ReadFile(filepath.Join("../..", path))
		require.NoError(t, err)
		for n, line := range strings.Split(string(text), "\n") {
			width := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
			if width > widest {
				t.Errorf("%s:%d is %d columns wide, of which %d are allowed", path, n+1, width, widest)
			}
		}
	}
}
