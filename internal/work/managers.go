package work

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// ManagerEntry is what somebody tells of a manager to add.
type ManagerEntry struct {
	Name     string `json:"name"`
	Address  string `json:"address"`
	Account  string `json:"account"`
	Password string `json:"password"`
	Token    string `json:"token"`
	Trust    string `json:"trust"` // fingerprint of its certificate, where the system doesn't know it
}

// secret of a manager, as it is sealed.
func purpose(id uuid.UUID) string { return "manager " + id.String() }

// AddManager checks a foreign manager and takes it into the inventory.
func (w *Work) AddManager(ctx context.Context, e ManagerEntry, user string) (*inventory.Manager, error) {
	if e.Name == "" {
		return nil, wrong("Give it a name, by which it is known here.")
	}
	u, err := cimi.ParseAddress(e.Address)
	if err != nil {
		return nil, wrong("%v.", err)
	}
	known, err := w.inv.Managers(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		if strings.EqualFold(k.Address, e.Address) {
			return nil, &inventory.Error{Code: "taken", Message: fmt.Sprintf("The manager at %s is known as %s already. To ask it in another name, drop it first: unvora manager drop %s", k.Address, k.Name, k.Name)}
		}
	}
	m := &inventory.Manager{ID: inventory.NewID(), Name: e.Name, Kind: inventory.ManagerCIMI, Address: e.Address, Account: e.Account}
	if e.Token != "" {
		e.Account, m.Account = "", ""
	} else if e.Account == "" || e.Password == "" {
		return nil, wrong("A manager is asked in the name of an account with a password, or with a token.")
	}
	shown, untrusted, err := cimi.Shown(ctx, hostPort(u))
	switch {
	case err != nil:
		list := &checks{}
		if list.reach(ctx, hostPort(u), "the manager") {
			return nil, wrong("What answers at %s is no manager that speaks HTTPS: %v.", u.Host, err)
		}
		return nil, &Unreachable{Says: fmt.Sprintf("Nothing of a manager answers at %s: %s", u.Host, sentence(list.last()))}
	case untrusted != nil && e.Trust == "":
		return nil, &inventory.Error{Code: "certificate-unknown", Message: fmt.Sprintf("The certificate of %s is not known here (%v). Its fingerprint is %s: compare it with what the people there tell you, and name it to trust it.", u.Host, untrusted, cimi.Fingerprint(shown)), Likely: []string{cimi.Fingerprint(shown)}}
	case untrusted != nil && !strings.EqualFold(e.Trust, cimi.Fingerprint(shown)):
		return nil, wrong("The certificate of %s has the fingerprint %s, not the one that is to be trusted. Somebody else may answer there.", u.Host, cimi.Fingerprint(shown))
	case untrusted != nil:
		m.Certificate = cimi.EncodeCertificate(shown)
	}
	secret := e.Password
	if e.Token != "" {
		secret = e.Token
	}
	if m.Sealed, err = w.key.Seal([]byte(secret), purpose(m.ID), rand.Reader); err != nil {
		return nil, err
	}
	list, version := w.checkCIMI(ctx, m)
	for _, c := range list {
		if !c.OK && c.What != "rights" { // with few rights, its machines are seen at least
			return nil, wrong("It can't be used yet - %s: %s", c.What, sentence(c.Says))
		}
	}
	m.Version = version
	if err := w.inv.AddManager(ctx, m, user); err != nil {
		return nil, err
	}
	if _, err := w.surveyManager(ctx, m); err != nil { // it is added all the same, and says why
		w.log.Warn("survey a manager that was added", "name", m.Name, "error", err)
	}
	return w.inv.Manager(ctx, m.ID.String())
}

func sentence(s string) string { return strings.TrimSuffix(s, ".") + "." }

func hostPort(u *url.URL) string {
	if u.Port() != "" {
		return u.Host
	}
	return net.JoinHostPort(u.Hostname(), "443")
}

// client of a foreign manager.
func (w *Work) client(m *inventory.Manager) (*cimi.Client, error) {
	secret, err := w.key.Open(m.Sealed, purpose(m.ID))
	if errors.Is(err, keyring.ErrSealed) {
		return nil, wrong("What %s is asked with was sealed by another service: %v. Drop the manager and add it again, or bring the key file of that service.", m.Name, err)
	}
	account := cimi.Account{Name: m.Account, Password: string(secret)}
	if m.Account == "" {
		account = cimi.Account{Token: string(secret)}
	}
	return cimi.New(m.Address, account, m.Certificate)
}

// CheckManager tries each thing that has to hold by itself.
func (w *Work) CheckManager(ctx context.Context, ref string) ([]Check, error) {
	m, err := w.inv.Manager(ctx, ref)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 4*checkPatience)
	defer cancel()
	if m.Kind == inventory.ManagerUnvora {
		return w.checkPeer(ctx, m), nil
	}
	list, _ := w.checkCIMI(ctx, m)
	return list, nil
}

