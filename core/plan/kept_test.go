package plan_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
)

// Plans of these tests are kept as text, whole: what a test does not ask for is held too. A plan that is meant to be
// another is kept anew by go test ./core/plan -keep.

const keptFile = "testdata/plans.txt"

var (
	keepAnew = flag.Bool("keep", false, "keep the plans of all tests as they are now")
	kept     = map[string][]string{} // by test, as the file has them, in whatever order
	anew     = map[string]map[string]bool{}
)

func TestMain(m *testing.M) {
	flag.Parse()
	raw, err := os.ReadFile(keptFile)
	if err != nil && !*keepAnew {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for _, one := range strings.Split(string(raw), "== ") {
		name, text, _ := strings.Cut(one, "\n")
		kept[name] = append(kept[name], text)
	}
	status := m.Run()
	if *keepAnew && status == 0 {
		var b strings.Builder
		for _, name := range slices.Sorted(maps.Keys(anew)) {
			for _, text := range slices.Sorted(maps.Keys(anew[name])) {
				b.WriteString("== " + name + "\n" + text)
			}
		}
		if err := os.WriteFile(keptFile, []byte(b.String()), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			status = 1
		}
	}
	os.Exit(status)
}

// keep holds a plan against those that are kept of its test.
func keep(t *testing.T, p *plan.Plan) {
	t.Helper()
	text := whole(t, p)
	if *keepAnew {
		if anew[t.Name()] == nil {
			anew[t.Name()] = map[string]bool{}
		}
		anew[t.Name()][text] = true
		return
	}
	if !slices.Contains(kept[t.Name()], text) {
		require.Fail(t, "the plan is none of those that were kept of this test; if it is meant to be: go test "+
			"./core/plan -keep", text)
	}
}

// whole is a plan as text, with all that its steps are asked but for machines.
func whole(t *testing.T, p *plan.Plan) string {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s -> %s, %s", p.Operation, strings.Join(p.Subjects, ", "), p.Target, p.Verdict)
	if p.PointOfNoReturn != nil {
		fmt.Fprintf(&b, ", no return after %s", *p.PointOfNoReturn)
	}
	b.WriteString("\n")
	for _, f := range p.Findings {
		fmt.Fprintf(&b, "  %s %s %s", f.Severity, f.Code, f.Subject)
		for _, r := range f.Remedies {
			marks := ""
			if r.Recommended {
				marks += "*"
			}
			if r.Explicit {
				marks += "!"
			}
			fmt.Fprintf(&b, " [%s%s %s]", marks, r.ID, r.Value)
		}
		fmt.Fprintf(&b, " = %q: %s\n", f.Answer, strings.ReplaceAll(f.Message, "\n", " "))
	}
	for _, s := range p.Steps {
		raw, err := json.Marshal(s.Do)
		require.NoError(t, err)
		var asked map[string]any
		require.NoError(t, json.Unmarshal(raw, &asked))
		for _, of := range []string{"machine", "descriptor", "passport"} {
			delete(asked, of)
		}
		for key, value := range asked {
			text := fmt.Sprint(value)
			if value == nil || slices.Contains([]string{"", "0", "false", "[]", "map[]"}, text) {
				delete(asked, key)
			}
		}
		raw, err = json.Marshal(asked)
		require.NoError(t, err)
		fmt.Fprintf(&b, "  %s %s %s: %s (%d) %s\n", s.ID, s.Kind, s.Host, s.What, s.Bytes, raw)
	}
	return b.String()
}
