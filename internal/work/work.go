package work

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Work steers jobs and surveys.
type Work struct {
	inv       *inventory.Inventory
	authority *hostlink.Authority
	dialer    *hostlink.Dialer
	key       keyring.Key // seals managers' passwords
	peerTLS   *tls.Config
	river     *river.Client[pgx.Tx]
	log       *slog.Logger

	id        uuid.UUID // of this service
	askAgain  time.Duration
	desk      *desk
	admitting sync.Mutex
	came      chan struct{}   // something waits to be steered
	life      context.Context // of what goes on in the background
	end       context.CancelFunc
	behind    sync.WaitGroup

	peerAddress atomic.Value // where other Unvoras reach this one; a string, once it listens
}

const (
	tickTime    = 4 * time.Second  // after which a tick lets others have its worker
	tickLimit   = 30 * time.Second // after which the queue gives it up
	rescueAfter = time.Minute
	surveyEvery = time.Minute // of all hosts; they tell by themselves when something has changed
	keepEvents  = time.Hour
	endTime     = 2 * time.Second // that ticks which are under way get when the service ends
)

// New connects work with the inventory and brings River's tables up to date.
// Secrets are sealed with key.
func New(ctx context.Context, inv *inventory.Inventory, key keyring.Key, log *slog.Logger) (*Work, error) {
	driver := riverpgxv5.New(inv.Pool)
	migrator, err := rivermigrate.New(driver, nil)
	if err != nil {
		return nil, err
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("bring the job queue's tables up to date: %w", err)
	}
	authority, err := openAuthority(ctx, inv, key)
	if err != nil {
		return nil, err
	}
	service, err := authority.ServiceTLS()
	if err != nil {
		return nil, err
	}
	w := &Work{inv: inv, authority: authority, dialer: hostlink.NewDialer(service), key: key, log: log,
		id: inventory.NewID(), askAgain: askAgain, desk: newDesk(), came: make(chan struct{}, 1)}
	w.life, w.end = context.WithCancel(context.Background())
	if w.peerTLS, err = authority.PeerTLS(); err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &steerer{w: w})
	river.AddWorker(workers, &lookout{w: w})
	w.river, err = river.NewClient(driver, &river.Config{
		Queues:               map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 64}},
		Workers:              workers,
		JobTimeout:           tickLimit,
		RescueStuckJobsAfter: rescueAfter,
		FetchPollInterval:    500 * time.Millisecond,
		FetchCooldown:        5 * time.Millisecond, // a job that nobody waits behind begins at once
		Logger:               slog.New(quiet{log.Handler()}),
		PeriodicJobs: []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(surveyEvery), func() (river.JobArgs, *river.InsertOpts) {
			return lookoutArgs{}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByPeriod: surveyEvery}}
		}, &river.PeriodicJobOpts{RunOnStart: true})},
	})
	return w, err
}

// quiet lets only warnings of the queue through.
type quiet struct{ slog.Handler }

func (quiet) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

// Run works until ctx ends, then lets ticks that are under way finish.
func (w *Work) Run(ctx context.Context) error {
	defer w.behind.Wait()
	defer w.end()
	if err := w.river.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start the job queue: %w", err)
	}
	var all sync.WaitGroup
	for _, f := range []func(context.Context){w.beat, w.watchJobs, w.watchHosts} {
		all.Go(func() { f(ctx) })
	}
	<-ctx.Done()
	stop, cancel := context.WithTimeout(context.Background(), endTime)
	defer cancel()
	err := w.river.StopAndCancel(stop)
	all.Wait()
	return err
}

// NotRunnable is returned by Start for a plan that can't be carried out.
type NotRunnable struct{ Plan *plan.Plan }

func (n *NotRunnable) Error() string {
	if n.Plan.Blocked() {
		return "The plan has findings that nothing can go on with."
	}
	return fmt.Sprintf("The plan has %d open choices.", len(n.Plan.OpenChoices()))
}

// Denied is returned for what needs a higher role than the call alone.
type Denied struct{ Role, What string }

func (d *Denied) Error() string { return "This needs the role " + d.Role + ": " + d.What + "." }

// Start works the plan out once more and makes a job of it. A key that was
// used before by the same user returns the job that it started.
func (w *Work) Start(ctx context.Context, req *Request, user, key string) (*inventory.Job, error) {
	if j, err := w.inv.JobByKey(ctx, user, key); j != nil || err != nil {
		return j, err
	}
	started, err := w.start(ctx, req, user, key)
	if err != nil { // a call with the same key, at the same moment, may have been quicker
		if j, e := w.inv.JobByKey(ctx, user, key); j != nil && e == nil {
			return j, nil
		}
		return nil, err
	}
	if err := w.admit(ctx); err != nil { // it waits, and is found there
		w.log.Warn("begin job", "job", started, "error", err)
	}
	return w.inv.Job(ctx, started.String())
}

func (w *Work) start(ctx context.Context, req *Request, user, key string) (id uuid.UUID, err error) {
	d, err := w.draw(ctx, req)
	if err != nil {
		return id, err
	}
	if !d.Runnable {
		return id, &NotRunnable{d.Plan}
	}
	if !req.administrator {
		for _, s := range d.Steps {
			if s.Kind == plan.KindMakeSwitch || s.Kind == plan.KindDropSwitch {
				return id, &Denied{"administrator", s.What}
			}
		}
	}
	id = inventory.NewID()
	j := &inventory.Job{ID: id, UserName: user, Note: req.Note, NewCopy: d.finish(time.Now())}
	return id, w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.AddJob(ctx, tx, j, d.Plan, d.hosts, key, d.holds, req); err != nil || !req.KeepWiring {
			return err
		}
		return w.keepWiring(ctx, tx, d.Plan, req.Host, user)
	})
}

