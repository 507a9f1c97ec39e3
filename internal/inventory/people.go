package inventory

import (
	"context"
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
	return one(rows[User](ctx, inv.Pool, `select id, name, role, password_hash from users
		where lower(name) = lower($1)`, name))
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
		_, err := tx.Exec(ctx, `insert into users (id, name, password_hash, role) values ($1, $2, $3,
			$4)`, u.ID, name, hash, role)
		if violates(err, "users_name") {
			return Refuse(CodeTaken, "There is a user %q already.", name)
		}
		if err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "user add", Subject: name, Detail: map[string]any{"role": role}})
	})
}

// CountUsers tells whether anybody can sign in yet.
func (inv *Inventory) CountUsers(ctx context.Context) (n int, err error) {
	err = inv.Pool.QueryRow(ctx, `select count(*) from users`).Scan(&n)
	return n, err
}

// Users lists everybody who may sign in, by name.
func (inv *Inventory) Users(ctx context.Context) ([]User, error) {
	return rows[User](ctx, inv.Pool, `select id, name, role, password_hash from users order by lower(name)`)
}

// ChangeUser gives a user another role or password hash; what is "" stays. All its
// sessions but one end. Somebody has to stay administrator.
func (inv *Inventory) ChangeUser(ctx context.Context, u *User, role, hash, who string, keep []byte) (*User, error) {
	now := *u
	return &now, inv.InTx(ctx, func(tx pgx.Tx) error {
		var what []string
		if role != "" && role != u.Role {
			what = append(what, "role "+role)
			now.Role = role
		}
		if hash != "" {
			what = append(what, "password")
			now.PasswordHash = hash
		}
		if len(what) == 0 {
			return nil
		}
		if _, err := tx.Exec(ctx, `update users set role = $2, password_hash = $3
			where id = $1`, u.ID, now.Role, now.PasswordHash); err != nil {
			return err
		}
		if err := someAdministrator(ctx, tx); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from sessions where user_id = $1 and hash is distinct
			from $2`, u.ID, keep); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "user change", Subject: u.Name,
			Detail: map[string]any{"changed": what}})
	})
}

// someAdministrator refuses that nobody is administrator any more.
func someAdministrator(ctx context.Context, tx Querier) error {
	var n int
	if _, err := tx.Exec(ctx, `lock table users in share row exclusive mode`); err != nil {
		return err
	}
	if err := tx.QueryRow(ctx, `select count(*) from users where role = 'administrator'`).Scan(&n); err != nil {
		return err
	}
	if n == 0 {
		return Wrong("Nobody would be administrator any more.")
	}
	return nil
}

// DropUser ends a user, with all tokens and sessions.
func (inv *Inventory) DropUser(ctx context.Context, name, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `delete from users where lower(name) = lower($1)`, name)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return Refuse(CodeUnknown, "There is no user %q. unvora user list shows them.", name)
		}
		if err := someAdministrator(ctx, tx); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "user drop", Subject: name})
	})
}

// NoteSignIn writes into the audit trail that somebody signed in, or could not.
func (inv *Inventory) NoteSignIn(ctx context.Context, name, what, address string) error {
	return inv.Audit(ctx, Entry{Who: name, What: what, Subject: name, Detail: map[string]any{"address": address}})
}

// Token is what is known of one; its text is known to its bearer alone.
type Token struct {
	ID        uuid.UUID  `json:"id"`
	Name      string     `json:"name"`
	User      string     `json:"user" db:"user_name"`
	CreatedAt time.Time  `json:"createdAt"`
	ExpiresAt *time.Time `json:"expiresAt"`
	UsedAt    *time.Time `json:"usedAt"` // last, to the minute
}

const tokenSQL = `select t.id, t.name, u.name as user_name, t.created_at, t.expires_at, t.used_at from tokens t
	join users u on u.id = t.user_id`

// Tokens lists a user's tokens, or with nil everybody's, the newest first.
func (inv *Inventory) Tokens(ctx context.Context, user *uuid.UUID) ([]Token, error) {
	return rows[Token](ctx, inv.Pool, tokenSQL+` where $1::uuid is null or t.user_id = $1
		order by t.created_at desc limit 1000`, user)
}

// AddToken keeps the hash of a token.
func (inv *Inventory) AddToken(ctx context.Context, user *User, name string, hash []byte, expires *time.Time) (*Token,
	error) {
	t := &Token{ID: NewID(), Name: name, User: user.Name, CreatedAt: time.Now(), ExpiresAt: expires}
	return t, inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from tokens where expires_at < now() - interval '30 days'`); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into tokens (hash, id, user_id, name, expires_at) values ($1, $2, $3, $4,
			$5)`, hash, t.ID, user.ID, name, expires); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: user.Name, What: "token add", Subject: name,
			Detail: map[string]any{"expires": expires}})
	})
}

// DropToken revokes a token, by its id, the beginning of it, or its name; of a
// user's own, or with nil of everybody's.
func (inv *Inventory) DropToken(ctx context.Context, ref string, user *uuid.UUID, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[Token](ctx, tx, tokenSQL+` where ($1::uuid is null or t.user_id = $1) and (t.name = $2
			or length($2) >= 4 and starts_with(t.id::text, lower($2))) limit 2`, user, ref)
		if err != nil {
			return err
		}
		switch len(list) {
		case 0:
			return Refuse(CodeUnknown, "There is no token %q. unvora token list shows them.", ref)
		case 2:
			return Refuse(CodeAmbiguous, "%q could mean several tokens. Give the id: unvora token list", ref)
		}
		if _, err := tx.Exec(ctx, `delete from tokens where id = $1`, list[0].ID); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "token drop", Subject: list[0].Name,
			Detail: map[string]any{"user": list[0].User}})
	})
}

// UserByToken returns nil for a token that is not known, or not any more.
func (inv *Inventory) UserByToken(ctx context.Context, hash []byte) (*User, error) {
	type used struct {
		User
		Stale bool
	}
	u, err := one(rows[used](ctx, inv.Pool, `select u.id, u.name, u.role, u.password_hash, t.used_at is null
		or t.used_at < now() - interval '1 minute' as stale from tokens t join users u on u.id = t.user_id
		where t.hash = $1 and (t.expires_at is null or t.expires_at > now())`, hash))
	if u == nil || err != nil {
		return nil, err
	}
	if u.Stale {
		_, err = inv.Pool.Exec(ctx, `update tokens set used_at = now() where hash = $1`, hash)
	}
	return &u.User, err
}

// Session of the console.
type Session struct {
	User
	CSRF string `db:"-"`
}

// SignedIn is a session that is open, as people are told of it.
type SignedIn struct {
	ID        uuid.UUID `json:"id"`
	User      string    `json:"user"`
	Place     string    `json:"place"`   // address that signed in
	Browser   string    `json:"browser"` // what it calls itself
	Here      bool      `json:"here"`    // it is the caller's own
	CreatedAt time.Time `json:"createdAt"`
	ExpiresAt time.Time `json:"expiresAt"`
}

// AddSession keeps the hash of a session's cookie, and from where somebody signed in, with what.
func (inv *Inventory) AddSession(ctx context.Context, user uuid.UUID, hash []byte, place, browser string,
	expires time.Time) error {
	if _, err := inv.Pool.Exec(ctx, `delete from sessions where expires_at < now()`); err != nil {
		return err
	}
	_, err := inv.Pool.Exec(ctx, `insert into sessions (hash, user_id, expires_at, place, browser)
		values ($1, $2, $3, $4, $5)`, hash, user, expires, place, browser)
	return err
}

// mostSessions is how many sessions are told of.
const mostSessions = 1000

// Sessions are those that are open, the latest first: a user's, or everybody's with nil. own is the hash of the
// caller's cookie; nil for none.
func (inv *Inventory) Sessions(ctx context.Context, user *uuid.UUID, own []byte) ([]SignedIn, error) {
	return rows[SignedIn](ctx, inv.Pool, `select s.id, u.name as "user", s.place, s.browser,
		coalesce(s.hash = $2, false) as here, s.created_at, s.expires_at
		from sessions s join users u on u.id = s.user_id
		where ($1::uuid is null or s.user_id = $1) and s.expires_at > now() order by s.created_at desc limit $3`,
		user, own, mostSessions)
}

// EndSession ends one of a user's sessions, or with nil of anybody's, by its id or the beginning of it.
func (inv *Inventory) EndSession(ctx context.Context, ref string, user *uuid.UUID, who string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		list, err := rows[struct {
			ID   uuid.UUID
			User string
		}](ctx, tx, `select s.id, u.name as "user" from sessions s join users u on u.id = s.user_id
			where ($1::uuid is null or s.user_id = $1) and length($2) >= 4 and starts_with(s.id::text, lower($2))
			and s.expires_at > now() limit 2`, user, ref)
		if err != nil {
			return err
		}
		switch len(list) {
		case 0:
			return Refuse(CodeUnknown, "There is no session %q. unvora session list shows them.", ref)
		case 2:
			return Refuse(CodeAmbiguous, "%q could mean several sessions. Give more of the id: unvora session list",
				ref)
		}
		if _, err := tx.Exec(ctx, `delete from sessions where id = $1`, list[0].ID); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: who, What: "session end", Subject: list[0].User})
	})
}

// SessionByHash returns nil for one that is not known, or over.
func (inv *Inventory) SessionByHash(ctx context.Context, hash []byte) (*Session, error) {
	return one(rows[Session](ctx, inv.Pool, `select u.id, u.name, u.role, u.password_hash from sessions s
		join users u on u.id = s.user_id
		where s.hash = $1 and s.expires_at > now()`, hash))
}

// DropSession ends a session.
func (inv *Inventory) DropSession(ctx context.Context, hash []byte) error {
	_, err := inv.Pool.Exec(ctx, `delete from sessions where hash = $1`, hash)
	return err
}

// KeptAuthority is what is kept of the certificate authority: the one in force, the
// one that takes its place, and the one whose place it took, while that goes on.
type KeptAuthority struct {
	Cert       string
	Sealed     []byte
	NextCert   string
	NextSealed []byte
	Former     string
}

// Authority returns the certificate authority, made once by make. A key in clear is
// sealed, and none is left in clear.
func (inv *Inventory) Authority(ctx context.Context, seal func(key []byte) ([]byte, error),
	make func() (cert, key []byte, err error)) (*KeptAuthority, error) {
	type row struct {
		KeptAuthority
		Key *string
	}
	var kept *KeptAuthority
	return kept, inv.InTx(ctx, func(tx pgx.Tx) error {
		// Of several services that start at once, one makes it and all read that one.
		if _, err := tx.Exec(ctx, `lock table authority in share row exclusive mode`); err != nil {
			return err
		}
		r, err := one(rows[row](ctx, tx, `select cert, key, sealed, coalesce(next_cert, '') as next_cert, next_sealed,
			former
			from authority`))
		if err != nil {
			return err
		}
		if r != nil && r.Key == nil {
			kept = &r.KeptAuthority
			return nil
		}
		if r == nil {
			cert, key, err := make()
			if err != nil {
				return err
			}
			text := string(key)
			r = &row{KeptAuthority{Cert: string(cert)}, &text}
		}
		if r.Sealed, err = seal([]byte(*r.Key)); err != nil {
			return err
		}
		kept = &r.KeptAuthority
		_, err = tx.Exec(ctx, `insert into authority (cert, sealed) values ($1, $2) on conflict (one) do update
			set key = null, sealed = excluded.sealed`, r.Cert, r.Sealed)
		return err
	})
}

// Unvora is the id of this Unvora, by which pools say whose they are.
func (inv *Inventory) Unvora(ctx context.Context) (id uuid.UUID, err error) {
	err = inv.Pool.QueryRow(ctx, `select unvora from authority`).Scan(&id)
	return id, err
}

// NextAuthority keeps the authority that is to take the place of the one in force,
// unless there is such a one.
func (inv *Inventory) NextAuthority(ctx context.Context, cert string, sealed []byte) error {
	_, err := inv.Pool.Exec(ctx, `update authority set next_cert = $1, next_sealed = $2
		where next_cert is null`, cert, sealed)
	return err
}

// SwitchAuthority puts the next authority into force.
func (inv *Inventory) SwitchAuthority(ctx context.Context) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update authority set former = cert, cert = next_cert, sealed = next_sealed,
			next_cert = null, next_sealed = null where next_cert is not null`); err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: onComputer, What: "key rotate", Subject: "authority"})
	})
}

