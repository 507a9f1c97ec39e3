package agent

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/agent/do"
	"unvora.example/unvora/internal/agent/driver"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
)

// routes of the agent's side of hostlink. The service may call all of them, another agent only read what a ticket is
// for.
func (a *Agent) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/enrol", handle(a.serveEnrol))
	mux.HandleFunc("GET /v1/tickets/{ticket}", a.member(handle(a.serveTicket)))
	mux.HandleFunc("GET /v1/tickets/{ticket}/descriptor", a.member(handle(a.serveDescriptor)))
	mux.HandleFunc("POST /v1/tickets/{ticket}/disks", handle(a.offerDisk)) // also to agents of another Unvora
	for pattern, f := range map[string]handler{
		"PUT /v1/trust":                a.serveTrust,
		"GET /v1/survey":               a.serveSurvey,
		"GET /v1/look":                 a.servePackage,
		"GET /v1/folder":               a.serveFolder,
		"GET /v1/trash":                a.serveTrash,
		"GET /v1/checks":               a.serveChecks,
		"GET /v1/console":              a.serveConsole,
		"POST /v1/console":             a.serveType,
		"GET /v1/picture":              a.servePicture,
		"POST /v1/displays":            a.offerDisplay,
		"POST /v1/disks/held":          a.serveHeld,
		"POST /v1/disks/free":          a.serveFree,
		"POST /v1/disks/sums":          a.serveSums,
		"PUT /v1/pools/{pool}/labels":  a.serveLabels,
		"POST /v1/pools/{pool}/settle": a.serveSettle,
		"GET /v1/pools/{pool}/mark":    a.servePoolMark,
		"PUT /v1/tickets/{ticket}":     a.serveAllow,
		"PUT /v1/tasks/{id}":           a.serveStart,
		"POST /v1/tasks/{id}/pause":    a.servePause,
		"DELETE /v1/tasks/{id}":        a.serveUndo,
		"DELETE /v1/jobs/{job}":        a.serveForget,

		"GET /v1/tasks/{id}":              a.ofTask(a.serveTask),
		"PUT /v1/tasks/{id}/intake":       a.ofTask(a.serveIntake),
		"GET /v1/tasks/{id}/disks/{disk}": a.ofTask(a.serveHandOutDisk),
		"GET /v1/tasks/{id}/package":      a.ofTask(a.serveHandOut),
		"POST /v1/tasks/{id}/descriptor":  a.ofTask(a.serveHandOutDescriptor),
		"POST /v1/tasks/{id}/handed-out":  a.ofTask(a.serveHandedOut),
	} {
		mux.HandleFunc(pattern, a.service(f))
	}
	return mux
}

// handler answers a call, or returns why it can't.
type handler func(w http.ResponseWriter, r *http.Request) error

// service lets in nobody but the service.
func (a *Agent) service(f handler) http.HandlerFunc {
	return a.member(func(w http.ResponseWriter, r *http.Request) {
		if peerName(r.TLS) != hostlink.ServiceName {
			fail(w, &hostlink.Fault{Code: "not-allowed", Message: "only the service may ask for this"})
			return
		}
		handle(f)(w, r)
	})
}

// ofTask finds the task that a call is about.
func (a *Agent) ofTask(f func(t *task.Task, w http.ResponseWriter, r *http.Request) error) handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		t, err := a.tasks.Get(r.PathValue("id"))
		if err != nil {
			return err
		}
		return f(t, w, r)
	}
}

func (a *Agent) serveEnrol(w http.ResponseWriter, r *http.Request) error {
	var e hostlink.Enrolment
	if err := read(w, r, &e); err != nil {
		return err
	}
	if err := a.enrol(e); err != nil {
		return err
	}
	a.Log.Info("added to an inventory", "host", e.HostID)
	return answer(w, a.Hello())
}

