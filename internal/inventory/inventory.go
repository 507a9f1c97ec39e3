// Package inventory keeps the records in PostgreSQL: hosts, pools, lineages,
// copies, jobs, people, events and the audit trail, and answers the questions
// asked of them. What must hold always is a constraint of the schema; lists
// are read page by page in the order of an index.
package inventory

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Inventory is the database. What its Ledger asks and writes is asked and written by itself; in a transaction, In is.
type Inventory struct {
	Ledger
	Pool *pgxpool.Pool
}

// Ledger asks and writes over a handle: that of the whole database, or a transaction.
type Ledger struct{ q Querier }

// In is the ledger within a transaction.
func In(tx Querier) Ledger { return Ledger{tx} }

// Open connects and brings the schema up to date. tune may change how it connects.
func Open(ctx context.Context, url string, tune ...func(*pgxpool.Config)) (*Inventory, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 16)
	// Our queries are short: compiling one takes longer than running it.
	config.ConnConfig.RuntimeParams["jit"] = "off"
	// A plan that was made for any value goes through whole tables for the rare ones.
	config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	// Pages that are read here and there come from memory, or from a drive that does not have to seek.
	config.ConnConfig.RuntimeParams["random_page_cost"] = "1.1"
	for _, f := range tune {
		f(config)
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("PostgreSQL does not answer: %w. Is it running, and is the address right "+
			"(UNVORA_DATABASE)?",
			err)
	}
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, dir)
	if err != nil {
		return nil, err
	}
	if _, err := provider.Up(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("bring the database's schema up to date: %w", err)
	}
	return &Inventory{Ledger{pool}, pool}, nil
}

// closeTime is how long a server gets to say good-bye: one that has stopped never does.
const closeTime = time.Second

// Close ends all connections.
func (inv *Inventory) Close() {
	done := make(chan struct{})
	go func() {
		inv.Pool.Close()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(closeTime):
	}
}

// NewID makes a record's id, which sorts by time.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Querier is a pool or a transaction.
type Querier interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
	CopyFrom(ctx context.Context, table pgx.Identifier, columns []string, source pgx.CopyFromSource) (int64, error)
}

// InTx runs f in a transaction. PostgreSQL takes back one of two transactions
// that wait for each other; such a one is run again, so that f must begin anew
// each time it is called.
func (inv *Inventory) InTx(ctx context.Context, f func(tx pgx.Tx) error) error {
	pauses := &backoff.ExponentialBackOff{InitialInterval: 5 * time.Millisecond, Multiplier: 2, RandomizationFactor: 1,
		MaxInterval: time.Second}
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		err := pgx.BeginFunc(ctx, inv.Pool, func(tx pgx.Tx) error {
			// What is written is found by its keys: one plan does for all, and is not made each time.
			if _, err := tx.Exec(ctx, `set local plan_cache_mode = auto`); err != nil {
				return err
			}
			return f(tx)
		})
		if err != nil && !takenBack(err) {
			err = backoff.Permanent(err)
		}
		return struct{}{}, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxTries(mostTries))
	return err
}

const mostTries = 6

// takenBack tells whether PostgreSQL has rolled a transaction back so that others
// could go on (SQLSTATE deadlock_detected, serialization_failure).
func takenBack(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "40P01" || pg.Code == "40001")
}

// Error is something that the caller can be told, with a stable code.
type Error struct {
	Code    Code
	Message string
	Likely  []string // names that may have been meant
}

func (e *Error) Error() string { return e.Message }

// Code tells what kind of error it is, in a word that stays the same.
type Code string

// Codes of the inventory's errors.
const (
	CodeUnknown     Code = "unknown"             // there is nothing of that name
	CodeAmbiguous   Code = "ambiguous"           // several things have it
	CodeTaken       Code = "taken"               // something else has it already
	CodeBusy        Code = "busy"                // a job has it in hand
	CodePastReturn  Code = "past-return"         // the job can't be undone any more
	CodeNotNow      Code = "not-now"             // not in the state that the thing is in
	CodeCertificate Code = "certificate-unknown" // nobody said yet that the other's certificate is the right one
	CodeWrong       Code = "wrong"               // the request can't be carried out as it is
	CodeNotJSON     Code = "not-json"            // the body is of another type
)

// Wrong is the error of a request that can't be carried out as it is.
func Wrong(format string, args ...any) error { return Refuse(CodeWrong, format, args...) }

// Refuse is an error of a kind, with what to tell people.
func Refuse(code Code, format string, args ...any) error {
	return &Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

// violates tells whether err is that of a constraint.
func violates(err error, constraint string) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.ConstraintName == constraint
}

func rows[T any](ctx context.Context, q Querier, sql string, args ...any) ([]T, error) {
	r, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(r, pgx.RowToStructByName[T])
	if list == nil {
		list = []T{}
	}
	return list, err
}

// asideConns are enough for what goes on by itself.
const asideConns = 6

// Aside is the same database over connections of its own, few, for what goes on by itself: however much of that there
// is, whoever asks has the others.
func (inv *Inventory) Aside(ctx context.Context) (*Inventory, error) {
	config := inv.Pool.Config()
	config.MaxConns, config.MinConns = asideConns, 0
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	return &Inventory{Ledger{pool}, pool}, nil
}

// Sentence writes a text as one: with a capital and a full stop.
func Sentence(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return ""
	}
	return string(unicode.ToUpper(first)) + strings.TrimSuffix(text[size:], ".") + "."
}
