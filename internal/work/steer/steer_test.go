package steer_test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/inventory/pgtest"
	"unvora.example/unvora/internal/wait"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
	"unvora.example/unvora/internal/work/steer"
)

// playedAgent answers what a steerer asks of a host as a test says, and notes it: "start s1", "undo s1" …
type playedAgent struct {
	mu   sync.Mutex
	said []string
	// tasks are what a step's task is found to be, the last one for ever. None: it is done at once.
	tasks map[string][]hostlink.Task
	// faults refuse a call, by what would be noted.
	faults map[string]hostlink.Fault
	// silent agents break every connection off.
	silent bool
	// upon happens while a call is answered, by what is noted.
	upon  map[string]func()
	specs map[string]hostlink.TaskSpec
}

func (a *playedAgent) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.silent {
		panic(http.ErrAbortHandler)
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	_, step, _ := strings.Cut(parts[2], ".")
	word := map[string]string{http.MethodPut: "start", http.MethodGet: "look", http.MethodPost: "pause",
		http.MethodDelete: "undo"}[r.Method]
	if parts[1] == "jobs" {
		word, step = "forget", "all"
	}
	if word == "start" {
		var spec hostlink.TaskSpec
		if err := json.NewDecoder(r.Body).Decode(&spec); err != nil {
			panic(err)
		}
		a.specs[step] = spec
	}
	call := word + " " + step
	if word != "look" {
		a.said = append(a.said, call)
	}
	if happens := a.upon[call]; happens != nil {
		happens()
	}
	w.Header().Set("Content-Type", "application/json")
	if f, ok := a.faults[call]; ok {
		w.WriteHeader(http.StatusConflict)
		_ = json.NewEncoder(w).Encode(f)
		return
	}
	t := hostlink.Task{ID: parts[2], State: hostlink.TaskDone}
	if list := a.tasks[step]; len(list) > 0 && (word == "start" || word == "look") {
		t = list[0]
		if len(list) > 1 {
			a.tasks[step] = list[1:]
		}
	}
	_ = json.NewEncoder(w).Encode(t)
}

func (a *playedAgent) says() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.said)
}

// said is what was logged.
type said struct {
	mu  sync.Mutex
	buf strings.Builder
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.buf.String()
}

// bench is a steerer without a queue, with one played agent.
type bench struct {
	*testing.T
	ctx    context.Context
	inv    *inventory.Inventory
	s      *steer.Steerer
	agent  *playedAgent
	host   uuid.UUID
	ended  []string // jobs whose operation was told
	before []int    // how many had looked by then, for each
	log    *said
	// looked are names of hosts that were looked at again.
	looked chan string
	gate   chan struct{} // that whoever looks waits at; may be nil
}

