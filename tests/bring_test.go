package tests

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/agent/ground"
)

// planned is the plan of a command, whatever its status.
func (e *estate) planned(t *testing.T, args ...string) (openapi.Plan, map[string]openapi.Finding, int) {
	t.Helper()
	r := e.run(t, append(args, "--plan", "-o", "json")...)
	var p openapi.Plan
	require.NoError(t, json.Unmarshal([]byte(r.out), &p), r.out+r.err)
	codes := map[string]openapi.Finding{}
	for _, f := range p.Findings {
		codes[f.Code] = f
	}
	return p, codes, r.status
}

// untouched notes everything that lies in a directory, so that a test can say that nothing of it was changed. Hosts
// write again and again that they are there.
func untouched(t *testing.T, dir string) func(says string) {
	t.Helper()
	look := func() string {
		var all strings.Builder
		require.NoError(t, filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
			if err == nil && !info.IsDir() && !strings.HasPrefix(info.Name(), ground.MarkFile+".seen-") {
				fmt.Fprintln(&all, path, info.Size(), info.ModTime().UnixNano())
			}
			return err
		}))
		return all.String()
	}
	before := look()
	return func(says string) { t.Helper(); require.Equal(t, before, look(), says) }
}

// TestRegister: a folder that was copied by hand, with each answer to the two
// questions that are asked of it.
func TestRegister(t *testing.T) {
	e := ownEstate(t)
	kelp := e.pool("gannet", "kelp")
	same := untouched(t, kelp)
	_, found, status := e.planned(t, "register", "kelp/chart-render", "--host", "gannet")
	require.Equal(t, 3, status)
	require.Contains(t, found["identity.origin-alive"].Message, "petrel/chart-render (running)")
	require.Contains(t, found["mac.in-use"].Message, "petrel/chart-render")
	require.Contains(t, found["identity.guest-inside"].Message, "calling itself chart-render")
	require.Equal(t, 3, e.run(t, "register", "kelp/chart-render", "--host", "gannet").status,
		"nobody is there to be asked")
	same("a plan changes nothing")

	stray := find(get[[]openapi.Copy](t, e, "copies"), "stray", "gannet", "chart-render")
	truth := judge(t, "qcow2", filepath.Join(kelp, "chart-render", "chart-render-disk1.qcow2")).sum(t)
	// Files stay, identity is renewed.
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--yes", "--note", "for the chart test")
	made := get[openapi.Copy](t, e, "copies", "gannet/chart-render")
	require.Equal(t, stray.Id, made.Id, "it is the copy that was found")
	require.Equal(t, "registered", string(made.Form))
	require.NotEqual(t, stray.Uuid, made.Uuid)
	require.NotEqual(t, stray.Macs, made.Macs)
	require.Equal(t, truth, judge(t, "qcow2", filepath.Join(made.Path, "chart-render-disk1.qcow2")).sum(t),
		"to the guest the disk is the same")
	require.Contains(t, e.ok(t, "history", "chart-render"), "for the chart test")
	require.Contains(t, e.ok(t, "where", "chart-render"), "register by admin")
	e.ok(t, "power", "on", "gannet/chart-render")
	e.ok(t, "power", "off", "gannet/chart-render")
	_, found, status = e.planned(t, "register", "kelp/chart-render", "--host", "gannet", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found, "copy.already-here")
	e.ok(t, "survey")
	require.Equal(t, made.Id, get[openapi.Copy](t, e, "copies", "gannet/chart-render").Id, "a survey knows it again")

	// Copied to another host, from which its pool can't be seen.
	e.ok(t, "register", "gannet/chart-render", "--host", "petrel", "--files", "copy", "--name", "chart-copy", "--yes")
	cp := get[openapi.Copy](t, e, "copies", "petrel/chart-copy")
	require.Equal(t, made.Id, *cp.Parent)
	require.NotEqual(t, made.Uuid, cp.Uuid)
	require.Equal(t, truth, judge(t, "qcow2", filepath.Join(cp.Path, "chart-copy-disk1.qcow2")).sum(t))
	require.DirExists(t, made.Path)

	// A registered folder is not moved away from under its host.
	r := e.run(t, "register", "gannet/chart-render", "--host", "petrel", "--files", "move", "--yes")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "unvora move")
	e.ok(t, "delist", "gannet/chart-render", "--yes")
	require.Equal(t, "stray", string(get[openapi.Copy](t, e, "copies", made.Id).Form))
	e.ok(t, "register", "kelp/chart-render", "--host", "petrel", "--files", "move", "--identity", "keep", "--name",
		"chart-moved", "--yes")
	moved := get[openapi.Copy](t, e, "copies", "petrel/chart-moved")
	require.Equal(t, made.Id, moved.Id, "it is the same copy, at another place")
	require.Equal(t, made.Uuid, moved.Uuid)
	require.NoDirExists(t, made.Path)
	trash, err := filepath.Glob(filepath.Join(kelp, ".unvora", "trash", "*", "chart-render", "*.qcow2"))
	require.NoError(t, err)
	require.Len(t, trash, 1, "what was moved away lies in the trash for its term")

	// A layer whose parent was moved: the plan names the one that fits.
	e.ok(t, "delist", "sonar-lab", "--yes")
	_, found, status = e.planned(t, "register", "ledge/sonar-lab", "--host", "fulmar", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found["disk.parent-missing"].Message, "sonar-parents/sonar-base.vhdx may be it")
	require.Contains(t, e.run(t, "register", "ledge/sonar-lab", "--host", "fulmar", "--yes").err,
		"It can be settled: --answer disk.parent-missing=found")
	e.ok(t, "register", "ledge/sonar-lab", "--host", "fulmar", "--yes", "--answer", "disk.parent-missing=found")
	e.ok(t, "power", "on", "sonar-lab")

	// A folder whose descriptor is lost: from the record, or around its disks.
	folder := filepath.Join(e.pool("gannet", "reef"), "training-01")
	e.ok(t, "delist", "training-01", "--yes")
	before := get[openapi.Copy](t, e, "copies", "gannet/training-01")
	require.NoError(t, os.Remove(filepath.Join(folder, "training-01.ovf")))
	_, found, _ = e.planned(t, "register", "reef/training-01", "--host", "gannet")
	require.Contains(t, found["descriptor.lost"].Message, "there is no descriptor")
	e.ok(t, "register", "reef/training-01", "--host", "gannet", "--identity", "keep", "--yes")
	again := get[openapi.Copy](t, e, "copies", "gannet/training-01")
	require.Equal(t, before.Uuid, again.Uuid)
	require.Equal(t, before.Macs, again.Macs)
	e.ok(t, "delist", "training-01", "--yes")
	require.NoError(t, os.Remove(filepath.Join(folder, "training-01.ovf")))
	e.ok(t, "register", "reef/training-01", "--host", "gannet", "--yes", "--answer", "descriptor.lost=disks")
	full := get[openapi.Copy](t, e, "copies", "gannet/training-01")
	require.Equal(t, "Debian GNU/Linux 12 (bookworm)", full.Machine.Guest, "as found on the disk")

	// Several in one job.
	for _, n := range []string{"training-02", "training-03"} {
		e.ok(t, "delist", n, "--yes")
	}
	r = e.run(t, "register", "reef/training-02", "reef/training-03", "--host", "gannet", "--name", "class", "--yes")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "class-{nn}")
	e.ok(t, "register", "reef/training-02", "reef/training-03", "--host", "gannet", "--name", "class-{nn}", "--yes")
	for _, n := range []string{"class-01", "class-02"} {
		require.Equal(t, "registered", string(get[openapi.Copy](t, e, "copies", "gannet/"+n).Form))
	}
	require.Empty(t, e.leftovers(t, "petrel"))
}

