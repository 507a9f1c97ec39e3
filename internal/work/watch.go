package work

import (
	"container/heap"
	"context"
	"errors"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/semaphore"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

// How hosts are watched.
const (
	leaseTerm  = 10 * time.Second // after which others take the shares of a service that died
	leaseAgain = 3 * time.Second
	watchAgain = 2 * time.Second  // after which hosts that were added are watched too
	listAgain  = 30 * time.Second // after which all are listed again: some were dropped, or have another address

	watchWait = 20 * time.Second // that one call waits for something to change
	fullEvery = time.Minute      // each host is looked at in full: shares don't tell when something changes there
	noteEvery = time.Second      // that hosts have answered is written for many at once
	askMost   = 3 * time.Minute  // that a host is asked and what it tells is written: longer than it may take to tell
	writeMost = 10 * time.Second // that the database may take for anything else

	leastPause = 2 * time.Second // before a host that does not answer is tried again; more, the longer it is silent
	mostPause  = 5 * time.Minute

	mostHeld    = 2000 // hosts with which a connection is kept, over which they tell of themselves
	mostLooks   = 64   // hosts that are looked at, at once
	mostKnocked = 128  // silent ones that are tried, at once
)

// watcher lets the hosts of this service's shares tell by themselves when something has changed there, as many as it
// keeps connections with; the others it looks at in turn. Those that are silent it tries the more seldom the longer
// they are.
type watcher struct {
	inv   *inventory.Inventory
	hosts *reach.Hosts
	id    uuid.UUID // of this service
	log   *slog.Logger

	looks  *semaphore.Weighted
	turns  *turns // of those that answer, and that no connection is kept with
	silent *turns
	all    sync.WaitGroup

	mu    sync.Mutex
	known map[uuid.UUID]*watched
	held  int
	still map[uuid.UUID]bool // nothing has changed there
}

// watched is a host that is watched. Only one goroutine at a time has it.
type watched struct {
	inventory.Watched
	looked time.Time       // in full
	fell   time.Time       // silent: since then; else zero
	due    time.Time       // when its turn is
	gone   context.Context // ends when it is watched no more
	drop   context.CancelFunc
}

// watchHosts watches this service's part of all hosts until ctx ends, and writes what it notices over connections of
// its own.
func (w *Work) watchHosts(ctx context.Context, aside *inventory.Inventory) {
	x := &watcher{inv: aside, hosts: w.hosts.Over(aside), id: w.Steer.ID(), log: w.log,
		looks: semaphore.NewWeighted(mostLooks), turns: newTurns(), silent: newTurns(),
		known: map[uuid.UUID]*watched{}, still: map[uuid.UUID]bool{}}
	x.all.Go(func() { x.turns.serve(ctx, mostLooks, x.look) })
	x.all.Go(func() { x.silent.serve(ctx, mostKnocked, x.look) })
	x.all.Go(func() { every(ctx, noteEvery, x.note) })
	x.keepShares(ctx)
	x.all.Wait()
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	_ = x.inv.ReturnShares(end, x.id) // else others take them when the lease is over
}

// every calls f again and again until ctx ends, each time for as long as the database may take.
func every(ctx context.Context, d time.Duration, f func(bounded context.Context)) {
	t := time.NewTicker(d)
	defer t.Stop()
	for {
		bounded, stop := context.WithTimeout(ctx, writeMost)
		f(bounded)
		stop()
		select {
		case <-t.C:
		case <-ctx.Done():
			return
		}
	}
}

// keepShares keeps the lease of this service's shares, and watches what is in them.
func (x *watcher) keepShares(ctx context.Context) {
	var shares []int16
	var leased, listed, newest time.Time
	every(ctx, watchAgain, func(bounded context.Context) {
		if time.Since(leased) >= leaseAgain {
			now, err := x.inv.LeaseShares(bounded, x.id, leaseTerm)
			if err != nil {
				x.warn(ctx, "keep the lease of watched hosts", err)
				return
			}
			if leased = time.Now(); !slices.Equal(shares, now) {
				shares, listed = now, time.Time{}
			}
		}
		var err error
		if time.Since(listed) < listAgain {
			err = x.inv.EachWatched(bounded, shares, newest, func(h inventory.Watched) {
				x.add(ctx, h)
				newest = later(newest, h.AddedAt)
			})
		} else if newest, err = x.list(ctx, bounded, shares); err == nil {
			listed = time.Now()
		}
		x.warn(ctx, "list the hosts to watch", err)
	})
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (x *watcher) warn(ctx context.Context, what string, err error) {
	if err != nil && ctx.Err() == nil {
		x.log.Warn(what, "error", err)
	}
}

// list brings what is watched, until ctx ends, up to date with the hosts of the shares, which it reads while bounded
// lasts. It returns when the newest was added.
func (x *watcher) list(ctx, bounded context.Context, shares []int16) (newest time.Time, err error) {
	there := map[uuid.UUID]bool{}
	err = x.inv.EachWatched(bounded, shares, time.Time{}, func(h inventory.Watched) {
		there[h.ID] = true
		x.add(ctx, h)
		newest = later(newest, h.AddedAt)
	})
	if err != nil {
		return newest, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	maps.DeleteFunc(x.known, func(id uuid.UUID, h *watched) bool {
		if !there[id] {
			h.drop()
		}
		return !there[id]
	})
	return newest, nil
}

// add begins to watch a host, unless it is watched as it is.
func (x *watcher) add(ctx context.Context, h inventory.Watched) {
	x.mu.Lock()
	old := x.known[h.ID]
	if old != nil && old.Address == h.Address {
		x.mu.Unlock()
		return
	}
	if old != nil {
		old.drop()
	}
	n := &watched{Watched: h}
	n.gone, n.drop = context.WithCancel(ctx)
	x.known[h.ID] = n
	x.mu.Unlock()
	if h.State == plan.HostUnreachable { // it is tried soon, but not with all others at once
		n.fell = h.LastSeen
		x.silent.add(n, rand.N(min(pauseOf(n.fell), fullEvery)))
		return
	}
	x.place(n, true)
}

// pauseOf is how long one waits before a host is tried again that is silent since then.
func pauseOf(fell time.Time) time.Duration {
	return min(max(time.Since(fell)/4, leastPause), mostPause)
}

// place settles how a host is watched from now on.
func (x *watcher) place(h *watched, first bool) {
	if h.gone.Err() != nil {
		return
	}
	if !h.fell.IsZero() {
		x.silent.add(h, time.Duration((0.5+rand.Float64())*float64(pauseOf(h.fell))))
		return
	}
	x.mu.Lock()
	hold := x.held < mostHeld
	if hold {
		x.held++
	}
	x.mu.Unlock()
	switch {
	case hold:
		x.all.Go(func() { x.hold(h) })
	case first: // not all at once
		x.turns.add(h, rand.N(fullEvery))
	default:
		x.turns.add(h, fullEvery)
	}
}

// hold keeps a connection with a host for as long as it answers.
func (x *watcher) hold(h *watched) {
	for h.gone.Err() == nil && h.fell.IsZero() {
		if time.Since(h.looked) >= fullEvery {
			if x.looks.Acquire(h.gone, 1) == nil {
				x.ask(h, 0)
				x.looks.Release(1)
			}
		} else {
			x.ask(h, watchWait)
		}
	}
	x.mu.Lock()
	x.held--
	x.mu.Unlock()
	x.place(h, false)
}

// look asks a host once, over a connection that is not kept.
func (x *watcher) look(h *watched) {
	if h.gone.Err() == nil {
		x.ask(h, 0)
		x.hosts.Forget(h.Host())
		x.place(h, false)
	}
}

// ask asks a host what it holds: now, and in full, or when that changes.
func (x *watcher) ask(h *watched, wait time.Duration) {
	host := h.Host()
	bounded, stop := context.WithTimeout(h.gone, askMost+wait)
	defer stop()
	var changed bool
	var err error
	if wait == 0 {
		changed, _, err = x.hosts.Survey(bounded, host)
	} else {
		changed, err = x.hosts.SurveyWhen(bounded, host, wait)
	}
	h.Revision, h.Turn, h.State = host.Revision, host.Turn, host.State
	switch {
	case h.gone.Err() != nil:
		return
	case err == nil && !changed:
		x.mu.Lock()
		x.still[h.ID] = true
		x.mu.Unlock()
	case errors.Is(err, inventory.ErrOvertaken):
		x.again(bounded, h)
		return
	case err != nil && h.fell.IsZero():
		h.fell = time.Now()
	}
	if err == nil {
		h.fell = time.Time{}
		if wait == 0 {
			h.looked = time.Now()
		}
	}
}

// again reads the record of a host that others have changed.
func (x *watcher) again(ctx context.Context, h *watched) {
	now, err := x.inv.WatchedNow(ctx, h.ID)
	switch {
	case err != nil:
		h.fell = time.Now()
	case now == nil: // it was dropped
		h.drop()
	default:
		x.mu.Lock() // whoever adds hosts looks at the address
		h.Watched = *now
		x.mu.Unlock()
	}
}

// note writes of which hosts nothing has changed.
func (x *watcher) note(ctx context.Context) {
	x.mu.Lock()
	still := slices.Collect(maps.Keys(x.still))
	clear(x.still)
	x.mu.Unlock()
	if len(still) > 0 {
		x.warn(ctx, "note which hosts answer", x.inv.StillThere(ctx, still))
	}
}

// turns are hosts that wait until it is time to ask them.
type turns struct {
	mu    sync.Mutex
	queue dueHosts
	came  chan struct{}
}

func newTurns() *turns { return &turns{came: make(chan struct{}, 1)} }

// add has a host asked after a while.
func (t *turns) add(h *watched, in time.Duration) {
	h.due = time.Now().Add(in)
	t.mu.Lock()
	heap.Push(&t.queue, h)
	t.mu.Unlock()
	select {
	case t.came <- struct{}{}:
	default:
	}
}

// next takes the host whose turn it is, or tells how long there is none.
func (t *turns) next() (*watched, time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.queue) == 0 {
		return nil, time.Hour
	}
	if in := time.Until(t.queue[0].due); in > 0 {
		return nil, in
	}
	return heap.Pop(&t.queue).(*watched), 0
}

// serve calls f with each host whose turn it is, with most of them at once, until ctx ends.
func (t *turns) serve(ctx context.Context, most int64, f func(*watched)) {
	places := semaphore.NewWeighted(most)
	var all sync.WaitGroup
	defer all.Wait()
	for {
		h, in := t.next()
		if h == nil {
			select {
			case <-time.After(in):
			case <-t.came:
			case <-ctx.Done():
				return
			}
			continue
		}
		if places.Acquire(ctx, 1) != nil {
			return
		}
		all.Go(func() {
			defer places.Release(1)
			f(h)
		})
	}
}

// dueHosts is a heap, by the time that they are due.
type dueHosts []*watched

func (d dueHosts) Len() int           { return len(d) }
func (d dueHosts) Less(i, j int) bool { return d[i].due.Before(d[j].due) }
func (d dueHosts) Swap(i, j int)      { d[i], d[j] = d[j], d[i] }
func (d *dueHosts) Push(h any)        { *d = append(*d, h.(*watched)) }
func (d *dueHosts) Pop() any {
	last := len(*d) - 1
	h := (*d)[last]
	(*d)[last] = nil
	*d = (*d)[:last]
	return h
}
