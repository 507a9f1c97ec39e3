// Package reach connects the service with the hosts that have an agent of ours. It hands out tickets, with which one
// agent reads from another, looks at what a host holds, and tells why a host is not reached.
package reach

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Hosts are the hosts of the inventory, as the service reaches them.
type Hosts struct {
	Authority *hostlink.Authority // signs agents' certificates

	inv    *inventory.Inventory
	dialer *hostlink.Dialer
	log    *slog.Logger
}

// New reaches hosts whose agents were enrolled by an authority, of the Unvora of an id.
func New(inv *inventory.Inventory, authority *hostlink.Authority, unvora string, log *slog.Logger) (*Hosts, error) {
	config, err := authority.ServiceTLS()
	if err != nil {
		return nil, err
	}
	dialer := hostlink.NewDialer(config)
	dialer.Unvora = unvora
	return &Hosts{Authority: authority, inv: inv, dialer: dialer, log: log}, nil
}

// Over are the same hosts, with what they tell written over other connections to the database.
func (r *Hosts) Over(inv *inventory.Inventory) *Hosts {
	other := *r
	other.inv = inv
	return &other
}

// Agent of a host.
func (r *Hosts) Agent(h *inventory.Host) *hostlink.Host {
	return r.dialer.Host(h.ID.String(), h.Address)
}

// Display connects to the display of the machine in a folder of a host.
func (r *Hosts) Display(ctx context.Context, h *inventory.Host, folder string) (net.Conn, error) {
	c, err := r.dialer.OpenDisplay(ctx, h.ID.String(), h.Address, folder)
	return c, Explain(h, err)
}

// Forget drops the connections to a host whose agent was installed anew.
func (r *Hosts) Forget(h *inventory.Host) { r.dialer.Forget(h.ID.String()) }

// Unreachable is returned where an agent, or a manager, was needed and did not answer.
type Unreachable struct {
	Host, Address string
	Err           error
	Says          string // the message for what is no agent; "" for the agent of a host
}

func (u *Unreachable) Error() string {
	if u.Says != "" {
		return u.Says
	}
	return fmt.Sprintf("The agent on %s does not answer at %s. Start it, or open that port to the service; then try "+
		"again. (%v)",
		u.Host, u.Address, u.Err)
}

// Explain makes an Unreachable of an error that says so; all others stay as they are.
func Explain(h *inventory.Host, err error) error {
	if errors.Is(err, hostlink.ErrUnreachable) {
		return &Unreachable{Host: h.Name, Address: h.Address, Err: err}
	}
	return err
}

// TicketLasts is how long an agent may read from another without the service having said so again. The service says it
// at each look at a task.
const TicketLasts = 10 * time.Minute

// Ticket is a name that nobody can guess. It is the same each time it is asked for, so that it can be made anew after
// an agent has forgotten it.
func (r *Hosts) Ticket(task string) (string, error) {
	key, err := r.Authority.Key.ECDH()
	if err != nil {
		return "", err
	}
	mac := hmac.New(sha256.New, key.Bytes())
	mac.Write([]byte("ticket " + task))
	return hex.EncodeToString(mac.Sum(nil)), nil
}

// LetRead lets the agents that have the ticket of a task read at a host, and returns where they do.
func (r *Hosts) LetRead(ctx context.Context, task string, at *inventory.Host, t hostlink.Ticket) (*hostlink.Remote,
	error) {
	ticket, err := r.Ticket(task)
	if err != nil {
		return nil, err
	}
	if err := r.Agent(at).Allow(ctx, ticket, t); err != nil {
		return nil, err
	}
	return &hostlink.Remote{Address: at.Address, Host: at.ID.String(), Ticket: ticket}, nil
}

// mostAsked is how often a host is asked whose records change while it answers.
const mostAsked = 5

// Survey asks one host what it holds. It leaves it to the caller to note that an unchanged host was seen.
func (r *Hosts) Survey(ctx context.Context, h *inventory.Host) (changed bool, changes []inventory.Change, err error) {
	for range mostAsked {
		changed, changes, err = r.ask(ctx, h)
		if !errors.Is(err, inventory.ErrOvertaken) {
			break
		}
		now, err := r.inv.Host(ctx, h.ID.String())
		if err != nil {
			return false, nil, err
		}
		h.Revision, h.Turn, h.State = now.Revision, now.Turn, now.State
	}
	return changed, changes, err
}

func (r *Hosts) ask(ctx context.Context, h *inventory.Host) (changed bool, changes []inventory.Change, err error) {
	return r.take(ctx, h, func(a *hostlink.Host) (*hostlink.Survey, error) { return a.Survey(ctx, h.Revision) })
}

// SurveyWhen asks one host what it holds once that has changed, or after a while. It is not asked again where its
// records have changed meanwhile (inventory.ErrOvertaken), and leaves what Survey leaves.
func (r *Hosts) SurveyWhen(ctx context.Context, h *inventory.Host, wait time.Duration) (changed bool, err error) {
	changed, _, err = r.take(ctx, h, func(a *hostlink.Host) (*hostlink.Survey, error) {
		return a.SurveyWhen(ctx, h.Revision, wait)
	})
	return changed, err
}

// take notes what a host answers; that it does not, once.
func (r *Hosts) take(ctx context.Context, h *inventory.Host, ask func(*hostlink.Host) (*hostlink.Survey,
	error)) (changed bool, changes []inventory.Change, err error) {
	s, err := ask(r.Agent(h))
	if err != nil {
		if errors.Is(err, hostlink.ErrUnreachable) && h.State != plan.HostUnreachable {
			if e := r.inv.HostState(ctx, h, plan.HostUnreachable); e != nil {
				return false, nil, e
			}
			h.State = plan.HostUnreachable
		}
		return false, nil, Explain(h, err)
	}
	if err := r.tidy(ctx, h, s.Jobs); err != nil {
		return false, nil, err
	}
	if !s.Changed && h.State != plan.HostUnreachable && s.Revision == h.Revision {
		return false, nil, nil
	}
	if changes, err = r.inv.Apply(ctx, h, s); err == nil {
		h.State = plan.HostUp
	}
	return true, changes, err
}

// tidyTime is how long a host is asked to forget a job at a survey.
const tidyTime = 3 * time.Second

// tidy tells a host which of the jobs that it keeps something of are over: it, or the service, was away at their end.
// What it does not do now it is told again.
func (r *Hosts) tidy(ctx context.Context, h *inventory.Host, kept []string) error {
	if len(kept) == 0 {
		return nil
	}
	over, err := r.inv.JobsOver(ctx, kept)
	if err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(ctx, tidyTime)
	defer stop()
	for _, j := range over {
		if err := r.Agent(h).Forget(ctx, j.ID.String(), j.Epoch); err != nil {
			r.log.Warn("tidy up after job", "job", j.ID, "host", h.Name, "error", err)
		}
	}
	return nil
}

// lookPatience is how long a host that did not answer last time gets to answer now.
const lookPatience = 2 * time.Second

// AsNow looks again at a host that did not answer last time: it may be back.
func (r *Hosts) AsNow(ctx context.Context, h *inventory.Host) {
	if h.State != plan.HostUnreachable {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, lookPatience)
	defer cancel()
	changed, _, err := r.Survey(ctx, h)
	if err == nil && !changed {
		err = r.inv.StillThere(ctx, []uuid.UUID{h.ID})
	}
	if err == nil {
		if h.State = plan.HostUp; h.Resting {
			h.State = plan.HostResting
		}
	}
}
