package steer

import (
	"context"
	"maps"
	"slices"

	"github.com/google/uuid"

	"unvora.example/unvora/internal/inventory"
)

// What tests do that carry the ticks out by themselves.

// Reborn makes another service of this one.
func (s *Steerer) Reborn() { s.id, s.desk = inventory.NewID(), newDesk() }

// Stop ends what goes on in the background.
func (s *Steerer) Stop() {
	s.end()
	s.behind.Wait()
}

// Settled waits for what goes on in the background.
func (s *Steerer) Settled() { s.behind.Wait() }

// LookForJobs takes up what waits.
func (s *Steerer) LookForJobs(ctx context.Context) error { return s.lookForJobs(ctx) }

// Tick is one tick of a job.
func (s *Steerer) Tick(ctx context.Context, id uuid.UUID, epoch int64) (*inventory.Job, func(context.Context), error) {
	return s.tick(ctx, id, epoch)
}

// Kinds are those of all rows.
func Kinds() []string { return slices.Collect(maps.Keys(rows)) }

// InService tells whether the row of a kind carries it out in the service.
func InService(kind string) bool { return rows[kind].service != nil }

// Later queues a job's next tick, which nothing has to be waited for.
func (s *Steerer) Later(id uuid.UUID, epoch int64) { s.later(id, epoch, func(context.Context) {}) }

// Lost tells whether a tick of the job has got lost.
func (s *Steerer) Lost(id uuid.UUID) bool { return s.desk.lost(id) }

// Afresh forgets which ticks are under way, as after a start.
func (s *Steerer) Afresh() { s.desk = newDesk() }

// Watches are what goes on beside the ticks, until ctx ends.
func (s *Steerer) Watches() []func(context.Context) {
	return []func(context.Context){s.beat, s.watchJobs}
}
