package tests

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/wait"
)

// commandsOf are the commands of a guide's blocks of sh from a heading on, in order, without what stands behind a #.
func commandsOf(t *testing.T, guide, heading string) (commands []string) {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join("..", guide))
	require.NoError(t, err)
	_, text, found := strings.Cut(string(raw), "\n"+heading+"\n")
	require.True(t, found, "%s has no %s", guide, heading)
	text, _, _ = strings.Cut(text, "\n## ")
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(text, -1) {
		for _, line := range strings.Split(strings.TrimSpace(block[1]), "\n") {
			line, _, _ = strings.Cut(line, "  #")
			if line = strings.TrimSpace(line); line != "" {
				commands = append(commands, line)
			}
		}
	}
	return commands
}

// TestTour: the five minutes of the README go as they are written. Choices that are asked on a terminal, the
// recommendation first, are taken as recommended.
func TestTour(t *testing.T) {
	e := ownEstate(t)
	dir := t.TempDir()
	commands := commandsOf(t, "README.md", "## Five minutes")
	require.Greater(t, len(commands), 20)
	sh := func(line string) (status int, said string) {
		ctx, cancel := context.WithTimeout(t.Context(), wait.Bound)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", strings.Replace(line, "bin/unvora", e.binary, 1))
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(e.dir, "client.toml"), "HOME="+dir)
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	for _, line := range commands {
		status, said := sh(line)
		planned := strings.HasSuffix(line, " --plan")
		if status == 3 && !planned {
			status, said = sh(line + " --yes")
		}
		if planned && status == 3 {
			require.Contains(t, said, "(recommended)", line)
			continue
		}
		require.Zero(t, status, "%s\n%s", line, said)
		t.Logf("$ %s\n%s", line, said)
	}
	for _, made := range []string{"tide-gauge.ova", "class.yaml", "for-others", "ferry.png"} {
		_, err := os.Stat(filepath.Join(dir, made))
		require.NoError(t, err)
	}
}
