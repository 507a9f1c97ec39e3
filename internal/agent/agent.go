// Package agent is what runs beside a hypervisor, put together: it looks after pools, machine folders, the list of
// machines and packages on shelves, and carries out tasks for the service. What only the hypervisor can do is asked of
// a driver.
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
	"unvora.example/unvora/internal/agent/do"
	"unvora.example/unvora/internal/agent/door"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/agent/sight"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
)

// Config is an agent's configuration.
type Config = ground.Config

// Agent of one host.
type Agent struct {
	*ground.Ground
	sight *sight.Sight
	work  *do.Worker
	tasks *task.Tasks

	trust   sync.RWMutex
	code    *hostlink.Code // nil once the agent was added
	tls     *tls.Config    // shown to others
	dialer  *hostlink.Dialer
	tickets sync.Map // ticket → hostlink.Ticket
	offers  sync.Map // name → offer
}

// obeyTime is how long an agent that starts looks which of its machines were taken over meanwhile.
const obeyTime = 30 * time.Second

// New opens the agent's records and starts its tasks anew. The machines that ran are started again.
func New(config Config, d driver.Driver, log *slog.Logger) (*Agent, error) {
	family, err := fit.FamilyByName(config.Family)
	if err != nil {
		return nil, err
	}
	if err := door.Own(config.State); err != nil {
		return nil, fmt.Errorf("directory of the agent's records: %w", err)
	}
	records, err := ground.OpenRecords(filepath.Join(config.State, "agent.db"), log)
	if err != nil {
		return nil, err
	}
	a := &Agent{Ground: &ground.Ground{Config: config, Family: family, Driver: d, Door: config.Door(), Records: records,
		Log: log}}
	a.sight = sight.New(a.Ground)
	a.work = do.New(a.Ground, a.sight, a.others)
	a.tasks = task.New(a.Ground, a.work.Kinds())
	err = records.FirstRegister(config.Machines)
	if err == nil {
		err = a.loadTrust()
	}
	if err == nil {
		a.Seen()
		if !ground.InTime(obeyTime, func() { a.Obey(context.Background()) }) { // each start looks at the mark too
			log.Warn("not all machines were looked at in time: a pool stands still")
		}
		err = a.work.Restore(context.Background())
	}
	if err == nil {
		err = a.tasks.Resume()
	}
	if err != nil {
		return nil, errors.Join(err, records.Close())
	}
	return a, nil
}

// others reaches other agents; nil until this one was added.
func (a *Agent) others() *hostlink.Dialer {
	a.trust.RLock()
	defer a.trust.RUnlock()
	return a.dialer
}

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
	t, err := a.Records.Trust()
	if err != nil {
		return err
	}
	if t.Key == "" {
		cert, key, err := hostlink.NewKey()
		if err != nil {
			return err
		}
		t.SelfCert, t.Key = string(cert), string(key)
		if err := a.Records.SetTrust(t); err != nil {
			return err
		}
	}
	if t.Cert == "" {
		pair, err := tls.X509KeyPair([]byte(t.SelfCert), []byte(t.Key))
		if err != nil {
			return err
		}
		code := hostlink.NewCode(pair.Leaf)
		if err := door.WriteOwn(a.Config.CodeFile(), []byte(code.String()+"\n")); err != nil {
			return err
		}
		a.code = &code
		a.tls = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS13,
			NextProtos: []string{"h2", "http/1.1"}}
		return nil
	}
	config, err := hostlink.MemberTLS([]byte(t.Cert), []byte(t.Key), []byte(t.Authority))
	if err != nil {
		return fmt.Errorf("the agent's certificate: %w", err)
	}
	// An agent of another Unvora shows no certificate that is known here, and is
	// let in as nobody, for whom there are tickets and nothing else.
	config.ClientAuth = tls.VerifyClientCertIfGiven
	if err := door.DropOwn(a.Config.CodeFile()); err != nil {
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
	t, err := a.Records.Trust()
	if err != nil {
		return err
	}
	t.Cert, t.Authority, t.HostID = e.Cert, e.Authority, e.HostID
	if _, err := hostlink.MemberTLS([]byte(t.Cert), []byte(t.Key), []byte(t.Authority)); err != nil {
		return err
	}
	if err := a.Records.SetTrust(t); err != nil {
		return err
	}
	return a.loadTrust()
}

// trustAnew takes a certificate of another authority. Connections that are open stay.
func (a *Agent) trustAnew(n hostlink.Trust) error {
	a.trust.Lock()
	defer a.trust.Unlock()
	t, err := a.Records.Trust()
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
	if err := a.Records.SetTrust(t); err != nil {
		return err
	}
	return a.loadTrust()
}

// Listen opens the agent's port.
func (a *Agent) Listen() (net.Listener, error) {
	l, err := net.Listen("tcp", a.Config.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; another agent may run on this port (listen in the agent's file "+
			"sets it)",
			a.Config.Listen, err)
	}
	if n, ok := a.Driver.(driver.Wired); ok {
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
	server := &http.Server{Protocols: protocols, TLSNextProto: map[string]func(*http.Server, *tls.Conn,
		http.Handler){hostlink.ProtocolNBD: a.serveDisks(ctx), hostlink.ProtocolDisplay: a.serveDisplays(ctx)},
		Handler: a.routes(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog: slog.NewLogLogger(a.Log.Handler(), slog.LevelDebug),
		HTTP2: &http.HTTP2Config{MaxReadFrameSize: 1 << 20, MaxReceiveBufferPerConnection: 8 << 20,
			MaxReceiveBufferPerStream: 4 << 20}}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
	a.work.EmptyTrash()
	inner, end := context.WithCancel(ctx)
	var behind sync.WaitGroup // all of it has ended before the store is closed
	behind.Go(func() { a.sight.Run(inner) })
	behind.Go(func() { a.work.StartWithHost(inner) })
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
			a.work.EmptyTrash()
		}
	}
	end()
	a.tasks.Close()
	a.work.Close()
	behind.Wait()
	return errors.Join(err, a.Driver.Close(), a.Records.Close())
}

// peerName is the name in the caller's certificate.
func peerName(s *tls.ConnectionState) string {
	if s == nil || len(s.PeerCertificates) == 0 {
		return ""
	}
	return nameOf(s.PeerCertificates[0])
}

func nameOf(c *x509.Certificate) string { return c.Subject.CommonName }
