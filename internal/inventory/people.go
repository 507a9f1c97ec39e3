package inventory

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// User is a person, or a script, that may sign in.
type User struct {
	ID           uuid.UUID `json:"id"`
	Name         string    `json:"name"`
	Role         string    `json:"role"`
	PasswordHash string    `json:"-"`
}

// UserByName returns nil when there is none.
func (inv *Inventory) UserByName(ctx context.Context, name string) (*User, error) {
	return one(rows[User](ctx, inv.Pool, `select id, name, role, password_hash from users where lower(name) = lower($1)`, name))
}

func one[T any](list []T, err error) (*T, error) {
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// AddUser writes a new user.
func (inv *Inventory) AddUser(ctx context.Context, name, hash, role, who string) (*User, error) {
	u := &User{ID: NewID(), Name: name, Role: role, PasswordHash: hash}
	return u, inv.InTx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `insert into users (id, name, password_hash, role) values ($1, $2, $3, $4)`, u.ID, name, hash, role)
		if violates(err, "users_name") {
			return fail("taken", "There is a user %q already.", name)
		}
		if err != nil {
			return err
		}
		return Audit(ctx, tx, Entry{Who: who, What: "user add", Subject: name, Detail: map[string]any{"role": role}})
	})
}

// CountUsers tells whether anybody can sign in yet.
func (inv *Inventory) CountUsers(ctx context.Context) (n int, err error) {
	err = inv.Pool.QueryRow(ctx, `select count(*) from users`).Scan(&n)
	return n, err
}

// AddToken keeps the hash of a token.
func (inv *Inventory) AddToken(ctx context.Context, user *User, name string, hash []byte, expires *time.Time) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into tokens (hash, id, user_id, name, expires_at) values ($1, $2, $3, $4, $5)`, hash, NewID(), user.ID, name, expires); err != nil {
			return err
		}
		return Audit(ctx, tx, Entry{Who: user.Name, What: "token add", Subject: name})
	})
}

// UserByToken returns nil for a token that is not known, or not any more.
func (inv *Inventory) UserByToken(ctx context.Context, hash []byte) (*User, error) {
	return one(rows[User](ctx, inv.Pool, `select u.id, u.name, u.role, u.password_hash from tokens t join users u on u.id = t.user_id
		where t.hash = $1 and (t.expires_at is null or t.expires_at > now())`, hash))
}

// Session of the console.
type Session struct {
	User
	CSRF string `db:"csrf"`
}

// AddSession keeps the hash of a session's cookie.
func (inv *Inventory) AddSession(ctx context.Context, user uuid.UUID, hash []byte, csrf string, expires time.Time) error {
	if _, err := inv.Pool.Exec(ctx, `delete from sessions where expires_at < now()`); err != nil {
		return err
	}
	_, err := inv.Pool.Exec(ctx, `insert into sessions (hash, user_id, csrf, expires_at) values ($1, $2, $3, $4)`, hash, user, csrf, expires)
	return err
}

// SessionByHash returns nil for one that is not known, or over.
func (inv *Inventory) SessionByHash(ctx context.Context, hash []byte) (*Session, error) {
	return one(rows[Session](ctx, inv.Pool, `select u.id, u.name, u.role, u.password_hash, s.csrf from sessions s join users u on u.id = s.user_id
		where s.hash = $1 and s.expires_at > now()`, hash))
}

// DropSession ends a session.
func (inv *Inventory) DropSession(ctx context.Context, hash []byte) error {
	_, err := inv.Pool.Exec(ctx, `delete from sessions where hash = $1`, hash)
	return err
}

// Authority returns the certificate authority's PEM texts, made once by make.
func (inv *Inventory) Authority(ctx context.Context, make func() (cert, key []byte, err error)) (cert, key string, err error) {
	read := func() error {
		return inv.Pool.QueryRow(ctx, `select cert, key from authority`).Scan(&cert, &key)
	}
	if err = read(); !errors.Is(err, pgx.ErrNoRows) {
		return cert, key, err
	}
	c, k, err := make()
	if err != nil {
		return "", "", err
	}
	// Of several services that start at once, one wins and all read its.
	if _, err := inv.Pool.Exec(ctx, `insert into authority (cert, key) values ($1, $2) on conflict do nothing`, string(c), string(k)); err != nil {
		return "", "", err
	}
	return cert, key, read()
}