func newBench(t *testing.T) *bench {
	b := &bench{T: t, ctx: t.Context(), host: inventory.NewID(), log: &said{}, looked: make(chan string, 100),
		agent: &playedAgent{tasks: map[string][]hostlink.Task{},
			faults: map[string]hostlink.Fault{}, specs: map[string]hostlink.TaskSpec{}}}
	var err error
	b.inv, err = inventory.Open(b.ctx, pgtest.Database(t, database))
	require.NoError(t, err)
	t.Cleanup(b.inv.Close)
	cert, key, err := hostlink.NewAuthority()
	require.NoError(t, err)
	authority, err := hostlink.LoadAuthority(cert, key)
	require.NoError(t, err)

	agentCert, agentKey, err := hostlink.NewKey()
	require.NoError(t, err)
	pair, err := tls.X509KeyPair(agentCert, agentKey)
	require.NoError(t, err)
	issued, err := authority.Issue(b.host.String(), pair.Leaf.PublicKey)
	require.NoError(t, err)
	config, err := hostlink.MemberTLS(issued, agentKey, authority.CertPEM())
	require.NoError(t, err)
	config.NextProtos = []string{"h2", "http/1.1"}
	l, err := tls.Listen("tcp", "127.0.0.1:0", config)
	require.NoError(t, err)
	server := &http.Server{Handler: b.agent, ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { server.Close() })

	require.NoError(t, b.inv.AddHost(b.ctx, b.host, l.Addr().(*net.TCPAddr).String(), &hostlink.Hello{Name: "gannet",
		Family: "slate", Site: "Northhead", CPUs: 16, MemoryBytes: 1 << 36}, "robin"))
	hosts, err := reach.New(b.inv, authority, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b.s, err = steer.New(b.ctx, b.inv, hosts, away.NewPlaces(b.inv, nil), steer.Options{
		Look: func(_ context.Context, h *inventory.Host) error {
			b.looked <- h.Name
			if b.gate != nil {
				<-b.gate
			}
			return nil
		},
		Ended: func(_ context.Context, j *inventory.Job) error {
			b.ended, b.before = append(b.ended, j.ID.String()), append(b.before, len(b.looked))
			return nil
		},
		Also: func(*river.Workers) []*river.PeriodicJob { return nil },
	}, slog.New(slog.NewTextHandler(b.log, nil)))
	require.NoError(t, err)
	t.Cleanup(b.s.Stop)
	require.NoError(t, b.inv.NewBeater(b.s.ID()).Beat(b.ctx))
	return b
}

// job starts one of these steps at gannet; each stands for a folder of its own.
func (b *bench) job(kinds ...plan.Params) *inventory.Job {
	b.Helper()
	p := &plan.Plan{Operation: "change", Subjects: []string{"gannet/tide-gauge"}, Target: "gannet"}
	for i, do := range kinds {
		at := ""
		if plan.Kinds[do.Kind()].At != plan.AtService {
			at = "gannet"
		}
		if plan.Kinds[do.Kind()].Final && p.PointOfNoReturn == nil && i > 0 {
			p.PointOfNoReturn = &p.Steps[i-1].ID
		}
		p.Steps = append(p.Steps, plan.Step{ID: fmt.Sprint("s", i+1), Kind: do.Kind(),
			What: fmt.Sprint("Do part ", i+1),
			Host: at, Do: do})
	}
	j := &inventory.Job{ID: inventory.NewID(), UserName: "robin"}
	require.NoError(b, b.inv.InTx(b.ctx, func(tx pgx.Tx) error {
		return inventory.In(tx).AddJob(b.ctx, inventory.NewJob{Job: j, Plan: p,
			Hosts: map[string]uuid.UUID{"gannet": b.host}})
	}))
	require.NoError(b, b.s.LookForJobs(b.ctx))
	return b.now(j)
}

func (b *bench) now(j *inventory.Job) *inventory.Job {
	b.Helper()
	now, err := b.inv.Job(b.ctx, j.ID.String())
	require.NoError(b, err)
	return now
}

// tick is one tick by the owner of that epoch; whether something is waited for.
func (b *bench) tick(j *inventory.Job) (waits bool, err error) {
	_, wait, err := b.s.Tick(b.ctx, j.ID, j.Epoch)
	return wait != nil, err
}

// resume lets a job that is held go on, and is its next tick.
func (b *bench) resume(j *inventory.Job) {
	b.Helper()
	_, err := b.s.Resume(b.ctx, j.ID.String(), "robin")
	require.NoError(b, err)
	require.NoError(b, b.s.LookForJobs(b.ctx))
	_, err = b.tick(b.now(j))
	require.NoError(b, err)
}

func states(j *inventory.Job) string {
	var all []string
	for _, s := range j.Steps {
		all = append(all, string(s.State))
	}
	return string(j.State) + ": " + strings.Join(all, " ")
}

var (
	mend   = plan.Mend{Path: "/reef/tide-gauge/disk1.qcow2"}
	delist = plan.Unlist{Folder: "/reef/tide-gauge"}
	// what can't be taken back
	useAhead = plan.UseAhead{}
)

// TestTicks: steps are done in their order, one after the other; a task that goes on is waited for and looked at again.
func TestTicks(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s2"] = []hostlink.Task{{State: hostlink.TaskRunning, Done: 7},
		{State: hostlink.TaskRunning, Done: 8},
		{State: hostlink.TaskDone, Done: 9, Note: "by hand"}}
	j := b.job(mend, delist)
	waits, err := b.tick(j)
	require.NoError(t, err)
	require.True(t, waits)
	require.Equal(t, "working: done working", states(b.now(j)))
	require.EqualValues(t, 8, b.now(j).Steps[1].Done)
	require.Equal(t, j.Epoch, b.agent.specs["s2"].Epoch, "the agent knows whose task it is")

	waits, err = b.tick(j)
	require.NoError(t, err)
	require.False(t, waits)
	j = b.now(j)
	require.Equal(t, "done: done done", states(j))
	require.Equal(t, "Do part 2 (by hand)", j.Steps[1].What)
	require.Equal(t, []string{"start s1", "start s2", "start s2", "forget all"}, b.agent.says())
	require.Equal(t, []string{j.ID.String()}, b.ended)

	waits, err = b.tick(j)
	require.NoError(t, err)
	require.False(t, waits, "nothing comes of a job that is over")
	require.Len(t, b.agent.says(), 4)
}