// TestOtherFamily: a machine of another kind of host is converted, and all that
// does not fit is said at once.
func TestOtherFamily(t *testing.T) {
	e := theEstate(t)
	_, found, status := e.planned(t, "register", "shoal/kiosk-visitor", "--host", "gannet")
	require.Equal(t, 3, status)
	for _, code := range []string{"identity.origin-alive", "mac.in-use", "disk.format-foreign",
		"firmware.variables-missing", "nic.model", "controller.model", "device.needless", "disk.leftover-reference",
		"network.unmapped"} {
		require.Contains(t, found, code)
	}
	require.Contains(t, found["nic.model"].Message, "Its guest has a driver for virtio.")
	require.Equal(t, "quarantine", remedy(found["network.unmapped"]))
	e.ok(t, "register", "shoal/kiosk-visitor", "--host", "gannet", "--name", "kiosk", "--yes")
	was, is := get[openapi.Copy](t, e, "copies", "skua/kiosk-visitor"),
		get[openapi.Copy](t, e, "copies", "gannet/kiosk")
	require.Equal(t, judge(t, "vmdk", filepath.Join(was.Path, "kiosk-visitor-disk1.vmdk")).sum(t),
		judge(t, "qcow2", filepath.Join(is.Path, "kiosk-disk1.qcow2")).sum(t))
	require.Equal(t, "virtio", (*is.Machine.Nics)[0].Model)
	require.Equal(t, "quarantine", (*is.Machine.Nics)[0].Network)
	require.FileExists(t, filepath.Join(is.Path, "kiosk.variables"))
	d, err := os.ReadFile(filepath.Join(is.Path, "kiosk.ovf"))
	require.NoError(t, err)
	require.NotContains(t, string(d), "Sound card")
	e.ok(t, "power", "on", "gannet/kiosk")

	// Too big for any other host: what it would be reduced to is said.
	_, found, _ = e.planned(t, "register", "shoal/wave-model", "--host", "petrel")
	require.Contains(t, found["cpu.too-many"].Message, "petrel gives a machine 8 at most")
	require.Contains(t, found["memory.too-much"].Message, "petrel has 32 GiB")

	// What a licence is bound to is kept, though it collides: the other one can be given its own.
	e.ok(t, "mark", "licence-desk", "licence", "mac")
	_, found, _ = e.planned(t, "register", "ledge/licence-desk", "--host", "gannet", "--yes")
	require.Contains(t, found["mac.licence-bound"].Message, "A licence is bound to its MACs")
	require.Contains(t, found["mac.licence-bound"].Message, "unvora renew fulmar/licence-desk --facet mac")
	require.Equal(t, "keep", *found["mac.licence-bound"].Answer)
	require.Equal(t, "keep", remedy(found["mac.licence-bound"]))
	_, found, _ = e.planned(t, "register", "ledge/licence-desk", "--host", "skua", "--yes")
	require.Contains(t, found["tpm.unsupported"].Message, "secrets in it are lost")
	e.ok(t, "mark", "licence-desk", "nothing", "mac")
}