func (w *Work) checkCIMI(ctx context.Context, m *inventory.Manager) ([]Check, string) {
	c := &checks{}
	u, err := cimi.ParseAddress(m.Address)
	if err != nil {
		c.said("name", false, "%v", err)
		return c.list, ""
	}
	if !c.reach(ctx, hostPort(u), "the manager") {
		return c.list, ""
	}
	config, err := cimi.TLS(m.Certificate)
	if err == nil {
		var conn net.Conn
		if conn, err = (&tls.Dialer{NetDialer: &net.Dialer{Timeout: checkPatience}, Config: config}).DialContext(ctx, "tcp", hostPort(u)); err == nil {
			conn.Close()
		}
	}
	switch {
	case err != nil:
		c.said("certificate", false, "%v. If it was renewed there, drop the manager and add it again.", err)
		return c.list, ""
	case m.Certificate != "":
		c.said("certificate", true, "it is the one that was accepted")
	default:
		c.said("certificate", true, "signed by an authority that this computer trusts")
	}
	client, err := w.client(m)
	if err != nil {
		c.said("account", false, "%v", err)
		return c.list, ""
	}
	entry, version, err := client.EntryPoint(ctx)
	var refused *cimi.Refused
	switch {
	case errors.As(err, &refused) && refused.Status == 401:
		c.said("account", false, "%v: drop the manager and add it again with the right ones", err)
		return c.list, version
	case err != nil:
		c.said("account", false, "it does not answer as a manager does: %v", err)
		return c.list, version
	}
	c.said("account", true, "it is let in")
	if !cimi.NewEnough(version) {
		c.said("version", false, "it speaks version %s of CIMI, which is too old: %d.0 or newer is needed", version, cimi.MinVersion)
		return c.list, version
	}
	c.said("version", true, "it speaks version %s of CIMI", version)
	return append(c.list, rights(ctx, client, entry)), version
}

// rights tells what the account may do.
func rights(ctx context.Context, client *cimi.Client, entry *cimi.EntryPoint) Check {
	c := &checks{}
	_, machines, err := cimi.List[cimi.Machine](ctx, client, entry.Machines, "")
	if err != nil {
		c.said("rights", false, "it may not list machines: %v", err)
		return c.list[0]
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
		c.said("rights", false, "the account may look, but not %s. Ask for these rights there.", strings.Join(missing, "; nor "))
	} else {
		c.said("rights", true, "it may look, have images made, and make machines")
	}
	return c.list[0]
}

// surveyManager asks a manager what it has. What is said in the error is noted.
func (w *Work) surveyManager(ctx context.Context, m *inventory.Manager) ([]inventory.Change, error) {
	var hosts map[string]*hostlink.Survey
	version := m.Version
	err := func() (err error) {
		if m.Kind == inventory.ManagerUnvora {
			hosts, version, err = w.peerHolds(ctx, m)
			return err
		}
		client, err := w.client(m)
		if err != nil {
			return err
		}
		hosts, version, err = managerHolds(ctx, client)
		return err
	}()
	if err != nil {
		return nil, errors.Join(err, w.inv.ManagerState(ctx, m, "unreachable", err.Error(), version))
	}
	known, err := w.inv.ManagedHosts(ctx, m)
	if err != nil {
		return nil, err
	}
	for _, h := range known {
		name := strings.TrimSuffix(h.Name, "@"+m.Name)
		if hosts[name] == nil { // it has nothing any more
			hosts[name] = &hostlink.Survey{Revision: "gone", Full: true, Changed: true}
		}
	}
	var changes []inventory.Change
	for name, s := range hosts {
		hello := s.Hello
		if hello == nil {
			hello = &hostlink.Hello{Driver: m.Kind}
		}
		h, err := w.inv.ManagedHost(ctx, m, name, hello)
		if err != nil {
			return changes, err
		}
		if h.Revision == s.Revision {
			if err := w.inv.StillThere(ctx, []uuid.UUID{h.ID}); err != nil {
				return changes, err
			}
			continue
		}
		more, err := w.inv.Apply(ctx, h, s)
		if err != nil {
			return changes, err
		}
		changes = append(changes, more...)
	}
	return changes, w.inv.ManagerState(ctx, m, "up", "", version)
}

// managerPatience is how long a manager may take to tell what it has.
const managerPatience = 20 * time.Second

// surveyManagers asks all managers, side by side.
func (w *Work) surveyManagers(ctx context.Context) ([]Surveyed, error) {
	list, err := w.inv.Managers(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Surveyed, len(list))
	var wg sync.WaitGroup
	for i := range list {
		wg.Go(func() { out[i] = w.surveyOne(ctx, &list[i]) })
	}
	wg.Wait()
	return out, nil
}

func (w *Work) surveyOne(ctx context.Context, m *inventory.Manager) Surveyed {
	ctx, cancel := context.WithTimeout(ctx, managerPatience)
	defer cancel()
	s := Surveyed{Host: m.Name}
	var err error
	if s.Changes, err = w.surveyManager(ctx, m); err != nil {
		s.Error = err.Error()
	}
	return s
}
