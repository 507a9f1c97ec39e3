package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// ServePeers listens for other Unvoras until ctx ends.
func (w *Work) ServePeers(ctx context.Context, address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listen for other Unvoras on %s: %w; choose another with --peers", address, err)
	}
	w.peerAddress.Store(l.Addr().String())
	mux := http.NewServeMux()
	mux.HandleFunc("POST /peer/pair", func(rw http.ResponseWriter, r *http.Request) {
		hostlink.Answer(rw, struct{}{}, w.knocked(r))
	})
	from := func(pattern string, f func(ctx context.Context, m *inventory.Manager, g Grants, r *http.Request) (any, error)) {
		mux.HandleFunc(pattern, func(rw http.ResponseWriter, r *http.Request) {
			m, g, err := w.asking(r)
			var v any
			if err == nil {
				v, err = f(r.Context(), m, g, r)
			}
			hostlink.Answer(rw, v, err)
		})
	}
	from("GET /peer/holds", func(ctx context.Context, m *inventory.Manager, g Grants, _ *http.Request) (any, error) {
		return w.holdsFor(ctx, g)
	})
	from("POST /peer/reads", w.lend)
	from("POST /peer/reads/{job}/end", w.endLending)
	server := &http.Server{Handler: mux, TLSConfig: w.peerTLS, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(w.log.Handler(), slog.LevelDebug)}
	go func() {
		<-ctx.Done()
		server.Close()
	}()
	if err := server.ServeTLS(l, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// knocked uses up the code whose secret is presented.
func (w *Work) knocked(r *http.Request) error {
	if _, err := hostlink.PeerAuthority(r.TLS); err != nil {
		return err
	}
	var k hostlink.PeerKnock
	if err := hostlink.ReadBody(r, &k); err != nil {
		return err
	}
	ok, err := w.inv.TakePairing(r.Context(), hashed(k.Secret))
	if err == nil && !ok {
		err = &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "the code was used before, or is older than a quarter of an hour: ask for another"}
	}
	return err
}

// asking is who asks, and what it may.
func (w *Work) asking(r *http.Request) (*inventory.Manager, Grants, error) {
	var g Grants
	authority, err := hostlink.PeerAuthority(r.TLS)
	if err != nil {
		return nil, g, err
	}
	m, err := w.inv.ManagerByCertificate(r.Context(), hostlink.EncodeAuthority(authority))
	if err != nil {
		return nil, g, err
	}
	if m == nil {
		return nil, g, &hostlink.Fault{Code: "not-paired", Message: "there, nobody has paired with us yet: its people need a code of ours (unvora manager code), and call unvora manager pair"}
	}
	return m, g, json.Unmarshal(m.Grants, &g)
}

// holdsFor tells of the copies that are granted, as surveys of their hosts. Each
// bears a passport, so that both sides know it by the same ids.
func (w *Work) holdsFor(ctx context.Context, g Grants) (*hostlink.PeerHolds, error) {
	out := &hostlink.PeerHolds{Version: peerVersion, Take: g.Take, Hosts: map[string]*hostlink.Survey{}}
	filter, ok := g.selector()
	if !ok {
		return out, nil
	}
	known := map[string]*inventory.Host{}
	err := w.inv.EachCopy(ctx, "form=registered "+filter, func(c *inventory.Copy) error {
		h := known[c.Host]
		if h == nil {
			var err error
			if h, err = w.inv.Host(ctx, c.Host); err != nil {
				return err
			}
			known[c.Host] = h
		}
		if h.ManagerID != nil {
			return nil
		}
		s := out.Hosts[h.Name]
		if s == nil {
			s = &hostlink.Survey{Full: true, Changed: true, Hello: &hostlink.Hello{Protocol: hostlink.Protocol, Driver: inventory.ManagerUnvora, Family: h.Family, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes, Time: time.Now()}}
			out.Hosts[h.Name] = s
		}
		m := c.Machine.Clone()
		m.Passport = &machine.Passport{Lineage: c.LineageID.String(), Copy: c.ID.String(), MadeBy: c.MadeBy, MadeAt: c.MadeAt, Identity: c.Identity, Renewed: c.Renewed}
		if c.Parent != nil {
			m.Passport.Parent = c.Parent.String()
		}
		s.Machines = append(s.Machines, hostlink.Folder{Path: c.Path, Registered: true, FilesThere: true, PoolThere: true, State: c.State, Bytes: c.SizeBytes, Machine: m, Addresses: c.Addresses})
		return nil
	})
	return out, errors.Join(err, number(out.Hosts))
}

