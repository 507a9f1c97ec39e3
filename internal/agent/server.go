package agent

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/hostlink"
)

// routes of the agent's side of hostlink. The service may call all of them,
// another agent only read a ticket's file.
func (a *Agent) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/enrol", handle(func(w http.ResponseWriter, r *http.Request) error {
		var e hostlink.Enrolment
		if err := read(w, r, &e); err != nil {
			return err
		}
		if err := a.enrol(e); err != nil {
			return err
		}
		a.log.Info("added to an inventory", "host", e.HostID)
		return answer(w, a.hello())
	}))
	mux.HandleFunc("GET /v1/tickets/{ticket}", a.member(handle(a.serveTicket)))
	mux.HandleFunc("GET /v1/tickets/{ticket}/descriptor", a.member(handle(a.serveDescriptor)))
	mux.HandleFunc("POST /v1/tickets/{ticket}/disks", handle(a.offerDisk)) // also to agents of another Unvora
	service := func(pattern string, f func(http.ResponseWriter, *http.Request) error) {
		mux.HandleFunc(pattern, a.member(func(w http.ResponseWriter, r *http.Request) {
			if peerName(r.TLS) != hostlink.ServiceName {
				fail(w, &hostlink.Fault{Code: "not-allowed", Message: "only the service may ask for this"})
				return
			}
			handle(f)(w, r)
		}))
	}
	service("PUT /v1/trust", func(w http.ResponseWriter, r *http.Request) error {
		var t hostlink.Trust
		if err := read(w, r, &t); err != nil {
			return err
		}
		if err := a.trustAnew(t); err != nil {
			return err
		}
		a.log.Info("has a certificate of another authority")
		w.WriteHeader(http.StatusNoContent)
		return nil
	})
	service("GET /v1/survey", func(w http.ResponseWriter, r *http.Request) error {
		wait, _ := time.ParseDuration(r.URL.Query().Get("wait"))
		return answer(w, a.surveyWhen(r.Context(), r.URL.Query().Get("since"), wait))
	})
	service("GET /v1/look", func(w http.ResponseWriter, r *http.Request) error {
		src := hostlink.FetchSource{Path: r.URL.Query().Get("path")}
		if isWeb(src.Path) {
			src.Web = src.Path
		}
		o, err := a.openPackage(r.Context(), src, a.config.State)
		if err != nil {
			return err
		}
		defer o.Close()
		return answer(w, o.Skeleton)
	})
	service("GET /v1/folder", func(w http.ResponseWriter, r *http.Request) error {
		f, err := a.lookFolder(r.URL.Query().Get("path"))
		if err != nil {
			return err
		}
		return answer(w, f)
	})
	service("POST /v1/disks/held", func(w http.ResponseWriter, r *http.Request) error {
		var q hostlink.HeldRequest
		if err := read(w, r, &q); err != nil {
			return err
		}
		held, err := a.held(q)
		if err != nil {
			return err
		}
		return answer(w, held)
	})
	service("POST /v1/disks/sums", func(w http.ResponseWriter, r *http.Request) error {
		var q hostlink.SumsRequest
		if err := read(w, r, &q); err != nil {
			return err
		}
		raw, err := a.sums(q)
		if err != nil {
			return err
		}
		_, err = w.Write(raw)
		return err
	})
	service("PUT /v1/pools/{pool}/labels", func(w http.ResponseWriter, r *http.Request) error {
		var labels []string
		if err := read(w, r, &labels); err != nil {
			return err
		}
		if err := a.label(r.PathValue("pool"), labels); err != nil {
			return err
		}
		return answer(w, struct{}{})
	})
	service("POST /v1/pools/{pool}/settle", func(w http.ResponseWriter, r *http.Request) error {
		if err := a.settlePool(r.PathValue("pool")); err != nil {
			return err
		}
		return answer(w, struct{}{})
	})
	service("PUT /v1/tickets/{ticket}", func(w http.ResponseWriter, r *http.Request) error {
		var t hostlink.Ticket
		if err := read(w, r, &t); err != nil {
			return err
		}
		if t.Web == nil {
			if err := a.within(t.Path); err != nil {
				return err
			}
		}
		a.dropOld()
		a.tickets.Store(r.PathValue("ticket"), t)
		return answer(w, struct{}{})
	})
	service("PUT /v1/tasks/{id}", func(w http.ResponseWriter, r *http.Request) error {
		var spec hostlink.TaskSpec
		if err := read(w, r, &spec); err != nil {
			return err
		}
		t, err := a.tasks.start(r.PathValue("id"), spec)
		if err != nil {
			return err
		}
		s, _ := t.snapshot()
		return answer(w, s)
	})
	service("POST /v1/tasks/{id}/pause", func(w http.ResponseWriter, r *http.Request) error {
		var spec hostlink.TaskSpec
		if err := read(w, r, &spec); err != nil {
			return err
		}
		if err := a.tasks.pause(r.PathValue("id"), spec); err != nil {
			return err
		}
		return answer(w, struct{}{})
	})
	service("DELETE /v1/tasks/{id}", func(w http.ResponseWriter, r *http.Request) error {
		var spec hostlink.TaskSpec
		if err := read(w, r, &spec); err != nil {
			return err
		}
		if err := a.tasks.undo(r.PathValue("id"), spec); err != nil {
			return err
		}
		return answer(w, struct{}{})
	})
	service("DELETE /v1/jobs/{job}", func(w http.ResponseWriter, r *http.Request) error {
		epoch, err := strconv.ParseInt(r.URL.Query().Get("epoch"), 10, 64)
		if err != nil {
			return err
		}
		if err := a.tasks.forget(r.PathValue("job"), epoch); err != nil {
			return err
		}
		return answer(w, struct{}{})
	})
	onTask := func(pattern string, f func(t *task, w http.ResponseWriter, r *http.Request) error) {
		service(pattern, func(w http.ResponseWriter, r *http.Request) error {
			t, err := a.tasks.get(r.PathValue("id"))
			if err != nil {
				return err
			}
			return f(t, w, r)
		})
	}
	onTask("GET /v1/tasks/{id}", func(t *task, w http.ResponseWriter, r *http.Request) error {
		most, _ := time.ParseDuration(r.URL.Query().Get("wait"))
		return answer(w, t.wait(r.Context(), min(most, 20*time.Second)))
	})
	onTask("PUT /v1/tasks/{id}/intake", func(t *task, w http.ResponseWriter, r *http.Request) error {
		offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
		if err != nil {
			return err
		}
		if err := t.intake.send(r.Context(), offset, r.Body); err != nil {
			return err
		}
		return answer(w, struct{}{})
	})
	onTask("GET /v1/tasks/{id}/disks/{disk}", func(t *task, w http.ResponseWriter, r *http.Request) error {
		offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
		if err != nil {
			return err
		}
		return stream(w, func(out io.Writer) error {
			return t.handing.streamDisk(r.Context(), out, r.PathValue("disk"), offset)
		})
	})
	onTask("GET /v1/tasks/{id}/package", func(t *task, w http.ResponseWriter, r *http.Request) error {
		return stream(w, func(out io.Writer) error {
			return t.handing.streamPackage(r.Context(), out, a.config.State)
		})
	})
	onTask("POST /v1/tasks/{id}/descriptor", func(t *task, w http.ResponseWriter, r *http.Request) error {
		var members []ovf.Member
		if err := read(w, r, &members); err != nil {
			return err
		}
		p, err := t.handing.pack()
		if err != nil {
			return err
		}
		raw, err := p.descriptor(members, p.room)
		if err != nil {
			return err
		}
		_, err = w.Write(raw)
		return err
	})
	onTask("POST /v1/tasks/{id}/handed-out", func(t *task, w http.ResponseWriter, r *http.Request) error {
		var result hostlink.PackResult
		if err := read(w, r, &result); err != nil {
			return err
		}
		if _, err := t.handing.pack(); err != nil {
			return err
		}
		select {
		case t.handing.over <- result:
		default: // said before
		}
		return answer(w, struct{}{})
	})
	return mux
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
	f, err := disk.OpenRead(a.door, t.Path)
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

func handle(f func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
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

func fail(w http.ResponseWriter, err error) {
	fault := &hostlink.Fault{}
	if !errors.As(err, &fault) {
		fault = &hostlink.Fault{Code: codeOf(err), Message: err.Error()}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusConflict)
	json.NewEncoder(w).Encode(fault)
}
