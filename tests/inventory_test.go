package tests

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// byHand copies a folder as a person does. It comes to its place as a whole: what is half there may be surveyed as it
// is.
func byHand(t *testing.T, from, to string) {
	t.Helper()
	beside := filepath.Join(filepath.Dir(filepath.Dir(to)), "copied-"+filepath.Base(to))
	out, err := exec.Command("cp", "-r", from, beside).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Rename(beside, to))
}

func (e *estate) attention(t *testing.T, args ...string) map[string]openapi.AttentionItem {
	t.Helper()
	all := map[string]openapi.AttentionItem{}
	for _, i := range get[[]openapi.AttentionItem](t, e, append([]string{"attention"}, args...)...) {
		all[i.Cause+" "+i.Subject] = i
	}
	return all
}

// seen waits until the inventory knows a copy by itself: nobody asks for a survey.
func (e *estate) seen(t *testing.T, where func(openapi.Copy) bool) (found openapi.Copy) {
	t.Helper()
	wait.Until(t, func() bool {
		for _, c := range get[[]openapi.Copy](t, e, "copies") {
			if where(c) {
				found = c
				return true
			}
		}
		return false
	})
	return found
}

// TestRecognised: folders that were copied behind Unvora's back show by
// themselves, with what they were recognised by; a person has the last word.
func TestRecognised(t *testing.T) {
	e := ownEstate(t)
	reef := e.pool("gannet", "reef")
	in := func(name string) func(openapi.Copy) bool {
		return func(c openapi.Copy) bool { return strings.HasSuffix(c.Path, "/"+name) && c.GoneAt == nil }
	}
	original := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	byHand(t, filepath.Join(reef, "tide-gauge"), filepath.Join(reef, "tide-copied"))
	found := e.seen(t, in("tide-copied"))
	require.Equal(t, original.Id, *found.Parent)
	require.Equal(t, original.Lineage, found.Lineage)
	kinds := []string{}
	for _, ev := range *found.Evidence {
		kinds = append(kinds, ev.Kind)
	}
	require.Equal(t, []string{"uuid", "contents", "image-id", "mac", "name"}, kinds)
	tree := e.ok(t, "where", "tide-gauge")
	require.Contains(t, tree, "└╌")
	require.Contains(t, tree, "recognised by the same machine UUID")

	// With another descriptor, its disks tell.
	text, err := os.ReadFile(filepath.Join(reef, "tide-gauge", "tide-gauge.ovf"))
	require.NoError(t, err)
	changed := regexp.MustCompile(`70126393-2a98-4856-90ac-efe4bba599b2`).ReplaceAllString(string(text),
		"00000000-1111-4222-8333-444444444444")
	changed = regexp.MustCompile(`(?i)06:5c:00:[0-9a-f:]{8}`).ReplaceAllString(changed, "06:5c:00:00:00:77")
	staged := filepath.Join(e.dir, "aside")
	byHand(t, filepath.Join(reef, "tide-gauge"), staged)
	require.NoError(t, os.WriteFile(filepath.Join(staged, "tide-gauge.ovf"),
		[]byte(strings.ReplaceAll(changed, ">tide-gauge<", ">ebb<")), 0o644))
	require.NoError(t, os.Rename(staged, filepath.Join(reef, "ebb")))
	found = e.seen(t, in("ebb"))
	require.Equal(t, original.Id, *found.Parent, "by its disk's id and contents")

	// Where nothing but contents speak, it is asked.
	byHand(t, filepath.Join(reef, "tide-gauge"), staged)
	image := filepath.Join(staged, "tide-gauge-disk1.qcow2")
	e.ok(t, "disk", "copy", image, image+".new", "--format", "qcow2")
	require.NoError(t, os.Rename(image+".new", image))
	bare := regexp.MustCompile(`<unvora:UUID>[^<]*</unvora:UUID>`).ReplaceAllString(changed, "")
	bare = strings.NewReplacer("00000000-1111-4222-8333-444444444444", "", "06:5c:00:00:00:77",
		"06:5c:00:00:00:78").Replace(bare)
	require.NoError(t, os.WriteFile(filepath.Join(staged, "tide-gauge.ovf"),
		[]byte(strings.ReplaceAll(bare, ">tide-gauge<", ">flood<")), 0o644))
	require.NoError(t, os.Rename(staged, filepath.Join(reef, "flood")))
	found = e.seen(t, in("flood"))
	require.Nil(t, found.Parent)
	require.NotNil(t, found.Candidate)
	item, ok := e.attention(t, "--cause", "unsure")["unsure gannet:"+filepath.Join(reef, "flood")]
	require.True(t, ok)
	require.Contains(t, item.Evidence, "It may be a copy of")
	require.Contains(t, item.Evidence, "of its blocks the same")
	e.ok(t, "attention", "settle", item.Id)
	found = get[openapi.Copy](t, e, "copies", found.Id)
	require.Equal(t, original.Lineage, found.Lineage)
	require.Equal(t, "admin", *found.SettledBy)
	e.ok(t, "recognise", found.Id, "--of", "nothing", "--note", "another gauge")
	require.NotEqual(t, original.Lineage, get[openapi.Copy](t, e, "copies", found.Id).Lineage)
	e.ok(t, "survey")
	require.NotEqual(t, original.Lineage, get[openapi.Copy](t, e, "copies", found.Id).Lineage, "surveys keep to it")
	require.Contains(t, e.ok(t, "history"), "another gauge")
	e.ok(t, "recognise", found.Id, "--of", original.Id)
	r := e.run(t, "recognise", original.Id, "--of", found.Id)
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "descends from")

	// What goes away is shown as gone, and never forgotten.
	require.NoError(t, os.RemoveAll(filepath.Join(reef, "tide-copied")))
	wait.Until(t, func() bool { return strings.Contains(e.ok(t, "where", "tide-gauge"), "✕") })
}

