package cli

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf"
)

func init() {
	register(groupLook, (*app).jobsCmd)
}

func (a *app) jobsCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "jobs [ID]", Short: "List jobs; with an id, watch one",
		Example: "  unvora jobs\n  unvora jobs 0199f3c2 --plan\n  unvora jobs cancel 0199f3c2",
		Args:    cobra.MaximumNArgs(1),
	}
	planOnly := cmd.Flags().Bool("plan", false, "with an id: its plan, with findings and answers, as it was")
	limit := 20
	cmd.Flags().Var(atLeast{&limit, 1}, "limit", "how many to list")
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
		jobs, err := newest[openapi.Job](c, limit, func(limit int, after *string) (*http.Response, error) {
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
			t := a.table("job", "what", "state", "done", "of", "by", "began").dropping("by", "done", "of", "began")
			for _, j := range jobs {
				done, of := "–", "–" // it moves nothing
				if j.Total > 0 {
					done, of = size(j.Done), size(j.Total)
				}
				t.AppendRow([]any{j.Id, j.Title, a.state(string(j.State)), done, of, j.User, ago(j.CreatedAt)})
			}
			t.Render()
		})
	}
	for _, v := range []struct {
		name, short, says string
		each              string // of a job over several machines
		call              func(*caller, context.Context, string) (*http.Response, error)
	}{
		{"cancel", "Stop a job and undo what it did", "The job %s is being undone.\n",
			"What of the job %s is not over is being undone, as far as it can be taken back: unvora jobs %[1]s\n",
			func(c *caller, ctx context.Context, id string) (*http.Response, error) { return c.CancelJob(ctx, id) }},
		{"hold", "Stop a job where it is, to go on later", "The job %s is held; unvora jobs " +
			"resume %[1]s lets it go on.\n",
			"What of the job %s is not over is held; unvora jobs resume %[1]s lets it go on.\n",
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
				says := v.says
				if j.ChildStates != nil {
					says = v.each
				}
				return a.print(j, func() { fmt.Fprintf(a.out, says, j.Id) })
			},
		})
	}
	cmd.AddCommand(a.resumeCmd(), a.againCmd(), a.limitsCmd(), a.rateCmd(),
		a.cutOverCmd())
	return cmd
}

