// Package foreign is for managers that speak CIMI: looking at what they have, reading and sending disks, and having
// machines made there.
package foreign

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
)

// Managers are the foreign managers of the inventory.
type Managers struct {
	// AskAgain is how long it takes until a manager is asked again how far it is.
	AskAgain time.Duration

	inv *inventory.Inventory
	key keyring.Key // seals what managers are asked with
	log *slog.Logger
}

// New is for managers whose accounts are sealed with a key.
func New(inv *inventory.Inventory, key keyring.Key, log *slog.Logger) *Managers {
	return &Managers{AskAgain: 500 * time.Millisecond, inv: inv, key: key, log: log}
}

// place is one foreign manager.
type place struct {
	*Managers
	m *inventory.Manager
}

// Open makes a place of a foreign manager.
func (f *Managers) Open(m *inventory.Manager) (away.Place, error) { return &place{f, m}, nil }

func (p *place) Check(ctx context.Context) []reach.Check {
	list, _ := p.check(ctx, p.m)
	return list
}

// Entry is what somebody tells of a manager to add.
type Entry struct {
	Name     string `json:"name"`
	Address  string `json:"address"`
	Account  string `json:"account"`
	Password string `json:"password"`
	Token    string `json:"token"`
	Trust    string `json:"trust"` // fingerprint of its certificate, where the system doesn't know it
}

// Purpose is what the secret of a manager is sealed for.
func Purpose(id uuid.UUID) string { return "manager " + id.String() }

// Add checks a foreign manager and takes it into the inventory.
func (f *Managers) Add(ctx context.Context, e Entry, user string) (*inventory.Manager, error) {
	if e.Name == "" {
		return nil, inventory.Wrong("Give it a name, by which it is known here.")
	}
	u, err := cimi.ParseAddress(e.Address)
	if err != nil {
		return nil, inventory.Wrong("%v.", err)
	}
	known, err := f.inv.Managers(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		if strings.EqualFold(k.Address, e.Address) {
			return nil, inventory.Refuse(inventory.CodeTaken, "The manager at %s is known as %s "+
				"already. To "+
				"ask it in another name, drop it first: unvora manager drop %s", k.Address, k.Name, k.Name)
		}
	}
	m := &inventory.Manager{ID: inventory.NewID(), Name: e.Name, Kind: inventory.ManagerCIMI, Address: e.Address,
		Account: e.Account}
	if e.Token != "" {
		e.Account, m.Account = "", ""
	} else if e.Account == "" || e.Password == "" {
		return nil, inventory.Wrong("A manager is asked in the name of an account with a password, or with a token.")
	}
	shown, untrusted, err := cimi.Shown(ctx, hostPort(u))
	switch {
	case err != nil:
		list := &reach.Checks{}
		if list.Reach(ctx, hostPort(u), "the manager") {
			return nil, inventory.Wrong("What answers at %s is no manager that speaks HTTPS: %v.", u.Host, err)
		}
		return nil, &reach.Unreachable{Says: fmt.Sprintf("Nothing of a manager answers at %s: %s.", u.Host,
			strings.TrimSuffix(list.Last(), "."))}
	case untrusted != nil && e.Trust == "":
		return nil, &inventory.Error{Code: inventory.CodeCertificate,
			Message: fmt.Sprintf("The certificate of %s is not known here (%v). Its fingerprint is %s: compare it "+
				"with what "+
				"the people there tell you, and name it to trust it.", u.Host, untrusted, cimi.Fingerprint(shown)),
			Likely: []string{cimi.Fingerprint(shown)}}
	case untrusted != nil && !strings.EqualFold(e.Trust, cimi.Fingerprint(shown)):
		return nil, inventory.Wrong("The certificate of %s has the fingerprint %s, not the one that is to be trusted. "+
			"Somebody else may answer there.", u.Host, cimi.Fingerprint(shown))
	case untrusted != nil:
		m.Certificate = cimi.EncodeCertificate(shown)
	}
	secret := e.Password
	if e.Token != "" {
		secret = e.Token
	}
	if m.Sealed, err = f.key.Seal([]byte(secret), Purpose(m.ID), rand.Reader); err != nil {
		return nil, err
	}
	list, version := f.check(ctx, m)
	for _, c := range list {
		if !c.OK && c.What != "rights" { // with few rights, its machines are seen at least
			return nil, inventory.Wrong("It can't be used yet - %s: %s.", c.What, strings.TrimSuffix(c.Says, "."))
		}
	}
	m.Version = version
	if err := f.inv.AddManager(ctx, m, user); err != nil {
		return nil, err
	}
	return m, nil
}

