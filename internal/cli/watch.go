package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/tmaxmax/go-sse"

	openapi "unvora.example/unvora/api"
)

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
	began   time.Time
	whole   bool // the job is done
}

// quietly is how long a job may wait before that is told.
const quietly = 2 * time.Second

func (a *app) newBar() *bar { return &bar{a: a, percent: -1, began: time.Now()} }

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
	if j.Total == 0 { // nothing that could be measured
		if what != b.what && time.Since(b.began) > quietly {
			fmt.Fprintln(b.a.errOut, what)
			b.what = what
		}
		return
	}
	b.whole = j.State == openapi.JobStateDone
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
	begins := what == "waiting" && (j.WaitsFor == nil || *j.WaitsFor == "")
	if begins && time.Since(b.began) < quietly || j.State == openapi.JobStateDone && b.what == "" {
		return // it is about to begin, or has ended before anything was told of it
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
			text += fmt.Sprintf(", %s left", seconds(float64(*j.SecondsLeft)))
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
		if b.whole {
			_ = b.bar.Finish()
		} else {
			_ = b.bar.Exit() // it stays where it came to
		}
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

// seconds are written with as many digits as say something.
func seconds(n float64) string {
	d := time.Duration(n * float64(time.Second))
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return strings.TrimSuffix(fmt.Sprintf("%.1f", d.Seconds()), ".0") + " s"
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}
