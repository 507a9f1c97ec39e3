// Package api answers HTTP: the calls of api/openapi.yaml, the stream of
// events, health and metrics, and the console's files.
package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"runtime/debug"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"
	"github.com/gin-gonic/gin/binding"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
)

// Server answers calls.
type Server struct {
	inv    *inventory.Inventory
	work   *work.Work
	access *access.Access
	roles  roles
	events *hub
	plans  turns
	log    *slog.Logger
}

const (
	sessionCookie = "unvora_session"
	maxBody       = 32 << 20 // of a JSON body: a package's skeleton with its descriptor
)

// New makes the handler of calls, and one of the service's figures alone, which asks
// nobody who they are. console holds the console's files.
func New(ctx context.Context, inv *inventory.Inventory, w *work.Work, a *access.Access, console fs.FS, log *slog.Logger) (calling, figures http.Handler, err error) {
	gin.SetMode(gin.ReleaseMode)
	s := &Server{inv: inv, work: w, access: a, events: newHub(), log: log}
	go s.events.run(ctx, inv, log)

	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	calls := promauto.With(registry).NewHistogramVec(prometheus.HistogramOpts{Name: "unvora_http_seconds", Help: "Time to answer a call.", Buckets: prometheus.DefBuckets}, []string{"method", "path", "status"})
	promauto.With(registry).NewGaugeFunc(prometheus.GaugeOpts{Name: "unvora_event_readers", Help: "Open streams of events."}, func() float64 { return float64(s.events.readers.Load()) })

	r := gin.New()
	r.ContextWithFallback = true // what a caller asked for ends when the caller goes
	r.Use(s.recovered, func(c *gin.Context) {
		began := time.Now()
		c.Next()
		method, path := c.Request.Method, c.FullPath()
		if path == "" { // no call of ours: what others think up is no name for a figure
			method, path = "other", "other"
		}
		calls.WithLabelValues(method, path, strconv.Itoa(c.Writer.Status())).Observe(time.Since(began).Seconds())
	}, bounded)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", func(c *gin.Context) {
		ctx, stop := context.WithTimeout(c, readyTime)
		defer stop()
		if err := inv.Pool.Ping(ctx); err != nil {
			c.String(http.StatusServiceUnavailable, "PostgreSQL does not answer\n")
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	figures = promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
	r.GET("/metrics", func(c *gin.Context) {
		if _, err := s.user(c); err != nil {
			s.problem(c, err)
			return
		}
		figures.ServeHTTP(c.Writer, c.Request)
	})
	if err := s.documents(r); err != nil {
		return nil, nil, err
	}
	spec, err := openapi.GetSpec()
	if err != nil {
		return nil, nil, err
	}
	if s.roles, err = rolesOf(spec); err != nil {
		return nil, nil, err
	}
	openapi.RegisterHandlersWithOptions(r.Group("", s.authenticate, s.plainText), s, openapi.GinServerOptions{
		BaseURL: apiBase,
		ErrorHandler: func(c *gin.Context, err error, _ int) {
			s.problem(c, &inventory.Error{Code: "wrong", Message: err.Error()})
		},
	})
	r.NoRoute(serveConsole(console))
	return secured(r), figures, nil
}

// recovered answers for a panic. A stream that broke is not recovered from: the
// connection has to be cut, or the caller would take half for the whole. (Gin's
// own recovery ends such an answer as if it were complete.)
func (s *Server) recovered(c *gin.Context) {
	defer func() {
		switch p := recover(); p {
		case nil:
		case http.ErrAbortHandler:
			panic(p)
		default:
			s.log.Error("panic", "path", c.Request.URL.Path, "error", p, "stack", string(debug.Stack()))
			c.Abort()
			if !c.Writer.Written() {
				s.problem(c, errors.New("an error of the program; the log tells more"))
				return
			}
			panic(http.ErrAbortHandler)
		}
	}()
	c.Next()
}

// secured sets the headers that keep a browser from being fooled.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}

// serveConsole serves files, and the page for every path that is none.
func serveConsole(files fs.FS) gin.HandlerFunc {
	server := http.FileServerFS(files)
	return func(c *gin.Context) {
		path := strings.TrimPrefix(c.Request.URL.Path, "/")
		if strings.HasPrefix(path, "api/") {
			c.Header("Content-Type", "application/problem+json")
			c.JSON(http.StatusNotFound, gin.H{"title": "Not found", "status": 404, "code": "unknown", "detail": "There is no call " + c.Request.Method + " /" + path + ".", "next": "/api/docs lists all calls."})
			return
		}
		if st, err := fs.Stat(files, path); err == nil && !st.IsDir() {
			if strings.HasPrefix(path, "assets/") { // named after their contents
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(c.Writer, c.Request)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			c.String(http.StatusNotFound, "The console is not built into this binary: make build does that.\n")
			return
		}
		c.Header("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", page)
	}
}

// roles is the table of which role a call needs, by method and path as the router
// has them. It is made from the contract; a call that is not in it is refused.
type roles map[string]string

// nobody is the role of calls that need none.
const nobody = "nobody"

var pathParameter = regexp.MustCompile(`\{(\w+)\}`)

func rolesOf(spec *openapi3.T) (roles, error) {
	table := roles{}
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			role, _ := op.Extensions["x-role"].(string)
			if role != nobody && !access.May(role, access.Viewer) {
				return nil, fmt.Errorf("the contract gives %s %s no role", method, path)
			}
			table[method+" "+apiBase+pathParameter.ReplaceAllString(path, ":$1")] = role
		}
	}
	return table, nil
}

