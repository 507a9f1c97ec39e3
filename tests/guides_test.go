package tests

import (
	"archive/zip"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/internal/wait"
)

// guide is a page whose commands are carried out as they are written, in their order, on an estate of its own.
type guide struct {
	page string
	from string // heading to begin at
	// What has to be done before a command that begins so, which the page leaves to its reader.
	before map[string]string
	// What a page can only write as an example: an id, a code, an address. The shell finds it.
	means map[string]string
	// Why a command is not carried out here.
	apart map[string]string
	// What lies in the reader's directory.
	files func(t *testing.T, e *estate, dir string)
}

// block is one of a page: commands, and what they say where the page shows it.
type block struct {
	commands []string
	says     string
}

var fences = regexp.MustCompile("(?s)```(\\w+)\n(.*?)```")

// blocksOf are the blocks of commands of a page from a heading on; all of it without one. What stands behind a # is for
// people. Several commands of one line stand between dots.
func blocksOf(t *testing.T, page, heading string) (list []block) {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join("..", page))
	require.NoError(t, err)
	text := string(raw)
	if heading != "" {
		_, rest, found := strings.Cut(text, "\n"+heading+"\n")
		require.True(t, found, "%s has no %s", page, heading)
		text, _, _ = strings.Cut(rest, "\n## ")
	}
	for _, f := range fences.FindAllStringSubmatch(text, -1) {
		switch f[1] {
		case "sh":
			var b block
			for _, line := range strings.Split(strings.ReplaceAll(f[2], "\\\n", ""), "\n") {
				line, _, _ = strings.Cut(line, "  #")
				for _, command := range strings.Split(line, " · ") {
					if command = strings.TrimSpace(command); command != "" && command[0] != '#' {
						b.commands = append(b.commands, command)
					}
				}
			}
			list = append(list, b)
		case "text":
			require.NotEmpty(t, list, "%s: whose output is that?\n%s", page, f[2])
			list[len(list)-1].says = f[2]
		}
	}
	return list
}

// The parts of an output that differ each time, and the dots of a page for what it leaves out.
var (
	differing = regexp.MustCompile(`([0-9a-f]{2}:){5}[0-9a-f]{2}|[0-9a-f]{8}-[0-9a-f-]{27}|[0-9][0-9.,:]*`)
	spaces    = regexp.MustCompile(`[ \t]+`)
	amounts   = regexp.MustCompile(`\b0 (ms|s|min|h|B|[KMGT]iB)\b`)
)

func alike(s string) string {
	s = spaces.ReplaceAllString(differing.ReplaceAllString(s, "0"), " ")
	return strings.TrimSpace(amounts.ReplaceAllStringFunc(s, func(amount string) string {
		if strings.HasSuffix(amount, "B") {
			return "0 B"
		}
		return "0 s"
	}))
}

// shows holds that the lines of a page are among those that were printed, in their order. A line that ends in … is
// the beginning of one; … alone are lines that the page leaves out.
func shows(t *testing.T, page, said string) {
	t.Helper()
	left := strings.Split(said, "\n")
	for _, line := range strings.Split(strings.TrimSpace(page), "\n") {
		want, open := strings.CutSuffix(alike(line), "…")
		if want = strings.TrimSpace(want); want == "" {
			continue
		}
		found := false
		for n, is := range left {
			if is = alike(is); is == want || open && strings.HasPrefix(is, want) {
				left, found = left[n+1:], true
				break
			}
		}
		require.True(t, found, "this line of the page is not printed, or not in this order:\n%s\nprinted:\n%s", line,
			said)
	}
}

// match is the row that a table has for a command: that of the longest beginning; "" without one.
func match(table map[string]string, command string) (row string) {
	for begin := range table {
		if strings.HasPrefix(command, begin) && len(begin) > len(row) {
			row = begin
		}
	}
	return row
}

