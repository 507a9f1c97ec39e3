package work

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Another Unvora is asked, and answered, over connections of the two services
// on which each shows its authority. Neither trusts what the other's database
// says about itself: what the other may see and take is said here.

// Grants say what another Unvora may do here.
type Grants struct {
	See  string `json:"see"` // a selector of copies, or all; "" for none
	Take bool   `json:"take"`
}

// all is what See says for every copy.
const seeAll = "all"

// selector of the copies that are granted; ok is false for none.
func (g Grants) selector() (filter string, ok bool) {
	if g.See == seeAll {
		return "", true
	}
	return g.See, g.See != ""
}

// peerVersion of the talk between Unvoras.
const peerVersion = "1"

// Pairing is a one-time code for the people of another Unvora.
type Pairing struct {
	Code    string    `json:"code"`
	Address string    `json:"address"`
	Expires time.Time `json:"expires"`
}

const pairingLasts = 15 * time.Minute

// OfferPairing makes a one-time code.
func (w *Work) OfferPairing(ctx context.Context) (*Pairing, error) {
	address, _ := w.peerAddress.Load().(string)
	if address == "" {
		return nil, wrong("This service listens for no other Unvora: start it with --peers ADDRESS:PORT.")
	}
	code := hostlink.NewCode(w.authority.Cert)
	p := &Pairing{code.String(), address, time.Now().Add(pairingLasts)}
	return p, w.inv.AddPairing(ctx, hashed(code.Secret), p.Expires)
}

func hashed(secret []byte) []byte {
	sum := sha256.Sum256(secret)
	return sum[:]
}

// Pair adds another Unvora by a code that its people gave.
func (w *Work) Pair(ctx context.Context, name, address, text string, g Grants, user string) (*inventory.Manager, error) {
	if name == "" {
		return nil, wrong("Give it a name, by which it is known here.")
	}
	code, err := hostlink.ParseCode(text)
	if err != nil {
		return nil, wrong("This is no code that another Unvora gives: it has 8 groups of 4 letters and digits.")
	}
	if _, _, err := net.SplitHostPort(address); err != nil {
		return nil, wrong("%q is no address of another Unvora: it is HOST:PORT, as its people told with the code.", address)
	}
	grants, err := w.grantable(ctx, g)
	if err != nil {
		return nil, err
	}
	var authority *x509.Certificate
	peer := hostlink.DialPeer(w.peerTLS, address, func(c *x509.Certificate) error {
		if !code.Matches(c) {
			return errors.New("what answers there is not the Unvora that the code is of")
		}
		if bytes.Equal(c.Raw, w.authority.Cert.Raw) {
			return errors.New("the code is of this very Unvora: give it to the people of the other one")
		}
		authority = c
		return nil
	})
	err = peer.Knock(ctx, hostlink.PeerKnock{Secret: code.Secret})
	var fault *hostlink.Fault
	switch {
	case errors.As(err, &fault):
		return nil, wrong("%s", sentence(fault.Message))
	case err != nil:
		return nil, &Unreachable{Says: fmt.Sprintf("The other Unvora does not answer at %s: %v. Compare the address with what its people told; its service has to be started with --peers.", address, err)}
	}
	m := &inventory.Manager{ID: inventory.NewID(), Name: name, Kind: inventory.ManagerUnvora, Address: address, Certificate: hostlink.EncodeAuthority(authority), Version: peerVersion, Grants: grants}
	if err := w.inv.AddManager(ctx, m, user); err != nil {
		return nil, err
	}
	if _, err := w.surveyManager(ctx, m); err != nil { // the other side has not paired yet, as a rule
		w.log.Info("paired with another Unvora", "name", name, "says", err)
	}
	return w.inv.Manager(ctx, m.ID.String())
}

// grantable checks that the selector of grants can be understood.
func (w *Work) grantable(ctx context.Context, g Grants) (json.RawMessage, error) {
	if filter, ok := g.selector(); ok {
		if _, err := w.inv.Copies(ctx, inventory.Page{Limit: 1, Filter: filter}); err != nil {
			return nil, err
		}
	}
	return json.Marshal(g)
}