// ForgetFormer ends trust in the authority that was in force before.
func (inv *Inventory) ForgetFormer(ctx context.Context) error {
	_, err := inv.Pool.Exec(ctx, `update authority set former = ''`)
	return err
}

// onComputer is who does what needs the service's computer, not a user.
const onComputer = "the service's computer"

// Services is the number of services that have said lately that they live.
func (inv *Inventory) Services(ctx context.Context) (n int, err error) {
	err = inv.Pool.QueryRow(ctx, `select count(*) from services where beat_at > now() - interval '10 seconds'`).Scan(&n)
	return n, err
}

// EachSealed calls f for every sealed secret with what it is sealed for: that of
// the authority, those of tellings, and those of managers, of whose ids purpose makes it.
func (inv *Inventory) EachSealed(ctx context.Context, authority string, purpose func(manager uuid.UUID) string,
	f func(purpose string, sealed []byte) error) error {
	return eachSealed(ctx, inv.Pool, authority, purpose, func(r sealedRow, purpose string) error {
		return f(purpose, r.Sealed)
	})
}

// TellingPurpose is what the secret of a telling is sealed for.
func TellingPurpose(id uuid.UUID) string { return "telling " + id.String() }

// sealedRow is where a secret is kept.
type sealedRow struct {
	Kept   string // table
	ID     *uuid.UUID
	Sealed []byte
}

