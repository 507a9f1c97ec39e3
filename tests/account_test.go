package tests

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOwnAccount: where the demo is root's, its agents are not, and do all that they
// are for; what they make is for nobody else to read.
func TestOwnAccount(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("the agents run as the account that runs the tests")
	}
	turn(t)
	binary, err := buildOnce()
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "unvora-account-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o711))
	raw, err := os.ReadFile(binary)
	require.NoError(t, err)
	own := filepath.Join(dir, "unvora")
	require.NoError(t, os.WriteFile(own, raw, 0o755))
	port, err := freePort()
	require.NoError(t, err)
	e := &estate{dir: filepath.Join(dir, "demo"), binary: own, server: fmt.Sprintf("http://127.0.0.1:%d", port),
		out: &printed{}}
	require.NoError(t, e.start(port))
	t.Cleanup(e.stop)

	st, err := os.Stat(fmt.Sprintf("/proc/%d", e.pids(t)["agent-gannet"]))
	require.NoError(t, err)
	require.NotZero(t, st.Sys().(*syscall.Stat_t).Uid, "an agent is root")
	file := tempFile(t, "tide-gauge.ova")
	e.ok(t, "export", "gannet/tide-gauge", file)
	e.ok(t, "import", file, "--host", "petrel", "--name", "tide-second", "--identity", "renew", "--yes")
	e.ok(t, "power", "on", "petrel/tide-second")
	e.ok(t, "power", "off", "petrel/tide-second")
	e.ok(t, "delist", "petrel/tide-second", "--files", "trash")

	// What was made meanwhile, and every log and record.
	st, err = os.Stat(file)
	require.NoError(t, err)
	require.Zero(t, st.Mode().Perm()&0o007, file)
	for _, where := range []string{"logs", "demo.json", "unvora.key", "client.toml", "hosts/gannet/state",
		"hosts/petrel/state"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(e.dir, where),
			func(path string, d fs.DirEntry, err error) error {
				require.NoError(t, err)
				info, err := d.Info()
				require.NoError(t, err)
				if path == filepath.Join(e.dir, where) || !d.IsDir() {
					require.Zero(t, info.Mode().Perm()&0o077, "%s: %s", path, info.Mode())
				}
				return nil
			}))
	}
	logs, err := filepath.Glob(filepath.Join(e.dir, "logs", "agent-*.log"))
	require.NoError(t, err)
	require.NotEmpty(t, logs)
	for _, log := range logs {
		raw, err := os.ReadFile(log)
		require.NoError(t, err)
		require.False(t, strings.Contains(string(raw), "--code ") && !strings.Contains(string(raw), "$(cat "),
			"the code is in %s: %s", log, raw)
	}
	codes, err := filepath.Glob(filepath.Join(e.dir, "hosts", "*", "state", "code"))
	require.NoError(t, err)
	require.Empty(t, codes, "a code that was used is gone")
}