func (a *Agent) serveTrust(w http.ResponseWriter, r *http.Request) error {
	var t hostlink.Trust
	if err := read(w, r, &t); err != nil {
		return err
	}
	if err := a.trustAnew(t); err != nil {
		return err
	}
	a.Log.Info("has a certificate of another authority")
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (a *Agent) serveSurvey(w http.ResponseWriter, r *http.Request) error {
	wait, _ := time.ParseDuration(r.URL.Query().Get("wait"))
	if of := r.URL.Query().Get("of"); uuid.Validate(of) == nil {
		if err := a.Records.SetUnvora(of); err != nil {
			return err
		}
	}
	return answer(w, a.sight.Survey(r.Context(), r.URL.Query().Get("since"), wait))
}

func (a *Agent) servePackage(w http.ResponseWriter, r *http.Request) error {
	src := hostlink.FetchSource{Path: r.URL.Query().Get("path")}
	if do.IsWeb(src.Path) {
		src.Web = src.Path
	}
	o, err := a.work.OpenPackage(r.Context(), src, a.Config.State)
	if err != nil {
		return err
	}
	defer o.Close()
	return answer(w, o.Skeleton)
}

func (a *Agent) serveChecks(w http.ResponseWriter, r *http.Request) error {
	list := []hostlink.Check{}
	if able, ok := a.Driver.(driver.Able); ok {
		list = able.Examine(r.Context())
	}
	return answer(w, list)
}

func (a *Agent) serveFolder(w http.ResponseWriter, r *http.Request) error {
	f, err := a.sight.Folder(r.URL.Query().Get("path"))
	if err != nil {
		return err
	}
	return answer(w, f)
}

func (a *Agent) serveTrash(w http.ResponseWriter, _ *http.Request) error {
	list, err := a.work.Trash()
	if err != nil {
		return err
	}
	return answer(w, list)
}

func (a *Agent) serveHeld(w http.ResponseWriter, r *http.Request) error {
	var q hostlink.HeldRequest
	if err := read(w, r, &q); err != nil {
		return err
	}
	held, err := a.sight.Held(q)
	if err != nil {
		return err
	}
	return answer(w, held)
}

func (a *Agent) serveFree(w http.ResponseWriter, r *http.Request) error {
	var q hostlink.FreeRequest
	if err := read(w, r, &q); err != nil {
		return err
	}
	free, err := a.sight.Free(r.Context(), q)
	if err != nil {
		return err
	}
	return answer(w, free)
}

func (a *Agent) serveSums(w http.ResponseWriter, r *http.Request) error {
	var q hostlink.SumsRequest
	if err := read(w, r, &q); err != nil {
		return err
	}
	raw, err := a.sight.Sums(q)
	if err != nil {
		return err
	}
	_, err = w.Write(raw)
	return err
}

func (a *Agent) serveLabels(w http.ResponseWriter, r *http.Request) error {
	var labels []string
	if err := read(w, r, &labels); err != nil {
		return err
	}
	return done(w, a.sight.Label(r.PathValue("pool"), labels))
}

func (a *Agent) servePoolMark(w http.ResponseWriter, r *http.Request) error {
	m, err := a.PoolMark(r.PathValue("pool"))
	if err != nil {
		return err
	}
	return answer(w, m)
}

func (a *Agent) serveSettle(w http.ResponseWriter, r *http.Request) error {
	return done(w, a.sight.Settle(r.PathValue("pool")))
}

func (a *Agent) serveAllow(w http.ResponseWriter, r *http.Request) error {
	var t hostlink.Ticket
	if err := read(w, r, &t); err != nil {
		return err
	}
	if t.Web == nil {
		if err := a.Within(t.Path); err != nil {
			return err
		}
	}
	a.dropOld()
	a.tickets.Store(r.PathValue("ticket"), t)
	return done(w, nil)
}

func (a *Agent) serveStart(w http.ResponseWriter, r *http.Request) error {
	var spec hostlink.TaskSpec
	if err := read(w, r, &spec); err != nil {
		return err
	}
	t, err := a.tasks.Start(r.PathValue("id"), spec)
	if err != nil {
		return err
	}
	s, _ := t.Snapshot()
	return answer(w, s)
}

func (a *Agent) servePause(w http.ResponseWriter, r *http.Request) error {
	var spec hostlink.TaskSpec
	if err := read(w, r, &spec); err != nil {
		return err
	}
	return done(w, a.tasks.Pause(r.PathValue("id"), spec))
}

func (a *Agent) serveUndo(w http.ResponseWriter, r *http.Request) error {
	var spec hostlink.TaskSpec
	if err := read(w, r, &spec); err != nil {
		return err
	}
	return done(w, a.tasks.Undo(r.PathValue("id"), spec))
}

func (a *Agent) serveForget(w http.ResponseWriter, r *http.Request) error {
	epoch, err := strconv.ParseInt(r.URL.Query().Get("epoch"), 10, 64)
	if err != nil {
		return err
	}
	return done(w, a.tasks.Forget(r.PathValue("job"), epoch))
}

// mostWait is how long a call may wait for a task.
const mostWait = 20 * time.Second

func (a *Agent) serveTask(t *task.Task, w http.ResponseWriter, r *http.Request) error {
	most, _ := time.ParseDuration(r.URL.Query().Get("wait"))
	return answer(w, t.Wait(r.Context(), min(most, mostWait)))
}

func (a *Agent) serveIntake(t *task.Task, w http.ResponseWriter, r *http.Request) error {
	offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
	if err != nil {
		return err
	}
	return done(w, t.Intake.Send(r.Context(), offset, r.Body))
}

func (a *Agent) serveHandOutDisk(t *task.Task, w http.ResponseWriter, r *http.Request) error {
	offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
	if err != nil {
		return err
	}
	return stream(w, func(out io.Writer) error {
		return a.work.StreamDisk(r.Context(), t, out, r.PathValue("disk"), offset)
	})
}

func (a *Agent) serveHandOut(t *task.Task, w http.ResponseWriter, r *http.Request) error {
	return stream(w, func(out io.Writer) error { return a.work.StreamPackage(r.Context(), t, out) })
}

func (a *Agent) serveHandOutDescriptor(t *task.Task, w http.ResponseWriter, r *http.Request) error {
	var members []ovf.Member
	if err := read(w, r, &members); err != nil {
		return err
	}
	raw, err := a.work.HandOutDescriptor(t, members)
	if err != nil {
		return err
	}
	_, err = w.Write(raw)
	return err
}

func (a *Agent) serveHandedOut(t *task.Task, w http.ResponseWriter, r *http.Request) error {
	var result hostlink.PackResult
	if err := read(w, r, &result); err != nil {
		return err
	}
	return done(w, a.work.HandedOut(t, result))
}

// member lets in only those whose certificate the authority has signed; the
// TLS layer has checked that, once the agent was added.
func (a *Agent) member(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if peerName(r.TLS) == "" {
			fail(w, &hostlink.Fault{Code: "not-added", Message: "this agent was not added to an inventory yet"})
			return
		}
		next(w, r)
	}
}

