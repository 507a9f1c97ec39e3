package work

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"
	"golang.org/x/sync/errgroup"

	"unvora.example/unvora/internal/inventory"
)

// lookouts puts what comes round by itself into the queue.
func (w *Work) lookouts(workers *river.Workers) []*river.PeriodicJob {
	river.AddWorker(workers, &lookout{w: w})
	river.AddWorker(workers, &resharing{w: w})
	river.AddWorker(workers, &pruning{w: w})
	return []*river.PeriodicJob{onceIn(surveyEvery, lookoutArgs{}), onceIn(reshareEvery, resharingArgs{}),
		onceIn(pruneEvery, pruningArgs{})}
}

// onceIn is a job that one of all services does once in a while, however often they are started.
func onceIn(d time.Duration, args river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(d), func() (river.JobArgs, *river.InsertOpts) {
		return args, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByPeriod: d}}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}

// resharingArgs is the finding anew of what machines share.
type resharingArgs struct{}

func (resharingArgs) Kind() string { return "reshare" }

type resharing struct {
	river.WorkerDefaults[resharingArgs]
	w *Work
}

func (*resharing) Timeout(*river.Job[resharingArgs]) time.Duration { return 10 * time.Minute }

func (r *resharing) Work(ctx context.Context, _ *river.Job[resharingArgs]) error {
	return r.w.inv.KeepShared(ctx)
}

// pruningArgs is the dropping of what has been over for long. It holds nothing else up, and goes on the next time with
// what it has not come to.
type pruningArgs struct{}

func (pruningArgs) Kind() string { return "prune" }

type pruning struct {
	river.WorkerDefaults[pruningArgs]
	w *Work
}

func (*pruning) Timeout(*river.Job[pruningArgs]) time.Duration { return pruneEvery / 2 }

func (p *pruning) Work(ctx context.Context, _ *river.Job[pruningArgs]) error {
	inv, keep := p.w.inv, p.w.Terms
	return errors.Join(inv.PruneJobs(ctx, keep.Jobs), inv.PruneHistory(ctx, keep.History))
}

// lookoutArgs is the survey of all managers, and the dropping of what is old.
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
	r := newRound(l.w, false)
	return errors.Join(r.managers(ctx), r.all.Wait())
}

// Surveyed is what became of one host's survey.
type Surveyed struct {
	Host    string             `json:"host"`
	Changes []inventory.Change `json:"changes"`
	Error   string             `json:"error"`
}

const surveysAtOnce = 64

func newRound(w *Work, named bool) *round {
	r := &round{w: w, named: named, out: []Surveyed{}}
	r.all.SetLimit(surveysAtOnce)
	return r
}

// SurveyAll surveys the hosts and managers named, or all. Those that don't answer are told, and are no error. What has
// been noticed since the last time that somebody asked is told, whoever noticed it.
func (w *Work) SurveyAll(ctx context.Context, names []string) ([]Surveyed, error) {
	r := newRound(w, names != nil)
	var err error
	if r.named {
		err = r.each(ctx, names)
	} else {
		err = errors.Join(r.managers(ctx), w.inv.AllHosts(ctx, func(h inventory.Host) error { return r.host(ctx, h) }))
	}
	err = errors.Join(err, r.all.Wait())
	if len(r.still) > 0 {
		err = errors.Join(err, w.inv.StillThere(ctx, r.still))
	}
	if err != nil {
		return r.out, err
	}
	asked := r.asked
	if !r.named {
		asked = nil // all
	}
	changes, err := w.inv.Tell(ctx, asked)
	for _, c := range changes {
		at := slices.IndexFunc(r.out, func(s Surveyed) bool { return s.Host == c.Host })
		if at < 0 {
			at = len(r.out)
			r.out = append(r.out, Surveyed{Host: c.Host})
		}
		r.out[at].Changes = append(r.out[at].Changes, c)
	}
	return r.out, err
}

// round is one survey of many hosts, side by side.
type round struct {
	w     *Work
	named bool // else all hosts, of which only those are told that have something to tell
	all   errgroup.Group

	mu    sync.Mutex
	out   []Surveyed
	still []uuid.UUID // nothing has changed there
	asked []uuid.UUID
}

// told adds what became of a survey.
func (r *round) told(s Surveyed, hosts ...uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.asked = append(r.asked, hosts...)
	if r.named || s.Error != "" { // of fifty thousand hosts, those with something to tell
		s.Changes = []inventory.Change{} // told with all the others
		r.out = append(r.out, s)
	}
}

// host begins the survey of one host, once there is a place for it.
func (r *round) host(ctx context.Context, h inventory.Host) error {
	if says := h.LongSilent(); says != "" && !r.named {
		r.told(Surveyed{Host: h.Name, Error: says + " To try it now: unvora survey " + h.Name}, h.ID)
		return ctx.Err()
	}
	r.all.Go(func() error {
		s := Surveyed{Host: h.Name}
		changed, _, err := r.w.survey(ctx, &h)
		if err != nil {
			s.Error = err.Error()
		} else if !changed {
			r.mu.Lock()
			r.still = append(r.still, h.ID)
			r.mu.Unlock()
		}
		r.told(s, h.ID)
		return nil
	})
	return ctx.Err()
}

// each surveys the hosts and managers named.
func (r *round) each(ctx context.Context, names []string) error {
	for _, n := range names {
		if m, err := r.w.inv.Manager(ctx, n); err == nil {
			if err := r.manager(ctx, m); err != nil {
				return err
			}
			continue
		}
		h, err := r.w.inv.Host(ctx, n)
		if err != nil {
			return err
		}
		if err := r.host(ctx, *h); err != nil {
			return err
		}
	}
	return nil
}

// managers begins the surveys of all managers.
func (r *round) managers(ctx context.Context) error {
	list, err := r.w.inv.Managers(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		r.all.Go(func() error { return r.manager(ctx, &list[i]) })
	}
	return nil
}

// managerPatience is how long a manager may take to tell what it has.
const managerPatience = 20 * time.Second

// manager surveys one manager, which has hosts of its own.
func (r *round) manager(ctx context.Context, m *inventory.Manager) error {
	one, cancel := context.WithTimeout(ctx, managerPatience)
	defer cancel()
	s := Surveyed{Host: m.Name}
	if _, err := r.w.places.Survey(one, m); err != nil {
		s.Error = err.Error()
	}
	hosts, err := r.w.inv.ManagedHosts(ctx, m)
	ids := make([]uuid.UUID, len(hosts))
	for i, h := range hosts {
		ids[i] = h.ID
	}
	r.told(s, ids...)
	return err
}