// TestAttention: what is wrong in the sample estate is listed, worst first, and
// each recommended action puts it right.
func TestAttention(t *testing.T) {
	e := ownEstate(t)
	items := get[[]openapi.AttentionItem](t, e, "attention")
	causes := []string{}
	for _, i := range items {
		causes = append(causes, i.Cause)
		require.NotEmpty(t, i.Evidence)
		require.NotEmpty(t, i.Recommended)
	}
	require.Equal(t, []string{"hollow", "parentless-layer", "twin", "stray"}, causes)
	_, found, status := e.planned(t, "attention", "settle", "parentless-layer")
	require.Zero(t, status)
	require.Contains(t, found["disk.parent-missing"].Message, "sonar-base.vhdx")
	e.ok(t, "attention", "settle", "parentless-layer", "--yes")
	e.ok(t, "power", "on", "fulmar/sonar-lab")
	e.ok(t, "power", "off", "fulmar/sonar-lab")

	// A hollow entry whose folder is found again is registered in its place.
	lost := get[openapi.Copy](t, e, "copies", "old-telemetry")
	byHand(t, filepath.Join(e.pool("skua", "shoal"), "wave-model"), filepath.Join(e.dir, "aside"))
	aside := filepath.Join(e.dir, "aside", "wave-model.ovf")
	text, err := os.ReadFile(aside)
	require.NoError(t, err)
	wave := get[openapi.Copy](t, e, "copies", "wave-model")
	renamed := strings.NewReplacer(wave.Uuid, lost.Uuid, ">wave-model<", ">old-telemetry<").Replace(string(text))
	require.NoError(t, os.WriteFile(aside, []byte(renamed), 0o644))
	require.NoError(t, os.Rename(filepath.Join(e.dir, "aside"),
		filepath.Join(e.pool("skua", "shoal"), "telemetry-found")))
	e.give(t, e.pool("skua", "shoal"), "telemetry-found")
	wait.Until(t, func() bool {
		i, ok := e.attention(t, "--cause", "hollow")["hollow skua/old-telemetry"]
		return ok && strings.Contains(i.Evidence, "telemetry-found")
	})
	e.ok(t, "attention", "settle", "hollow", "--yes", "--answer", "name.taken=rename:telemetry-found")
	require.Empty(t, e.attention(t, "--cause", "hollow"))

	e.ok(t, "attention", "leave", "twin", "--reason", "never run together", "--days", "3")
	require.Empty(t, e.attention(t, "--cause", "twin"))
	left := e.attention(t, "--cause", "twin", "--left")
	require.Len(t, left, 1)
	for _, i := range left {
		require.Equal(t, "never run together", i.Left.Reason)
	}
	e.ok(t, "attention", "settle", "stray", "--yes")
	require.Equal(t, "registered", string(get[openapi.Copy](t, e, "copies", "gannet/chart-render").Form))

	// Disks that nothing describes, a disk of two machines, a failed job, a last copy.
	reef := e.pool("gannet", "reef")
	require.NoError(t, os.Mkdir(filepath.Join(reef, "spare"), 0o755))
	byHand(t, filepath.Join(reef, "tide-gauge", "tide-gauge-disk1.qcow2"), filepath.Join(reef, "spare", "spare.qcow2"))
	wait.Until(t, func() bool { return len(e.attention(t, "--cause", "lost-descriptor")) == 1 })
	e.ok(t, "disk", "adopt", "reef/spare/spare.qcow2", "--host", "gannet")
	require.Empty(t, e.attention(t, "--cause", "lost-descriptor"))
	require.NoError(t, os.WriteFile(filepath.Join(e.pool("gannet", "loft"), "broken.ova"), make([]byte, 2048), 0o644))
	require.Equal(t, 2, e.run(t, "attention", "leave", "twin").status, "a reason is needed")
	require.Equal(t, 2, e.run(t, "attention", "settle", "nothing").status)
	require.Equal(t, 2, e.run(t, "attention", "--cause", "weather").status)
}

