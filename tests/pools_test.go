package tests

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
)

// TestPoolChangesHands: a pool is handed over with its machines, and taken over again; what belongs to another Unvora
// is taken only by somebody's word. What this site took off a list comes back as the copy that it was.
func TestPoolChangesHands(t *testing.T) {
	e := ownEstate(t)
	kelp := e.pool("gannet", "kelp")
	e.ok(t, "move", "training-01", "training-02", "--pool", "kelp", "--yes")
	before := map[string]openapi.Copy{}
	for _, name := range []string{"training-01", "training-02"} {
		before[name] = get[openapi.Copy](t, e, "copies", "gannet/"+name)
	}
	e.ok(t, "power", "on", "training-01")
	r := e.run(t, "pool", "hand-over", "kelp", "--yes")
	require.Equal(t, 3, r.status, "what runs is stopped only when somebody says so: %s", r.out+r.err)
	e.ok(t, "pool", "hand-over", "kelp", "--yes", "--answer", "pool.in-use=stop")
	require.FileExists(t, filepath.Join(kelp, "unvora-contents.json"))
	require.Contains(t, e.ok(t, "pools"), "free")
	require.Contains(t, e.ok(t, "attention"), "gannet listed it until admin took it off the list")
	for _, args := range [][]string{{"register", "gannet/training-01", "--host", "gannet"},
		{"import", "reef/training-03/training-03-disk1.qcow2", "--host", "gannet", "--pool", "kelp"},
		{"move", "training-03", "--pool", "kelp"}} {
		r := e.run(t, append(args, "--yes")...)
		require.Equal(t, 4, r.status, "%v: %s", args, r.out+r.err)
		require.Contains(t, r.out+r.err, "unvora pool take-over kelp")
	}
	require.Equal(t, 2, e.run(t, "pool", "hand-over", "kelp", "--yes").status, "it is nobody's already")

	e.ok(t, "pool", "take-over", "kelp", "--only", "training-01", "--only", "training-02", "--yes")
	for name, was := range before {
		c := get[openapi.Copy](t, e, "copies", "gannet/"+name)
		require.Equal(t, was.Id, c.Id, "it is the copy that it was")
		require.Equal(t, was.Machine.Uuid, c.Machine.Uuid)
		require.Equal(t, was.Macs, c.Macs)
	}
	require.NoFileExists(t, filepath.Join(kelp, "unvora-contents.json"))
	e.ok(t, "power", "on", "training-01")
	e.ok(t, "power", "off", "training-01")

	// A drive that comes from another Unvora: nothing is written to it, and nothing starts from it, until somebody says
	// that nothing runs from it any more.
	e.ok(t, "delist", "training-01", "training-02", "--yes")
	path := filepath.Join(kelp, ".unvora-pool.json")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	var mark map[string]any
	require.NoError(t, json.Unmarshal(raw, &mark))
	mark["owner"] = map[string]string{"id": "0123456789abcdef", "host": "brig"}
	raw, err = json.Marshal(mark)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, raw, 0o640))
	e.ok(t, "survey")
	require.Contains(t, e.ok(t, "pools"), "of the Unvora of brig")
	r = e.run(t, "move", "training-03", "--pool", "kelp", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.out+r.err, "belongs to the Unvora of brig")
	r = e.run(t, "pool", "take-over", "kelp", "--none", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.out+r.err, "which has never written to it")
	e.ok(t, "pool", "take-over", "kelp", "--none", "--yes", "--answer", "pool.lease-silent=take")
	e.ok(t, "survey")
	e.ok(t, "register", "kelp/training-01", "--host", "gannet", "--yes")

	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"ours":                {[]string{"take-over", "kelp"}, "ours already"},
		"unknown":             {[]string{"hand-over", "nowhere"}, `no pool "nowhere"`},
		"several of the name": {[]string{"hand-over", "reef"}, "Say which: "},
		"not seen there":      {[]string{"take-over", "kelp", "--host", "petrel"}, "petrel does not see the pool kelp"},
		"no such folder":      {[]string{"take-over", "kelp", "--only", "nothing"}, "training-02"},
		"both":                {[]string{"take-over", "kelp", "--only", "x", "--none"}, "either --none or --only"},
	} {
		r := e.run(t, append([]string{"pool"}, c.args...)...)
		require.Contains(t, []int{1, 2}, r.status, "%s: %s", name, r.out+r.err)
		require.Contains(t, r.err, c.says, name)
	}
}
