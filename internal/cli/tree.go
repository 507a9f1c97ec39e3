package cli

import (
	"fmt"
	"strings"

	openapi "unvora.example/unvora/api"
)

// alike are kinds of copies of which only the latest are drawn, where they were made from the same one and none was
// made from them.
var alike = []struct {
	most    int
	several string
	is      func(c openapi.Copy) bool
}{
	{3, "copies that are gone", func(c openapi.Copy) bool { return c.GoneAt != nil }},
	{3, "packages", func(c openapi.Copy) bool { return c.Form == openapi.CopyFormPackage }},
	{24, "copies", func(openapi.Copy) bool { return true }},
}

// folded takes away all but the latest of copies that are alike, and says how many those are. One alone is not folded:
// it takes a line either way.
func folded(list []openapi.Copy, below map[string][]openapi.Copy) (drawn []openapi.Copy, more []string) {
	kind := func(c openapi.Copy) int {
		for k := range alike {
			if alike[k].is(c) && len(below[c.Id]) == 0 {
				return k
			}
		}
		return -1 // others hang on it
	}
	left := make([]int, len(alike)) // to be folded, of each kind
	for _, c := range list {
		if k := kind(c); k >= 0 {
			left[k]++
		}
	}
	for k := range alike {
		if left[k] -= alike[k].most; left[k] < 2 {
			left[k] = 0
			continue
		}
		more = append(more, fmt.Sprintf("%d %s", left[k], alike[k].several))
	}
	for _, c := range list {
		if k := kind(c); k >= 0 && left[k] > 0 {
			left[k]--
			continue
		}
		drawn = append(drawn, c)
	}
	return drawn, more
}

// tree draws the copies below those they were made from.
func (a *app) tree(l openapi.Lineage, all bool) {
	known := map[string]bool{}
	for _, c := range l.Copies {
		known[c.Id] = true
	}
	below := map[string][]openapi.Copy{}
	for _, c := range l.Copies {
		parent := ""
		if c.Parent != nil && known[*c.Parent] {
			parent = *c.Parent
		}
		below[parent] = append(below[parent], c)
	}
	there := 0
	for _, c := range l.Copies {
		if c.GoneAt == nil {
			there++
		}
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, l.Name), a.paint(faint, count(there, "copy")))
	var draw func(id, indent string)
	draw = func(id, indent string) {
		list, more := below[id], []string(nil)
		if !all {
			list, more = folded(list, below)
		}
		for i, c := range list {
			branch, further := "├─ ", "│  "
			if i == len(list)-1 && len(more) == 0 {
				branch, further = "└─ ", "   "
			}
			if c.MadeBy == "survey" && c.Parent != nil { // recognised, not made here
				branch = strings.Replace(branch, "─", "╌", 1)
			}
			fmt.Fprintf(a.out, "%s%s%s\n", a.paint(faint, indent+branch), a.copyLine(c), a.paint(faint, "  "+made(c)))
			draw(c.Id, indent+further)
		}
		if len(more) > 0 {
			fmt.Fprintln(a.out, a.paint(faint, indent+"└─ and "+strings.Join(more, ", ")+
				" made before: --all draws them"))
		}
	}
	draw("", "")
}

func (a *app) copyLine(c openapi.Copy) string {
	mark := "○"
	switch {
	case c.GoneAt != nil:
		return a.paint(faint, fmt.Sprintf("✕ %s  gone since %s", place(c), ago(*c.GoneAt)))
	case c.Form == openapi.CopyFormPackage:
		mark = "▣"
	case c.State == "running":
		mark = a.paint(green, "●")
	}
	line := fmt.Sprintf("%s %s  %s", mark, a.paint(bold, place(c)), a.state(string(c.Form)))
	if c.Form == openapi.CopyFormRegistered || c.Form == openapi.CopyFormStray {
		line += ", " + a.state(c.State)
	}
	return line
}