// lend lets another Unvora read a copy: a job here goes along with the one there.
func (w *Work) lend(ctx context.Context, m *inventory.Manager, g Grants, r *http.Request) (any, error) {
	var q hostlink.PeerRead
	if err := hostlink.ReadBody(r, &q); err != nil {
		return nil, err
	}
	c, err := w.granted(ctx, g, q.Copy)
	if err != nil {
		return nil, err
	}
	id, err := w.inv.Lent(ctx, m.ID, q.Job)
	if err != nil {
		return nil, err
	}
	if id == nil {
		if id, err = w.beginLending(ctx, m, c, q); err != nil {
			return nil, err
		}
	}
	j, err := w.inv.Job(ctx, id.String())
	if err != nil {
		return nil, err
	}
	if j.Over() {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: fmt.Sprintf("the job that goes along with it is %s: %s", j.State, j.Error)}
	}
	if err := w.inv.TellLent(ctx, *id, q.Done); err != nil {
		return nil, err
	}
	s := next(j)
	if s == nil || s.Kind != plan.KindLend {
		return &hostlink.PeerTicket{Wait: true}, nil
	}
	if do, err := decode[plan.Lend](s); err != nil {
		return nil, err
	} else if do.Copy != c.ID.String() {
		return nil, denied("that reading is of another copy")
	}
	h, err := w.inv.Host(ctx, c.HostID.String())
	if err != nil {
		return nil, err
	}
	ticket, err := w.lendTicket(ctx, *id, h, c.Path, time.Now().Add(ticketLasts))
	if err != nil {
		return nil, err
	}
	return &hostlink.PeerTicket{From: &hostlink.Remote{Address: h.Address, Host: h.ID.String(), Ticket: ticket, Authority: string(w.authority.CertPEM())}}, nil
}

// lendTicket lets the other's agents read a machine folder until a time.
func (w *Work) lendTicket(ctx context.Context, job uuid.UUID, h *inventory.Host, folder string, until time.Time) (string, error) {
	ticket, err := w.ticket("lend " + job.String())
	if err != nil {
		return "", err
	}
	return ticket, w.agent(h).Allow(ctx, ticket, hostlink.Ticket{Path: folder, Expires: until, Foreign: true})
}

// endLending is told that everything was read, or why not. What was cancelled
// here is not read, whatever the other has of it.
func (w *Work) endLending(ctx context.Context, m *inventory.Manager, _ Grants, r *http.Request) (any, error) {
	var e hostlink.PeerEnd
	if err := hostlink.ReadBody(r, &e); err != nil {
		return nil, err
	}
	id, err := w.inv.Lent(ctx, m.ID, r.PathValue("job"))
	if err != nil {
		return nil, err
	}
	if id == nil {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "nothing is known of that reading"}
	}
	j, err := w.inv.Job(ctx, id.String())
	if err != nil {
		return nil, err
	}
	if e.Done && (j.Cancel || j.Over() && j.State != "done") {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "the job that goes along with it was cancelled or has failed"}
	}
	return struct{}{}, w.inv.EndLent(ctx, *id, e.Done, e.Error)
}

