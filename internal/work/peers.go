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
	"net"
	"os"
	"time"

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
	if host, port, err := net.SplitHostPort(address); err == nil && net.ParseIP(host).IsUnspecified() {
		if name, err := os.Hostname(); err == nil { // it listens on all addresses: people need one
			address = net.JoinHostPort(name, port)
		}
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
	if !c.reach(ctx, m.Address, "the other Unvora") {
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
			return w.askAgain, nil
		}
		err = e
	case plan.KindTellPeer:
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
	var fault *hostlink.Fault
	if errors.As(err, &fault) { // cancelled there, or not granted any more
		return nil, &failure{fault.Code, fmt.Sprintf("%s refuses: %s", m.Name, fault.Message)}
	}
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
