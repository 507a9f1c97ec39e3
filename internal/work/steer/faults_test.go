package steer_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/cimi"
	standinmanager "unvora.example/unvora/internal/cimi/standin"
	"unvora.example/unvora/internal/cimi/standintest"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/inventory/pgtest"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/internal/work"
	"unvora.example/unvora/internal/work/away/foreign"
	"unvora.example/unvora/internal/work/draw"
)

var database string

func TestMain(m *testing.M) { pgtest.Main(m, &database) }

// smallEstate is a service without a queue: the test itself carries the ticks
// out. Two agents and a stand-in manager are real, in this process.
type smallEstate struct {
	*testing.T
	ctx   context.Context
	b     *pgtest.Breaker
	w     *work.Work
	inv   *inventory.Inventory
	root  string // gannet/reef, gannet/loft, petrel/reef
	truth []byte
}

func (e *smallEstate) dir(parts ...string) string {
	return filepath.Join(append([]string{e.root}, parts...)...)
}

func newSmallEstate(t *testing.T) *smallEstate {
	root, err := os.MkdirTemp("/dev/shm", "estate-") // where syncing costs nothing
	if err != nil {
		root = t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(root) })
	e := &smallEstate{T: t, ctx: pgtest.Watch(t.Context()), b: &pgtest.Breaker{}, root: root,
		truth: disktest.Pattern(256<<10, 5)}
	inv, err := inventory.Open(e.ctx, pgtest.Database(t, database), e.b.Tune)
	require.NoError(t, err)
	t.Cleanup(inv.Close)
	e.inv = inv
	e.w, err = work.New(e.ctx, inv, keyring.Key{}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	e.w.AskAgain(10 * time.Millisecond)
	t.Cleanup(e.w.Steer.Stop)
	e.agent("gannet", "loft")
	e.agent("petrel", "")
	_, address, _ := standintest.Serve(t, func(s *standinmanager.State) {
		s.Machines, s.Volumes[0].Bytes = s.Machines[:1],
			3<<19
	})
	entry := foreign.Entry{Name: "mainland", Address: "https://" + address + "/cimi", Account: "skerrow",
		Password: "low tide"}
	_, err = e.w.AddManager(e.ctx, entry, "robin")
	var unknown *inventory.Error
	require.ErrorAs(t, err, &unknown)
	entry.Trust = unknown.Likely[0]
	_, err = e.w.AddManager(e.ctx, entry, "robin")
	require.NoError(t, err)
	e.live()
	return e
}

// agent starts one whose host has the machine tide-gauge and, with a shelf,
// packages.
func (e *smallEstate) agent(name, shelf string) {
	pool := e.dir(name, "reef")
	require.NoError(e, os.MkdirAll(pool, 0o755))
	config := agent.Config{Name: name, Site: "Northhead", Family: "slate", Driver: "standin",
		State: e.dir(name, "state"),
		CPUs:  16, MemoryMB: 65536, Listen: "127.0.0.1:0",
		Pools: []ground.PoolConfig{{Name: "reef-" + name, Path: pool, Rate: 1 << 30}},
		Ports: []wiring.Port{{Name: "port1", Address: "127.0.0.1"}, {Name: "port2"}}}
	if shelf != "" {
		config.Shelves = []ground.ShelfConfig{{Name: shelf, Path: e.dir(name, shelf)}}
		require.NoError(e, os.MkdirAll(config.Shelves[0].Path, 0o755))
		e.machine(filepath.Join(pool, "tide-gauge"), "tide-gauge")
		config.Machines = []ground.MachineConfig{{Folder: filepath.Join(pool, "tide-gauge")}}
	}
	a, err := agent.New(config, standin.New([]wiring.Switch{{Name: "lab", Segment: "lab", VLAN: 20}}, config.Ports,
		config.Door()), slog.New(slog.DiscardHandler))
	require.NoError(e, err)
	l, err := a.Listen()
	require.NoError(e, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- a.Serve(ctx, l) }()
	e.Cleanup(func() { stop(); <-ended })
	_, err = e.w.AddHost(e.ctx, l.Addr().(*net.TCPAddr).String(), a.Code(), "robin")
	require.NoError(e, err)
}

