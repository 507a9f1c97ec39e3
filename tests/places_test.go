package tests

import (
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

// TestNetwork: a switch is made and dropped; one that cuts the host off
// is taken back by itself, with everything as it was.
func TestNetwork(t *testing.T) {
	e := ownEstate(t)
	t.Run("switches", func(t *testing.T) { switchesOfHosts(t, e) })
	t.Run("addresses", func(t *testing.T) { addressesGiven(t, e) })
}

func switchesOfHosts(t *testing.T, e *estate) {
	names := func() string { return e.ok(t, "switches", "gannet") }
	p, _, status := e.planned(t, "switch", "add", "gannet", "visitors", "--segment", "visitors", "--vlan", "40",
		"--uplink", "port3", "--tagged")
	require.Zero(t, status)
	require.Contains(t, p.Steps[0].What, "tagged 40")
	require.NotContains(t, names(), "visitors")
	e.ok(t, "switch", "add", "gannet", "visitors", "--segment", "visitors", "--vlan", "40", "--uplink", "port3",
		"--tagged")
	require.Contains(t, names(), "port3, tagged")
	require.Contains(t, e.ok(t, "wiring", "try", "visitors", "--host", "gannet"), "→ visitors of gannet")

	_, found, status := e.planned(t, "switch", "add", "gannet", "danger", "--uplink", "port1")
	require.Equal(t, 3, status)
	require.Contains(t, found["network.cuts-admin"].Message, "127.0.0.1")
	r := e.run(t, "switch", "add", "gannet", "danger", "--uplink", "port1", "--yes")
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.err, "taken back: all is as it was")
	require.NotContains(t, names(), "danger")
	e.ok(t, "switch", "add", "gannet", "own", "--uplink", "port1", "--address", "127.0.0.1/8")
	e.ok(t, "switch", "drop", "gannet", "own", "--yes")

	// An agent that is killed finds its switches again.
	before := e.pids(t)["agent-gannet"]
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	wait.Until(t, func() bool { return e.pids(t)["agent-gannet"] != before })
	wait.Until(t, func() bool { return e.run(t, "survey", "gannet").status == 0 })
	require.Contains(t, names(), "visitors")

	_, found, status = e.planned(t, "switch", "drop", "gannet", "lab")
	require.Equal(t, 4, status)
	require.Contains(t, found["network.switch-in-use"].Message, "tide-gauge")
	e.ok(t, "switch", "drop", "gannet", "visitors")

	// One that a plan lacks is made on the way, by an administrator only.
	e.ok(t, "wiring", "set", "--network", "visitors", "--segment", "visitors")
	making := []string{"register", "skua/kiosk-visitor", "--host", "petrel", "--name", "kiosk", "--yes", "--answer",
		"network.switch-absent=create"}
	token := e.operator(t, "ines")
	r = e.run(t, append(making, "--token", token)...)
	require.Equal(t, 5, r.status, r.out+r.err)
	require.Contains(t, r.err, "This needs the role administrator")
	e.ok(t, making...)
	require.Contains(t, e.ok(t, "switches", "petrel"), "visitors")
	require.Equal(t, "visitors", (*get[openapi.Copy](t, e, "copies", "petrel/kiosk").Machine.Nics)[0].Network)
	for args, says := range map[string]string{"switch add gannet bad --uplink port9": "it has port1, port2, port3",
		"switch add gannet lab": "already", "switch drop gannet nothing": "no switch"} {
		r := e.run(t, strings.Fields(args)...)
		require.Equal(t, 2, r.status, args)
		require.Contains(t, r.err, says)
	}
}

// operator is the token of a person who may work, and not administer.
func (e *estate) operator(t *testing.T, name string) string {
	t.Helper()
	ctx := t.Context()
	added, err := e.api(t).AddUserWithResponse(ctx, openapi.AddUserJSONRequestBody{Name: name,
		Password: "a long enough one", Role: "operator"})
	require.NoError(t, err)
	require.Equal(t, 201, added.StatusCode(), string(added.Body))
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	c := http.Client{Jar: jar}
	send := func(path, body, csrf string) map[string]string {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, e.server+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-CSRF-Token", csrf)
		res, err := c.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		answer := map[string]string{}
		require.NoError(t, json.NewDecoder(res.Body).Decode(&answer))
		return answer
	}
	session := send("/session", `{"name":"`+name+`","password":"a long enough one"}`, "")
	return send("/tokens", `{"name":"test"}`, session["csrf"])["token"]
}