// undoLending takes the leave to read back.
func (w *Work) undoLending(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	do, err := decode[plan.Lend](s)
	if err != nil {
		return err
	}
	c, err := w.inv.CopyByID(ctx, do.Copy)
	if err != nil || c == nil || c.HostID == nil {
		return err
	}
	h, err := w.inv.Host(ctx, c.HostID.String())
	if err != nil {
		return err
	}
	_, err = w.lendTicket(ctx, j.ID, h, c.Path, time.Now())
	return err
}

func denied(format string, args ...any) error {
	return &hostlink.Fault{Code: "permission.denied", Message: fmt.Sprintf(format, args...)}
}

// granted is a copy that another Unvora may take, as things stand now.
func (w *Work) granted(ctx context.Context, g Grants, id string) (*inventory.Copy, error) {
	filter, ok := g.selector()
	if _, err := uuid.Parse(id); !ok || err != nil {
		return nil, denied("there is no such copy that you may see")
	}
	l, err := w.inv.Copies(ctx, inventory.Page{Limit: 1, Filter: "form=registered id=" + id + " " + filter})
	if err != nil {
		return nil, err
	}
	if len(l.Items) == 0 {
		return nil, denied("there is no such copy that you may see")
	}
	if !g.Take {
		return nil, denied("you may see %s, and not take it: ask its people for that (unvora manager grant)", l.Items[0].Name)
	}
	return w.inv.CopyByID(ctx, id)
}

func (w *Work) beginLending(ctx context.Context, m *inventory.Manager, c *inventory.Copy, q hostlink.PeerRead) (*uuid.UUID, error) {
	at, h, err := w.atManager(ctx, c)
	if err != nil {
		return nil, err
	}
	if at != nil {
		return nil, denied("%s is at another manager itself", c.Name)
	}
	facts := plan.DelistFacts{Copy: c.Known(), Machine: c.Machine}
	if facts.Host, err = w.hostFacts(ctx, h); err != nil {
		return nil, err
	}
	if facts.Busy, err = inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(c.ID.String())); err != nil {
		return nil, err
	}
	p, err := plan.LendOut(plan.LendFacts{Delist: facts, Peer: m.Name, Stop: q.Stop && c.State == "running", Move: q.Move, Bytes: q.Bytes})
	if err != nil {
		return nil, err
	}
	if !p.Runnable {
		return nil, denied("%s can't be read now: %s", c.Name, p.Findings[0].Message)
	}
	if c.State == "running" && !q.Stop {
		return nil, denied("%s runs, and its disks change while they are read", c.Name)
	}
	id := inventory.NewID()
	j := &inventory.Job{ID: id, UserName: q.Who + "@" + m.Name, Note: "asked for by " + m.Name}
	hosts := map[string]uuid.UUID{h.Name: h.ID}
	err = w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.AddJob(ctx, tx, j, p, hosts, "", []string{inventory.CopyKey(c.ID.String())}, map[string]any{}); err != nil {
			return err
		}
		return inventory.AddLent(ctx, tx, id, m.ID, q.Job)
	})
	w.tell()
	return &id, err
}

// lentSilence is how long nothing may be heard of a reading until it is given up.
const lentSilence = 15 * time.Minute

// lending goes along with a reading elsewhere.
func (w *Work) lending(ctx context.Context, j *inventory.Job, s *inventory.Step) (time.Duration, error) {
	l, err := w.inv.LentBy(ctx, j.ID)
	if err != nil {
		return 0, err
	}
	if l.Done != s.Done {
		s.Done = l.Done
		s.Bytes = max(s.Bytes, l.Done)
	}
	switch {
	case l.State == "failed":
		return 0, &failure{"", l.Error}
	case l.State == "done":
		s.State, s.Done = "done", s.Bytes
	case time.Since(l.At) > lentSilence:
		return 0, &failure{"host.unreachable", fmt.Sprintf("nothing was heard of the reader for %s", lentSilence)}
	}
	if err := w.inv.UpdateStep(ctx, j.Epoch, s); err != nil || s.State == "done" {
		return 0, err
	}
	return lookEvery, nil
}
