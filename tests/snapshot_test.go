package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/qcow2"
)

// guestText is where these tests write on a disk, as a guest would.
const guestText = 1 << 20

// writeInto writes text to a disk in QCOW2, into its top layer.
func writeInto(t *testing.T, path, text string) {
	t.Helper()
	c, err := formats.OpenChain(path, formats.Options{Format: "qcow2"})
	require.NoError(t, err)
	defer c.Close()
	var below disk.Image
	if len(c.Links) > 1 {
		parent, err := formats.OpenChain(c.Links[1].Path, formats.Options{Format: c.Links[1].Format.Name})
		require.NoError(t, err)
		defer parent.Close()
		below = parent
	}
	f, err := disk.OpenSource(disk.OS, path, os.O_RDWR)
	require.NoError(t, err)
	img, err := qcow2.OpenWrite(f, below)
	require.NoError(t, err)
	_, err = img.WriteAt(append([]byte(text), make([]byte, 64-len(text))...), guestText)
	require.NoError(t, err)
	require.NoError(t, img.Finish())
	require.NoError(t, img.Close())
}

// readFrom is what was written there.
func readFrom(t *testing.T, path string) string {
	t.Helper()
	c, err := formats.OpenChain(path, formats.Options{Format: "qcow2"})
	require.NoError(t, err)
	defer c.Close()
	text := make([]byte, 64)
	_, err = c.ReadAt(text, guestText)
	require.NoError(t, err)
	return string(text)
}

