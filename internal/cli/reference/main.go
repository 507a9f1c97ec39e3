// Command reference writes the parts of the docs that the code knows: the
// commands, the catalogue of findings, and the table of disk formats.
package main

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/cli"
	"unvora.example/unvora/internal/house"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: reference DIRECTORY")
		os.Exit(2)
	}
	plans, err := os.ReadFile(keptPlans)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for name, text := range map[string]string{"commands.md": commands(cli.Root()),
		"findings.md": findings(string(plans))} {
		if err := os.WriteFile(filepath.Join(os.Args[1], name), []byte(text), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	for _, t := range []struct{ file, name, text string }{{"disks.md", "formats", diskFormats()},
		{"inventory.md", "evidence", evidence()}, {"inventory.md", "causes", causes()},
		{"how-it-works.md", "rooms", rooms()}, {"how-it-works.md", "operations", operations()},
		{"how-it-works.md", "steps", steps()}} {
		if err := insert(filepath.Join(os.Args[1], t.file), t.name, t.text); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

// insert writes a table between its marks.
func insert(path, name, text string) error {
	begin, end := "<!-- "+name+", made by make docs -->\n", "<!-- end of "+name+" -->"
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	before, rest, ok1 := strings.Cut(string(raw), begin)
	_, after, ok2 := strings.Cut(rest, end)
	if !ok1 || !ok2 {
		return fmt.Errorf("%s has no place for the table of %s", path, name)
	}
	return os.WriteFile(path, []byte(before+begin+text+end+after), 0o644)
}

// rooms tells what each package says of itself in its first sentence.
func rooms() string {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}\t{{.Doc}}", "./...").Output()
	if err != nil {
		fmt.Fprintln(os.Stderr, "list the packages:", err)
		os.Exit(1)
	}
	doc := map[string]string{}
	for _, line := range strings.Split(string(out), "\n") {
		room, says, _ := strings.Cut(strings.TrimPrefix(line, "unvora.example/unvora/"), "\t")
		doc[room] = says
	}
	var b strings.Builder
	b.WriteString("| room | what it does |\n| --- | --- |\n")
	for _, room := range house.Rooms {
		words := strings.Fields(doc[room])
		if words[0] == "Package" || words[0] == "Command" {
			words = words[2:] // and its name
		} else {
			words = words[1:] // the program's name
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", room, strings.Join(words, " "))
	}
	return b.String()
}

// operations tells the table of operations.
func operations() string {
	var b strings.Builder
	b.WriteString("| operation | what it does | what becomes of its subject | command |\n| --- | --- | --- | --- |\n")
	for _, o := range draw.Operations() {
		fmt.Fprintf(&b, "| `%s` | %s … | %s | `%s` |\n", o.Name, o.Title, o.Becomes, o.Command)
	}
	return b.String()
}

// steps tells the table of steps.
func steps() string {
	where := map[plan.Where]string{plan.AtHost: "at a host, as a task of its agent", plan.AtService: "in the service",
		plan.AtPlace: "at a place that is not ours"}
	var b strings.Builder
	b.WriteString("| step | where it runs | can it be undone |\n| --- | --- | --- |\n")
	for _, kind := range slices.Sorted(maps.Keys(plan.Kinds)) {
		undone := "yes"
		if plan.Kinds[kind].Final {
			undone = "no: it comes after the point of no return"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", kind, where[plan.Kinds[kind].At], undone)
	}
	return b.String()
}

func evidence() string {
	var b strings.Builder
	b.WriteString("| evidence | points | |\n| --- | --- | --- |\n")
	for _, w := range lineage.Weights {
		points := fmt.Sprint(w.Most)
		if w.Kind == lineage.ByContents {
			points = "up to " + points
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", w.Kind, points, w.Says)
	}
	fmt.Fprintf(&b, "\nFrom %d points on it is recognised; from %d on it is said to be unsure, and asked.\n",
		lineage.Sure, lineage.Unsure)
	return b.String()
}

func causes() string {
	var b strings.Builder
	b.WriteString("| cause | what it means |\n| --- | --- |\n")
	for _, c := range inventory.Causes {
		fmt.Fprintf(&b, "| `%s` | %s |\n", c.Cause, c.Means)
	}
	return b.String()
}

func diskFormats() string {
	var b strings.Builder
	b.WriteString("| format | read | written | variants | layers | at most |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, f := range formats.Table {
		layers, most := "–", "–"
		switch {
		case f.SameParent:
			layers = "on a " + strings.ToUpper(f.Name)
		case f.Layers:
			layers = "on any format"
		}
		if f.MostBytes > 0 {
			most = fmt.Sprintf("%d GiB", f.MostBytes>>30)
		}
		fmt.Fprintf(&b, "| %s | %s | %s | `%s` | %s | %s |\n", f.Name, f.Reads, f.Writes,
			strings.Join(f.Variants, "`, `"),
			layers, most)
	}
	return b.String()
}

const generated = "<!-- made by make docs -->\n"

func commands(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString(generated + "# Commands\n\n" + root.Long + "\n\n## Options of every command\n\n" +
		flags(root.PersistentFlags()))
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" || c.Name() == "completion" {
			return
		}
		fmt.Fprintf(&b, "\n## `%s`\n\n%s.\n", c.UseLine(), c.Short)
		if c.Long != "" {
			fmt.Fprintf(&b, "\n%s\n", c.Long)
		}
		if c.Example != "" {
			fmt.Fprintf(&b, "\n```sh\n%s\n```\n", strings.ReplaceAll(strings.TrimPrefix(c.Example, "  "), "\n  ", "\n"))
		}
		if c.LocalNonPersistentFlags().HasAvailableFlags() {
			b.WriteString("\n" + flags(c.LocalNonPersistentFlags()))
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	for _, c := range root.Commands() {
		walk(c)
	}
	return b.String()
}

func flags(set *pflag.FlagSet) string {
	var b strings.Builder
	b.WriteString("| option | what it does |\n| --- | --- |\n")
	set.VisitAll(func(f *pflag.Flag) {
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if kind, _ := pflag.UnquoteUsage(f); kind != "" {
			name += " " + kind
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", name, f.Usage)
	})
	return b.String()
}

// keptPlans are the plans that tests keep, of which examples are taken; from the top of the tree.
const keptPlans = "core/plan/testdata/plans.txt"

// kept is a plan's finding as the tests of plans keep it: SEVERITY CODE SUBJECT [REMEDY]… = "ANSWER": MESSAGE.
var kept = regexp.MustCompile(`^  (?:blocker|choice|note) ([a-z0-9.-]+) .*?= "[^"]*": (.+)$`)

// examples are the first of what is said of each code in the plans that tests keep.
func examples(plans string) map[string]string {
	first := map[string]string{}
	for line := range strings.Lines(plans) {
		if m := kept.FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil && first[m[1]] == "" &&
			!strings.Contains(m[2], "  ") && !strings.Contains(m[2], "invalid") {
			first[m[1]] = m[2]
		}
	}
	return first
}

func findings(plans string) string {
	var b strings.Builder
	b.WriteString(generated + `# Findings

What a plan can tell before anything is changed. A *blocker* cannot be gone on with so, a *choice* needs a decision, a
*note* is good to know. Settle one with
` + "`--answer CODE[/SUBJECT]=REMEDY[:VALUE]`" + `, all recommendations with ` + "`--yes`" + `.
A remedy marked ! is explicit: it is never recommended, and never taken by ` + "`--yes`" + `.
`)
	said, area := examples(plans), ""
	for _, code := range fit.Codes() {
		if of, _, _ := strings.Cut(code, "."); of != area {
			area = of
			fmt.Fprintf(&b, "\n## %s%s\n", strings.ToUpper(area[:1]), area[1:])
		}
		severity, remedies := fit.Describe(code)
		meaning := fit.Meanings[code]
		fmt.Fprintf(&b, "\n### `%s`\n\n*%s* · %s\n\n> %s\n", code, severity, meaning.Says,
			cmp.Or(meaning.Example, said[code]))
		if len(remedies) > 0 {
			b.WriteString("\n| remedy | |\n| --- | --- |\n")
		}
		for _, r := range remedies {
			name := "`" + r.ID + "`"
			if r.Takes != "" {
				name = "`" + r.ID + ":" + strings.ToUpper(r.Takes) + "`"
			}
			if r.Explicit {
				name += " !"
			}
			label := r.Label
			if r.Recommended {
				label += " (recommended)"
			}
			fmt.Fprintf(&b, "| %s | %s |\n", name, label)
		}
	}
	return b.String()
}
