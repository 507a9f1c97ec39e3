// Package agent is what runs beside a hypervisor: it looks after pools,
// machine folders, the register of machines and packages on shelves, and
// carries out tasks for the service. What only the hypervisor can do is asked
// of a Driver.
package agent

import (
	"context"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/hostlink"
)

// Config is an agent's configuration, read from a TOML file.
type Config struct {
	Name     string          `toml:"name"`
	Site     string          `toml:"site"`
	Family   string          `toml:"family"`
	Driver   string          `toml:"driver"`
	Listen   string          `toml:"listen"` // address:port
	State    string          `toml:"state"`  // directory of the agent's own records
	CPUs     int             `toml:"cpus"`
	MemoryMB int64           `toml:"memory_mib"`
	Pools    []PoolConfig    `toml:"pool"`
	Shelves  []ShelfConfig   `toml:"shelf"`
	Switches []wiring.Switch `toml:"switch"`
	Ports    []wiring.Port   `toml:"port"`
	Machines []MachineConfig `toml:"machine"`
	// Abilities are what the hypervisor can do beyond its family.
	Abilities fit.Abilities `toml:"abilities"`
	// Web are addresses that packages may be fetched from beside those of the public
	// internet: names, addresses, or networks as 192.0.2.0/24.
	Web []string `toml:"web,omitempty"`
	// TrashDays is how long what was taken away is kept; 14 when it is not said.
	TrashDays int `toml:"trash_days"`
	// ReturnSeconds is after which time a change of switches that cut the host
	// off is taken back; 60 when it is not said.
	ReturnSeconds int `toml:"return_seconds"`
}

func (c Config) trashTerm() time.Duration {
	days := c.TrashDays
	if days == 0 {
		days = 14
	}
	return time.Duration(days) * 24 * time.Hour
}

// MachineConfig is a machine that the host lists when its agent starts for the
// first time.
type MachineConfig struct {
	Folder  string `toml:"folder"`
	Running bool   `toml:"running"`
}

// PoolConfig is a directory where machine folders lie.
type PoolConfig struct {
	Name      string   `toml:"name"`
	Path      string   `toml:"path"`
	Removable bool     `toml:"removable"`
	Labels    []string `toml:"labels"`
	MaxFile   int64    `toml:"max_file,omitempty"` // bytes; 0: as the file system says
	Rate      int64    `toml:"rate,omitempty"`     // bytes a second; 0: it is measured
	Manager   string   `toml:"manager,omitempty"`  // that it belongs to; "" for none
}

// ShelfConfig is a directory where packages are kept.
type ShelfConfig struct {
	Name string `toml:"name"`
	Path string `toml:"path"`
}

// Driver does what only the hypervisor can. Folders are absolute paths of
// machine folders. Calls may come from several goroutines.
type Driver interface {
	// Start runs the machine; called for a stopped one.
	Start(folder string, m *machine.Machine) error
	// Stop shuts the machine down cleanly and returns when its disks are closed.
	Stop(folder string) error
	// State of a registered machine: running, stopped, paused or suspended.
	State(folder string) string
	// Switches of the host.
	Switches() []wiring.Switch
	// Addresses that the guest of a running machine is seen to use.
	Addresses(folder string) []string
	// Close is called when the agent ends. Whether machines go on is the hypervisor's affair.
	Close() error
}

// Agent of one host.
type Agent struct {
	config Config
	family fit.Family
	driver Driver
	door   *door.Door
	store  *store
	sweep  *sweep
	tasks  *tasks

	switches switches
	log      *slog.Logger

	trust   sync.RWMutex
	code    *hostlink.Code // nil once the agent was added
	tls     *tls.Config    // shown to others
	dialer  *hostlink.Dialer
	tickets sync.Map // ticket → hostlink.Ticket
	offers  sync.Map // name → offer
	rates   sync.Map // id of a pool → bytes a second

	machines remembered[string, *machine.Machine] // of machine folders
	chains   chainMemory
	guests   remembered[image, *fit.Guest]
	images   remembered[string, bool] // whether a file is a disk image
	sights   sights
	watch    *watch
}