// Grant says what another Unvora may see and take.
func (w *Work) Grant(ctx context.Context, ref string, g Grants, user string) (*inventory.Manager, error) {
	m, err := w.inv.Manager(ctx, ref)
	if err != nil {
		return nil, err
	}
	if m.Kind != inventory.ManagerUnvora {
		return nil, wrong("%s is no Unvora: it asks for nothing here.", m.Name)
	}
	grants, err := w.grantable(ctx, g)
	if err != nil {
		return nil, err
	}
	if err := w.inv.GrantManager(ctx, m, grants, user); err != nil {
		return nil, err
	}
	return w.inv.Manager(ctx, m.ID.String())
}

// peer that a manager is.
func (w *Work) peer(m *inventory.Manager) *hostlink.Peer {
	return hostlink.DialPeer(w.peerTLS, m.Address, func(c *x509.Certificate) error {
		if hostlink.EncodeAuthority(c) != m.Certificate {
			return errors.New("it is not the Unvora that was paired")
		}
		return nil
	})
}

func (w *Work) checkPeer(ctx context.Context, m *inventory.Manager) []Check {
	c := &checks{}
	if !c.reach(ctx, &url.URL{Host: m.Address}) {
		return c.list
	}
	conn, err := (&tls.Dialer{NetDialer: &net.Dialer{Timeout: checkPatience}, Config: w.peerTLS}).DialContext(ctx, "tcp", m.Address)
	var authority *x509.Certificate
	if err == nil {
		state := conn.(*tls.Conn).ConnectionState()
		authority, err = hostlink.PeerAuthority(&state)
		conn.Close()
	}
	if err == nil && hostlink.EncodeAuthority(authority) != m.Certificate {
		err = errors.New("it is another Unvora than the one that was paired")
	}
	if err != nil {
		c.said("certificate", false, "%v. Drop it and pair anew if it was set up afresh.", err)
		return c.list
	}
	c.said("certificate", true, "it is the Unvora that was paired")
	holds, err := w.peer(m).Holds(ctx)
	if err != nil {
		c.said("paired", false, "%v", err)
		return c.list
	}
	c.said("paired", true, "both sides have paired")
	if holds.Version != peerVersion {
		c.said("version", false, "it speaks version %s, this one %s: update the older one", holds.Version, peerVersion)
		return c.list
	}
	c.said("version", true, "both speak version %s", peerVersion)
	n := 0
	for _, s := range holds.Hosts {
		n += len(s.Machines)
	}
	if holds.Take {
		c.said("rights", true, "it lets us see %d copies, and take them", n)
	} else {
		c.said("rights", true, "it lets us see %d copies, and not take them", n)
	}
	return c.list
}

// peerHolds asks another Unvora what it granted.
func (w *Work) peerHolds(ctx context.Context, m *inventory.Manager) (map[string]*hostlink.Survey, string, error) {
	h, err := w.peer(m).Holds(ctx)
	if err != nil {
		return nil, m.Version, err
	}
	if h.Version != peerVersion {
		return nil, h.Version, fmt.Errorf("it speaks version %s, this one %s: update the older one", h.Version, peerVersion)
	}
	return h.Hosts, h.Version, w.inv.LetsTake(ctx, m, h.Take)
}

// atPeer moves on a step about a copy of another Unvora.
func (w *Work) atPeer(ctx context.Context, j *inventory.Job, s *inventory.Step, m *inventory.Manager) (time.Duration, error) {
	var err error
	switch s.Kind {
	case plan.KindTakeImages:
		t, e := w.askPeer(ctx, j, s.Part, m, 0)
		if e == nil && t.Wait {
			return askAgain, nil
		}
		err = e
	case plan.KindDropImages:
		err = w.peer(m).End(ctx, partOf(j, s.Part), hostlink.PeerEnd{Done: true})
	default:
		err = fmt.Errorf("nothing of the kind %s can be asked of another Unvora", s.Kind)
	}
	var fault *hostlink.Fault
	if errors.As(err, &fault) {
		return 0, &failure{fault.Code, fmt.Sprintf("%s refuses: %s", m.Name, fault.Message)}
	}
	if err != nil {
		return 0, err
	}
	s.State = "done"
	return 0, w.inv.UpdateStep(ctx, j.Epoch, s)
}