// snapshots: a running machine's disks are kept as they are at a moment, gone back to, and dropped; what was written
// since is kept unless somebody says otherwise, and the tree is told as it is.
func (e *estate) snapshots(t *testing.T) {
	t.Helper()
	const db = "gannet/archive-db"
	folder := get[openapi.Copy](t, e, "copies", db).Path
	mark := func(disk, text string) { // what a guest writes: into the layer that it writes to
		t.Helper()
		e.ok(t, "survey", "gannet") // which layer that is, the inventory hears a moment after a job's end
		c := get[openapi.Copy](t, e, "copies", db)
		for _, d := range *c.Machine.Disks {
			if d.Id == disk {
				writeInto(t, filepath.Join(c.Path, d.File), text)
			}
		}
	}
	reads := func() string {
		t.Helper()
		e.ok(t, "survey", "gannet")
		c := get[openapi.Copy](t, e, "copies", db)
		return readFrom(t, filepath.Join(c.Path, (*c.Machine.Disks)[0].File))
	}
	state := func() string { return get[openapi.Copy](t, e, "copies", db).State }

	// While it runs.
	require.Equal(t, "running", state())
	_, found, status := e.planned(t, "snapshot", "make", db, "first")
	require.Zero(t, status, "nothing has to be asked")
	require.Contains(t, found, "snapshot.moment")
	e.ok(t, "snapshot", "make", db, "first", "--note", "schema 14")
	require.Equal(t, "running", state())
	require.Contains(t, e.ok(t, "snapshot", "list", db), "schema 14")
	require.Contains(t, e.told(t, 2, "snapshot", "make", db, "First"), "already")
	require.Contains(t, e.told(t, 2, "snapshot", "back", db, "none"), `it has "first"`)
	e.ok(t, "power", "off", db)
	e.ok(t, "survey", "gannet")
	before := reads()
	mark("disk1", "written after first")
	after := reads()
	require.NotEqual(t, before, after)

	// Back, with what was written since kept.
	_, found, status = e.planned(t, "snapshot", "back", db, "first")
	require.Equal(t, 3, status)
	require.Contains(t, found, "snapshot.present")
	e.ok(t, "snapshot", "back", db, "first", "--yes")
	e.ok(t, "survey", "gannet")
	require.Equal(t, before, reads())
	list := e.ok(t, "snapshot", "list", db)
	require.Contains(t, list, "before first")
	require.Contains(t, list, "what it writes now")
	e.ok(t, "snapshot", "back", db, "before first", "--yes")
	e.ok(t, "survey", "gannet")
	require.Equal(t, after, reads(), "what was kept is there")

	// One between two others goes into the one that stands on it, and both still read as they did.
	e.ok(t, "snapshot", "make", db, "between")
	mark("disk1", "written after between")
	e.ok(t, "snapshot", "make", db, "youngest")
	mark("disk1", "written after youngest")
	now := reads()
	p, _, _ := e.planned(t, "snapshot", "drop", db, "before first")
	require.Contains(t, p.Steps[0].What, `between "before first" and "between"`)
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	was := len(files)
	e.ok(t, "snapshot", "drop", db, "before first")
	e.ok(t, "snapshot", "drop", db, "between")
	e.ok(t, "survey", "gannet")
	require.Equal(t, now, reads())
	list = e.ok(t, "snapshot", "list", db)
	require.Contains(t, list, "youngest")
	require.NotContains(t, list, "between")
	require.NotContains(t, list, "before first")
	files, err = os.ReadDir(folder)
	require.NoError(t, err)
	require.Less(t, len(files), was)
	e.ok(t, "snapshot", "back", db, "youngest", "--answer", "snapshot.present=let-go")
	e.ok(t, "survey", "gannet")
	require.Contains(t, reads(), "written after between")
	require.NotContains(t, reads(), "written after youngest")

	// One that two stand on goes last.
	e.ok(t, "snapshot", "back", db, "first", "--yes")
	mark("disk1", "of another branch")
	_, found, status = e.planned(t, "snapshot", "drop", db, "first")
	require.Equal(t, 4, status)
	require.Contains(t, found["snapshot.stood-on"].Message, "youngest")
	e.ok(t, "snapshot", "back", db, "youngest", "--answer", "snapshot.present=let-go")

	// What the machine itself stands on is dropped while it runs; what it has written stays.
	mark("disk1", "written last")
	last := reads()
	e.ok(t, "power", "on", db)
	e.ok(t, "snapshot", "drop", db, "youngest")
	require.Equal(t, "running", state(), "it went on")
	e.ok(t, "power", "off", db)
	e.ok(t, "snapshot", "drop", db, "first")
	e.ok(t, "survey", "gannet")
	require.Contains(t, e.ok(t, "snapshot", "list", db), "has no snapshots")
	require.Contains(t, reads(), "written last")
	require.Equal(t, strings.Contains(last, "written last"), true)
	c := get[openapi.Copy](t, e, "copies", db)
	require.Len(t, e.image(t, db).Chain, 1, "no layer is left")
	require.Equal(t, "archive-db-disk1.qcow2", (*c.Machine.Disks)[0].File)
	files, err = os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, files, 4, "two disks, the third lies in another pool, the descriptor, and the mark: %v", files)
	for _, d := range *c.Machine.Disks {
		st, err := os.Stat(filepath.Join(folder, d.File))
		require.NoError(t, err)
		require.NotZero(t, st.Mode()&0o200, "it may be written to again")
	}

	// What is let go is put into the trash, and only when somebody says so.
	e.ok(t, "snapshot", "make", db, "second")
	mark("disk1", "of no use")
	require.Equal(t, 3, e.run(t, "snapshot", "back", db, "second", "--plan").status)
	e.ok(t, "snapshot", "back", db, "second", "--answer", "snapshot.present=let-go")
	e.ok(t, "survey", "gannet")
	require.NotContains(t, reads(), "of no use")
	require.NotContains(t, e.ok(t, "snapshot", "list", db), "before second")

	// A package, and a clone, of a snapshot are the machine as it was then, though it runs.
	then := reads()
	mark("disk1", "after second")
	e.ok(t, "power", "on", db)
	past := tempFile(t, "past.ova")
	p, _, _ = e.planned(t, "export", db, past, "--snapshot", "second")
	require.NotContains(t, p.Steps[0].What, "Freeze")
	e.ok(t, "export", db, past, "--snapshot", "second")
	e.ok(t, "import", past, "--host", "gannet", "--name", "db-past", "--yes", "--disk", "disk1=:qcow2")
	e.ok(t, "clone", db, "--snapshot", "SECOND", "--name", "db-then", "--yes")
	for _, name := range []string{"db-past", "db-then"} {
		c := get[openapi.Copy](t, e, "copies", name)
		require.Equal(t, then, readFrom(t, filepath.Join(c.Path, (*c.Machine.Disks)[0].File)), name)
	}
	require.Contains(t, e.told(t, 2, "clone", db, "--snapshot", "third"), `has no snapshot "third"`)
	_, found, status = e.planned(t, "snapshot", "drop", db, "second")
	require.Equal(t, 4, status)
	require.Contains(t, found["copy.stood-on"].Message, "db-then")
	e.ok(t, "power", "off", db)
	e.ok(t, "delist", "db-then", "--files", "trash", "--yes")

	// Else they are the machine as it is now.
	file := tempFile(t, "db.ova")
	e.ok(t, "export", db, file, "--yes")
	require.NotContains(t, e.ok(t, "inspect", file, "-o", "json"), "second")
	e.ok(t, "clone", db, "--name", "db-twin", "--yes")
	require.Contains(t, e.ok(t, "snapshot", "list", "db-twin"), "has no snapshots")

	e.snapshotsOfSeveral(t)
}

