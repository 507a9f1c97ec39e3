// Package sight is how an agent sees what its host holds: machine folders, disks, packages, pools. It looks again only
// at what has changed, gives up on what stands still, and tells the service what is new.
package sight

import (
	"context"
	"sync"
	"time"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
)

// Sight sees what a host holds. It remembers what it has read until that changes.
type Sight struct {
	*ground.Ground
	sweep  *sweep
	watch  *watch
	sights sights
	rates  sync.Map // id of a pool → bytes a second
	held   holdings
	room   func(path string) (total, free int64) // of the file system that a path is on, in bytes; 0 where nobody tells

	machines remembered[string, *machine.Machine] // of machine folders
	chains   chainMemory
	guests   remembered[image, *fit.Guest]
	images   remembered[string, bool] // whether a file is a disk image
}

// New sees nothing yet.
func New(g *ground.Ground) *Sight {
	a := &Sight{Ground: g, room: room}
	a.machines.look = a.ReadMachine
	a.machines.stamp = func(folder string) any {
		name, _ := a.FindDescriptor(folder) // a folder that can't be read is looked at, which says so
		return a.folderStamp(folder, &seenFolder{descriptor: name})
	}
	ofImage := func(of image) any { return a.fileStamp(of.path) }
	a.guests.look, a.guests.stamp = a.lookInside, ofImage
	a.images.look, a.images.stamp = func(path string) (bool, error) { return a.looksLikeDisk(path), nil }, a.fileStamp
	a.sights.a = a
	a.held = holdings{a: a, of: map[string][]heldDisk{}, at: map[string][]heldDisk{},
		under: map[string]map[string]bool{}, tops: map[string][]heldDisk{}}
	a.chains.look, a.chains.stamp = a.readChain, ofImage
	a.sweep, a.watch = newSweep(a), newWatch(a)
	return a
}

// Run keeps an eye on pools and shelves until ctx ends: it measures how fast pools are, notices changes by itself, and
// holds packages against their manifests.
func (a *Sight) Run(ctx context.Context) {
	a.watch.follow()
	var all sync.WaitGroup
	for _, f := range []func(context.Context){a.measure, a.watch.run, a.vouch, a.beSeen} {
		all.Go(func() { f(ctx) })
	}
	all.Wait()
}

// beSeen writes to the pools, again and again, that this host is alive.
func (a *Sight) beSeen(ctx context.Context) {
	again := time.NewTicker(ground.SeenEvery)
	defer again.Stop()
	for {
		a.Seen()
		select {
		case <-again.C:
		case <-ctx.Done():
			return
		}
	}
}

// Machine of a folder, as its descriptor says; from memory where that has not changed.
func (a *Sight) Machine(folder string) (*machine.Machine, error) { return a.machines.read(folder) }

// standing is how a listed machine stands, and the addresses that its guest is seen to use.
func (a *Sight) standing(folder string) (driver.Standing, []string) {
	ctx, stop := context.WithTimeout(context.Background(), pathTime)
	defer stop()
	now, err := a.Driver.State(ctx, folder)
	if err != nil {
		return driver.Standing{State: machine.Unknown, Why: err.Error()}, nil
	}
	seer, ok := a.Driver.(driver.Addressed)
	if !ok || now.State != machine.Running {
		return now, nil
	}
	addresses, err := seer.Addresses(ctx, folder)
	if err != nil {
		a.Log.Debug("addresses of a guest", "folder", folder, "error", err)
	}
	return now, addresses
}

// driversSwitches are those of the host; not ok when the driver can't tell them.
func (a *Sight) driversSwitches() ([]wiring.Switch, bool) {
	ctx, stop := context.WithTimeout(context.Background(), pathTime)
	defer stop()
	list, err := a.Driver.Switches(ctx)
	if err != nil {
		a.Log.Warn("list the switches of this host", "error", err)
	}
	return list, err == nil
}
