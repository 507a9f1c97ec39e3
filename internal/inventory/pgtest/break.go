package pgtest

import (
	"context"
	"errors"
	"net"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// How a write goes wrong.
type How int

const (
	// Never: writes are only counted.
	Never How = iota
	// Before: the connection breaks before the write reaches the server.
	Before
	// After: the write is done and answered, and then whatever comes next on any
	// connection fails, as when the service dies there.
	After
	// Lost: the write is done, and the connection breaks before the answer comes.
	Lost
)

func (h How) String() string { return [...]string{"never", "before", "after", "answer lost"}[h] }

// Breaker counts the writes that are made durable (commits, and statements that
// write outside of a transaction) and breaks one of them.
type Breaker struct {
	mu   sync.Mutex
	n    int
	at   int
	how  How
	hit  bool
	dead bool // everything fails
}

var errBroken = errors.New("the connection was broken for the test")

// Tune lets a pool's connections be broken.
func (b *Breaker) Tune(c *pgxpool.Config) {
	dial := c.ConnConfig.DialFunc
	c.ConnConfig.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		if b.isDead() {
			return nil, errBroken
		}
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &breaking{Conn: conn, b: b}, nil
	}
	c.ConnConfig.Tracer = b
}

// Arm begins to count anew, and breaks the write with that number, from 1.
func (b *Breaker) Arm(at int, how How) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.n, b.at, b.how, b.hit, b.dead = 0, at, how, false, false
}

// Counted is how many writes there were since Arm, and whether one was broken.
func (b *Breaker) Counted() (n int, hit bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.n, b.hit
}

// Dead tells whether everything fails since the write to be broken was made.
func (b *Breaker) Dead() bool { return b.isDead() }

// Revive lets connections be made again.
func (b *Breaker) Revive() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.dead, b.how = false, Never
}

func (b *Breaker) isDead() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.dead
}

type breaking struct {
	net.Conn
	b    *Breaker
	mu   sync.Mutex
	lose bool
}

func (c *breaking) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lose && n > 0 { // it has answered: it is done
		c.Conn.Close()
		return 0, errBroken
	}
	return n, err
}

func (c *breaking) Write(p []byte) (int, error) {
	if c.b.isDead() {
		c.Conn.Close()
		return 0, errBroken
	}
	return c.Conn.Write(p)
}

type (
	writing struct{}
	watched struct{}
)

// Watch marks a context: only what is written under it is counted and broken.
func Watch(ctx context.Context) context.Context { return context.WithValue(ctx, watched{}, true) }

// TraceQueryStart implements pgx.QueryTracer.
func (b *Breaker) TraceQueryStart(ctx context.Context, conn *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	word, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(q.SQL)), " ")
	if ctx.Value(watched{}) == nil {
		return ctx
	}
	alone := conn.PgConn().TxStatus() == 'I'
	if word != "commit" && (!alone || word != "insert" && word != "update" && word != "delete" && word != "with") {
		return ctx
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.n++; b.n != b.at || b.how == Never {
		return ctx
	}
	b.hit = true
	c, _ := conn.PgConn().Conn().(*breaking)
	switch b.how {
	case Before:
		c.Conn.Close()
	case Lost:
		c.mu.Lock()
		c.lose = true
		c.mu.Unlock()
	case After:
		return context.WithValue(ctx, writing{}, true)
	}
	return ctx
}

// TraceQueryEnd implements pgx.QueryTracer.
func (b *Breaker) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryEndData) {
	if ctx.Value(writing{}) != nil {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.dead = true
	}
}
