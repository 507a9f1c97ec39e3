package hostlink

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/nbd"
)

// Dialer reaches agents. One is shared by all; connections are kept.
type Dialer struct {
	tls *tls.Config
	mu  sync.Mutex
	out map[string]*http.Client // by host id: each has its own name to verify

	Unvora string // id of the one that asks; "" where an agent does
}

// NewDialer takes a configuration made by ServiceTLS or MemberTLS.
func NewDialer(config *tls.Config) *Dialer {
	return &Dialer{tls: config, out: map[string]*http.Client{}}
}

// Host is an agent that can be asked.
type Host struct {
	http    *http.Client
	address string
	unvora  string // that asks
}

// Host with that id, whose agent listens on address.
func (d *Dialer) Host(id, address string) *Host {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.out[id] == nil {
		config := d.tls.Clone()
		config.ServerName, config.NextProtos = id, []string{"h2", "http/1.1"}
		d.out[id] = &http.Client{Transport: &http.Transport{
			TLSClientConfig: config, ForceAttemptHTTP2: true, IdleConnTimeout: time.Minute, MaxIdleConnsPerHost: 4,
			DialContext:           (&net.Dialer{Timeout: 3 * time.Second}).DialContext,
			TLSHandshakeTimeout:   5 * time.Second,
			ResponseHeaderTimeout: surveyTime + 30*time.Second,
			HTTP2: &http.HTTP2Config{SendPingTimeout: pingAfter, PingTimeout: pingTime,
				MaxReadFrameSize: 1 << 20, MaxReceiveBufferPerConnection: 8 << 20, MaxReceiveBufferPerStream: 4 << 20},
		}}
	}
	return &Host{d.out[id], address, d.Unvora}
}

// Forget drops the connections to a host that was installed anew.
func (d *Dialer) Forget(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.out[id]; c != nil {
		c.CloseIdleConnections()
		delete(d.out, id)
	}
}

// ProtocolNBD is what a connection to an agent's port is to speak when disks
// are read over it (ALPN, RFC 7301). It is encrypted and known on both sides
// from its start, so STARTTLS is not needed.
const ProtocolNBD = "unvora-nbd"

// FolderDescriptor reads the descriptor of a ticket's machine folder.
func (h *Host) FolderDescriptor(ctx context.Context, ticket string) ([]byte, error) {
	res, err := h.do(ctx, http.MethodGet, "/v1/tickets/"+ticket+"/descriptor", nil, nil)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, 64<<20))
}

// OpenDisk opens a disk of a ticket's machine folder at the agent of host id,
// for as long as ctx lasts, over cuts of the connection.
func (d *Dialer) OpenDisk(ctx context.Context, id, address, ticket string, what DiskRequest) (disk.Image, error) {
	return nbd.OpenLasting(ctx, func(ctx context.Context) (*nbd.Client, error) {
		var offer Offer
		if err := d.Host(id, address).call(ctx, http.MethodPost, "/v1/tickets/"+ticket+"/disks", nil, what,
			&offer); err != nil {
			return nil, passing{err}
		}
		conn, err := d.dial(ctx, id, address, ProtocolNBD)
		if err != nil {
			return nil, err
		}
		return nbd.Open(ctx, conn, nbd.Options{Name: offer.Name, Layer: what.Layer})
	})
}

// dial connects to the agent of host id for a protocol.
func (d *Dialer) dial(ctx context.Context, id, address, protocol string) (net.Conn, error) {
	config := d.tls.Clone()
	config.ServerName, config.NextProtos = id, []string{protocol}
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: 3 * time.Second}, Config: config}
	return dialer.DialContext(ctx, "tcp", address)
}

// passing tells which failures to get a name may pass: an agent that is away,
// or that was started again and has to be given its tickets anew.
type passing struct{ error }

func (p passing) Unwrap() error { return p.error }

func (p passing) Temporary() bool {
	var fault *Fault
	return errors.Is(p.error, ErrUnreachable) || errors.As(p.error, &fault) && fault.Code == FaultUnknown
}

// ErrUnreachable wraps all failures to get an answer at all.
var ErrUnreachable = errors.New("the agent does not answer")

