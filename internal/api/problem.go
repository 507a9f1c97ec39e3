package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5/pgconn"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
	"unvora.example/unvora/internal/work/draw"
	"unvora.example/unvora/internal/work/reach"
)

// statusOf is the status of each code of the inventory's errors. One that is not
// here is a mistake of ours.
var statusOf = map[inventory.Code]int{inventory.CodeUnknown: 404, inventory.CodeAmbiguous: 409,
	inventory.CodeTaken: 409, inventory.CodeBusy: 409, inventory.CodePastReturn: 409, inventory.CodeNotNow: 409,
	inventory.CodeCertificate: 409, inventory.CodeWrong: 400, inventory.CodeNotJSON: 415}

// Codes of problems that are the service's own. Beside these a problem has one of the inventory's, or, where an agent
// refused, that of a fault or a finding.
const (
	codeInternal     inventory.Code = "internal"
	codeBlocked      inventory.Code = "plan.blocked"
	codeOpen         inventory.Code = "plan.open"
	codeUnreachable  inventory.Code = "host.unreachable"
	codeDenied       inventory.Code = "permission.denied"
	codeSignedOut    inventory.Code = "signed-out"
	codeCSRF         inventory.Code = "csrf"
	codeLater        inventory.Code = "later"
	codeDatabaseAway inventory.Code = "database.away"
)

// Problem is the body of an error (RFC 9457).
type Problem struct {
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Code   inventory.Code `json:"code"`
	Detail string         `json:"detail"`
	Next   string         `json:"next,omitempty"`
	Likely []string       `json:"likely,omitempty"`
	Plan   *plan.Plan     `json:"plan,omitempty"`
}

// problem answers with what an error is to the caller.
func (s *Server) problem(c *gin.Context, err error) {
	number := inventory.NewID().String()[24:]
	p := Problem{Title: "Error of the service", Status: http.StatusInternalServerError, Code: codeInternal,
		Detail: "The service made a mistake, number " + number + " in its log.",
		Next:   "Try again; if it happens again, report it with that number."}
	var (
		known *inventory.Error
		none  *notAllowed
		not   *work.NotRunnable
		away  *reach.Unreachable
		fault *hostlink.Fault
		later *access.Later

		denied *draw.Denied
	)
	switch {
	case errors.As(err, &known) && statusOf[known.Code] != 0:
		status := statusOf[known.Code]
		p = Problem{Title: http.StatusText(status), Status: status, Code: known.Code, Detail: known.Message,
			Likely: known.Likely}
	case errors.As(err, &not):
		p = Problem{Title: "Not runnable", Status: 422, Code: codeBlocked, Detail: not.Error(),
			Next: "Change what blocks it, then plan again.", Plan: not.Plan}
		if not.Plan.Verdict == plan.Open {
			p.Code, p.Next = codeOpen, "Answer the open choices (answers), or take the recommendations "+
				"(takeRecommended)."
		}
	case errors.As(err, &away):
		p = Problem{Title: "Host not reachable", Status: 502, Code: codeUnreachable, Detail: away.Error()}
	case errors.Is(err, hostlink.ErrUnreachable):
		p = Problem{Title: "Host not reachable", Status: 502, Code: codeUnreachable,
			Detail: inventory.Sentence(err.Error())}
	case errors.As(err, &denied):
		p = Problem{Title: "Not allowed", Status: 403, Code: codeDenied, Detail: denied.Error(),
			Next: "Ask an administrator."}
	case errors.As(err, &none):
		p = Problem{Title: "Not allowed", Status: 403, Code: codeDenied, Detail: none.Error(),
			Next: "Ask an administrator."}
	case errors.Is(err, errNobody), errors.Is(err, access.ErrSignIn), errors.Is(err, access.ErrUnknown):
		p = Problem{Title: "Not signed in", Status: 401, Code: codeSignedOut, Detail: inventory.Sentence(err.Error()),
			Next: "Sign in: unvora login, or open the console."}
	case errors.Is(err, access.ErrCSRF):
		p = Problem{Title: "Not allowed", Status: 403, Code: codeCSRF, Detail: inventory.Sentence(err.Error()),
			Next: "Load the page again."}
	case errors.Is(err, access.ErrOwnOnly):
		p = Problem{Title: "Not allowed", Status: 403, Code: codeDenied,
			Detail: inventory.Sentence(err.Error()),
			Next:   "Ask an administrator."}
	case errors.As(err, &later):
		c.Header("Retry-After", strconv.Itoa(int(later.Wait.Seconds())+1))
		p = Problem{Title: http.StatusText(http.StatusTooManyRequests), Status: http.StatusTooManyRequests,
			Code:   codeLater,
			Detail: inventory.Sentence(later.Error())}
	case unusable(err):
		p = Problem{Title: "Bad Request", Status: 400, Code: inventory.CodeWrong,
			Detail: "A value of the call can't be what it should be."}
	case errors.As(err, &fault):
		p = Problem{Title: "Refused by the agent", Status: 409, Code: inventory.Code(fault.Code), Detail: fault.Message}
	case databaseAway(err), errors.Is(err, context.DeadlineExceeded) && s.databaseSilent(c):
		p = Problem{Title: "Database away", Status: 503, Code: codeDatabaseAway, Detail: "PostgreSQL does not answer.",
			Next: "Jobs go on when it is back; try again in a moment."}
	case errors.Is(err, context.DeadlineExceeded):
		p = Problem{Title: "Service Unavailable", Status: 503, Code: codeLater,
			Detail: "This took too long and was given up.",
			Next:   "Look what of it was done, then try again."}
	case errors.Is(c.Request.Context().Err(), context.Canceled): // or nobody listens any more
		p = Problem{Title: "Service Unavailable", Status: 503, Code: codeLater,
			Detail: "The service is being stopped, and has given this up.",
			Next:   "Once it is back, look what of it was done, then try again."}
	default:
		s.log.Error("call failed", "number", number, "method", c.Request.Method, "path", c.Request.URL.Path, "error",
			err)
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