const apiBase = "/api/v1"

// authenticate comes before anything else of a call is looked at.
func (s *Server) authenticate(c *gin.Context) {
	needs, known := s.roles[c.Request.Method+" "+c.FullPath()]
	if needs == nobody {
		return
	}
	u, err := s.user(c)
	if err == nil && !(known && access.May(u.Role, needs)) {
		err = &notAllowed{u, needs}
	}
	if err != nil {
		s.problem(c, err)
		c.Abort()
		return
	}
	c.Set("user", u)
}

// user is who makes a call.
func (s *Server) user(c *gin.Context) (*inventory.User, error) {
	reads := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return s.access.ByToken(c, token)
	}
	cookie, err := c.Cookie(sessionCookie)
	if err != nil {
		return nil, errNobody
	}
	session, err := s.access.BySession(c, cookie, c.GetHeader("X-CSRF-Token"), reads)
	if err != nil {
		return nil, err
	}
	c.Set("csrf", session.CSRF)
	return &session.User, nil
}

func caller(c *gin.Context) *inventory.User { return c.MustGet("user").(*inventory.User) }

var errNobody = errors.New("this call needs a token or a session")

type notAllowed struct {
	user  *inventory.User
	needs string
}

func (n *notAllowed) Error() string {
	return n.user.Name + " is a " + n.user.Role + "; this needs the role " + n.needs + "."
}

// statusOf is the status of each code of the inventory's errors. One that is not
// here is a mistake of ours.
var statusOf = map[string]int{"unknown": 404, "ambiguous": 409, "taken": 409, "busy": 409, "past-return": 409, "not-now": 409, "certificate-unknown": 409, "wrong": 400, "not-json": 415}

// Problem is the body of an error (RFC 9457).
type Problem struct {
	Title  string     `json:"title"`
	Status int        `json:"status"`
	Code   string     `json:"code"`
	Detail string     `json:"detail"`
	Next   string     `json:"next,omitempty"`
	Likely []string   `json:"likely,omitempty"`
	Plan   *plan.Plan `json:"plan,omitempty"`
}