// TestUndone: what was done is taken back, the last step first; the failed one too, those after it never began.
func TestUndone(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s2"] = []hostlink.Task{{State: hostlink.TaskFailed, Code: "disk.damaged",
		Error: "block 7 can't be read"}}
	j := b.job(mend, mend, delist)
	_, err := b.tick(j)
	require.NoError(t, err)
	j = b.now(j)
	require.Equal(t, "failed: undone undone waiting", states(j))
	require.Equal(t, "disk.damaged", j.ErrorCode)
	require.Equal(t, "Do part 2: block 7 can't be read", j.Error)
	require.Equal(t, []string{"start s1", "start s2", "undo s2", "undo s1", "forget all"}, b.agent.says())
	require.Empty(t, b.ended)
}

// TestRefusedTask: an agent that refuses a task at once is one that failed it.
func TestRefusedTask(t *testing.T) {
	b := newBench(t)
	b.agent.faults["start s1"] = hostlink.Fault{Code: "disk.outside-pool", Message: "it lies in no pool"}
	j := b.job(mend)
	_, err := b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "failed: undone", states(b.now(j)))
	require.Equal(t, "disk.outside-pool", b.now(j).ErrorCode)
}

// TestUndoStuck: a step that can't be taken back holds its job, with the reason; it ends once it can be.
func TestUndoStuck(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s2"] = []hostlink.Task{{State: hostlink.TaskFailed, Error: "no room"}}
	b.agent.faults["undo s1"] = hostlink.Fault{Code: "busy", Message: "somebody has it open"}
	j := b.job(mend, delist)
	_, err := b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "held: done undone", states(b.now(j)))
	require.Equal(t, "Do part 1: it can't be taken back: somebody has it open", b.now(j).HeldFor)
	require.NotNil(t, b.now(j).RetryAt)

	delete(b.agent.faults, "undo s1")
	b.resume(j)
	require.Equal(t, "failed: undone undone", states(b.now(j)))
	require.Contains(t, b.now(j).Error, "no room", "why it failed is not forgotten over that")
}

// TestStaleOwner: who was given up for dead, and comes back, changes nothing: by the record, and by the agent.
func TestStaleOwner(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j := b.job(mend)
	_, err := b.tick(j)
	require.NoError(t, err)
	old := b.now(j)

	_, err = b.inv.Pool.Exec(b.ctx, `delete from services`)
	require.NoError(t, err)
	b.s.Reborn()
	require.NoError(t, b.inv.NewBeater(b.s.ID()).Beat(b.ctx))
	require.NoError(t, b.s.LookForJobs(b.ctx))
	require.Greater(t, b.now(j).Epoch, old.Epoch)
	before := len(b.agent.says())
	waits, err := b.tick(old)
	require.NoError(t, err)
	require.False(t, waits)
	require.Len(t, b.agent.says(), before, "the agent is not asked by an owner that is none")
	require.ErrorIs(t, b.inv.UpdateStep(b.ctx, old.Epoch, &old.Steps[0]), inventory.ErrStale)
	require.ErrorIs(t, b.inv.FailStep(b.ctx, old, &old.Steps[0], "", "too late", false), inventory.ErrStale)
	require.ErrorIs(t, b.inv.EndJob(b.ctx, old, "done", "", ""), inventory.ErrStale)

	b.agent.faults["start s1"] = hostlink.Fault{Code: hostlink.FaultStale,
		Message: "somebody newer looks after the job"}
	_, err = b.tick(b.now(j))
	var fault *hostlink.Fault
	require.ErrorAs(t, err, &fault, "an agent that knows of somebody newer is believed")
	require.Equal(t, "working: working", states(b.now(j)), "and the job is not failed for it")
}

// TestNoReturn: past the point of no return a job only goes forward. A step that fails there is tried again.
func TestNoReturn(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s3"] = []hostlink.Task{{State: hostlink.TaskFailed, Code: "busy", Error: "somebody has it open"},
		{State: hostlink.TaskDone}}
	j := b.job(mend, useAhead, delist)
	_, err := b.tick(j)
	require.NoError(t, err)
	held := b.now(j)
	require.Equal(t, "held: done done working", states(held))
	require.Equal(t, "Do part 3: somebody has it open", held.HeldFor)
	require.NotContains(t, b.agent.says(), "undo s1")

	_, err = b.s.Cancel(b.ctx, j.ID.String(), "robin")
	require.Error(t, err, "what can't be undone can't be cancelled")
	b.resume(j)
	require.Equal(t, "done: done done done", states(b.now(j)))
	require.EqualValues(t, 1, b.agent.specs["s3"].Try, "the agent is told that it is asked again")
}

