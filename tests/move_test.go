package tests

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/wait"
)

// explain tells what became of a machine, where the test fails.
func (e *estate) explain(t *testing.T, name string) {
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(e.run(t, "where", name).out, e.run(t, "history", name).out, e.run(t, "copies", "--where",
				"name="+name, "-o", "json").out)
		}
	})
}

// onlyAt holds that a machine is registered at one host, and that no other copy of it has files in a pool. What lies in
// a trash does not count.
func (e *estate) onlyAt(t *testing.T, name, host string) *openapi.Copy {
	t.Helper()
	e.explain(t, name)
	c := get[openapi.Copy](t, e, "copies", host+"/"+name)
	require.Equal(t, "registered", string(c.Form))
	list, err := filepath.Glob(filepath.Join(e.dir, "hosts", "*", "*", name, name+".ovf"))
	require.NoError(t, err)
	for _, path := range list {
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		if strings.Contains(string(raw), ">"+c.Id+"<") {
			require.Equal(t, filepath.Join(c.Path, name+".ovf"), path)
		}
	}
	require.FileExists(t, filepath.Join(c.Path, name+".ovf"))
	return &c
}

// TestMove: a machine goes to another host of another family, to another pool, and back. It stays the copy that it is,
// reads as it did, runs if it ran, and what it leaves lies in the trash.
func TestMove(t *testing.T) {
	e := ownEstate(t)
	before := get[openapi.Copy](t, e, "copies", "gannet/buoy-ingest")
	want := e.guestSum(t, "gannet/buoy-ingest")
	plan := e.ok(t, "move", "buoy-ingest", "--host", "skua", "--yes", "--plan")
	require.Contains(t, plan, "Take gannet/buoy-ingest off the list of gannet: nothing starts it there from now on")
	require.Contains(t, plan, "Until the end, cancelling undoes everything")

	e.ok(t, "move", "buoy-ingest", "--host", "skua", "--yes")
	there := e.onlyAt(t, "buoy-ingest", "skua")
	require.Equal(t, want, e.guestSum(t, "skua/buoy-ingest"))
	require.Equal(t, before.Id, there.Id)
	require.Equal(t, before.Lineage, there.Lineage)
	require.Equal(t, "stopped", there.State)
	require.Equal(t, before.Machine.Uuid, there.Machine.Uuid)
	require.Equal(t, before.Machine.FirmwareUuid, there.Machine.FirmwareUuid)
	for n, nic := range *before.Machine.Nics {
		require.Equal(t, nic.Mac, (*there.Machine.Nics)[n].Mac)
	}
	require.NotEqual(t, before.Machine.Disks, there.Machine.Disks, "in a format of its new host")
	trash, err := filepath.Glob(filepath.Join(e.pool("gannet", "reef"), ".unvora", "trash", "*", "buoy-ingest",
		"*.ovf"))
	require.NoError(t, err)
	require.Len(t, trash, 1)
	require.Contains(t, e.ok(t, "history", "buoy-ingest"), "move")
	require.NotContains(t, e.ok(t, "attention"), "buoy-ingest", "nobody takes it for two")

	// One that runs is started where it comes to.
	e.ok(t, "power", "on", "buoy-ingest")
	e.ok(t, "move", "buoy-ingest", "--host", "gannet", "--pool", "kelp", "--yes")
	require.Equal(t, "running", e.onlyAt(t, "buoy-ingest", "gannet").State)
	e.ok(t, "power", "off", "buoy-ingest")
	e.ok(t, "move", "buoy-ingest", "--pool", "reef", "--yes")
	back := e.onlyAt(t, "buoy-ingest", "gannet")
	require.Equal(t, before.Path, back.Path)

	// A layer is made whole on its way; one that others stand on stays.
	require.Contains(t, e.ok(t, "move", "training-02", "--host", "petrel", "--yes",
		"--plan"), "its 2 layers as one")
	class := e.guestSum(t, "training-02")
	e.ok(t, "move", "training-02", "--host", "petrel", "--yes")
	require.Equal(t, class, e.guestSum(t, "petrel/training-02"))
	require.Len(t, e.image(t, "petrel/training-02").Chain, 1)
	e.ok(t, "clone", "tide-gauge", "--name", "tide-b", "--kind", "layered", "--yes")
	r := e.run(t, "move", "tide-gauge", "--host", "petrel", "--yes")
	require.Equal(t, 4, r.status, r.out+r.err)
	require.Contains(t, r.out+r.err, "change COPY --stand-alone")

	// What it could go back to stays behind, when somebody says so.
	e.ok(t, "snapshot", "make", "training-04", "monday", "--yes")
	_, found, _ := e.planned(t, "move", "training-04", "--host", "petrel")
	require.Contains(t, found, "snapshot.unportable")

	// What its firmware keeps goes along as it is, and is no image: a guest writes it.
	e.ok(t, "move", "kiosk-visitor", "--host", "gannet", "--pool", "reef", "--yes")
	store := func(host string) string {
		list, err := filepath.Glob(filepath.Join(e.onlyAt(t, "kiosk-visitor", host).Path, "*.variables"))
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0]
	}
	secret := filepath.Join(e.dir, "secret.raw")
	require.NoError(t, os.WriteFile(secret, bytes.Repeat([]byte("secret"), 1<<20), 0o644))
	hostile := tempFile(t, "layer.qcow2")
	e.ok(t, "disk", "layer", hostile, "--parent", secret)
	wrote, err := os.ReadFile(hostile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(store("gannet"), wrote, 0o640))
	e.ok(t, "move", "kiosk-visitor", "--host", "petrel", "--yes")
	came, err := os.ReadFile(store("petrel"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(wrote, came[:len(wrote)]))
	require.NotContains(t, string(came), "secretsecret")

	// What is only in a suspended machine's memory goes when somebody says so.
	e.ok(t, "power", "on", "training-06")
	e.ok(t, "power", "suspend", "training-06", "--yes")
	require.Equal(t, 3, e.run(t, "move", "training-06", "--host", "petrel", "--yes").status)
	e.ok(t, "move", "training-06", "--host", "petrel", "--yes", "--answer", "state.suspended=drop")
	require.Equal(t, "stopped", e.onlyAt(t, "training-06", "petrel").State)

	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"where it is":     {[]string{"tide-gauge"}, "is at gannet already"},
		"its own pool":    {[]string{"tide-gauge", "--pool", "reef"}, "is at gannet already"},
		"unknown host":    {[]string{"tide-gauge", "--host", "nowhere"}, `no host "nowhere"`},
		"unknown machine": {[]string{"nothing", "--host", "petrel"}, `no copy "nothing"`},
		"a manager's":     {[]string{"ferry-notices", "--host", "petrel"}, "Import it first"},
		"identity": {[]string{"tide-gauge", "--host", "petrel", "--identity", "renew"},
			"has no option --identity"},
		"unknown disk": {[]string{"tide-gauge", "--host", "petrel", "--disk", "disk9=reef"}, "disk9"},
	} {
		r := e.run(t, append([]string{"move", "--yes"}, c.args...)...)
		require.NotZero(t, r.status, name)
		require.Contains(t, r.err, c.says, name)
	}
	for _, h := range []string{"gannet", "petrel", "skua"} {
		require.Empty(t, e.leftovers(t, h))
	}
}

