package work

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unvora.example/unvora/internal/inventory"
)

// lookoutArgs is the survey of all hosts that comes round by itself.
type lookoutArgs struct{}

func (lookoutArgs) Kind() string { return "lookout" }

type lookout struct {
	river.WorkerDefaults[lookoutArgs]
	w *Work
}

func (*lookout) Timeout(*river.Job[lookoutArgs]) time.Duration { return 10 * time.Minute }

func (l *lookout) Work(ctx context.Context, _ *river.Job[lookoutArgs]) error {
	if err := l.w.inv.PruneEvents(ctx, keepEvents); err != nil {
		return err
	}
	_, err := l.w.SurveyAll(ctx, nil, false)
	return err
}

// Surveyed is what became of one host's survey.
type Surveyed struct {
	Host    string             `json:"host"`
	Changes []inventory.Change `json:"changes"`
	Error   string             `json:"error"`
}

const surveysAtOnce = 32

// SurveyAll surveys the hosts named, or all. Hosts that don't answer are told,
// and are no error. tell is for somebody who asks: what has been noticed since
// the last time that somebody did is told, whoever noticed it.
func (w *Work) SurveyAll(ctx context.Context, names []string, tell bool) ([]Surveyed, error) {
	out := []Surveyed{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	var still, asked []uuid.UUID // still: nothing has changed there
	slots := make(chan struct{}, surveysAtOnce)
	look := func(h inventory.Host) error {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			s := Surveyed{Host: h.Name}
			changed, _, err := w.survey(ctx, &h)
			if err != nil {
				s.Error = err.Error()
			} else if !changed {
				mu.Lock()
				still = append(still, h.ID)
				mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			asked = append(asked, h.ID)
			if names == nil && s.Error == "" {
				return // of fifty thousand hosts, those with something to tell
			}
			s.Changes = []inventory.Change{}
			out = append(out, s)
		})
		return ctx.Err()
	}
	var err error
	var managers []Surveyed
	var managersErr error
	if names == nil {
		wg.Go(func() { managers, managersErr = w.surveyManagers(ctx) })
		err = w.inv.AllHosts(ctx, look)
	}
	for _, n := range names {
		if m, e := w.inv.Manager(ctx, n); e == nil {
			s := w.surveyOne(ctx, m)
			s.Changes = []inventory.Change{} // told below, with all the others
			managers = append(managers, s)
			hosts, e := w.inv.ManagedHosts(ctx, m)
			if err = e; err != nil {
				break
			}
			mu.Lock()
			for _, h := range hosts {
				asked = append(asked, h.ID)
			}
			mu.Unlock()
			continue
		}
		var h *inventory.Host
		if h, err = w.inv.Host(ctx, n); err != nil {
			break
		}
		if err = look(*h); err != nil {
			break
		}
	}
	wg.Wait()
	err = errors.Join(err, managersErr)
	for _, s := range managers {
		if s.Error != "" || names != nil {
			out = append(out, s)
		}
	}
	if len(still) > 0 {
		err = errors.Join(err, w.inv.StillThere(ctx, still))
	}
	if !tell || err != nil {
		return out, err
	}
	if names == nil {
		asked = nil // all
	}
	changes, err := w.inv.Tell(ctx, asked)
	for _, c := range changes {
		at := slices.IndexFunc(out, func(s Surveyed) bool { return s.Host == c.Host })
		if at < 0 {
			at = len(out)
			out = append(out, Surveyed{Host: c.Host})
		}
		out[at].Changes = append(out[at].Changes, c)
	}
	return out, err
}