func remedy(f openapi.Finding) string {
	for _, r := range f.Remedies {
		if r.Recommended {
			return r.Id
		}
	}
	return ""
}

// TestChange: what can be changed about a copy, and what is said of it.
func TestChange(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "change", "tide-gauge", "--cpus", "4", "--memory", "4GiB", "--guest", "FreeBSD 14", "--name", "tide-second",
		"--folder", "--add", "cd", "--yes")
	c := get[openapi.Copy](t, e, "copies", "gannet/tide-second")
	require.Equal(t, 4, c.Machine.Cpus)
	require.Equal(t, int64(4<<30), c.Machine.MemoryBytes)
	require.Equal(t, "tide-second", filepath.Base(c.Path))
	require.Equal(t, "survey", c.MadeBy, "it stays the copy that it was")
	e.ok(t, "power", "on", "tide-second")
	_, found, status := e.planned(t, "change", "tide-second", "--cpus", "2")
	require.Equal(t, 3, status)
	require.Contains(t, found["state.running"].Message, "only while it is stopped")
	e.ok(t, "change", "tide-second", "--cpus", "2", "--yes")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "gannet/tide-second").State, "it is started again")
	e.ok(t, "power", "off", "tide-second")
	e.ok(t, "survey")
	require.Equal(t, c.Id, get[openapi.Copy](t, e, "copies", "gannet/tide-second").Id)

	// NICs.
	e.ok(t, "nic", "add", "tide-second", "field", "--yes")
	e.ok(t, "nic", "wire", "tide-second", "NIC 1", "quarantine", "--yes")
	c = get[openapi.Copy](t, e, "copies", "gannet/tide-second")
	nics := *c.Machine.Nics
	require.Equal(t, "quarantine", nics[0].Network)
	require.Equal(t, "field", nics[1].Network)
	require.Len(t, c.Macs, 2)
	e.ok(t, "nic", "unplug", "tide-second", "NIC 2", "--yes")
	e.ok(t, "nic", "drop", "tide-second", "NIC 1", "--yes")
	c = get[openapi.Copy](t, e, "copies", "gannet/tide-second")
	require.Len(t, *c.Machine.Nics, 1)
	require.Empty(t, (*c.Machine.Nics)[0].Network)
	require.Equal(t, "NIC 2", (*c.Machine.Nics)[0].Name)

	// A twin's MAC is renewed where it is, and nothing else of it.
	before := get[openapi.Copy](t, e, "copies", "petrel/tide-probe")
	e.ok(t, "renew", "tide-probe", "--facet", "mac", "--yes")
	after := get[openapi.Copy](t, e, "copies", "petrel/tide-probe")
	require.NotEqual(t, before.Macs, after.Macs)
	require.Equal(t, before.Uuid, after.Uuid)
	require.Equal(t, []string{"mac"}, after.Renewed)
	// Twins run side by side only when one of them is in quarantine.
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--identity", "keep", "--answer",
		"identity.uuid-in-use=keep", "--answer", "mac.in-use=keep", "--yes")
	require.Equal(t, 4, e.run(t, "power", "on", "gannet/chart-render").status)
	e.ok(t, "nic", "wire", "gannet/chart-render", "NIC 1", "quarantine", "--yes")
	e.ok(t, "power", "on", "gannet/chart-render")

	e.ok(t, "renew", "tide-probe", "--yes")
	full := get[openapi.Copy](t, e, "copies", "petrel/tide-probe")
	require.NotEqual(t, after.Uuid, full.Uuid)
	image := filepath.Join(full.Path, "tide-probe-disk1.qcow2")
	var shown struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(e.ok(t, "disk", "show", image, "-o", "json")), &shown))
	require.NotEmpty(t, shown.ID)

	for name, c := range map[string]struct {
		args   []string
		status int
		says   string
	}{
		"nothing to change": {[]string{"change", "tide-second"}, 2, "nothing is to be changed"},
		"unknown device": {[]string{"change", "tide-second", "--drop", "Harp"}, 2,
			`has no device "Harp"; it has "cd 1"`},
		"unknown kind": {[]string{"change", "tide-second", "--add", "harp"}, 2, "there are cd, floppy"},
		"unknown boot": {[]string{"change", "tide-second", "--boot", "disk9"}, 2,
			`nothing of the machine is called "disk9"`},
		"unknown switch": {[]string{"nic", "add", "tide-second", "fjord"}, 2, "it has field, lab, quarantine"},
		"unknown facet":  {[]string{"renew", "tide-second", "--facet", "colour"}, 2, `no facet "colour"`},
		"name taken":     {[]string{"change", "tide-second", "--name", "buoy-ingest"}, 3, "buoy-ingest-2"},
		"too many":       {[]string{"change", "tide-second", "--cpus", "99"}, 3, "gannet gives a machine 16 at most"},
		"folder alone":   {[]string{"change", "tide-second", "--folder"}, 2, "nothing is to be changed"},
	} {
		t.Run(name, func(t *testing.T) {
			r := e.run(t, c.args...)
			require.Equal(t, c.status, r.status, r.out+r.err)
			require.Contains(t, r.out+r.err, c.says)
		})
	}

	// The last copy goes to the trash only by its name.
	r := e.run(t, "delist", "training-12", "--files", "trash", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.out, "It is the last copy of its lineage")
	require.Equal(t, 2, e.run(t, "delist", "training-12", "--files", "trash", "--answer",
		"source.last-copy=by-name:training-11").status)
	e.ok(t, "delist", "training-12", "--files", "trash", "--answer", "source.last-copy=by-name:training-12")
	require.NoDirExists(t, filepath.Join(e.pool("gannet", "reef"), "training-12"))
	require.NotContains(t, e.ok(t, "copies"), "training-12")
	e.ok(t, "delist", "old-telemetry", "--yes")
	require.NotContains(t, e.ok(t, "copies"), "old-telemetry")
}

