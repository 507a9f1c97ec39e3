package tests

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf/ovftest"
	"unvora.example/unvora/internal/wait"
)

func find(copies []openapi.Copy, form, host, name string) *openapi.Copy {
	for i, c := range copies {
		if string(c.Form) == form && c.Host == host && c.Name == name {
			return &copies[i]
		}
	}
	return nil
}

// TestWholeWay goes from the survey to two running copies, with the client.
func TestWholeWay(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "survey")
	hosts := get[[]openapi.Host](t, e, "hosts")
	require.Len(t, hosts, 5)
	for _, h := range hosts {
		require.Equal(t, "up", string(h.State), h.Name)
	}
	copies := get[[]openapi.Copy](t, e, "copies")
	origin := find(copies, "registered", "gannet", "tide-gauge")
	require.NotNil(t, origin)
	stray := find(copies, "stray", "gannet", "chart-render")
	require.NotNil(t, stray, "a folder that was copied by hand is a stray")
	require.Equal(t, find(copies, "registered", "petrel", "chart-render").Id, *stray.Parent, "with a known origin")

	file := tempFile(t, "tide-gauge.ova")
	e.ok(t, "export", "tide-gauge", file)
	inspected := e.ok(t, "inspect", file, "-o", "json")
	var in struct {
		Kind, Manifest string
		Machines       []struct {
			Name string
			UUID string
			CPUs int
			NICs []struct{ MAC string }
		}
		Findings []openapi.Finding
	}
	require.NoError(t, json.Unmarshal([]byte(inspected), &in))
	require.Equal(t, "ova", in.Kind)
	require.Equal(t, "ok", in.Manifest)
	require.Equal(t, origin.Uuid, in.Machines[0].UUID)
	require.Empty(t, in.Findings)

	// Choices are open, and told with status 3; nothing has happened.
	r := e.run(t, "import", file, "--host", "petrel", "--plan", "-o", "json")
	require.Equal(t, 3, r.status, r.err)
	var p openapi.Plan
	require.NoError(t, json.Unmarshal([]byte(r.out), &p))
	codes := map[string]openapi.Finding{}
	for _, f := range p.Findings {
		codes[f.Code] = f
	}
	require.Contains(t, codes["identity.origin-alive"].Message, "gannet/tide-gauge")
	require.Contains(t, codes["mac.in-use"].Message, "petrel/tide-probe")
	require.Contains(t, codes["network.mapped"].Message, "labnet")
	require.Nil(t, codes["identity.origin-alive"].Answer)
	require.False(t, p.Runnable)
	require.Positive(t, p.Bytes)
	require.Equal(t, 3, e.run(t, "import", file, "--host", "petrel").status)
	require.Equal(t, 0, e.run(t, "import", file, "--host", "petrel", "--plan", "--yes").status)
	require.Nil(t, find(get[[]openapi.Copy](t, e, "copies"), "registered", "petrel", "tide-gauge"))

	e.ok(t, "import", file, "--host", "petrel", "--yes", "--note", "for the training")
	copies = get[[]openapi.Copy](t, e, "copies")
	made := find(copies, "registered", "petrel", "tide-gauge")
	require.NotNil(t, made)
	require.NotEqual(t, origin.Uuid, made.Uuid)
	require.NotEqual(t, origin.Macs, made.Macs)
	require.True(t, strings.HasPrefix(made.Macs[0], "02:5c:"), made.Macs[0])
	full := get[openapi.Copy](t, e, "copies", "petrel/tide-gauge")
	require.Equal(t, "labnet", (*full.Machine.Nics)[0].Network)
	before := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge")
	require.NotEqual(t, before.Machine.FirmwareUuid, full.Machine.FirmwareUuid)

	// To the guest the disk is the same, byte for byte.
	was := judge(t, "qcow2", filepath.Join(origin.Path, (*before.Machine.Disks)[0].File))
	is := judge(t, "qcow2", filepath.Join(made.Path, (*full.Machine.Disks)[0].File))
	require.Equal(t, was.sum(t), is.sum(t))
	require.Equal(t, (*before.Machine.Disks)[0].VirtualBytes, is.size)

	tree := e.ok(t, "where", "tide-gauge")
	require.Regexp(t,
		`(?s)gannet/tide-gauge.*tide-gauge\.ova  package.*export by admin.*petrel/tide-gauge.*`+
			`import by admin.*renewed \(uuid, firmware-uuid, mac, disk-id, generation-id\)`, tree)
	require.Contains(t, e.ok(t, "history", "tide-gauge"), "for the training")

	e.ok(t, "power", "on", "gannet/tide-gauge", "petrel/tide-gauge")
	r = e.run(t, "power", "off", "tide-gauge")
	require.Equal(t, 1, r.status)
	require.Contains(t, r.err, "gannet/tide-gauge, petrel/tide-gauge")
	r = e.run(t, "power", "on", "petrel/tide-probe")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "It has the MAC of gannet/tide-gauge")
	require.Empty(t, e.leftovers(t, "gannet"))
	require.Empty(t, e.leftovers(t, "petrel"))

	// A second start finds everything again, and what ran runs.
	e.stop()
	port, err := freePort()
	require.NoError(t, err)
	e.out.Reset()
	require.NoError(t, e.start(port))
	again := find(get[[]openapi.Copy](t, e, "copies"), "registered", "petrel", "tide-gauge")
	require.Equal(t, made.Id, again.Id)
	require.Equal(t, "running", again.State)
}

