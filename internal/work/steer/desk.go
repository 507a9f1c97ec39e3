package steer

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"
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

// signal tells those who wait for something, the end of a transfer say, that it has happened.
type signal struct {
	mu   sync.Mutex
	next chan struct{}
}

// roomAgain is when room is looked for anyhow: a transfer may have ended at another service.
const roomAgain = 5 * time.Second

// heard is the next time that a signal is given.
type heard <-chan struct{}

// listen hears the next one from now on.
func (f *signal) listen() heard {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.next == nil {
		f.next = make(chan struct{})
	}
	return f.next
}

// within waits for it, or for a time.
func (h heard) within(most time.Duration) wait {
	return func(ctx context.Context) {
		timer := time.NewTimer(most)
		defer timer.Stop()
		select {
		case <-h:
		case <-timer.C:
		case <-ctx.Done():
		}
	}
}

func (f *signal) tell() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.next != nil {
		close(f.next)
		f.next = nil
	}
}

// looks are the hosts that are surveyed behind the ends of jobs.
type looks struct {
	mu   sync.Mutex
	more map[uuid.UUID]bool // there for one that is surveyed now; true: and once more
}

// begin tells whether a host is to be surveyed now; else whoever does so already does it once more.
func (l *looks) begin(host uuid.UUID) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.more == nil {
		l.more = map[uuid.UUID]bool{}
	}
	_, under := l.more[host]
	l.more[host] = under
	return !under
}

// again tells whether a host is to be surveyed once more.
func (l *looks) again(host uuid.UUID) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.more[host] {
		delete(l.more, host)
		return false
	}
	l.more[host] = false
	return true
}
