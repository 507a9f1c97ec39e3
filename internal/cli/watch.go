package cli

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"github.com/tmaxmax/go-sse"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf"
)

func init() {
	register(groupLook, (*app).jobsCmd)
}

// patience is how long a watcher waits for a service that has gone away.
const patience = 2 * time.Minute

// follow watches a job until it is over, fed by events; it goes on where it
// was when the service comes back. transfer, if set, runs beside it.
func (a *app) follow(ctx context.Context, c *caller, j *openapi.Job,
	transfer func(ctx context.Context) error) (*openapi.Job, error) {
	work, stop := context.WithCancel(context.WithoutCancel(ctx))
	moved := make(chan error, 1)
	var transfers sync.WaitGroup
	defer func() { // the transfer clears up behind itself
		stop()
		transfers.Wait()
	}()
	if transfer != nil {
		transfers.Go(func() { moved <- transfer(work) })
	}
	changed := make(chan struct{}, 1)
	go a.listen(work, c, j.Id, changed)
	bar := a.newBar()
	defer bar.end()
	interrupted := ctx.Done()
	var lost time.Time
	var failed error
	for {
		res, err := c.GetJob(work, j.Id)
		now, err := call[openapi.Job](c, res, err)
		var u *unreachable
		switch {
		case errors.As(err, &u):
			if lost.IsZero() {
				lost = time.Now()
				bar.note("The service does not answer; the job goes on where it can. Waiting for it …")
			}
			if time.Since(lost) > patience {
				return nil, &exit{statusUnreachable, fmt.Errorf("the service did not come back; the job %s goes on "+
					"when it does: "+
					"unvora jobs %s", j.Id, j.Id)}
			}
		case err != nil:
			return nil, err
		default:
			lost = time.Time{}
			bar.show(now)
			if now.State == openapi.JobStateHeld && now.Error != nil {
				bar.end()
				return &now, &exit{statusFailed, fmt.Errorf("held: %s (%s). It goes on with: unvora jobs resume %s",
					strings.TrimSuffix(now.Error.Message, "."), dash(now.Error.Code), j.Id)}
			}
			if over(now) {
				bar.end()
				if failed != nil && now.State == openapi.JobStateCancelled {
					return &now, &exit{statusFailed, failed}
				}
				return &now, a.ended(now)
			}
		}
		select {
		case <-changed:
		case <-time.After(time.Second):
		case err := <-moved:
			if err != nil && failed == nil { // our end failed: nothing half-done stays at the other
				failed = err
				bar.note("%v; cancelling the job …", err)
				res, err := c.CancelJob(work, j.Id)
				if _, err := call[openapi.Job](c, res, err); err != nil {
					bar.note("The job %s could not be cancelled: %v", j.Id, err)
				}
			}
		case <-interrupted:
			interrupted = nil
			bar.note("Cancelling …")
			res, err := c.CancelJob(work, j.Id)
			if _, err := call[openapi.Job](c, res, err); err != nil {
				bar.note("%v", err)
			}
		}
	}
}

func over(j openapi.Job) bool {
	switch j.State {
	case openapi.JobStateDone, openapi.JobStatePartly, openapi.JobStateFailed, openapi.JobStateCancelled:
		return true
	}
	return false
}

// ended is the error that a job's end is, if it is one.
func (a *app) ended(j openapi.Job) error {
	switch {
	case j.ChildStates != nil && (j.State == openapi.JobStatePartly || j.State == openapi.JobStateFailed):
		return &exit{statusFailed, fmt.Errorf("%s; what failed is as it was before. Go on with just that: unvora jobs "+
			"resume %s --failed", counted(j), j.Id)}
	case j.State == openapi.JobStateCancelled:
		return &exit{statusCancelled, fmt.Errorf("cancelled; everything is as it was before")}
	case j.State == openapi.JobStateFailed && j.Error != nil:
		return &exit{statusFailed, fmt.Errorf("%s (%s); everything is as it was before",
			strings.TrimSuffix(j.Error.Message, "."), dash(j.Error.Code))}
	}
	return nil
}