// ticket is the caller's, if it is valid and meant for it.
func (a *Agent) ticket(r *http.Request) (hostlink.Ticket, error) {
	v, ok := a.tickets.Load(r.PathValue("ticket"))
	t, _ := v.(hostlink.Ticket)
	who := peerName(r.TLS)
	if !ok || time.Now().After(t.Expires) || t.For != "" && t.For != who || who == "" && !t.Foreign {
		return t, &hostlink.Fault{Code: hostlink.FaultUnknown, Message: "this ticket is not valid, or not any more"}
	}
	return t, nil
}

// dropOld forgets tickets that are not valid any more.
func (a *Agent) dropOld() {
	a.tickets.Range(func(key, v any) bool {
		if time.Now().After(v.(hostlink.Ticket).Expires) {
			a.tickets.Delete(key)
		}
		return true
	})
}

func (a *Agent) serveTicket(w http.ResponseWriter, r *http.Request) error {
	t, err := a.ticket(r)
	if err != nil {
		return err
	}
	offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
	if err != nil {
		return err
	}
	f, err := disk.OpenRead(a.Door, t.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return err
	}
	return stream(w, func(out io.Writer) error {
		_, err := io.CopyBuffer(out, struct{ io.Reader }{f}, make([]byte, 1<<20))
		return err
	})
}

// stream sends what f writes. An error after the first byte cuts the
// connection, so that nobody takes half for the whole.
func stream(w http.ResponseWriter, f func(io.Writer) error) error {
	out := &started{w: w}
	err := f(out)
	if err != nil && out.begun {
		panic(http.ErrAbortHandler)
	}
	return err
}

type started struct {
	w     http.ResponseWriter
	begun bool
}

func (s *started) Write(p []byte) (int, error) {
	s.begun = true
	return s.w.Write(p)
}

func handle(f handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if err := f(w, r); err != nil {
			fail(w, err)
		}
	}
}

const maxBody = 32 << 20

// bodyTime is how long a JSON body may take to come.
const bodyTime = 30 * time.Second

func read(w http.ResponseWriter, r *http.Request, into any) error {
	c := http.NewResponseController(w)
	_ = c.SetReadDeadline(time.Now().Add(bodyTime))
	defer func() { _ = c.SetReadDeadline(time.Time{}) }()
	return json.NewDecoder(http.MaxBytesReader(nil, r.Body, maxBody)).Decode(into)
}

func answer(w http.ResponseWriter, value any) error {
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(value)
}

// done answers a call that has nothing to tell.
func done(w http.ResponseWriter, err error) error {
	if err != nil {
		return err
	}
	return answer(w, struct{}{})
}

func fail(w http.ResponseWriter, err error) {
	fault := &hostlink.Fault{}
	if !errors.As(err, &fault) {
		fault = &hostlink.Fault{Code: ground.CodeOf(err), Message: err.Error()}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusConflict)
	_ = json.NewEncoder(w).Encode(fault)
}