// TestBeforeNoReturn: the last step before it, and the first behind it while nothing was done of it, can be undone.
func TestBeforeNoReturn(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s2"] = []hostlink.Task{{State: hostlink.TaskFailed, Error: "no room"}}
	j := b.job(mend, mend, useAhead)
	_, err := b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "failed: undone undone waiting", states(b.now(j)))
}

// TestHold: a job that is held stops its task, and goes on where it was.
func TestHold(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j := b.job(mend, delist)
	_, err := b.tick(j)
	require.NoError(t, err)
	_, err = b.s.Hold(b.ctx, j.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "held: working waiting", states(b.now(j)))
	require.Equal(t, []string{"start s1", "pause s1"}, b.agent.says())
	require.Nil(t, b.now(j).RetryAt, "who held it lets it go on")

	b.agent.tasks["s1"] = nil
	b.resume(j)
	require.Equal(t, "done: done done", states(b.now(j)))
}

// TestHeldIsTold: that a job is done is in the history once, whatever was asked of it on the way.
func TestHeldIsTold(t *testing.T) {
	b := newBench(t)
	b.agent.tasks["s1"] = []hostlink.Task{{State: hostlink.TaskRunning}}
	j := b.job(mend)
	_, err := b.tick(j)
	require.NoError(t, err)
	_, err = b.s.Hold(b.ctx, j.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	b.agent.tasks["s1"] = nil
	b.resume(j)
	require.Equal(t, "done: done", states(b.now(j)))
	list, err := b.inv.History(b.ctx, nil, "job="+j.ID.String(), 100, "")
	require.NoError(t, err)
	var told []string
	for _, e := range list {
		told = append(told, e.What)
	}
	require.Equal(t, []string{j.Operation, "job resume", "job hold"}, told)
	for _, filter := range []string{"since", "until"} {
		today := time.Now().UTC().Format(time.DateOnly)
		list, err = b.inv.History(b.ctx, nil, "job="+j.ID.String()+" "+filter+"="+today, 100, "")
		require.NoError(t, err)
		require.Len(t, list, len(told), "%s a day: all of it", filter)
	}
}

// TestSilentAgent: an agent that is away fails nothing: its step is asked for again.
func TestSilentAgent(t *testing.T) {
	b := newBench(t)
	b.agent.silent = true
	j := b.job(mend)
	_, err := b.tick(j)
	require.ErrorIs(t, err, hostlink.ErrUnreachable)
	require.Equal(t, "working: working", states(b.now(j)))
	b.agent.mu.Lock()
	b.agent.silent = false
	b.agent.mu.Unlock()
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "done: done", states(b.now(j)))
}

// TestEffects: what the inventory shows of a step is recorded with its end, and with its undoing.
func TestEffects(t *testing.T) {
	b := newBench(t)
	there := func() (names []string) {
		list, err := b.inv.Switches(b.ctx, b.host)
		require.NoError(t, err)
		for _, s := range list {
			names = append(names, s.Name)
		}
		return names
	}
	quay := plan.MakeSwitch{SwitchWork: plan.SwitchWork{Switch: wiring.Switch{Name: "quay", Segment: "lab"}}}
	b.agent.tasks["s2"] = []hostlink.Task{{State: hostlink.TaskRunning}, {State: hostlink.TaskRunning},
		{State: hostlink.TaskFailed, Error: "no room"}}
	j := b.job(quay, mend)
	_, err := b.tick(j)
	require.NoError(t, err)
	require.Equal(t, []string{"quay"}, there())
	_, err = b.tick(j)
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "failed: undone undone", states(b.now(j)))
	require.Empty(t, there())
}

// TestEveryKindHasARow: no kind of step is without a way to be carried out.
func TestEveryKindHasARow(t *testing.T) {
	require.ElementsMatch(t, slices.Collect(maps.Keys(plan.Kinds)), steer.Kinds())
	for kind, trait := range plan.Kinds {
		require.Equal(t, trait.At == plan.AtService, steer.InService(kind), kind)
	}
}

