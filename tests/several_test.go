package tests

import (
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
	"unvora.example/unvora/internal/wait"
)

// children are those of a job, in the order of its machines.
func (e *estate) children(t *testing.T, parent string) (list []openapi.Job) {
	t.Helper()
	for _, id := range e.job(t, parent).Children {
		list = append(list, e.job(t, id))
	}
	return list
}

// backAt waits until a machine of a job that was undone is seen at its host again, behind the job's end.
func (e *estate) backAt(t *testing.T, name, host string) {
	t.Helper()
	wait.Until(t, func() bool { return strings.Contains(e.run(t, "copies", host+"/"+name).out, "registered") })
	e.onlyAt(t, name, host)
}

// TestSeveral: of several machines each has a job of its own. What one can't do stops no other, and just that is gone
// on with afterwards; each can be held by itself, and waits until there is room for its transfer.
func TestSeveral(t *testing.T) {
	e := ownEstate(t)
	where := "host=gannet name~training-0*"
	e.ok(t, "power", "on", "gannet/training-01")
	plan := e.ok(t, "power", "on", "--where", where, "--plan")
	require.Contains(t, plan, "8 jobs, one for each machine")
	require.NotContains(t, plan, "Start gannet/training-01", "it runs already")
	require.Contains(t, e.ok(t, "power", "on", "--where", where), "gannet/training-09: running.")
	require.Len(t, get[[]openapi.Copy](t, e, "copies", "--where", where+" state=running"), 9)
	require.Equal(t, 2, e.run(t, "power", "on", "--where", where).status, "all run already")
	e.ok(t, "power", "off", "--where", where+" state=running")

	// One transfer at a time. While it stands still, another finds its place taken, one is held, one cancelled.
	require.Contains(t, e.ok(t, "jobs", "limits", "--per-host", "1"), "1 transfer at a time at one host, 2 between")
	petrel := e.pids(t)["agent-petrel"]
	require.NoError(t, syscall.Kill(petrel, syscall.SIGSTOP))
	e.ok(t, "move", "training-01", "gannet/training-02", "training-03", "training-04", "--host", "petrel", "--pool",
		"reef", "--yes", "--detach")
	jobs := get[[]openapi.Job](t, e, "jobs")
	id := jobs[0].Id
	require.False(t, slices.ContainsFunc(jobs, func(j openapi.Job) bool { return j.Parent != nil }))
	var waiting []openapi.Job // those that wait
	wait.Until(t, func() bool {
		waiting = slices.DeleteFunc(e.children(t, id), func(j openapi.Job) bool { return *j.WaitsFor == "" })
		return len(waiting) == 3
	})
	require.EqualValues(t, "waiting", waiting[0].State)
	said := e.ok(t, "jobs", id)
	require.Contains(t, said, "and 1 more  working")
	require.Contains(t, said, "1 of 1 transfers at gannet are running")
	require.Contains(t, e.ok(t, "jobs", waiting[0].Id), "of a job over several machines: unvora jobs "+id)
	names := make([]string, 3)
	for n, j := range waiting {
		names[n] = strings.TrimPrefix(j.Subject, "gannet/")
	}
	taken := filepath.Join(e.pool("petrel", "reef"), names[0])
	require.NoError(t, os.Mkdir(taken, 0o755))
	e.ok(t, "jobs", "hold", waiting[1].Id)
	e.ok(t, "jobs", "cancel", waiting[2].Id)
	require.NoError(t, syscall.Kill(petrel, syscall.SIGCONT))
	wait.Until(t, func() bool { return e.job(t, id).State == "held" })
	for _, name := range names {
		e.backAt(t, name, "gannet")
	}
	require.Contains(t, e.ok(t, "jobs", "resume", id), "goes on")
	wait.Until(t, func() bool { return e.job(t, id).State == "partly" })
	e.onlyAt(t, names[1], "petrel")
	e.onlyAt(t, names[2], "gannet")
	require.Contains(t, e.ok(t, "attention"), "1 of 4 machines failed")
	require.Contains(t, e.ok(t, "jobs", "--state", "partly"), id)

	require.NoError(t, os.Remove(taken))
	require.Contains(t, e.ok(t, "jobs", "resume", id, "--failed"), "gannet/"+names[0]+": done.")
	require.EqualValues(t, "done", e.job(t, id).State)
	for _, name := range []string{"training-01", "training-02", "training-03", "training-04"} {
		e.onlyAt(t, name, "petrel")
	}
	require.NotContains(t, e.ok(t, "attention"), "machines failed")
	r := e.run(t, "jobs", "resume", id, "--failed")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "None of the machines")
	e.ok(t, "jobs", "limits", "--per-host", "4", "--per-link", "4")
	require.Contains(t, e.ok(t, "jobs", "limits", "--per-pool", "3"), "3 of one pool")
	require.Equal(t, 2, e.run(t, "jobs", "limits", "--per-host", "0").status)
	require.Equal(t, 2, e.run(t, "jobs", "limits", "--per-pool", "101").status)

	// Who follows a job is told what failed, and how to go on with that.
	require.NoError(t, syscall.Kill(petrel, syscall.SIGSTOP))
	ended := make(chan result)
	go func() {
		ended <- e.run(t, "move", "training-05", "training-06", "--host", "petrel", "--pool", "reef", "--yes")
	}()
	wait.Until(t, func() bool { // they are under way
		id = get[[]openapi.Job](t, e, "jobs")[0].Id
		list := e.children(t, id)
		return len(list) == 2 && list[0].State == "working" && list[1].State == "working"
	})
	taken = filepath.Join(e.pool("petrel", "reef"), "training-05")
	require.NoError(t, os.Mkdir(taken, 0o755))
	require.NoError(t, syscall.Kill(petrel, syscall.SIGCONT))
	r = <-ended
	require.Equal(t, 1, r.status, r.out+r.err)
	require.Contains(t, r.err, "1 of 2 done, 1 failed; what failed is as it was before. Go on with just that: unvora "+
		"jobs resume "+id+" --failed")
	require.Regexp(t, `gannet/training-05 +failed`, r.out)
	require.NoError(t, os.Remove(taken))
	e.backAt(t, "training-05", "gannet")
	e.onlyAt(t, "training-06", "petrel")
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "jobs", chromedp.Navigate(e.server+"/jobs"), press("//summary[text()='2 jobs']"),
		chromedp.WaitVisible(`//article[@aria-label="Move gannet/training-05"]//*[contains(text(), "exists already")]`))
	accessible(t, ctx, "console-several")
	do(t, ctx, "gone on with", press(byText("button", "Go on with what failed")),
		chromedp.WaitVisible(`//*[text()="2 of 2 done"]`),
		chromedp.WaitNotPresent(byText("button", "Go on with what failed")),
		chromedp.SetValue(`input[aria-label="Transfers at one host"]`, ""),
		chromedp.SendKeys(`input[aria-label="Transfers at one host"]`, "3\t"))
	e.onlyAt(t, "training-05", "petrel")
	wait.Until(t, func() bool { return strings.Contains(e.ok(t, "jobs", "limits"), "At most 3 transfers") })

	// Each machine is answered by itself.
	e.ok(t, "power", "on", "training-07", "training-08")
	e.ok(t, "power", "suspend", "training-07", "training-08", "--yes")
	both := []string{"move", "training-07", "training-08", "--host", "petrel", "--yes", "--answer",
		"training-07:state.suspended=drop"}
	r = e.run(t, both...)
	require.Equal(t, 3, r.status, r.out+r.err)
	require.Contains(t, r.err, "1 choice open")
	e.ok(t, append(both, "--answer", "gannet/training-08:state.suspended=drop")...)
	e.onlyAt(t, "training-08", "petrel")

	// Folders are answered by themselves, too.
	reef := e.pool("gannet", "reef")
	for _, name := range []string{"training-10", "training-11"} { // copies by hand, whose origins live
		require.NoError(t, os.CopyFS(filepath.Join(reef, "by-hand-"+name), os.DirFS(filepath.Join(reef, name))))
		e.give(t, reef, "by-hand-"+name)
	}
	e.ok(t, "survey")
	folders := []string{"register", "reef/by-hand-training-10", "reef/by-hand-training-11", "--host", "gannet"}
	open := func(answers ...string) (list []openapi.Finding) {
		p, _, _ := e.planned(t, append(slices.Clone(folders), answers...)...)
		return slices.DeleteFunc(p.Findings, func(f openapi.Finding) bool {
			return f.Severity != openapi.FindingSeverityChoice || f.Answer != nil
		})
	}
	asks := func(list []openapi.Finding, name string) bool {
		return slices.ContainsFunc(list, func(f openapi.Finding) bool {
			return f.Code == "identity.origin-alive" && strings.Contains(f.Subject, name)
		})
	}
	unanswered := open()
	require.True(t, asks(unanswered, "training-10") && asks(unanswered, "training-11"), "%v", unanswered)
	left := open("--answer", "by-hand-training-10:identity.origin-alive=renew")
	require.True(t, !asks(left, "training-10") && asks(left, "training-11"), "%v", left)
	r = e.run(t, append(folders, "--answer", "skua:state.running=stop", "--plan")...)
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, `for "skua"`)

	// A job that begins later.
	at := time.Now().Add(48 * time.Hour).Format("2006-01-02 15:04")
	require.Contains(t, e.ok(t, "power", "on", "training-09", "--start", at), "begins at "+at)
	later := get[[]openapi.Job](t, e, "jobs")[0]
	require.EqualValues(t, "waiting", later.State)
	require.Contains(t, e.ok(t, "jobs", later.Id), "It begins at "+at+".")
	e.ok(t, "jobs", "cancel", later.Id)
	wait.Until(t, func() bool { return e.job(t, later.Id).State == "cancelled" })

	// All are put away, each by itself.
	away := []string{"delist", "--where", "host=petrel name~training-0*", "--files", "trash", "--yes"}
	r = e.run(t, away...)
	require.Equal(t, 4, r.status)
	require.Contains(t, r.err, "type its name, training-01. 7 more are blocked so (source.last-copy).")
	for _, n := range []string{"1", "2", "3", "4", "5", "6", "7", "8"} {
		away = append(away, "--answer", "training-0"+n+":source.last-copy=by-name:training-0"+n)
	}
	e.ok(t, away...)
	require.Empty(t, get[[]openapi.Copy](t, e, "copies", "--where", "host=petrel name~training-0*"))
	require.Len(t, e.trash(t, "petrel"), 8)

	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"nobody":       {[]string{"power", "on"}, "which: name copies, or say which they are"},
		"nothing fits": {[]string{"power", "off", "--where", "name=nothing"}, `No registered copy fits "name=nothing"`},
		"an unknown answer": {[]string{"power", "on", "training-09", "--answer", "skua:state.running=stop"},
			`for "skua"`},
		"for one only": {[]string{"disk", "detach", "training-09", "disk1", "--answer", "skua:state.running=stop"},
			"about one machine"},
		"no such code": {[]string{"power", "on", "training-09", "--answer", "skua:no.such=stop"}, "the code no.such"},
		"over":         {[]string{"power", "on", "training-09", "--start", "2020-01-01 10:00"}, "is over"},
		"no time":      {[]string{"power", "on", "training-09", "--start", "soon"}, "want a time such as 22:00"},
		"too far":      {[]string{"power", "on", "training-09", "--start", "2031-01-01 10:00"}, "at most 30 days"},
		"one machine":  {[]string{"jobs", "resume", later.Id, "--failed"}, "is about one machine"},
	} {
		r := e.run(t, c.args...)
		require.Equal(t, 2, r.status, "%s: %s", name, r.err)
		require.Contains(t, r.err, c.says, name)
	}
	for _, h := range []string{"gannet", "petrel"} {
		require.Empty(t, e.leftovers(t, h))
	}
}