// listen wakes the watcher for each event of the job.
func (a *app) listen(ctx context.Context, c *caller, job string, wake chan<- struct{}) {
	last := ""
	for ctx.Err() == nil {
		res, err := c.StreamEvents(ctx, &openapi.StreamEventsParams{LastEventID: optional(last)})
		if res, err = c.check(res, err); err == nil {
			for e, err := range sse.Read(res.Body, nil) {
				if err != nil {
					break
				}
				last = e.LastEventID
				if e.Type == "anew" || strings.Contains(e.Data, job) {
					select {
					case wake <- struct{}{}:
					default:
					}
				}
			}
			res.Body.Close()
		} else {
			last = "" // begin with what comes next: the watcher looks for itself meanwhile
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

// bar is a progress bar on a terminal, plain lines elsewhere.
type bar struct {
	a       *app
	bar     *progressbar.ProgressBar
	what    string
	spoke   time.Time
	pause   time.Duration // before the next line
	percent int64
}

func (a *app) newBar() *bar { return &bar{a: a, percent: -1} }

func (b *bar) silent() bool { return b.a.quiet || b.a.output != "table" }

func (b *bar) show(j openapi.Job) {
	if b.silent() {
		return
	}
	what := "waiting"
	for _, s := range j.Steps {
		if s.State == "working" {
			what = s.What
		}
	}
	if over(j) || j.State == openapi.JobStateHeld {
		what = string(j.State)
	}
	if j.ChildStates != nil {
		what = counted(j)
	}
	if !b.a.terminal() {
		b.line(j, what)
		return
	}
	if b.bar == nil {
		b.bar = progressbar.NewOptions64(max(1, j.Total), progressbar.OptionSetWriter(b.a.errOut),
			progressbar.OptionShowBytes(true), progressbar.OptionUseIECUnits(true),
			progressbar.OptionSetWidth(24), progressbar.OptionSetPredictTime(true),
			progressbar.OptionShowTotalBytes(true),
			progressbar.OptionFullWidth(), progressbar.OptionThrottle(50*time.Millisecond),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "━", SaucerHead: "━", SaucerPadding: "·",
				BarStart: " ",
				BarEnd:   " "}))
	}
	b.bar.ChangeMax64(max(1, j.Total))
	if what != b.what {
		b.what = what
		b.bar.Describe(shorten(what, 48))
	}
	_ = b.bar.Set64(min(j.Done, max(1, j.Total)))
}

func shorten(s string, most int) string {
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	return string(r[:most-1]) + "…"
}

func (b *bar) line(j openapi.Job, what string) {
	percent := int64(0)
	if j.Total > 0 {
		percent = 100 * j.Done / j.Total
	}
	if what == b.what && (percent == b.percent || time.Since(b.spoke) < b.pause) {
		return
	}
	b.what, b.percent, b.spoke = what, percent, time.Now()
	b.pause = min(30*time.Second, max(2*time.Second, b.pause*3/2)) // what takes long is told of less often
	text := what
	if j.State == openapi.JobStateWorking && j.Total > 0 {
		text += fmt.Sprintf("  %d %%, %s of %s", percent, size(j.Done), size(j.Total))
		if j.BytesPerSecond > 0 {
			text += fmt.Sprintf(", %s/s", size(j.BytesPerSecond))
		}
		if j.SecondsLeft != nil && *j.SecondsLeft > 0 {
			text += fmt.Sprintf(", %s left", time.Duration(*j.SecondsLeft)*time.Second)
		}
	}
	fmt.Fprintln(b.a.errOut, text)
}

func (b *bar) note(format string, args ...any) {
	if b.silent() {
		return
	}
	if b.bar != nil {
		_ = b.bar.Clear()
	}
	fmt.Fprintf(b.a.errOut, format+"\n", args...)
}

func (b *bar) end() {
	if b.bar != nil {
		_ = b.bar.Finish()
		fmt.Fprintln(b.a.errOut)
		b.bar = nil
	}
}

// meter shows how far work goes that is done here, once it takes a while.
type meter struct {
	*bar
	what        string
	done, total int64
	began       time.Time
}

// Before that much time has passed nothing is shown: on a terminal, and elsewhere.
const (
	meterAfter      = 700 * time.Millisecond
	meterAfterLines = 3 * time.Second
)

func (a *app) newMeter(what string, total int64) *meter {
	return &meter{bar: a.newBar(), what: what, total: total, began: time.Now()}
}

func (m *meter) add(n int64) { m.set(m.what, m.done+n, m.total) }

func (m *meter) set(what string, done, total int64) {
	if what != m.what { // another stage
		m.bar.end()
		m.began, m.done = time.Now(), 0
	}
	m.what, m.done, m.total = what, done, total
	passed := time.Since(m.began)
	if passed < meterAfter || passed < meterAfterLines && !m.a.terminal() {
		return
	}
	rate := int64(float64(done) / passed.Seconds())
	j := openapi.Job{State: openapi.JobStateWorking, Done: done, Total: total, BytesPerSecond: rate,
		Steps: []openapi.JobStep{{What: what, State: "working"}}}
	if rate > 0 && total > done {
		left := (total - done) / rate
		j.SecondsLeft = &left
	}
	m.bar.show(j)
}

func (a *app) jobsCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "jobs [ID]", Short: "List jobs; with an id, watch one",
		Example: "  unvora jobs\n  unvora jobs 0199f3c2 --plan\n  unvora jobs cancel 0199f3c2",
		Args:    cobra.MaximumNArgs(1),
	}
	planOnly := cmd.Flags().Bool("plan", false, "with an id: its plan, with findings and answers, as it was")
	limit := cmd.Flags().Int("limit", 20, "how many to list")
	state := cmd.Flags().String("state", "",
		"only those that are waiting, working, held, done, partly, failed or cancelled")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		switch {
		case *planOnly && len(args) == 0:
			return usage("--plan goes with a job: unvora jobs ID --plan")
		case *planOnly:
			res, err := c.GetJobPlan(cmd.Context(), args[0])
			p, err := call[openapi.Plan](c, res, err)
			if err != nil {
				return err
			}
			return a.print(p, func() { a.showPlan(p) })
		case len(args) == 1:
			res, err := c.GetJob(cmd.Context(), args[0])
			j, err := call[openapi.Job](c, res, err)
			if err != nil {
				return err
			}
			if a.output == "table" && !over(j) && a.terminal() {
				_, err := a.follow(cmd.Context(), c, &j, nil)
				return err
			}
			list := []openapi.Job{}
			if j.ChildStates != nil && a.output == "table" {
				if list, err = a.children(cmd.Context(), c, &j); err != nil {
					return err
				}
			}
			return a.print(j, func() { a.showJob(j, list) })
		}
		jobs, err := newest[openapi.Job](c, *limit, func(limit int, after *string) (*http.Response, error) {
			return c.ListJobs(cmd.Context(), &openapi.ListJobsParams{Limit: &limit, After: after,
				State: optional(*state)})
		})
		if err != nil {
			return err
		}
		return a.print(jobs, func() {
			if len(jobs) == 0 {
				fmt.Fprintln(a.out, "No jobs.")
				return
			}
			t := a.table("job", "operation", "subject", "state", "done", "of", "by", "began")
			for _, j := range jobs {
				t.AppendRow([]any{j.Id, j.Operation, subjectOf(j), a.state(string(j.State)), size(j.Done),
					size(j.Total), j.User, ago(j.CreatedAt)})
			}
			t.Render()
		})
	}
	for _, v := range []struct {
		name, short, says string
		call              func(*caller, context.Context, string) (*http.Response, error)
	}{
		{"cancel", "Stop a job and undo what it did", "The job %s is being undone.\n",
			func(c *caller, ctx context.Context, id string) (*http.Response, error) { return c.CancelJob(ctx, id) }},
		{"hold", "Stop a job where it is, to go on later", "The job %s is held; unvora jobs " +
			"resume %[1]s lets it go on.\n",
			func(c *caller, ctx context.Context, id string) (*http.Response, error) { return c.HoldJob(ctx, id) }},
	} {
		cmd.AddCommand(&cobra.Command{
			Use: v.name + " ID", Short: v.short, Example: fmt.Sprintf("  unvora jobs %s 0199f3c2\n  unvora jobs %[1]s "+
				"0199f3c2 -o json", v.name), Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				c, err := a.client()
				if err != nil {
					return err
				}
				res, err := v.call(c, cmd.Context(), args[0])
				j, err := call[openapi.Job](c, res, err)
				if err != nil {
					return err
				}
				return a.print(j, func() { fmt.Fprintf(a.out, v.says, j.Id) })
			},
		})
	}
	cmd.AddCommand(a.resumeCmd(), a.limitsCmd(), a.rateCmd())
	return cmd
}