// partOf names one machine's part of a job, for the other side.
func partOf(j *inventory.Job, part int) string { return fmt.Sprintf("%s.%d", j.ID, part) }

func (w *Work) askPeer(ctx context.Context, j *inventory.Job, part int, m *inventory.Manager, done int64) (*hostlink.PeerTicket, error) {
	rec, err := recordOf(j, part)
	if err != nil {
		return nil, err
	}
	c, err := w.inv.CopyByID(ctx, rec.Parent)
	if err != nil {
		return nil, err
	}
	if c == nil || c.Machine == nil || c.Machine.Passport == nil { // there, it may have another id than here
		return nil, fmt.Errorf("it is not known any more which copy of %s is meant", m.Name)
	}
	for i := range j.Steps {
		if s := &j.Steps[i]; s.Kind == plan.KindTakeImages && s.Part == part {
			do, err := decode[plan.TakeImages](s)
			if err != nil {
				return nil, err
			}
			return w.peer(m).Read(ctx, hostlink.PeerRead{Copy: c.Machine.Passport.Copy, Job: partOf(j, part), Who: j.UserName, Stop: do.Stop, Move: do.Move, Bytes: do.Bytes, Done: done})
		}
	}
	return nil, errors.New("the job does not ask to read anything")
}

// peerRead is where an agent reads a disk of another Unvora's copy. It is asked
// for at every look, which tells the other side how far it is.
func (w *Work) peerRead(ctx context.Context, j *inventory.Job, s *inventory.Step, m *inventory.Manager) (*hostlink.Remote, error) {
	var done int64
	for _, o := range j.Steps {
		if o.Kind == plan.KindCarry && o.Part == s.Part {
			done += o.Done
		}
	}
	t, err := w.askPeer(ctx, j, s.Part, m, done)
	if err != nil {
		return nil, err
	}
	if t.From == nil {
		return nil, fmt.Errorf("%s is not ready to be read from", m.Name)
	}
	return t.From, nil
}

func (w *Work) undoAtPeer(ctx context.Context, j *inventory.Job, s *inventory.Step, m *inventory.Manager) error {
	if s.Kind != plan.KindTakeImages {
		return nil
	}
	err := w.peer(m).End(ctx, partOf(j, s.Part), hostlink.PeerEnd{Error: "it was stopped there: " + j.Error})
	var fault *hostlink.Fault
	if errors.As(err, &fault) {
		return nil // it knows nothing of it any more
	}
	return err
}

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
	from("POST /peer/reads/{job}/end", func(ctx context.Context, m *inventory.Manager, _ Grants, r *http.Request) (any, error) {
		var e hostlink.PeerEnd
		if err := hostlink.ReadBody(r, &e); err != nil {
			return nil, err
		}
		return struct{}{}, w.inv.EndLent(ctx, m.ID, r.PathValue("job"), e.Done, e.Error)
	})
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
			s = &hostlink.Survey{Full: true, Changed: true, Hello: &hostlink.Hello{Protocol: hostlink.Protocol, Driver: inventory.ManagerUnvora, Family: h.Family, CPUs: h.CPUs, MemoryBytes: h.MemoryBytes}}
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
	for _, s := range out.Hosts {
		sum := fnv.New64a()
		if err := json.NewEncoder(sum).Encode(s.Machines); err != nil {
			return nil, err
		}
		s.Revision = fmt.Sprintf("%x", sum.Sum64())
		s.Hello.Time = time.Now()
	}
	return out, err
}