func eachSealed(ctx context.Context, q Querier, authority string, purpose func(uuid.UUID) string,
	f func(r sealedRow, purpose string) error) error {
	list, err := rows[sealedRow](ctx, q, `select 'authority' as kept, null::uuid as id, sealed from authority
		where sealed is not null
		union all select 'managers', id, sealed from managers where length(sealed) > 0
		union all select 'tellings', id, sealed from tellings where length(sealed) > 0`)
	if err != nil {
		return err
	}
	for _, r := range list {
		what := authority
		switch r.Kept {
		case "managers":
			what = purpose(*r.ID)
		case "tellings":
			what = TellingPurpose(*r.ID)
		}
		if err := f(r, what); err != nil {
			return err
		}
	}
	return nil
}

// Reseal replaces every sealed secret by what f makes of it, in one transaction.
func (inv *Inventory) Reseal(ctx context.Context, f func(purpose string, sealed []byte) ([]byte, error),
	authority string, purpose func(uuid.UUID) string) error {
	return inv.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `lock table authority, managers, tellings in share row exclusive mode`); err != nil {
			return err
		}
		err := eachSealed(ctx, tx, authority, purpose, func(r sealedRow, purpose string) error {
			now, err := f(purpose, r.Sealed)
			if err != nil {
				return err
			}
			switch r.Kept {
			case "authority":
				_, err = tx.Exec(ctx, `update authority set sealed = $1`, now)
			case "managers":
				_, err = tx.Exec(ctx, `update managers set sealed = $2 where id = $1`, r.ID, now)
			case "tellings":
				_, err = tx.Exec(ctx, `update tellings set sealed = $2 where id = $1`, r.ID, now)
			}
			return err
		})
		if err != nil {
			return err
		}
		return In(tx).Audit(ctx, Entry{Who: onComputer, What: "key rotate", Subject: "key file"})
	})
}
