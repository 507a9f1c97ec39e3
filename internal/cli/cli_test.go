package cli

import (
	"bytes"
	"cmp"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// TestEveryCommandTeaches: help says what a command is for, with two examples
// of the sample estate where it does something.
func TestEveryCommandTeaches(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Name() == "completion" || c.Name() == "help" || c.Hidden {
			return
		}
		require.NotEmpty(t, c.Short, c.CommandPath())
		require.Contains(t, c.Example, "\n", "two examples: %s", c.CommandPath())
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(Root())
}

func TestTree(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out, output: "table"}
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	gone := at.Add(time.Hour)
	a.tree(openapi.Lineage{Name: "tide-gauge", Copies: []openapi.Copy{
		{Id: "1", Name: "tide-gauge", Form: "registered", Host: "gannet", State: "running", MadeBy: "survey",
			MadeAt: at},
		{Id: "2", Name: "tide-gauge", Form: "package", Shelf: "loft", Path: "/srv/loft/tide-gauge.ova",
			Parent: ptr("1"),
			MadeBy: "export", MadeUser: "robin", Identity: "keep", MadeAt: at},
		{Id: "3", Name: "tide-gauge", Form: "registered", Host: "petrel", State: "stopped", Parent: ptr("2"),
			MadeBy: "import", MadeUser: "robin", Identity: "renew", Renewed: []string{"uuid", "mac"}, MadeAt: at},
		{Id: "4", Name: "tide-gauge", Form: "stray", Host: "gannet", Pool: "kelp", Path: "/media/kelp/gauge",
			State:  "away",
			Parent: ptr("1"), MadeBy: "survey", MadeAt: at, GoneAt: &gone},
	}}, true)
	when := at.Local().Format("2006-01-02 15:04")
	require.Equal(t, `tide-gauge  3 copies
└─ ● gannet/tide-gauge  registered, running  found `+when+`
   ├─ ▣ loft/tide-gauge.ova  package  export by robin, `+when+`, identity kept
   │  └─ ○ petrel/tide-gauge  registered, stopped  import by robin, `+when+`, identity renewed (uuid, mac)
   └╌ ✕ gannet: kelp/gauge  gone since `+gone.Local().Format("2006-01-02 15:04")+`  copied by hand, found `+when+`
`, out.String())
}

func TestProfile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "client.toml")
	require.NoError(t, WriteProfile(file, "http://127.0.0.1:7480", "unv_secret"))
	st, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	a := &app{config: file, token: "unv_other"}
	p, err := a.profile()
	require.NoError(t, err)
	require.Equal(t, profile{"http://127.0.0.1:7480", "unv_other"}, p, "a flag wins over the file")
	t.Setenv("UNVORA_SERVER", "elsewhere:99")
	p, err = a.profile()
	require.NoError(t, err)
	require.Equal(t, "http://elsewhere:99", p.Server)
	_, err = (&app{config: file + ".none"}).profile()
	require.Error(t, err, "a profile that is named must be there")
}

func TestSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "unvora.toml")
	require.NoError(t, os.WriteFile(file, []byte("listen = \"127.0.0.1:1\"\nlog_level = \"warn\"\n"), 0o644))
	t.Setenv("UNVORA_LOG_LEVEL", "debug")
	cmd := (&app{}).serveCmd()
	require.NoError(t, cmd.ParseFlags([]string{"--database", "postgres://x"}))
	values, from, err := inForce(cmd, file)
	require.NoError(t, err)
	require.Equal(t, "127.0.0.1:1", values["listen"])
	require.Equal(t, file, from["listen"])
	require.Equal(t, "UNVORA_LOG_LEVEL", from["log-level"])
	require.Equal(t, "--database", from["database"])
	require.Equal(t, "standard", from["first-user"])
	require.NoError(t, os.WriteFile(file, []byte("colour = \"red\"\n"), 0o644))
	_, _, err = inForce(cmd, file)
	require.ErrorContains(t, err, `no setting "colour"`)
}

func TestAgo(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "just now", 30 * time.Second: "30 s ago",
		90 * time.Second: "1 min ago", 3 * time.Hour: "3 h ago"} {
		require.Equal(t, want, ago(time.Now().Add(-d)))
	}
	require.Equal(t, "never", ago(time.Time{}))
}

// TestHarmless: what a machine says on its serial port does nothing to a terminal.
func TestHarmless(t *testing.T) {
	for said, want := range map[string]string{
		"Ferry to Quay\r\n\tat 18:20\n":          "Ferry to Quay\n\tat 18:20\n",
		"\x1b[2J\x1b[01;01H\x1b[1;31mred\x1b[0m": "red",
		"\x1b]0;title\x07after":                  "after",
		"\x00\x07\u202eturned\u200f":             "turned",
		"\xff\xfeö":                              "?ö",
	} {
		require.Equal(t, want, harmless([]byte(said)), "%q", said)
	}
	require.NotContains(t, harmless([]byte("half a sequence \x1b[")), "\x1b")
}

// TestHandingWords: options of a package take the words that the contract has, and no others.
func TestHandingWords(t *testing.T) {
	spec, err := openapi.GetSpec()
	require.NoError(t, err)
	request := spec.Components.Schemas["ExportRequest"].Value.Properties
	names := map[string]string{"disk-format": "diskFormat"}
	for flag, words := range handingWords {
		property := request[cmp.Or(names[flag], flag)]
		require.NotNil(t, property, flag)
		has := []string{}
		for _, w := range property.Value.Enum {
			has = append(has, w.(string))
		}
		require.ElementsMatch(t, has, words, flag)
	}
}