// TestShelf writes to a shelf while the machine runs, and brings the package
// in at another host, straight from agent to agent.
func TestShelf(t *testing.T) {
	e := theEstate(t)
	require.Equal(t, 3, e.run(t, "export", "archive-db", "loft", "--plan").status)
	e.ok(t, "export", "archive-db", "loft/archive.ova", "--answer", "state.running=stop")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "gannet/archive-db").State, "it is started again")
	r := e.run(t, "export", "archive-db", "loft/archive.ova", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "has a package of this name")
	// A shelf at another host: the disks are read from there, over the network.
	require.Contains(t, e.ok(t, "export", "archive-db", "attic", "--yes", "--plan"),
		"read from gannet over the network")
	e.ok(t, "export", "archive-db", "attic", "--yes")
	there := filepath.Join(e.pool("petrel", "attic"), "archive-db.ova")
	require.Contains(t, e.ok(t, "inspect", there, "--verify"), "manifest ok")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "gannet/archive-db").State)
	require.Empty(t, e.leftovers(t, "petrel"))

	e.ok(t, "import", "loft/archive.ova", "--host", "petrel", "--name", "archive-test", "--pool", "harbour", "--yes")
	made := get[openapi.Copy](t, e, "copies", "petrel/archive-test")
	require.Len(t, *made.Machine.Disks, 3)
	for _, d := range *made.Machine.Disks {
		require.Equal(t, "qcow2", d.Format)
		require.Positive(t, judge(t, "qcow2", filepath.Join(made.Path, d.File)).size)
	}
	// The folder lies on a share: the other host sees it and is not confused.
	e.ok(t, "survey")
	require.Equal(t, "registered", string(get[openapi.Copy](t, e, "copies", "petrel/archive-test").Form))
	require.NotContains(t, e.ok(t, "copies", "--where", "host=gannet"), "archive-test")
	// Who copied what: the package descends from the original.
	require.Contains(t, e.ok(t, "where", "archive-db"), "archive.ova")
}