// follow carries out the commands of a guide. Choices that are asked on a terminal, the recommendation first, are taken
// as recommended.
func (g guide) follow(t *testing.T, e *estate) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "bin"), 0o755))
	for _, name := range []string{filepath.Join(dir, "bin", "unvora"), filepath.Join(dir, "bin", "sudo")} {
		target := e.binary
		if strings.HasSuffix(name, "sudo") {
			target = "/usr/bin/env"
		}
		require.NoError(t, os.Symlink(target, name))
	}
	sh := func(line string) (status int, said string) {
		ctx, cancel := context.WithTimeout(t.Context(), wait.Bound)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", line)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "UNVORA_CONFIG="+filepath.Join(e.dir, "client.toml"), "HOME="+dir, "DEMO="+e.dir,
			"PATH="+filepath.Join(dir, "bin")+":"+os.Getenv("PATH"))
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	if g.files != nil {
		g.files(t, e, dir)
	}
	used := map[string]bool{} // rows of its tables
	for _, b := range blocksOf(t, g.page, g.from) {
		said := ""
		for _, command := range b.commands {
			if row := match(g.apart, command); row != "" {
				used[row] = true
				continue
			}
			if row := match(g.before, command); row != "" && !used[row] {
				used[row] = true
				line := g.before[row]
				status, out := sh(line)
				if status != 0 {
					t.Errorf("%s: status %d before %s, of %s\n%s", g.page, status, command, line, out)
				}
			}
			real := command
			for example, how := range g.means {
				if strings.Contains(real, example) {
					used[example] = true
					status, out := sh(how)
					require.Zero(t, status, "%s: %s\n%s", example, how, out)
					real = strings.ReplaceAll(real, example, strings.TrimSpace(out))
				}
			}
			status, out := sh(real)
			planned := strings.Contains(real, " --plan")
			if status == 3 && !planned {
				status, out = sh(real + " --yes")
			}
			if planned && (status == 3 || status == 4) {
				status = 0
			}
			if status != 0 {
				t.Errorf("%s: status %d of %s\n%s", g.page, status, real, out)
				continue
			}
			t.Logf("$ %s\n%s", real, out)
			said += out
		}
		if b.says != "" {
			shows(t, b.says, said)
		}
	}
	for _, table := range []map[string]string{g.before, g.means, g.apart} {
		for row := range table {
			require.True(t, used[row], "%s has nothing any more that is %q", g.page, row)
		}
	}
}

// stray gives a file that a test has made to the account of the agents.
const stray = "chown --reference=$DEMO/hosts/gannet/reef "

// newestJob prints the id of the job that was begun last.
const newestJob = `unvora jobs -o json | sed -n 's/^    "id": "\(.*\)",$/\1/p' | head -1`