// TestMoveUndone: a move that is cancelled once the machine was taken off the list where it was, leaves it as it was:
// it is listed there, and runs.
func TestMoveUndone(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "power", "on", "gannet/training-11")
	before := get[openapi.Copy](t, e, "copies", "gannet/training-11")
	require.Equal(t, "running", before.State)
	const tries = 10 // of which the job may be quicker in some
	state := ""
	for n := 0; state != "cancelled"; n++ {
		require.Less(t, n, tries, "it is always done before it can be cancelled")
		state = e.cancelledMove(t, before.Id)
		if state == "done" {
			require.Equal(t, "running", e.onlyAt(t, "training-11", "petrel").State)
			e.ok(t, "move", before.Id, "--host", "gannet", "--pool", before.Pool, "--yes")
		}
	}
	wait.Until(t, func() bool { // the inventory reads it anew behind the job's end
		r := e.run(t, "copies", "gannet/training-11")
		return r.status == 0 && strings.Contains(r.out, "registered, running")
	})
	require.Equal(t, before.Path, e.onlyAt(t, "training-11", "gannet").Path)
	require.NoDirExists(t, filepath.Join(e.pool("petrel", "reef"), "training-11"))
	for _, h := range []string{"gannet", "petrel"} {
		require.Empty(t, e.leftovers(t, h))
	}
}

