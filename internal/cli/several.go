package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

// several holds the options of a verb that may be about several copies.
type several struct {
	where        string
	allOrNothing bool
}

func (m *several) flags(a *app, cmd *cobra.Command, example string) {
	cmd.Flags().StringVar(&m.where, "where", "", "the registered copies that a filter tells, such as '"+example+"'")
	cmd.RegisterFlagCompletionFunc("where", a.completeWhere())
	m.together(cmd)
}

func (m *several) together(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&m.allOrNothing, "all-or-nothing", false,
		"several in one job, undone when one of them fails; else each by itself")
}

// check refuses a call that names no copy.
func (m *several) check(args []string) error {
	if len(args) == 0 && m.where == "" {
		return usage("which: name copies, or say which they are: --where 'host=gannet'")
	}
	return nil
}

// startLayouts are the forms that a time to begin is given in; without a day it is the next such time.
var startLayouts = []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04", "15:04"}

// startTime reads when something is to begin, by this computer's clock; option is how it was asked for.
func startTime(option, text string, now time.Time) (*time.Time, error) {
	for _, layout := range startLayouts {
		t, err := time.ParseInLocation(layout, text, now.Location())
		if err != nil {
			continue
		}
		if layout == "15:04" {
			t = time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), 0, 0, now.Location())
			if t.Before(now) {
				t = t.AddDate(0, 0, 1)
			}
		}
		if t.Before(now) {
			return nil, usage("%s %q is over", option, text)
		}
		return &t, nil
	}
	return nil, usage("%s %q: want a time such as 22:00, or 2026-12-01 22:00", option, text)
}

// window reads a time that may have an end, 22:00-23:30; nil for what is not said.
func window(text string, now time.Time) (at, until *time.Time, err error) {
	if text == "" {
		return nil, nil, nil
	}
	begin := text
	var end time.Time
	if n := strings.LastIndexByte(text, '-'); n > 0 {
		if end, err = time.Parse("15:04", text[n+1:]); err == nil {
			begin = text[:n]
		}
	}
	if at, err = startTime("--cut-over", begin, now); err != nil || begin == text {
		return at, nil, err
	}
	is := time.Date(at.Year(), at.Month(), at.Day(), end.Hour(), end.Minute(), 0, 0, at.Location())
	if !is.After(*at) {
		is = is.AddDate(0, 0, 1)
	}
	return at, &is, nil
}

// children lists those of a job in the order in which they were made: what was tried again comes last.
func (a *app) children(ctx context.Context, c *caller, j *openapi.Job) ([]openapi.Job, error) {
	var list []openapi.Job
	var after *string
	for {
		page, err := patiently(ctx, func() (openapi.JobPage, error) {
			res, err := c.ListJobs(ctx, &openapi.ListJobsParams{Parent: &j.Id, Limit: ptr(mostChildren), After: after})
			return call[openapi.JobPage](c, res, err)
		})
		if err != nil {
			return nil, err
		}
		list = append(list, page.Items...)
		if after = page.Next; after == nil {
			slices.Reverse(list)
			return list, nil
		}
	}
}

const mostChildren = 500 // on a page

// showChildren tells how it went with each of several machines.
func (a *app) showChildren(list []openapi.Job, doing bool) {
	t := a.table("machine", "state", "job", "what")
	for _, j := range list {
		if given := j.GivenUp; given != nil && *given {
			continue
		}
		t.AppendRow([]any{j.Subject, a.state(string(j.State)), j.Id, whatOf(j, doing)})
	}
	t.Render()
}

// whatOf says what there is to say about a job: why it came to nothing, what it waits for, the step that it is at.
func whatOf(j openapi.Job, doing bool) string {
	switch {
	case j.Error != nil:
		return j.Error.Message
	case j.WaitsFor != nil && *j.WaitsFor != "":
		return *j.WaitsFor
	case j.DownSeconds != nil:
		return "it stood for " + seconds(*j.DownSeconds)
	case doing:
		for _, s := range j.Steps {
			if s.State == "working" {
				return s.What
			}
		}
	}
	return "-"
}

// counted says how far a job over several machines is.
func counted(j openapi.Job) string {
	states := *j.ChildStates
	sum := 0
	for _, n := range states {
		sum += n
	}
	words := []string{fmt.Sprintf("%d of %d done", states["done"], sum)}
	for _, state := range []string{"working", "waiting", "held", "failed", "cancelled"} {
		if states[state] > 0 {
			words = append(words, fmt.Sprintf("%d %s", states[state], state))
		}
	}
	return strings.Join(words, ", ")
}

// each tells how a job over several machines ended, and is the error that its end is, if it is one.
func (a *app) each(ctx context.Context, c *caller, j *openapi.Job, ended error, done string) error {
	list, err := a.children(context.WithoutCancel(ctx), c, j)
	if err != nil {
		return errors.Join(ended, err)
	}
	err = a.print(j, func() {
		if ended != nil {
			a.showChildren(list, false)
			return
		}
		for _, k := range list {
			if k.GivenUp != nil && *k.GivenUp {
				continue
			}
			stood := ""
			if k.DownSeconds != nil {
				stood = fmt.Sprintf(" It stood for %s.", seconds(*k.DownSeconds))
			}
			fmt.Fprintf(a.out, "%s: %s.%s\n", k.Subject, done, stood)
		}
	})
	return errors.Join(ended, err)
}
