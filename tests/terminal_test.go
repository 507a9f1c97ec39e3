package tests

import (
	"bytes"
	"context"
	"fmt"
	"html"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// onTerminal runs a command as on a terminal of 118 columns, types what is
// given, and returns what stands there, colours and all.
func (e *estate) onTerminal(t *testing.T, typed string, args ...string) string {
	t.Helper()
	return e.onTerminalIn(t, e.dir, typed, args...)
}

// onTerminalIn is onTerminal in another folder.
func (e *estate) onTerminalIn(t *testing.T, dir, typed string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	script := need(t, "script", "bsdutils")
	line := "stty cols 118 rows 40; exec " + e.binary
	for _, a := range args {
		line += " '" + a + "'"
	}
	cmd := exec.CommandContext(ctx, script, "-qefc", line, "/dev/null")
	cmd.Env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(e.dir, "client.toml"), "HOME="+e.dir, "TERM=xterm")
	cmd.Dir = dir
	var out bytes.Buffer
	cmd.Stdout = &out
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	for _, answer := range strings.SplitAfter(typed, "\n") {
		if answer != "" {
			time.Sleep(700 * time.Millisecond)
			fmt.Fprint(in, answer)
		}
	}
	cmd.Wait()
	in.Close()
	return out.String()
}

// TestTerminal: on a terminal open choices are asked, the recommendation first.
func TestTerminal(t *testing.T) {
	e := theEstate(t)
	file := tempFile(t, "tide-gauge.ova")
	said := e.onTerminal(t, "", "export", "gannet/tide-gauge", file)
	require.Contains(t, said, "100%", "a bar")
	require.Contains(t, said, "is written")
	said = e.onTerminal(t, "\n\n", "import", file, "--host", "petrel", "--name", "asked")
	require.Contains(t, said, "(recommended: press Enter)")
	require.Contains(t, said, "petrel/asked is registered")
	said = e.onTerminal(t, "keep\n", "import", file, "--host", "petrel", "--name", "kept", "--facet", "mac=renew",
		"--facet", "uuid=renew", "--facet", "firmware-uuid=renew")
	require.Contains(t, said, "petrel/kept is registered")
}

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
		"disk check parents/classroom.vhdx --repair", "disk copy training-07.vhdx training-07.qcow2 --format qcow2 " +
			"--verify",
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