// TestDisksOfCopies: attach, detach, adopt, let go; no file is ever deleted.
func TestDisksOfCopies(t *testing.T) {
	e := ownEstate(t)
	spare := filepath.Join(e.pool("gannet", "reef"), "spare")
	require.NoError(t, os.Mkdir(spare, 0o755))
	truth := disktest.Pattern(6*mib, 5)
	require.NoError(t, os.WriteFile(filepath.Join(spare, "tides.img"), truth, 0o644))
	e.ok(t, "disk", "copy", filepath.Join(spare, "tides.img"), filepath.Join(spare, "tides.qcow2"), "--format", "qcow2")
	e.ok(t, "disk", "copy", filepath.Join(spare, "tides.img"), filepath.Join(spare, "tides.vmdk"), "--format", "vmdk")
	e.give(t, e.pool("gannet", "reef"), "spare")
	e.ok(t, "disk", "adopt", "reef/spare/tides.qcow2", "--host", "gannet")
	e.ok(t, "disk", "adopt", "shoal/kiosk-visitor/visitor-guide.iso", "--host", "skua")
	disks := get[[]openapi.LooseDisk](t, e, "disks")
	require.Len(t, disks, 2)
	require.Equal(t, "media", string(disks[1].Kind))
	require.Equal(t, int64(6*mib), disks[0].VirtualBytes)
	r := e.run(t, "disk", "adopt", "reef/spare/tides.qcow2", "--host", "gannet")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "in the inventory already")
	r = e.run(t, "disk", "adopt", "reef/tide-gauge/tide-gauge-disk1.qcow2", "--host", "gannet")
	require.Contains(t, r.err, "is a disk of tide-gauge")

	e.ok(t, "disk", "attach", "tide-gauge", "reef/spare/tides.qcow2", "--yes")
	c := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	require.Len(t, *c.Machine.Disks, 2)
	d := (*c.Machine.Disks)[1]
	require.Equal(t, filepath.Join("..", "spare", "tides.qcow2"), d.File)
	e.ok(t, "power", "on", "tide-gauge")
	e.ok(t, "power", "off", "tide-gauge")
	_, found, status := e.planned(t, "disk", "attach", "buoy-ingest", "reef/spare/tides.qcow2", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found["disk.shared"].Message, "tide-gauge names the same file")
	_, found, status = e.planned(t, "disk", "attach", "buoy-ingest", "reef/training-parent/classroom.qcow2", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found["disk.parent-of-others"].Message, "training-01")
	e.ok(t, "disk", "attach", "buoy-ingest", "reef/training-parent/classroom.qcow2", "--answer",
		"disk.parent-of-others=layer")
	layered := get[openapi.Copy](t, e, "copies", "gannet/buoy-ingest")
	require.Equal(t, "buoy-ingest-disk2-layer.qcow2", (*layered.Machine.Disks)[1].File)

	// Another format is converted beside it; the one that it replaces stays.
	e.ok(t, "disk", "attach", "tide-gauge", "reef/spare/tides.vmdk", "--in-place-of", "disk2", "--yes")
	c = get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	requireGuest(t, truth, judge(t, "qcow2", filepath.Join(c.Path, (*c.Machine.Disks)[1].File)))
	e.ok(t, "disk", "detach", "tide-gauge", "disk2", "--yes")
	require.Len(t, *get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Machine.Disks, 1)
	for _, file := range []string{"tides.img", "tides.qcow2", "tides.vmdk"} {
		require.FileExists(t, filepath.Join(spare, file))
	}
	e.ok(t, "disk", "let-go", "reef/spare/tides.qcow2")
	require.FileExists(t, filepath.Join(spare, "tides.qcow2"))
	require.Len(t, get[[]openapi.LooseDisk](t, e, "disks"), 1)
	r = e.run(t, "disk", "detach", "tide-gauge", "disk7")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, `it has "disk1"`)
	r = e.run(t, "disk", "attach", "tide-gauge", "reef/spare/none.qcow2")
	require.Contains(t, r.err, "no such file")
}

