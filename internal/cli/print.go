package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
	"sigs.k8s.io/yaml"

	"unvora.example/unvora/core/fit"
)

// print writes value as JSON or YAML, or calls asTable.
func (a *app) print(value any, asTable func()) error {
	if a.output == "table" {
		asTable()
		return a.columnsThere()
	}
	raw, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	if a.output == "yaml" {
		raw, err = yaml.JSONToYAML(raw)
		if err != nil {
			return err
		}
		_, err = a.out.Write(raw)
		return err
	}
	_, err = fmt.Fprintf(a.out, "%s\n", raw)
	return err
}

// together puts what several calls print as JSON or YAML into one list: told is called behind each, end prints it.
func (a *app) together() (told func(), end func() error) {
	if a.output == "table" {
		return func() {}, func() error { return nil }
	}
	out, output, list := a.out, a.output, []json.RawMessage{}
	var one bytes.Buffer
	a.out, a.output = &one, "json"
	told = func() {
		if raw := bytes.TrimSpace(one.Bytes()); len(raw) > 0 {
			list = append(list, slices.Clone(raw))
		}
		one.Reset()
	}
	return told, func() error {
		a.out, a.output = out, output
		return a.print(list, nil)
	}
}

// columnsThere refuses columns that no table has that was shown.
func (a *app) columnsThere() error {
	for _, c := range a.columns {
		if len(a.shown) > 0 && !slices.Contains(a.shown, c) {
			return usage("--columns %q: there are %s", c, strings.Join(a.shown, ", "))
		}
	}
	return nil
}

// width is how many columns a terminal has; 0 for what is no terminal.
func (a *app) width(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok {
		return 0
	}
	columns, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return columns
}

// leastWidth is what a text is wrapped to at least.
const leastWidth = 30

// hung writes lines of which the first stands behind a head, the others below it.
func (a *app) hung(w io.Writer, head, lines string) {
	width := a.width(w)
	for _, line := range strings.Split(lines, "\n") {
		if width > 0 {
			line = text.WrapSoft(line, max(leastWidth, width-len(head)-1))
		}
		for _, part := range strings.Split(line, "\n") {
			fmt.Fprintf(w, "%s%s\n", head, strings.TrimRight(part, " "))
			head = strings.Repeat(" ", len(head))
		}
	}
}

// table starts a table with the look of all our tables.
func (a *app) table(columns ...string) *rows { return a.tableTo(a.out, columns...) }

// tableTo starts a table that is written to w.
func (a *app) tableTo(w io.Writer, columns ...string) *rows {
	return &rows{a: a, w: w, columns: columns}
}

// rows is a table whose cells are a line each.
type rows struct {
	a       *app
	w       io.Writer
	columns []string // none: a table without a head
	cells   [][]string
	least   []string // columns that are left out where there is no room for them, the least important first
}

// dropping says which columns are left out on a narrow terminal, the least important first.
func (r *rows) dropping(least ...string) *rows {
	r.least = least
	return r
}

// AppendRow adds a row. What would not be seen in a cell is written as it is called.
func (r *rows) AppendRow(row []any) {
	var cells []string
	for _, cell := range row {
		cells = append(cells, strings.NewReplacer("\n", `\n`, "\r", `\r`, "\t", " ").Replace(fmt.Sprint(cell)))
	}
	r.cells = append(r.cells, cells)
}

// between is the room between two columns.
const between = 2

// widths are how wide the columns are.
func (r *rows) widths() []int {
	n := len(r.columns)
	for _, row := range r.cells {
		n = max(n, len(row))
	}
	list := make([]int, n)
	for i, c := range r.columns {
		list[i] = text.StringWidthWithoutEscSequences(c)
	}
	for _, row := range r.cells {
		for i, cell := range row {
			list[i] = max(list[i], text.StringWidthWithoutEscSequences(cell))
		}
	}
	return list
}

// tooWide is by how much the table is wider than a terminal.
func (r *rows) tooWide(room int) int {
	sum := -between
	for _, w := range r.widths() {
		sum += w + between
	}
	return sum - room
}

// without takes a column out.
func (r *rows) without(column string) {
	at := slices.Index(r.columns, column)
	if at < 0 {
		return
	}
	r.columns = slices.Delete(slices.Clone(r.columns), at, at+1)
	for i, row := range r.cells {
		if at < len(row) {
			r.cells[i] = slices.Delete(row, at, at+1)
		}
	}
}

// only keeps the columns that were asked for.
func (r *rows) only(columns []string) {
	for _, c := range slices.Clone(r.columns) {
		if !slices.Contains(columns, c) {
			r.without(c)
		}
	}
}

// Render writes the table. On a terminal that is too narrow the least important columns are left out, then the widest
// one is wrapped between words; in a pipe nothing is.
func (r *rows) Render() {
	if len(r.a.columns) > 0 && len(r.columns) > 0 {
		r.a.shown = append(r.a.shown, r.columns...)
		if r.only(r.a.columns); len(r.columns) == 0 {
			return // of several tables another has what was asked for
		}
	}
	var out []string
	room := r.a.width(r.w)
	narrow := room > 0 && !r.a.wide
	for _, c := range r.least {
		if len(r.a.columns) == 0 && narrow && r.tooWide(room) > 0 {
			r.without(c)
			out = append(out, c)
		}
	}
	t := table.NewWriter()
	s := table.StyleLight
	s.Options = table.Options{SeparateColumns: false, DrawBorder: false, SeparateHeader: false}
	s.Format.Header = text.FormatDefault
	s.Box.PaddingLeft, s.Box.PaddingRight = "", strings.Repeat(" ", between)
	t.SetStyle(s)
	if more := r.tooWide(room); narrow && more > 0 {
		widths := r.widths()
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		t.SetColumnConfigs([]table.ColumnConfig{{Number: widest + 1, WidthMax: max(leastWidth, widths[widest]-more),
			WidthMaxEnforcer: text.WrapSoft}})
	}
	if len(r.columns) > 0 {
		head := table.Row{}
		for _, c := range r.columns {
			head = append(head, r.a.paint(faint, c))
		}
		t.AppendHeader(head)
	}
	for _, row := range r.cells {
		cells := table.Row{}
		for _, c := range row {
			cells = append(cells, c)
		}
		t.AppendRow(cells)
	}
	for _, line := range strings.Split(t.Render(), "\n") {
		fmt.Fprintln(r.w, strings.TrimRight(line, " "))
	}
	if len(out) > 0 {
		fmt.Fprintln(r.w, r.a.paint(faint,
			"Left out for lack of room: "+strings.Join(out, ", ")+". --wide shows them."))
	}
}

// state paints the state of a copy, host or job.
func (a *app) state(s string) string {
	switch s {
	case "running", "up", "done", "ready":
		return a.paint(green, s)
	case "unreachable", "failed", "hollow", "blocker":
		return a.paint(red, s)
	case "away", "stray", "choice", "cancelled", "held":
		return a.paint(yellow, s)
	case "working":
		return a.paint(cyan, s)
	}
	return s
}

// ago tells a time as people do; further back it is a date.
func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case t.IsZero():
		return "never"
	case d < 5*time.Second:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2006-01-02 15:04")
}

func size(bytes int64) string { return fit.Size(bytes) }

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if noun == "copy" {
		return fmt.Sprintf("%d copies", n)
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func dash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}
