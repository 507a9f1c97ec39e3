// Package access knows who is calling: users with passwords, tokens and
// console sessions, and what each role may do.
package access

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"
	"golang.org/x/crypto/argon2"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/inventory"
)

// Roles, from the most to the least that they may do.
const (
	Administrator = "administrator" // everything
	Operator      = "operator"      // all work on copies
	Viewer        = "viewer"        // look
)

// Errors of signing in. They don't tell what of name and password was wrong.
var (
	ErrSignIn  = errors.New("name or password is wrong")
	ErrUnknown = errors.New("this token or session is not known, or not any more")
	ErrCSRF    = errors.New("the X-CSRF-Token is missing or wrong")
	ErrOwnOnly = errors.New("only an administrator may change others, and roles")
)

const (
	tokenPrefix = "unv_"
	sessionTime = 12 * time.Hour

	// TokenDays is how long a token lives when nobody says; MostTokenDays is the
	// longest that can be said.
	TokenDays     = 90
	MostTokenDays = 3650
)

// Access checks callers against the inventory.
type Access struct {
	inv   *inventory.Inventory
	key   keyring.Key // makes sessions' CSRF values
	guard *guard
	// decoy is compared with when a name is unknown, so that it takes as long.
	decoy string
}

// New prepares for checking.
func New(inv *inventory.Inventory, key keyring.Key) (*Access, error) {
	decoy := decoyOf(argon2id.DefaultParams)
	_, _, _, err := argon2id.DecodeHash(decoy)
	return &Access{inv, key, newGuard(), decoy}, err
}

// decoyOf is what is kept of a password, of no password at all: comparing with it takes as long as with any other.
func decoyOf(p *argon2id.Params) string {
	salt, key := make([]byte, p.SaltLength), make([]byte, p.KeyLength)
	rand.Read(salt)
	rand.Read(key)
	text := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, p.Memory, p.Iterations, p.Parallelism,
		text(salt), text(key))
}

