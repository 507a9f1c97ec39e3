package plan_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
)

// TestKinds holds that the table has a row for every kind that is named, and that parameters survive their record.
func TestKinds(t *testing.T) {
	file, err := parser.ParseFile(token.NewFileSet(), "step.go", nil, 0)
	require.NoError(t, err)
	named := map[string]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok || !strings.HasPrefix(spec.Names[0].Name, "Kind") || len(spec.Values) != 1 {
			return true
		}
		if value, ok := spec.Values[0].(*ast.BasicLit); ok {
			named[strings.Trim(value.Value, `"`)] = true
		}
		return true
	})
	require.Len(t, plan.Kinds, len(named))
	for kind, trait := range plan.Kinds {
		require.True(t, named[kind], kind)
		require.Equal(t, kind, trait.Of.Kind())
		_, tells := trait.Of.(plan.Transferring)
		require.Equal(t, trait.Transfer, tells, "%s: a transfer tells what it reads and writes", kind)
		raw, err := json.Marshal(trait.Of)
		require.NoError(t, err)
		require.NotContains(t, string(raw), "Power", "what is shared lies flat in the record")
		require.NoError(t, json.Unmarshal(raw, trait.Of))
	}
}
