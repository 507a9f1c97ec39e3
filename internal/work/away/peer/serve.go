package peer

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

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
)

// Serve listens for other Unvoras until ctx ends.
func (p *Peers) Serve(ctx context.Context, address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listen for other Unvoras on %s: %w; choose another with --peers", address, err)
	}
	p.address.Store(l.Addr().String())
	mux := http.NewServeMux()
	mux.HandleFunc("POST /peer/pair", func(rw http.ResponseWriter, r *http.Request) {
		hostlink.Answer(rw, struct{}{}, p.knocked(r))
	})
	from := func(pattern string, f func(ctx context.Context, m *inventory.Manager, g Grants, r *http.Request) (any,
		error)) {
		mux.HandleFunc(pattern, func(rw http.ResponseWriter, r *http.Request) {
			m, g, err := p.asking(r)
			var v any
			if err == nil {
				v, err = f(r.Context(), m, g, r)
			}
			hostlink.Answer(rw, v, err)
		})
	}
	from("GET /peer/holds", func(ctx context.Context, m *inventory.Manager, g Grants, _ *http.Request) (any, error) {
		return p.holdsFor(ctx, g)
	})
	from("POST /peer/reads", p.lend)
	from("POST /peer/reads/{job}/end", p.endLending)
	server := &http.Server{Handler: mux, TLSConfig: p.tls, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(p.log.Handler(), slog.LevelDebug)}
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
func (p *Peers) knocked(r *http.Request) error {
	if _, err := hostlink.PeerAuthority(r.TLS); err != nil {
		return err
	}
	var k hostlink.PeerKnock
	if err := hostlink.ReadBody(r, &k); err != nil {
		return err
	}
	ok, err := p.inv.TakePairing(r.Context(), hashed(k.Secret))
	if err == nil && !ok {
		err = &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "the code was used before, or is older than a " +
			"quarter of an hour: ask for another"}
	}
	return err
}

// asking is who asks, and what it may.
func (p *Peers) asking(r *http.Request) (*inventory.Manager, Grants, error) {
	var g Grants
	authority, err := hostlink.PeerAuthority(r.TLS)
	if err != nil {
		return nil, g, err
	}
	m, err := p.inv.ManagerByCertificate(r.Context(), hostlink.EncodeAuthority(authority))
	if err != nil {
		return nil, g, err
	}
	if m == nil {
		return nil, g, &hostlink.Fault{Code: "not-paired", Message: "there, nobody has paired with us yet: its " +
			"people need a code of ours (unvora manager code), and call unvora manager pair"}
	}
	return m, g, json.Unmarshal(m.Grants, &g)
}

// holdsFor tells of the copies that are granted, as surveys of their hosts. Each
// bears a passport, so that both sides know it by the same ids.
func (p *Peers) holdsFor(ctx context.Context, g Grants) (*hostlink.PeerHolds, error) {
	out := &hostlink.PeerHolds{Version: peerVersion, Take: g.Take, Hosts: map[string]*hostlink.Survey{}}
	filter, ok := g.selector()
	if !ok {
		return out, nil
	}
	known := map[string]*inventory.Host{}
	err := p.inv.EachCopy(ctx, "form=registered "+filter, func(c *inventory.Copy) error {
		h := known[c.Host]
		if h == nil {
			var err error
			if h, err = p.inv.Host(ctx, c.Host); err != nil {
				return err
			}
			known[c.Host] = h
		}
		if h.ManagerID != nil {
			return nil
		}
		s := out.Hosts[h.Name]
		if s == nil {
			s = &hostlink.Survey{Full: true, Changed: true, Hello: &hostlink.Hello{Protocol: hostlink.Protocol,
				Driver: inventory.ManagerUnvora, Family: h.Family, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes,
				Time: time.Now()}}
			out.Hosts[h.Name] = s
		}
		m := c.Machine.Clone()
		m.Passport = &machine.Passport{Lineage: c.LineageID.String(), Copy: c.ID.String(), MadeBy: c.MadeBy,
			MadeAt:   c.MadeAt,
			Identity: c.Identity, Renewed: c.Renewed}
		if c.Parent != nil {
			m.Passport.Parent = c.Parent.String()
		}
		s.Machines = append(s.Machines, hostlink.Folder{Path: c.Path, Registered: true, FilesThere: true,
			PoolThere: true,
			State:     c.State, Bytes: c.SizeBytes, Machine: m, Addresses: c.Addresses})
		return nil
	})
	return out, errors.Join(err, away.Number(out.Hosts))
}