// moves begins to move a copy to petrel, and returns the job's id.
func (e *estate) moves(t *testing.T, copy string) string {
	t.Helper()
	body, err := json.Marshal(map[string]any{"operation": "move", "copies": []string{copy}, "host": "petrel",
		"pool": "reef", "takeRecommended": true})
	require.NoError(t, err)
	res, said := e.http(t, http.MethodPost, "/api/v1/jobs", e.token(t), string(body))
	require.Equal(t, 202, res.StatusCode, said)
	var j openapi.Job
	require.NoError(t, json.Unmarshal([]byte(said), &j))
	return j.Id
}

func (e *estate) job(t *testing.T, id string) (now openapi.Job) {
	t.Helper()
	_, said := e.http(t, http.MethodGet, "/api/v1/jobs/"+id, e.token(t), "")
	require.NoError(t, json.Unmarshal([]byte(said), &now), said)
	return now
}

// untilStep waits until a job has done its first step of a kind.
func (e *estate) untilStep(t *testing.T, id, kind string) {
	t.Helper()
	wait.Until(t, func() bool {
		for _, s := range e.job(t, id).Steps {
			if s.Kind == kind && s.State == "done" {
				return true
			}
		}
		return false
	})
}

// guestLog is what the guest of a stand-in has written: the time of each record by its place.
func guestLog(t *testing.T, path, format string) (times [128]uint64, newest uint64) {
	t.Helper()
	chain, err := formats.OpenChain(path, formats.Options{Format: format})
	require.NoError(t, err)
	defer chain.Close()
	raw := make([]byte, len(times)*standin.RecordBytes)
	_, err = chain.ReadAt(raw, chain.Info().VirtualBytes-int64(len(raw)))
	require.NoError(t, err)
	for n := range times {
		record := raw[n*standin.RecordBytes:]
		times[n] = binary.LittleEndian.Uint64(record[standin.CounterAt+8:])
		newest = max(newest, times[n])
	}
	return times, newest
}

// TestMoveFollowed: a machine that runs goes on while its disks are copied, and what it writes meanwhile goes along.
func TestMoveFollowed(t *testing.T) {
	e := ownEstate(t)
	before := get[openapi.Copy](t, e, "copies", "gannet/training-11")
	e.ok(t, "power", "on", "gannet/training-11")
	disk := (*before.Machine.Disks)[0]
	petrel := e.pids(t)["agent-petrel"]
	require.NoError(t, syscall.Kill(petrel, syscall.SIGSTOP)) // it takes a while to copy
	id := e.moves(t, before.Id)
	e.untilStep(t, id, "freeze")
	layer := ""
	wait.Until(t, func() bool {
		list, err := filepath.Glob(filepath.Join(before.Path, "training-11-"+disk.Id+"-*.qcow2"))
		require.NoError(t, err)
		if len(list) == 0 {
			return false
		}
		layer = filepath.Base(list[0])
		raw, err := os.ReadFile(list[0]) // its tables are in memory yet
		require.NoError(t, err)
		return bytes.Contains(raw, []byte("guest log"))
	})
	require.Contains(t, e.ok(t, "copies", "gannet/training-11"), "registered, running")
	require.NoError(t, syscall.Kill(petrel, syscall.SIGCONT))
	wait.Until(t, func() bool { return e.job(t, id).State == "done" })
	e.ok(t, "power", "off", "training-11")
	done := e.job(t, id)
	require.Positive(t, *done.DownSeconds)
	require.Less(t, *done.DownSeconds, done.FinishedAt.Sub(*done.StartedAt).Seconds())
	require.Contains(t, e.ok(t, "jobs", id), "Its machine stood for ")
	kept := e.ok(t, "jobs", id, "--plan")
	require.Contains(t, kept, "→ Copy its disks while it runs; then stop it")
	require.Contains(t, kept, "Send what was written meanwhile on disk "+disk.Id)
	require.Equal(t, 2, e.run(t, "jobs", "--plan").status)

	moved := e.onlyAt(t, "training-11", "petrel")
	left, err := filepath.Glob(filepath.Join(e.pool("gannet", "reef"), ".unvora", "trash", "*", "training-11", layer))
	require.NoError(t, err)
	require.Len(t, left, 1)
	was, newest := guestLog(t, left[0], "qcow2")
	is, _ := guestLog(t, filepath.Join(moved.Path, (*moved.Machine.Disks)[0].File), "qcow2")
	for n := range was {
		if is[n] != was[n] {
			require.Greater(t, is[n], newest, "record %d: it was written there", n)
		}
	}
	require.Len(t, e.image(t, "petrel/training-11").Chain, 1)
	for _, h := range []string{"gannet", "petrel"} {
		require.Empty(t, e.leftovers(t, h))
	}
}