func (a *app) cutOverCmd() *cobra.Command {
	at := ""
	cmd := &cobra.Command{
		Use: "cut-over ID", Short: "Have a move that was copied ahead cut over now, or at another time",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora jobs cut-over 0199f3c2\n  unvora jobs cut-over 0199f3c2 --at 22:00",
	}
	cmd.Flags().StringVar(&at, "at", "", "22:00, or 2026-12-01 22:00; as soon as it can unless said")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		b := openapi.CutOverJSONRequestBody{}
		if at != "" {
			when, err := startTime("--at", at, time.Now())
			if err != nil {
				return err
			}
			b.At = when
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.CutOver(cmd.Context(), args[0], b)
		j, err := call[openapi.Job](c, res, err)
		if err != nil {
			return err
		}
		return a.print(j, func() {
			when := "as soon as what is copied is there"
			if b.At != nil {
				when = "at " + b.At.Local().Format("2006-01-02 15:04")
			}
			fmt.Fprintf(a.out, "The job %s cuts over %s. Watch it: unvora jobs %[1]s\n", j.Id, when)
		})
	}
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
	pool, slower := 0, []string{}
	cmd := &cobra.Command{Use: "limits", Short: "How many transfers of whole disks run at once, and how fast",
		Args: cobra.NoArgs,
		Example: "  unvora jobs limits\n  unvora jobs limits --per-host 4 --per-link 1\n" +
			"  unvora jobs limits --hours 'mon-fri 08:00-18:00=20MiB'"}
	cmd.Flags().IntVar(&l.PerHost, "per-host", 0, "that a host reads or writes")
	cmd.Flags().IntVar(&l.PerLink, "per-link", 0, "between two hosts")
	cmd.Flags().IntVar(&pool, "per-pool", 0, "that read or write one pool; a share is one to all hosts that see it")
	cmd.Flags().StringArrayVar(&slower, "hours", nil, "times of the day at which each reads no more than this a "+
		"second, 'mon-fri 08:00-18:00=20MiB'; none for no such times")
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
		if f := cmd.Flags(); f.Changed("per-host") || f.Changed("per-link") || f.Changed("per-pool") ||
			f.Changed("hours") {
			if f.Changed("hours") {
				if l.Hours = &slower; len(slower) == 1 && slower[0] == "none" {
					l.Hours = &[]string{}
				}
			}
			if !f.Changed("per-host") {
				l.PerHost = now.PerHost
			}
			if !f.Changed("per-link") {
				l.PerLink = now.PerLink
			}
			if f.Changed("per-pool") {
				l.PerPool = &pool
			}
			res, err := c.SetLimits(cmd.Context(), l)
			if now, err = call[openapi.Limits](c, res, err); err != nil {
				return err
			}
		}
		return a.print(now, func() {
			pools := ""
			if now.PerPool != nil { // the service may be older
				pools = fmt.Sprintf(", %d of one pool", *now.PerPool)
			}
			fmt.Fprintf(a.out, "At most %s at a time at one host, %d between two hosts%s.\n",
				count(now.PerHost, "transfer"), now.PerLink, pools)
			if now.Hours != nil && len(*now.Hours) > 0 {
				fmt.Fprintf(a.out, "Each is slower at times of the day, by the service's clock: %s.\n",
					strings.Join(*now.Hours, "; "))
			}
		})
	}
	return cmd
}

func (a *app) againCmd() *cobra.Command {
	s := &settling{}
	cmd := &cobra.Command{
		Use: "again ID", Short: "Ask for the same once more: planned anew, with the answers that were given",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora jobs again 0199f3c2\n  unvora jobs again 0199f3c2 --plan",
	}
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.GetJobRequest(cmd.Context(), args[0])
		req, err := call[map[string]any](c, res, err)
		if err != nil {
			return err
		}
		return a.perform(cmd.Context(), req, s, "done")
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
	at, parts, sign := placed(t.Give.Place)
	if sign {
		return nil, clear, &exit{statusBlocked, fmt.Errorf("the job %s writes a package that is to be signed, and the "+
			"key is not at hand any more: cancel it (unvora jobs cancel %[1]s), and export anew", job)}
	}
	here, err := os.Hostname()
	place, folder := strings.CutSuffix(at, "/")
	if err != nil || here+":"+file != place {
		return nil, clear, &exit{statusBlocked, fmt.Errorf("the job %s writes to %s, not to %s: go on there, or "+
			"cancel it "+
			"and export anew", job, t.Give.Place, files[0])}
	}
	if _, err := os.Lstat(file); err == nil {
		return nil, clear, &exit{statusBlocked, fmt.Errorf("%s exists already; nothing is written over. Remove it, or "+
			"cancel the job and export anew", file)}
	}
	to := &local{path: file, folder: folder, parts: parts}
	return func(ctx context.Context) error { return a.takePackage(ctx, c, job, to) }, clear, nil
}

func (a *app) showJob(j openapi.Job, children []openapi.Job) {
	fmt.Fprintf(a.out, "%s  %s\njob %s\n", a.paint(bold, j.Title), a.state(string(j.State)), j.Id)
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
	t := a.table("step", "state", "done", "of", "took", "what").dropping("done", "of", "took")
	for _, s := range j.Steps {
		took := "-"
		if s.StartedAt != nil && s.FinishedAt != nil {
			took = seconds(s.FinishedAt.Sub(*s.StartedAt).Seconds())
		}
		t.AppendRow([]any{s.Id, a.state(s.State), size(s.Done), size(s.Bytes), took, s.What})
	}
	t.Render()
}