// TestHandOut: a package for others holds nothing that is this machine's alone, in each shape and at each place; what
// it is told to hold otherwise comes first; and the machine stays as it is.
func TestHandOut(t *testing.T) {
	e := theEstate(t)
	was := get[openapi.Copy](t, e, "copies", "gannet/archive-db").Machine
	dir := filepath.Join(t.TempDir(), "for-others")
	licence := tempFile(t, "licence.txt")
	require.NoError(t, os.WriteFile(licence, []byte("Take care of it."), 0o600))
	e.ok(t, "export", "gannet/archive-db", dir+"/", "--for", "hand-out", "--name", "kit", "--cpus", "3", "--memory",
		"1GiB", "--leave-out", "disk2", "--product", "Archive", "--property", "site.name=wharf", "--licence", licence,
		"--digest", "sha512", "--yes")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	var names []string
	for _, x := range entries {
		names = append(names, x.Name())
	}
	require.Equal(t, []string{"kit-disk1.vmdk", "kit-disk3.vmdk", "kit.mf", "kit.ovf"}, names)
	sums := exec.Command("sha512sum", "-c", "--strict", "-")
	sums.Dir = dir
	manifest, err := os.ReadFile(filepath.Join(dir, "kit.mf"))
	require.NoError(t, err)
	sums.Stdin = strings.NewReader(regexp.MustCompile(`(?m)^SHA512\((.*)\)= (.*)$`).ReplaceAllString(string(manifest),
		"$2  $1"))
	said, err := sums.CombinedOutput()
	require.NoError(t, err, "%s", said)
	raw, err := os.ReadFile(filepath.Join(dir, "kit.ovf"))
	require.NoError(t, err)
	for _, own := range append([]string{was.Uuid, was.FirmwareUuid, "gannet", "lineage"}, macsOf(was)...) {
		require.NotContains(t, strings.ToLower(string(raw)), strings.ToLower(own))
	}
	for _, n := range *was.Nics {
		require.NotContains(t, string(raw), `"`+n.Network+`"`)
	}
	now := get[openapi.Copy](t, e, "copies", "gannet/archive-db").Machine
	for _, m := range []*openapi.Machine{was, now} {
		for i := range *m.Disks {
			(*m.Disks)[i].FileBytes = 0 // it runs, and writes
		}
	}
	require.Equal(t, was, now)

	e.ok(t, "import", dir, "--host", "petrel", "--yes", "--answer", "descriptor.eula=accept")
	made := get[openapi.Copy](t, e, "copies", "petrel/kit").Machine
	require.Len(t, *made.Disks, 2)
	require.Equal(t, (*was.Disks)[2].VirtualBytes, (*made.Disks)[1].VirtualBytes)
	require.Equal(t, 3, made.Cpus)
	require.EqualValues(t, 1<<30, made.MemoryBytes)
	require.NotEmpty(t, made.Uuid)
	require.NotEqual(t, was.Uuid, made.Uuid)
	require.NotEqual(t, (*was.Nics)[0].Mac, (*made.Nics)[0].Mac)

	// The same to a shelf, and with the MACs.
	e.ok(t, "export", "gannet/archive-db", "loft/kit.ova", "--for", "hand-out", "--macs", "keep", "--leave-out",
		"disk1", "--yes")
	var seen struct {
		Machines []struct {
			Uuid  string
			Disks []struct{ ID string }
			Nics  []struct{ Mac string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(e.ok(t, "inspect", filepath.Join(e.pool("gannet", "loft"), "kit.ova"),
		"--verify", "-o", "json")), &seen))
	require.Empty(t, seen.Machines[0].Uuid)
	require.Len(t, seen.Machines[0].Disks, 2)
	require.Equal(t, (*was.Nics)[0].Mac, seen.Machines[0].Nics[0].Mac)

	// In either version of the standard, by its own rules.
	for _, version := range []string{"1", "2"} {
		to := filepath.Join(dir, "as-"+version)
		e.ok(t, "export", "gannet/training-04", to+"/", "--ovf", version, "--yes")
		raw, err := os.ReadFile(filepath.Join(to, "training-04.ovf"))
		require.NoError(t, err)
		require.Contains(t, string(raw), "ovf/envelope/"+version+`"`)
		require.Empty(t, ovftest.Breaches(raw))
		require.Contains(t, e.ok(t, "inspect", to, "--verify"), "manifest ok")
		e.ok(t, "import", to, "--host", "petrel", "--name", "as-"+version, "--yes")
	}

	// Signed, as a file and as a folder.
	certificate, key := filepath.Join(dir, "our.crt"), filepath.Join(dir, "our.key")
	cert, err := exec.Command("openssl", "req", "-x509", "-newkey", "rsa:2048", "-noenc", "-days", "9", "-subj",
		"/CN=Skerrow Coastal Observatory", "-out", certificate, "-keyout", key).CombinedOutput()
	require.NoError(t, err, string(cert))
	for _, to := range []string{filepath.Join(dir, "signed.ova"), filepath.Join(dir, "signed") + "/"} {
		said := e.ok(t, "export", "gannet/training-04", to, "--sign", certificate, "--sign-key", key, "--yes")
		require.Contains(t, said, "signed")
		told := e.ok(t, "inspect", strings.TrimSuffix(to, "/"), "--verify")
		require.Contains(t, told, "Skerrow Coastal Observatory")
		require.Contains(t, told, "manifest ok")
		require.NotContains(t, told, "certificate.invalid")
	}
	require.FileExists(t, filepath.Join(dir, "signed", "training-04.cert"))

	out := filepath.Join(t.TempDir(), "x.ova")
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"signed half":       {[]string{out, "--sign", certificate}, "go together"},
		"signed to a shelf": {[]string{"loft", "--sign", certificate, "--sign-key", key}, "signed where it is written"},
		"signed to a pipe":  {[]string{"-", "--sign", certificate, "--sign-key", key}, "signed where it is written"},
		"signed by no key":  {[]string{out, "--sign", certificate, "--sign-key", certificate}, "--sign-key"},
		"signed by nothing": {[]string{out, "--sign", "/nowhere", "--sign-key", key}, "/nowhere"},
		"purpose":           {[]string{out, "--for", "fun"}, "one of restore, hand-out"},
		"disk":              {[]string{out, "--leave-out", "disk9"}, `it has "disk1", "disk2", "disk3"`},
		"device":            {[]string{out, "--drop", "sound"}, `no device "sound"`},
		"digest":            {[]string{out, "--digest", "md5"}, "one of sha1, sha256, sha512"},
		"property":          {[]string{out, "--property", "site"}, "--property"},
		"licence":           {[]string{out, "--licence", "/nowhere"}, "/nowhere"},
		"shape":             {[]string{out, "--shape", "pear"}, "ova or folder"},
		"ending":            {[]string{filepath.Join(dir, "x.ovf")}, "a package is a file .ova"},
		"pipe":              {[]string{"-", "--shape", "folder"}, "standard output takes an OVA"},
		"shelf":             {[]string{"loft", "--shape", "folder"}, "shelves and pools take OVAs"},
	} {
		r := e.run(t, append([]string{"export", "gannet/archive-db", "--yes"}, c.args...)...)
		require.Equal(t, 2, r.status, name)
		require.Contains(t, r.err, c.says, name)
	}
	require.Equal(t, 4, e.run(t, "export", "gannet/archive-db", dir, "--shape", "folder", "--name", "../..").status)
}

