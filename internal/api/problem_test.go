package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/access"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
	"unvora.example/unvora/internal/work/draw"
	"unvora.example/unvora/internal/work/reach"
)

// TestProblems: every error that a call may end with is told with its status and its code, however it is wrapped; what
// nobody foresaw tells nothing of itself.
func TestProblems(t *testing.T) {
	gin.SetMode(gin.TestMode)
	blocked := &work.NotRunnable{Plan: &plan.Plan{Verdict: plan.Blocked}}
	open := &work.NotRunnable{Plan: &plan.Plan{Verdict: plan.Open}}
	cases := []struct {
		err    error
		status int
		code   inventory.Code
		says   string
	}{
		{blocked, 422, "plan.blocked", ""},
		{open, 422, "plan.open", ""},
		{&reach.Unreachable{Host: "gannet", Address: "h:1", Err: io.EOF}, 502, "host.unreachable", "gannet"},
		{hostlink.ErrUnreachable, 502, "host.unreachable", ""},
		{&draw.Denied{}, 403, "permission.denied", ""},
		{&notAllowed{&inventory.User{Name: "wren", Role: "viewer"}, "operator"}, 403, "permission.denied",
			"needs the role operator"},
		{access.ErrOwnOnly, 403, "permission.denied", "nly an administrator"},
		{access.ErrCSRF, 403, "csrf", "X-CSRF-Token"},
		{errNobody, 401, "signed-out", ""},
		{access.ErrSignIn, 401, "signed-out", "ame or password"},
		{access.ErrUnknown, 401, "signed-out", ""},
		{&access.Later{Wait: 1500 * time.Millisecond, Why: "too many tries"}, 429, "later", "wait"},
		{&pgconn.PgError{Code: "22P02", Message: "secret of the schema"}, 400, "wrong", "A value of the call"},
		{&pgconn.PgError{Code: "57P01"}, 503, "database.away", ""},
		{&pgconn.PgError{Code: "08006"}, 503, "database.away", ""},
		{io.ErrUnexpectedEOF, 503, "database.away", ""},
		{&pgconn.PgError{Code: "42P01", Message: "secret of the schema"}, 500, "internal", ""},
		{errors.New("secret of the house"), 500, "internal", ""},
		{&inventory.Error{Code: "no code of ours", Message: "secret of the house"}, 500, "internal", ""},
		{&hostlink.Fault{Code: "disk.damaged", Message: "block 7 can't be read"}, 409, "disk.damaged", "block 7"},
	}
	for code, status := range statusOf {
		cases = append(cases, struct {
			err    error
			status int
			code   inventory.Code
			says   string
		}{&inventory.Error{Code: code, Message: "Says it."}, status, code, "Says it."})
	}
	s := &Server{log: slog.New(slog.DiscardHandler)}
	for _, c := range cases {
		for _, err := range []error{c.err, fmt.Errorf("on the way: %w", c.err)} {
			answer := httptest.NewRecorder()
			g, _ := gin.CreateTestContext(answer)
			g.Request = httptest.NewRequest("GET", "/api/v1/copies", nil)
			s.problem(g, err)
			require.Equal(t, c.status, answer.Code, "%v", err)
			require.Equal(t, "application/problem+json", answer.Header().Get("Content-Type"))
			var p Problem
			require.NoError(t, json.Unmarshal(answer.Body.Bytes(), &p))
			require.Equal(t, c.status, p.Status)
			require.Equal(t, c.code, p.Code, "%v", err)
			require.Contains(t, p.Detail, c.says)
			require.NotContains(t, answer.Body.String(), "secret")
			if c.status == 429 {
				require.Equal(t, "2", answer.Header().Get("Retry-After"), "whole seconds, rounded up")
			}
		}
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	answer := httptest.NewRecorder()
	g, _ := gin.CreateTestContext(answer)
	g.Request = httptest.NewRequest("GET", "/api/v1/copies", nil).WithContext(gone)
	s.problem(g, errors.New("cut off"))
	require.Equal(t, 503, answer.Code, "that the service ends while it works is no success")
	require.Contains(t, answer.Body.String(), "is being stopped")
}

// TestUntellable: an answer that can't be told is no success.
func TestUntellable(t *testing.T) {
	s := &Server{log: slog.New(slog.DiscardHandler)}
	answer := httptest.NewRecorder()
	g, _ := gin.CreateTestContext(answer)
	g.Request = httptest.NewRequest("GET", "/api/v1/copies", nil)
	s.answer(g, 200, math.NaN(), nil)
	require.Equal(t, 500, answer.Code)
}
