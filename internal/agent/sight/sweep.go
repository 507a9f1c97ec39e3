package sight

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// sweep finds out what a host holds. It reads a descriptor only when the
// folder's or the descriptor's time stamp has changed, and numbers every
// change, so that a service that was told of one revision gets what came since.
type sweep struct {
	a  *Sight
	mu sync.Mutex

	boot     string // revisions of another run of the agent can't be compared
	gen      uint64
	folders  map[string]*seenFolder
	packages map[string]*seenPackage
	gone     map[string]uint64 // path → generation
	frame    string            // pools and switches, as last told
	round    uint64
	bareOnes []hostlink.BareFolder
	hasty    hasty
	switches []wiring.Switch // as last told by the driver
	stuck    []string        // what could not be read in time
}

type seenFolder struct {
	stamp      stamp
	descriptor string // file name, "" when there is none
	listed     bool   // by this host, whatever the mark in the folder says
	round, gen uint64
	hostlink.Folder
}

type seenPackage struct {
	stamp      string
	writtenAt  time.Time
	vouched    bool // it was held against its manifest
	round, gen uint64
	hostlink.ShelvedPackage
}

const (
	mostGone  = 10_000
	mostStuck = 100
)

func newSweep(a *Sight) *sweep {
	return &sweep{a: a, boot: uuid.NewString()[:8], folders: map[string]*seenFolder{},
		packages: map[string]*seenPackage{},
		gone:     map[string]uint64{}, hasty: hasty{most: pathTime}}
}

// survey looks, and tells what has changed since the revision.
func (s *sweep) survey(since string) *hostlink.Survey {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.hasty.begin()
	defer s.hasty.finish()
	pools := s.look()
	out := &hostlink.Survey{Revision: s.boot + "." + strconv.FormatUint(s.gen, 10), Jobs: s.jobs(pools)}
	from := uint64(0)
	if boot, gen, ok := strings.Cut(since, "."); ok && boot == s.boot {
		from, _ = strconv.ParseUint(gen, 10, 64)
	}
	out.Full = from == 0
	if out.Revision == since {
		return out
	}
	out.Changed, out.Pools, out.Shelves = true, pools, s.shelves()
	out.Bare, out.Unread = s.bareOnes, s.stuck
	out.Hello, out.Switches, out.Ports = s.a.Hello(), s.switches, s.a.Ports(context.Background())
	for _, f := range s.folders {
		if f.gen > from {
			out.Machines = append(out.Machines, f.Folder)
		}
	}
	for _, p := range s.packages {
		if p.gen > from {
			out.Packages = append(out.Packages, p.ShelvedPackage)
		}
	}
	for path, gen := range s.gone {
		if gen > from && !out.Full {
			out.Gone = append(out.Gone, path)
		}
	}
	return out
}

// jobs are those that notes are kept of, and those that have working directories in the pools.
func (s *sweep) jobs(pools []hostlink.Pool) []string {
	kept, err := s.a.Records.Jobs()
	if err != nil {
		s.a.Log.Error("jobs that notes are kept of", "error", err)
	}
	for _, p := range pools {
		if p.State == plan.PoolAway {
			continue
		}
		list, _ := s.entries(filepath.Join(p.Path, ground.WorkDir))
		for _, e := range list {
			if job := ground.JobOf(e.Name()); uuid.Validate(job) == nil {
				kept = append(kept, job)
			}
		}
	}
	slices.Sort(kept)
	return slices.Compact(kept)
}

// tellRoom changes when the room of a pool has changed so much that it is worth
// telling: by half a hundredth.
func tellRoom(p hostlink.Pool) int64 {
	if p.TotalBytes <= 0 {
		return 0
	}
	return p.FreeBytes / max(1, p.TotalBytes/200)
}

func (s *sweep) shelves() []hostlink.Shelf {
	var list []hostlink.Shelf
	for _, c := range s.a.Config.Shelves {
		free, _ := hastily(&s.hasty, "room of "+c.Path, func() int64 {
			_, free := s.a.room(c.Path)
			return free
		})
		list = append(list, hostlink.Shelf{Name: c.Name, Path: c.Path, FreeBytes: free})
	}
	return list
}