// guides are the README's tour and the pages of docs/ that show how something is done. Those of one line share an
// estate.
var guides = [][]guide{
	{{page: "README.md", from: "## Five minutes"}},
	{{page: "docs/bringing-in.md", before: map[string]string{
		"unvora import ./rain-gauge.ova":                               "cp $DEMO/packages/rain-gauge.ova .",
		"unvora register kelp/chart-render --host petrel --files copy": "unvora delist gannet/chart-render --yes",
		"unvora register reef/training-01":                             "unvora delist training-01 training-02 --yes",
		"unvora import ./tide-gauge.ova":                               "unvora export tide-gauge ./tide-gauge.ova",
		"unvora import loft/tide-gauge.ova":                            "unvora export gannet/tide-gauge loft",
		"unvora import harbour/tide-gauge.ova":                         "unvora export gannet/tide-gauge harbour/",
		"unvora import reef/downloads/rain-gauge.ova": "d=$DEMO/hosts/gannet/reef/downloads && mkdir $d && " +
			"cp rain-gauge.ova $d && " + stray + "-R $d",
		"unvora import reef/rescued/tides.qcow2": "cd $DEMO/hosts/gannet/reef && mkdir rescued && " +
			"for n in tides a b; do unvora disk copy buoy-ingest/*.qcow2 rescued/$n.qcow2; done && " +
			stray + "-R rescued",
		"unvora import ./tides.vhdx": "unvora disk copy $DEMO/hosts/gannet/reef/buoy-ingest/*.qcow2 tides.vhdx",
		"unvora disk attach": "cd $DEMO/hosts/gannet/reef && mkdir spare && for n in tides-2024 tides-2025 repaired; " +
			"do unvora disk copy buoy-ingest/*.qcow2 spare/$n.qcow2; done && " + stray + "-R spare",
		"unvora import loft/archive-db.ova":                              "unvora export archive-db loft --yes",
		"unvora import loft/archive-db.ova --host petrel --pool archive": "unvora pool label petrel/harbour archive",
	}, apart: map[string]string{"unvora import https://": "TestSources: there is no web here"},
		files: func(t *testing.T, e *estate, dir string) {
			raw, err := os.ReadFile(filepath.Join(e.dir, "packages", "rain-gauge.ova"))
			require.NoError(t, err)
			f, err := os.Create(filepath.Join(dir, "downloads.zip"))
			require.NoError(t, err)
			z := zip.NewWriter(f)
			w, err := z.Create("rain-gauge.ova")
			require.NoError(t, err)
			_, err = w.Write(raw)
			require.NoError(t, errors.Join(err, z.Close(), f.Close()))
		}}},
	{{page: "docs/snapshots.md"},
		{page: "docs/disks.md", before: map[string]string{
			"unvora disk show": "cp $DEMO/hosts/gannet/reef/training-07/*.qcow2 training-07.qcow2",
			"unvora disk copy tide-gauge.vmdk": "unvora disk copy $DEMO/hosts/gannet/reef/tide-gauge/*.qcow2 " +
				"tide-gauge.vmdk",
			"unvora disk compare":            "cp tide-gauge.qcow2 monday.qcow2 && cp tide-gauge.vmdk today.vmdk",
			"unvora disk check archive.vhdx": "unvora disk copy tide-gauge.vmdk archive.vhdx",
			"unvora disk copy damaged.qcow2": "cp tide-gauge.qcow2 damaged.qcow2",
		}},
		{page: "docs/cloning.md", before: map[string]string{
			"unvora clone archive-db --snapshot": "unvora snapshot make archive-db monday"}}},
	{{page: "docs/export-import.md", before: map[string]string{
		"unvora export archive-db loft --snapshot":         "unvora snapshot make archive-db monday",
		"unvora import ./tide-gauge.ova ./buoy-ingest.ova": "unvora export buoy-ingest ./buoy-ingest.ova",
		"unvora export tide-gauge ./signed.ova": "openssl req -x509 -newkey rsa:2048 -noenc -days 9 -subj " +
			"'/CN=Skerrow Coastal Observatory' -out our.crt -keyout our.key",
	}, apart: map[string]string{"unvora export tide-gauge - | ssh": "nobody is there to take it"}}},
	{{page: "docs/moving.md", apart: map[string]string{
		"unvora move gannet/archive-db": "TestShare: gannet is dead there",
		"unvora jobs cut-over ID":       "TestCopiedAhead: the id is the job's",
	}}},
	{{page: "docs/jobs.md", before: map[string]string{
		"unvora jobs": "unvora move training-12 --host petrel --rate 1MiB --yes --detach",
		// It is undone first.
		"unvora jobs again": "until unvora jobs -o json | grep -m 1 '\"state\"' | grep -q cancelled; " +
			"do sleep 0.1; done",
		"unvora power on tide-gauge": "unvora import $DEMO/packages/rain-gauge.ova --host petrel --yes",
		"unvora power off --where":   "unvora power on training-01",
		"unvora register kelp/class-a": "cd $DEMO/hosts/gannet && for n in a b; do " +
			"cp -r reef/tide-gauge kelp/class-$n; done && " + stray + "-R kelp/class-?",
		"unvora move training-07": "unvora power on training-07 && unvora power suspend training-07 --yes",
		"unvora jobs rate":        "unvora move archive-db --host petrel --rate 64KiB --yes --detach",
	}, means: map[string]string{
		"0199f3c2":         newestJob,
		"2026-12-01 06:30": "date -d '2 days' '+%F %H:%M'",
	}, apart: map[string]string{
		"unvora tell mail": "TestTell: this service has no mail server",
		"unvora tell try":  "TestTell: nobody answers there",
	}}},
	{{page: "docs/inventory.md", apart: map[string]string{
		"unvora host rebuild": "TestRebuild: gannet is a computer that was wiped there",
	}},
		{page: "docs/managers.md", apart: map[string]string{
			"unvora manager add":          "TestManager: it asks for the password, and mainland is there",
			"unvora manager pair":         "TestPeers: two Unvoras are there",
			"unvora manager check island": "TestPeers",
			"unvora manager grant":        "TestPeers",
			"unvora import --from island": "TestPeers",
		}}},
	{{page: "docs/install.md", means: map[string]string{
		"unvora user add": "echo 'echo correct-horse-battery | unvora user add'", // the terminal is asked else
	}, apart: map[string]string{
		"createdb":           "the service has its database",
		"unvora serve":       "it serves",
		"sudo":               "TestHypervisor installs an agent",
		"unvora host add":    "TestHypervisor",
		"unvora login":       "TestOwnAccount: it asks for a password",
		"unvora session end": "TestConsoleSession: nobody has signed in to the console",
	}},
		{page: "docs/security.md", before: map[string]string{
			"unvora token drop":        "unvora token add nightly-export --days 30",
			"unvora user change robin": "echo correct-horse-battery | unvora user add robin --role operator",
		}, apart: map[string]string{
			"systemctl": "nothing of systemd is here",
			"sudo":      "TestRotateKeys",
		}}},
}

// TestGuides: what the pages say goes as it is written.
func TestGuides(t *testing.T) {
	t.Parallel()
	name := func(g guide) string { return strings.TrimSuffix(filepath.Base(g.page), ".md") }
	for _, group := range guides {
		t.Run(name(group[0]), func(t *testing.T) {
			e := ownEstate(t)
			for _, g := range group {
				t.Run(name(g), func(t *testing.T) { g.follow(t, e) })
			}
		})
	}
}