// snapshotsOfSeveral: what is asked of several machines is done to each, in one job at one instant if it is to be all
// or none; and several are changed alike.
func (e *estate) snapshotsOfSeveral(t *testing.T) {
	t.Helper()
	three := []string{"training-07", "training-08", "training-09"}
	for _, name := range three[:2] {
		e.ok(t, "power", "on", name)
	}
	names := func(copy string) (list []string) {
		for _, s := range get[[]openapi.Snapshot](t, e, "snapshot", "list", copy) {
			list = append(list, s.Name)
		}
		return list
	}
	all := func(args ...string) []string {
		return append(append([]string{"snapshot", args[0]}, three...), args[1:]...)
	}
	p, _, _ := e.planned(t, all("make", "monday", "--all-or-nothing")...)
	require.Equal(t, 1, p.Jobs)
	require.Len(t, p.Steps, 1)
	require.Contains(t, p.Steps[0].What, "of 3 machines as \"monday\" at one instant")
	e.ok(t, all("make", "monday", "--all-or-nothing", "--yes")...)
	e.ok(t, all("make", "tuesday", "--note", "each by itself", "--yes")...)
	for _, name := range three {
		require.Equal(t, []string{"monday", "tuesday"}, names(name))
	}
	require.Equal(t, "running", get[openapi.Copy](t, e, "copies", "training-07").State)

	// One that has no such snapshot keeps the others from nothing but an answer.
	e.ok(t, "snapshot", "drop", "training-09", "tuesday", "--yes")
	r := e.run(t, all("drop", "tuesday", "--yes")...)
	require.Equal(t, 2, r.status, r.out+r.err)
	require.Contains(t, r.err, "training-09 has no snapshot")
	e.ok(t, "snapshot", "drop", "training-07", "training-08", "tuesday", "--yes")
	for _, name := range three {
		require.Equal(t, []string{"monday"}, names(name))
	}
	for _, name := range three[:2] {
		e.ok(t, "power", "off", name)
	}
	e.ok(t, all("back", "monday", "--answer", "snapshot.present=let-go", "--all-or-nothing", "--yes")...)

	e.ok(t, append(append([]string{"change"}, three...), "--memory", "1GiB", "--cpus", "3", "--yes")...)
	for _, name := range three {
		m := get[openapi.Copy](t, e, "copies", name).Machine
		require.Equal(t, []int64{3, 1 << 30}, []int64{int64(m.Cpus), m.MemoryBytes})
	}
	r = e.run(t, "change", "training-07", "training-08", "--name", "class", "--yes")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "one machine at a time")
}