// TestOtherHosts: copies on two hosts are brought over, compared, left alone.
func TestOtherHosts(t *testing.T) {
	e := ownEstate(t)
	t.Run("brought", func(t *testing.T) { brought(t, e) })
	t.Run("compared", func(t *testing.T) { compared(t, e) })
}

// compared: how far copies have grown apart, and copies that are left alone.
func compared(t *testing.T, e *estate) {
	require.Contains(t, e.ok(t, "compare", "petrel/chart-render", "gannet/chart-render"), "labnet")
	e.ok(t, "export", "tide-gauge", "loft", "--yes")
	e.ok(t, "import", "loft/tide-gauge.ova", "--host", "skua", "--name", "tide-far", "--yes")
	c := get[openapi.Comparison](t, e, "compare", "gannet/tide-gauge", "skua/tide-far", "--exact")
	require.True(t, c.SameLineage)
	require.Equal(t, get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Id, c.Ancestor)
	require.True(t, c.Disks[0].Exact)
	require.Zero(t, c.Disks[0].DifferentBytes, "another format, the same bytes")
	areas := map[string]bool{}
	for _, d := range c.Differences {
		areas[string(d.Area)] = true
	}
	require.Equal(t, map[string]bool{"hardware": true, "wiring": true, "identity": true}, areas)
	// The guest writes its log while it runs: 64 KiB at the disk's end.
	e.ok(t, "power", "on", "gannet/tide-gauge")
	time.Sleep(5 * time.Second)
	e.ok(t, "power", "off", "gannet/tide-gauge")
	e.ok(t, "survey", "gannet")
	c = get[openapi.Comparison](t, e, "compare", "gannet/tide-gauge", "skua/tide-far", "--exact")
	require.Equal(t, int64(64<<10), c.Disks[0].DifferentBytes)
	// Layers on one parent: only what lies above it is read.
	c = get[openapi.Comparison](t, e, "compare", "training-01", "training-02")
	require.NotEmpty(t, c.Disks[0].Shared)
	require.Zero(t, c.Disks[0].ReadBytes)
	require.Equal(t, 2, e.run(t, "compare", "petrel/tide-probe", "petrel/tide-probe").status)

	e.ok(t, "untrack", "skua/wave-model", "--note", "the model team's")
	_, found, status := e.planned(t, "change", "wave-model", "--cpus", "8")
	require.Equal(t, 4, status)
	require.Contains(t, found["copy.untracked"].Message, "unvora track skua/wave-model")
	for _, args := range []string{"power on wave-model", "delist wave-model", "renew wave-model"} {
		require.Equal(t, 4, e.run(t, append(strings.Fields(args), "--yes")...).status, args)
	}
	e.ok(t, "compare", "wave-model", "gannet/tide-gauge")
	e.ok(t, "survey")
	require.False(t, get[openapi.Copy](t, e, "copies", "wave-model").Tracked)
	e.ok(t, "track", "--where", "host=skua")
	e.ok(t, "change", "wave-model", "--cpus", "8")
	require.Equal(t, 2, e.run(t, "track").status)
}

// brought: machines of another host, one that runs among them, in one job.
func brought(t *testing.T, e *estate) {
	truth := judge(t, "qcow2", filepath.Join(e.pool("petrel", "reef"), "tide-probe", "tide-probe-disk1.qcow2")).sum(t)
	p, found, status := e.planned(t, "import", "--from", "petrel", "--host", "skua")
	require.Equal(t, 3, status)
	require.Len(t, p.Subjects, 2, "all that petrel lists")
	require.Contains(t, found["state.running"].Message, "petrel/chart-render runs")
	e.ok(t, "import", "--from", "petrel", "tide-probe", "chart-render", "--host", "skua", "--yes")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "petrel/chart-render").State, "started again")
	made := get[openapi.Copy](t, e, "copies", "skua/tide-probe")
	require.Equal(t, get[openapi.Copy](t, e, "copies", "petrel/tide-probe").Id, *made.Parent)
	require.Equal(t, truth, judge(t, "vmdk", filepath.Join(made.Path, (*made.Machine.Disks)[0].File)).sum(t))
	require.Equal(t, 2, e.run(t, "import", "--host", "skua").status)
	require.NotZero(t, e.run(t, "import", "--from", "heron", "--host", "skua").status)
	require.Empty(t, e.leftovers(t, "skua"))
}

