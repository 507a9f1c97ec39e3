// Package steer carries plans out as durable jobs. A job is moved on by short ticks, which are jobs of a queue in
// PostgreSQL. Each step is recorded before and after it is done, and the table of steps says how each kind is.
package steer

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
)

// Steerer steers the jobs of one service.
type Steerer struct {
	Options
	inv   *inventory.Inventory
	hosts *reach.Hosts
	away  *away.Places
	river *river.Client[pgx.Tx]
	log   *slog.Logger

	id        uuid.UUID // of this service
	desk      *desk
	freed     signal // a transfer has ended
	said      signal // somebody has asked for something of a job
	looks     looks
	admitting sync.Mutex
	came      chan struct{}   // something waits to be steered
	life      context.Context // of what goes on in the background
	end       context.CancelFunc
	behind    sync.WaitGroup
}

// Options are what a steerer asks of those who know more.
type Options struct {
	// Look surveys a host behind the end of a job.
	Look func(ctx context.Context, h *inventory.Host) error
	// Ended is told of each job that was carried out, before it is recorded as done.
	Ended func(ctx context.Context, j *inventory.Job) error
	// Also adds further work to the queue.
	Also func(workers *river.Workers) []*river.PeriodicJob
}

const (
	tickTime    = 4 * time.Second  // after which a tick lets others have its worker
	tickLimit   = 30 * time.Second // after which the queue gives it up
	rescueAfter = time.Minute
	endTime     = 2 * time.Second // that ticks which are under way get when the service ends
)

// Migrate brings the queue's tables up to date.
func Migrate(ctx context.Context, inv *inventory.Inventory) error {
	migrator, err := rivermigrate.New(riverpgxv5.New(inv.Pool), nil)
	if err == nil {
		_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	}
	if err != nil {
		return fmt.Errorf("bring the job queue's tables up to date: %w", err)
	}
	return nil
}

// New brings the queue's tables up to date. Nothing is steered until Run.
func New(ctx context.Context, inv *inventory.Inventory, hosts *reach.Hosts, places *away.Places, o Options,
	log *slog.Logger) (*Steerer, error) {
	driver := riverpgxv5.New(inv.Pool)
	if err := Migrate(ctx, inv); err != nil {
		return nil, err
	}
	var err error
	s := &Steerer{Options: o, inv: inv, hosts: hosts, away: places, log: log, id: inventory.NewID(), desk: newDesk(),
		came: make(chan struct{}, 1)}
	s.life, s.end = context.WithCancel(context.Background())
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{s: s})
	s.river, err = river.NewClient(driver, &river.Config{
		Queues:               map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 64}},
		Workers:              workers,
		JobTimeout:           tickLimit,
		RescueStuckJobsAfter: rescueAfter,
		FetchPollInterval:    500 * time.Millisecond,
		FetchCooldown:        5 * time.Millisecond, // a job that nobody waits behind begins at once
		Logger:               slog.New(warnings{log.Handler()}),
		PeriodicJobs:         o.Also(workers),
	})
	return s, err
}

// warnings lets only warnings of the queue through.
type warnings struct{ slog.Handler }

func (warnings) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

// ID is that of this service, as it says that it lives.
func (s *Steerer) ID() uuid.UUID { return s.id }

// Run steers jobs until ctx ends, then lets ticks that are under way finish.
func (s *Steerer) Run(ctx context.Context) error {
	defer s.behind.Wait()
	defer s.end()
	if err := s.river.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start the job queue: %w", err)
	}
	var all sync.WaitGroup
	for _, f := range []func(context.Context){s.beat, s.watchJobs} {
		all.Go(func() { f(ctx) })
	}
	<-ctx.Done()
	stop, cancel := context.WithTimeout(context.Background(), endTime)
	defer cancel()
	err := s.river.StopAndCancel(stop)
	all.Wait()
	return err
}

// Cancel asks for a job to be stopped and undone.
func (s *Steerer) Cancel(ctx context.Context, ref, user string) (*inventory.Job, error) {
	return s.ask(ctx, ref, user, s.inv.AskCancel)
}

// Hold asks for a job to be stopped where it is.
func (s *Steerer) Hold(ctx context.Context, ref, user string) (*inventory.Job, error) {
	return s.ask(ctx, ref, user, s.inv.AskHold)
}

// Resume lets a job that is held go on.
func (s *Steerer) Resume(ctx context.Context, ref, user string) (*inventory.Job, error) {
	return s.ask(ctx, ref, user, s.inv.AskResume)
}

// CutOver has a move that was copied ahead cut over at a time; nil for as soon as it can.
func (s *Steerer) CutOver(ctx context.Context, ref, user string, at *time.Time) (*inventory.Job, error) {
	return s.ask(ctx, ref, user, s.inv.AskCutOver(at))
}

// Rate has the transfers of a job go on at another rate, in bytes per second; 0 for no limit.
func (s *Steerer) Rate(ctx context.Context, ref, user string, rate int64) (*inventory.Job, error) {
	return s.ask(ctx, ref, user, s.inv.AskRate(rate))
}

// ask asks for something of a job; of one over several machines of each child that is not over.
func (s *Steerer) ask(ctx context.Context, ref, user string,
	f func(context.Context, *inventory.Job, string) error) (*inventory.Job, error) {
	j, err := s.inv.Job(ctx, ref)
	if err != nil {
		return nil, err
	}
	if j.Parts == 0 {
		err = f(ctx, j, user)
	} else {
		err = s.askChildren(ctx, j, user, f)
	}
	if err != nil {
		return nil, err
	}
	s.said.tell()
	s.Tell()
	return s.inv.Job(ctx, j.ID.String())
}

// askChildren is content when one of the children takes what is asked; else it returns what the first says.
func (s *Steerer) askChildren(ctx context.Context, j *inventory.Job, user string,
	f func(context.Context, *inventory.Job, string) error) error {
	var first error
	taken := 0
	for _, id := range j.Children.IDs {
		child, err := s.inv.Job(ctx, id.String())
		if err != nil {
			return err
		}
		if child.Over() {
			continue
		}
		err = f(ctx, child, user)
		var known *inventory.Error
		switch {
		case err == nil:
			taken++
		case !errors.As(err, &known):
			return err
		case first == nil:
			first = err
		}
	}
	if taken == 0 && first == nil {
		return inventory.Wrong("The job %s is %s already.", j.ID, j.State)
	}
	if taken > 0 {
		return nil
	}
	return first
}
