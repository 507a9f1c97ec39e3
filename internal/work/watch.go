package work

import (
	"context"
	"errors"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

const (
	watchWait  = 20 * time.Second // that one call waits for something to change
	watchAgain = 2 * time.Second  // after which hosts that were added are watched too
	watchPause = 3 * time.Second  // before a host that does not answer is tried again
	mostPause  = 10 * time.Second
	watchLock  = 0x756e766f // of PostgreSQL's advisory locks: one service watches
)

// watchHosts lets every host tell by itself when something has changed there.
// Of several services on one database, one does it.
func (w *Work) watchHosts(ctx context.Context) {
	for ctx.Err() == nil {
		if err := w.inv.Alone(ctx, watchLock, w.watchAll); err != nil && ctx.Err() == nil {
			w.log.Warn("watch hosts", "error", err)
		}
		select {
		case <-time.After(watchPause):
		case <-ctx.Done():
		}
	}
}

func (w *Work) watchAll(ctx context.Context) error {
	watched := map[uuid.UUID]bool{}
	again := time.NewTicker(watchAgain)
	defer again.Stop()
	for {
		err := w.inv.AllHosts(ctx, func(h inventory.Host) error {
			if !watched[h.ID] {
				watched[h.ID] = true
				go w.watchHost(ctx, h.ID)
			}
			return nil
		})
		if err != nil {
			return err
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// watchHost waits for changes of one host for as long as it is known.
func (w *Work) watchHost(ctx context.Context, id uuid.UUID) {
	pauses := &backoff.ExponentialBackOff{InitialInterval: watchPause, Multiplier: 2, MaxInterval: mostPause}
	pauses.Reset()
	for ctx.Err() == nil {
		h, err := w.inv.Host(ctx, id.String())
		if err == nil && h.Revision != "" {
			err = w.watchOnce(ctx, h)
		}
		switch {
		case err == nil && h.Revision != "":
			pauses.Reset()
			continue
		case h == nil && ctx.Err() == nil && isUnknown(err):
			return // it was dropped
		}
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-ctx.Done():
		}
	}
}

func (w *Work) watchOnce(ctx context.Context, h *inventory.Host) error {
	s, err := w.hosts.Agent(h).SurveyWhen(ctx, h.Revision, watchWait)
	switch {
	case errors.Is(err, hostlink.ErrUnreachable):
		return errors.Join(err, w.inv.HostState(ctx, h, plan.HostUnreachable))
	case err != nil:
		return err
	case !s.Changed && h.State != plan.HostUnreachable:
		return w.inv.StillThere(ctx, []uuid.UUID{h.ID})
	}
	if _, err = w.inv.Apply(ctx, h, s); errors.Is(err, inventory.ErrOvertaken) {
		return nil // it is asked again at once
	}
	return err
}

func isUnknown(err error) bool {
	var e *inventory.Error
	return errors.As(err, &e) && e.Code == inventory.CodeUnknown
}