// TestConsoleSeveral starts all machines of a host in the console, in one job that is undone when one of them fails.
func TestConsoleSeveral(t *testing.T) {
	e := ownEstate(t)
	ctx := browser(t)
	signInto(t, ctx, e)
	do(t, ctx, "start all", chromedp.Navigate(e.server+"/hosts?host=gannet"), press(byText("button", "Start all …")),
		chromedp.WaitVisible(`//p[contains(., "one for each machine")]`))
	accessible(t, ctx, "console-start-all")
	do(t, ctx, "all, or none", press(`//label[contains(., "all, or none")]/input`),
		chromedp.WaitNotPresent(`//p[contains(., "one for each machine")]`),
		chromedp.WaitEnabled(byText("button", "Start all on gannet")), press(byText("button", "Start all on gannet")))
	wait.Until(t, func() bool {
		return len(get[[]openapi.Copy](t, e, "copies", "--where", "host=gannet name~training-* state=running")) == 12
	})
	started := get[[]openapi.Job](t, e, "jobs")[0]
	require.Equal(t, "start", started.Operation)
	require.Empty(t, started.Children, "one job does all")
	require.Greater(t, len(started.Steps), 12)
}

// TestRate: transfers are held to a rate, which may change while they run.
func TestRate(t *testing.T) {
	e := ownEstate(t)
	e.ok(t, "move", "training-05", "gannet/training-06", "--host", "petrel", "--rate", "64KiB", "--yes", "--detach")
	id := get[[]openapi.Job](t, e, "jobs")[0].Id
	under := func() (bytes int64) {
		for _, j := range e.children(t, id) {
			if j.Done > 0 && j.State == "working" {
				bytes += j.Done
			}
		}
		return bytes
	}
	wait.Until(t, func() bool { return under() > 0 })
	list := e.children(t, id)
	require.EqualValues(t, 64<<10, *list[0].Rate)
	require.Contains(t, e.ok(t, "jobs", list[1].Id), "Its transfers read at most 64 KiB a second")
	require.Contains(t, e.ok(t, "jobs", "rate", list[0].Id, "off"), "as fast as it can")
	wait.Until(t, func() bool { return e.job(t, list[0].Id).State == "done" })
	require.EqualValues(t, "working", e.job(t, list[1].Id).State, "its disk would take two minutes")
	require.Contains(t, e.ok(t, "jobs", "rate", id, "1GiB"), "reads at most 1 GiB a second")
	wait.Until(t, func() bool { return e.job(t, id).State == "done" })
	for _, wrong := range [][]string{{"rate", id, "fast"}, {"rate", id, "-1"}, {"rate", id, "off"}} {
		require.Equal(t, 2, e.run(t, append([]string{"jobs"}, wrong...)...).status, wrong)
	}
	require.Equal(t, 2, e.run(t, "move", "training-07", "--host", "petrel", "--rate", "fast", "--yes").status)

	// At times of the day all are slower, those that run too.
	now := time.Now()
	window := now.Add(-time.Hour).Format("15:04") + "-" + now.Add(time.Hour).Format("15:04") + "=64KiB"
	require.Contains(t, e.ok(t, "jobs", "limits", "--hours", window), window)
	e.ok(t, "move", "training-08", "--host", "petrel", "--yes", "--detach")
	id = get[[]openapi.Job](t, e, "jobs")[0].Id
	wait.Until(t, func() bool { return e.job(t, id).Done > 0 })
	require.Zero(t, *e.job(t, id).Rate, "it has none of its own")
	began := time.Now()
	require.Never(t, func() bool { return e.job(t, id).State == "done" }, 3*time.Second, 200*time.Millisecond)
	require.Less(t, e.job(t, id).Done, int64(64<<10)*int64(30+time.Since(began).Seconds()))
	require.NotContains(t, e.ok(t, "jobs", "limits", "--hours", "none"), "64KiB")
	wait.Until(t, func() bool { return e.job(t, id).State == "done" })
	require.Contains(t, e.ok(t, "jobs", "limits", "--per-host", "2"), "At most 2 transfers")
	r := e.run(t, "jobs", "limits", "--hours", "mun 08:00-09:00=1MiB")
	require.Equal(t, 2, r.status)
	require.Contains(t, r.err, "is no day")
}