// TestCopiedAhead: a machine that is copied ahead goes on where it is until somebody says so, or its time comes,
// through crashes too; what it has written goes along. One whose time is over is held. Until then all can be taken
// back.
func TestCopiedAhead(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "power", "on", "gannet/training-11")
	e.ok(t, "power", "on", "gannet/training-12")
	before := get[openapi.Copy](t, e, "copies", "gannet/training-11")
	waits := func(id string) bool {
		for _, s := range e.job(t, id).Steps {
			if s.Kind == "await" && s.State == "working" {
				return true
			}
		}
		return false
	}
	begin := func(args ...string) string {
		e.ok(t, append([]string{"move"}, append(args, "--host", "petrel", "--pool", "reef", "--yes")...)...)
		return get[[]openapi.Job](t, e, "jobs")[0].Id
	}
	until := func(id, state string) {
		wait.Until(t, func() bool { return string(e.job(t, id).State) == state }, state)
	}
	layers := func() int {
		list, err := filepath.Glob(filepath.Join(before.Path, "*-disk1-[0-9].qcow2"))
		require.NoError(t, err)
		return len(list)
	}
	had := layers()

	// Taken back while it waits, it is as it was, and runs.
	id := begin("gannet/training-11", "--copy-ahead")
	wait.Until(t, func() bool { return waits(id) })
	require.Contains(t, e.ok(t, "jobs", id), "Wait with the cut-over until somebody says so")
	require.Equal(t, had+1, layers())
	e.ok(t, "jobs", "cancel", id)
	until(id, "cancelled")
	require.Equal(t, had, layers())
	require.Equal(t, "running", e.onlyAt(t, "training-11", "gannet").State)
	require.Empty(t, e.leftovers(t, "petrel"))
	r := e.run(t, "jobs", "cut-over", id)
	require.Equal(t, 2, r.status, r.out+r.err)

	// While it waits it takes nobody's room: with one transfer at once another machine moves.
	e.ok(t, "jobs", "limits", "--per-host", "1", "--per-pool", "1")
	id = begin("gannet/training-11", "--copy-ahead")
	wait.Until(t, func() bool { return waits(id) })
	e.ok(t, "move", "gannet/training-10", "--host", "petrel", "--yes")
	kill(t, e, "service")
	kill(t, e, "agent-gannet")
	wait.Until(t, func() bool { return e.run(t, "survey", "gannet").status == 0 })
	require.True(t, waits(id), "nobody has said anything")
	r = e.run(t, "power", "off", "gannet/training-11")
	require.NotZero(t, r.status, "it is being moved: %s", r.out+r.err)
	require.Contains(t, e.ok(t, "jobs", "cut-over", id), "cuts over as soon as")
	until(id, "done")
	e.ok(t, "power", "off", "petrel/training-11")
	moved := e.onlyAt(t, "training-11", "petrel")
	require.Equal(t, before.Id, moved.Id)
	left, err := filepath.Glob(filepath.Join(e.pool("gannet", "reef"), ".unvora", "trash", "*", "training-11",
		"*-disk1-[0-9].qcow2"))
	require.NoError(t, err)
	require.Len(t, left, had+2, "one for what was written while it was copied, one for what came after that")
	was, newest := guestLog(t, left[len(left)-1], "qcow2")
	is, _ := guestLog(t, filepath.Join(moved.Path, (*moved.Machine.Disks)[0].File), "qcow2")
	for n := range was {
		if is[n] != was[n] {
			require.Greater(t, is[n], newest, "record %d: it was written there", n)
		}
	}
	require.Positive(t, *e.job(t, id).DownSeconds)

	// Disks of one lie in several pools; what it writes lies with its descriptor.
	id = begin("gannet/archive-db", "--copy-ahead")
	wait.Until(t, func() bool { return waits(id) })
	e.ok(t, "jobs", "cut-over", id)
	until(id, "done")
	require.Equal(t, "running", e.onlyAt(t, "archive-db", "petrel").State)

	// At a time; and one whose time is over before it is there waits for a word, which is an order of its own.
	ask := func(at, until time.Time) string {
		body, err := json.Marshal(map[string]any{"operation": "move", "copies": []string{"gannet/training-12"},
			"host": "petrel", "pool": "reef", "takeRecommended": true, "cutOverAt": at, "cutOverUntil": until})
		require.NoError(t, err)
		res, said := e.http(t, http.MethodPost, "/api/v1/jobs", e.token(t), string(body))
		require.Equal(t, 202, res.StatusCode, said)
		var j openapi.Job
		require.NoError(t, json.Unmarshal([]byte(said), &j))
		return j.Id
	}
	now := time.Now()
	id = ask(now.Add(-time.Hour), now.Add(-time.Minute))
	until(id, "held")
	require.Contains(t, e.ok(t, "jobs", id), "its time to cut over ended at")
	e.ok(t, "jobs", "resume", id)
	until(id, "held")
	require.Equal(t, "running", e.onlyAt(t, "training-12", "gannet").State)
	soon := time.Now().Add(2 * time.Second)
	_, said := e.http(t, http.MethodPost, "/api/v1/jobs/"+id+"/cut-over", e.token(t), `{"at": "`+
		soon.Format(time.RFC3339Nano)+`"}`)
	require.Contains(t, said, `"cutOverAt"`)
	until(id, "done")
	require.Equal(t, "running", e.onlyAt(t, "training-12", "petrel").State)
	for _, s := range e.job(t, id).Steps {
		if s.Kind == "stop" {
			require.False(t, s.StartedAt.Before(soon), "not before its time")
		}
	}

	// One that does not run waits with all of it.
	id = begin("gannet/training-09", "--cut-over", time.Now().Add(time.Hour).Format("2006-01-02 15:04"))
	wait.Until(t, func() bool { return waits(id) })
	require.NoDirExists(t, filepath.Join(e.pool("petrel", "reef"), "training-09"))
	r = e.run(t, "jobs", "cut-over", id, "--at", "2031-01-01 10:00")
	require.Equal(t, 2, r.status, r.out+r.err)
	require.Contains(t, r.err, "at most 30 days")
	e.ok(t, "jobs", "cut-over", id)
	until(id, "done")
	for _, h := range []string{"gannet", "petrel"} {
		require.Empty(t, e.leftovers(t, h))
	}
	for want, args := range map[string][]string{
		"want a time": {"--cut-over", "soon"}, "is over": {"--cut-over", "2026-11-29 21:00"},
	} {
		r := e.run(t, append([]string{"move", "training-08", "--host", "petrel"}, args...)...)
		require.Equal(t, 2, r.status)
		require.Contains(t, r.err, want)
	}
}