func secret() string {
	b := make([]byte, 25)
	rand.Read(b)
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

func hashOf(s string) []byte {
	h := sha256.Sum256([]byte(s))
	return h[:]
}

// FirstUser makes an administrator when there is nobody yet, and returns the
// password, "" when there is somebody. wanted is taken as the password when set.
func (a *Access) FirstUser(ctx context.Context, name, wanted string) (string, error) {
	n, err := a.inv.CountUsers(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	password := wanted
	if password == "" {
		password = secret()[:16]
	}
	_, err = a.AddUser(ctx, name, password, Administrator, "first start")
	var taken *inventory.Error
	if errors.As(err, &taken) && taken.Code == inventory.CodeTaken { // another service was quicker
		return "", nil
	}
	return password, err
}

// AddUser lets a person sign in.
func (a *Access) AddUser(ctx context.Context, name, password, role, who string) (*inventory.User, error) {
	if err := machine.CheckName(name); err != nil {
		return nil, &inventory.Error{Code: inventory.CodeWrong, Message: inventory.Sentence(err.Error())}
	}
	hash, err := a.hashed(ctx, password)
	if err != nil {
		return nil, err
	}
	return a.inv.AddUser(ctx, name, hash, role, who)
}

// hashed makes what is kept of a password.
func (a *Access) hashed(ctx context.Context, password string) (hash string, err error) {
	if err := checkPassword(password); err != nil {
		return "", &inventory.Error{Code: inventory.CodeWrong, Message: inventory.Sentence(err.Error())}
	}
	err = a.guard.hash(ctx, func() error {
		hash, err = argon2id.CreateHash(password, argon2id.DefaultParams)
		return err
	})
	return hash, err
}

// matches compares a password with that of a user; nil is nobody, and takes as
// long. Whoever has failed too often, by one of keys, has to wait first.
func (a *Access) matches(ctx context.Context, u *inventory.User, password string, keys ...string) (ok bool, err error) {
	if err := a.guard.let(keys...); err != nil {
		return false, err
	}
	hash := a.decoy
	if u != nil {
		hash = u.PasswordHash
	}
	err = a.guard.hash(ctx, func() error {
		if err := a.guard.let(keys...); err != nil { // others may have failed meanwhile
			return err
		}
		if ok, err = argon2id.ComparePasswordAndHash(password, hash); err != nil {
			return err
		}
		ok = ok && u != nil
		a.guard.note(ok, keys...)
		return nil
	})
	return ok, err
}

// Change gives a user another role or password; what is "" stays. Who changes the
// own password has to know it: current. Other sessions of a user whose password or
// role is changed end.
func (a *Access) Change(ctx context.Context, who *inventory.User, ref, role, password, current,
	keep string) (*inventory.User, error) {
	u, err := a.inv.UserByName(ctx, ref)
	if err != nil {
		return nil, err
	}
	self := u != nil && u.ID == who.ID
	if !self && who.Role != Administrator {
		return nil, ErrOwnOnly
	}
	if u == nil {
		return nil, inventory.Refuse(inventory.CodeUnknown, "There is no user %q. unvora user list "+
			"shows "+
			"them.", ref)
	}
	if role != "" && who.Role != Administrator {
		return nil, ErrOwnOnly
	}
	hash := ""
	if password != "" {
		if self {
			ok, err := a.matches(ctx, u, current, "name "+strings.ToLower(u.Name))
			if err != nil {
				return nil, err
			}
			if !ok {
				return nil, inventory.Wrong("The present password is not right.")
			}
		}
		if hash, err = a.hashed(ctx, password); err != nil {
			return nil, err
		}
	}
	var session []byte
	if keep != "" {
		session = hashOf(keep)
	}
	return a.inv.ChangeUser(ctx, u, role, hash, who.Name, session)
}

// SignIn begins a session; cookie is what the browser keeps. address is where the
// call came from, browser what it calls itself.
func (a *Access) SignIn(ctx context.Context, name, password, address, browser string) (cookie string,
	s *inventory.Session, err error) {
	u, err := a.inv.UserByName(ctx, name)
	if err != nil {
		return "", nil, err
	}
	ok, err := a.matches(ctx, u, password, "name "+strings.ToLower(name), "address "+address)
	if err != nil {
		return "", nil, err
	}
	if !ok {
		if err := a.inv.NoteSignIn(ctx, machine.Shown(name, mostNameShown), "sign-in refused", address); err != nil {
			return "", nil, err
		}
		return "", nil, ErrSignIn
	}
	cookie = secret()
	s = &inventory.Session{User: *u, CSRF: a.csrf(cookie)}
	if err := a.inv.AddSession(ctx, u.ID, hashOf(cookie), address, machine.Shown(browser, mostBrowser),
		time.Now().Add(sessionTime)); err != nil {
		return "", nil, err
	}
	return cookie, s, a.inv.NoteSignIn(ctx, u.Name, "sign-in", address)
}

// mostBrowser is how much is kept of what a browser calls itself.
const mostBrowser = 200

// mostNameShown is how much of a name that nobody has is kept in the audit trail.
const mostNameShown = 60

// csrf is the value that a session's calls have to bring. It is kept nowhere.
func (a *Access) csrf(cookie string) string {
	mac := hmac.New(sha256.New, a.key[:])
	mac.Write([]byte("csrf "))
	mac.Write(hashOf(cookie))
	return hex.EncodeToString(mac.Sum(nil))
}

// Sessions are those that are open: the user's, or everybody's. cookie is that of the caller's own; "" for none.
func (a *Access) Sessions(ctx context.Context, u *inventory.User, all bool,
	cookie string) ([]inventory.SignedIn, error) {
	whose := &u.ID
	if all && u.Role == Administrator {
		whose = nil
	}
	return a.inv.Sessions(ctx, whose, hashOf(cookie))
}

// EndSession ends another session: of the user's own, or as an administrator anybody's.
func (a *Access) EndSession(ctx context.Context, u *inventory.User, ref string) error {
	whose := &u.ID
	if u.Role == Administrator {
		whose = nil
	}
	return a.inv.EndSession(ctx, ref, whose, u.Name)
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, cookie string) error {
	return a.inv.DropSession(ctx, hashOf(cookie))
}

// BySession finds who a cookie belongs to. csrf is compared unless the call only reads.
func (a *Access) BySession(ctx context.Context, cookie, csrf string, reads bool) (*inventory.Session, error) {
	s, err := a.inv.SessionByHash(ctx, hashOf(cookie))
	switch {
	case err != nil:
		return nil, err
	case s == nil:
		return nil, ErrUnknown
	}
	s.CSRF = a.csrf(cookie)
	switch {
	case !reads && subtle.ConstantTimeCompare([]byte(csrf), []byte(s.CSRF)) != 1:
		return nil, ErrCSRF
	}
	return s, nil
}

// MakeToken makes a token for the user that lives so many days; 0 stands for
// TokenDays. endless lets it live for ever.
func (a *Access) MakeToken(ctx context.Context, u *inventory.User, name string, days int, endless bool) (string,
	*inventory.Token, error) {
	if err := machine.CheckName(name); err != nil {
		return "", nil, &inventory.Error{Code: inventory.CodeWrong, Message: inventory.Sentence(err.Error())}
	}
	switch {
	case days < 0 || days > MostTokenDays:
		return "", nil, inventory.Wrong("A token lives from 1 to %d days, not "+
			"%d; one "+
			"without an end has to be asked for.", MostTokenDays, days)
	case endless && days > 0:
		return "", nil, inventory.Wrong("A token has a term in days, or no end: not both.")
	case days == 0:
		days = TokenDays
	}
	token := tokenPrefix + secret()
	t := time.Now().AddDate(0, 0, days)
	expires := &t
	if endless {
		expires = nil
	}
	kept, err := a.inv.AddToken(ctx, u, name, hashOf(token), expires)
	return token, kept, err
}

// ByToken finds who a token belongs to.
func (a *Access) ByToken(ctx context.Context, token string) (*inventory.User, error) {
	u, err := a.inv.UserByToken(ctx, hashOf(token))
	if err == nil && u == nil {
		err = ErrUnknown
	}
	return u, err
}

// May tells whether a role may do what needs another.
func May(has, needs string) bool {
	rank := map[string]int{Viewer: 1, Operator: 2, Administrator: 3}
	return rank[has] >= rank[needs] && rank[has] > 0
}