// TestRebuild: a host whose agent has lost all its records gets back its
// switches and the machines whose files are there.
func TestRebuild(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "power", "on", "gannet/tide-gauge")
	e.ok(t, "export", "training-07", "attic", "--yes")
	before := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	root := filepath.Join(e.dir, "hosts", "gannet")
	config, err := os.ReadFile(filepath.Join(root, "agent.toml"))
	require.NoError(t, err)
	var kept []string
	for _, part := range regexp.MustCompile(`(?m)^\[\[`).Split(string(config), -1) {
		if !strings.HasPrefix(part, "machine]]") && !strings.HasPrefix(part, "switch]]") {
			kept = append(kept, part)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "agent.toml"), []byte(strings.Join(kept, "[[")), 0o644))
	require.NoError(t, os.RemoveAll(filepath.Join(root, "state")))
	require.NoError(t, os.RemoveAll(filepath.Join(root, "reef", "training-07")))
	pid := e.pids(t)["agent-gannet"]
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	code := ""
	wait.Until(t, func() bool {
		raw, _ := os.ReadFile(filepath.Join(root, "state", "code"))
		code = strings.TrimSpace(string(raw))
		return code != ""
	})
	require.Equal(t, 2, e.run(t, "host", "rebuild", "petrel").status, "it has all that it had")
	require.NotZero(t, e.run(t, "host", "rebuild", "petrel", "--code", code).status)
	r := e.run(t, "host", "rebuild", "gannet", "--code", code, "--plan", "-o", "json")
	var p openapi.Plan
	require.NoError(t, json.Unmarshal([]byte(r.out), &p), r.out+r.err)
	require.Equal(t, 3, r.status)
	require.Equal(t, "rebuild.lost", p.Findings[0].Code, "what can't be brought back is named first")
	require.Contains(t, p.Findings[0].Message, "attic/training-07.ova")
	e.ok(t, "host", "rebuild", "gannet", "--yes")
	after := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	require.Equal(t, before.Id, after.Id)
	require.Equal(t, before.Uuid, after.Uuid)
	require.Equal(t, before.Macs, after.Macs)
	require.Equal(t, before.MadeBy, after.MadeBy)
	require.Equal(t, "running", after.State, "it ran before")
	require.Contains(t, e.ok(t, "switches", "gannet"), "field")
	require.NotContains(t, e.ok(t, "copies", "--where", "host=gannet form=registered"), "training-07")
	require.Contains(t, e.ok(t, "copies", "--where", "host=gannet form=registered"), "training-08")
	require.Equal(t, 2, e.run(t, "host", "rebuild", "gannet").status)
}

// TestDriveTravels: a drive is pulled out of one host and put into another. Its
// mark says which pool it is, and its copies are known at once; back again, all
// is as it was.
func TestDriveTravels(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--identity", "renew", "--yes")
	before := get[openapi.Copy](t, e, "copies", "gannet/chart-render")
	here, there := filepath.Join(e.dir, "hosts", "gannet", "kelp"), filepath.Join(e.dir, "hosts", "petrel", "kelp")
	f, err := os.OpenFile(filepath.Join(e.dir, "hosts", "petrel", "agent.toml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("\n[[pool]]\nname = \"kelp\"\npath = \"" + there + "\"\nremovable = true\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	pid := e.pids(t)["agent-petrel"]
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	wait.Until(t, func() bool {
		return e.run(t, "survey", "petrel").status == 0 &&
			e.pids(t)["agent-petrel"] != pid
	})

	state := func() string {
		c := get[openapi.Copy](t, e, "copies", before.Id)
		return c.Host + " " + string(c.Form) + " " + c.State
	}
	require.NoError(t, os.Rename(here, e.dir+"/pulled-out"))
	wait.Until(t, func() bool { return state() == "gannet registered away" }, "kept, with its last sighting")
	require.NoError(t, os.Rename(e.dir+"/pulled-out", there))
	wait.Until(t, func() bool { return state() == "petrel stray stopped" })
	e.ok(t, "survey")
	require.Equal(t, "petrel stray stopped", state(), "the host that has the drive speaks for it")
	named := 0
	for _, p := range get[[]openapi.Pool](t, e, "pools") {
		if p.Name == "kelp" {
			named++
			require.Len(t, p.Hosts, 2, "seen by two hosts")
		}
	}
	require.Equal(t, 1, named, "it is one pool")
	require.NoError(t, os.Rename(there, here))
	wait.Until(t, func() bool { return state() == "gannet registered stopped" })
	e.ok(t, "power", "on", "gannet/chart-render")
	e.ok(t, "power", "off", "gannet/chart-render")
}