// TestLandingAndRest: rules choose pools, a disk lands in another one, and what
// rests takes nothing new.
func TestLandingAndRest(t *testing.T) {
	e := ownEstate(t)
	truth := judge(t, "qcow2", filepath.Join(e.pool("gannet", "kelp"), "chart-render",
		"chart-render-disk1.qcow2")).sum(t)
	require.Contains(t, e.ok(t, "landing", "list"), "the roomiest pool labelled fast")
	e.ok(t, "landing", "set", "--kind", "disk", "--over", "4GiB", "--label", "archive", "--host", "gannet", "--first")
	_, found, _ := e.planned(t, "register", "kelp/chart-render", "--host", "gannet", "--files", "copy", "--name",
		"chart-far", "--yes")
	require.Contains(t, found["pool.slow"].Message+found["place.by-rule"].Message, "by the rule")
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--files", "copy", "--name", "chart-far", "--yes")
	far := filepath.Join(e.dir, "share", "harbour", "chart-far-disks", "chart-far-disk1.qcow2")
	require.Equal(t, truth, judge(t, "qcow2", far).sum(t))
	c := get[openapi.Copy](t, e, "copies", "gannet/chart-far")
	require.Equal(t, "reef", c.Pool)
	e.ok(t, "power", "on", "gannet/chart-far")
	e.ok(t, "power", "off", "gannet/chart-far")
	e.ok(t, "export", "gannet/chart-far", "loft", "--yes")
	e.ok(t, "import", "loft/chart-far.ova", "--host", "gannet", "--name", "chart-near", "--disk", "disk1=reef", "--yes")
	require.FileExists(t, filepath.Join(e.pool("gannet", "reef"), "chart-near", "chart-near-disk1.qcow2"))
	require.Equal(t, truth, judge(t, "qcow2", filepath.Join(e.pool("gannet", "reef"), "chart-near",
		"chart-near-disk1.qcow2")).sum(t), "nothing but its log was written while it ran")
	e.ok(t, "delist", "gannet/chart-far", "--files", "trash", "--yes")
	require.NoDirExists(t, filepath.Dir(far))
	rules := get[[]openapi.LandingRule](t, e, "landing", "list")
	require.Len(t, rules, 3)
	e.ok(t, "landing", "drop", rules[0].Id)
	require.Equal(t, 2, e.run(t, "landing", "set", "--kind", "sponge", "--label", "x").status)
	require.Equal(t, 1, e.run(t, "landing", "drop", "abcd").status)
	r := e.run(t, "register", "kelp/chart-render", "--host", "gannet", "--files", "copy", "--disk", "disk1=lagoon",
		"--yes")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "it has reef (fast), harbour (archive), kelp")

	e.ok(t, "host", "rest", "petrel")
	_, found, status := e.planned(t, "import", "loft/chart-far.ova", "--host", "petrel", "--yes")
	require.Equal(t, 4, status)
	require.Contains(t, found, "host.resting")
	_, _, status = e.planned(t, "change", "petrel/tide-probe", "--cpus", "2")
	require.Zero(t, status, "what it has can be changed")
	require.Equal(t, "resting", string(get[openapi.Host](t, e, "hosts", "petrel").State))
	e.ok(t, "host", "wake", "petrel")

	require.Contains(t, e.ok(t, "pool", "rest", "kelp"), "can be pulled out")
	_, found, _ = e.planned(t, "register", "kelp/chart-render", "--host", "gannet", "--yes")
	require.Contains(t, found, "pool.resting")
	e.ok(t, "pool", "wake", "kelp")
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--yes")
	e.ok(t, "power", "on", "gannet/chart-render")
	r = e.run(t, "pool", "rest", "kelp")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "unvora power off gannet/chart-render")
	require.Contains(t, e.run(t, "pool", "rest", "reef").err, "Say which: ")
	e.ok(t, "pool", "label", "petrel/reef", "fast", "small")
	require.Contains(t, e.ok(t, "pools"), "fast, small")
	require.Contains(t, e.ok(t, "host", "check", "petrel"), "✓ certificate")
	r = e.run(t, "host", "drop", "petrel")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "still has")
}

// addressesGiven: addresses come out of a segment's range, each to one
// machine only; those that guests use are seen and count too.
func addressesGiven(t *testing.T, e *estate) {
	e.ok(t, "wiring", "segment", "lab", "192.0.2.0/24", "--range", "192.0.2.100-192.0.2.102")
	static := func(ref string) []string {
		s := get[openapi.Copy](t, e, "copies", ref).Machine.Static
		if s == nil {
			return nil
		}
		return *s
	}
	_, found, _ := e.planned(t, "register", "kelp/chart-render", "--host", "gannet", "--address", "NIC 1=give", "--yes")
	require.Contains(t, found["address.given"].Message, "192.0.2.100")
	e.ok(t, "register", "kelp/chart-render", "--host", "gannet", "--address", "NIC 1=give", "--yes")
	require.Equal(t, []string{"192.0.2.100"}, static("gannet/chart-render"))
	e.ok(t, "change", "tide-gauge", "--address", "NIC 1=give")
	require.Equal(t, []string{"192.0.2.101"}, static("gannet/tide-gauge"))
	e.ok(t, "power", "on", "gannet/tide-gauge")
	e.ok(t, "survey")
	require.Equal(t, []string{"192.0.2.101"}, get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Addresses,
		"seen in the guest")
	e.ok(t, "power", "off", "gannet/tide-gauge")
	_, found, _ = e.planned(t, "change", "petrel/tide-probe", "--address", "NIC 1=192.0.2.101")
	require.Contains(t, found["address.static"].Message, "that of gannet/tide-gauge")
	e.ok(t, "change", "petrel/tide-probe", "--address", "NIC 1=192.0.2.101", "--answer", "address.static=give")
	require.Equal(t, []string{"192.0.2.102"}, static("petrel/tide-probe"))
	_, found, status := e.planned(t, "change", "training-01", "--address", "NIC 1=give")
	require.Equal(t, 4, status)
	require.Contains(t, found["address.none-free"].Message, "are taken")
	require.Contains(t, e.ok(t, "wiring", "list"), "192.0.2.100 – 192.0.2.102")
	for _, bad := range []string{"192.0.2.9", "192.0.2.9-192.0.2.1", "192.0.2.9-198.51.100.1"} {
		require.Equal(t, 2, e.run(t, "wiring", "segment", "lab", "192.0.2.0/24", "--range", bad).status)
	}
	res, _ := e.http(t, http.MethodPatch, "/api/v1/hosts/petrel", e.token(t), `{}`)
	require.Equal(t, http.StatusBadRequest, res.StatusCode)
}
