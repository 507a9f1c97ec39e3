package steer

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/internal/inventory"
)

// queued is called in the transaction that queues a job's tick.
func (s *Steerer) queued(ctx context.Context, tx pgx.Tx, g inventory.Given) error {
	s.desk.leave(g.ID, time.Now().Add(tickLost))
	_, err := s.river.InsertTx(ctx, tx, steerArgs{g.ID.String(), g.Epoch}, nil)
	return err
}

// later queues a job's next tick when its wait is over.
func (s *Steerer) later(id uuid.UUID, epoch int64, until wait) {
	if until == nil {
		return
	}
	s.desk.leave(id, time.Now().Add(mostTickPause+tickLost))
	s.background(func(ctx context.Context) {
		until(ctx)
		if ctx.Err() != nil {
			return
		}
		ctx, stop := context.WithTimeout(ctx, tickLimit)
		defer stop()
		if _, err := s.river.Insert(ctx, steerArgs{id.String(), epoch}, nil); err != nil {
			s.log.Warn("queue job", "job", id, "error", err)
			s.desk.leave(id, time.Now()) // the watch queues it as soon as the database is back
			return
		}
		s.desk.leave(id, time.Now().Add(tickLost))
	})
}

// background runs f until the service ends, which waits for it.
func (s *Steerer) background(f func(ctx context.Context)) {
	s.behind.Go(func() { f(s.life) })
}

// beat says that this service lives, until ctx ends.
func (s *Steerer) beat(ctx context.Context) {
	b := s.inv.NewBeater(s.id)
	every := time.NewTicker(beatEvery)
	defer every.Stop()
	for {
		one, stop := context.WithTimeout(ctx, beatTime)
		if err := b.Beat(one); err != nil && ctx.Err() == nil {
			s.log.Warn("say that this service lives", "error", err)
		}
		stop()
		select {
		case <-every.C:
		case <-ctx.Done():
			end, stop := context.WithTimeout(context.WithoutCancel(ctx), beatTime)
			defer stop()
			_ = b.End(end)
			return
		}
	}
}

// watchJobs takes up the jobs of services that died, lets held ones try again,
// gives out what waits, and queues ticks that got lost, until ctx ends.
func (s *Steerer) watchJobs(ctx context.Context) {
	every := time.NewTicker(watchEvery)
	defer every.Stop()
	for {
		if err := s.lookForJobs(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("look for jobs without an owner", "error", err)
		}
		select {
		case <-every.C:
		case <-s.came:
		case <-ctx.Done():
			return
		}
	}
}

func (s *Steerer) lookForJobs(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, tickLimit)
	defer stop()
	orphans, err := s.inv.Queue(ctx, silence)
	if err != nil {
		return err
	}
	if orphans > 0 {
		s.log.Info("jobs of a service that died are taken up", "jobs", orphans)
	}
	if err := s.Admit(ctx); err != nil {
		return err
	}
	mine, err := s.inv.Steered(ctx, s.id)
	if err != nil {
		return err
	}
	for _, g := range mine {
		if s.desk.lost(g.ID) {
			if err := s.inv.InTx(ctx, func(tx pgx.Tx) error { return s.queued(ctx, tx, g) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// Admit takes waiting jobs to be steered here.
func (s *Steerer) Admit(ctx context.Context) error {
	s.admitting.Lock()
	defer s.admitting.Unlock()
	return s.inv.Admit(ctx, s.id, mostJobs, func(tx pgx.Tx, g inventory.Given) error { return s.queued(ctx, tx, g) })
}

// Tell lets the jobs that wait be looked at now.
func (s *Steerer) Tell() {
	select {
	case s.came <- struct{}{}:
	default:
	}
}

// MoreRoom lets jobs that wait for transfers to end look again.
func (s *Steerer) MoreRoom() { s.freed.tell() }