// look goes through pools and shelves once.
func (s *sweep) look() []hostlink.Pool {
	s.round++
	next := s.gen + 1
	changed := false
	var pools []hostlink.Pool
	var directories []keep // of pools, that are no machine's
	for _, c := range s.a.Config.Pools {
		p, ok := hastily(&s.hasty, c.Path, func() hostlink.Pool { return s.a.pool(c) })
		if !ok {
			p = s.a.awayPool(c)
		}
		pools = append(pools, p)
	}
	type told struct {
		list []wiring.Switch
		ok   bool
	}
	now, inTime := hastily(&s.hasty, "switches", func() (t told) {
		t.list, t.ok = s.a.driversSwitches()
		return t
	})
	if inTime && now.ok {
		s.switches = now.list // else as they were
	}
	frame := fmt.Sprint(s.switches)
	for _, p := range pools {
		frame += fmt.Sprint(p.ID, p.Name, p.State, p.Labels, p.Rate, p.Foreign, tellRoom(p))
	}
	if frame != s.frame {
		s.frame, changed = frame, true
	}
	register := s.a.Records.Register()
	poolOf := func(path string) *hostlink.Pool {
		for i := range pools {
			if strings.HasPrefix(path, pools[i].Path+"/") {
				return &pools[i]
			}
		}
		return nil
	}
	var asked []question
	ask := func(path, pool string, registered, filesThere, poolThere bool) {
		asked = append(asked, question{s.folders[path], path, pool, registered, filesThere, poolThere})
	}
	note := func() {
		paths := make([]string, len(asked))
		for n, q := range asked {
			paths[n] = q.path
		}
		of := asked // what is given up on goes on with it
		seen, ok := hastilyEach(&s.hasty, paths, func(n int) (*seenFolder, error) { return s.a.lookAtFolder(&of[n]) })
		for n, q := range asked {
			switch f := seen[n]; {
			case q.was != nil && (!ok[n] || f == q.was): // as it was, for all that we know
				q.was.round = s.round
			case ok[n] && f != nil:
				f.round, f.gen = s.round, next
				s.folders[q.path] = f
				delete(s.gone, q.path)
				changed = true
			}
		}
		asked = nil
	}
	for _, p := range pools {
		if p.State == plan.PoolAway {
			continue
		}
		// In any order: the order is the reader's affair.
		entries, ok := s.entries(p.Path)
		if !ok { // what is there stays as it was seen
			for path, f := range s.folders {
				if strings.HasPrefix(path, filepath.Clean(p.Path)+"/") {
					f.round = s.round
				}
			}
		}
		root := filepath.Clean(p.Path) + "/"
		for _, e := range entries {
			if e.IsDir() && e.Name()[0] != '.' {
				path := root + e.Name()
				_, registered := register[path]
				ask(path, p.ID, registered, true, true)
			}
		}
	}
	plain := asked
	note()
	for _, q := range plain {
		if s.folders[q.path] == nil {
			directories = append(directories, keep{path: q.path, pool: q.pool})
		}
	}
	for path := range register {
		if f := s.folders[path]; f != nil && f.round == s.round {
			continue
		}
		p := poolOf(path)
		if p == nil {
			ask(path, "", true, false, false)
		} else {
			ask(path, p.ID, true, false, p.State != plan.PoolAway)
		}
	}
	note()
	changed = s.lookAtPackages(append(s.keeps(pools), directories...), next) || changed
	for path, f := range s.folders {
		if f.round != s.round {
			if p := poolOf(path); p != nil && p.State == plan.PoolAway { // not gone: its pool isn't there now
				if f.State != machine.Away {
					gone := *f
					gone.State, gone.PoolThere, gone.FilesThere, gone.gen, changed = machine.Away, false, false, next,
						true
					s.folders[path] = &gone
				}
				continue
			}
			delete(s.folders, path)
			s.gone[path], changed = next, true
		}
	}
	for path, p := range s.packages {
		if p.round != s.round {
			delete(s.packages, path)
			s.gone[path], changed = next, true
		}
	}
	var bare []hostlink.BareFolder
	known, named := s.named()
	for _, p := range pools {
		if p.State != plan.PoolAway {
			bare = append(bare, s.bareIn(p, known, named)...)
		}
	}
	slices.SortFunc(bare, func(a, b hostlink.BareFolder) int { return strings.Compare(a.Path, b.Path) })
	if !slices.EqualFunc(bare, s.bareOnes, func(a, b hostlink.BareFolder) bool {
		return a.Path == b.Path &&
			slices.Equal(a.Disks, b.Disks)
	}) {
		s.bareOnes, changed = bare, true
	}
	if stuck := s.stuckNow(); !slices.Equal(stuck, s.stuck) {
		s.stuck, changed = stuck, true
	}
	if changed {
		s.gen = next
	}
	if len(s.gone) > mostGone {
		s.boot, s.gone = uuid.NewString()[:8], map[string]uint64{}
	}
	return pools
}