func (a *app) rateCmd() *cobra.Command {
	return &cobra.Command{
		Use: "rate ID RATE", Short: "How fast the transfers of a job may be, also while they run",
		Args:    cobra.ExactArgs(2),
		Example: "  unvora jobs rate 0199f3c2 20MiB\n  unvora jobs rate 0199f3c2 off",
		RunE: func(cmd *cobra.Command, args []string) error {
			b := openapi.SetRateJSONRequestBody{}
			var err error
			if args[1] != "off" {
				if b.BytesPerSecond, err = rateOf(args[1]); err != nil {
					return usage("the rate %q: a size, 20MiB say, or off", args[1])
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.SetRate(cmd.Context(), args[0], b)
			j, err := call[openapi.Job](c, res, err)
			if err != nil {
				return err
			}
			return a.print(j, func() {
				if b.BytesPerSecond == 0 {
					fmt.Fprintf(a.out, "The job %s goes as fast as it can.\n", j.Id)
					return
				}
				fmt.Fprintf(a.out, "Each transfer of the job %s reads at most %s a second.\n", j.Id,
					size(b.BytesPerSecond))
			})
		},
	}
}

func (a *app) limitsCmd() *cobra.Command {
	var l openapi.Limits
	cmd := &cobra.Command{Use: "limits", Short: "How many transfers of whole disks run at once; change that",
		Args:    cobra.NoArgs,
		Example: "  unvora jobs limits\n  unvora jobs limits --per-host 4 --per-link 1"}
	cmd.Flags().IntVar(&l.PerHost, "per-host", 0, "that a host reads or writes")
	cmd.Flags().IntVar(&l.PerLink, "per-link", 0, "between two hosts")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.GetLimits(cmd.Context())
		now, err := call[openapi.Limits](c, res, err)
		if err != nil {
			return err
		}
		if f := cmd.Flags(); f.Changed("per-host") || f.Changed("per-link") {
			if !f.Changed("per-host") {
				l.PerHost = now.PerHost
			}
			if !f.Changed("per-link") {
				l.PerLink = now.PerLink
			}
			res, err := c.SetLimits(cmd.Context(), l)
			if now, err = call[openapi.Limits](c, res, err); err != nil {
				return err
			}
		}
		return a.print(now, func() {
			fmt.Fprintf(a.out, "At most %s at a time at one host, %d between two hosts.\n",
				count(now.PerHost, "transfer"), now.PerLink)
		})
	}
	return cmd
}

func (a *app) resumeCmd() *cobra.Command {
	onlyFailed := false
	cmd := &cobra.Command{
		Use: "resume ID [FILE]", Short: "Let a job that is held go on, or serve one that waits for this computer",
		Args: cobra.RangeArgs(1, 2),
		Long: "Let a job that is held go on. One that waits for this computer, because the command that\n" +
			"started it has ended, is served by this one from now on, with the same FILE.\n\n" +
			"With --failed a job over several machines goes on with those that failed, or were\n" +
			"cancelled: each is worked out once more, as it was asked for.",
		Example: "  unvora jobs resume 0199f3c2\n  unvora jobs resume 0199f3c2 --failed\n" +
			"  unvora jobs resume 0199f3c2 ./wave-model.ova",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.GetJob(cmd.Context(), args[0])
			j, err := call[openapi.Job](c, res, err)
			if err != nil {
				return err
			}
			if onlyFailed {
				res, err := c.ResumeJob(cmd.Context(), args[0], &openapi.ResumeJobParams{Failed: &onlyFailed})
				if j, err = call[openapi.Job](c, res, err); err != nil {
					return err
				}
				ended, err := a.follow(cmd.Context(), c, &j, nil)
				if ended == nil {
					return err
				}
				return a.each(cmd.Context(), c, ended, err, "done")
			}
			if j.State != openapi.JobStateWorking {
				res, err := c.ResumeJob(cmd.Context(), args[0], nil)
				if j, err = call[openapi.Job](c, res, err); err != nil {
					return err
				}
			}
			res, err = c.GetTransfer(cmd.Context(), j.Id, &openapi.GetTransferParams{Wait: ptr(5)})
			t, err := call[openapi.Transfer](c, res, err)
			if err != nil {
				return err
			}
			transfer, clear, err := a.serveAgain(c, j.Id, t, args[1:])
			if err != nil {
				return err
			}
			defer clear()
			if transfer == nil {
				return a.print(j, func() { fmt.Fprintf(a.out, "The job %s goes on.\n", j.Id) })
			}
			done, err := a.follow(cmd.Context(), c, &j, transfer)
			if err != nil {
				return err
			}
			return a.print(done, func() { fmt.Fprintf(a.out, "The job %s is done.\n", done.Id) })
		},
	}
	cmd.Flags().BoolVar(&onlyFailed, "failed", false, "go on with those of its machines that failed or were cancelled")
	return cmd
}

