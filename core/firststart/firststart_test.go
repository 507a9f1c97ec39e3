package firststart_test

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/tests/guest"
)

func parse(t *testing.T, text string) *firststart.Data {
	t.Helper()
	d, err := firststart.Parse(text)
	require.NoError(t, err)
	return d
}

// judged holds a seed against the initialiser's own schema.
func judged(t *testing.T, s firststart.Seed) {
	t.Helper()
	dir, err := guest.Unpacked("cloud-init") // installed, it would change this computer at its next start
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "user-data")
	require.NoError(t, os.WriteFile(path, []byte(s.UserData), 0o600))
	cmd := exec.Command("/usr/bin/python3", "-m", "cloudinit.cmd.main", "schema", "--config-file", path)
	cmd.Env = append(os.Environ(), "PYTHONPATH="+filepath.Join(dir, "usr/lib/python3/dist-packages"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "make test installs what this takes\n%s\n%s", out, s.UserData)
	require.Contains(t, string(out), "Valid")
}

// TestSeed: what is asked for is what a guest is told, with all placeholders filled in.
func TestSeed(t *testing.T) {
	nics := []machine.NIC{{Name: "NIC 1", MAC: "06:5c:00:00:00:01"}, {Name: "NIC 2", MAC: "06:5c:00:00:00:02"},
		{Name: "NIC 3", MAC: "06:50:00:00:00:03"}, {Name: "NIC 4", MAC: "06:5c:00:00:00:04"}}
	d, err := parse(t, firststart.Example).For("class-07", 7)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"NIC 1": "192.0.2.107"}, d.Wishes())
	s, err := d.Seed("c1", nics, nil)
	require.NoError(t, err)
	judged(t, s)
	require.Equal(t, "instance-id: c1\nlocal-hostname: class-07\n", s.MetaData)
	for _, part := range []string{"#cloud-config\n", "hostname: class-07", "timezone: Europe/Oslo", "name: keeper",
		"This is class-07, machine 7, at 192.0.2.107.", "path: /etc/motd", "- hostnamectl set-chassis vm"} {
		require.Contains(t, s.UserData, part)
	}
	require.Equal(t, `ethernets:
  nic1:
    addresses:
      - 192.0.2.107/24
    match:
      macaddress: 06:5c:00:00:00:01
    nameservers:
      addresses:
        - 192.0.2.53
    routes:
      - to: 0.0.0.0/0
        via: 192.0.2.1
version: 2
`, s.NetworkConfig)

	d, err = parse(t, "host-name: '{name}.skerrow.example'\naddresses: {NIC 2: give via 2001:db8::1, "+
		"NIC 3: automatic}\nfiles: {'/srv/{n}': 'at {address}'}").For("gauge", 1)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"NIC 2": firststart.Give}, d.Wishes())
	_, err = d.Seed("c1", nics, nil)
	require.ErrorContains(t, err, "NIC 2 was given no address")
	s, err = d.Seed("c1", nics, map[string]netip.Prefix{"NIC 2": netip.MustParsePrefix("2001:db8::7/64")})
	require.NoError(t, err)
	judged(t, s)
	require.Contains(t, s.UserData, "fqdn: gauge.skerrow.example\nhostname: gauge\n")
	require.Contains(t, s.UserData, "content: at 2001:db8::7")
	require.Contains(t, s.NetworkConfig, "nic3:\n    dhcp4: true")
	require.Contains(t, s.NetworkConfig, `"06:50:00:00:00:03"`, "else some readers take it for a number")
	require.Contains(t, s.NetworkConfig, "to: ::/0")
	require.NotContains(t, s.NetworkConfig, "nic1")

	d, err = parse(t, "name-servers: [192.0.2.53]").For("x", 1)
	require.NoError(t, err)
	s, err = d.Seed("c1", nics, nil)
	require.NoError(t, err)
	require.Equal(t, 4, strings.Count(s.NetworkConfig, "dhcp4: true"), "said of all, where no single one is named")
	d, err = parse(t, "").For("x", 1)
	require.NoError(t, err)
	s, err = d.Seed("c1", nics, nil)
	require.NoError(t, err)
	require.Empty(t, s.NetworkConfig)
	nics[0].MAC = ""
	d, err = parse(t, "addresses: {NIC 1: automatic}").For("x", 1)
	require.NoError(t, err)
	_, err = d.Seed("c1", nics, nil)
	require.ErrorContains(t, err, "has no MAC")
}

// TestDisc: another reader finds the files on the disc, byte for byte.
func TestDisc(t *testing.T) {
	s := firststart.Seed{MetaData: "instance-id: c1\n", UserData: "#cloud-config\n" + strings.Repeat("# x\n", 900)}
	raw := s.Disc()
	require.Less(t, len(raw), 1<<16)
	path := filepath.Join(t.TempDir(), firststart.File)
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	out, err := exec.Command("blkid", "-p", "-o", "export", path).Output()
	require.NoError(t, err)
	require.Contains(t, strings.ToLower(string(out)), "label=cidata")
	require.Contains(t, string(out), "TYPE=iso9660")
	tool, err := exec.LookPath("isoinfo")
	require.NoError(t, err, "isoinfo is missing: apt-get install genisoimage (make test does that)")
	for name, want := range map[string]string{"meta-data": s.MetaData, "user-data": s.UserData} {
		out, err := exec.Command(tool, "-R", "-i", path, "-x", "/"+name).Output()
		require.NoError(t, err)
		require.Equal(t, want, string(out))
	}
	out, err = exec.Command(tool, "-R", "-i", path, "-f").Output()
	require.NoError(t, err)
	require.NotContains(t, string(out), "network-config", "nothing is said of its NICs")

	s.NetworkConfig = "version: 2\n"
	require.NoError(t, os.WriteFile(path, s.Disc(), 0o600))
	out, err = exec.Command(tool, "-R", "-i", path, "-f").Output()
	require.NoError(t, err)
	require.Equal(t, "/meta-data\n/network-config\n/user-data\n", string(out))
	out, err = exec.Command("isovfy", path).CombinedOutput() // of the same package
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "No errors found")
}

