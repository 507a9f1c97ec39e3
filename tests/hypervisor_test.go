package tests

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/tests/guest"
)

// guestWords are what a guest has said since its last start, by the first word of each line.
type guestWords map[string][]string

// guestSays waits until the guest of a copy is ready, and returns what it has told.
func (e *estate) guestSays(t *testing.T, copy string) guestWords {
	t.Helper()
	var said string
	wait.Until(t, func() bool {
		said = strings.ReplaceAll(e.ok(t, "console", copy), "\r", "")
		_, since, found := cutLast(said, "guest: uuid")
		said = "guest: uuid" + since
		return found && strings.Contains(since, "guest: ready")
	}, "%s does not start", copy)
	all := guestWords{}
	for _, line := range strings.Split(said, "\n") {
		if rest, ok := strings.CutPrefix(line, "guest: "); ok {
			word, more, _ := strings.Cut(rest, " ")
			all[word] = append(all[word], more)
		}
	}
	return all
}

func cutLast(s, sep string) (before, after string, found bool) {
	at := strings.LastIndex(s, sep)
	if at < 0 {
		return s, "", false
	}
	return s[:at], s[at+len(sep):], true
}

// agrees holds what a guest's own kernel sees against the inventory.
func (e *estate) agrees(t *testing.T, copy string, says guestWords) *openapi.Machine {
	t.Helper()
	m := get[openapi.Copy](t, e, "copies", copy).Machine
	require.Equal(t, []string{m.FirmwareUuid}, says["uuid"], copy)
	require.Equal(t, []string{*m.GenerationId}, says["generation"], copy)
	require.Equal(t, []string{fmt.Sprint(m.Cpus)}, says["cpus"], copy)
	require.Equal(t, []string{m.Firmware}, says["firmware"], copy)
	require.Len(t, says["disk"], len(*m.Disks))
	for n, d := range *m.Disks {
		require.Regexp(t, fmt.Sprintf("^[a-z0-9]+ %d sectors serial %s$", d.VirtualBytes/512, *d.Serial),
			says["disk"][n])
	}
	require.Len(t, says["nic"], len(*m.Nics))
	for n, c := range *m.Nics {
		require.Contains(t, says["nic"][n], " "+c.Mac+" ")
	}
	return m
}

// clean tells that the file system of a copy's guest was closed as it should be.
func (e *estate) clean(t *testing.T, copy string) {
	t.Helper()
	c := get[openapi.Copy](t, e, "copies", copy)
	raw := tempFile(t, "whole.raw")
	e.ok(t, "disk", "copy", filepath.Join(c.Path, (*c.Machine.Disks)[0].File), raw, "--format", "raw")
	f, err := os.Open(raw)
	require.NoError(t, err)
	defer f.Close()
	files := tempFile(t, "files.raw")
	out, err := os.Create(files)
	require.NoError(t, err)
	_, err = io.Copy(out, io.NewSectionReader(f, guest.FilesFrom, guest.FilesBytes))
	require.NoError(t, err)
	require.NoError(t, out.Close())
	said, err := exec.Command("/sbin/e2fsck", "-fn", files).CombinedOutput()
	require.NoError(t, err, string(said))
	require.NotContains(t, string(said), "recover", "its journal was not needed")
}

