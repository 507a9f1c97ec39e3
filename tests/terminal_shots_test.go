//go:build shots

package tests

import (
	"fmt"
	"html"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

var colours = map[string]string{"0": "", "1": "font-weight:600", "2": "color:#A79F90", "31": "color:#F07A7F",
	"32": "color:#7CC58A", "33": "color:#F0A35E", "36": "color:#5FB8A8"}

// page makes a picture's page of what a terminal shows.
func page(command, said string) string {
	var b strings.Builder
	fmt.Fprintf(&b, `<meta charset=utf-8>`+
		`<body style="margin:0;background:#191714;color:#EDE7DA;font:14.5px/21px 'DejaVu Sans Mono',monospace">`+
		`<pre style="margin:22px;font:inherit;white-space:pre-wrap"><span style="color:#5FB8A8">$ </span>%s%s`,
		html.EscapeString(command), "\n")
	for _, line := range strings.Split(strings.ReplaceAll(said, "\r\n", "\n"), "\n") {
		if i := strings.LastIndexByte(line, '\r'); i >= 0 {
			line = line[i+1:] // what was written over is not there any more
		}
		open := 0
		for line != "" {
			before, rest, found := strings.Cut(line, "\x1b[")
			b.WriteString(html.EscapeString(before))
			if !found {
				break
			}
			end := strings.IndexAny(rest, "mKhlABCDJ")
			if rest[end] == 'm' {
				if code := rest[:end]; colours[code] != "" {
					fmt.Fprintf(&b, `<span style="%s">`, colours[code])
					open++
				} else {
					b.WriteString(strings.Repeat("</span>", open))
					open = 0
				}
			}
			line = rest[end+1:]
		}
		b.WriteString(strings.Repeat("</span>", open) + "\n")
	}
	return b.String()
}

// TestTerminalShots makes pictures of the main commands, when they are wanted.
func TestTerminalShots(t *testing.T) {
	e := ownEstate(t)
	ctx := browser(t)
	show := func(name, said string, args ...string) {
		require.NotEmpty(t, said)
		if *shots == "" {
			return
		}
		do(t, ctx, name, chromedp.Navigate("data:text/html,"+url.PathEscape(page("unvora "+strings.Join(args, " "),
			said))))
		picture(t, ctx, name)
	}
	take := func(name, typed string, args ...string) { show(name, e.onTerminal(t, typed, args...), args...) }
	take("client-copies", "", "copies")
	show("client-export", e.onTerminal(t, "", "export", "tide-gauge",
		"./tide-gauge.ova")+"\x1b[36m$ \x1b[0munvora inspect ./tide-gauge.ova\r\n"+e.onTerminal(t, "", "inspect",
		"./tide-gauge.ova"), "export", "tide-gauge", "./tide-gauge.ova")
	take("client-plan", "", "import", "./tide-gauge.ova", "--host", "petrel", "--plan")
	require.NotEmpty(t, e.onTerminal(t, "\n\n", "import", "./tide-gauge.ova", "--host", "petrel"))
	take("client-where", "", "where", "tide-gauge")
	take("client-register", "", "register", "shoal/kiosk-visitor", "--host", "gannet", "--plan")

	// Work on images: a layer whose parent has moved, a copy, a check.
	disks := filepath.Join(e.dir, "disks")
	require.NoError(t, os.MkdirAll(filepath.Join(disks, "parents"), 0o755))
	reef := filepath.Join(e.pool("gannet", "reef"), "tide-gauge", "tide-gauge-disk1.qcow2")
	e.ok(t, "disk", "copy", reef, filepath.Join(disks, "classroom.vhdx"), "--format", "vhdx")
	e.ok(t, "disk", "layer", filepath.Join(disks, "training-07.vhdx"), "--parent",
		filepath.Join(disks, "classroom.vhdx"))
	require.NoError(t, os.Rename(filepath.Join(disks, "classroom.vhdx"),
		filepath.Join(disks, "parents", "classroom.vhdx")))
	f, err := os.OpenFile(filepath.Join(disks, "parents", "classroom.vhdx"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("gone"), 192<<10) // the first region table
	require.NoError(t, err)
	require.NoError(t, f.Close())
	var all []string
	for _, line := range []string{
		"disk show training-07.vhdx", "disk reparent training-07.vhdx --parent parents/classroom.vhdx",
		"disk check parents/classroom.vhdx --repair", "disk copy training-07.vhdx " +
			"training-07.qcow2 --format qcow2 --verify",
		"disk sum training-07.vhdx training-07.qcow2",
	} {
		said := e.onTerminalIn(t, disks, "", strings.Fields(line)...)
		require.NotEmpty(t, said)
		if len(all) > 0 {
			line = "\x1b[36m$ \x1b[0munvora " + line + "\r\n"
			said = line + said
		}
		all = append(all, said)
	}
	require.Contains(t, strings.Join(all, ""), "read back and right")
	if *shots != "" {
		do(t, ctx, "client-disk", chromedp.Navigate("data:text/html,"+url.PathEscape(page("unvora disk show "+
			"training-07.vhdx",
			strings.Join(all, "\r\n")))))
		picture(t, ctx, "client-disk")
	}
}