func (h *Host) do(ctx context.Context, method, path string, query url.Values, body io.Reader) (*http.Response, error) {
	u := url.URL{Scheme: "https", Host: h.address, Path: path, RawQuery: query.Encode()}
	req, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, err
	}
	res, err := h.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w: %v", ErrUnreachable, err)
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close()
	fault := &Fault{Code: FaultWrong, Message: res.Status}
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if json.Unmarshal(raw, fault) != nil && len(raw) > 0 {
		fault.Message = string(raw)
	}
	return nil, fault
}

// callTime is how long an agent may take to answer a call that it need not do
// anything long for.
const callTime = 5 * time.Second

// Bounds of calls that may take longer: a task that is to stop, a host that is
// looked at for the first time, a folder or a package that is looked into.
const (
	undoTime   = 25 * time.Second
	surveyTime = 2 * time.Minute
	lookTime   = time.Minute
	trashTime  = 10 * time.Second // since all hosts are asked

	// An agent that says nothing is asked whether it is there, and one that does not
	// answer that is none that works at something long.
	pingAfter = 5 * time.Second
	pingTime  = 10 * time.Second
)

// quick is call with a bound: an agent that was stopped, not ended, takes connections
// and answers nothing.
func (h *Host) quick(ctx context.Context, most time.Duration, method, path string, query url.Values, in,
	out any) error {
	bounded, stop := context.WithTimeout(ctx, most)
	defer stop()
	err := h.call(bounded, method, path, query, in, out)
	if err != nil && bounded.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("%w within %s", ErrUnreachable, most)
	}
	return err
}

func (h *Host) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	res, err := h.do(ctx, method, path, query, body)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("%w: its answer can't be read: %v", ErrUnreachable, err)
	}
	return nil
}

// Survey asks what has changed since a revision; "" asks for everything.
func (h *Host) Survey(ctx context.Context, since string) (*Survey, error) {
	var s Survey
	return &s, h.quick(ctx, surveyTime, http.MethodGet, "/v1/survey", url.Values{"since": {since}, "of": {h.unvora}},
		nil, &s)
}

// SurveyWhen asks what has changed since a revision, and waits for something to.
func (h *Host) SurveyWhen(ctx context.Context, since string, wait time.Duration) (*Survey, error) {
	var s Survey
	return &s, h.quick(ctx, surveyTime+wait, http.MethodGet, "/v1/survey",
		url.Values{"since": {since}, "of": {h.unvora}, "wait": {wait.String()}}, nil, &s)
}

// Examine asks whether everything is there that machines need.
func (h *Host) Examine(ctx context.Context) (list []Check, err error) {
	return list, h.quick(ctx, lookTime, http.MethodGet, "/v1/checks", nil, nil, &list)
}

// Console is what the machine in a folder has said on its serial port from a position on. It waits for more.
func (h *Host) Console(ctx context.Context, folder string, from int64, wait time.Duration) (*ConsoleLog, error) {
	var l ConsoleLog
	return &l, h.quick(ctx, callTime+wait, http.MethodGet, "/v1/console", url.Values{"folder": {folder},
		"from": {strconv.FormatInt(from, 10)}, "wait": {wait.String()}}, nil, &l)
}

// Start asks for a task; one that is there already is returned as it is.
func (h *Host) Start(ctx context.Context, id string, spec TaskSpec) (*Task, error) {
	var t Task
	return &t, h.quick(ctx, callTime, http.MethodPut, "/v1/tasks/"+id, nil, spec, &t)
}

// Wait returns the task when it has ended, needs something, or after a while.
func (h *Host) Wait(ctx context.Context, id string, most time.Duration) (*Task, error) {
	var t Task
	return &t, h.quick(ctx, callTime+most, http.MethodGet, "/v1/tasks/"+id, url.Values{"wait": {most.String()}}, nil,
		&t)
}

// Pause stops a task where it is; asking for it again lets it go on.
func (h *Host) Pause(ctx context.Context, id string, spec TaskSpec) error {
	return h.quick(ctx, undoTime, http.MethodPost, "/v1/tasks/"+id+"/pause", nil, spec, nil)
}

// Undo stops a task and takes back what it did.
func (h *Host) Undo(ctx context.Context, id string, spec TaskSpec) error {
	return h.quick(ctx, undoTime, http.MethodDelete, "/v1/tasks/"+id, nil, spec, nil)
}

