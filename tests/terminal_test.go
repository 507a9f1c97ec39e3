package tests

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/wait"
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
	ctx, cancel := context.WithTimeout(t.Context(), wait.Bound)
	defer cancel()
	script := need(t, "script", "bsdutils")
	line := "stty cols 118 rows 40; exec " + e.binary
	for _, a := range args {
		line += " '" + a + "'"
	}
	cmd := exec.CommandContext(ctx, script, "-qefc", line, "/dev/null")
	cmd.Env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(e.dir, "client.toml"), "HOME="+e.dir, "TERM=xterm")
	cmd.Dir = dir
	out := &printed{}
	cmd.Stdout = out
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	asked := 0
	for _, answer := range strings.SplitAfter(typed, "\n") {
		if answer != "" {
			wait.Until(t, func() bool { // it asks: a line stands open
				now := out.String()
				return len(now) > asked && !strings.HasSuffix(now, "\n")
			})
			asked = len(out.String())
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