// TestHypervisor: machines really run on tern. A disk becomes one, is exported, comes back as itself and as another;
// what
// each guest's own kernel sees is what the inventory says.
func TestHypervisor(t *testing.T) {
	e := ownEstate(t)
	e.screen(t)
	checks := e.ok(t, "host", "check", "tern")
	require.Contains(t, checks, "✓ qemu")
	require.Contains(t, checks, "✓ firmware")
	require.Contains(t, e.run(t, "register", "tideline/nothing", "--host", "tern", "--plan").err, "tideline/nothing")

	// A bare disk becomes a machine: looking into it tells how it starts.
	disk, err := guest.Disk()
	require.NoError(t, err)
	folder := filepath.Join(e.pool("tern", "tideline"), "tide-clock")
	require.NoError(t, os.Mkdir(folder, 0o755))
	raw, err := os.ReadFile(disk)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "clock.raw"), raw, 0o600))
	if os.Getuid() == 0 {
		require.NoError(t, exec.Command("chown", "-R", "--reference="+filepath.Dir(folder), folder).Run())
	}
	_, found, _ := e.planned(t, "register", "tideline/tide-clock", "--host", "tern")
	require.Contains(t, found, "descriptor.lost")
	require.Contains(t, found, "network.unmapped")
	e.ok(t, "register", "tideline/tide-clock", "--host", "tern", "--yes")
	e.ok(t, "power", "on", "tide-clock", "--yes")
	first := e.agrees(t, "tide-clock", e.guestSays(t, "tide-clock"))
	require.Equal(t, "uefi", first.Firmware)

	e.standsStill(t, "tide-clock")

	// What is put in while it runs is seen by its guest, and taken out again.
	spare := filepath.Join(e.pool("tern", "tideline"), "spare.raw")
	require.NoError(t, os.WriteFile(spare, make([]byte, 1<<20), 0o666))
	require.NoError(t, os.Chmod(spare, 0o666))
	e.ok(t, "disk", "attach", "tide-clock", "tideline/spare.raw")
	says := func(text string) {
		t.Helper()
		wait.Until(t, func() bool { return strings.Contains(e.ok(t, "console", "tide-clock"), text) }, "%s", text)
	}
	says("guest: came vd")
	e.ok(t, "disk", "detach", "tide-clock", "disk1")
	says("guest: left vd")
	require.FileExists(t, spare)
	e.ok(t, "nic", "unplug", "tide-clock", "NIC 1")
	require.Empty(t, (*get[openapi.Copy](t, e, "copies", "tide-clock").Machine.Nics)[0].Network)
	e.ok(t, "nic", "wire", "tide-clock", "NIC 1", "quarantine")
	refused := e.told(t, 1, "nic", "add", "tide-clock")
	require.Contains(t, refused, "may make no TAP devices")
	require.Len(t, *get[openapi.Copy](t, e, "copies", "tide-clock").Machine.Nics, 1, "nothing half-done stays")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "tide-clock").State)

	// It is exported and cloned while it runs and writes: what comes of that starts, and its file system is sound.
	began := time.Now()
	live := tempFile(t, "live.ova")
	require.Contains(t, e.ok(t, "export", "tide-clock", live, "--yes"), "is written")
	e.ok(t, "import", live, "--host", "tern", "--name", "tide-live", "--identity", "renew", "--yes")
	e.ok(t, "clone", "tern/tide-clock", "--name", "tide-twin", "--yes")
	e.ok(t, "power", "on", "tide-live", "--yes")
	require.Regexp(t, `^0\d+$`, e.guestSays(t, "tide-live")["counter"][0], "it was counting when it was frozen")
	e.ok(t, "power", "off", "tide-live", "--hard")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "tern/tide-clock").State)
	require.Len(t, e.guestSays(t, "tern/tide-clock")["started"], 1, "it went on all the while, %s", time.Since(began))
	twin := get[openapi.Copy](t, e, "copies", "tide-twin")
	require.Len(t, get[shownImage](t, e, "disk", "show", filepath.Join(twin.Path,
		(*twin.Machine.Disks)[0].File)).Chain, 2)
	e.ok(t, "delist", "tide-twin", "--files", "trash", "--yes")
	e.ok(t, "delist", "tide-live", "--files", "trash", "--yes")
	require.NoError(t, os.Remove(live))

	// An agent that dies leaves it running; so does its own end.
	kill(t, e, "agent-tern")
	wait.Until(t, func() bool { return e.run(t, "survey", "tern").status == 0 })
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "tern/tide-clock").State)

	e.ok(t, "power", "off", "tern/tide-clock")
	require.Contains(t, e.ok(t, "console", "tern/tide-clock"), "guest: shuts down")
	e.clean(t, "tern/tide-clock")

	// It comes back as itself, and as another.
	file := tempFile(t, "tide-clock.ova")
	e.ok(t, "export", "tern/tide-clock", file, "--yes")
	e.ok(t, "import", file, "--host", "tern", "--name", "tide-again", "--identity", "keep", "--yes", "--answer",
		"identity.origin-alive=keep", "--answer", "identity.uuid-in-use=keep", "--answer", "mac.in-use=keep")
	e.thereAndBack(t, "tide-clock", "tide-again")
	tell := tempFile(t, "first.yaml")
	require.NoError(t, os.WriteFile(tell, []byte("host-name: '{name}'\naddresses:\n  NIC 1: automatic\nfiles:\n"+
		"  /etc/motd: number {n}\n"), 0o600))
	e.ok(t, "import", file, "--host", "tern", "--name", "tide-other", "--identity", "renew", "--cpus", "1",
		"--first-start", tell, "--yes")
	for _, name := range []string{"tide-again", "tide-other"} {
		e.ok(t, "power", "on", name, "--yes")
	}
	again := e.agrees(t, "tide-again", e.guestSays(t, "tide-again"))
	require.Equal(t, first.FirmwareUuid, again.FirmwareUuid)
	require.Equal(t, *(*first.Disks)[0].Serial, *(*again.Disks)[0].Serial)
	require.Equal(t, (*first.Nics)[0].Mac, (*again.Nics)[0].Mac)
	told := e.guestSays(t, "tide-other")
	require.Contains(t, told["started"][0], "2 times", "the disk is the one that was started before")
	other := e.agrees(t, "tide-other", told)
	require.Equal(t, []string{"tide-other"}, told["hostname"], "it is told who it is when it starts for the first time")
	for _, line := range []string{"instance-id: " + get[openapi.Copy](t, e, "copies", "tide-other").Id,
		"- content: number 1", "macaddress: " + (*other.Nics)[0].Mac, "dhcp4: true"} {
		require.Contains(t, told["told"], line)
	}
	require.Contains(t, e.ok(t, "copies", "tide-other"), "first-start data lies in a drive")
	require.Contains(t, e.ok(t, "change", "tide-other", "--first-start-done", "--yes"), "changed")
	require.NotContains(t, e.ok(t, "copies", "tide-other"), "first-start data")
	require.NoFileExists(t, filepath.Join(e.pool("tern", "tideline"), "tide-other", "first-start.iso"))
	require.Contains(t, e.told(t, 2, "change", "tide-other", "--first-start-done", "--yes"), "no first-start data")
	require.Empty(t, e.guestSays(t, "tide-again")["told"])
	require.NotEqual(t, first.FirmwareUuid, other.FirmwareUuid)
	require.NotEqual(t, *first.GenerationId, *other.GenerationId)
	require.NotEqual(t, *(*first.Disks)[0].Serial, *(*other.Disks)[0].Serial)
	require.NotEqual(t, (*first.Nics)[0].Mac, (*other.Nics)[0].Mac)

	// One that dies is noticed, with how.
	require.NoError(t, syscall.Kill(e.qemuOf(t, other.FirmwareUuid), syscall.SIGKILL))
	wait.Until(t, func() bool {
		c := get[openapi.Copy](t, e, "copies", "tide-other")
		return c.State == "stopped" && c.StateWhy != nil && strings.HasPrefix(*c.StateWhy, "died: signal: killed")
	})
	require.Contains(t, e.ok(t, "copies", "tide-other"), "died: signal: killed")
	e.ok(t, "power", "off", "tide-again")
	e.clean(t, "tide-again")
}

