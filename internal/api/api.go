// Package api answers HTTP: the calls of api/openapi.yaml, the stream of
// events, health and metrics, and the console's files.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"runtime/debug"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
	"unvora.example/unvora/internal/work/tell"
)

// Server answers calls.
type Server struct {
	inv      *inventory.Inventory
	work     *work.Work
	access   *access.Access
	contract contract
	teller   *tell.Teller
	events   *hub
	plans    turns
	log      *slog.Logger
}

// Rooms are what the handlers call.
type Rooms struct {
	Inventory *inventory.Inventory
	Work      *work.Work
	Access    *access.Access
	Teller    *tell.Teller
}

const sessionCookie = "unvora_session"

// New makes the handler of calls, and one of the service's figures alone, which asks
// nobody who they are. console holds the console's files.
func New(ctx context.Context, rooms Rooms, console fs.FS, log *slog.Logger) (calling, figures http.Handler,
	err error) {
	gin.SetMode(gin.ReleaseMode)
	inv := rooms.Inventory
	s := &Server{inv: inv, work: rooms.Work, access: rooms.Access, teller: rooms.Teller, events: newHub(), log: log}
	go s.events.run(ctx, inv, log)

	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), newEstate(inv, log))
	calls := promauto.With(registry).NewHistogramVec(prometheus.HistogramOpts{Name: "unvora_http_seconds",
		Help: "Time to answer a call.", Buckets: prometheus.DefBuckets}, []string{"method", "path", "status"})
	promauto.With(registry).NewGaugeFunc(prometheus.GaugeOpts{Name: "unvora_event_readers",
		Help: "Open streams of events."}, func() float64 { return float64(s.events.readers.Load()) })

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
	if s.contract, err = contractOf(spec); err != nil {
		return nil, nil, err
	}
	openapi.RegisterHandlersWithOptions(r.Group("", s.authenticate, s.plainText, s.keep), s, openapi.GinServerOptions{
		BaseURL: apiBase,
		ErrorHandler: func(c *gin.Context, err error, _ int) {
			s.problem(c, &inventory.Error{Code: inventory.CodeWrong, Message: err.Error()})
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
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"frame-ancestors 'none'")
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
			c.JSON(http.StatusNotFound, gin.H{"title": "Not found", "status": 404, "code": "unknown",
				"detail": "There is no call " + c.Request.Method + " /" + path + ".",
				"next":   "/api/docs lists all calls."})
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

// authenticate comes before anything else of a call is looked at.
func (s *Server) authenticate(c *gin.Context) {
	p := s.contract[c.Request.Method+" "+c.FullPath()]
	if p != nil && p.role == nobody {
		return
	}
	u, err := s.user(c)
	if err == nil && (p == nil || !access.May(u.Role, p.role)) {
		err = &notAllowed{u, p.needs()}
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
	raw, err := json.Marshal(value) // before the status is said: what can't be told is no success
	if err != nil {
		s.problem(c, err)
		return
	}
	c.Data(status, "application/json; charset=utf-8", raw)
}

// plainText refuses addresses with a character that no text has.
func (s *Server) plainText(c *gin.Context) {
	for _, part := range []string{c.Request.URL.Path, c.Request.URL.RawQuery} {
		if text, err := url.PathUnescape(part); err != nil || strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
			s.problem(c, inventory.Wrong("The address has a character that no text has."))
			c.Abort()
			return
		}
	}
}
