package agent

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOneDoor: no package of the agent but the door has what opens files by their
// paths, or images in them.
func TestOneDoor(t *testing.T) {
	opens := map[string][]string{
		"os": {"Open", "OpenFile", "Create", "CreateTemp", "ReadFile", "WriteFile", "ReadDir", "Stat", "Lstat", "Mkdir",
			"MkdirAll", "MkdirTemp", "Remove", "RemoveAll", "Rename", "Link", "Symlink", "Readlink",
			"Truncate", "Chmod", "Chown", "Chtimes", "DirFS", "OpenRoot", "OpenInRoot", "CopyFS"},
		"filepath": {"EvalSymlinks", "Walk", "WalkDir", "Glob"},
		"unix": {"Open", "Openat", "Openat2", "Stat", "Lstat", "Access", "Rename", "Renameat", "Renameat2", "Unlink",
			"Mkdir", "Link", "Symlink"},
		"syscall": {"Open", "Stat", "Lstat", "Rename", "Unlink", "Mkdir"},
		"formats": {"Look", "OpenChain", "NewLayer", "Reparent", "Check", "Renew", "Beside", "Detect"},
		"carry":   {"Copy"},
		"ovf":     {"OpenPath", "OpenPathIn", "ReadFolder"},
		"disk":    {"OS"},
	}
	may := map[string]bool{ // by the door that they are given
		"driver/standin/standin.go formats.OpenChain": true, "driver/qemu/argv.go formats.OpenChain": true}
	own := []string{"driver/qemu/own.go", "driver/qemu/keeper.go", "driver/qemu/probe.go"} // never what is in pools
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && slices.Contains([]string{"door", "agenttest", "drivertest"}, d.Name()) {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			slices.Contains(own, path) {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if pkg, ok := sel.X.(*ast.Ident); ok && slices.Contains(opens[pkg.Name], sel.Sel.Name) &&
				!may[path+" "+pkg.Name+"."+sel.Sel.Name] {
				t.Errorf("%s uses %s.%s: files are opened through the door", path, pkg.Name, sel.Sel.Name)
			}
			return true
		})
		return nil
	}))
}
