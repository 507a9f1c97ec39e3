package api

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"unvora.example/unvora/internal/access"
)

// Nothing that a caller does, or leaves undone, holds something of the service for
// longer than this.
const (
	quietTime    = 10 * time.Minute // that a stream of bytes may stand still
	readTime     = 20 * time.Second // that an answer to a question may take
	callTime     = 3 * time.Minute  // that any other call may take
	readyTime    = 3 * time.Second  // that PostgreSQL gets to say that it is there
	plansAtOnce  = 4                // that one person has worked out
	planPatience = 20 * time.Second // that a plan waits for its turn
)

// streams are the calls that move bytes for as long as they come, by method and
// path as the router has them.
var streams = map[string]bool{
	"GET " + apiBase + "/events":                true,
	"GET " + apiBase + "/copy/display":          true,
	"GET " + apiBase + "/jobs/:job/disks/:disk": true,
	"GET " + apiBase + "/jobs/:job/package":     true,
	"PUT " + apiBase + "/jobs/:job/transfer":    true,
}

// slow are questions that hosts have to be asked about, or that wait.
var slow = map[string]bool{
	"GET " + apiBase + "/comparison":               true,
	"GET " + apiBase + "/folder":                   true,
	"GET " + apiBase + "/copy/console":             true,
	"GET " + apiBase + "/jobs/:job/transfer":       true, // it waits for something
	"GET " + apiBase + "/hosts/:host/checks":       true,
	"GET " + apiBase + "/managers/:manager/checks": true,
}

// bounded ends what takes too long: an ordinary call as a whole, a stream when no
// byte of it could be moved for a while.
func bounded(c *gin.Context) {
	route := c.Request.Method + " " + c.FullPath()
	control := http.NewResponseController(c.Writer)
	c.Request.Body = &quietBody{c.Request.Body, control}
	c.Writer = &quietWriter{c.Writer, control}
	if !streams[route] {
		limit := callTime
		if c.Request.Method == http.MethodGet && !slow[route] {
			limit = readTime
		}
		ctx, stop := context.WithTimeout(c.Request.Context(), limit)
		defer stop()
		c.Request = c.Request.WithContext(ctx)
	}
	c.Next()
}

// A deadline ends with what it was set for: HTTP/2 would cut a stream that has
// nothing to say for a while.
type quietBody struct {
	body interface {
		Read([]byte) (int, error)
		Close() error
	}
	control *http.ResponseController
}

func (q *quietBody) Read(p []byte) (int, error) {
	_ = q.control.SetReadDeadline(time.Now().Add(quietTime))
	n, err := q.body.Read(p)
	_ = q.control.SetReadDeadline(time.Time{})
	return n, err
}

func (q *quietBody) Close() error { return q.body.Close() }

type quietWriter struct {
	gin.ResponseWriter
	control *http.ResponseController
}

func (q *quietWriter) Write(p []byte) (int, error) {
	_ = q.control.SetWriteDeadline(time.Now().Add(quietTime))
	n, err := q.ResponseWriter.Write(p)
	_ = q.control.SetWriteDeadline(time.Time{})
	return n, err
}

func (q *quietWriter) WriteString(s string) (int, error) { return q.Write([]byte(s)) }

func (q *quietWriter) Unwrap() http.ResponseWriter { return q.ResponseWriter }

// turns lets each person have a few plans worked out at once.
type turns struct{ people sync.Map }

// take waits for a turn of somebody, which the returned function ends.
func (t *turns) take(ctx context.Context, person string) (end func(), err error) {
	one, _ := t.people.LoadOrStore(person, semaphore.NewWeighted(plansAtOnce))
	turn := one.(*semaphore.Weighted)
	wait, stop := context.WithTimeout(ctx, planPatience)
	defer stop()
	if err := turn.Acquire(wait, 1); err != nil {
		return nil, &access.Later{Wait: time.Second, Why: "too many plans at once"}
	}
	return func() { turn.Release(1) }, nil
}