// problem answers with what an error is to the caller.
func (s *Server) problem(c *gin.Context, err error) {
	number := inventory.NewID().String()[24:]
	p := Problem{Title: "Error of the service", Status: http.StatusInternalServerError, Code: "internal", Detail: "The service made a mistake, number " + number + " in its log.", Next: "Try again; if it happens again, report it with that number."}
	var (
		known *inventory.Error
		none  *notAllowed
		not   *work.NotRunnable
		away  *work.Unreachable
		fault *hostlink.Fault
		later *access.Later

		denied *work.Denied
	)
	switch {
	case errors.As(err, &known) && statusOf[known.Code] != 0:
		status := statusOf[known.Code]
		p = Problem{Title: http.StatusText(status), Status: status, Code: known.Code, Detail: known.Message, Likely: known.Likely}
	case errors.As(err, &not):
		p = Problem{Title: "Not runnable", Status: 422, Code: "plan.blocked", Detail: not.Error(), Next: "Change what blocks it, then plan again.", Plan: not.Plan}
		if !not.Plan.Blocked() {
			p.Code, p.Next = "plan.open", "Answer the open choices (answers), or take the recommendations (takeRecommended)."
		}
	case errors.As(err, &away):
		p = Problem{Title: "Host not reachable", Status: 502, Code: "host.unreachable", Detail: away.Error()}
	case errors.Is(err, hostlink.ErrUnreachable):
		p = Problem{Title: "Host not reachable", Status: 502, Code: "host.unreachable", Detail: inventory.Sentence(err.Error())}
	case errors.As(err, &denied):
		p = Problem{Title: "Not allowed", Status: 403, Code: "permission.denied", Detail: denied.Error(), Next: "Ask an administrator."}
	case errors.As(err, &none):
		p = Problem{Title: "Not allowed", Status: 403, Code: "permission.denied", Detail: none.Error(), Next: "Ask an administrator."}
	case errors.Is(err, errNobody), errors.Is(err, access.ErrSignIn), errors.Is(err, access.ErrUnknown):
		p = Problem{Title: "Not signed in", Status: 401, Code: "signed-out", Detail: inventory.Sentence(err.Error()), Next: "Sign in: unvora login, or open the console."}
	case errors.Is(err, access.ErrCSRF):
		p = Problem{Title: "Not allowed", Status: 403, Code: "csrf", Detail: inventory.Sentence(err.Error()), Next: "Load the page again."}
	case errors.Is(err, access.ErrOwnOnly):
		p = Problem{Title: "Not allowed", Status: 403, Code: "permission.denied", Detail: inventory.Sentence(err.Error()), Next: "Ask an administrator."}
	case errors.As(err, &later):
		c.Header("Retry-After", strconv.Itoa(int(later.Wait.Seconds())+1))
		p = Problem{Title: http.StatusText(http.StatusTooManyRequests), Status: http.StatusTooManyRequests, Code: "later", Detail: inventory.Sentence(later.Error())}
	case unusable(err):
		p = Problem{Title: "Bad Request", Status: 400, Code: "wrong", Detail: "A value of the call can't be what it should be."}
	case errors.As(err, &fault):
		p = Problem{Title: "Refused by the agent", Status: 409, Code: fault.Code, Detail: fault.Message}
	case databaseAway(err), errors.Is(err, context.DeadlineExceeded) && s.databaseSilent(c):
		p = Problem{Title: "Database away", Status: 503, Code: "database.away", Detail: "PostgreSQL does not answer.", Next: "Jobs go on when it is back; try again in a moment."}
	case errors.Is(err, context.DeadlineExceeded):
		p = Problem{Title: "Service Unavailable", Status: 503, Code: "later", Detail: "This took too long and was given up.", Next: "Look what of it was done, then try again."}
	case errors.Is(c.Request.Context().Err(), context.Canceled):
		return // nobody listens any more
	default:
		s.log.Error("call failed", "number", number, "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
	}
	c.Header("Content-Type", "application/problem+json")
	c.JSON(p.Status, p)
}

// databaseSilent tells, when a call ran out of time, whether that is PostgreSQL's doing.
func (s *Server) databaseSilent(c *gin.Context) bool {
	ctx, stop := context.WithTimeout(context.WithoutCancel(c), time.Second)
	defer stop()
	return s.inv.Pool.Ping(ctx) != nil
}

// databaseAway tells an outage of PostgreSQL from its other errors (SQLSTATE
// classes 08, connection, and 57P, operator intervention).
func databaseAway(err error) bool {
	var connect *pgconn.ConnectError
	var pg *pgconn.PgError
	return errors.As(err, &connect) || pgconn.SafeToRetry(err) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "08") || strings.HasPrefix(pg.Code, "57P"))
}

// unusable tells values that PostgreSQL can't take as what they should be (SQLSTATE
// class 22, data exception).
func unusable(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && strings.HasPrefix(pg.Code, "22")
}

// answer sends value, or the problem that err is.
func (s *Server) answer(c *gin.Context, status int, value any, err error) {
	if err != nil {
		s.problem(c, err)
		return
	}
	if value == nil {
		c.Status(status)
		return
	}
	c.JSON(status, value)
}

// plainText refuses addresses with a character that no text has.
func (s *Server) plainText(c *gin.Context) {
	for _, part := range []string{c.Request.URL.Path, c.Request.URL.RawQuery} {
		if text, err := url.PathUnescape(part); err != nil || strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
			s.problem(c, &inventory.Error{Code: "wrong", Message: "The address has a character that no text has."})
			c.Abort()
			return
		}
	}
}

// bodyTime is how long a JSON body may take to come.
const bodyTime = 30 * time.Second

// body reads a JSON body; it answers itself when it can't.
func body[T any](s *Server, c *gin.Context) (*T, bool) {
	var t T
	err := readBody(c, &t)
	if err != nil {
		s.problem(c, err)
		return nil, false
	}
	return &t, true
}

func readBody(c *gin.Context, into any) error {
	if kind, _, err := mime.ParseMediaType(c.GetHeader("Content-Type")); err != nil || kind != "application/json" {
		return &inventory.Error{Code: "not-json", Message: "The body has to be of the type application/json."}
	}
	// A caller who sends a byte now and then holds nothing for long.
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(bodyTime))
	raw, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxBody))
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Time{})
	if err == nil && (bytes.IndexByte(raw, 0) >= 0 || bytes.Contains(raw, []byte(`\u0000`))) {
		err = errors.New("it has a character that no text has")
	}
	if err == nil {
		err = binding.JSON.BindBody(raw, into)
	}
	if err != nil {
		return &inventory.Error{Code: "wrong", Message: "The body can't be read: " + err.Error() + "."}
	}
	return nil
}