// cancelledMove moves a copy to petrel, whose agent stands still from when the machine was taken off the list where it
// was until the job is cancelled. It returns how the job ended.
func (e *estate) cancelledMove(t *testing.T, copy string) string {
	t.Helper()
	petrel := e.pids(t)["agent-petrel"]
	id := e.moves(t, copy)
	e.untilStep(t, id, "delist")
	require.NoError(t, syscall.Kill(petrel, syscall.SIGSTOP))
	r := e.run(t, "jobs", "cancel", id)
	require.NoError(t, syscall.Kill(petrel, syscall.SIGCONT))
	if r.status != 0 {
		require.Regexp(t, "point of no return|is done already", r.err)
	}
	var state string
	wait.Until(t, func() bool {
		state = string(e.job(t, id).State)
		return state == "cancelled" || state == "done"
	})
	require.Equal(t, r.status == 0, state == "cancelled", "cancelled is undone, refused is done")
	return state
}

// TestMoveMany: several machines move in one job; a host is emptied, each machine to where it has room.
func TestMoveMany(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "power", "on", "gannet/training-05", "gannet/training-06")
	three := []string{"move", "training-05", "gannet/training-06", "training-07", "--host", "petrel", "--yes",
		"--all-or-nothing"}
	p, _, status := e.planned(t, three...)
	require.Zero(t, status)
	var kinds []string
	for _, s := range p.Steps {
		kinds = append(kinds, s.Kind)
	}
	require.Less(t, lastIndex(kinds, "carry"), slices.Index(kinds, "stop"), "all are copied first")
	require.Regexp(t, `training-06, gannet/training-07: moved in .*s\. Together they stood for `, e.ok(t, three...))
	for name, state := range map[string]string{"training-05": "running", "training-06": "running",
		"training-07": "stopped"} {
		require.Equal(t, state, e.onlyAt(t, name, "petrel").State, name)
	}

	// One that can't go keeps the others where they are.
	e.ok(t, "clone", "gannet/tide-gauge", "--name", "stands-on-it", "--kind", "layered", "--yes")
	r := e.run(t, "move", "tide-gauge", "training-09", "--host", "petrel", "--yes")
	require.Equal(t, 4, r.status)
	require.Contains(t, r.out+r.err, "stands-on-it")
	e.onlyAt(t, "training-09", "gannet")

	// Each to where it has room.
	_, found, status := e.planned(t, "move", "--where", "host=gannet name~training-1*", "--spread", "--yes")
	require.Zero(t, status)
	require.Contains(t, found["place.by-spread"].Message, "of memory left: the first of ")
	e.ok(t, "move", "--where", "host=gannet name~training-1*", "--spread", "--yes")
	require.Empty(t, get[[]openapi.Copy](t, e, "copies", "--where", "host=gannet name~training-1*"))
	require.Len(t, get[[]openapi.Copy](t, e, "copies", "--where", "form=registered name~training-1*"), 3)

	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"nothing":      {nil, "name copies, or say which they are"},
		"nothing fits": {[]string{"--where", "name=nobody", "--host", "petrel"}, "No registered copy fits"},
		"all there": {[]string{"--where", "host=petrel", "--host", "petrel"},
			"or all that do are as they are to be"},
		"spread and host": {[]string{"tide-gauge", "--spread", "--host", "petrel"}, "Either hosts are chosen"},
		"no filter":       {[]string{"--where", "colour=red", "--spread"}, "colour"},
		"disks of two": {[]string{"tide-gauge", "buoy-ingest", "--host", "petrel", "--disk", "disk1=reef"},
			"one machine at a time"},
		"rules of two": {[]string{"tide-gauge", "buoy-ingest", "--pool", "kelp", "--keep-wiring"},
			"one machine at a time"},
		"rules of many": {[]string{"tide-gauge", "--spread", "--keep-wiring"}, "Either hosts are chosen"},
	} {
		r := e.run(t, append([]string{"move", "--yes"}, c.args...)...)
		require.Equal(t, 2, r.status, name)
		require.Contains(t, r.err, c.says, name)
	}
	for _, h := range []string{"gannet", "petrel", "skua"} {
		require.Empty(t, e.leftovers(t, h))
	}
}