// statedAt is the format that the descriptor of a machine states for a disk that
// lies outside of the machine's folder; "" when no machine names it.
func (s *sweep) statedAt(path string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.folders {
		if f.Machine == nil {
			continue
		}
		for _, d := range f.Machine.Disks {
			if strings.HasPrefix(d.File, "../") && filepath.Join(f.Path, d.File) == path {
				return d.Format
			}
		}
	}
	return ""
}

// entries of a pool or a shelf; none where there is no such directory, not ok where it can't be read, or not in time.
func (s *sweep) entries(dir string) ([]fs.DirEntry, bool) {
	return hastilyRead(&s.hasty, dir, func() ([]fs.DirEntry, error) { return s.a.Door.ReadDir(dir) })
}

// stuckNow are the pools, folders and packages that could not be read this time.
func (s *sweep) stuckNow() (list []string) {
	for _, path := range s.hasty.givenUp() {
		if filepath.IsAbs(path) {
			list = append(list, path)
		}
	}
	slices.Sort(list)
	if list = slices.Compact(list); len(list) > mostStuck { // where they lie says it too
		for n, path := range list {
			list[n] = filepath.Dir(path)
		}
		slices.Sort(list)
		list = slices.Compact(list)
	}
	return list
}

// question is what is asked about a folder of a pool, or of a host's list.
type question struct {
	was                               *seenFolder // nil: nothing is known of it; it may be looked at and not changed
	path, pool                        string
	registered, filesThere, poolThere bool
}

// lookAtFolder sees what is in a folder. It returns what was known where that is as it was; nil for what is no
// machine's.
func (a *Sight) lookAtFolder(q *question) (*seenFolder, error) {
	stands, addresses := driver.Standing{State: machine.Stopped}, []string(nil)
	if q.registered {
		stands, addresses = a.standing(q.path)
	}
	if !q.poolThere {
		stands = driver.Standing{State: machine.Away}
	}
	state := stands.State
	var at stamp
	if q.filesThere {
		at = a.folderStamp(q.path, q.was)
	}
	was := q.was
	if was != nil && was.stamp == at && was.listed == q.registered && was.PoolThere == q.poolThere &&
		was.State == state && was.Why == stands.Why && was.FilesThere == q.filesThere &&
		slices.Equal(was.Addresses, addresses) &&
		!a.disksChanged(was) {
		return was, nil
	}
	now := &seenFolder{stamp: at, listed: q.registered}
	wrong := ""
	if !q.registered && q.filesThere {
		a.Unclaim(q.path)
	}
	if q.registered && q.filesThere {
		ctx, stop := context.WithTimeout(context.Background(), pathTime)
		q.registered, wrong = a.Obeys(ctx, q.path)
		if stop(); !q.registered {
			state, stands, addresses = machine.Stopped, driver.Standing{State: machine.Stopped}, nil
		}
	}
	now.Folder = hostlink.Folder{Path: q.path, Pool: q.pool, Registered: q.registered, FilesThere: q.filesThere,
		PoolThere: q.poolThere, State: state, Why: stands.Why, Addresses: addresses}
	if !q.filesThere {
		if was != nil {
			now.Machine, now.Bytes, now.Disks = was.Machine, was.Bytes, was.Disks
		}
		return now, nil
	}
	var err error
	if now.descriptor, err = a.FindDescriptor(q.path); err != nil {
		return nil, err
	}
	if now.descriptor == "" && !q.registered {
		return nil, nil
	}
	m, err := a.ReadMachine(q.path)
	now.Contested = wrong != ""
	if now.Problem = wrong; err != nil {
		now.Problem = err.Error()
	}
	now.Machine, now.Bytes = m, a.folderBytes(q.path)+asideBytes(m)
	now.stamp = a.folderStamp(q.path, now)
	if now.Disks = a.sights.seen(q.path, m); state == machine.Running && was != nil &&
		len(was.Disks) == len(now.Disks) {
		now.Disks = was.Disks // as it was when it was started; what it writes meanwhile is looked at when it stops
	}
	return now, nil
}

