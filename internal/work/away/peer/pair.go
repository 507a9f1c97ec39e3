// Package peer is for other Unvoras: pairing with them, what they may see and take here, and reading copies of theirs.
//
// Two Unvoras talk over connections on which each shows its authority. Neither trusts what the other's database says
// about itself: what the other may see and take is said here.
package peer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/reach"
)

// Peers are the other Unvoras of the inventory, and those that ask here.
type Peers struct {
	// AskAgain is how long it takes until another Unvora is asked again how far it is.
	AskAgain time.Duration
	// Lend begins a job that goes along with a reading elsewhere.
	Lend func(ctx context.Context, m *inventory.Manager, c *inventory.Copy, q hostlink.PeerRead) (job uuid.UUID,
		err error)

	inv     *inventory.Inventory
	hosts   *reach.Hosts
	tls     *tls.Config
	log     *slog.Logger
	address atomic.Value // where other Unvoras reach this one; a string, once it listens
}

// New is for Unvoras that know this one by the authority of its hosts.
func New(inv *inventory.Inventory, hosts *reach.Hosts, log *slog.Logger) (*Peers, error) {
	config, err := hosts.Authority.PeerTLS()
	if err != nil {
		return nil, err
	}
	return &Peers{AskAgain: 500 * time.Millisecond, inv: inv, hosts: hosts, tls: config, log: log}, nil
}

// Pairing is a one-time code for the people of another Unvora.
type Pairing struct {
	Code    string    `json:"code"`
	Address string    `json:"address"`
	Expires time.Time `json:"expires"`
}

const pairingLasts = 15 * time.Minute

// Offer makes a one-time code.
func (p *Peers) Offer(ctx context.Context) (*Pairing, error) {
	address, _ := p.address.Load().(string)
	if address == "" {
		return nil, inventory.Wrong("This service listens for no other Unvora: start it with --peers ADDRESS:PORT.")
	}
	if host, port, err := net.SplitHostPort(address); err == nil && net.ParseIP(host).IsUnspecified() {
		if name, err := os.Hostname(); err == nil { // it listens on all addresses: people need one
			address = net.JoinHostPort(name, port)
		}
	}
	code := hostlink.NewCode(p.hosts.Authority.Cert)
	offer := &Pairing{code.String(), address, time.Now().Add(pairingLasts)}
	return offer, p.inv.AddPairing(ctx, hashed(code.Secret), offer.Expires)
}

func hashed(secret []byte) []byte {
	sum := sha256.Sum256(secret)
	return sum[:]
}

// Entry is what somebody tells of another Unvora to pair with.
type Entry struct {
	Name    string `json:"name"`    // by which it is known here
	Address string `json:"address"` // HOST:PORT
	Code    string `json:"code"`    // that its people gave
	Grants  Grants `json:"grants"`
}

// Pair adds another Unvora by a code that its people gave.
func (p *Peers) Pair(ctx context.Context, e Entry, user string) (*inventory.Manager, error) {
	if e.Name == "" {
		return nil, inventory.Wrong("Give it a name, by which it is known here.")
	}
	code, err := hostlink.ParseCode(e.Code)
	if err != nil {
		return nil, inventory.Wrong("This is no code that another Unvora gives: " +
			"it has 8 groups of 4 letters and digits.")
	}
	if _, _, err := net.SplitHostPort(e.Address); err != nil {
		return nil, inventory.Wrong("%q is no address of another Unvora: it is HOST:PORT, as its people told with "+
			"the code.",
			e.Address)
	}
	grants, err := p.grantable(ctx, e.Grants)
	if err != nil {
		return nil, err
	}
	var authority *x509.Certificate
	peer := hostlink.DialPeer(p.tls, e.Address, func(c *x509.Certificate) error {
		if !code.Matches(c) {
			return errors.New("what answers there is not the Unvora that the code is of")
		}
		if bytes.Equal(c.Raw, p.hosts.Authority.Cert.Raw) {
			return errors.New("the code is of this very Unvora: give it to the people of the other one")
		}
		authority = c
		return nil
	})
	err = peer.Knock(ctx, hostlink.PeerKnock{Secret: code.Secret})
	var fault *hostlink.Fault
	switch {
	case errors.As(err, &fault):
		return nil, inventory.Wrong("%s", inventory.Sentence(fault.Message))
	case err != nil:
		return nil, &reach.Unreachable{Says: fmt.Sprintf("The other Unvora does not answer at %s: %v. Compare the "+
			"address "+
			"with what its people told; its service has to be started with --peers.", e.Address, err)}
	}
	m := &inventory.Manager{ID: inventory.NewID(), Name: e.Name, Kind: inventory.ManagerUnvora, Address: e.Address,
		Certificate: hostlink.EncodeAuthority(authority), Version: peerVersion, Grants: grants}
	if err := p.inv.AddManager(ctx, m, user); err != nil {
		return nil, err
	}
	return m, nil
}

// dial reaches the Unvora that was paired.
func (p *Peers) dial(m *inventory.Manager) *hostlink.Peer {
	return hostlink.DialPeer(p.tls, m.Address, func(c *x509.Certificate) error {
		if hostlink.EncodeAuthority(c) != m.Certificate {
			return errors.New("it is not the Unvora that was paired")
		}
		return nil
	})
}