func lastIndex(list []string, what string) int {
	for n := len(list) - 1; n >= 0; n-- {
		if list[n] == what {
			return n
		}
	}
	return -1
}

// TestConsoleEmpty empties a host in the console.
func TestConsoleEmpty(t *testing.T) {
	e := ownEstate(t)
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "empty", chromedp.Navigate(e.server+"/hosts?host=petrel"), press(byText("button", "Empty it …")),
		chromedp.WaitEnabled(byText("button", "Empty petrel")))
	accessible(t, ctx, "console-empty")
	do(t, ctx, "emptied", press(byText("button", "Empty petrel")))
	wait.Until(t, func() bool {
		return len(get[[]openapi.Copy](t, e, "copies", "--where", "host=petrel form=registered")) == 0
	})
}

// TestConsoleMove moves a machine in the console.
func TestConsoleMove(t *testing.T) {
	e := ownEstate(t)
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "move", chromedp.Navigate(e.server+"/lineages/surge-forecast"),
		chromedp.Navigate(e.server+"/lineages/training-05"), press(byText("button", "Move …")),
		chromedp.WaitVisible(chromedp.CSS(`[role=dialog] input[aria-label=Host]`)),
		chromedp.SendKeys(chromedp.CSS(`[role=dialog] input[aria-label=Host]`), "petrel"),
		press("//"+onlyOption), chromedp.WaitEnabled(byText("button", "Move it to petrel")))
	accessible(t, ctx, "console-move")
	do(t, ctx, "moved", press(byText("button", "Move it to petrel")),
		chromedp.WaitVisible(byText("h2", "petrel/training-05")))
	e.onlyAt(t, "training-05", "petrel")
}