// Forget drops the note of a task that is over, and its working files.
func (h *Host) Forget(ctx context.Context, job string, epoch int64) error {
	return h.call(ctx, http.MethodDelete, "/v1/jobs/"+job, url.Values{"epoch": {strconv.FormatInt(epoch, 10)}}, nil,
		nil)
}

// Send feeds a task that needs bytes, from offset on.
func (h *Host) Send(ctx context.Context, id string, offset int64, body io.Reader) error {
	res, err := h.do(ctx, http.MethodPut, "/v1/tasks/"+id+"/intake",
		url.Values{"offset": {strconv.FormatInt(offset, 10)}},
		body)
	if err == nil {
		res.Body.Close()
	}
	return err
}

// Disk reads a disk that a hand-out task gives, from byte offset of its file on.
func (h *Host) Disk(ctx context.Context, id, disk string, offset int64) (io.ReadCloser, error) {
	res, err := h.do(ctx, http.MethodGet, "/v1/tasks/"+id+"/disks/"+url.PathEscape(disk),
		url.Values{"offset": {strconv.FormatInt(offset, 10)}}, nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// Package reads a whole package from a hand-out task, front to back.
func (h *Host) Package(ctx context.Context, id string) (io.ReadCloser, error) {
	res, err := h.do(ctx, http.MethodGet, "/v1/tasks/"+id+"/package", nil, nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// Descriptor is that of a package whose disks were handed out.
func (h *Host) Descriptor(ctx context.Context, id string, members []ovf.Member) ([]byte, error) {
	raw, err := json.Marshal(members)
	if err != nil {
		return nil, err
	}
	res, err := h.do(ctx, http.MethodPost, "/v1/tasks/"+id+"/descriptor", nil, bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(res.Body)
}

// HandedOut ends a hand-out task: the caller has it all.
func (h *Host) HandedOut(ctx context.Context, id string, result PackResult) error {
	return h.call(ctx, http.MethodPost, "/v1/tasks/"+id+"/handed-out", nil, result, nil)
}

// Look reads the skeleton of a package at a path of the host.
func (h *Host) Look(ctx context.Context, path string) (*ovf.Skeleton, error) {
	var s ovf.Skeleton
	return &s, h.quick(ctx, lookTime, http.MethodGet, "/v1/look", url.Values{"path": {path}}, nil, &s)
}

// Folder tells about a machine folder or a disk image at a path of the host.
func (h *Host) Folder(ctx context.Context, path string) (*plan.Folder, error) {
	var f plan.Folder
	return &f, h.quick(ctx, lookTime, http.MethodGet, "/v1/folder", url.Values{"path": {path}}, nil, &f)
}

// Trash lists what lies in the trash of the host's pools.
func (h *Host) Trash(ctx context.Context) (list []Trashed, err error) {
	return list, h.quick(ctx, trashTime, http.MethodGet, "/v1/trash", nil, nil, &list)
}

// Held asks which blocks a disk holds above one of its layers.
func (h *Host) Held(ctx context.Context, q HeldRequest) ([]disk.Span, error) {
	var held []disk.Span
	err := h.call(ctx, http.MethodPost, "/v1/disks/held", nil, q, &held)
	return held, err
}

// Free asks what the file systems on a disk mark as free.
func (h *Host) Free(ctx context.Context, q FreeRequest) (*fit.FreeSpace, error) {
	var f fit.FreeSpace
	return &f, h.quick(ctx, lookTime, http.MethodPost, "/v1/disks/free", nil, q, &f)
}

// Sums hashes blocks of a disk.
func (h *Host) Sums(ctx context.Context, q SumsRequest) ([]uint64, error) {
	body, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	res, err := h.do(ctx, http.MethodPost, "/v1/disks/sums", nil, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err == nil && int64(len(raw)) != 8*disk.Blocks(q.Spans) {
		err = fmt.Errorf("%w: %d bytes of sums for %d blocks", ErrUnreachable, len(raw), disk.Blocks(q.Spans))
	}
	return disk.UnpackSums(raw), err
}

// Label gives a pool its labels.
func (h *Host) Label(ctx context.Context, pool string, labels []string) error {
	return h.quick(ctx, callTime, http.MethodPut, "/v1/pools/"+pool+"/labels", nil, labels, nil)
}

// PoolMark tells whose a pool is.
func (h *Host) PoolMark(ctx context.Context, pool string) (*plan.PoolMark, error) {
	var m plan.PoolMark
	return &m, h.quick(ctx, lookTime, http.MethodGet, "/v1/pools/"+pool+"/mark", nil, nil, &m)
}

// Settle writes out what a pool's file system holds in memory.
func (h *Host) Settle(ctx context.Context, pool string) error {
	return h.call(ctx, http.MethodPost, "/v1/pools/"+pool+"/settle", nil, nil, nil)
}

// Allow makes a ticket at the host.
func (h *Host) Allow(ctx context.Context, ticket string, t Ticket) error {
	return h.quick(ctx, callTime, http.MethodPut, "/v1/tickets/"+ticket, nil, t, nil)
}

// File reads a ticket's file from offset on.
func (h *Host) File(ctx context.Context, ticket string, offset int64) (io.ReadCloser, error) {
	res, err := h.do(ctx, http.MethodGet, "/v1/tickets/"+ticket, url.Values{"offset": {strconv.FormatInt(offset, 10)}},
		nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// Enrolment is what a new agent is given.
type Enrolment struct {
	Secret    []byte `json:"secret"`
	HostID    string `json:"hostId"`
	Cert      string `json:"cert"`
	Authority string `json:"authority"`
}

// Enrol adds the agent at address: checks that its key is the one in the code,
// and gives it a certificate in the name of hostID.
func (a *Authority) Enrol(ctx context.Context, address string, code Code, hostID string) (*Hello, error) {
	dialer := &tls.Dialer{NetDialer: &net.Dialer{Timeout: 5 * time.Second}, Config: &tls.Config{
		InsecureSkipVerify: true, // the code's fingerprint is what it is verified by
		VerifyConnection: func(s tls.ConnectionState) error {
			if !code.Matches(s.PeerCertificates[0]) {
				return errors.New("the agent's key is not the one that the code names: another agent answers at this " +
					"address, or the code is of another agent")
			}
			return nil
		},
	}}
	conn, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %v", ErrUnreachable, address, err)
	}
	defer conn.Close()
	cert, err := a.Issue(hostID, conn.(*tls.Conn).ConnectionState().PeerCertificates[0].PublicKey)
	if err != nil {
		return nil, err
	}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{
		DialTLSContext: func(context.Context, string, string) (net.Conn, error) { return conn, nil },
	}}
	h := &Host{http: client, address: address}
	var hello Hello
	err = h.call(ctx, http.MethodPost, "/v1/enrol", nil, Enrolment{code.Secret, hostID, string(cert),
		string(a.CertPEM())},
		&hello)
	return &hello, err
}

// Trust is what an agent that was added is given when the authority changes.
type Trust struct {
	Cert      string `json:"cert"`
	Authority string `json:"authority"` // certificates of all that it lets in, one after the other
}

// HandOver gives the agent of a host a certificate of another authority, and tells
// it whom to trust from now on. The agent has to trust this authority.
func (a *Authority) HandOver(ctx context.Context, address, hostID string, to *Authority) error {
	config, err := a.ServiceTLS()
	if err != nil {
		return err
	}
	config.ServerName, config.NextProtos = hostID, []string{"http/1.1"}
	ctx, stop := context.WithTimeout(ctx, undoTime)
	defer stop()
	conn, err := (&tls.Dialer{NetDialer: &net.Dialer{Timeout: callTime}, Config: config}).DialContext(ctx, "tcp",
		address)
	if err != nil {
		return fmt.Errorf("%w at %s: %v", ErrUnreachable, address, err)
	}
	defer conn.Close()
	cert, err := to.Issue(hostID, conn.(*tls.Conn).ConnectionState().PeerCertificates[0].PublicKey)
	if err != nil {
		return err
	}
	h := &Host{http: &http.Client{Transport: &http.Transport{
		DialTLSContext: func(context.Context, string, string) (net.Conn, error) { return conn, nil },
	}}, address: address}
	return h.call(ctx, http.MethodPut, "/v1/trust", nil, Trust{string(cert), string(to.trusted())}, nil)
}