// TestSources: a package in an archive, in a pool, on the web; several machines
// in one; bare disks here and at the host.
func TestSources(t *testing.T) {
	e := ownEstate(t)
	downloads := filepath.Join(e.dir, "packages")
	good := filepath.Join(downloads, "rain-gauge.ova")
	raw, err := os.ReadFile(good)
	require.NoError(t, err)
	truth := judge(t, "vmdk", unpacked(t, good)).sum(t)
	check := func(name string) {
		t.Helper()
		c := get[openapi.Copy](t, e, "copies", name)
		require.Equal(t, truth, judge(t, "qcow2", filepath.Join(c.Path, (*c.Machine.Disks)[0].File)).sum(t))
	}
	wrapped := tempFile(t, "rain.zip")
	f, err := os.Create(wrapped)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	w, err := z.Create("downloads/rain-gauge.ova")
	require.NoError(t, err)
	_, err = w.Write(raw)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
	e.ok(t, "import", wrapped, "--host", "petrel", "--name", "rain-zip", "--yes")
	check("petrel/rain-zip")
	pool := e.pool("gannet", "reef")
	require.NoError(t, os.Rename(wrapped, filepath.Join(pool, "rain.zip")))
	e.ok(t, "import", "reef/rain.zip", "--host", "gannet", "--name", "rain-pool", "--yes")
	check("gannet/rain-pool")
	require.NoError(t, os.WriteFile(filepath.Join(pool, "rain.ova"), raw, 0o644))
	e.ok(t, "import", "gannet:"+filepath.Join(pool, "rain.ova"), "--host", "petrel", "--name", "rain-far", "--yes")
	check("petrel/rain-far")
	r := e.run(t, "import", "gannet:"+filepath.Join(pool, "rain.zip"), "--host", "petrel", "--yes")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "from another host only an OVA is read")

	web := httptest.NewServer(http.FileServer(http.Dir(downloads)))
	defer web.Close()
	e.ok(t, "import", web.URL+"/rain-gauge.ova", "--host", "gannet", "--name", "rain-web", "--yes")
	check("gannet/rain-web")
	_, found, status := e.planned(t, "import", web.URL+"/none.ova", "--host", "gannet", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found["package.unknown"].Message, "404")

	// The sample downloads, each with its fault.
	for file, code := range map[string]string{"rain-gauge-cut.ova": "package.truncated",
		"rain-gauge-escaping.ova": "package.path-escape"} {
		_, found, status := e.planned(t, "import", filepath.Join(downloads, file), "--host", "petrel", "--yes")
		require.Equal(t, 4, status)
		require.Contains(t, found, code)
	}
	r = e.run(t, "import", filepath.Join(downloads, "rain-gauge-changed.ova"), "--host", "petrel", "--name", "changed",
		"--yes")
	require.Equal(t, 1, r.status)
	require.NotContains(t, e.ok(t, "copies"), "changed")
	_, found, _ = e.planned(t, "import", filepath.Join(downloads, "storm-surge.ova"), "--host", "skua")
	require.Contains(t, found["cpu.too-many"].Message, "skua gives a machine 24 at most")
	require.Contains(t, found["memory.too-much"].Message, "1 TiB")

	// Several machines, of which some or all come in.
	two := severalMachines(t)
	_, found, status = e.planned(t, "import", two, "--host", "gannet")
	require.Equal(t, 3, status)
	require.Contains(t, found["descriptor.several-machines"].Message, "wind-web, wind-db")
	require.Contains(t, found["descriptor.eula"].Message, "Be kind to gulls.")
	require.Equal(t, 3, e.run(t, "import", two, "--host", "gannet", "--yes").status,
		"a licence text is accepted by name only")
	require.Regexp(t, `port +wind-web +uint16 +80 +Port`, e.ok(t, "inspect", two))
	for wrong, says := range map[string]string{"port=eighty": "is no uint16", "prt=8080": "it asks for address, port"} {
		r = e.run(t, "import", two, "--host", "gannet", "--yes", "--property", wrong)
		require.Equal(t, 2, r.status, r.out)
		require.Contains(t, r.err, says)
	}
	_, found, _ = e.planned(t, "import", two, "--host", "gannet", "--property", "address=192.0.2.7")
	require.NotContains(t, found, "descriptor.property-missing")
	require.Contains(t, found["environment.told"].Message, "address=192.0.2.7, port=80.")
	e.ok(t, "import", two, "--host", "gannet", "--yes", "--answer", "descriptor.eula=accept", "--answer",
		"descriptor.property-missing=value:192.0.2.7", "--property", "port=8080")
	web1 := get[openapi.Copy](t, e, "copies", "gannet/wind-web")
	require.Equal(t, 2, web1.Machine.Cpus)
	disc := filepath.Join(web1.Path, "first-start.iso")
	for _, tree := range []string{"-R", "-J"} {
		name := "/ovf-env.xml" + map[string]string{"-J": ";1"}[tree]
		document, err := exec.Command("isoinfo", tree, "-i", disc, "-x", name).Output()
		require.NoError(t, err, "isoinfo is of genisoimage, which make test installs")
		require.Contains(t, string(document), `ovfenv:id="wind-web"`)
		require.Contains(t, string(document), `<Property ovfenv:key="address" ovfenv:value="192.0.2.7"/>`)
		require.Contains(t, string(document), `<Property ovfenv:key="port" ovfenv:value="8080"/>`)
	}
	require.NoFileExists(t, filepath.Join(get[openapi.Copy](t, e, "copies", "gannet/wind-db").Path, "first-start.iso"))
	e.ok(t, "change", "gannet/wind-web", "--first-start-done", "--yes")
	require.NoFileExists(t, disc)
	require.NotEqual(t, web1.Lineage, get[openapi.Copy](t, e, "copies", "gannet/wind-db").Lineage)
	e.ok(t, "import", two, "--host", "petrel", "--yes", "--answer", "descriptor.eula=accept", "--answer",
		"descriptor.property-missing=value:x", "--answer", "descriptor.several-machines=some:wind-db", "--answer",
		"descriptor.deployment-options=pick:large")
	require.NotContains(t, e.ok(t, "copies", "--where", "host=petrel"), "wind-web")

	// Bare disks at the host: where they lie, or copied; and on this computer.
	base := filepath.Join(pool, "training-parent", "classroom.qcow2")
	_, found, status = e.planned(t, "import", "reef/training-parent/classroom.qcow2", "--host", "gannet", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found, "disk.parent-of-others")
	e.ok(t, "import", "reef/training-parent/classroom.qcow2", "--host", "gannet", "--files", "copy", "--name",
		"class-copy", "--yes")
	made := get[openapi.Copy](t, e, "copies", "gannet/class-copy")
	require.Equal(t, "Debian GNU/Linux 12 (bookworm)", made.Machine.Guest)
	require.Equal(t, judge(t, "qcow2", base).sum(t), judge(t, "qcow2",
		filepath.Join(made.Path, (*made.Machine.Disks)[0].File)).sum(t))
	local := tempFile(t, "tides.vhdx")
	e.ok(t, "disk", "copy", base, local, "--format", "vhdx")
	e.ok(t, "import", local, "--host", "petrel", "--yes")
	brought := get[openapi.Copy](t, e, "copies", "petrel/tides")
	require.Equal(t, "Debian GNU/Linux 12 (bookworm)", brought.Machine.Guest)
	require.Equal(t, judge(t, "qcow2", base).sum(t), judge(t, "qcow2",
		filepath.Join(brought.Path, (*brought.Machine.Disks)[0].File)).sum(t))
	require.NoError(t, os.Mkdir(filepath.Join(pool, "bare"), 0o755))
	e.ok(t, "disk", "copy", base, filepath.Join(pool, "bare", "bare.qcow2"), "--format", "qcow2")
	e.give(t, pool, "bare")
	same := untouched(t, filepath.Join(pool, "bare"))
	e.ok(t, "import", "reef/bare/bare.qcow2", "--host", "gannet", "--name", "bare", "--pool", "harbour", "--yes")
	same("where it lies, nothing is copied")
	e.ok(t, "power", "on", "gannet/bare")
	e.ok(t, "power", "off", "gannet/bare")

	// Given a folder, import goes on with the right plan, and register with a package.
	p, _, _ := e.planned(t, "import", "kelp/chart-render", "--host", "gannet", "--yes")
	require.Equal(t, "register", p.Operation)
	e.ok(t, "export", "tide-probe", "attic", "--yes")
	p, _, _ = e.planned(t, "register", "attic/tide-probe.ova", "--host", "gannet", "--yes")
	require.Equal(t, "import", p.Operation)
	require.Empty(t, e.leftovers(t, "petrel"))
}

