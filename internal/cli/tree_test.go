package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// TestFolded: of many that are alike the latest are drawn and the rest counted; what others hang on is always drawn.
func TestFolded(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	l := openapi.Lineage{Name: "tide-gauge", Copies: []openapi.Copy{{Id: "origin", Name: "tide-gauge", Host: "gannet",
		Form: openapi.CopyFormRegistered, State: "stopped"}}}
	add := func(n int, of func(c *openapi.Copy, i int)) {
		for i := range n {
			parent := "origin"
			c := openapi.Copy{Id: fmt.Sprint("c", len(l.Copies)), Parent: &parent, Host: "gannet"}
			of(&c, i)
			l.Copies = append(l.Copies, c)
		}
	}
	pack := func(c *openapi.Copy, i int) {
		c.Form, c.Shelf, c.Path = openapi.CopyFormPackage, "loft", fmt.Sprintf("/loft/%d.ova", i)
	}
	drawn := func(all bool) string {
		out := &bytes.Buffer{}
		(&app{out: out}).tree(l, all)
		return out.String()
	}
	add(4, pack)
	require.NotContains(t, drawn(false), "--all", "four take as many lines as three and one folded")
	add(1, pack)
	require.Contains(t, drawn(false), "└─ and 2 packages made before")
	add(10, func(c *openapi.Copy, i int) { pack(c, i); c.GoneAt = &now })
	clone := func(c *openapi.Copy, i int) {
		c.Form, c.Name, c.State = openapi.CopyFormRegistered, fmt.Sprintf("class-%02d", i), "stopped"
	}
	add(26, clone)
	first := "c1" // a package that a copy was made from
	l.Copies = append(l.Copies, openapi.Copy{Id: "child", Parent: &first, Form: openapi.CopyFormRegistered,
		Name: "from-package", Host: "petrel", State: "running"})
	out := drawn(false)
	require.Contains(t, out, "└─ and 7 copies that are gone, 2 copies made before: --all draws them", out)
	require.Contains(t, out, "loft/0.ova", "a copy was made from it")
	require.Contains(t, out, "petrel/from-package")
	require.NotContains(t, out, "class-01")
	require.Contains(t, out, "class-25")
	require.Len(t, strings.Split(strings.TrimSpace(drawn(true)), "\n"), 1+len(l.Copies))
}