// machine writes a machine folder.
func (e *smallEstate) machine(folder, name string) {
	require.NoError(e, os.MkdirAll(folder, 0o755))
	f, err := os.Create(filepath.Join(folder, "disk1.qcow2"))
	require.NoError(e, err)
	defer f.Close()
	file, err := disk.OpenFile(f)
	require.NoError(e, err)
	format, err := formats.ByName("qcow2")
	require.NoError(e, err)
	target, err := format.Create(file, disk.Spec{VirtualBytes: int64(len(e.truth)),
		ID: "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"})
	require.NoError(e, err)
	require.NoError(e, disk.Pump(e.ctx, target, disk.ImageFeed(disktest.Plain(e.truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(e, target.Finish())
	d, err := ovf.New(&machine.Machine{Name: name, UUID: "70126393-2a98-4856-90ac-efe4bba599b2",
		FirmwareUUID: "70126393-2a98-4856-90ac-efe4bba599b3", Serial: "sn-1", CPUs: 1, MemoryBytes: 1 << 30,
		Firmware: "bios",
		Guest:    "Debian GNU/Linux 12 (64-bit)", GuestID: 96,
		Disks: []machine.Disk{{ID: "disk1", File: "disk1.qcow2", Format: "qcow2", VirtualBytes: int64(len(e.truth)),
			Controller: "virtio-scsi"}},
		NICs: []machine.NIC{{Name: "NIC 1", Model: "virtio", MAC: "06:5c:00:aa:bb:cc", Network: "lab", Segment: "lab",
			VLAN: 20}}})
	require.NoError(e, err)
	raw, err := d.Encode(0)
	require.NoError(e, err)
	require.NoError(e, os.WriteFile(filepath.Join(folder, name+".ovf"), raw, 0o644))
}

// live says that this service lives.
func (e *smallEstate) live() { require.NoError(e, e.inv.NewBeater(e.w.Steer.ID()).Beat(e.ctx)) }

// mend makes everything as it is after a failure: where the service died, another
// one is in its place.
func (e *smallEstate) mend() {
	if !e.b.Dead() {
		return
	}
	e.b.Revive()
	_, err := e.inv.Pool.Exec(e.ctx, `delete from services`)
	for err != nil { // connections that died with the service are thrown away one by one
		_, err = e.inv.Pool.Exec(e.ctx, `delete from services`)
	}
	e.w.Steer.Reborn()
	e.live()
}

// run carries a request out, over failures, until its job is over.
func (e *smallEstate) run(req draw.Request, between func()) *inventory.Job {
	e.Helper()
	req = draw.Named(req)
	draw.As(req, draw.Caller{Name: "robin", Operator: true, Administrator: true})
	key := uuid.NewString()
	var id string
	for id == "" {
		j, err := e.w.Start(e.ctx, req, key)
		switch {
		case err == nil:
			id = j.ID.String()
		case isRefusal(err):
			require.NoError(e, err, "%+v", findingsOf(err))
		}
		e.mend()
	}
	if between != nil {
		between()
	}
	for until := time.Now().Add(wait.Bound); ; e.mend() {
		require.True(e, time.Now().Before(until), "the job does not end")
		j, err := e.inv.Job(e.ctx, id)
		if err != nil {
			continue
		}
		if j.Over() {
			return j
		}
		if j.State != "working" || j.Owner == nil || *j.Owner != e.w.Steer.ID() {
			e.w.Steer.LookForJobs(e.ctx)
			continue
		}
		if _, wait, err := e.w.Steer.Tick(e.ctx, j.ID, j.Epoch); err == nil && wait != nil {
			wait(e.ctx)
		}
	}
}

func isRefusal(err error) bool {
	var known *inventory.Error
	var not *work.NotRunnable
	return errors.As(err, &known) || errors.As(err, &not)
}

func findingsOf(err error) any {
	var not *work.NotRunnable
	if errors.As(err, &not) {
		return not.Plan.Findings
	}
	return nil
}

// quiet carries a request out with nothing going wrong.
func (e *smallEstate) quiet(req draw.Request) *inventory.Job {
	e.Helper()
	e.b.Arm(0, pgtest.Never)
	j := e.run(req, nil)
	require.EqualValues(e, "done", j.State, j.Error)
	return j
}

func (e *smallEstate) survey() {
	e.Helper()
	_, err := e.w.SurveyAll(e.ctx, nil)
	require.NoError(e, err)
}

// copies lists what the inventory counts, as HOST/NAME:FORM.
func (e *smallEstate) copies() (list []string) {
	e.Helper()
	l, err := e.inv.Copies(e.ctx, inventory.Page{})
	require.NoError(e, err)
	for _, c := range l.Items {
		list = append(list, fmt.Sprintf("%s/%s:%s", c.Host, c.Name, c.Form))
	}
	slices.Sort(list)
	return list
}

// leftovers are working files that nobody needs any more.
func (e *smallEstate) leftovers() (found []string) {
	require.NoError(e, filepath.WalkDir(e.root, func(path string, d os.DirEntry, err error) error {
		if strings.Contains(path, "/.unvora/trash") {
			return filepath.SkipDir
		}
		if strings.Contains(path, "/.unvora/") || strings.HasSuffix(path, ".part") {
			found = append(found, path)
		}
		return nil
	}))
	return found
}

// faultCase is an operation of which every write is broken once in every way.
type faultCase struct {
	name    string
	req     draw.Request
	ready   func(e *smallEstate)                   // before each run
	between func(e *smallEstate)                   // when the job has begun
	want    string                                 // state that it ends in
	left    []string                               // copies that there are then; nil: as before
	after   func(e *smallEstate, j *inventory.Job) // further checks, and clearing up
}

var yes = draw.Asked{TakeRecommended: true}

var faultCases = []faultCase{
	{name: "export to a shelf", req: &draw.Export{Copies: draw.Copies{Copies: []string{"gannet/tide-gauge"}},
		Destination: &draw.Destination{Shelf: "loft", File: "out.ova"}},
		left: []string{"gannet/tide-gauge:package", "gannet/tide-gauge:package", "gannet/tide-gauge:registered"},
		after: func(e *smallEstate, _ *inventory.Job) {
			o, err := ovf.OpenPath(e.dir("gannet", "loft", "out.ova"))
			require.NoError(e, err)
			require.NoError(e, o.Verify(e.ctx, func(int64) {}))
			require.Empty(e, o.Deviations)
			require.NoError(e, o.Close())
			require.NoError(e, os.Remove(e.dir("gannet", "loft", "out.ova")))
			e.survey()
		}},
	{name: "export of disks as VHDX", req: &draw.Export{Copies: draw.Copies{Copies: []string{"gannet/tide-gauge"}},
		DiskFormat: "vhdx", Destination: &draw.Destination{Shelf: "loft", File: "out.ova"}},
		left: []string{"gannet/tide-gauge:package", "gannet/tide-gauge:package", "gannet/tide-gauge:registered"},
		after: func(e *smallEstate, _ *inventory.Job) {
			o, err := ovf.OpenPath(e.dir("gannet", "loft", "out.ova"))
			require.NoError(e, err)
			require.NoError(e, o.Verify(e.ctx, func(int64) {}))
			o.LookAtDisks()
			require.Equal(e, "vhdx", o.Envelope.Machines[0].Disks[0].Format)
			require.Empty(e, o.Deviations)
			require.NoError(e, o.Close())
			require.NoError(e, os.Remove(e.dir("gannet", "loft", "out.ova")))
			e.survey()
		}},
	{name: "import", req: &draw.Import{Asked: yes, Source: &draw.Source{Package: "loft/tide-gauge.ova"},
		Bringing: draw.Bringing{Making: draw.Making{Host: "petrel"}}},
		left:  []string{"gannet/tide-gauge:package", "gannet/tide-gauge:registered", "petrel/tide-gauge:registered"},
		after: takeAway("petrel/tide-gauge")},
	{name: "import of a package that is not as its manifest says",
		req: &draw.Import{Asked: yes, Source: &draw.Source{Package: "loft/tide-gauge.ova"},
			Bringing: draw.Bringing{Making: draw.Making{Host: "petrel"}}}, want: "failed",
		between: func(e *smallEstate) { e.spoil() }, after: func(e *smallEstate, j *inventory.Job) {
			require.Equal(e, "manifest.mismatch", j.ErrorCode, j.Error)
			require.NoDirExists(e, e.dir("petrel", "reef", "tide-gauge"))
			e.spoil()
		}},
	{name: "register a copy of a folder", ready: stray, req: &draw.Register{Asked: yes,
		Folders:  []string{"reef-gannet/spare"},
		Bringing: draw.Bringing{Making: draw.Making{Host: "petrel"}, Files: "copy"}},
		left: []string{"gannet/spare:stray", "gannet/tide-gauge:package", "gannet/tide-gauge:registered",
			"petrel/spare:registered"}, after: takeAway("petrel/spare")},
	{name: "register a copy where the name is taken in the meantime", ready: stray,
		req: &draw.Register{Asked: yes, Folders: []string{"reef-gannet/spare"},
			Bringing: draw.Bringing{Making: draw.Making{Host: "petrel"}, Files: "copy"}}, want: "failed",
		between: func(e *smallEstate) { require.NoError(e, os.MkdirAll(e.dir("petrel", "reef", "spare"), 0o755)) },
		left:    []string{"gannet/spare:stray", "gannet/tide-gauge:package", "gannet/tide-gauge:registered"},
		after: func(e *smallEstate, _ *inventory.Job) {
			require.NoError(e, os.Remove(e.dir("petrel", "reef", "spare")))
		}},
	{name: "register, moved", ready: stray, req: &draw.Register{Asked: yes, Folders: []string{"reef-gannet/spare"},
		Bringing: draw.Bringing{Making: draw.Making{Host: "petrel"}, Files: "move"}},
		left:  []string{"gannet/tide-gauge:package", "gannet/tide-gauge:registered", "petrel/spare:registered"},
		after: takeAway("petrel/spare")},
	{name: "register where it lies, and delist", ready: stray,
		req: &draw.Register{Asked: yes, Folders: []string{"reef-gannet/spare"},
			Bringing: draw.Bringing{Making: draw.Making{Host: "gannet"}}},
		left:  []string{"gannet/spare:registered", "gannet/tide-gauge:package", "gannet/tide-gauge:registered"},
		after: takeAway("gannet/spare")},
	{name: "change", req: &draw.Change{Many: draw.These("gannet/tide-gauge"), CPUs: 2},
		after: func(e *smallEstate, _ *inventory.Job) {
			c, err := e.inv.Copy(e.ctx, "gannet/tide-gauge", "registered")
			require.NoError(e, err)
			require.Equal(e, 2, c.Machine.CPUs)
			e.quiet(&draw.Change{Many: draw.These("gannet/tide-gauge"), CPUs: 1})
		}},
	{name: "renew", req: &draw.Renew{Asked: yes, Many: draw.These("gannet/tide-gauge"),
		Renew: []string{"mac"}}, after: func(e *smallEstate, _ *inventory.Job) {
		c, err := e.inv.Copy(e.ctx, "gannet/tide-gauge", "registered")
		require.NoError(e, err)
		require.NotEqual(e, "06:5c:00:aa:bb:cc", c.MACs[0])
	}},
	{name: "start", req: &draw.Start{Many: draw.These("gannet/tide-gauge")},
		after: func(e *smallEstate, _ *inventory.Job) {
			e.quiet(&draw.Stop{Many: draw.These("gannet/tide-gauge")})
		}},
	{name: "delist to the trash", ready: listed, left: []string{"gannet/tide-gauge:package",
		"gannet/tide-gauge:registered"}, req: &draw.Delist{Asked: yes,
		Many:  draw.These("gannet/spare"),
		Trash: true}},
	{name: "delist", ready: listed, req: &draw.Delist{Asked: yes,
		Many: draw.These("gannet/spare")},
		left: []string{"gannet/spare:stray", "gannet/tide-gauge:package", "gannet/tide-gauge:registered"},
		after: func(e *smallEstate, _ *inventory.Job) {
			require.NoError(e, os.RemoveAll(e.dir("gannet", "reef", "spare")))
			e.survey()
		}},
	{name: "make a switch", req: &draw.SwitchAdd{Asked: yes, Host: "petrel",
		Switch: &wiring.Switch{Name: "field", Segment: "field", VLAN: 30, Uplink: "port2", Tagged: true}},
		after: func(e *smallEstate, _ *inventory.Job) {
			e.survey()
			e.quiet(&draw.SwitchDrop{Asked: yes, Host: "petrel", Name: "field"})
			e.survey()
		}},
	{name: "import from a manager", req: &draw.Register{Asked: yes, Folders: []string{"mainland/m1"},
		Bringing: draw.Bringing{Making: draw.Making{Host: "petrel", Name: "m1-here"}, Files: "copy"}},
		left: []string{"dunlin@mainland/m1:registered", "gannet/tide-gauge:package", "gannet/tide-gauge:registered",
			"petrel/m1-here:registered"}, after: takeAway("petrel/m1-here")},
	{name: "put back in the place of what is there", req: &draw.PutBack{Asked: draw.Asked{TakeRecommended: true,
		Answers: plan.Answers{"manager.still-there": "replace"}}, Copies: draw.Copies{Copies: []string{"petrel/m1"}}},
		ready: func(e *smallEstate) {
			if !slices.Contains(e.copies(), "petrel/m1:registered") {
				e.quiet(&draw.Register{Asked: yes, Folders: []string{"mainland/m1"},
					Bringing: draw.Bringing{Making: draw.Making{Host: "petrel"}, Files: "copy"}})
			}
		}, after: func(e *smallEstate, _ *inventory.Job) {
			takeAway("petrel/m1")(e, nil)
			client := e.atMainland()
			entry, _, err := client.EntryPoint(e.ctx)
			require.NoError(e, err)
			machines, _, err := cimi.List[cimi.Machine](e.ctx, client, entry.Machines, "")
			require.NoError(e, err)
			require.Len(e, machines, 1, "one in the place of the other")
		}},
}

func (e *smallEstate) atMainland() *cimi.Client {
	m, err := e.inv.Manager(e.ctx, "mainland")
	require.NoError(e, err)
	c, err := cimi.New(m.Address, cimi.Account{Name: "skerrow", Password: "low tide"}, m.Certificate)
	require.NoError(e, err)
	return c
}

// stray lays a copied machine folder into gannet's pool.
func stray(e *smallEstate) {
	os.RemoveAll(e.dir("gannet", "reef", "spare"))
	e.machine(e.dir("gannet", "reef", "spare"), "spare")
	e.survey()
}

// listed is stray, and registered.
func listed(e *smallEstate) {
	stray(e)
	e.quiet(&draw.Register{Asked: yes, Folders: []string{"reef-gannet/spare"},
		Bringing: draw.Bringing{Making: draw.Making{Host: "gannet"}}})
}

// takeAway delists a copy and removes its files.
func takeAway(name string) func(*smallEstate, *inventory.Job) {
	return func(e *smallEstate, _ *inventory.Job) {
		e.Helper()
		c, err := e.inv.Copy(e.ctx, name, "registered")
		require.NoError(e, err)
		img, err := formats.OpenChain(filepath.Join(c.Path, c.Machine.Disks[0].File), formats.Options{})
		require.NoError(e, err)
		if img.Info().VirtualBytes == int64(len(e.truth)) {
			disktest.Same(e.T, e.truth, img)
		}
		require.NoError(e, img.Close())
		e.quiet(&draw.Delist{Asked: yes, Many: draw.These(c.ID.String()), Trash: true})
		os.RemoveAll(e.dir("gannet", "reef", "spare"))
		e.survey()
	}
}

// spoil changes a byte of the package on the shelf, or changes it back.
func (e *smallEstate) spoil() {
	path := e.dir("gannet", "loft", "tide-gauge.ova")
	raw, err := os.ReadFile(path)
	require.NoError(e, err)
	o, err := ovf.OpenPath(path)
	require.NoError(e, err)
	entry, _ := o.Entry(o.Envelope.Machines[0].Disks[0].File)
	require.NoError(e, o.Close())
	raw[entry.Offset+40] ^= 1 // of its header, what nobody reads
	require.NoError(e, os.WriteFile(path, raw, 0o644))
}

// ways that a write goes wrong.
var ways = []pgtest.How{pgtest.Before, pgtest.After, pgtest.Lost}

// TestEveryWrite: at every write that an operation makes durable, the connection breaks before it, the service dies
// behind it, or the answer is lost. The job ends as it would have, and nothing is left over. With the tag long each
// write goes wrong in all three ways, without it every third in one of them, others from run to run.
func TestEveryWrite(t *testing.T) {
	e := newSmallEstate(t)
	e.quiet(&draw.Export{Copies: draw.Copies{Copies: []string{"gannet/tide-gauge"}},
		Destination: &draw.Destination{Shelf: "loft", File: "tide-gauge.ova"}})
	for _, c := range faultCases {
		t.Run(c.name, func(t *testing.T) {
			e.T = t
			if c.want == "" {
				c.want = "done"
			}
			once := func(at int, how pgtest.How) (writes int, hit bool) {
				if c.ready != nil {
					c.ready(e)
				}
				before := e.copies()
				e.b.Arm(at, how)
				j := e.run(c.req, func() {
					if c.between != nil {
						c.between(e)
					}
				})
				writes, hit = e.b.Counted()
				e.b.Arm(0, pgtest.Never)
				e.mend()
				require.EqualValues(t, c.want, j.State, "%s write %d: %s", how, at, j.Error)
				e.w.Steer.Settled()
				e.survey()
				want := c.left
				if want == nil {
					want = before
				}
				require.Equal(t, withManager(want), withManager(e.copies()), "%s write %d", how, at)
				require.Empty(t, e.leftovers(), "%s write %d", how, at)
				var holds int
				require.NoError(t, e.inv.Pool.QueryRow(e.ctx, `select count(*) from holds`).Scan(&holds))
				require.Zero(t, holds)
				if c.after != nil {
					c.after(e, j)
				}
				return writes, hit
			}
			writes, _ := once(0, pgtest.Never)
			require.NotZero(t, writes)
			broken, all := 0, 0
			for at := 1; at <= writes; at++ {
				for _, how := range waysAt(at) {
					all++
					wrote, hit := once(at, how)
					if hit {
						broken++
					}
					// How far a task is, is written as often as somebody looks: a few writes more or less.
					require.True(t, hit || wrote < at, "write %d of %d did not go wrong", at, wrote)
				}
			}
			require.GreaterOrEqual(t, 2*broken, all, "of %d writes", writes)
			t.Logf("%d writes", writes)
		})
	}
}

// withManager leaves out what the manager has.
func withManager(list []string) (out []string) {
	for _, c := range list {
		if !strings.Contains(c, "@") {
			out = append(out, c)
		}
	}
	return out
}
