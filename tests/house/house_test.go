// Package house holds the rules of the house: which room may import which, and what the core keeps away from.
package house

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const module = "unvora.example/unvora/"

// floors lists all rooms from the top floor down. A room imports only rooms that stand below it.
var floors = []string{
	"tests/bench",
	"cmd/unvora",
	"internal/cli/reference",
	"internal/cli",
	"internal/demo",
	"internal/service",
	"internal/api",
	"internal/access",
	"internal/work",
	"internal/work/draw",
	"internal/work/steer",
	"internal/work/away/foreign",
	"internal/work/away/peer",
	"internal/work/away",
	"internal/work/reach",
	"internal/inventory",
	"internal/agent",
	"internal/agent/do",
	"internal/agent/task",
	"internal/agent/sight",
	"internal/agent/ground",
	"internal/agent/driver/standin",
	"internal/agent/driver",
	"internal/agent/door",
	"internal/hostlink",
	"internal/cimi/standin",
	"internal/cimi",
	"internal/nbd",
	"core/plan",
	"core/guest",
	"core/fit",
	"core/lineage",
	"core/wiring",
	"core/landing",
	"core/identity",
	"core/keyring",
	"core/ovf",
	"core/disk/carry",
	"core/disk/formats",
	"core/disk/qcow2",
	"core/disk/vmdk",
	"core/disk/vhdx",
	"core/disk/vhd",
	"core/disk/raw",
	"core/disk/inflate",
	"core/disk",
	"core/machine",
	"api",
	"console",
}

// helpers of tests, which only tests import.
var helpers = []string{"internal/agent/agenttest", "internal/cimi/standintest", "internal/inventory/pgtest",
	"core/disk/disktest", "tests/house", "tests"}

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
		at := slices.Index(floors, room)
		require.GreaterOrEqual(t, at, 0, "%s has no floor: say in this test where it stands", room)
		for _, i := range p.Imports {
			below, ours := strings.CutPrefix(i, module)
			if !ours || room == "tests/bench" {
				continue
			}
			require.NotContains(t, helpers, below, "%s imports %s, which is for tests", room, below)
			require.Greater(t, slices.Index(floors, below), at, "%s imports %s, which does not stand below it", room, below)
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