// severalMachines writes a folder with two machines, a licence text, a property
// without a value and two sizes to choose from.
func severalMachines(t *testing.T) string {
	t.Helper()
	one, err := ovf.New(&machine.Machine{Name: "wind-web", CPUs: 2, MemoryBytes: 1 << 30, Guest: "Debian GNU/Linux 12"})
	require.NoError(t, err)
	raw, err := one.Encode(0)
	require.NoError(t, err)
	text := string(raw)
	at, end := strings.Index(text, "<VirtualSystem "), strings.Index(text, "</VirtualSystem>")+len("</VirtualSystem>")
	system := text[at:end]
	asking := strings.Replace(system, "</VirtualSystem>",
		`<EulaSection><Info>x</Info><License>Be kind to gulls.</License></EulaSection><ProductSection><Info>x</Info>
		  <Property ovf:key="address" ovf:type="string" ovf:userConfigurable="true"/>
		  <Property ovf:key="port" ovf:type="uint16" ovf:value="80" ovf:userConfigurable="true"><Label>Port</Label>
		  </Property>
		      </ProductSection></VirtualSystem>`, 1)
	asking = strings.Replace(asking, "<VirtualHardwareSection", `<VirtualHardwareSection ovf:transport="iso"`, 1)
	second := strings.ReplaceAll(system, "wind-web", "wind-db")
	text = text[:at] + `<VirtualSystemCollection ovf:id="wind"><Info>x</Info>` + asking + second +
		"</VirtualSystemCollection>" + text[end:]
	text = strings.Replace(text, "<VirtualSystemCollection",
		`<DeploymentOptionSection><Info>x</Info><Configuration ovf:id="small" ovf:default="true"><Label>Small</Label>
		  </Configuration><Configuration ovf:id="large"><Label>Large</Label></Configuration></DeploymentOptionSection>
		    <VirtualSystemCollection`, 1)
	dir := filepath.Join(t.TempDir(), "wind")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wind.ovf"), []byte(text), 0o644))
	return dir
}

