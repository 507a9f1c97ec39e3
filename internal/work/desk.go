package work

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/internal/inventory"
)

// A job at work is owned by one service. It is moved on by ticks, which are
// short jobs of the queue; between two ticks somebody waits for what the job
// needs. That a service lives is said by itself, apart from ticks: a long one is
// no death, and a dead service is known after a few seconds.

const (
	beatEvery  = time.Second
	beatTime   = 2 * time.Second // that one beat may take
	silence    = 3 * time.Second // of a service, after which its jobs are taken up
	watchEvery = time.Second
	mostJobs   = 128              // that one service steers at once; the others wait in the queue
	tickLost   = 15 * time.Second // after which a queued tick that never came is queued anew
)

// wait returns when a job's next tick is worth while, or ctx ends. Nil: it has none.
type wait func(ctx context.Context)

func sleep(d time.Duration) wait {
	return func(ctx context.Context) {
		timer := time.NewTimer(d)
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
		}
	}
}

// desk knows what this service does for each job that it steers.
type desk struct {
	mu   sync.Mutex
	jobs map[uuid.UUID]*folder
}

type folder struct {
	ticking  bool
	expected time.Time // by when there must have been a sign of it
	failures int       // in a row
	since    time.Time // the first of them
}

func newDesk() *desk { return &desk{jobs: map[uuid.UUID]*folder{}} }

func (d *desk) of(id uuid.UUID) *folder {
	f := d.jobs[id]
	if f == nil {
		f = &folder{}
		d.jobs[id] = f
	}
	return f
}

// begin tells whether a tick may begin: one at a time.
func (d *desk) begin(id uuid.UUID) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.of(id)
	if f.ticking {
		return false
	}
	f.ticking, f.expected = true, time.Now().Add(tickLimit+tickLost)
	return true
}

// leave ends a tick; a sign of the job is expected until a time.
func (d *desk) leave(id uuid.UUID, expected time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.of(id)
	f.ticking, f.expected = false, expected
}

// end forgets a job.
func (d *desk) end(id uuid.UUID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.jobs, id)
}

// failed counts an error that may pass, and tells how long to rest, and how long
// there has been nothing else.
func (d *desk) failed(id uuid.UUID) (pause, since time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.of(id)
	if f.failures++; f.failures == 1 {
		f.since = time.Now()
	}
	return min(tickPause<<min(f.failures-1, 10), mostTickPause), time.Since(f.since)
}

func (d *desk) moved(id uuid.UUID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.of(id).failures = 0
}

// lost tells whether there should have been a sign of the job by now.
func (d *desk) lost(id uuid.UUID) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.jobs[id]
	return f == nil || time.Now().After(f.expected)
}

// queued is called in the transaction that queues a job's tick.
func (w *Work) queued(ctx context.Context, tx pgx.Tx, g inventory.Given) error {
	w.desk.leave(g.ID, time.Now().Add(tickLost))
	_, err := w.river.InsertTx(ctx, tx, steerArgs{g.ID.String(), g.Epoch}, nil)
	return err
}

// later queues a job's next tick when its wait is over.
func (w *Work) later(id uuid.UUID, epoch int64, until wait) {
	if until == nil {
		return
	}
	w.desk.leave(id, time.Now().Add(mostTickPause+tickLost))
	w.background(func(ctx context.Context) {
		until(ctx)
		if ctx.Err() != nil {
			return
		}
		ctx, stop := context.WithTimeout(ctx, tickLimit)
		defer stop()
		if _, err := w.river.Insert(ctx, steerArgs{id.String(), epoch}, nil); err != nil {
			w.log.Warn("queue job", "job", id, "error", err)
		}
		w.desk.leave(id, time.Now().Add(tickLost)) // queued, or found by the watch
	})
}

// background runs f until the service ends, which waits for it.
func (w *Work) background(f func(ctx context.Context)) {
	w.behind.Go(func() { f(w.life) })
}

// beat says that this service lives, until ctx ends.
func (w *Work) beat(ctx context.Context) {
	b := w.inv.NewBeater(w.id)
	every := time.NewTicker(beatEvery)
	defer every.Stop()
	for {
		one, stop := context.WithTimeout(ctx, beatTime)
		if err := b.Beat(one); err != nil && ctx.Err() == nil {
			w.log.Warn("say that this service lives", "error", err)
		}
		stop()
		select {
		case <-every.C:
		case <-ctx.Done():
			end, stop := context.WithTimeout(context.WithoutCancel(ctx), beatTime)
			defer stop()
			b.End(end)
			return
		}
	}
}

// watchJobs takes up the jobs of services that died, lets held ones try again,
// gives out what waits, and queues ticks that got lost, until ctx ends.
func (w *Work) watchJobs(ctx context.Context) {
	every := time.NewTicker(watchEvery)
	defer every.Stop()
	for {
		if err := w.lookForJobs(ctx); err != nil && ctx.Err() == nil {
			w.log.Warn("look for jobs without an owner", "error", err)
		}
		select {
		case <-every.C:
		case <-w.came:
		case <-ctx.Done():
			return
		}
	}
}

func (w *Work) lookForJobs(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, tickLimit)
	defer stop()
	orphans, err := w.inv.Queue(ctx, silence)
	if err != nil {
		return err
	}
	if orphans > 0 {
		w.log.Info("jobs of a service that died are taken up", "jobs", orphans)
	}
	if err := w.admit(ctx); err != nil {
		return err
	}
	mine, err := w.inv.Steered(ctx, w.id)
	if err != nil {
		return err
	}
	for _, g := range mine {
		if w.desk.lost(g.ID) {
			if err := w.inv.InTx(ctx, func(tx pgx.Tx) error { return w.queued(ctx, tx, g) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// admit takes waiting jobs to be steered here.
func (w *Work) admit(ctx context.Context) error {
	w.admitting.Lock()
	defer w.admitting.Unlock()
	return w.inv.Admit(ctx, w.id, mostJobs, func(tx pgx.Tx, g inventory.Given) error { return w.queued(ctx, tx, g) })
}

// tell lets the jobs that wait be looked at now.
func (w *Work) tell() {
	select {
	case w.came <- struct{}{}:
	default:
	}
}