// disksChanged tells whether a machine's disks are not as they were told, which
// is not asked of one that runs.
func (a *Sight) disksChanged(f *seenFolder) bool {
	return f.FilesThere && f.State != machine.Running && slices.ContainsFunc(f.Disks,
		func(d hostlink.SeenDisk) bool { return a.sights.changed(d.Path) })
}

// keep is a directory where packages lie: a shelf, or a pool.
type keep struct {
	path, shelf, pool string
	away              bool // it is not there now; what is known of it stays
}

// keeps lists the directories of packages. A shelf that is a pool too counts as the shelf.
func (s *sweep) keeps(pools []hostlink.Pool) (list []keep) {
	for _, c := range s.a.Config.Shelves {
		list = append(list, keep{path: filepath.Clean(c.Path), shelf: c.Name})
	}
	for _, p := range pools {
		k := keep{path: filepath.Clean(p.Path), pool: p.ID, away: p.State == plan.PoolAway}
		if !slices.ContainsFunc(list, func(o keep) bool { return o.path == k.path }) {
			list = append(list, k)
		}
	}
	return list
}

func (s *sweep) lookAtPackages(keeps []keep, next uint64) (changed bool) {
	for _, c := range keeps {
		var entries []fs.DirEntry
		ok := false
		if !c.away {
			entries, ok = s.entries(c.path)
		}
		if !ok {
			for path, p := range s.packages {
				if strings.HasPrefix(path, c.path+"/") {
					p.round = s.round
				}
			}
		}
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") || !strings.EqualFold(filepath.Ext(e.Name()), ".ova") {
				continue
			}
			path := filepath.Join(c.path, e.Name())
			info, ok := hastilyRead(&s.hasty, path, e.Info)
			if !ok && s.packages[path] != nil {
				s.packages[path].round = s.round
			}
			if info == nil {
				continue
			}
			stamp := fmt.Sprint(info.ModTime().UnixNano(), info.Size())
			if old := s.packages[path]; old != nil && old.stamp == stamp {
				old.round = s.round
				continue
			}
			p := &seenPackage{stamp: stamp, writtenAt: info.ModTime(), round: s.round, gen: next}
			p.ShelvedPackage = hostlink.ShelvedPackage{Path: path, Shelf: c.shelf, Pool: c.pool, Bytes: info.Size()}
			found, ok := hastily(&s.hasty, path, func() (found hostlink.ShelvedPackage) {
				if o, err := s.a.Door.Package(path, s.a.Config.State); err != nil {
					found.Problem = err.Error()
				} else {
					for i := range o.Envelope.Machines {
						found.Others = append(found.Others, &o.Envelope.Machines[i])
					}
					found.Machine, found.Others = found.Others[0], found.Others[1:]
					_ = o.Close()
				}
				return found
			})
			if !ok {
				if old := s.packages[path]; old != nil {
					old.round = s.round
				}
				continue
			}
			p.Machine, p.Others, p.Problem = found.Machine, found.Others, found.Problem
			var v vouched
			if there, err := s.a.Records.Get("vouched", path, &v); there && err == nil && v.Stamp == stamp &&
				p.Machine != nil {
				p.vouched, p.Problem = true, v.Problem
			}
			s.packages[path] = p
			delete(s.gone, path)
			changed = true
		}
	}
	return changed
}