// New opens the agent's records and starts its tasks anew. The driver's
// machines that ran are started again.
func New(config Config, driver Driver, log *slog.Logger) (*Agent, error) {
	family, err := fit.FamilyByName(config.Family)
	if err != nil {
		return nil, err
	}
	if err := door.Own(config.State); err != nil {
		return nil, fmt.Errorf("directory of the agent's records: %w", err)
	}
	st, err := openStore(filepath.Join(config.State, "agent.db"), log)
	if err != nil {
		return nil, err
	}
	a := &Agent{config: config, family: family, driver: driver, door: config.Door(), store: st, log: log}
	a.machines.look = a.readMachine
	a.machines.stamp = func(folder string) any {
		return a.folderStamp(folder, &seenFolder{descriptor: a.findDescriptor(folder)})
	}
	ofImage := func(of image) any { return a.fileStamp(of.path) }
	a.guests.look, a.guests.stamp = a.lookInside, ofImage
	a.images.look, a.images.stamp = func(path string) (bool, error) { return a.looksLikeDisk(path), nil }, a.fileStamp
	a.sights.a = a
	a.chains.look, a.chains.stamp = a.readChain, ofImage
	if err := a.store.firstRegister(config.Machines); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	a.sweep, a.watch = newSweep(a), newWatch(a)
	a.switches.a = a
	if err := a.switches.restore(); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	a.tasks = newTasks(a)
	if err := a.loadTrust(); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	for folder, e := range st.register() {
		if e.Running {
			if err := a.run(folder); err != nil {
				log.Warn("machine could not be started again", "folder", folder, "error", err)
			}
		}
	}
	return a, a.tasks.resume()
}

// CodeFile is where the code lies by which an agent is added, until it was: a log,
// where it would end if it was printed, is read by more people.
func (c *Config) CodeFile() string { return filepath.Join(c.State, "code") }

// Code is what the agent is added by; "" once it was.
func (a *Agent) Code() string {
	a.trust.RLock()
	defer a.trust.RUnlock()
	if a.code == nil {
		return ""
	}
	return a.code.String()
}

func (a *Agent) loadTrust() error {
	t, err := a.store.trust()
	if err != nil {
		return err
	}
	if t.Key == "" {
		cert, key, err := hostlink.NewKey()
		if err != nil {
			return err
		}
		t.SelfCert, t.Key = string(cert), string(key)
		if err := a.store.setTrust(t); err != nil {
			return err
		}
	}
	if t.Cert == "" {
		pair, err := tls.X509KeyPair([]byte(t.SelfCert), []byte(t.Key))
		if err != nil {
			return err
		}
		code := hostlink.NewCode(pair.Leaf)
		if err := door.WriteOwn(a.config.CodeFile(), []byte(code.String()+"\n")); err != nil {
			return err
		}
		a.code = &code
		a.tls = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS13, NextProtos: []string{"h2", "http/1.1"}}
		return nil
	}
	config, err := hostlink.MemberTLS([]byte(t.Cert), []byte(t.Key), []byte(t.Authority))
	if err != nil {
		return fmt.Errorf("the agent's certificate: %w", err)
	}
	// An agent of another Unvora shows no certificate that is known here, and is
	// let in as nobody, for whom there are tickets and nothing else.
	config.ClientAuth = tls.VerifyClientCertIfGiven
	if err := door.DropOwn(a.config.CodeFile()); err != nil {
		return err
	}
	a.code, a.tls, a.dialer = nil, config, hostlink.NewDialer(config)
	return nil
}

// Enrol is called by the first service that knows the code.
func (a *Agent) enrol(e hostlink.Enrolment) error {
	a.trust.Lock()
	defer a.trust.Unlock()
	if a.code == nil {
		return errors.New("this agent was added already")
	}
	if subtle.ConstantTimeCompare(e.Secret, a.code.Secret) != 1 {
		return errors.New("the code is wrong; the agent prints the right one when it starts")
	}
	t, err := a.store.trust()
	if err != nil {
		return err
	}
	t.Cert, t.Authority, t.HostID = e.Cert, e.Authority, e.HostID
	if _, err := hostlink.MemberTLS([]byte(t.Cert), []byte(t.Key), []byte(t.Authority)); err != nil {
		return err
	}
	if err := a.store.setTrust(t); err != nil {
		return err
	}
	return a.loadTrust()
}