// serveAgain is what gives a job the bytes that it waits for, or takes them; nil where
// it waits for none. Only what the job was started with will do.
func (a *app) serveAgain(c *caller, job string, t openapi.Transfer,
	files []string) (transfer func(context.Context) error, clear func(), err error) {
	clear = func() {}
	switch {
	case t.Need != nil && len(files) == 0:
		return nil, clear, usage("the job %s waits for its package: unvora jobs resume %[1]s FILE", job)
	case t.Need != nil:
		o, err := ovf.OpenPath(files[0])
		if err != nil {
			return nil, clear, failed(err)
		}
		clear = func() { _ = o.Close() }
		if t.Package == nil || fmt.Sprintf("%x", sha256.Sum256([]byte(o.Descriptor))) != *t.Package {
			clear()
			return nil, func() {}, &exit{statusBlocked, fmt.Errorf("%s is not the package that the job %s was "+
				"started with",
				files[0], job)}
		}
		return func(ctx context.Context) error { return a.givePackage(ctx, c, job, o) }, clear, nil
	case t.Give == nil && len(files) > 0:
		return nil, clear, usage("the job %s waits for no file now", job)
	case t.Give == nil:
		return nil, clear, nil
	case len(files) == 0:
		return nil, clear, usage("the job %s waits for somebody to take its package: on the computer of %s, unvora "+
			"jobs "+
			"resume %[1]s FILE", job, t.Give.Place)
	}
	file, err := filepath.Abs(files[0])
	if err != nil {
		return nil, clear, err
	}
	if strings.HasSuffix(t.Give.Place, signed) {
		return nil, clear, &exit{statusBlocked, fmt.Errorf("the job %s writes a package that is to be signed, and the "+
			"key is not at hand any more: cancel it (unvora jobs cancel %[1]s), and export anew", job)}
	}
	here, err := os.Hostname()
	place, folder := strings.CutSuffix(t.Give.Place, "/")
	if err != nil || here+":"+file != place {
		return nil, clear, &exit{statusBlocked, fmt.Errorf("the job %s writes to %s, not to %s: go on there, or "+
			"cancel it "+
			"and export anew", job, t.Give.Place, files[0])}
	}
	if _, err := os.Lstat(file); err == nil {
		return nil, clear, &exit{statusBlocked, fmt.Errorf("%s exists already; nothing is written over. Remove it, or "+
			"cancel the job and export anew", file)}
	}
	to := &local{path: file, folder: folder}
	return func(ctx context.Context) error { return a.takePackage(ctx, c, job, to) }, clear, nil
}

