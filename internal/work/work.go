// Package work is what the service does beside looking things up: it plans operations, starts the jobs that carry them
// out, keeps an eye on hosts and managers, and passes on what goes to or comes from a person's own computer. The rooms
// below it do the work: draw the plans, steer the jobs, away what is not ours, reach the hosts.
package work

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/away/foreign"
	"unvora.example/unvora/internal/work/away/peer"
	"unvora.example/unvora/internal/work/draw"
	"unvora.example/unvora/internal/work/reach"
	"unvora.example/unvora/internal/work/steer"
)

// Work is what the service can be asked to do beside looking things up.
type Work struct {
	Steer *steer.Steerer
	Peers *peer.Peers
	Terms Terms

	inv     *inventory.Inventory
	hosts   *reach.Hosts
	places  *away.Places
	foreign *foreign.Managers
	gather  *draw.Gatherer
	log     *slog.Logger
}

const (
	surveyEvery  = time.Minute // of managers
	reshareEvery = time.Hour
	pruneEvery   = time.Hour
	keepEvents   = time.Hour
)

// Terms are how long what is over is kept; 0 for ever.
type Terms struct{ Jobs, History time.Duration }

// New puts the rooms of work together. key seals managers' passwords and the authority's key.
func New(ctx context.Context, inv *inventory.Inventory, key keyring.Key, log *slog.Logger) (*Work, error) {
	authority, err := openAuthority(ctx, inv, key)
	if err != nil {
		return nil, err
	}
	w := &Work{inv: inv, foreign: foreign.New(inv, key, log), log: log}
	own, err := inv.Unvora(ctx)
	if err != nil {
		return nil, err
	}
	if w.hosts, err = reach.New(inv, authority, own.String(), log); err != nil {
		return nil, err
	}
	if w.Peers, err = peer.New(inv, w.hosts, log); err != nil {
		return nil, err
	}
	w.Peers.Lend = w.lend
	w.places = away.NewPlaces(inv, map[string]away.Opener{inventory.ManagerCIMI: w.foreign.Open,
		inventory.ManagerUnvora: w.Peers.Open})
	w.gather = draw.NewGatherer(inv, w.hosts, w.places)
	w.Steer, err = steer.New(ctx, inv, w.hosts, w.places, steer.Options{Look: w.look, Ended: w.ended, Also: w.lookouts},
		log)
	return w, err
}

// Run works until ctx ends, then lets what is under way finish.
func (w *Work) Run(ctx context.Context) error {
	aside, err := w.inv.Aside(ctx)
	if err != nil {
		return err
	}
	defer aside.Close()
	var all sync.WaitGroup
	all.Go(func() { w.watchHosts(ctx, aside) })
	defer all.Wait()
	return w.Steer.Run(ctx)
}

// AskAgain sets how long it takes until a manager is asked again how far it is.
func (w *Work) AskAgain(d time.Duration) { w.foreign.AskAgain, w.Peers.AskAgain = d, d }

// look surveys a host.
func (w *Work) look(ctx context.Context, h *inventory.Host) error {
	_, err := w.Survey(ctx, h)
	return err
}

// ended lets the operation of a job do what is left when everything is carried out.
func (w *Work) ended(ctx context.Context, j *inventory.Job) error { return w.gather.Ended(ctx, j) }