func macsOf(m *openapi.Machine) (macs []string) {
	for _, n := range *m.Nics {
		macs = append(macs, n.Mac)
	}
	return macs
}

// TestNames: one name for two machines, names that are near, names that can't be.
func TestNames(t *testing.T) {
	e := theEstate(t)
	file := tempFile(t, "probe.ova")
	e.ok(t, "export", "tide-probe", file)
	for name, c := range map[string]struct {
		args   []string
		status int
		says   string
	}{
		"unknown copy": {[]string{"export", "tide-gage", "./x.ova"}, 1, "Did you mean tide-gauge?"},
		"unknown host": {[]string{"import", file, "--host", "petrl", "--yes"}, 1, "Did you mean petrel?"},
		"unknown pool": {[]string{"import", file, "--host", "petrel", "--pool", "ref"}, 2,
			"it has reef (fast), harbour (archive)"},
		"unknown switch": {[]string{"import", file, "--host", "petrel", "--wire", "NIC 1=lan", "--yes"}, 2, "labnet"},
		"unknown NIC": {[]string{"import", file, "--host", "petrel", "--wire", "NIC 9=labnet", "--yes"}, 2,
			`it has "NIC 1"`},
		"unknown finding": {[]string{"import", file, "--host", "petrel", "--answer", "no.such=x"}, 2, "no.such"},
		"unknown remedy": {[]string{"import", file, "--host", "petrel", "--answer", "mac.in-use=ignore"}, 2,
			"it offers renew, keep"},
		"name that can't be":  {[]string{"import", file, "--host", "petrel", "--name", "a/b"}, 3, "name.unfit"},
		"name taken":          {[]string{"import", file, "--host", "petrel"}, 3, "tide-probe-2"},
		"unknown shelf":       {[]string{"export", "tide-probe", "cellar"}, 2, `no shelf and no pool "cellar"`},
		"unknown job":         {[]string{"jobs", "cancel", "zzzz"}, 1, "There is no job"},
		"filter nobody knows": {[]string{"copies", "--where", "colour=red"}, 2, "can't be filtered by colour"},
		"wrong flag":          {[]string{"copies", "--colour"}, 2, "has no option --colour"},
		"wrong output":        {[]string{"copies", "-o", "xml"}, 2, "json"},
		"not a package":       {[]string{"inspect", "client.toml"}, 4, "this is no package"},
		"no such file":        {[]string{"import", "./none.ova", "--host", "petrel"}, 1, "no such file"},
		"directory not there": {[]string{"export", "tide-probe", "./none/x.ova"}, 1, "mkdir -p"},
		"service not there":   {[]string{"hosts", "--server", "http://127.0.0.1:9"}, 6, "does not answer"},
		"wrong token":         {[]string{"hosts", "--token", "unv_wrong"}, 5, "not known"},
		"wrong code":          {[]string{"host", "add", "127.0.0.1:9", "--code", "ABC"}, 2, "8 groups of 4"},
		"nobody at that place": {[]string{"host", "add", "127.0.0.1:9", "--code",
			"5QMP-KXSA-C4WJ-W7CY-2AYX-92GX-PXG8-77PE"},
			6, "does not answer"},
	} {
		t.Run(name, func(t *testing.T) {
			r := e.run(t, c.args...)
			require.Equal(t, c.status, r.status, r.out+r.err)
			require.Contains(t, r.out+r.err, c.says)
		})
	}
	e.ok(t, "import", file, "--host", "petrel", "--yes", "--name", "tide-probe")
	require.Contains(t, e.ok(t, "copies"), "petrel/tide-probe-2")
}