func (a *app) showJob(j openapi.Job, children []openapi.Job) {
	fmt.Fprintf(a.out, "%s  %s %s  %s\n", j.Id, j.Operation, subjectOf(j), a.state(string(j.State)))
	if j.Parent != nil {
		fmt.Fprintf(a.out, "of a job over several machines: unvora jobs %s\n", *j.Parent)
	}
	fmt.Fprintf(a.out, "by %s, %s\n", j.User, ago(j.CreatedAt))
	if j.Error != nil {
		fmt.Fprintln(a.out, a.paint(red, j.Error.Message))
	}
	if j.RetryAt != nil {
		fmt.Fprintf(a.out, "It is tried again at %s; now: unvora jobs resume %s\n",
			j.RetryAt.Local().Format(time.TimeOnly),
			j.Id)
	}
	if j.DownSeconds != nil {
		fmt.Fprintf(a.out, "Its machine stood for %s.\n", seconds(*j.DownSeconds))
	}
	if j.Rate != nil && *j.Rate > 0 && !over(j) {
		fmt.Fprintf(a.out, "Its transfers read at most %s a second: unvora jobs rate %s off\n", size(*j.Rate), j.Id)
	}
	if j.StartAt != nil && j.State == openapi.JobStateWaiting {
		fmt.Fprintf(a.out, "It begins at %s.\n", j.StartAt.Local().Format("2006-01-02 15:04"))
	}
	if j.WaitsFor != nil && *j.WaitsFor != "" {
		fmt.Fprintf(a.out, "It waits: %s.\n", *j.WaitsFor)
	}
	fmt.Fprintln(a.out)
	if j.ChildStates != nil {
		a.showChildren(children, true)
		return
	}
	t := a.table("step", "state", "done", "of", "took", "what")
	for _, s := range j.Steps {
		took := "-"
		if s.StartedAt != nil && s.FinishedAt != nil {
			took = seconds(s.FinishedAt.Sub(*s.StartedAt).Seconds())
		}
		t.AppendRow([]any{s.Id, a.state(s.State), size(s.Done), size(s.Bytes), took, s.What})
	}
	t.Render()
}

// seconds are written with as many digits as say something.
func seconds(n float64) string {
	d := time.Duration(n * float64(time.Second))
	switch {
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	case d < time.Minute:
		return d.Round(time.Second / 10).String()
	}
	return d.Round(time.Second).String()
}