// TestWiringRules: rules decide where networks lead, and say why.
func TestWiringRules(t *testing.T) {
	e := theEstate(t)
	require.Contains(t, e.ok(t, "wiring", "try", "visitors", "--host", "gannet"), "no rule, segment, VLAN or name fits")
	e.ok(t, "wiring", "set", "--segment", "visitors", "--switch", "field", "--host", "gannet")
	e.ok(t, "wiring", "set", "--network", "visit*", "--segment", "visitors")
	says := e.ok(t, "wiring", "try", "Visitors", "--host", "gannet")
	require.Contains(t, says, "→ field of gannet")
	require.Contains(t, says, "by the rule “network visit* → segment visitors”, then “segment visitors → switch field "+
		"of gannet”")
	_, found, _ := e.planned(t, "register", "shoal/kiosk-visitor", "--host", "gannet", "--yes")
	require.Contains(t, found["network.mapped"].Message, "becomes the switch field, by the rule")
	require.Contains(t, e.ok(t, "wiring", "try", "visitors", "--host", "petrel"),
		"petrel has no switch that reaches it")
	_, found, _ = e.planned(t, "register", "shoal/kiosk-visitor", "--host", "petrel", "--yes")
	require.Contains(t, found, "network.switch-absent")
	rules := get[[]openapi.Rule](t, e, "wiring", "list")
	require.Len(t, rules, 2)
	for _, r := range rules {
		e.ok(t, "wiring", "drop", r.Id[len(r.Id)-8:])
	}
	// What is chosen once can be kept as a rule.
	e.ok(t, "register", "shoal/kiosk-visitor", "--host", "gannet", "--name", "kiosk-rule", "--answer",
		"network.unmapped=switch:lab", "--keep-wiring", "--yes")
	require.Contains(t, e.ok(t, "wiring", "try", "visitors", "--host", "gannet"), "→ lab of gannet")
	rules = get[[]openapi.Rule](t, e, "wiring", "list")
	require.Len(t, rules, 1)
	e.ok(t, "wiring", "drop", rules[0].Id)
	r := e.run(t, "wiring", "set", "--network", "[")
	require.Equal(t, 2, r.status)
	require.Equal(t, 1, e.run(t, "wiring", "drop", "abcd").status)

	// A fixed address is compared with the subnet of its segment.
	e.ok(t, "wiring", "segment", "lab", "192.0.2.0/24")
	e.ok(t, "wiring", "segment", "field", "198.51.100.0/24")
	_, found, _ = e.planned(t, "register", "gannet/buoy-ingest", "--host", "fulmar", "--yes")
	require.Contains(t, found["address.static"].Message, "198.51.100.17, which is that of gannet/buoy-ingest")
	e.ok(t, "wiring", "segment", "lab", "none")
	e.ok(t, "wiring", "segment", "field", "none")
	require.Equal(t, 2, e.run(t, "wiring", "segment", "lab", "192.0.2.1/24").status)
}