// thereAndBack moves machines of tern to a host of another family, and back: with what their firmware keeps, and with
// their ids, which their guests see at their next start.
func (e *estate) thereAndBack(t *testing.T, names ...string) {
	t.Helper()
	variables := func(c *openapi.Copy) []byte {
		list, err := filepath.Glob(filepath.Join(c.Path, "*.variables"))
		require.NoError(t, err)
		require.Len(t, list, 1)
		raw, err := os.ReadFile(list[0])
		require.NoError(t, err)
		return raw
	}
	for _, name := range names {
		before := get[openapi.Copy](t, e, "copies", "tern/"+name)
		kept := variables(&before)
		reads := e.guestSum(t, "tern/"+name)
		for _, host := range []string{"petrel", "tern"} {
			e.ok(t, "move", name, "--host", host, "--yes")
			now := e.onlyAt(t, name, host)
			require.Equal(t, before.Id, now.Id)
			require.Equal(t, reads, e.guestSum(t, host+"/"+name))
			require.True(t, bytes.Equal(kept, variables(now)), "what its firmware keeps")
		}
	}
}

// standsStill pauses and suspends a copy whose guest is up: it goes on where it was.
func (e *estate) standsStill(t *testing.T, copy string) {
	t.Helper()
	state := func() string { return get[openapi.Copy](t, e, "copies", copy).State }
	e.ok(t, "power", "pause", copy)
	require.Equal(t, "paused", state())
	e.ok(t, "power", "on", copy)
	require.Equal(t, "running", state())
	e.ok(t, "power", "suspend", copy)
	require.Equal(t, "suspended", state())
	e.ok(t, "survey", "tern")
	require.Equal(t, "suspended", state(), "the host tells the same")
	_, found, status := e.planned(t, "change", copy, "--cpus", "2")
	require.Equal(t, 4, status)
	require.Contains(t, found["state.held"].Message, "unvora power on tern/"+copy)
	require.Equal(t, 4, e.run(t, "power", "pause", copy, "--plan").status, "it does not run")
	_, found, status = e.planned(t, "power", "off", copy, "--yes")
	require.Equal(t, 3, status, "what is in memory is not lost by --yes")
	require.Contains(t, found, "state.suspended")
	_, found, _ = e.planned(t, "export", copy, "./x.ova")
	require.Contains(t, found, "state.left-behind")
	e.ok(t, "power", "on", copy)
	require.Equal(t, "running", state())
	require.Len(t, e.guestSays(t, copy)["started"], 1, "it has not started anew")
}