// lend lets another Unvora read a copy: a job here goes along with the one there.
func (p *Peers) lend(ctx context.Context, m *inventory.Manager, g Grants, r *http.Request) (any, error) {
	var q hostlink.PeerRead
	if err := hostlink.ReadBody(r, &q); err != nil {
		return nil, err
	}
	c, err := p.granted(ctx, g, q.Copy)
	if err != nil {
		return nil, err
	}
	id, err := p.inv.Lent(ctx, m.ID, q.Job)
	if err != nil {
		return nil, err
	}
	if id == nil {
		begun, err := p.Lend(ctx, m, c, q)
		if err != nil {
			return nil, err
		}
		id = &begun
	}
	j, err := p.inv.Job(ctx, id.String())
	if err != nil {
		return nil, err
	}
	if j.Over() {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown,
			Message: fmt.Sprintf("the job that goes along with it is %s: %s", j.State, j.Error)}
	}
	if err := p.inv.TellLent(ctx, *id, q.Done); err != nil {
		return nil, err
	}
	s := j.Next()
	if s == nil || s.Kind != plan.KindLend {
		return &hostlink.PeerTicket{Wait: true}, nil
	}
	if do, err := inventory.DoOf[plan.Lend](s); err != nil {
		return nil, err
	} else if do.Copy != c.ID.String() {
		return nil, Denied("that reading is of another copy")
	}
	h, err := p.inv.Host(ctx, c.HostID.String())
	if err != nil {
		return nil, err
	}
	from, err := Ticket(ctx, p.hosts, *id, h, c.Path, time.Now().Add(reach.TicketLasts))
	if err != nil {
		return nil, err
	}
	from.Authority = string(p.hosts.Authority.CertPEM())
	return &hostlink.PeerTicket{From: from}, nil
}

// endLending is told that everything was read, or why not. What was cancelled
// here is not read, whatever the other has of it.
func (p *Peers) endLending(ctx context.Context, m *inventory.Manager, _ Grants, r *http.Request) (any, error) {
	var e hostlink.PeerEnd
	if err := hostlink.ReadBody(r, &e); err != nil {
		return nil, err
	}
	id, err := p.inv.Lent(ctx, m.ID, r.PathValue("job"))
	if err != nil {
		return nil, err
	}
	if id == nil {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "nothing is known of that reading"}
	}
	j, err := p.inv.Job(ctx, id.String())
	if err != nil {
		return nil, err
	}
	if e.Done && (j.Cancel || j.Over() && j.State != inventory.JobDone) {
		return nil, &hostlink.Fault{Code: hostlink.FaultUnknown,
			Message: "the job that goes along with it was cancelled or has failed"}
	}
	return struct{}{}, p.inv.EndLent(ctx, *id, e.Done, e.Error)
}

// Denied is what another Unvora is told that may not have what it asks for.
func Denied(format string, args ...any) error {
	return &hostlink.Fault{Code: "permission.denied", Message: fmt.Sprintf(format, args...)}
}

// granted is a copy that another Unvora may take, as things stand now.
func (p *Peers) granted(ctx context.Context, g Grants, id string) (*inventory.Copy, error) {
	filter, ok := g.selector()
	if _, err := uuid.Parse(id); !ok || err != nil {
		return nil, Denied("there is no such copy that you may see")
	}
	l, err := p.inv.Copies(ctx, inventory.Page{Limit: 1, Filter: "form=registered id=" + id + " " + filter})
	if err != nil {
		return nil, err
	}
	if len(l.Items) == 0 {
		return nil, Denied("there is no such copy that you may see")
	}
	if !g.Take {
		return nil, Denied("you may see %s, and not take it: ask its people for that (unvora manager grant)",
			l.Items[0].Name)
	}
	return p.inv.CopyByID(ctx, id)
}

// Ticket lets the agents of another Unvora read a machine folder until a time, for the job that goes along.
func Ticket(ctx context.Context, hosts *reach.Hosts, job uuid.UUID, h *inventory.Host, folder string,
	until time.Time) (*hostlink.Remote, error) {
	return hosts.LetRead(ctx, "lend "+job.String(), h, hostlink.Ticket{Path: folder, Expires: until, Foreign: true})
}
