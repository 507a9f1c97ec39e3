package tests

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
)

// guestSum is a digest of what a guest would see on a copy's first disk: of every block that holds something.
func (e *estate) guestSum(t *testing.T, copy string) string {
	t.Helper()
	c := get[openapi.Copy](t, e, "copies", copy)
	d := (*c.Machine.Disks)[0]
	chain, err := formats.OpenChain(filepath.Join(c.Path, d.File), formats.Options{Format: string(d.Format)})
	require.NoError(t, err)
	defer chain.Close()
	const block = 1 << 16
	h, p, done := sha256.New(), make([]byte, block), int64(0)
	for off := int64(0); off < chain.Info().VirtualBytes; {
		r, err := chain.Map(off)
		require.NoError(t, err)
		off = r.End()
		if r.Kind != disk.Data {
			continue
		}
		for at := max(done, r.Offset/block*block); at < r.End(); at, done = at+block, at+block {
			n, err := chain.ReadAt(p[:min(block, chain.Info().VirtualBytes-at)], at)
			require.NoError(t, err)
			if len(bytes.Trim(p[:n], "\x00")) > 0 {
				fmt.Fprintln(h, at)
				h.Write(p[:n])
			}
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// shownImage is what disk show tells.
type shownImage struct {
	ID    string
	Chain []string
}

// image is the image of a copy's first disk.
func (e *estate) image(t *testing.T, copy string) shownImage {
	t.Helper()
	c := get[openapi.Copy](t, e, "copies", copy)
	return get[shownImage](t, e, "disk", "show",
		filepath.Join(c.Path, (*c.Machine.Disks)[0].File))
}

// distinct are values that all have to differ.
func distinct(t *testing.T, what string, values []string) {
	t.Helper()
	seen := map[string]bool{}
	for _, v := range values {
		require.NotEmpty(t, v, what)
		require.False(t, seen[v], "%s %s twice", what, v)
		seen[v] = true
	}
}

// TestClones: clones share what their origin holds, or stand on their own; each has its own identity, and reads as its
// origin did; what others stand on is neither started, nor taken away, nor written to.
func TestClones(t *testing.T) {
	e := ownEstate(t)
	t.Run("snapshots", e.snapshots)
	origin := e.guestSum(t, "gannet/tide-gauge")
	folder := get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Path
	frozen := filepath.Join(folder, "tide-gauge-disk1.qcow2")
	same, err := os.ReadFile(frozen)
	require.NoError(t, err)

	// Twelve in one job, from one freeze.
	said := e.ok(t, "clone", "gannet/tide-gauge", "--count", "12", "--name", "class-{nn}")
	require.Contains(t, said, "gannet/class-07 is registered, stopped")
	var uuids, macs, disks []string
	for n := range 12 {
		name := fmt.Sprintf("class-%02d", n+1)
		c := get[openapi.Copy](t, e, "copies", name)
		uuids, macs = append(uuids, c.Uuid), append(macs, c.Macs...)
		disks = append(disks, e.image(t, name).ID)
		require.Equal(t, "clone", c.MadeBy)
		require.Less(t, c.SizeBytes, int64(1<<20), "it holds nothing of its own")
	}
	distinct(t, "machine UUID", append(uuids, get[openapi.Copy](t, e, "copies", "gannet/tide-gauge").Uuid))
	distinct(t, "MAC", macs)
	distinct(t, "disk id", disks)
	st, err := os.Stat(frozen)
	require.NoError(t, err)
	require.Zero(t, st.Mode()&0o222, "what is shared takes no writes")

	// Each name that is taken is told before.
	again, _, status := e.planned(t, "clone", "training-01", "--count", "13", "--name", "class-{nn}")
	require.Equal(t, 3, status)
	taken := slices.DeleteFunc(again.Findings, func(f openapi.Finding) bool { return f.Code != "name.taken" })
	require.Len(t, taken, 12)

	// Origin and clone run side by side, and write to their own.
	e.ok(t, "power", "on", "gannet/tide-gauge", "class-01")
	e.ok(t, "power", "off", "gannet/tide-gauge", "class-01")
	now, err := os.ReadFile(frozen)
	require.NoError(t, err)
	require.Equal(t, same, now)

	// The next clone needs no new layer of the origin unless that was written to.
	p, _, _ := e.planned(t, "clone", "class-05")
	require.NotContains(t, p.Steps[0].What, "Freeze", "nothing was written to class-05")

	// What others stand on is kept from harm.
	_, found, status := e.planned(t, "delist", "gannet/tide-gauge", "--files", "trash")
	require.Equal(t, 4, status)
	require.Contains(t, found["copy.stood-on"].Message, "class-12")
	e.ok(t, "delist", "gannet/tide-gauge", "--files", "keep")
	require.FileExists(t, frozen)
	e.ok(t, "register", "reef/tide-gauge", "--host", "gannet", "--identity", "keep", "--yes")

	// One that stands alone no longer does.
	e.ok(t, "change", "class-02", "--stand-alone")
	require.Len(t, e.image(t, "class-02").Chain, 1)
	require.Equal(t, origin, e.guestSum(t, "class-02"))
	require.NotEqual(t, 0, e.run(t, "change", "class-02", "--stand-alone").status, "it does already")
	_, found, _ = e.planned(t, "delist", "gannet/tide-gauge", "--files", "trash")
	require.NotContains(t, found["copy.stood-on"].Message, "class-02")

	// A whole one, at a host of another family.
	e.ok(t, "clone", "class-03", "--host", "skua", "--name", "tide-chalk", "--yes")
	far := get[openapi.Copy](t, e, "copies", "skua/tide-chalk")
	require.Equal(t, "vmdk", (*far.Machine.Disks)[0].Format)
	require.Equal(t, origin, e.guestSum(t, "skua/tide-chalk"), "it reads as its origin, through the layers")
	require.Equal(t, *far.Parent, get[openapi.Copy](t, e, "copies", "class-03").Id)

	e.ok(t, "power", "on", "gannet/archive-db")
	// One that runs is stopped once for all of its clones, and started again.
	require.Equal(t, 3, e.run(t, "clone", "gannet/archive-db", "--plan").status)
	p, _, _ = e.planned(t, "clone", "gannet/archive-db", "--count", "3", "--kind", "whole", "--yes")
	stops := 0
	for _, s := range p.Steps {
		if strings.HasPrefix(s.What, "Stop ") {
			stops++
		}
	}
	require.Equal(t, 1, stops)
	e.ok(t, "clone", "gannet/archive-db", "--name", "archive-trial", "--on", "--yes")
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "archive-trial").State)
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "gannet/archive-db").State)
	left, err := os.ReadDir(filepath.Join(e.pool("gannet", "reef"), ".unvora"))
	require.NoError(t, err)
	require.Len(t, left, 1, "nothing is left but layers that are needed no more: %v", left)
	require.Equal(t, "trash", left[0].Name())

	// What can't be is said.
	for args, says := range map[string]string{
		"--count 3 --name twin":             "put {n} or {nn} into it",
		"--count 0":                         "1 or more",
		"--count 201":                       "1 to 200",
		"--kind half":                       "whole or layered",
		"--identity keep":                   "always has an identity of its own",
		"--kind layered --host skua --plan": "layers are shared at one host",
	} {
		r := e.run(t, append([]string{"clone", "class-03"}, strings.Fields(args)...)...)
		require.NotZero(t, r.status, args)
		require.Contains(t, r.out+r.err, says, args)
	}
}