// TestRuns: jobs go by themselves, several at once, over tasks that take their time; they stop with the service, and
// what was under way is taken up by the next one.
func TestRuns(t *testing.T) {
	b := newBench(t)
	slow := hostlink.Task{State: hostlink.TaskRunning}
	b.agent.tasks["s1"] = []hostlink.Task{slow, slow, slow, slow, slow, slow, {State: hostlink.TaskDone}}
	jobs := []*inventory.Job{b.job(mend, mend), b.job(delist), b.job(mend, useAhead, delist)}
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- b.s.Run(ctx) }()
	wait.Until(t, func() bool {
		return !slices.ContainsFunc(jobs, func(j *inventory.Job) bool { return !b.now(j).Over() })
	})
	for _, j := range jobs {
		require.EqualValues(t, "done", b.now(j).State, b.now(j).Error)
	}
	stop()
	require.NoError(t, <-ended)
}

// TestStuckJob: an agent that is away keeps its job waiting, longer and longer; it goes on when the agent is back.
func TestStuckJob(t *testing.T) {
	b := newBench(t)
	b.agent.silent = true
	j := b.job(mend)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- b.s.Run(ctx) }()
	require.Never(t, func() bool { return b.now(j).Over() }, 1500*time.Millisecond, 50*time.Millisecond)
	b.agent.mu.Lock()
	b.agent.silent = false
	b.agent.mu.Unlock()
	wait.Until(t, func() bool { return b.now(j).State == "done" })
	stop()
	require.NoError(t, <-ended)
}

// TestLend: a reading by another Unvora goes as far as that tells, and ends as that says, or when it says nothing.
func TestLend(t *testing.T) {
	b := newBench(t)
	m := &inventory.Manager{ID: inventory.NewID(), Name: "island", Kind: inventory.ManagerUnvora,
		Address: "island.example:7489"}
	require.NoError(t, b.inv.AddManager(b.ctx, m, "robin"))
	lend := func(theirs string) *inventory.Job {
		j := b.job(plan.Lend{Copy: inventory.NewID().String()})
		require.NoError(t, b.inv.InTx(b.ctx, func(tx pgx.Tx) error {
			return inventory.In(tx).AddLent(b.ctx, j.ID, m.ID, theirs)
		}))
		return j
	}
	j := lend("one")
	waits, err := b.tick(j)
	require.NoError(t, err)
	require.True(t, waits)
	require.NoError(t, b.inv.TellLent(b.ctx, j.ID, 7))
	_, err = b.tick(j)
	require.NoError(t, err)
	require.EqualValues(t, 7, b.now(j).Steps[0].Done)
	require.Equal(t, "working: working", states(b.now(j)))
	require.NoError(t, b.inv.EndLent(b.ctx, j.ID, true, ""))
	waits, err = b.tick(j)
	require.NoError(t, err)
	require.False(t, waits)
	require.Equal(t, "done: done", states(b.now(j)))
	require.EqualValues(t, 7, b.now(j).Steps[0].Done)

	j = lend("two")
	require.NoError(t, b.inv.EndLent(b.ctx, j.ID, false, "the drive there is full"))
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "failed: undone", states(b.now(j)))
	require.Contains(t, b.now(j).Error, "the drive there is full")

	j = lend("three")
	for after, want := range map[string]string{"14 minutes": "working: working", "16 minutes": "failed: undone"} {
		j := j
		if after == "16 minutes" {
			j = lend("four")
		}
		_, err = b.inv.Pool.Exec(b.ctx, `update lent set at = now() - $2::text::interval where job_id = $1`, j.ID,
			after)
		require.NoError(t, err)
		_, err = b.tick(j)
		require.NoError(t, err)
		require.Equal(t, want, states(b.now(j)), after)
	}
	j = b.job(plan.Lend{Copy: inventory.NewID().String()})
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Contains(t, b.now(j).Error, "the other Unvora was dropped")
}

// TestHoldBetween: a job that is held between two steps, or in one of the service's own, has no task to stop.
func TestHoldBetween(t *testing.T) {
	b := newBench(t)
	j := b.job(mend)
	_, err := b.s.Hold(b.ctx, j.ID.String(), "robin")
	require.NoError(t, err)
	_, err = b.tick(j)
	require.NoError(t, err)
	require.Equal(t, "held: waiting", states(b.now(j)))
	require.Empty(t, b.agent.says())
	b.resume(j)
	require.Equal(t, "done: done", states(b.now(j)))
}