// screen tries a machine's screen and console in the browser: what it shows is seen, keys go in.
func (e *estate) screen(t *testing.T) {
	t.Helper()
	e.ok(t, "power", "on", "ferry-display")
	said := func(times int, text string) {
		t.Helper()
		wait.Until(t, func() bool { return strings.Count(e.ok(t, "console", "ferry-display"), text) >= times }, text)
	}
	said(1, "Ferry to Quay")
	e.ok(t, "console", "ferry-display", "--type", "by the client")
	said(1, "by the client")
	file := tempFile(t, "ferry.png")
	e.ok(t, "console", "ferry-display", "--picture", file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "\x89PNG", string(raw[:4]))
	require.Contains(t, e.told(t, 2, "console", "gannet/tide-gauge", "--picture", file), "shows no displays")
	require.Equal(t, 1, e.run(t, "console", "ferry-display", "--picture", "/nowhere/x.png").status)

	ctx := browser(t)
	do(t, ctx, "sign in", chromedp.Navigate(e.server), chromedp.WaitVisible(chromedp.CSS(`input[name=password]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=password]`), e.password), press(byText("button", "Sign in")),
		chromedp.WaitVisible(byText("h1", "Lineages")))
	do(t, ctx, "open", chromedp.Navigate(e.server+"/lineages/ferry-display"),
		chromedp.WaitVisible(chromedp.CSS(`img[alt="What ferry-display shows"]`)),
		chromedp.SendKeys(chromedp.CSS(`textarea[aria-label="What it has said"]`), "from the page"))
	said(1, "from the page")
	accessible(t, ctx, "console")
	do(t, ctx, "use the screen", press(byText("button", "Use it")),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=Screen] canvas`)),
		chromedp.WaitNotPresent(byText("*[@role='status']", "Connecting")),
		press(byText("button", "Ctrl-Alt-Del")))
	said(2, "Ferry to Quay") // it has started again
	accessible(t, ctx, "screen")
	e.ok(t, "power", "off", "ferry-display")
	do(t, ctx, "it ends", chromedp.WaitVisible(byText("button", "Start")))
}

// qemuOf is the process that runs the estate's machine with this firmware UUID, which the samples of all estates have.
func (e *estate) qemuOf(t *testing.T, uuid string) int {
	t.Helper()
	paths, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	is := regexp.MustCompile(`^[^\x00]*qemu-system-[^\x00]*\x00.*` + uuid)
	for _, path := range paths {
		raw, err := os.ReadFile(path)
		if err != nil || !is.Match(raw) {
			continue
		}
		if at, err := os.Readlink(filepath.Join(filepath.Dir(path), "cwd")); err == nil &&
			strings.HasPrefix(at, e.dir+"/") {
			var pid int
			_, err := fmt.Sscanf(path, "/proc/%d/", &pid)
			require.NoError(t, err)
			return pid
		}
	}
	t.Fatal("no QEMU runs the machine", uuid)
	return 0
}

// TestNewHost: a computer that nothing was said of becomes a host, and a package runs on it.
func TestNewHost(t *testing.T) {
	e := ownEstate(t)
	dir := filepath.Join(e.dir, "hosts", "auk")
	pool := filepath.Join(dir, "machines")
	require.NoError(t, os.MkdirAll(pool, 0o755))
	port, err := freePort()
	require.NoError(t, err)
	file := filepath.Join(dir, "agent.toml")
	propose := []string{"agent", "init", file, "--name", "auk", "--listen", fmt.Sprintf("127.0.0.1:%d", port),
		"--state", filepath.Join(dir, "state"), "--pool", pool}
	r := e.run(t, propose...)
	require.Zero(t, r.status, r.err)
	for _, says := range []string{"✓ qemu", "acceleration", "✓ firmware", "agent.toml is written"} {
		require.Contains(t, r.err, says)
	}
	require.Contains(t, e.told(t, 2, propose...), "is there already")
	require.Contains(t, e.run(t, "agent", "init", "-", "--name", "auk").out, "name = \"auk\"")
	require.Contains(t, e.told(t, 2, "agent", "init", "-", "--name", "auk/two"), "the name of the host")

	agent := e.command(t.Context(), "agent", file, "--log-level", "warn")
	require.NoError(t, agent.Start())
	t.Cleanup(func() {
		_ = agent.Process.Signal(syscall.SIGTERM)
		_ = agent.Wait()
	})
	var code []byte
	wait.Until(t, func() bool {
		code, err = os.ReadFile(filepath.Join(dir, "state", "code"))
		return err == nil
	})
	e.ok(t, "host", "add", fmt.Sprintf("127.0.0.1:%d", port), "--code", strings.TrimSpace(string(code)))
	require.Contains(t, e.ok(t, "host", "check", "auk"), "✓ qemu")

	pack := tempFile(t, "ferry-display.ova")
	e.ok(t, "export", "tern/ferry-display", pack)
	e.ok(t, "import", pack, "--host", "auk", "--yes")
	require.Contains(t, e.ok(t, "console", "auk/ferry-display"), "said nothing yet")
	require.Contains(t, e.told(t, 2, "console", "auk/ferry-display", "--follow", "-o", "json"), "--follow has no end")
	follows := e.command(t.Context(), "console", "auk/ferry-display", "--follow")
	heard := &printed{}
	follows.Stdout = heard
	require.NoError(t, follows.Start())
	e.ok(t, "power", "on", "auk/ferry-display")
	wait.Until(t, func() bool {
		return strings.Contains(e.ok(t, "console", "auk/ferry-display"), "Ferry to Quay")
	})
	wait.Until(t, func() bool { return strings.Contains(heard.String(), "Ferry to Quay") }, "whoever follows hears it")
	require.NoError(t, follows.Process.Signal(syscall.SIGINT))
	require.NoError(t, follows.Wait(), "Ctrl-C is how it ends")
	r = e.run(t, "console", "gannet/tide-gauge")
	require.Equal(t, 2, r.status, r.err)
	require.Contains(t, r.err, "keeps no console")
	e.ok(t, "power", "off", "auk/ferry-display")
	require.Nil(t, stateWhy(get[openapi.Copy](t, e, "copies", "auk/ferry-display")))
	require.Contains(t, e.ok(t, "console", "auk/ferry-display"), "Ferry to Quay", "also of one that has ended")
}

func stateWhy(c openapi.Copy) *string {
	if c.StateWhy != nil && *c.StateWhy != "" {
		return c.StateWhy
	}
	return nil
}
