package cli

import (
	"bytes"
	"io"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// wrongly calls the command line and returns what it refuses with, without touching a service.
func wrongly(t *testing.T, line string) string {
	t.Helper()
	var out bytes.Buffer
	root := (&app{out: &out, errOut: &out}).root("")
	root.SetArgs(strings.Fields(line))
	_, err := root.ExecuteC()
	require.Error(t, err, line)
	var e *exit
	require.ErrorAs(t, err, &e, line)
	require.Equal(t, statusUsage, e.status, line)
	return e.Error()
}

func TestWrongCalls(t *testing.T) {
	for line, want := range map[string]string{
		"where":                            "NAME is missing: unvora where NAME. So, for example:\n  unvora where tide",
		"where a b":                        `"b" is one too many: unvora where NAME`,
		"compare a":                        "B is missing: unvora compare A B",
		"export":                           "COPY is missing: unvora export COPY… DEST",
		"nic wire a b":                     "SWITCH is missing: unvora nic wire COPY NIC SWITCH",
		"nic add a b c":                    `"c" is one too many: unvora nic add COPY [SWITCH]`,
		"lineages x":                       `options only, not with "x"`,
		"import x":                         "--host is missing: host to bring it to. For example:",
		"copis":                            "Is unvora copies meant?",
		"frobnicate":                       "unvora --help lists them",
		"host":                             "unvora host what? There is add, check, drop, rebuild, rest and wake.",
		"host list":                        "Here it is: unvora hosts.",
		"host frobnicate":                  "There is add, check, drop",
		"host wke":                         "Is unvora host wake meant?",
		"trash bring":                      "There is list and restore.",
		"rename":                           "Here it is: unvora change COPY --name NAME.",
		"change a --cpus -2":               `--cpus "-2": want a whole number, 1 or more`,
		"change a --cpus x":                `--cpus "x": want a whole number, 1 or more`,
		"change a --memory 4":              `--memory "4": want a size with its unit`,
		"clone a --count 0":                `--count "0": want a whole number, 1 or more`,
		"clone a --cont 2":                 "no option --cont. Is --count meant?",
		"hosts --where":                    "--where needs a value",
		"demo --port x":                    `--port "x": want a whole number`,
		"copies -z":                        "no option -z",
		"jobs x --plan=perhaps":            `--plan "perhaps": want true or false`,
		"landing set --kind disk --over 5": `--over "5": want a size with its unit`,
	} {
		require.Contains(t, wrongly(t, line), want, line)
	}
}

// TestOurs: what is said of words that are not ours names commands and options that there are.
func TestOurs(t *testing.T) {
	named := regexp.MustCompile(`unvora ([a-z-]+(?: [a-z-]+)?)`)
	said := 0
	check := func(line string) {
		for _, m := range named.FindAllStringSubmatch(line, -1) {
			said++
			words := strings.Fields(m[1])
			if strings.HasPrefix(words[0], "--") {
				require.Contains(t, []string{"--version", "--help"}, words[0])
				continue
			}
			cmd, _, err := Root().Find(words)
			require.NoError(t, err, line)
			require.NotEqual(t, "unvora", cmd.Name(), line)
			lists := !cmd.HasSubCommands() || cmd.Name() == "attention" || cmd.Name() == "jobs"
			require.True(t, cmd.Name() == words[len(words)-1] || lists, line)
		}
	}
	for word, which := range ours {
		_, _, err := Root().Find([]string{word})
		require.False(t, err == nil && isCommand(word), "%s is a command of ours", word)
		check(which)
	}
	for _, list := range plurals {
		check("unvora " + list)
	}
	require.Greater(t, said, len(ours))
}

func isCommand(word string) bool {
	for _, name := range namesOf(Root()) {
		if name == word {
			return true
		}
	}
	return false
}

// TestCompleteWhere: the shell offers what can follow in a filter.
func TestCompleteWhere(t *testing.T) {
	for begun, want := range map[string]string{"": "owner=", "ho": "host=", "host=gannet st": "host=gannet state=",
		"form=stray state=r": "form=stray state=running", "tracked=": "tracked=no"} {
		var out bytes.Buffer
		root := (&app{out: &out, errOut: io.Discard}).root("")
		root.SetArgs([]string{"__complete", "copies", "--where", begun})
		require.NoError(t, root.Execute())
		require.Contains(t, strings.Split(out.String(), "\n"), want, begun)
	}
}