// keepWiring makes rules of the switches that a person chose where nothing told
// which one is right, in the transaction that makes the job.
func (w *Work) keepWiring(ctx context.Context, tx pgx.Tx, p *plan.Plan, host, user string) error {
	for _, f := range p.Findings {
		network, _ := f.Detail["network"].(string)
		if network == "" || f.Remedy() != "switch" || !strings.HasPrefix(f.Code, "network.") {
			continue
		}
		if _, err := inventory.PutRule(ctx, tx, wiring.Rule{Network: network, Host: host, Switch: f.Value()}, true, user); err != nil {
			return err
		}
	}
	return nil
}

// Cancel asks for a job to be stopped and undone.
func (w *Work) Cancel(ctx context.Context, ref, user string) (*inventory.Job, error) {
	return w.ask(ctx, ref, user, w.inv.AskCancel)
}

// Hold asks for a job to be stopped where it is.
func (w *Work) Hold(ctx context.Context, ref, user string) (*inventory.Job, error) {
	return w.ask(ctx, ref, user, w.inv.AskHold)
}

// Resume lets a job that is held go on.
func (w *Work) Resume(ctx context.Context, ref, user string) (*inventory.Job, error) {
	return w.ask(ctx, ref, user, w.inv.AskResume)
}

func (w *Work) ask(ctx context.Context, ref, user string, f func(context.Context, *inventory.Job, string) error) (*inventory.Job, error) {
	j, err := w.inv.Job(ctx, ref)
	if err != nil {
		return nil, err
	}
	if err := f(ctx, j, user); err != nil {
		return nil, err
	}
	w.tell()
	return w.inv.Job(ctx, j.ID.String())
}

func (w *Work) agent(h *inventory.Host) *hostlink.Host {
	return w.dialer.Host(h.ID.String(), h.Address)
}

// Unreachable is returned where an agent, or a manager, was needed and did not answer.
type Unreachable struct {
	Host, Address string
	Err           error
	Says          string // of what is no agent; "" for the agent of a host
}

func (u *Unreachable) Error() string {
	if u.Says != "" {
		return u.Says
	}
	return fmt.Sprintf("The agent on %s does not answer at %s. Start it, or open that port to the service; then try again. (%v)", u.Host, u.Address, u.Err)
}

func (w *Work) unreachable(h *inventory.Host, err error) error {
	if errors.Is(err, hostlink.ErrUnreachable) {
		return &Unreachable{Host: h.Name, Address: h.Address, Err: err}
	}
	return err
}

// ticket is a name that nobody can guess, the same each time it is asked for,
// so that it can be made anew after an agent has forgotten it.
func (w *Work) ticket(task string) (string, error) {
	key, err := w.authority.Key.ECDH()
	if err != nil {
		return "", err
	}
	mac := hmac.New(sha256.New, key.Bytes())
	mac.Write([]byte("ticket " + task))
	return hex.EncodeToString(mac.Sum(nil)), nil
}

// AddHost enrols an agent and looks at it for the first time.
func (w *Work) AddHost(ctx context.Context, address, code, user string) (*inventory.Host, error) {
	c, err := hostlink.ParseCode(code)
	if err != nil {
		return nil, wrong("%v", err)
	}
	id := inventory.NewID()
	hello, err := w.authority.Enrol(ctx, address, c, id.String())
	switch {
	case errors.Is(err, hostlink.ErrUnreachable):
		return nil, &Unreachable{Host: "this host", Address: address, Err: err}
	case err != nil:
		return nil, wrong("The agent at %s refuses: %v.", address, err)
	case hello.Protocol != hostlink.Protocol:
		return nil, wrong("The agent at %s speaks protocol %d, this service %d: update the older one.", address, hello.Protocol, hostlink.Protocol)
	}
	if _, err := fit.FamilyByName(hello.Family); err != nil {
		return nil, wrong("The agent at %s: %v.", address, err)
	}
	if err := w.inv.AddHost(ctx, id, address, hello, user); err != nil {
		return nil, err
	}
	h, err := w.inv.Host(ctx, id.String())
	if err != nil {
		return nil, err
	}
	_, err = w.Survey(ctx, h)
	return h, err
}

// Survey asks one host what it holds.
func (w *Work) Survey(ctx context.Context, h *inventory.Host) ([]inventory.Change, error) {
	changed, changes, err := w.survey(ctx, h)
	if err == nil && !changed {
		err = w.inv.StillThere(ctx, []uuid.UUID{h.ID})
	}
	return changes, err
}

// survey leaves it to the caller to note that an unchanged host was seen.
func (w *Work) survey(ctx context.Context, h *inventory.Host) (bool, []inventory.Change, error) {
	if h.ManagerID != nil {
		m, err := w.inv.Manager(ctx, h.ManagerID.String())
		if err != nil {
			return false, nil, err
		}
		changes, err := w.surveyManager(ctx, m)
		return true, changes, err
	}
	s, err := w.agent(h).Survey(ctx, h.Revision)
	if err != nil {
		if errors.Is(err, hostlink.ErrUnreachable) {
			if e := w.inv.HostState(ctx, h, "unreachable"); e != nil {
				return false, nil, e
			}
		}
		return false, nil, w.unreachable(h, err)
	}
	if !s.Changed && h.State != "unreachable" && s.Revision == h.Revision {
		return false, nil, nil
	}
	changes, err := w.inv.Apply(ctx, h, s)
	return true, changes, err
}