// TestRegisterUndone: a job that can't be finished leaves all as it was.
func TestRegisterUndone(t *testing.T) {
	e := ownEstate(t)
	reef := e.pool("gannet", "reef")
	first, second := filepath.Join(reef, "training-05"), filepath.Join(reef, "training-06")
	e.ok(t, "delist", "training-05", "--yes")
	e.ok(t, "delist", "training-06", "--yes")
	before, err := os.ReadFile(filepath.Join(first, "training-05.ovf"))
	require.NoError(t, err)
	var was, is struct{ ID string }
	image := filepath.Join(first, "training-05-disk1.qcow2")
	require.NoError(t, json.Unmarshal([]byte(e.ok(t, "disk", "show", image, "-o", "json")), &was))
	// Where the second one's descriptor is to be written, a directory is in the way.
	require.NoError(t, os.Mkdir(filepath.Join(second, ".training-06.ovf.next"), 0o755))
	r := e.run(t, "register", "reef/training-05", "reef/training-06", "--host", "gannet", "--identity", "renew",
		"--all-or-nothing", "--yes")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.err, "is a directory")
	after, err := os.ReadFile(filepath.Join(first, "training-05.ovf"))
	require.NoError(t, err)
	require.Equal(t, string(before), string(after), "the descriptor is as it was")
	require.NoError(t, json.Unmarshal([]byte(e.ok(t, "disk", "show", image, "-o", "json")), &is))
	require.Equal(t, was.ID, is.ID, "and so is the disk's id")
	e.ok(t, "survey", "gannet") // one may have seen it while it was listed
	require.Equal(t, "stray", string(get[openapi.Copy](t, e, "copies", "training-05").Form))
	require.Empty(t, e.leftovers(t, "gannet"))
	e.ok(t, "register", "reef/training-05", "reef/training-06", "--host", "gannet", "--identity", "renew", "--yes")
}