// TestRefused: what can't be is told with where it is, and nothing that is told to a guest escapes its place.
func TestRefused(t *testing.T) {
	for text, says := range map[string]string{
		"hostname: x":          `line 1: there is no "hostname" in first-start data`,
		"a: 1\n\tb: 2":         "line 2",
		"files: [1]":           "line 1",
		"user: {nam: x}":       `there is no "nam"`,
		"host-name: a\n---\nb": "more than one document",
		strings.Repeat("# long\n", firststart.MostBytes/6): "at most 65536 are taken",
	} {
		_, err := firststart.Parse(text)
		require.ErrorContains(t, err, says)
		require.NotContains(t, err.Error(), "firststart.")
	}
	for text, says := range map[string]string{
		"host-name: 'tide gauge'":                          "is no host name",
		"host-name: '-x'":                                  "is no host name",
		"time-zone: '../../etc/passwd'":                    "time-zone",
		"name-servers: [ns1]":                              "is no address",
		"addresses: {NIC 1: 192.0.2.7}":                    "192.0.2.20/24",
		"addresses: {NIC 1: 192.0.2.7/24 via here}":        "no address of a gateway",
		"addresses: {NIC 1: '192.0.2.7/24 via ::1'}":       "of another kind",
		"addresses: {NIC 1: automatic via 192.0.2.1}":      "comes with its gateway",
		"user: {name: Keeper, key: ssh-ed25519 AAAA}":      "no name of an account",
		"user: {name: keeper, key: 'AAAA'}":                "no public key",
		"user: {name: keeper, key: \"ssh-rsa A\\nssh-x\"}": "no public key",
		"files: {etc/motd: x}":                             "no whole path",
		"files: {/etc/../motd: x}":                         "no whole path",
		"commands: ['']":                                   "number 1 is empty",
	} {
		_, err := parse(t, text).For("x", 1)
		require.ErrorContains(t, err, says, text)
	}
	// What is put into a text stays in it.
	d, err := parse(t, "files: {/srv/x: \"a\\nruncmd: [reboot]\\n\"}").For("x\nruncmd: [halt]", 1)
	require.NoError(t, err)
	s, err := d.Seed("c1", nil, nil)
	require.NoError(t, err)
	require.NotContains(t, s.UserData, "\nruncmd")
	judged(t, s)
}

func TestByHand(t *testing.T) {
	d, err := parse(t, firststart.Example).For("class-07", 7)
	require.NoError(t, err)
	require.Equal(t, "call it class-07; set NIC 1 to 192.0.2.107/24 via 192.0.2.1; let it ask 192.0.2.53 for names; "+
		"set its time zone to Europe/Oslo; make the user and give it the key; write /etc/motd; run the commands",
		d.ByHand())
}

func FuzzParse(f *testing.F) {
	f.Add(firststart.Example)
	f.Add("addresses: {NIC 1: give via ::1}\nuser: {name: x, key: ssh-rsa A}")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := firststart.Parse(text)
		if err != nil {
			return
		}
		if d, err = d.For("tide-gauge", 3); err != nil {
			return
		}
		s, err := d.Seed("c1", []machine.NIC{{Name: "NIC 1", MAC: "06:5c:00:00:00:01"}},
			map[string]netip.Prefix{"NIC 1": netip.MustParsePrefix("192.0.2.7/24")})
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(s.UserData, "#cloud-config\n"))
	})
}

// TestEnvironmentDisc: the document is found by the names of either tree, alone or beside first-start data.
func TestEnvironmentDisc(t *testing.T) {
	const document = "<Environment/>\n"
	path := filepath.Join(t.TempDir(), firststart.File)
	for _, c := range []struct {
		seed        firststart.Seed
		label, list string
	}{
		{firststart.Seed{Environment: document}, "ovf_env", "/ovf-env.xml\n"},
		{firststart.Seed{MetaData: "instance-id: c1\n", UserData: "#cloud-config\n", Environment: document}, "cidata",
			"/meta-data\n/ovf-env.xml\n/user-data\n"},
	} {
		require.NoError(t, os.WriteFile(path, c.seed.Disc(), 0o600))
		out, err := exec.Command("blkid", "-p", "-o", "export", path).Output()
		require.NoError(t, err)
		require.Contains(t, strings.ToLower(string(out)), "label="+c.label)
		for _, tree := range []string{"-R", "-J"} {
			list, err := exec.Command("isoinfo", tree, "-i", path, "-f").Output()
			require.NoError(t, err)
			require.Equal(t, c.list, strings.ReplaceAll(string(list), ";1", ""), tree)
			version := map[string]string{"-J": ";1"}[tree]
			text, err := exec.Command("isoinfo", tree, "-i", path, "-x", "/ovf-env.xml"+version).Output()
			require.NoError(t, err)
			require.Equal(t, document, string(text), tree)
		}
		says, err := exec.Command("isovfy", path).CombinedOutput()
		require.NoError(t, err, string(says))
		require.Contains(t, string(says), "No errors found")
	}
}
