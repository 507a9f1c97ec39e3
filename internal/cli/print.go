package cli

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"sigs.k8s.io/yaml"

	"unvora.example/unvora/core/fit"
)

// print writes value as JSON or YAML, or calls asTable.
func (a *app) print(value any, asTable func()) error {
	if a.output == "table" {
		asTable()
		return nil
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

// rows is a table whose cells are a line each.
type rows struct{ table.Writer }

// AppendRow adds a row. What would not be seen in a cell is written as it is called.
func (r rows) AppendRow(row table.Row, config ...table.RowConfig) {
	for i, cell := range row {
		if text, ok := cell.(string); ok {
			row[i] = strings.NewReplacer("\n", `\n`, "\r", `\r`, "\t", " ").Replace(text)
		}
	}
	r.Writer.AppendRow(row, config...)
}

// table starts a table with the look of all our tables.
func (a *app) table(columns ...string) rows {
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	s := table.StyleLight
	s.Options = table.Options{SeparateColumns: false, DrawBorder: false, SeparateHeader: false}
	s.Format.Header = text.FormatDefault
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "  "
	t.SetStyle(s)
	row := table.Row{}
	for _, c := range columns {
		row = append(row, a.paint(faint, c))
	}
	t.AppendHeader(row)
	return rows{t}
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