// trustAnew takes a certificate of another authority. Connections that are open stay.
func (a *Agent) trustAnew(n hostlink.Trust) error {
	a.trust.Lock()
	defer a.trust.Unlock()
	t, err := a.store.trust()
	if err != nil {
		return err
	}
	t.Cert, t.Authority = n.Cert, n.Authority
	config, err := hostlink.MemberTLS([]byte(t.Cert), []byte(t.Key), []byte(t.Authority))
	if err == nil {
		_, err = config.Certificates[0].Leaf.Verify(x509.VerifyOptions{Roots: config.RootCAs, DNSName: t.HostID})
	}
	if err != nil {
		return &hostlink.Fault{Code: "wrong", Message: "the certificate can't be used: " + err.Error()}
	}
	if err := a.store.setTrust(t); err != nil {
		return err
	}
	return a.loadTrust()
}

// Listen opens the agent's port.
func (a *Agent) Listen() (net.Listener, error) {
	l, err := net.Listen("tcp", a.config.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; another agent may run on this port (listen in the agent's file sets it)", a.config.Listen, err)
	}
	if n, ok := a.driver.(interface {
		Wire(net.Listener) net.Listener
	}); ok {
		l = n.Wire(l)
	}
	return tls.NewListener(l, &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
		a.trust.RLock()
		defer a.trust.RUnlock()
		return a.tls, nil
	}}), nil
}

// Serve answers until ctx ends, then stops tasks where they are (they go on at
// the next start) and closes everything.
func (a *Agent) Serve(ctx context.Context, l net.Listener) error {
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	server := &http.Server{Protocols: protocols, TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){hostlink.ProtocolNBD: a.serveDisks(ctx)},
		Handler: a.routes(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(a.log.Handler(), slog.LevelDebug),
		HTTP2: &http.HTTP2Config{MaxReadFrameSize: 1 << 20, MaxReceiveBufferPerConnection: 8 << 20, MaxReceiveBufferPerStream: 4 << 20}}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
	a.emptyTrash()
	a.watch.follow()
	inner, end := context.WithCancel(ctx)
	var behind sync.WaitGroup // all of it has ended before the store is closed
	for _, f := range []func(context.Context){a.measure, a.watch.run, a.vouch} {
		behind.Go(func() { f(inner) })
	}
	hourly := time.NewTicker(time.Hour)
	defer hourly.Stop()
	var err error
	for serving := true; serving; {
		select {
		case err = <-ended:
			serving = false
		case <-ctx.Done():
			server.Close()
			serving = false
		case <-hourly.C:
			a.emptyTrash()
		}
	}
	end()
	a.tasks.close()
	a.switches.close()
	behind.Wait()
	return errors.Join(err, a.driver.Close(), a.store.Close())
}

func (a *Agent) hello() *hostlink.Hello {
	abilities := a.config.Abilities
	abilities.ReturnSeconds = int(a.config.returnAfter().Seconds())
	return &hostlink.Hello{
		Protocol: hostlink.Protocol, Name: a.config.Name, Family: a.config.Family, Driver: a.config.Driver, Site: a.config.Site,
		CPUs: a.config.CPUs, MemoryBytes: a.config.MemoryMB << 20, Time: time.Now(), Abilities: abilities,
	}
}

// Door is the way to the files of the host's pools and shelves.
func (c Config) Door() *door.Door {
	var roots []string
	for _, p := range c.Pools {
		roots = append(roots, p.Path)
	}
	for _, s := range c.Shelves {
		roots = append(roots, s.Path)
	}
	return door.New(roots...)
}

// within tells whether path lies in a pool or on a shelf of this host: the
// service may ask for nothing else.
func (a *Agent) within(path string) error {
	if a.door.Within(path) == nil {
		return nil
	}
	return &taskError{"disk.outside-pool", fmt.Sprintf("%s lies in no pool and on no shelf of %s", path, a.config.Name)}
}

// peerName is the name in the caller's certificate.
func peerName(s *tls.ConnectionState) string {
	if s == nil || len(s.PeerCertificates) == 0 {
		return ""
	}
	return nameOf(s.PeerCertificates[0])
}

func nameOf(c *x509.Certificate) string { return c.Subject.CommonName }