// lend lets another Unvora read a copy: a job here goes along with the one there.
func (w *Work) lend(ctx context.Context, m *inventory.Manager, g Grants, r *http.Request) (any, error) {
	var q hostlink.PeerRead
	if err := hostlink.ReadBody(r, &q); err != nil {
		return nil, err
	}
	id, err := w.inv.Lent(ctx, m.ID, q.Job)
	if err != nil {
		return nil, err
	}
	if id == nil {
		if id, err = w.beginLending(ctx, m, g, q); err != nil {
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
	if s := next(j); s == nil || s.Kind != plan.KindLend {
		return &hostlink.PeerTicket{Wait: true}, nil
	}
	c, err := w.inv.CopyByID(ctx, q.Copy)
	if err != nil || c == nil || c.HostID == nil {
		return nil, errors.Join(err, errors.New("the copy is not here any more"))
	}
	h, err := w.inv.Host(ctx, c.HostID.String())
	if err != nil {
		return nil, err
	}
	ticket, err := w.ticket("lend " + id.String())
	if err != nil {
		return nil, err
	}
	if err := w.agent(h).Allow(ctx, ticket, hostlink.Ticket{Path: c.Path, Expires: time.Now().Add(ticketLasts), Foreign: true}); err != nil {
		return nil, err
	}
	return &hostlink.PeerTicket{From: &hostlink.Remote{Address: h.Address, Host: h.ID.String(), Ticket: ticket, Authority: string(w.authority.CertPEM())}}, nil
}

func (w *Work) beginLending(ctx context.Context, m *inventory.Manager, g Grants, q hostlink.PeerRead) (*uuid.UUID, error) {
	refuse := func(format string, args ...any) error {
		return &hostlink.Fault{Code: "permission.denied", Message: fmt.Sprintf(format, args...)}
	}
	if _, err := uuid.Parse(q.Copy); err != nil {
		return nil, refuse("%q is no copy", q.Copy)
	}
	filter, ok := g.selector()
	seen := false
	if ok {
		l, err := w.inv.Copies(ctx, inventory.Page{Limit: 1, Filter: "form=registered id=" + q.Copy + " " + filter})
		if err != nil {
			return nil, err
		}
		seen = len(l.Items) == 1
	}
	if !seen {
		return nil, refuse("there is no such copy that you may see")
	}
	c, err := w.inv.CopyByID(ctx, q.Copy)
	if err != nil {
		return nil, err
	}
	if !g.Take {
		return nil, refuse("you may see %s, and not take it: ask its people for that (unvora manager grant)", c.Name)
	}
	at, h, err := w.atManager(ctx, c)
	if err != nil {
		return nil, err
	}
	if at != nil {
		return nil, refuse("%s is at another manager itself", c.Name)
	}
	facts := plan.DelistFacts{Copy: c.Known(), Machine: c.Machine}
	if facts.Host, err = w.hostFacts(ctx, h); err != nil {
		return nil, err
	}
	if facts.Busy, err = inventory.Holder(ctx, w.inv.Pool, inventory.CopyKey(c.ID.String())); err != nil {
		return nil, err
	}
	p, err := plan.Lend(plan.LendFacts{Delist: facts, Peer: m.Name, Stop: q.Stop && c.State == "running", Move: q.Move, Bytes: q.Bytes})
	if err != nil {
		return nil, err
	}
	if !p.Runnable {
		return nil, refuse("%s can't be read now: %s", c.Name, p.Findings[0].Message)
	}
	if c.State == "running" && !q.Stop {
		return nil, refuse("%s runs, and its disks change while they are read", c.Name)
	}
	id := inventory.NewID()
	j := &inventory.Job{ID: id, UserName: q.Who + "@" + m.Name, Note: "asked for by " + m.Name}
	hosts := map[string]uuid.UUID{h.Name: h.ID}
	return &id, w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if err := inventory.AddJob(ctx, tx, j, p, hosts, "", []string{inventory.CopyKey(c.ID.String())}, map[string]any{}); err != nil {
			return err
		}
		if err := inventory.AddLent(ctx, tx, id, m.ID, q.Job); err != nil {
			return err
		}
		_, err := w.river.InsertTx(ctx, tx, steerArgs{id.String(), 1}, nil)
		return err
	})
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
