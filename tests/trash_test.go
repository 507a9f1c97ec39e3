package tests

import (
	"encoding/json"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/wait"
)

func (e *estate) trash(t *testing.T, args ...string) (list []openapi.Trashed) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(e.ok(t, append([]string{"trash", "list", "-o", "json"}, args...)...)),
		&list))
	return list
}

// toTrash takes a machine off gannet's list, the last copy of its lineage.
func (e *estate) toTrash(t *testing.T, name string) {
	t.Helper()
	e.ok(t, "delist", "gannet/"+name, "--files", "trash", "--yes", "--answer", "source.last-copy=by-name:"+name)
}

// TestTrash: what was taken away is listed, and comes back to where it lay; of several of one name it has to be said
// which.
func TestTrash(t *testing.T) {
	e := ownEstate(t)
	require.Contains(t, e.ok(t, "trash", "list"), "Nothing is in the trash.")
	before := get[openapi.Copy](t, e, "copies", "gannet/training-12")
	e.toTrash(t, "training-12")
	require.NoDirExists(t, before.Path)
	list := e.trash(t)
	require.Len(t, list, 1)
	require.Equal(t, "training-12", list[0].Name)
	require.Equal(t, "gannet", list[0].Host)
	require.Equal(t, before.Path, list[0].Was)
	require.Positive(t, list[0].Bytes)
	require.Empty(t, e.trash(t, "petrel"))
	plan := e.ok(t, "trash", "restore", "training-12", "--plan")
	require.Contains(t, plan, "Take it out of the trash, to "+before.Path)

	out := e.ok(t, "trash", "restore", "gannet/training-12", "--yes")
	require.Contains(t, out, "gannet/training-12")
	require.FileExists(t, filepath.Join(before.Path, "training-12.ovf"))
	require.Empty(t, e.trash(t))
	wait.Until(t, func() bool { // a survey behind the job's end finds it
		r := e.run(t, "copies", "gannet/training-12")
		return r.status == 0 && get[openapi.Copy](t, e, "copies", "gannet/training-12").Form == "stray"
	})
	e.ok(t, "register", "reef/training-12", "--host", "gannet", "--yes")
	after := get[openapi.Copy](t, e, "copies", "gannet/training-12")
	require.Equal(t, before.Id, after.Id)
	require.Equal(t, "registered", string(after.Form))

	// Where it lay is something else by now.
	e.toTrash(t, "training-12")
	e.ok(t, "clone", "gannet/training-11", "--name", "training-12", "--yes")
	require.Equal(t, 3, e.run(t, "trash", "restore", "training-12").status)
	e.ok(t, "trash", "restore", "training-12", "--yes")
	require.FileExists(t, filepath.Join(before.Path+"-2", "training-12.ovf"))

	// What a move leaves behind is told to be that.
	e.ok(t, "move", "tide-gauge", "--host", "petrel", "--yes")
	_, found, _ := e.planned(t, "trash", "restore", "tide-gauge")
	require.Contains(t, found["trash.copy-elsewhere"].Message, "petrel/tide-gauge")

	// Two of a name.
	e.ok(t, "move", "tide-gauge", "--host", "gannet", "--pool", "reef", "--yes")
	e.ok(t, "move", "tide-gauge", "--host", "petrel", "--yes")
	r := e.run(t, "trash", "restore", "gannet/tide-gauge", "--yes")
	require.NotZero(t, r.status)
	require.Contains(t, r.err, "several that are called gannet/tide-gauge")
	list = e.trash(t, "gannet")
	require.Equal(t, "tide-gauge", list[0].Name)
	require.Contains(t, r.err, list[0].Id)
	e.ok(t, "trash", "restore", list[0].Id, "--yes")
	require.DirExists(t, list[0].Was)

	// What lies on a share is told once, whoever sees it, and comes back there.
	e.ok(t, "move", "training-03", "--pool", "harbour", "--yes")
	shared := get[openapi.Copy](t, e, "copies", "training-03").Path
	e.toTrash(t, "training-03")
	seen := 0
	for _, x := range e.trash(t) {
		if x.Name == "training-03" && x.Pool == "harbour" {
			seen++
			e.ok(t, "trash", "restore", x.Id, "--yes")
		}
	}
	require.Equal(t, 1, seen)
	require.FileExists(t, filepath.Join(shared, "training-03.ovf"))

	skua := e.pids(t)["agent-skua"]
	require.NoError(t, syscall.Kill(skua, syscall.SIGSTOP))
	r = e.run(t, "trash", "list")
	require.NoError(t, syscall.Kill(skua, syscall.SIGCONT))
	require.Zero(t, r.status)
	require.Contains(t, r.err, "What lies in the trash of skua is not listed: The agent on skua does not answer")
	for args, says := range map[[2]string]string{
		{"restore", "nothing"}: "Nothing in the trash is called nothing",
		{"restore", ""}:        "Name what is to come out of the trash",
		{"list", "nowhere"}:    `no host "nowhere"`,
	} {
		r := e.run(t, "trash", args[0], args[1])
		require.NotZero(t, r.status, args)
		require.Contains(t, r.err, says)
	}
	for _, h := range []string{"gannet", "petrel"} {
		require.Empty(t, e.leftovers(t, h))
	}
}

// TestConsoleTrash gives a machine back from the page of its host.
func TestConsoleTrash(t *testing.T) {
	e := ownEstate(t)
	was := get[openapi.Copy](t, e, "copies", "gannet/training-12").Path
	e.toTrash(t, "training-12")
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "trash", chromedp.Navigate(e.server+"/hosts?host=gannet"),
		chromedp.WaitVisible(chromedp.CSS(`button[aria-label="Restore training-12"]`)))
	accessible(t, ctx, "console-trash")
	do(t, ctx, "restore", press(`button[aria-label="Restore training-12"]`),
		press(byText("button", "Restore gannet/training-12")))
	wait.Until(t, func() bool {
		_, err := os.Stat(filepath.Join(was, "training-12.ovf"))
		return err == nil
	})
	do(t, ctx, "it is gone from the list", chromedp.WaitNotPresent(byText("h3", "Trash")))
}
