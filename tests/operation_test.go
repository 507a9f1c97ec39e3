package tests

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// withOperation builds the program with one operation more: its plan, its drawing, its schema and its command, and no
// other file of the project changed.
func withOperation(t *testing.T, name, titled string) (binary string) {
	t.Helper()
	dir, err := filepath.Abs(filepath.Join("testdata", name))
	require.NoError(t, err)
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	out := t.TempDir()
	spec, err := os.ReadFile(filepath.Join(root, "api", "openapi.yaml"))
	require.NoError(t, err)
	schema, err := os.ReadFile(filepath.Join(dir, "schema.yaml"))
	require.NoError(t, err)
	text := string(spec)
	for _, row := range []struct{ before, add string }{
		{"    ExportRequest:\n", string(schema)},
		{`        - {$ref: "#/components/schemas/ExportRequest"}` + "\n",
			`        - {$ref: "#/components/schemas/` + titled + `Request"}` + "\n"},
		{`          export: "#/components/schemas/ExportRequest"` + "\n",
			"          " + name + `: "#/components/schemas/` + titled + `Request"` + "\n"},
	} {
		require.Contains(t, text, row.before)
		text = strings.Replace(text, row.before, row.add+row.before, 1)
	}
	contract, generated := filepath.Join(out, "openapi.yaml"), filepath.Join(out, "openapi.gen.go")
	require.NoError(t, os.WriteFile(contract, []byte(text), 0o644))
	run := func(args ...string) {
		cmd := exec.Command("go", args...)
		cmd.Dir = root
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", said)
	}
	config, err := os.ReadFile(filepath.Join(root, "api", "oapi-codegen.yaml"))
	require.NoError(t, err)
	config = bytes.Replace(config, []byte("output: openapi.gen.go"), []byte("output: "+generated), 1)
	require.NoError(t, os.WriteFile(filepath.Join(out, "config.yaml"), config, 0o644))
	run("tool", "oapi-codegen", "-config", filepath.Join(out, "config.yaml"), contract)
	overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{
		filepath.Join(root, "api", "openapi.gen.go"):                generated,
		filepath.Join(root, "core", "plan", name+".go"):             filepath.Join(dir, "plan.go"),
		filepath.Join(root, "internal", "work", "draw", name+".go"): filepath.Join(dir, "draw.go"),
		filepath.Join(root, "internal", "cli", name+".go"):          filepath.Join(dir, "cli.go"),
	}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(out, "overlay.json"), overlay, 0o644))
	binary = filepath.Join(scratch, "unvora-"+name)
	run("build", "-overlay", filepath.Join(out, "overlay.json"), "-o", binary, "./cmd/unvora")
	return binary
}

// TestOneMoreOperation: an operation is four files, and everybody knows of it: the client, the interface, jobs,
// history.
func TestOneMoreOperation(t *testing.T) {
	turn(t)
	e, err := startEstate(filepath.Join(scratch, t.Name()), withOperation(t, "rouse", "Rouse"))
	require.NoError(t, err)
	t.Cleanup(e.stop)
	e.ok(t, "power", "on", "gannet/tide-gauge")
	require.Contains(t, e.ok(t, "rouse", "--help"), "Stop a copy and start it again")
	require.Contains(t, e.ok(t, "rouse", "gannet/tide-gauge", "--plan"), "Start gannet/tide-gauge again")
	require.Contains(t, e.ok(t, "rouse", "gannet/tide-gauge", "--note", "after the storm"),
		"gannet/tide-gauge: roused in ")
	require.Contains(t, e.ok(t, "jobs"), "Rouse gannet/tide-gauge")

	c := e.api(t)
	all, err := c.ListOperationsWithResponse(t.Context())
	require.NoError(t, err)
	names := []string{}
	for _, op := range *all.JSON200 {
		names = append(names, op.Name)
	}
	require.Contains(t, names, "rouse")
	plan, err := c.MakePlanWithResponse(t.Context(), asks(t,
		map[string]any{"operation": "rouse", "copies": []string{"gannet/tide-gauge"}}))
	require.NoError(t, err)
	require.Equal(t, openapi.PlanVerdictRunnable, plan.JSON200.Verdict)
	bad, err := c.MakePlanWithResponse(t.Context(), asks(t,
		map[string]any{"operation": "rouse", "copies": []string{"gannet/tide-gauge"}, "gently": true}))
	require.NoError(t, err)
	require.Contains(t, bad.ApplicationproblemJSONDefault.Detail, "gently")
	bad, err = c.MakePlanWithResponse(t.Context(), asks(t, map[string]any{"operation": "arouse"}))
	require.NoError(t, err)
	require.Contains(t, bad.ApplicationproblemJSONDefault.Detail, "rouse")
}