// TestDamaged: packages that are broken are refused before anything is made.
func TestDamaged(t *testing.T) {
	e := theEstate(t)
	good := tempFile(t, "buoy.ova")
	e.ok(t, "export", "buoy-ingest", good)
	raw, err := os.ReadFile(good)
	require.NoError(t, err)
	write := func(name string, raw []byte) string {
		file := tempFile(t, name)
		require.NoError(t, os.WriteFile(file, raw, 0o644))
		return file
	}
	cut := write("cut.ova", raw[:len(raw)/2])
	r := e.run(t, "import", cut, "--host", "petrel", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "the archive ends after")
	require.Equal(t, 4, e.run(t, "import", cut, "--host", "petrel", "--plan").status)

	flipped := append([]byte{}, raw...)
	flipped[len(flipped)/2] ^= 0x40
	changed := write("changed.ova", flipped)
	r = e.run(t, "inspect", changed)
	require.Equal(t, 4, r.status, "it would be blocked")
	require.Contains(t, r.out, "manifest does not match")
	r = e.run(t, "import", changed, "--host", "petrel", "--name", "changed", "--yes")
	require.Equal(t, 1, r.status, "the digest is compared before the copy is registered")
	require.NotContains(t, e.ok(t, "copies"), "changed")
	require.Empty(t, e.leftovers(t, "petrel"))

	descriptor := append([]byte{}, raw...)
	copy(descriptor[512:], "<Envelope><oops")
	require.Equal(t, 4, e.run(t, "import", write("malformed.ova", descriptor), "--host", "petrel", "--yes").status)
}

// TestCancel: a cancelled export leaves no file, a cancelled import no folder.
func TestCancel(t *testing.T) {
	e := theEstate(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "tide-gauge.ova")
	cmd := e.command(context.Background(), "export", "gannet/tide-gauge", file)
	require.NoError(t, cmd.Start())
	part := filepath.Join(dir, ".tide-gauge.ova.part")
	wait.Until(t, func() bool { st, err := os.Stat(part); return err == nil && st.Size() > 1<<20 })
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.Error(t, cmd.Wait())
	require.Equal(t, 7, cmd.ProcessState.ExitCode())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left)
	require.Empty(t, e.leftovers(t, "gannet"))

	// Two jobs on one copy: the second is told which one is at work.
	api := e.api(t)
	request := asks(t, openapi.ExportRequest{Operation: openapi.ExportRequestOperationExport,
		Copies: &[]string{"gannet/tide-gauge"}, Destination: openapi.Destination{Place: ptr("nowhere"),
			File: ptr("x.ova")}})
	first, err := api.StartJobWithResponse(context.Background(),
		&openapi.StartJobParams{IdempotencyKey: ptr("test-cancel")}, request)
	require.NoError(t, err)
	require.NotNil(t, first.JSON202, string(first.Body))
	again, err := api.StartJobWithResponse(context.Background(),
		&openapi.StartJobParams{IdempotencyKey: ptr("test-cancel")}, request)
	require.NoError(t, err)
	require.Equal(t, first.JSON202.Id, again.JSON202.Id, "the same key is the same job")
	r := e.run(t, "export", "gannet/tide-gauge", "loft/second.ova", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, first.JSON202.Id)
	e.ok(t, "jobs", "cancel", first.JSON202.Id)
	wait.Until(t, func() bool {
		return get[openapi.Job](t, e, "jobs", first.JSON202.Id).State == openapi.JobStateCancelled
	})
	require.Equal(t, 0, e.run(t, "export", "gannet/tide-gauge", "loft", "--plan").status, "it is free again")
}

func ptr[T any](v T) *T { return &v }