func hostPort(u *url.URL) string {
	if u.Port() != "" {
		return u.Host
	}
	return net.JoinHostPort(u.Hostname(), "443")
}

// client asks a manager in the name of its account.
func (f *Managers) client(m *inventory.Manager) (*cimi.Client, error) {
	secret, err := f.key.Open(m.Sealed, Purpose(m.ID))
	if errors.Is(err, keyring.ErrSealed) {
		return nil, inventory.Wrong("What %s is asked with was sealed by another service: %v. Drop the manager and "+
			"add it "+
			"again, or bring the key file of that service.", m.Name, err)
	}
	account := cimi.Account{Name: m.Account, Password: string(secret)}
	if m.Account == "" {
		account = cimi.Account{Token: string(secret)}
	}
	return cimi.New(m.Address, account, m.Certificate)
}

func (f *Managers) check(ctx context.Context, m *inventory.Manager) ([]reach.Check, string) {
	c := &reach.Checks{}
	u, err := cimi.ParseAddress(m.Address)
	if err != nil {
		c.Said("name", false, "%v", err)
		return c.List, ""
	}
	if !c.Reach(ctx, hostPort(u), "the manager") {
		return c.List, ""
	}
	config, err := cimi.TLS(m.Certificate)
	if err == nil {
		var conn net.Conn
		if conn, err = (&tls.Dialer{NetDialer: &net.Dialer{Timeout: reach.CheckPatience},
			Config: config}).DialContext(ctx,
			"tcp", hostPort(u)); err == nil {
			conn.Close()
		}
	}
	switch {
	case err != nil:
		c.Said("certificate", false, "%v. If it was renewed there, drop the manager and add it again.", err)
		return c.List, ""
	case m.Certificate != "":
		c.Said("certificate", true, "it is the one that was accepted")
	default:
		c.Said("certificate", true, "signed by an authority that this computer trusts")
	}
	client, err := f.client(m)
	if err != nil {
		c.Said("account", false, "%v", err)
		return c.List, ""
	}
	entry, version, err := client.EntryPoint(ctx)
	var refused *cimi.Refused
	switch {
	case errors.As(err, &refused) && refused.Status == 401:
		c.Said("account", false, "%v: drop the manager and add it again with the right ones", err)
		return c.List, version
	case err != nil:
		c.Said("account", false, "it does not answer as a manager does: %v", err)
		return c.List, version
	}
	c.Said("account", true, "it is let in")
	if !cimi.NewEnough(version) {
		c.Said("version", false, "it speaks version %s of CIMI, which is too old: %d.0 or newer is needed", version,
			cimi.MinVersion)
		return c.List, version
	}
	c.Said("version", true, "it speaks version %s of CIMI", version)
	return append(c.List, rights(ctx, client, entry)), version
}

// rights tells what the account may do.
func rights(ctx context.Context, client *cimi.Client, entry *cimi.EntryPoint) reach.Check {
	c := &reach.Checks{}
	_, machines, err := cimi.List[cimi.Machine](ctx, client, entry.Machines, "")
	if err != nil {
		c.Said("rights", false, "it may not list machines: %v", err)
		return c.List[0]
	}
	_, images, err := cimi.List[cimi.VolumeImage](ctx, client, entry.VolumeImages, "")
	var missing []string
	if err != nil || images.Can(cimi.RelAdd) == "" {
		missing = append(missing, "have images made of disks, so that nothing can be imported")
	}
	if machines.Can(cimi.RelAdd) == "" {
		missing = append(missing, "make machines, so that nothing can be put back")
	}
	if len(missing) > 0 {
		c.Said("rights", false, "the account may look, but not %s. Ask for these rights there.",
			strings.Join(missing, "; nor "))
	} else {
		c.Said("rights", true, "it may look, have images made, and make machines")
	}
	return c.List[0]
}
